#pragma once

#include "shade/shadow.hpp"

namespace photonlane {

/// True where something stands at a place in the map that reaches above a height.
bool stands(const CellMap& map, double x, double y, double height);

/// The light from everywhere at each surface, less what corners keep of it (ambient occlusion), as
/// the budget says: guessed by neighboring cells and by distances, or by rays over the half space.
void add_ambient(const SceneView& view, const RoomView& here, const LightBudget& budget,
                 const PixelPlace& place, const Surfaces& surfaces, Light& light, Tally& tally);

}  // namespace photonlane
