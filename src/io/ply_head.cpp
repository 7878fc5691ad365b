#include "io/ply_head.hpp"

#include <algorithm>
#include <charconv>

#include "photonlane/base/error.hpp"

namespace photonlane::io {
namespace {

[[noreturn]] void refuse(const std::string& path, const std::string& what, int line) {
  throw Error(ErrorKind::file, what, Place{path, line});
}

}  // namespace

std::size_t bytes_of(SphereNumber type) {
  constexpr std::size_t bytes[] = {4, 8, 1, 2, 4, 1, 2, 4};
  return bytes[static_cast<std::size_t>(type)];
}

PlyHead read_ply_head(const std::string& path, std::string_view text) {
  constexpr std::size_t most_head = 1 << 16;
  text = text.substr(0, most_head);
  PlyHead head;
  std::size_t at = 0;
  bool whole = false;
  while (at < text.size() && !whole) {
    const auto stop = text.find('\n', at);
    if (stop == text.npos) break;
    std::string_view line = text.substr(at, stop - at);
    if (line.ends_with('\r')) line.remove_suffix(1);
    at = stop + 1;
    ++head.lines;
    std::vector<std::string_view> words;
    for (std::size_t from = 0; from < line.size();) {
      const auto first = line.find_first_not_of(" \t", from);
      if (first == line.npos) break;
      const auto last = std::min(line.find_first_of(" \t", first), line.size());
      words.push_back(line.substr(first, last - first));
      from = last;
    }
    if (head.lines == 1) {
      if (line != "ply") refuse(path, "no PLY file: it does not begin with 'ply'", 1);
      continue;
    }
    if (words.empty() || words[0] == "comment" || words[0] == "obj_info") continue;
    if (words[0] == "end_header") {
      whole = true;
    } else if (words[0] == "format" && words.size() >= 2) {
      head.format = words[1];
    } else if (words[0] == "element" && words.size() == 3) {
      PlyHead::Element element{std::string(words[1]), 0, {}, false, head.lines};
      const auto result = std::from_chars(words[2].begin(), words[2].end(), element.count);
      if (result.ec != std::errc() || result.ptr != words[2].end()) {
        refuse(path, fmt::format("'{}', expected how many", words[2].substr(0, 60)), head.lines);
      }
      head.elements.push_back(std::move(element));
    } else if (words[0] == "property" && words.size() >= 3 && !head.elements.empty()) {
      if (words[1] == "list") {
        head.elements.back().lists = true;
        continue;
      }
      static constexpr std::pair<std::string_view, SphereNumber> types[] = {
          {"float", SphereNumber::float32},  {"float32", SphereNumber::float32},
          {"double", SphereNumber::float64}, {"float64", SphereNumber::float64},
          {"uchar", SphereNumber::uint8},    {"uint8", SphereNumber::uint8},
          {"ushort", SphereNumber::uint16},  {"uint16", SphereNumber::uint16},
          {"uint", SphereNumber::uint32},    {"uint32", SphereNumber::uint32},
          {"char", SphereNumber::int8},      {"int8", SphereNumber::int8},
          {"short", SphereNumber::int16},    {"int16", SphereNumber::int16},
          {"int", SphereNumber::int32},      {"int32", SphereNumber::int32}};
      const auto* const found =
          std::find_if(std::begin(types), std::end(types),
                       [&](const auto& one) { return one.first == words[1]; });
      if (found == std::end(types)) {
        refuse(path,
               fmt::format("a property of type '{}', which PLY has not", words[1].substr(0, 60)),
               head.lines);
      }
      head.elements.back().properties.push_back({std::string(words[2]), found->second});
    } else {
      refuse(path,
             fmt::format("'{}', expected format, element, property or end_header",
                         std::string(line.substr(0, 60))),
             head.lines);
    }
  }
  if (!whole) refuse(path, "a head without end_header in its first 65536 bytes", head.lines);
  head.end = at;
  return head;
}

const PlyHead::Element& vertices_of(const std::string& path, const PlyHead& head) {
  for (const PlyHead::Element& element : head.elements) {
    if (element.lists) {
      refuse(path,
             fmt::format("lists in '{}', which {} 'vertex'; expected numbers alone up to there",
                         element.name.substr(0, 60), element.name == "vertex" ? "is" : "is before"),
             element.line);
    }
    if (element.name == "vertex") return element;
  }
  refuse(path, "no element 'vertex' in it", head.lines);
}

std::vector<std::string> names_of(const PlyHead::Element& element) {
  std::vector<std::string> names;
  for (const PlyHead::Property& property : element.properties) names.push_back(property.name);
  return names;
}

}  // namespace photonlane::io
