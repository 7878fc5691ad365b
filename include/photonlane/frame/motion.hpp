#pragma once

///   add_motion(frame, world, camera, next_world, next_camera);
///   const float right = frame.values(Layer::motion, 0)(x, y);  // pixels until then

#include "photonlane/frame/frame.hpp"
#include "photonlane/world/camera.hpp"
#include "photonlane/world/world.hpp"

namespace photonlane {

/// The layers of a frame that add_motion() goes by.
inline constexpr LayerSet motion_layers{Layer::ray_distance, Layer::cell, Layer::ending,
                                        Layer::crossings};

/// Adds the layer `motion` to a frame: by how many pixels what is seen in the middle of each moves
/// to the right and down until another time, with another camera, another world, or both. The other
/// frame has as many pixels as this one's budget says.
///
/// What the camera's own motion does is exact for all that stands still, through portals that stay
/// where they are as well, and for the sky, which is at infinity. Spheres of the eye's room move
/// with their middles and are taken not to turn, where both worlds have them by the same numbers in
/// exact sets of their own; the sets of one MovingSpheres are one, as it is now. All else is taken
/// to stand still. Infinite for what the other camera cannot see: what is behind it then.
///
/// Throws Error (usage) for frames without those layers, frames of planes, and cameras in different
/// rooms; Error (input) for a camera that cannot be.
void add_motion(Frame& frame, const World& world, const Camera& camera, const World& next,
                const Camera& next_camera);

}  // namespace photonlane
