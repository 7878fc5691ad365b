// The command line: what may be written, and which command it starts.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <exception>
#include <functional>
#include <sstream>

#include "bench_commands.hpp"
#include "commands.hpp"
#include "live/live.hpp"
#include "options.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/words.hpp"
#include "photonlane/frame/frame.hpp"
#include "shared.hpp"
#include "terminal.hpp"

namespace {

using namespace photonlane::tool;

std::string layer_help() {
  return fmt::format("layer of a .png: {}",
                     fmt::join(photonlane::choice_names<photonlane::Layer>, ", "));
}

/// Refuses commands and options that do not exist before anything else is missed, each with the
/// nearest right word.
void refuse_unknown_words(const CLI::App& app, int argc, char** argv) {
  const CLI::App* at = &app;
  int first = 1;
  const auto names_of_commands = [](const CLI::App& of) {
    std::vector<std::string> names;
    for (const CLI::App* command : of.get_subcommands([](const CLI::App*) { return true; })) {
      names.push_back(command->get_name());
    }
    return names;
  };
  const auto refuse = [](const std::string& what, const std::string& word,
                         const std::vector<std::string>& names) {
    const std::vector<std::string_view> views(names.begin(), names.end());
    throw photonlane::Error(photonlane::ErrorKind::usage,
                            fmt::format("photonlane: no such {} '{}'{}; see photonlane --help",
                                        what, word, photonlane::suggestion(word, views)));
  };
  while (first < argc && argv[first][0] != '-') {
    const auto commands = names_of_commands(*at);
    if (commands.empty()) break;
    const std::string word = argv[first];
    if (std::find(commands.begin(), commands.end(), word) == commands.end()) {
      refuse("command", word, commands);
    }
    at = at->get_subcommand(word);
    ++first;
  }
  std::vector<std::string> options;
  for (const CLI::Option* option : at->get_options()) {
    for (const std::string& name : option->get_lnames()) options.push_back("--" + name);
  }
  for (int i = first; i < argc; ++i) {
    const std::string word = argv[i];
    if (word == "--") break;
    if (!word.starts_with("--")) continue;
    const std::string name = word.substr(0, word.find('='));
    if (std::find(options.begin(), options.end(), name) == options.end()) {
      refuse("option", name, options);
    }
  }
}

/// What the words of a command line set, and the command that was chosen.
struct Arguments {
  RenderCommand render;
  SweepCommand sweep;
  CompareCommand compare;
  CheckCommand check;
  MatchCommand match;
  LaneCommand lane;
  WalkCommand walk;
  ZoomCommand zoom;
  FindCommand find;
  MakeMapCommand make_map;
  MakeFractalCommand make_fractal;
  MakeVolumeCommand make_volume;
  MakeSpheresCommand make_spheres;
  MakeVoxelsCommand make_voxels;
  MakeTerracesCommand make_terraces;
  MakePollenCommand make_pollen;
  DescribeCommand describe;
  DemoCommand demo;
  LiveCommand live;
  BenchCommands bench;
  std::function<int()> chosen;
};

void add_render(CLI::App& app, Arguments& all) {
  RenderCommand& render = all.render;
  CLI::App* render_app = app.add_subcommand("render", "make a picture of a scene");
  add_scene(*render_app, render.common);
  add_threads(*render_app, render.common.threads);
  render_app
      ->add_option("-o,--output", render.output,
                   "file to write: .png for one layer, .exr for all layers together")
      ->required()
      ->type_name("FILE");
  render_app->add_option("--layer", render.layer, layer_help())->type_name("NAME");
  render_app
      ->add_option("--view", render.view,
                   "eye (the default), or plan: the map from above with the eye and its rays")
      ->check(CLI::IsMember({"eye", "plan"}))
      ->type_name("VIEW");
  render_app
      ->add_option("--range", render.range,
                   "values at the ends of the colors of a layer of numbers; without it the range "
                   "that the pixels have, but for a few extremes")
      ->type_name("LOW,HIGH");
  render_app->add_flag("--no-legend", render.no_legend, "leave out the bar below a layer or plan");
  render_app
      ->add_option("--part", render.part,
                   "only these pixels of the frame, from the upper left one on, for the price of "
                   "little more")
      ->type_name("X,Y,WIDTHxHEIGHT");
  render_app->add_flag("--cost", render.cost,
                       "tell where the time of all threads went, by work and by kind of lanes");
  render_app
      ->add_option("--until", render.until,
                   "where light.transport is paths: let the picture grow until one of these holds: "
                   "samples=N a pixel, rmse=ERROR left in display values, seconds=N; it is written "
                   "every few seconds, and Ctrl-C keeps what there is")
      ->type_name("LIMIT");
  render_app
      ->add_option("--tiles", render.tiles,
                   "make the frame in about so many tiles, each kept in a file as it is done: a "
                   "command that was stopped or killed goes on when it is given again; with "
                   "mpirun, processes share them")
      ->type_name("N");
  render_app->add_flag("--parted", render.parted,
                       "with --tiles and mpirun: each process holds some of the parts of spheres "
                       "(files: NAME.parts) and answers for them");
  render_app
      ->add_option("--tiles-in", render.store,
                   "keep the tiles in this folder, also when the frame is done; without it they "
                   "are in a folder beside it until then")
      ->type_name("FOLDER");
  render_app
      ->add_option("--matte", render.mattes,
                   "which things each pixel shows and how much of it they cover, by material, cell "
                   "or room: channels beside the others of a .exr file; KIND=NAME makes a .png of "
                   "one thing's cover")
      ->type_name("KIND[=NAME]")
      ->allow_extra_args(false);
  render_app
      ->add_option("--matte-ranks", render.matte_ranks,
                   "things that a pixel of a matte can show (4)")
      ->type_name("N");
  render_app->add_flag("--deep", render.deep,
                       "a .exr file of what lies at which distance: things that cover a pixel in "
                       "part, and what is looked through, each by itself");
  render_app
      ->add_option("--next", render.next,
                   "the scene at another time: the layer motion tells how far what is seen moves "
                   "until then, in pixels")
      ->type_name("SCENE");
  render_app
      ->add_option("--next-set", render.next_sets,
                   "a value that is another one then, as --set; without --next of the same file")
      ->type_name("KEY=VALUE")
      ->allow_extra_args(false);
  render_app->add_flag("--resume", render.resume, "go on with a growing picture that was stopped");
  render_app->callback([&] { all.chosen = [&] { return run(all.render); }; });
}

void add_sweep(CLI::App& app, Arguments& all) {
  SweepCommand& sweep = all.sweep;
  CLI::App* sweep_app = app.add_subcommand(
      "sweep",
      "measure cost and error of many settings of the budget\nErrors are against a "
      "reference of the same view, as --reference says. Writes a table as CSV and JSON, and a "
      "plot.");
  add_scene(*sweep_app, sweep.common);
  add_threads(*sweep_app, sweep.common.threads);
  sweep_app
      ->add_option("--vary", sweep.vary,
                   "knob and its values: a,b,c or FROM..TO/COUNT (equal differences) or "
                   "FROM..TO//COUNT (equal ratios); given again, all combinations")
      ->required()
      ->type_name("KEY=VALUES")
      ->allow_extra_args(false);
  sweep_app->add_option("-o,--output", sweep.output, "folder to write to")
      ->required()
      ->type_name("DIR");
  sweep_app->add_option("--metric", sweep.metric, "error the front weighs against time (rmse)")
      ->type_name("METRIC");
  sweep_app
      ->add_option("--reference", sweep.reference,
                   "what errors are against: varied has the knobs that vary at their best and the "
                   "others as they are (default), best has everything at its best; or a frame that "
                   "was made before, .exr or .png")
      ->type_name("varied|best|FILE");
  add_limits(*sweep_app, sweep.limits,
             "good enough: name the cheapest setting that keeps to it; with ms=16 or fps=60 "
             "the most accurate one that is so quick; exit 1 where there is none");
  sweep_app
      ->add_option("--by", sweep.by,
                   "rank settings by time (the default), by the work of all threads without their "
                   "waiting (cpu), or by counted work, which is the same each time")
      ->check(CLI::IsMember(
          std::vector<std::string>(photonlane::choice_names<photonlane::RankBy>.begin(),
                                   photonlane::choice_names<photonlane::RankBy>.end())))
      ->type_name("time|cpu|work");
  sweep_app
      ->add_option("--views", sweep.views,
                   "measure by several cameras: a list of them, or a walk script (YAML)")
      ->type_name("FILE");
  sweep_app->add_option("--repeats", sweep.repeats, "timed frames a setting (11)")
      ->check(CLI::Range(1, 100000))
      ->type_name("N");
  sweep_app
      ->add_option("--precision", sweep.precision,
                   "stop repeating, after 5 frames of each, when every median is known to so many "
                   "percent")
      ->check(CLI::Range(0.0, 1000.0))
      ->type_name("PERCENT");
  sweep_app->add_flag("--one-by-one", sweep.one_by_one,
                      "vary each knob alone, the others as the scene and --set have them");
  sweep_app->add_option("--warm-up", sweep.warm_up, "frames before the timed ones (2)")
      ->check(CLI::Range(0, 100000))
      ->type_name("N");
  add_resume(*sweep_app, sweep.resume);
  sweep_app->callback([&] { all.chosen = [&] { return run(all.sweep); }; });
}

void add_compare(CLI::App& app, Arguments& all) {
  CompareCommand& compare = all.compare;
  CLI::App* compare_app = app.add_subcommand(
      "compare",
      "measure how far a picture is from a reference\nBoth .png or .exr, of one size; "
      ".exr files of all layers also tell what each pixel hit.");
  compare_app->add_option("picture", compare.picture, "picture to judge")
      ->required()
      ->type_name("A");
  compare_app->add_option("reference", compare.reference, "picture it should be")
      ->required()
      ->type_name("B");
  compare_app
      ->add_option("-o,--output", compare.output, "picture of the error of every pixel, .png")
      ->type_name("FILE");
  add_limits(*compare_app, compare.limits,
             "exit 1 where the metric is over the value (under it for psnr and ssim)");
  compare_app->add_flag("--no-legend", compare.no_legend, "leave out the bar below the picture");
  compare_app->add_flag("--quiet", compare.quiet, "print nothing but errors");
  compare_app->add_flag("--json", compare.json, "print JSON instead of text");
  compare_app->callback([&] { all.chosen = [&] { return run(all.compare); }; });
}

void add_check(CLI::App& app, Arguments& all) {
  CheckCommand& check = all.check;
  CLI::App* check_app = app.add_subcommand(
      "check",
      "say what is in a scene and what would look wrong\nExit code 1 where there is a "
      "warning.");
  add_scene(*check_app, check.common);
  check_app->callback([&] { all.chosen = [&] { return run(all.check); }; });
}

void add_match(CLI::App& app, Arguments& all) {
  MatchCommand& match = all.match;
  CLI::App* match_app = app.add_subcommand(
      "match",
      "find the camera that shows known places at known pixels\nThe file has a pair a line: pixel "
      "x, pixel y, and x, y, z in meters; six or more. The picture is the scene's plate, or a "
      "frame of its size. Prints the camera as a scene has it, how sure it is, and how far each "
      "pair is off. Exit code 1 where a pair is an outlier or something cannot be told.");
  add_scene(*match_app, match.common);
  match_app->add_option("--pairs", match.pairs, "the file")->required()->type_name("FILE");
  match_app->add_flag("--shift", match.shift, "seek the lens shift as well");
  match_app->add_flag("--aspect", match.aspect, "seek the aspect of pixels as well");
  match_app->add_flag("--distortion", match.distortion,
                      "seek the lens's distortion as well: camera.distortion_k1");
  match_app->callback([&] { all.chosen = [&] { return run(all.match); }; });
}

void add_lane(CLI::App& app, Arguments& all) {
  LaneCommand& lane = all.lane;
  CLI::App* lane_app = app.add_subcommand(
      "lane",
      "tell what the lanes of one pixel did\nWhat they met, where the pixel's light came from, "
      "what "
      "they cost beside the rest of the frame, and why. With --all every leg: what it met, what it "
      "added to the color, and through which portals it went on. Over the plan of the rooms with "
      "-o.");
  add_scene(*lane_app, lane.common);
  lane_app->add_option("--pixel", lane.pixel, "which, counted from the top left")
      ->required()
      ->type_name("X,Y");
  lane_app->add_flag("--all", lane.all, "every leg as well");
  lane_app->add_flag("--march", lane.march, "every leg, and every step of marching through fields");
  lane_app
      ->add_option(
          "--tree", lane.tree,
          "picture of the nodes of a tree of voxels that the lane from the eye looks into, "
          "in an upright slice along it, .png; told in words with --march")
      ->type_name("FILE");
  lane_app->add_option("-o,--output", lane.output, "picture of its way over the plan, .png")
      ->type_name("FILE");
  lane_app->callback([&] { all.chosen = [&] { return run(all.lane); }; });
}

void add_walk(CLI::App& app, Arguments& all) {
  WalkCommand& walk = all.walk;
  CLI::App* walk_app = app.add_subcommand(
      "walk",
      "play a script of timed moves\nWrites numbered frames, the way, contacts and the cost "
      "of every frame, and the way over the plan.");
  add_scene(*walk_app, walk.common);
  add_threads(*walk_app, walk.common.threads);
  walk_app->add_option("--script", walk.script, "moves of the body (YAML)")
      ->required()
      ->type_name("FILE");
  walk_app->add_option("-o,--output", walk.output, "folder to write to")
      ->required()
      ->type_name("DIR");
  add_resume(*walk_app, walk.resume);
  walk_app->callback([&] { all.chosen = [&] { return run(all.walk); }; });
}

void add_zoom(CLI::App& app, Arguments& all) {
  ZoomCommand& zoom = all.zoom;
  CLI::App* zoom_app = app.add_subcommand(
      "zoom",
      "frames of a steady zoom into a plane\nEvery frame is computed anew, unless --allow-error "
      "says otherwise; what each took, in which numbers and with how many steps goes to zoom.csv.");
  add_scene(*zoom_app, zoom.common);
  add_threads(*zoom_app, zoom.common.threads);
  zoom_app->add_option("--to", zoom.to, "the point that comes to the middle, two decimal numbers")
      ->required()
      ->type_name("REAL,IMAGINARY");
  zoom_app->add_option("--width", zoom.width, "how wide the last frame is in the plane")
      ->required()
      ->type_name("NUMBER");
  zoom_app->add_option("--frames", zoom.frames, "how many, with the scene's own window first")
      ->required()
      ->check(CLI::Range(2, 100000))
      ->type_name("N");
  zoom_app
      ->add_option("--allow-error", zoom.allow_error,
                   "take pixels over from the frame before where that saves time; the error "
                   "allowed for it, in steps, as root mean square")
      ->type_name("STEPS");
  zoom_app->add_option("-o,--output", zoom.output, "folder to write to")
      ->required()
      ->type_name("DIR");
  add_resume(*zoom_app, zoom.resume);
  zoom_app->callback([&] { all.chosen = [&] { return run(all.zoom); }; });
}

void add_find(CLI::App& app, Arguments& all) {
  FindCommand& find = all.find;
  CLI::App* find_app = app.add_subcommand("find",
                                          "find a small copy of a plane's whole figure, or a point "
                                          "where branches meet\nTells its place "
                                          "to as many digits as it needs, its period and its size: "
                                          "what --to and --width of zoom take.");
  add_scene(*find_app, find.common);
  find_app
      ->add_option("--near", find.near,
                   "look around this point, two decimal numbers; without it the window's middle")
      ->type_name("REAL,IMAGINARY");
  find_app
      ->add_option("--within", find.within,
                   "no farther from there; without it half as far as the window is wide")
      ->type_name("NUMBER");
  find_app->add_option("--kind", find.kind, "copy (the default), or branching")
      ->check(CLI::IsMember({"copy", "branching"}))
      ->type_name("KIND");
  find_app->callback([&] { all.chosen = [&] { return run(all.find); }; });
}

void add_make_map(CLI::App& app, Arguments& all) {
  MakeMapCommand& make_map = all.make_map;
  CLI::App* make_map_app = app.add_subcommand(
      "map", "make a maze, a cave or rooms with corridors, always with a way from start to goal");
  make_map_app
      ->add_option("-o,--output", make_map.output,
                   "file to write: .yaml a scene of its own, .txt a drawing, .png one pixel a cell")
      ->required()
      ->type_name("FILE");
  make_map_app->add_option("--size", make_map.size, "size of the map in cells (41x31)")
      ->type_name("WIDTHxHEIGHT");
  make_map_app
      ->add_option("--set", make_map.sets,
                   "a value of the recipe, such as kind=cave or seed=7; may be given again "
                   "(photonlane describe lists them)")
      ->type_name("KEY=VALUE")
      ->allow_extra_args(false);
  make_map_app->add_flag("--quiet", make_map.quiet, "print nothing but errors");
  make_map_app->callback([&] { all.chosen = [&] { return run(all.make_map); }; });
}

void add_make_fractal(CLI::App& app, Arguments& all) {
  MakeFractalCommand& make_fractal = all.make_fractal;
  CLI::App* make_fractal_app =
      app.add_subcommand("fractal", "invent a solid that folds, as a scene of its own");
  make_fractal_app->add_option("-o,--output", make_fractal.output, "scene file to write (YAML)")
      ->required();
  make_fractal_app->add_option("--seed", make_fractal.seed, "which one; the same each time (1)");
  make_fractal_app
      ->add_option("--set", make_fractal.sets, "kind=any, tree, folds, box_ball, bulb or julia")
      ->type_name("KEY=VALUE");
  make_fractal_app->add_flag("--quiet", make_fractal.quiet, "print nothing but errors");
  make_fractal_app->callback([&] { all.chosen = [&] { return run(all.make_fractal); }; });
}

void add_make_volume(CLI::App& app, Arguments& all) {
  MakeVolumeCommand& make_volume = all.make_volume;
  CLI::App* make_volume_app = app.add_subcommand(
      "volume",
      "sample a field of a scene\nSays how far the samples are from the field. As a shape in a "
      "scene: {volume: {file: FILE}}.");
  make_volume_app->add_option("scene", make_volume.scene, "scene file (YAML)")
      ->required()
      ->type_name("SCENE");
  make_volume_app->add_option("-o,--output", make_volume.output, "file to write, .volume")
      ->required()
      ->type_name("FILE");
  make_volume_app
      ->add_option("--field", make_volume.field, "which of the scene's fields, from 1, the default")
      ->type_name("N");
  CLI::Option* const plate =
      make_volume_app->add_option("--plate", make_volume.plate,
                                  "which of the scene's plates instead, from 1, for smooth joins");
  plate->type_name("N")->check(CLI::Range(1, 1000));
  make_volume_app->add_option("--box", make_volume.box, "of a plate: two corners, in meters")
      ->delimiter(',')
      ->expected(6)
      ->needs(plate)
      ->type_name("X,Y,Z,X,Y,Z");
  make_volume_app
      ->add_option("--set", make_volume.sets,
                   "points, padding or storage, such as points=128; may be given again (photonlane "
                   "describe lists them)")
      ->type_name("KEY=VALUE")
      ->allow_extra_args(false);
  make_volume_app->add_flag("--quiet", make_volume.quiet, "print nothing but errors");
  make_volume_app->add_flag("--json", make_volume.json, "print JSON instead of text");
  make_volume_app->callback([&] { all.chosen = [&] { return run(all.make_volume); }; });
}

/// Options of all commands that make large sets: spheres and voxels.
void add_make_options(CLI::App& app, MakeOptions& command, const std::string& files,
                      const std::string& memory) {
  app.add_option("-o,--output", command.output, "file to write, " + files)
      ->required()
      ->type_name("FILE");
  app.add_option("--memory", command.memory, memory)->type_name("SIZE");
  add_threads(app, command.threads);
  app.add_flag("--quiet", command.quiet, "print nothing but errors");
  app.add_flag("--json", command.json, "print JSON instead of text");
}
constexpr const char* sphere_memory =
    "memory that may be taken, such as 2G (16G): with less than is needed the set is made in "
    "working "
    "files beside the output";
constexpr const char* voxel_memory = "memory the voxels may take, such as 2G (16G)";

void add_parts(CLI::App& app, int& parts) {
  app.add_option("--parts", parts,
                 "so many parts of space, each a file beside the output, which lists them: for "
                 "sets that no machine holds alone")
      ->type_name("K");
}

void add_make_spheres(CLI::App& app, Arguments& all) {
  MakeSpheresCommand& spheres = all.make_spheres;
  CLI::App* spheres_app = app.add_subcommand(
      "spheres",
      "put spheres in order\nReads .ply, .csv, .spheres or numbers as streams, and writes a file "
      "that scenes use as it lies. In a scene: {spheres: {files: FILE}}.");
  spheres_app->add_option("inputs", spheres.inputs, "files, or patterns with * and ?")
      ->required()
      ->type_name("INPUT");
  spheres_app
      ->add_option(
          "--columns", spheres.columns,
          "what x, y, z, radius, red, green, blue and material are called: x=px,radius=size")
      ->type_name("KEY=NAME,...");
  spheres_app
      ->add_option("--record", spheres.record,
                   "files are little-endian numbers and nothing else: offsets in bytes, such as "
                   "stride=16,x=0,y=4,z=8,radius=12; with another type or stride than all, "
                   "radius=12:float64:24; also type=TYPE and count=N")
      ->type_name("KEY=VALUE,...");
  spheres_app
      ->add_option("--radius", spheres.radius,
                   "meters, of spheres that have none of their own (0.05)")
      ->type_name("R");
  spheres_app->add_option("--scale", spheres.scale, "places and radii are times this (1)")
      ->type_name("S");
  spheres_app
      ->add_option("--keep", spheres.keep,
                   "compact: moved by a little, some 9 bytes each (the default); exact: in doubles")
      ->check(CLI::IsMember({"compact", "exact"}))
      ->type_name("HOW");
  add_parts(*spheres_app, spheres.parts);
  add_make_options(*spheres_app, spheres, ".spheres, or with --parts .parts", sphere_memory);
  spheres_app->callback([&] { all.chosen = [&] { return run(all.make_spheres); }; });
}

void add_make_pollen(CLI::App& app, Arguments& all) {
  MakePollenCommand& pollen = all.make_pollen;
  CLI::App* pollen_app = app.add_subcommand(
      "pollen", "make pollen that drifts through a hall, any number of grains, always the same");
  pollen_app
      ->add_option(
          "--set", pollen.sets,
          "count, seed, hall, radius, swirl or flowers, such as count=3000000; may be given "
          "again (photonlane describe lists them)")
      ->type_name("KEY=VALUE")
      ->allow_extra_args(false);
  add_parts(*pollen_app, pollen.parts);
  add_make_options(*pollen_app, pollen, ".spheres, .ply, or with --parts .parts", sphere_memory);
  pollen_app->callback([&] { all.chosen = [&] { return run(all.make_pollen); }; });
}

void add_shared(CLI::App& app, bool& shared) {
  app.add_flag("--shared", shared,
               "keep equal cubes of 16 and 64 cells once: pays where the same comes again");
}

void add_make_voxels(CLI::App& app, Arguments& all) {
  MakeVoxelsCommand& voxels = all.make_voxels;
  CLI::App* voxels_app = app.add_subcommand(
      "voxels",
      "make voxels of a field, or of what a scene makes them from\nWrites a file that scenes use "
      "as it lies. In a scene: {voxels: {file: FILE}}.");
  voxels_app->add_option("scene", voxels.scene, "scene file (YAML)")
      ->required()
      ->type_name("SCENE");
  voxels_app
      ->add_option("--field", voxels.field,
                   "which of the scene's fields, from 1; without it the scene's voxels, or the "
                   "first field where there are none")
      ->type_name("N");
  voxels_app->add_option("--part", voxels.part, "which of the scene's voxels, from 1, the default")
      ->type_name("N");
  voxels_app
      ->add_option(
          "--set", voxels.sets,
          "points=N, cells of a field along its longest side (256); may be given again, as "
          "for numbers of the scene: scene.NAME=VALUE")
      ->type_name("KEY=VALUE")
      ->allow_extra_args(false);
  add_shared(*voxels_app, voxels.shared);
  add_make_options(*voxels_app, voxels, ".voxels", voxel_memory);
  voxels_app->callback([&] { all.chosen = [&] { return run(all.make_voxels); }; });
}

void add_make_terraces(CLI::App& app, Arguments& all) {
  MakeTerracesCommand& terraces = all.make_terraces;
  CLI::App* terraces_app = app.add_subcommand(
      "terraces", "make a terraced garden of voxels, of any size, always the same");
  terraces_app
      ->add_option("--set", terraces.sets,
                   "side, height, seed, terraces, plants or caves, such as side=2048; may be given "
                   "again (photonlane describe lists them)")
      ->type_name("KEY=VALUE")
      ->allow_extra_args(false);
  add_shared(*terraces_app, terraces.shared);
  add_make_options(*terraces_app, terraces, ".voxels", voxel_memory);
  terraces_app->callback([&] { all.chosen = [&] { return run(all.make_terraces); }; });
}

void add_describe(CLI::App& app, Arguments& all) {
  DescribeCommand& describe = all.describe;
  CLI::App* describe_app =
      app.add_subcommand("describe", "list every knob, or every key of a scene file");
  describe_app
      ->add_option("--as", describe.as,
                   "text (knobs for --set), markdown (the scene reference) or schema (JSON Schema "
                   "for editors)")
      ->check(CLI::IsMember({"text", "markdown", "schema"}))
      ->type_name("FORM");
  describe_app->callback([&] { all.chosen = [&] { return run(all.describe); }; });
}

void add_live(CLI::App& app, Arguments& all) {
  LiveCommand& live = all.live;
  CLI::App* live_app =
      app.add_subcommand("live",
                         "serve a page on which to turn the knobs of a scene\nPrints the page's "
                         "address, for a browser "
                         "on this machine or behind a tunnel to it; ends by Ctrl-C.");
  live_app->add_option("scene", live.scenes, "scene files (YAML), of which the page chooses one")
      ->required()
      ->type_name("SCENE");
  add_turned(*live_app, live.common);
  add_threads(*live_app, live.common.threads);
  live_app
      ->add_option("--port", live.port, "port to listen at; 0, the default, takes any that is free")
      ->type_name("N");
  live_app
      ->add_option("--address", live.address,
                   "address to listen at; another one than the default, 127.0.0.1, lets other "
                   "machines in, who see and steer the page if they know its address")
      ->type_name("ADDRESS");
  live_app
      ->add_option("--token-file", live.token_file,
                   "file with the secret of the page's address, made where it is not there: a "
                   "server that is started again then has the same address")
      ->type_name("FILE");
  live_app->add_flag("--write", live.write, "let the page write into the scene files");
  live_app->callback([&] { all.chosen = [&] { return run(all.live); }; });
}

void add_demo(CLI::App& app, Arguments& all) {
  DemoCommand& demo = all.demo;
  CLI::App* demo_app = app.add_subcommand(
      "demo", "picture the Glasshouse, carefully and carelessly, and measure both");
  demo_app
      ->add_option(
          "part", demo.parts,
          fmt::format("parts to make: {}; without any all of them", fmt::join(demo_parts(), ", ")))
      ->type_name("PART");
  demo_app->add_option("-o,--output", demo.output, "folder to write to (out/demo)")
      ->type_name("DIR");
  demo_app->add_option("--scenes", demo.scenes, "folder of the demo scenes")->type_name("DIR");
  add_size(*demo_app, demo.size);
  demo_app->add_flag("--full", demo.full,
                     "the sizes of the scene files, as the README shows; without it 640x400");
  add_threads(*demo_app, demo.threads);
  demo_app->add_flag("--quiet", demo.quiet, "print only the folder");
  demo_app->callback([&] { all.chosen = [&] { return run(all.demo); }; });
}

int run_tool(int argc, char** argv) {
  CLI::App app{
      "Casts rays through a scene and measures what each setting costs and how wrong it "
      "is.\nExit code: 0 success, 1 a check that did not hold, 2 bad usage or input."};
  app.name("photonlane");
  app.set_version_flag("--version", PHOTONLANE_VERSION);
  app.require_subcommand(1);
  Arguments all;

  add_render(app, all);
  add_sweep(app, all);
  add_tune(app, all.bench.tune, all.chosen);
  add_predict(app, all.bench.predict, all.chosen);
  add_profile(app, all.bench.profile, all.chosen);
  add_compare(app, all);
  add_keep(app, all.bench.keep, all.chosen);
  add_judge(app, all.bench.judge, all.chosen);
  add_check(app, all);
  add_match(app, all);
  add_lane(app, all);
  add_walk(app, all);
  add_zoom(app, all);
  add_find(app, all);
  CLI::App* make_app = app.add_subcommand("make", "make maps, fractals, and volumes of fields");
  make_app->require_subcommand(1);
  add_make_map(*make_app, all);
  add_make_fractal(*make_app, all);
  add_make_volume(*make_app, all);
  add_make_spheres(*make_app, all);
  add_make_pollen(*make_app, all);
  add_make_voxels(*make_app, all);
  add_make_terraces(*make_app, all);
  add_describe(app, all);
  add_live(app, all);
  add_demo(app, all);

  refuse_unknown_words(app, argc, argv);
  try {
    app.parse(argc, argv);
  } catch (const CLI::Success& asked) {
    std::ostringstream text;
    const int code = app.exit(asked, text, text);
    put(text.str());
    return code;
  } catch (const CLI::ParseError& problem) {
    complain(fmt::format("photonlane: {}; see photonlane --help", problem.what()));
    return bad_input;
  }
  return all.chosen();
}

}  // namespace

int main(int argc, char** argv) {
  open_standard_streams();
  watch_signals();
  int code = bad_input;
  try {
    keep_command_line(argc, argv);
    code = run_tool(argc, argv);
  } catch (const photonlane::Error& error) {
    complain(error.what());
  } catch (const std::bad_alloc&) {
    complain("photonlane: out of memory");
  } catch (const std::exception& error) {
    complain(fmt::format("photonlane: {}", error.what()));
  }
  if (!close_output()) {
    complain("photonlane: standard output cannot be written, what was printed is lost");
    if (code == success) code = bad_input;
  }
  end_by_signal();
  return code;
}
