#include "photonlane/io/scene_request.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace photonlane::io {

SceneFile open_scene(const SceneRequest& request) {
  return set_up(read_scene(request.path), request);
}

SceneFile set_up(SceneFile file, const SceneRequest& request) {
  const auto set = [&](std::string_view name, std::string_view value) {
    set_by_name(file, name, value);
  };

  // Numbers of the scene first, since they read it again.
  const auto of_scene = [](const std::string& one) { return one.starts_with("scene."); };
  std::vector<std::string> sets = request.sets;
  const auto rest = std::stable_partition(sets.begin(), sets.end(), of_scene);
  set_all({sets.begin(), rest}, set);
  if (!request.size.empty()) {
    set_size(request.size, "frame.width", "frame.height",
             "WIDTHxHEIGHT in pixels, 1 to 1000000 each", set);
  }
  set_all({rest, sets.end()}, set);
  for (const std::string& text : request.doors) {
    try {
      open_door_by_text(file, text);
    } catch (const Error& error) {
      throw Error(error.kind(), fmt::format("--open {}: {}", text, error.message()));
    }
  }
  return file;
}

}  // namespace photonlane::io
