#pragma once

#include <cstddef>
#include <cstdint>
#include <span>

#include "field/tape.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// Places asked together, one array a coordinate, in meters.
template <class Number>
struct FieldPlaces {
  const Number* x;
  const Number* y;
  const Number* z;
  std::size_t count;
};

template <class Number>
struct FieldGradients {
  Number* x;
  Number* y;
  Number* z;
};

/// What surfaces are made of: `share` of `other`, the rest of `material`; -1 where nothing says.
template <class Number>
struct FieldMaterials {
  std::int32_t* material;
  std::int32_t* other;
  Number* share;
};

/// The field's values at places. Returns how often the tape was evaluated: once for each, and for
/// what of it matters around several.
template <class Number>
std::size_t evaluate_tape(const Tape& tape, const FieldPlaces<Number>& places, Number* values);
/// Values and their derivatives, carried through the tape.
template <class Number>
void differentiate_tape(const Tape& tape, const FieldPlaces<Number>& places, Number* values,
                        const FieldGradients<Number>& gradients);
template <class Number>
void tape_materials(const Tape& tape, const FieldPlaces<Number>& places,
                    const FieldMaterials<Number>& materials);

/// Marches a batch of lanes to where the field's sign changes. Sets everything of the hits that is
/// not of cells; materials are -1 where the field says nothing.
template <class Number>
void march_tape(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget,
                HitBatch<Number>& hits);

class PlaceTree;

/// The same by what matters at each place. `tree` is one of the tape's. Returns how often it was
/// evaluated, but for what trees are made of.
template <class Number>
std::size_t evaluate_by_place(const Tape& tape, PlaceTree& tree, const FieldPlaces<Number>& places,
                              Number* values);
/// Lanes of some batches that are alike but for where they are; `hits` has as many. No more lanes
/// than PlaceLanes holds.
template <class Number>
void march_by_place(const Tape& tape, PlaceTree& tree,
                    std::span<const LaneBatch<Number>* const> lanes, const FieldBudget& budget,
                    std::span<HitBatch<Number>* const> hits);

}  // namespace photonlane
