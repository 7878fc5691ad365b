#pragma once

#include <algorithm>
#include <vector>

#include "photonlane/world/world.hpp"

namespace photonlane {

/// A room of a world before, whose solids may be taken over.
struct RoomBefore {
  const CompiledRoom* room = nullptr;
  const RoomSource* source = nullptr;
};

/// Compiles one room into a world in the making: its own materials are put behind those of the
/// world, what it was made of behind the sources. Throws as compile().
CompiledRoom make_room(const Scene& scene, const Room& room, const RoomBefore& before,
                       World::Data& data);

/// What bodies of a room meet; see CompiledRoom::near_field.
void make_near_field(const RoomSource& source, CompiledRoom& room);

/// Throw Error (input) for a texture, or materials, that are not there, and values out of range.
void check_material(const Scene& scene, const Material& material);
void check_form(const CellForm& form, std::size_t materials);

template <class One, class Same>
bool all_same(const std::vector<One>& a, const std::vector<One>& b, const Same& same) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end(), same);
}

}  // namespace photonlane
