#include "trace/room_view.hpp"

#include <algorithm>

#include "room/portal_faces.hpp"

namespace photonlane {
namespace {

/// Follows portals from a room, and notes the lights of the rooms they lead to.
class ImageFinder {
 public:
  ImageFinder(std::span<const CompiledRoom> rooms, std::vector<LightImage>& images)
      : rooms_(rooms), images_(images) {}

  /// `to_here` brings what is in `room` to where it is seen from the first.
  void follow(std::uint32_t room, std::int32_t came_out, const Similarity& to_here, int left) {
    if (left == 0 || !rooms_[room].portals) return;
    const auto faces = rooms_[room].portals->faces();
    for (std::size_t f = 0; f < faces.size(); ++f) {
      const auto index = static_cast<std::int32_t>(f);
      // Nothing is seen back through where it came out, and stretched lengths bend light.
      if (index == came_out || faces[f].stretched() || faces[f].swell >= 0) continue;
      way_.push_back({room, index});
      const Similarity back = to_here.after(faces[f].map.inverse());
      note(faces[f].room, back);
      follow(faces[f].room, faces[f].twin, back, left - 1);
      way_.pop_back();
    }
  }

 private:
  void note(std::uint32_t room, const Similarity& to_here) {
    const Lighting& light = rooms_[room].light;
    if (light.sun) {
      LightImage image{.of_sun = true,
                       .room = room,
                       .toward = to_here.direction(sun_direction(*light.sun)),
                       .sun_size = light.sun->size,
                       .sun_strength = light.sun->strength,
                       .lamp = {},
                       .way = way_};
      image.lamp.color = light.sun->color;
      images_.push_back(std::move(image));
    }
    for (std::size_t k = 0; k < light.lamps.size(); ++k) {
      const Lamp& lamp = light.lamps[k];
      LightImage image{.of_sun = false,
                       .room = room,
                       .index = static_cast<std::uint32_t>(k),
                       .toward = {0, 0, 1},
                       .lamp = lamp,
                       .way = way_};
      image.lamp.place = to_here.place(lamp.place);
      image.lamp.aim = to_here.place(lamp.aim);
      image.lamp.range *= to_here.scale;
      image.lamp.radius *= to_here.scale;
      image.lamp.power *= to_here.scale * to_here.scale;
      images_.push_back(std::move(image));
    }
  }

  std::span<const CompiledRoom> rooms_;
  std::vector<LightImage>& images_;
  std::vector<FaceOf> way_;
};

/// Where in a room most is seen from: where its first portal lies.
Vec3d middle_of(const CompiledRoom& room) {
  return room.portals && !room.portals->faces().empty() ? room.portals->faces().front().middle
                                                        : Vec3d(0, 0, 0);
}

}  // namespace

const PortalFace& RoomView::face(std::uint32_t item) const { return room.portals->faces()[item]; }

std::vector<RoomView> view_rooms(const World& world, std::span<const CompiledRoom> rooms,
                                 std::size_t eye_room, const Vec3d& eye, const Budget& budget,
                                 double pixel_angle) {
  std::vector<RoomView> views;
  views.reserve(rooms.size());
  for (std::size_t r = 0; r < rooms.size(); ++r) {
    const CompiledRoom& room = rooms[r];
    const Vec3d origin = r == eye_room ? eye : middle_of(room);
    PaintTable paint(
        world.materials(), world.textures(), origin, budget.texture, pixel_angle,
        budget.light.transport == Transport::paths ? 1.0f : static_cast<float>(room.face_shade));
    const auto parts = room.parts();
    paint.clear = paint.clear || std::any_of(parts.begin(), parts.end(), [](const auto& solid) {
                    return solid->covers_in_part();
                  });
    PaintTable shadow_paint = paint;
    shadow_paint.sampling = TextureSampling::nearest;
    const Fog& fog = room.fog;
    views.push_back({room, static_cast<std::uint32_t>(r), origin, paint, std::move(shadow_paint),
                     FogRow{fog.color[0], fog.color[1], fog.color[2], static_cast<float>(fog.start),
                            static_cast<float>(1 / (fog.end - fog.start))},
                     Panels(world, room, origin),
                     OpenMaterials{room.open, world.spent_material()}});
    ImageFinder(rooms, views.back().images)
        .follow(static_cast<std::uint32_t>(r), -1, Similarity{}, budget.light.crossings);
  }
  return views;
}

}  // namespace photonlane
