#pragma once

///   puts(io::machine_name().c_str());

#include <string>

namespace photonlane::io {

/// What machine this is: its processor's name and how many threads it has.
std::string machine_name();

/// Now, as "2026-11-29T19:40:00Z".
std::string date_text();

}  // namespace photonlane::io
