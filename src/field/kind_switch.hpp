#pragma once

#include "photonlane/base/error.hpp"

#pragma GCC diagnostic error "-Wswitch"

namespace photonlane {

/// Ends a switch over all kinds of fields, which has no default: a kind that is forgotten in one
/// stops the build.
[[noreturn]] inline void refuse_kind() { throw Error(ErrorKind::usage, "a field of no kind"); }

}  // namespace photonlane
