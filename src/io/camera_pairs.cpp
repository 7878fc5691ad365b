#include "photonlane/io/camera_pairs.hpp"

#include <fmt/format.h>

#include <cctype>
#include <charconv>

#include "io/files.hpp"
#include "io/json.hpp"
#include "io/text_table.hpp"
#include "io/yaml_text.hpp"
#include "photonlane/base/words.hpp"

namespace photonlane::io {
namespace {

constexpr std::string_view between = ", \t\r;";

/// The five numbers of a line; none where it is names.
std::optional<PlateMark> read_pair(std::string_view line, bool first, const Place& place) {
  double numbers[5];
  std::size_t count = 0;
  for (std::size_t at = line.find_first_not_of(between); at != line.npos;
       at = line.find_first_not_of(between, at)) {
    const std::size_t stop = std::min(line.find_first_of(between, at), line.size());
    const std::string_view word = line.substr(at, stop - at);
    const auto refuse = [&](const std::string& what) {
      throw Error(ErrorKind::input, what, Place{place.file, place.line, static_cast<int>(at) + 1});
    };
    if (count == 5) refuse("a sixth value, expected five: pixel x, pixel y, x, y, z");
    const char* const end = word.data() + word.size();
    const auto [read, problem] = std::from_chars(word.data(), end, numbers[count]);
    if (problem != std::errc() || read != end) {
      if (first && count == 0 && std::isalpha(static_cast<unsigned char>(word[0])) != 0) return {};
      refuse(
          fmt::format("found '{}', expected a number", one_line(std::string(word.substr(0, 60)))));
    }
    ++count;
    at = stop;
  }
  if (count != 5) {
    throw Error(ErrorKind::input,
                fmt::format("{} values, expected five: pixel x, pixel y, x, y, z", count), place);
  }
  return PlateMark{numbers[0], numbers[1], {numbers[2], numbers[3], numbers[4]}};
}

}  // namespace

std::vector<PlateMark> read_pairs(const std::string& path) {
  const std::string text = read_file(path);
  std::vector<PlateMark> pairs;
  Place place{path, 0, 1};
  bool first = true;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t stop = std::min(text.find('\n', at), text.size());
    const std::string_view line = std::string_view(text).substr(at, stop - at);
    at = stop + 1;
    ++place.line;
    const std::size_t begin = line.find_first_not_of(between);
    if (begin == line.npos || line[begin] == '#') continue;
    if (const std::optional<PlateMark> pair = read_pair(line, first, place)) {
      pairs.push_back(*pair);
    }
    first = false;
  }
  return pairs;
}

std::string match_text(const CameraMatch& match, std::span<const PlateMark> pairs) {
  std::string text = "camera:\n" + changed_lines(camera_knobs(), match.camera, 2);
  text += fmt::format(
      "{:.3g} pixels off, root mean square of {} pairs; eye +- [{:.2g}, {:.2g}, {:.2g}] m, "
      "direction +- {:.2g} degrees, field of view +- {:.2g} degrees\n",
      match.rms, pairs.size() - match.outliers.size(), match.eye_spread[0], match.eye_spread[1],
      match.eye_spread[2], match.turn_spread, match.field_spread);
  std::vector<std::vector<std::string>> rows{
      {"pair", "pixel x", "pixel y", "x", "y", "z", "off", ""}};
  for (std::size_t k = 0; k < pairs.size(); ++k) {
    const bool out =
        std::find(match.outliers.begin(), match.outliers.end(), k) != match.outliers.end();
    const PlateMark& pair = pairs[k];
    rows.push_back({std::to_string(k + 1), fmt::format("{:.6g}", pair.x),
                    fmt::format("{:.6g}", pair.y), fmt::format("{:.6g}", pair.place.x()),
                    fmt::format("{:.6g}", pair.place.y()), fmt::format("{:.6g}", pair.place.z()),
                    fmt::format("{:.3f}", match.errors[k]), out ? "outlier" : ""});
  }
  text += aligned(rows, {.left = {7}});
  for (const std::string& one : match.unsure) text += "not told: " + one + "\n";
  return text;
}

std::string match_json(const CameraMatch& match, std::span<const PlateMark> pairs) {
  Json camera;
  for (const Knob<Camera>& entry : camera_knobs()) {
    camera[std::string(entry.info.name)] = knob_text(entry, match.camera);
  }
  Json list = Json::array();
  for (std::size_t k = 0; k < pairs.size(); ++k) {
    const bool out =
        std::find(match.outliers.begin(), match.outliers.end(), k) != match.outliers.end();
    const PlateMark& pair = pairs[k];
    list.push_back({{"pixel", {pair.x, pair.y}},
                    {"place", {pair.place.x(), pair.place.y(), pair.place.z()}},
                    {"off", match.errors[k]},
                    {"outlier", out}});
  }
  return json_text({{"camera", camera},
                    {"rms", match.rms},
                    {"eye_spread", match.eye_spread},
                    {"turn_spread", match.turn_spread},
                    {"field_spread", match.field_spread},
                    {"unsure", match.unsure},
                    {"pairs", list}});
}

}  // namespace photonlane::io
