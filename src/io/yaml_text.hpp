#pragma once

#include <string>
#include <string_view>

namespace photonlane::io {

/// Text as a double-quoted YAML scalar that reads back to the same bytes (YAML 1.2, 5.7). Throws
/// Error (usage) for text that is not UTF-8, which YAML cannot hold.
std::string yaml_quoted(std::string_view text);

}  // namespace photonlane::io
