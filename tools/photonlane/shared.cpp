#include "shared.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

namespace photonlane::tool {
namespace {

/// The number of a limit "NAME=NUMBER".
double number_of(const std::string& text) {
  const std::string number = text.substr(text.find('=') + 1);
  double value = 0;
  const char* const past = number.data() + number.size();
  const auto [end, problem] = std::from_chars(number.data(), past, value);
  if (problem != std::errc() || end != past || !std::isfinite(value) || !(value > 0)) {
    throw Error(ErrorKind::usage,
                fmt::format("--limit {}: found '{}', expected a number above 0", text, number));
  }
  return value;
}

}  // namespace

std::vector<Limit> parse_limits(const std::vector<std::string>& texts) {
  std::vector<Limit> limits;
  for (const std::string& text : texts) {
    try {
      limits.push_back(parse_limit(text));
    } catch (const Error& error) {
      throw Error(error.kind(), fmt::format("--limit {}", error.message()));
    }
  }
  return limits;
}

std::string limit_text(const Limit& limit) {
  return fmt::format("{} {} {}", limit.metric->name,
                     limit.metric->more_is_better ? "at least" : "at most", limit.bound);
}

/// An argument as a shell takes it for one word, as it is.
std::string shell_word(const std::string& text) {
  constexpr std::string_view plain =
      "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-+=.,/:%@";
  if (!text.empty() && text.find_first_not_of(plain) == text.npos) return text;
  std::string word = "'";
  for (const char c : text) word += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return word + "'";
}

std::string render_line(const SceneOptions& options,
                        const std::vector<std::pair<std::string, std::string>>& turned) {
  std::string line = "photonlane render " + shell_word(options.scene) + " -o chosen.png";
  if (!options.size.empty()) line += " --size " + shell_word(options.size);
  for (const std::string& door : options.doors) line += " --open " + shell_word(door);
  for (const std::string& set : options.sets) {
    const std::string knob = set.substr(0, set.find('='));
    const bool again = std::any_of(turned.begin(), turned.end(),
                                   [&](const auto& one) { return one.first == knob; });
    if (!again) line += " --set " + shell_word(set);
  }
  for (const auto& [knob, value] : turned) line += " --set " + shell_word(knob + "=" + value);
  return line;
}

std::optional<double> take_time(std::vector<std::string>& limits) {
  std::optional<double> most;
  std::erase_if(limits, [&](const std::string& text) {
    const bool ms = text.starts_with("ms=");
    if (!ms && !text.starts_with("fps=")) return false;
    const double value = number_of(text);
    const double own = ms ? value : 1000 / value;
    most = most ? std::min(*most, own) : own;
    return true;
  });
  return most;
}

std::optional<double> take_number(std::vector<std::string>& limits, const std::string& name) {
  std::optional<double> most;
  std::erase_if(limits, [&](const std::string& text) {
    if (!text.starts_with(name + "=")) return false;
    const double value = number_of(text);
    most = most ? std::min(*most, value) : value;
    return true;
  });
  return most;
}

void warn(const io::SceneFile& file) {
  for (const io::Note& note : file.notes) {
    complain(fmt::format("{}: note: {}", place_text(note.place), note.text));
  }
}

namespace {
std::string own_command_line;
}  // namespace

void keep_command_line(int argc, char** argv) {
  own_command_line = "photonlane";
  for (int i = 1; i < argc; ++i) own_command_line += " " + shell_word(argv[i]);
}
const std::string& command_line() { return own_command_line; }

std::string title_of(const io::SceneFile& file) {
  return file.scene.title.empty() ? file.path : file.scene.title;
}

io::RunFacts facts_of(const io::SceneFile& file, int threads) {
  io::RunFacts facts;
  facts.command = command_line();
  facts.scene = file.path;
  facts.digest = io::scene_digest(file);
  facts.threads = threads;
  return facts;
}

io::RunOptions run_options(int threads, bool resume, ProgressBar& bar) {
  return {.threads = threads, .resume = resume, .facts = {}, .progress = bar.callback()};
}

}  // namespace photonlane::tool
