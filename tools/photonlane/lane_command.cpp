#include <fmt/format.h>

#include <algorithm>

#include "commands.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "shared.hpp"
#include "terminal.hpp"

namespace photonlane::tool {
namespace {

/// What the pixel's own lane looked into of the voxels of the room it started in.
void show_trees(const LaneCommand& command, const io::SceneFile& file, const LaneLog& log) {
  const bool tell = command.march && !command.common.json && !command.common.quiet;
  if ((!tell && command.tree.empty()) || log.legs.empty()) return;
  const LaneLeg* leg = &log.legs.front();
  for (const LaneLeg& one : log.legs) {
    if (one.from < 0 && one.layers) leg = &one;
  }
  bool shown = false;
  for (const auto& part : file.scene.rooms[leg->room].parts) {
    const auto* const voxels = dynamic_cast<const Voxels*>(part.get());
    if (voxels == nullptr) continue;
    const double length = std::min(leg->length, file.budget.far_limit) * (1 + 1e-6) + 1e-6;
    const Voxels seen = voxels->seen_from(file.camera.eye, file.budget.voxels.wait);
    const auto visits = visit_voxels(seen, leg->place, leg->way, length);
    if (tell) put("voxels on the lane from the eye:\n" + io::visits_text(visits));
    if (command.tree.empty() || shown) continue;
    io::write_png(command.tree, io::visits_picture(seen, visits, leg->place, leg->way, length));
    if (!command.common.json && !command.common.quiet) print("{}\n", command.tree);
    shown = true;
  }
  if (!command.tree.empty() && !shown) {
    throw Error(ErrorKind::usage,
                "--tree: there are no voxels in the room of the lane from the eye");
  }
}

}  // namespace

int run(const LaneCommand& command) {
  if (!command.output.empty()) io::check_output(command.output, {".png"});
  if (!command.tree.empty()) io::check_output(command.tree, {".png"});
  return on_scene(command.common, [&](io::SceneFile& file) {
    const bool has_voxels =
        std::any_of(file.scene.rooms.begin(), file.scene.rooms.end(), [](const Room& room) {
          return std::any_of(room.parts.begin(), room.parts.end(),
                             [](const auto& part) { return part->kind() == "voxels"; });
        });
    if (!command.tree.empty() && !has_voxels) {
      throw Error(ErrorKind::usage, "--tree: the scene has no voxels");
    }
    const auto comma = command.pixel.find(',');
    int place[2] = {0, 0};
    try {
      if (comma == std::string::npos) throw Error(ErrorKind::usage, "");
      const KnobInfo number{"pixel", KnobKind::integer, "", {0, 1'000'000}, {}, ""};
      const std::string parts[2] = {command.pixel.substr(0, comma),
                                    command.pixel.substr(comma + 1)};
      for (int i = 0; i < 2; ++i) detail::assign(place[i], number, parts[i]);
    } catch (const Error&) {
      throw Error(ErrorKind::usage,
                  fmt::format("--pixel {}: expected X,Y, whole numbers from 0 on", command.pixel));
    }
    const World world = compile(file.scene);
    const LaneLog log =
        log_lane(world, file.camera, file.budget, place[0], place[1], {.march = command.march});
    if (command.common.json) {
      put(io::lane_json(log, file.scene, world));
    } else if (!command.common.quiet) {
      put(io::lane_summary(log, file.scene, world,
                           io::frame_steps(world, file.camera, file.budget)));
      if (command.all || command.march) put(io::lane_text(log, file.scene, world));
    }
    show_trees(command, file, log);
    if (command.output.empty()) return success;
    io::PlanOptions options;
    options.rays = 0;
    options.lane = &log;
    io::write_plan(command.output, file, options);
    if (!command.common.json && !command.common.quiet) print("{}\n", command.output);
    return success;
  });
}

}  // namespace photonlane::tool
