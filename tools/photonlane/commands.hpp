#pragma once

#include <string>
#include <vector>

#include "photonlane/frame/matte.hpp"
#include "photonlane/io/scene_file.hpp"

namespace photonlane::tool {

/// Exit codes of the tool.
inline constexpr int success = 0;
inline constexpr int check_failed = 1;
inline constexpr int bad_input = 2;

/// What the commands that make frames have in common.
struct SceneOptions {
  std::string scene;
  std::string size;                ///< "WIDTHxHEIGHT", or nothing
  std::vector<std::string> sets;   ///< "KEY=VALUE"
  std::vector<std::string> doors;  ///< "COLUMN,ROW=OPENING"
  int threads = 0;
  bool quiet = false;
  bool json = false;
};

struct RenderCommand {
  SceneOptions common;
  std::string output;
  std::string layer = "color";
  std::string view = "eye";
  std::optional<std::string> range;  ///< "LOW,HIGH"
  std::string part;                  ///< "X,Y,WIDTHxHEIGHT"; empty: all
  bool no_legend = false;
  bool cost = false;
  std::vector<std::string> until;
  bool resume = false;
  int tiles = 0;                    ///< 0: the frame is made at once
  bool parted = false;              ///< each process holds some parts of spheres alone
  std::vector<std::string> mattes;  ///< KIND, or KIND=NAME
  int matte_ranks = MatteOptions{}.ranks;
  bool deep = false;                   ///< several distances a pixel
  std::string next;                    ///< a scene file at another time; empty: the same
  std::vector<std::string> next_sets;  ///< what is other in it
  std::string store;  ///< where they are kept; empty: beside the output, until it is there
};

struct MakeMapCommand {
  std::string output;
  std::string size;
  std::vector<std::string> sets;
  bool quiet = false;
};

struct MakeFractalCommand {
  std::string output;
  std::string seed = "1";
  std::vector<std::string> sets;
  bool quiet = false;
};

struct MakeVolumeCommand {
  std::string scene;
  std::string output;
  int field = 1;
  int plate = 0;            ///< of a plate instead; 0: of a field
  std::vector<double> box;  ///< of a plate: the low and the high corner
  std::vector<std::string> sets;
  bool quiet = false;
  bool json = false;
};

/// What all commands have that make large sets.
struct MakeOptions {
  std::string output;
  std::string memory;
  int threads = 0;
  bool quiet = false;
  bool json = false;
};

struct MakeSpheresCommand : MakeOptions {
  std::vector<std::string> inputs;
  std::string columns;
  std::string record;
  double radius = 0.05;
  double scale = 1;
  std::string keep = "compact";
  int parts = 0;  ///< 0: one set
};

struct MakePollenCommand : MakeOptions {
  std::vector<std::string> sets;
  int parts = 0;
};

struct MakeVoxelsCommand : MakeOptions {
  std::string scene;
  int field = 0;  ///< 0: voxels of the scene, or its first field where it has none
  int part = 1;
  std::vector<std::string> sets;
  bool shared = false;
};

struct MakeTerracesCommand : MakeOptions {
  std::vector<std::string> sets;
  bool shared = false;
};

struct SweepCommand {
  SceneOptions common;
  std::string output;
  std::vector<std::string> vary;
  std::vector<std::string> limits;
  std::string metric = "rmse";
  std::string reference = "varied";
  std::string by = "time";
  std::string views;
  int repeats = 11;
  int warm_up = 2;
  double precision = 0;  ///< percent; 0: all repeats are made
  bool one_by_one = false;
  bool resume = false;
};

struct CompareCommand {
  std::string picture;
  std::string reference;
  std::string output;
  std::vector<std::string> limits;
  bool no_legend = false;
  bool quiet = false;
  bool json = false;
};

struct CheckCommand {
  SceneOptions common;
};

struct MatchCommand {
  SceneOptions common;
  std::string pairs;
  bool shift = false;
  bool aspect = false;
  bool distortion = false;
};

struct LaneCommand {
  SceneOptions common;
  std::string pixel;
  std::string output;
  bool all = false;
  bool march = false;
  std::string tree;  ///< picture of the way through voxels
};

struct ZoomCommand {
  SceneOptions common;
  std::string to;
  std::string width;
  int frames = 2;
  std::string allow_error;  ///< steps; empty: every frame is computed anew
  std::string output;
  bool resume = false;
};
struct FindCommand {
  SceneOptions common;
  std::string near;    ///< empty: the middle of the scene's window
  std::string within;  ///< empty: half as far as the window is wide
  std::string kind = "copy";
};
struct WalkCommand {
  SceneOptions common;
  std::string script;
  std::string output;
  bool resume = false;
};

struct DescribeCommand {
  std::string as = "text";
};

struct DemoCommand {
  std::vector<std::string> parts;  ///< none: all
  std::string output = "out/demo";
  std::string scenes;
  std::string size;
  bool full = false;  ///< the scenes' own sizes
  int threads = 0;
  bool quiet = false;
};

/// The names of the demo's parts.
std::vector<std::string_view> demo_parts();

/// The scene with the options' size and settings. Errors name the option that is wrong.
io::SceneFile open_scene(const SceneOptions& options);

int run(const RenderCommand& command);
int run(const SweepCommand& command);
int run(const MakeMapCommand& command);
/// Bytes of "2G", "500M", "64K" or a number; `usual` of nothing. Throws Error (usage).
std::size_t memory_of(const std::string& text, std::size_t usual);

int run(const MakeVolumeCommand& command);
int run(const MakeSpheresCommand& command);
int run(const MakePollenCommand& command);
int run(const MakeVoxelsCommand& command);
int run(const MakeTerracesCommand& command);
int run(const MakeFractalCommand& command);
int run(const LaneCommand& command);
int run(const WalkCommand& command);
int run(const ZoomCommand& command);
int run(const FindCommand& command);
int run(const CompareCommand& command);
int run(const CheckCommand& command);
int run(const MatchCommand& command);
int run(const DescribeCommand& command);
int run(const DemoCommand& command);

}  // namespace photonlane::tool
