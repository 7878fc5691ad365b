#pragma once

///   const Volume volume = sample_volume(made, {.points = 64});
///   scene.room().add(field::volume(std::make_shared<const Volume>(volume)));

#include "photonlane/field/compiled_field.hpp"

namespace photonlane {

/// How a field becomes a volume.
struct VolumeRecipe {
  int points = 64;       ///< along the longest side of its box
  double padding = 0.1;  ///< meters around the field's bounds
  VolumeStorage storage = VolumeStorage::floats;
};
std::span<const Knob<VolumeRecipe>> volume_recipe_knobs();
template <>
inline constexpr std::array<std::string_view, 3> choice_names<VolumeStorage>{"floats", "words",
                                                                             "bytes"};

/// How far the distances of a volume are from the field's own, at places drawn at random.
struct VolumeError {
  double rms = 0;         ///< meters, within two cells of the surface
  double largest = 0;     ///< meters, there
  double everywhere = 0;  ///< meters, the largest in the whole box
  double cell = 0;        ///< meters: the lattice's spacing
  double stretch = 1;     ///< of the volume as a shape
};

/// Samples a field. Throws Error (input) for fields without end and values out of range, and
/// (memory) where it would take more than `memory_limit` bytes while it is made.
Volume sample_volume(const Field& field, const VolumeRecipe& recipe = {},
                     std::size_t memory_limit = std::size_t{4} << 30);
VolumeError volume_error(const Volume& volume, const Field& field, std::size_t places = 100000);

}  // namespace photonlane
