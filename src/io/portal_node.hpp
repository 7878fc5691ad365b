#pragma once

#include "io/document.hpp"
#include "photonlane/room/portal.hpp"

namespace photonlane::io {

/// Reads a portal: one key that is a shape, and what else it is. Throws Error (input) at the place
/// of what is wrong.
Portal read_portal(const Node& node);

/// A portal as YAML that read_portal reads back, an entry of a list `indent` spaces in.
std::string portal_text(const Portal& portal, int indent);

}  // namespace photonlane::io
