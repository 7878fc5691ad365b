#include "io/sphere_words.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "io/json.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/words.hpp"

namespace photonlane::io {
namespace {

std::size_t quantity_of(std::string_view key, std::vector<std::string_view> others) {
  const auto& names = choice_names<SphereQuantity>;
  const auto found = std::find(names.begin(), names.end(), key);
  if (found == names.end()) {
    others.insert(others.begin(), names.begin(), names.end());
    throw Error(ErrorKind::input,
                fmt::format("no such quantity '{}'{}", key.substr(0, 60), suggestion(key, others)));
  }
  return static_cast<std::size_t>(found - names.begin());
}

std::uint64_t whole_number(std::string_view key, std::string_view value) {
  std::uint64_t number = 0;
  const auto result = std::from_chars(value.begin(), value.end(), number);
  if (result.ec != std::errc() || result.ptr != value.end() || number > (std::uint64_t{1} << 53)) {
    throw Error(ErrorKind::input,
                fmt::format("{}: '{}', expected a whole number", key, value.substr(0, 60)));
  }
  return number;
}

SphereNumber type_of(std::string_view word) {
  const auto& names = choice_names<SphereNumber>;
  const auto found = std::find(names.begin(), names.end(), word);
  if (found == names.end()) {
    throw Error(ErrorKind::input,
                fmt::format("no such type '{}'{}", word.substr(0, 60), suggestion(word, names)));
  }
  return static_cast<SphereNumber>(found - names.begin());
}

/// Calls each(key, value) for the parts of "key=value,key=value".
template <class Each>
void for_each_pair(std::string_view text, const Each& each) {
  while (!text.empty()) {
    const auto stop = text.find(',');
    const std::string_view pair = text.substr(0, stop);
    const auto equal = pair.find('=');
    if (equal == pair.npos || equal == 0) {
      throw Error(ErrorKind::input, fmt::format("'{}', expected KEY=VALUE", pair.substr(0, 60)));
    }
    each(pair.substr(0, equal), pair.substr(equal + 1));
    text = stop == text.npos ? "" : text.substr(stop + 1);
  }
}

Json facts(const SphereSet& set) {
  const SphereSetCost& cost = set.cost();
  const Bounds bounds = set.bounds();
  const auto point = [](const Vec3d& at) { return Json{at.x(), at.y(), at.z()}; };
  return {{"spheres", set.size()},
          {"bytes", set.bytes()},
          {"bytes_each", static_cast<double>(set.bytes()) / static_cast<double>(set.size())},
          {"exact", set.exact()},
          {"moved", set.moved()},
          {"radius", {set.smallest(), set.largest()}},
          {"low", point(bounds.low)},
          {"high", point(bounds.high)},
          {"colors", set.has_colors()},
          {"materials", set.has_materials()},
          {"seconds",
           {{"reading", cost.reading_s},
            {"sharing", cost.sharing_s},
            {"ordering", cost.ordering_s},
            {"all", cost.whole_s}}},
          {"peak_bytes", cost.peak_bytes},
          {"on_disk", cost.on_disk}};
}

}  // namespace

void set_column(std::string_view quantity, std::string_view name, SphereFiles& files) {
  files.columns[quantity_of(quantity, {})] = name;
}

void set_columns(std::string_view text, SphereFiles& files) {
  for_each_pair(
      text, [&](std::string_view key, std::string_view value) { set_column(key, value, files); });
}

void set_places(std::span<const SphereWord> words, SphereFiles& files, std::size_t& now) {
  SphereField usual{0, 12, SphereNumber::float32};
  for (now = 0; now < words.size(); ++now) {
    const auto& [key, value] = words[now];
    if (key == "stride") usual.stride = whole_number(key, value);
    if (key == "count") files.count = whole_number(key, value);
    if (key == "type") usual.type = type_of(value);
  }
  for (now = 0; now < words.size(); ++now) {
    const std::string_view key = words[now].first;
    std::string_view value = words[now].second;
    if (key == "stride" || key == "count" || key == "type") continue;
    const std::size_t quantity = quantity_of(key, {"stride", "count", "type"});
    SphereField field = usual;
    const auto next = [&] {
      const auto stop = value.find(':');
      const std::string_view word = value.substr(0, stop);
      value = stop == value.npos ? "" : value.substr(stop + 1);
      return word;
    };
    field.offset = whole_number(key, next());
    if (!value.empty()) field.type = type_of(next());
    if (!value.empty()) field.stride = whole_number(key, value);
    files.fields[quantity] = field;
  }
}

void set_record(std::string_view text, SphereFiles& files) {
  std::vector<SphereWord> words;
  for_each_pair(
      text, [&](std::string_view key, std::string_view value) { words.emplace_back(key, value); });
  std::size_t now = 0;
  set_places(words, files, now);
}

std::string place_word(const SphereField& field) {
  return fmt::format("{}:{}:{}", field.offset, name_of(field.type), field.stride);
}

std::string sphere_set_text(const SphereSet& set) {
  const SphereSetCost& cost = set.cost();
  const auto count = static_cast<double>(set.size());
  std::string text =
      fmt::format("{} spheres of radius {:.4g} to {:.4g} m\n{:.1f} MB, {:.2f} bytes each",
                  set.size(), set.smallest(), set.largest(), static_cast<double>(set.bytes()) / 1e6,
                  static_cast<double>(set.bytes()) / count);
  text += set.exact() ? ", exact\n" : fmt::format(", moved by at most {:.2g} m\n", set.moved());
  if (cost.whole_s > 0) {
    text += fmt::format(
        "made in {:.2f} s: read in {:.2f} s, shared out in {:.2f} s, put in order in {:.2f} s; "
        "{:.1f} MB "
        "{} at the most\n",
        cost.whole_s, cost.reading_s, cost.sharing_s, cost.ordering_s,
        static_cast<double>(cost.peak_bytes) / 1e6,
        cost.on_disk ? "of working files" : "of memory");
  }
  return text;
}

std::string sphere_set_json(const SphereSet& set) { return json_text(facts(set)); }

}  // namespace photonlane::io
