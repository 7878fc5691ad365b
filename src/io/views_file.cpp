#include "photonlane/io/views_file.hpp"

#include <algorithm>

#include "io/camera_node.hpp"
#include "io/files.hpp"
#include "photonlane/io/walk_file.hpp"

namespace photonlane::io {

std::vector<Camera> read_views(const std::string& path, const SceneFile& file, std::size_t most) {
  const Node root = parse_document(read_file(path), path);
  std::vector<Camera> views;
  if (root.find("moves") != nullptr) {
    const WalkScript script = read_walk_script(path, file);
    const World world = compile(file.scene);
    const std::vector<WalkStep> steps = walk(world, file.camera, script);
    const std::size_t count = std::min(most, steps.size());
    for (std::size_t i = 0; i < count; ++i) {
      const std::size_t at = count > 1 ? i * (steps.size() - 1) / (count - 1) : 0;
      views.push_back(camera_at(world, file.camera, steps[at]));
    }
    return views;
  }
  for (const Node& node : root.list("cameras, or a walk script")) {
    Camera& camera = views.emplace_back(file.camera);
    read_camera(node, file.budget.frame.size(), camera);
  }
  if (views.empty()) root.refuse("no camera in the list, expected at least one");
  if (views.size() > 1000) root.refuse("more than 1000 cameras");
  return views;
}

}  // namespace photonlane::io
