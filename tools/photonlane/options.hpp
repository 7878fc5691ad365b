#pragma once

#include <CLI/CLI.hpp>
#include <string>
#include <vector>

#include "commands.hpp"

namespace photonlane::tool {

void add_size(CLI::App& app, std::string& size);
/// The scene, what is set beside it, and how results are printed.
void add_scene(CLI::App& app, SceneOptions& options);
/// What is set beside a scene, without its file.
void add_settings(CLI::App& app, SceneOptions& options);
/// Knobs and doors alone.
void add_turned(CLI::App& app, SceneOptions& options);
void add_threads(CLI::App& app, int& threads);
void add_resume(CLI::App& app, bool& resume);
void add_limits(CLI::App& app, std::vector<std::string>& limits, const std::string& help);

}  // namespace photonlane::tool
