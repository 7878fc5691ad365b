#include "photonlane/base/error.hpp"

#include <fmt/format.h>

namespace photonlane {
namespace {

std::string with_place(const std::string& message, const Place& place) {
  if (place.file.empty()) return message;
  if (place.line <= 0) return fmt::format("{}: {}", place.file, message);
  if (place.column <= 0) return fmt::format("{}:{}: {}", place.file, place.line, message);
  return fmt::format("{}:{}:{}: {}", place.file, place.line, place.column, message);
}

}  // namespace

Error::Error(ErrorKind kind, std::string message, Place place)
    : std::runtime_error(with_place(message, place)),
      kind_(kind),
      place_(std::move(place)),
      message_(std::move(message)) {}

}  // namespace photonlane
