#pragma once

#include <nlohmann/json.hpp>
#include <string>
#include <string_view>

// Compiled once, in json.cpp: each file that made it for itself took seconds.
extern template class nlohmann::basic_json<nlohmann::ordered_map>;

namespace photonlane::io {

using Json = nlohmann::ordered_json;

/// JSON, two spaces a level, with a last line feed. Bytes that are not UTF-8 (of file names) become
/// U+FFFD.
std::string json_text(const Json& json);

/// What a text says. Throws Json::exception where it is no JSON.
Json parse_json(std::string_view text);

}  // namespace photonlane::io
