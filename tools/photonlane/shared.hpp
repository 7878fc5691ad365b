#pragma once

#include <functional>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "commands.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "terminal.hpp"

namespace photonlane::tool {

std::vector<Limit> parse_limits(const std::vector<std::string>& texts);
std::string limit_text(const Limit& limit);
/// An argument as a shell takes it for one word, as it is.
std::string shell_word(const std::string& text);
/// The command that renders a scene with all that was set and some knobs turned from there, ready
/// to paste.
std::string render_line(const SceneOptions& options,
                        const std::vector<std::pair<std::string, std::string>>& turned);
/// Takes "ms=16" or "fps=60" out of limits: how long a frame may take, in milliseconds.
std::optional<double> take_time(std::vector<std::string>& limits);
/// Takes NAME=NUMBER out of limits.
std::optional<double> take_number(std::vector<std::string>& limits, const std::string& name);
/// Prints the notes of a scene file.
void warn(const io::SceneFile& file);
io::RunOptions run_options(int threads, bool resume, ProgressBar& bar);
/// The command this process was started by, ready to paste.
void keep_command_line(int argc, char** argv);
const std::string& command_line();
/// A scene's title, or its file.
std::string title_of(const io::SceneFile& file);
/// How results of a scene are made, for their files.
io::RunFacts facts_of(const io::SceneFile& file, int threads);

/// Runs something on a scene; errors that know no place get that of what they are about in front.
template <class Work>
int on_scene(const SceneOptions& options, const Work& work) {
  io::SceneFile file;
  file.path = options.scene;
  try {
    file = open_scene(options);
    return work(file);
  } catch (const Error& error) {
    throw placed(file, error);
  }
}

}  // namespace photonlane::tool
