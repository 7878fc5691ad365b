#include "commands.hpp"

#include <fmt/format.h>

#include <charconv>

#include "photonlane/base/error.hpp"

namespace photonlane::tool {

std::size_t memory_of(const std::string& text, std::size_t usual) {
  if (text.empty()) return usual;
  double number = 0;
  const auto result = std::from_chars(text.data(), text.data() + text.size(), number);
  const std::string_view unit(result.ptr,
                              static_cast<std::size_t>(text.data() + text.size() - result.ptr));
  double factor = 0;
  if (unit.empty()) factor = 1;
  if (unit == "K") factor = 0x1p10;
  if (unit == "M") factor = 0x1p20;
  if (unit == "G") factor = 0x1p30;
  const double bytes = number * factor;
  if (result.ec != std::errc() || !(bytes >= 0x1p20) || !(bytes <= 0x1p50)) {
    throw Error(
        ErrorKind::usage,
        fmt::format("--memory {}: expected 1M or more, such as 500M or 2G", text.substr(0, 60)));
  }
  return static_cast<std::size_t>(bytes);
}

}  // namespace photonlane::tool
