#pragma once

/// The surface of a plate as a field, for smooth joins with what is only depth:
///
///   const Field wall = plate_field(plate, {{4, -1, 0}, {6, 1, 2}});
///   const Volume volume = sample_volume(wall, {.points = 96});  // quick to march
///   scene.room().add(field::join(0.2, {field::volume(std::make_shared<Volume>(volume)), moss}));

#include "photonlane/base/bounds.hpp"
#include "photonlane/field/field.hpp"
#include "photonlane/plates/plate.hpp"

namespace photonlane {

/// What stands in a plate within a box, `thickness` deep, by its facets and the sides of what
/// stands before something farther off: distances to those are exact, up to where the box ends.
/// Each question looks through a tree of them, which takes some microseconds: for fields that are
/// marched, sample it (sample_volume(), `photonlane make volume --plate`; volume_error() says what
/// that costs). Throws as Plate::compile(), and Error (input) for boxes without size and boxes in
/// which nothing stands.
Field plate_field(const Plate& plate, const Bounds& box);

}  // namespace photonlane
