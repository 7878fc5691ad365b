#include "photonlane/base/error.hpp"

#include <fmt/format.h>

#include "photonlane/base/words.hpp"

namespace photonlane {
namespace {

std::string with_place(const std::string& message, const Place& place) {
  if (place.file.empty()) return message;
  return fmt::format("{}: {}", place_text(place), message);
}

}  // namespace

std::string place_text(const Place& place) {
  std::string text = one_line(place.file);
  if (place.line > 0) text += fmt::format(":{}", place.line);
  if (place.line > 0 && place.column > 0) text += fmt::format(":{}", place.column);
  return text;
}

Error::Error(ErrorKind kind, std::string message, Place place)
    : std::runtime_error(with_place(one_line(message), place)),
      kind_(kind),
      place_(std::move(place)),
      message_(one_line(message)) {}

}  // namespace photonlane
