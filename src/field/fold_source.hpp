#pragma once

#include <memory>
#include <span>
#include <vector>

#include "photonlane/field/field.hpp"

namespace photonlane {

/// Whether a kind folds space again and again; such fields are made of a source of their own.
bool folds(FieldKind kind);

/// What each step takes up of an iterate's numbers: its kind, and as many as any takes.
inline constexpr std::size_t step_numbers = 1 + FoldStep::most_numbers;

/// The source of a field of such a kind. Throws Error (input) for what cannot be one.
std::shared_ptr<const FieldSource> make_fold_source(FieldKind kind,
                                                    const std::vector<double>& numbers,
                                                    const std::vector<Field>& parts);

/// Where the numbers of a kind that estimates hold how far it can be trusted; -1: nowhere.
int safety_index(FieldKind kind);

/// Values of estimates below this, of half the size of the box around them, are not tried.
inline constexpr double least_tried = 4e-3;

}  // namespace photonlane
