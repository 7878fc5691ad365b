#include "trace/scene_view.hpp"

#include <algorithm>

namespace photonlane {
namespace {

std::shared_ptr<const SceneBefore> scene_before(const SceneView& view, double pixel_angle) {
  const auto lit = [](const std::shared_ptr<const Solid>& solid) { return solid->already_lit(); };
  const auto rooms = view.world.rooms();
  if (std::none_of(rooms.begin(), rooms.end(), [&](const CompiledRoom& room) {
        return std::any_of(room.parts().begin(), room.parts().end(), lit);
      })) {
    return nullptr;
  }
  auto before = std::make_shared<SceneBefore>();
  for (const CompiledRoom& room : rooms) {
    CompiledRoom bare = room;
    std::erase_if(bare.solids, [&](const auto& solid) { return !lit(solid); });
    bare.has_cells = false;
    bare.field_count = 0;
    bare.near_field = nullptr;
    bare.sprites.clear();
    before->rooms.push_back(std::move(bare));
  }
  before->view.emplace(SceneView{
      view.world, view.budget, view.eye,
      view_rooms(view.world, before->rooms, view.eye_room, view.eye, view.budget, pixel_angle),
      view.eye_room});
  return before;
}

}  // namespace

SceneView view_scene(const World& world, const Camera& camera, const Budget& budget) {
  const std::size_t eye_room = world.room_index(camera.room);
  const double pixel_angle = 1 / viewing(camera, budget.frame.size()).focal;
  SceneView view{world, budget, camera.eye,
                 view_rooms(world, world.rooms(), eye_room, camera.eye, budget, pixel_angle),
                 eye_room};
  const auto some = [&](const auto& is) {
    return std::any_of(world.materials().begin(), world.materials().end(), is);
  };
  view.wet = budget.light.wet_floor != WetFloor::none &&
             some([](const Material& material) { return material.wetness > 0; });
  view.glossy = some([](const Material& material) { return material.glossy(); });
  view.emits = some([](const Material& material) { return (material.emission > 0).any(); });
  view.patterned =
      some([](const Material& material) { return material.pattern != SurfacePattern::none; });
  view.panels = std::any_of(view.rooms.begin(), view.rooms.end(),
                            [](const RoomView& room) { return !room.panels.empty(); });
  view.portals = std::any_of(view.rooms.begin(), view.rooms.end(),
                             [](const RoomView& room) { return room.room.portals != nullptr; });
  view.marches = std::any_of(view.rooms.begin(), view.rooms.end(),
                             [](const RoomView& room) { return !room.room.others().empty(); });
  for (const RoomView& room : view.rooms) {
    const auto others = room.room.others();
    view.gains = view.gains || std::any_of(others.begin(), others.end(), [](const auto& solid) {
                   return solid->gains_by_company();
                 });
  }
  view.before = scene_before(view, pixel_angle);
  return view;
}

}  // namespace photonlane
