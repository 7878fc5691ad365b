#pragma once

#include <memory>

#include "photonlane/field/source.hpp"

namespace photonlane {

// Each throws Error (input) for what cannot be a shape.

std::shared_ptr<const FieldSource> make_function_source(FieldFunction function);
/// The size is of the rectangle, and in z of a height of 1.
std::shared_ptr<const FieldSource> make_height_source(const HeightMap& map, const Vec3d& size);
std::shared_ptr<const FieldSource> make_volume_source(std::shared_ptr<const Volume> volume);

}  // namespace photonlane
