#pragma once

#include <cstdint>

#include "photonlane/base/error.hpp"
#include "photonlane/field/field.hpp"

// Also in what includes this: switches over kinds that have no default name all of them.
#pragma GCC diagnostic error "-Wswitch"

namespace photonlane {

/// What a kind of field does to values, beside what its formula says. Every row of the table of
/// kinds has some: they are given there and nowhere else.
enum KindTraits : std::uint8_t {
  plain_values = 0,   ///< as near to distances as those of its parts
  own_stretch = 1,    ///< stretch_of() has a case for it; else that of its parts
  own_looseness = 2,  ///< looseness_of() has a case for it; else that of its parts
  loose_values = 4,   ///< they are no distances on the surface either
  by_sign = 8,        ///< its surface stays where its parts' values become others of the same sign
  folds_space = 16,   ///< it is steps done again and again
  boxed = 32          ///< lanes are followed up to its bounds: its surface is not convex
};
constexpr KindTraits operator|(KindTraits a, KindTraits b) {
  return static_cast<KindTraits>(static_cast<int>(a) | static_cast<int>(b));
}

bool has_trait(FieldKind kind, KindTraits trait);

/// For switches over kinds: what should not come there.
[[noreturn]] inline void refuse_kind() { throw Error(ErrorKind::usage, "a field of no kind"); }

}  // namespace photonlane
