#pragma once

///   io::SceneFile file = io::open_scene({.path = "evening.yaml", .size = "640x400",
///                                        .sets = {"bounces.limit=2"}});

#include <string>
#include <string_view>
#include <vector>

#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {

/// A scene file and what is set beside it, as options say it.
struct SceneRequest {
  std::string path;
  std::string size;                ///< "WIDTHxHEIGHT"; empty: the scene's own
  std::vector<std::string> sets;   ///< "KEY=VALUE" for set_by_name()
  std::vector<std::string> doors;  ///< for open_door_by_text()
};

/// Reads a scene and sets all of it, numbers of the scene first. Errors name the option that is
/// wrong: --size, --set or --open.
SceneFile open_scene(const SceneRequest& request);
/// The same for a scene that was read, by whatever way.
SceneFile set_up(SceneFile file, const SceneRequest& request);

/// Sets two numbers from "WIDTHxHEIGHT" by a function that sets one value by its name.
template <class Set>
void set_size(const std::string& text, std::string_view width, std::string_view height,
              const std::string& expected, const Set& set) {
  const auto cross = text.find('x');
  try {
    if (cross == std::string::npos) throw Error(ErrorKind::usage, "");
    set(width, text.substr(0, cross));
    set(height, text.substr(cross + 1));
  } catch (const Error&) {
    throw Error(ErrorKind::usage, "--size: found '" + text + "', expected " + expected);
  }
}

/// Sets values from options "KEY=VALUE" by a function that sets one value by its name.
template <class Set>
void set_all(const std::vector<std::string>& texts, const Set& set) {
  for (const std::string& text : texts) {
    const auto equals = text.find('=');
    const std::string name = text.substr(0, equals);
    try {
      if (equals == std::string::npos) throw Error(ErrorKind::usage, "expected KEY=VALUE");
      set(name, text.substr(equals + 1));
    } catch (const Error& error) {
      throw Error(error.kind(), "--set " + name + ": " + error.message());
    }
  }
}

}  // namespace photonlane::io
