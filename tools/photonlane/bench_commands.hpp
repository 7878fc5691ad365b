#pragma once

#include <functional>
#include <string>
#include <vector>

#include "commands.hpp"

namespace CLI {
class App;
}

namespace photonlane::tool {

struct TuneCommand {
  SceneOptions common;
  std::vector<std::string> limits;
  std::vector<std::string> vary;
  std::string metric = "rmse";
  std::string views;
  std::string output;
  std::string by = "time";
  int repeats = 5;
  int trials = 400;
  bool write = false;
  bool resume = false;
};

struct PredictCommand {
  SceneOptions common;
  double share = 2.5;  ///< percent of the pixels
};

struct ProfileCommand {
  SceneOptions common;
  std::string output;
  std::string views;
  int repeats = 3;
  bool no_knobs = false;
  bool no_errors = false;
};

struct KeepCommand {
  SceneOptions common;  ///< without a scene of its own
  std::vector<std::string> scenes;
  std::string output;
  int repeats = 7;
};

struct JudgeCommand {
  std::string folder;
  std::string output;
  std::vector<std::string> limits;
  double more_work = 1;  ///< percent
  double slower = 15;    ///< percent
  int repeats = 7;
  int threads = 0;
  bool quiet = false;
  bool json = false;
};

/// The commands that measure, beside render, sweep and compare.
struct BenchCommands {
  TuneCommand tune;
  PredictCommand predict;
  ProfileCommand profile;
  KeepCommand keep;
  JudgeCommand judge;
};

void add_tune(CLI::App& app, TuneCommand& command, std::function<int()>& chosen);
void add_predict(CLI::App& app, PredictCommand& command, std::function<int()>& chosen);
void add_profile(CLI::App& app, ProfileCommand& command, std::function<int()>& chosen);
void add_keep(CLI::App& app, KeepCommand& command, std::function<int()>& chosen);
void add_judge(CLI::App& app, JudgeCommand& command, std::function<int()>& chosen);

}  // namespace photonlane::tool
