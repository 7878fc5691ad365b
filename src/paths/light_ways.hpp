#pragma once

#include <functional>
#include <span>
#include <vector>

#include "paths/path_lights.hpp"
#include "photonlane/lane/tally.hpp"

namespace photonlane {

/// What is asked of the way to a light.
struct LightQuery {
  Vec3d from{0, 0, 0};
  Vec3f way{0, 0, 1};
  float distance = 0;  ///< of the light; infinite: it is seen where a lane leaves the room
  float scale = 1;     ///< meters in the room for a meter at the eye, at most 1
  std::span<const FaceOf> through{};  ///< portals on the way
  Color light{0, 0, 0};               ///< what arrives where nothing is in the way
  std::uint32_t owner = 0;            ///< whose path it is
  std::uint32_t bounces = 0;          ///< how often it is thrown back
};

/// Finds what arrives of light sought from places of one room: nothing behind what hides it or
/// bends it, less behind panes and in fog. Each query's light is multiplied by that.
void look_for_lights(const SceneView& view, const RoomView& here, std::span<LightQuery> queries,
                     Tally& tally);

}  // namespace photonlane
