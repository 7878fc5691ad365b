#include "io/sphere_sources.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <glob.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <bit>
#include <cerrno>
#include <charconv>
#include <cmath>
#include <cstring>

#include "io/files.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/words.hpp"

namespace photonlane::io {
namespace {

static_assert(std::endian::native == std::endian::little);

constexpr auto& quantity_names = choice_names<SphereQuantity>;

constexpr std::size_t index(SphereQuantity quantity) { return static_cast<std::size_t>(quantity); }
constexpr std::size_t color_first = index(SphereQuantity::red);
constexpr std::size_t material_index = index(SphereQuantity::material);

[[noreturn]] void refuse(const std::string& path, const std::string& what, int line = 0) {
  throw Error(ErrorKind::file, what, Place{path, line});
}

std::size_t bytes_of(SphereNumber type) {
  constexpr std::size_t bytes[] = {4, 8, 1, 2, 4, 1, 2, 4};
  return bytes[static_cast<std::size_t>(type)];
}

template <class Value>
double load(const char* at, bool turned) {
  char bytes[sizeof(Value)];
  std::memcpy(bytes, at, sizeof(Value));
  if (turned) std::reverse(bytes, bytes + sizeof(Value));
  Value value;
  std::memcpy(&value, bytes, sizeof(Value));
  return static_cast<double>(value);
}

double number_at(const char* at, SphereNumber type, bool turned) {
  switch (type) {
    case SphereNumber::float32:
      return load<float>(at, turned);
    case SphereNumber::float64:
      return load<double>(at, turned);
    case SphereNumber::uint8:
      return load<std::uint8_t>(at, turned);
    case SphereNumber::uint16:
      return load<std::uint16_t>(at, turned);
    case SphereNumber::uint32:
      return load<std::uint32_t>(at, turned);
    case SphereNumber::int8:
      return load<std::int8_t>(at, turned);
    case SphereNumber::int16:
      return load<std::int16_t>(at, turned);
    case SphereNumber::int32:
      return load<std::int32_t>(at, turned);
  }
  return 0;
}

/// Part of a file with its spheres.
class SphereFile {
 public:
  SphereFile(std::string path, const SphereFiles& files)
      : map_(path), radius_(files.radius), scale_(files.scale) {}
  virtual ~SphereFile() = default;
  virtual std::size_t stretches() const = 0;
  virtual void read(std::size_t stretch,
                    const std::function<void(const SphereRun&)>& take) const = 0;
  virtual std::string name(std::size_t stretch, std::uint64_t index) const = 0;
  bool has(SphereQuantity quantity) const { return there_[index(quantity)]; }
  bool has_colors() const { return there_[color_first]; }
  const std::string& path() const { return map_.path(); }

 protected:
  /// Puts a sphere's numbers into place i of a run.
  void put(const double* numbers, SphereRun& run, std::size_t i) const {
    run.x[i] = numbers[0] * scale_;
    run.y[i] = numbers[1] * scale_;
    run.z[i] = numbers[2] * scale_;
    run.radius[i] = (there_[3] ? numbers[3] : radius_) * scale_;
    if (there_[color_first]) {
      std::uint32_t color = 0;
      for (std::size_t k = 0; k < 3; ++k) {
        // What is no number becomes 0.
        const double level = numbers[color_first + k] * color_scale_[k] + 0.5;
        const auto byte = static_cast<std::uint32_t>(level > 0 ? std::min(level, 255.0) : 0.0);
        color = (color << 8) | byte;
      }
      run.color[i] = color;
    }
    if (there_[material_index]) {
      const double number = numbers[material_index];
      const bool whole = number >= 0 && number <= 65535 && number == std::floor(number);
      run.material[i] = whole ? static_cast<std::uint32_t>(number) : 0xffffffffu;
    }
  }
  /// Which columns the quantities are in; refuses what is asked for and not there.
  void find_columns(const std::vector<std::string>& names, const SphereFiles& files, int line) {
    for (std::size_t q = 0; q < sphere_quantities; ++q) {
      const bool asked = !files.columns[q].empty();
      const std::string wanted = asked ? files.columns[q] : std::string(quantity_names[q]);
      const auto found = std::find(names.begin(), names.end(), wanted);
      there_[q] = found != names.end();
      column_[q] = static_cast<std::size_t>(found - names.begin());
      if (there_[q] || !(asked || q < 3)) continue;
      std::vector<std::string_view> known(names.begin(), names.end());
      refuse(path(),
             fmt::format("no '{}' among its columns, expected it for {}{}", wanted.substr(0, 60),
                         quantity_names[q], suggestion(wanted, known)),
             line);
    }
    const int colors = there_[4] + there_[5] + there_[6];
    if (colors != 0 && colors != 3) {
      refuse(path(), "some of red, green and blue, expected all of them or none", line);
    }
  }

  MappedFile map_;
  double radius_;
  double scale_;
  std::array<bool, sphere_quantities> there_{};
  std::array<std::size_t, sphere_quantities> column_{};
  std::array<double, 3> color_scale_{1, 1, 1};
};

/// Records of one length.
class RecordFile : public SphereFile {
 public:
  using SphereFile::SphereFile;
  std::size_t stretches() const override {
    return static_cast<std::size_t>(
        std::max<std::uint64_t>(1, (count_ + per_stretch - 1) / per_stretch));
  }
  std::string name(std::size_t stretch, std::uint64_t at) const override {
    return fmt::format("{}: sphere {}", place_text({path()}), stretch * per_stretch + at + 1);
  }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    const std::uint64_t first = stretch * per_stretch;
    const std::uint64_t last = std::min(count_, first + per_stretch);
    SphereRun run;
    run.count = 0;
    double numbers[sphere_quantities] = {};
    for (std::uint64_t i = first; i < last; ++i) {
      for (std::size_t q = 0; q < sphere_quantities; ++q) {
        if (!there_[q]) continue;
        numbers[q] = number_at(map_.data() + fields_[q].offset + i * fields_[q].stride,
                               fields_[q].type, turned_);
      }
      put(numbers, run, run.count);
      if (++run.count < SphereRun::capacity && i + 1 < last) continue;
      take(run);
      run.count = 0;
    }
    if (!fields_[0].stride) return;
    const std::uint64_t stride = fields_[0].stride;
    map_.done_with(fields_[0].offset + first * stride, fields_[0].offset + last * stride);
  }

 protected:
  static constexpr std::uint64_t per_stretch = std::uint64_t{1} << 22;
  std::uint64_t count_ = 0;
  std::array<SphereField, sphere_quantities> fields_{};
  bool turned_ = false;  ///< the byte order is the other one
};

/// Numbers that the caller knows the places of.
class RawFile final : public RecordFile {
 public:
  RawFile(const std::string& path, const SphereFiles& files) : RecordFile(path, files) {
    std::uint64_t fits = ~std::uint64_t{0};
    for (std::size_t q = 0; q < sphere_quantities; ++q) {
      there_[q] = files.fields[q].has_value();
      if (!there_[q]) continue;
      const SphereField& field = *files.fields[q];
      fields_[q] = field;
      const std::uint64_t bytes = bytes_of(field.type);
      const std::uint64_t here =
          map_.size() < field.offset || map_.size() - field.offset < bytes || field.stride == 0
              ? 0
              : (map_.size() - field.offset - bytes) / field.stride + 1;
      fits = std::min(fits, here);
    }
    for (std::size_t q = 0; q < 3; ++q) {
      if (!there_[q])
        throw Error(ErrorKind::input, fmt::format("no place for {} is given", quantity_names[q]));
    }
    for (std::size_t k = 0; k < 3; ++k) {
      if (!there_[color_first + k]) continue;
      const SphereNumber type = fields_[color_first + k].type;
      const bool real = type == SphereNumber::float32 || type == SphereNumber::float64;
      color_scale_[k] = real ? 255 : type == SphereNumber::uint16 ? 255.0 / 65535 : 1;
    }
    if (files.count > fits) {
      refuse(path,
             fmt::format("{} spheres in {} bytes, expected {}", fits, map_.size(), files.count));
    }
    count_ = files.count > 0 ? files.count : fits;
    if (count_ == 0) refuse(path, fmt::format("no sphere in {} bytes", map_.size()));
  }
};

/// Lines of numbers.
class LineFile : public SphereFile {
 public:
  using SphereFile::SphereFile;
  std::size_t stretches() const override { return starts_.size() - 1; }
  std::string name(std::size_t stretch, std::uint64_t at) const override {
    // Only asked for by messages.
    std::uint64_t seen = 0;
    const char* place = map_.data() + starts_[stretch];
    const char* const end = map_.data() + starts_[stretch + 1];
    while (place < end) {
      const char* const stop = line_end(place, end);
      if (!blank(place, stop) && seen++ == at) break;
      place = std::min(stop + 1, end);
    }
    return place_text({path(), line_of(place)});
  }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    SphereRun run;
    run.count = 0;
    const char* place = map_.data() + starts_[stretch];
    const char* const end = map_.data() + starts_[stretch + 1];
    double numbers[sphere_quantities] = {};
    std::uint64_t left = most_lines_;
    while (place < end && left > 0) {
      const char* const stop = line_end(place, end);
      if (!blank(place, stop)) {
        parse(place, stop, numbers);
        --left;
        put(numbers, run, run.count);
        if (++run.count == SphereRun::capacity) {
          take(run);
          run.count = 0;
        }
      }
      place = stop + 1;
    }
    if (run.count > 0) take(run);
    map_.done_with(starts_[stretch], starts_[stretch + 1]);
  }

 protected:
  static const char* line_end(const char* place, const char* end) {
    const void* const found = std::memchr(place, '\n', static_cast<std::size_t>(end - place));
    return found == nullptr ? end : static_cast<const char*>(found);
  }
  bool blank(const char* place, const char* stop) const {
    while (place < stop && (*place == ' ' || *place == '\t' || *place == '\r')) ++place;
    return place == stop || (comments_ && *place == '#');
  }
  int line_of(const char* place) const {
    return 1 + static_cast<int>(std::count(map_.data(), place, '\n'));
  }
  void cut_up(std::uint64_t first) {
    constexpr std::uint64_t length = std::uint64_t{1} << 25;
    starts_ = {first};
    while (map_.size() - starts_.back() > length && most_lines_ == unlimited) {
      const char* const end = map_.data() + map_.size();
      const char* const stop = line_end(map_.data() + starts_.back() + length, end);
      const auto next = static_cast<std::uint64_t>(stop - map_.data()) + 1;
      if (next >= map_.size()) break;
      starts_.push_back(next);
    }
    starts_.push_back(map_.size());
  }
  void parse(const char* place, const char* stop, double* numbers) const {
    std::size_t column = 0;
    std::size_t found = 0;
    const char* const line = place;
    const auto refuse_here = [&](const std::string& what) { refuse(path(), what, line_of(line)); };
    while (place <= stop) {
      while (place < stop && (*place == ' ' || *place == '\t' || *place == '\r')) ++place;
      if (place == stop && separator_ == ' ') break;
      const char* last = place;
      while (last < stop && *last != separator_ &&
             !(separator_ == ' ' && (*last == '\t' || *last == '\r'))) {
        ++last;
      }
      for (std::size_t q = 0; q < sphere_quantities; ++q) {
        if (!there_[q] || column_[q] != column) continue;
        const char* trimmed = last;
        while (trimmed > place &&
               (trimmed[-1] == ' ' || trimmed[-1] == '\r' || trimmed[-1] == '\t')) {
          --trimmed;
        }
        const char* const from = place < trimmed && *place == '+' ? place + 1 : place;
        const auto result = std::from_chars(from, trimmed, numbers[q]);
        if (result.ec != std::errc() || result.ptr != trimmed) {
          refuse_here(fmt::format(
              "'{}', expected a number for {}",
              std::string(place,
                          std::min<std::size_t>(static_cast<std::size_t>(trimmed - place), 60)),
              quantity_names[q]));
        }
        ++found;
      }
      ++column;
      if (last >= stop) break;
      place = last + 1;
    }
    std::size_t needed = 0;
    std::size_t last_column = 0;
    for (std::size_t q = 0; q < sphere_quantities; ++q) {
      if (!there_[q]) continue;
      ++needed;
      last_column = std::max(last_column, column_[q]);
    }
    if (found < needed) {
      refuse_here(
          fmt::format("a line of {} numbers, expected {} or more", column, last_column + 1));
    }
  }

  static constexpr std::uint64_t unlimited = ~std::uint64_t{0};
  std::vector<std::uint64_t> starts_;
  std::uint64_t most_lines_ = unlimited;
  char separator_ = ' ';
  bool comments_ = true;
};

/// A table whose first line names its columns.
class CsvFile final : public LineFile {
 public:
  CsvFile(const std::string& path, const SphereFiles& files) : LineFile(path, files) {
    const char* place = map_.data();
    const char* const end = place + map_.size();
    // A byte order mark is none of a name.
    if (map_.size() >= 3 && std::memcmp(place, "\xef\xbb\xbf", 3) == 0) place += 3;
    while (place < end && blank(place, line_end(place, end)))
      place = std::min(end, line_end(place, end) + 1);
    if (place == end) refuse(path, "no line in it, expected the names of its columns");
    const char* const stop = line_end(place, end);
    const std::string_view head(place, static_cast<std::size_t>(stop - place));
    for (const char separator : {';', '\t', ','}) {
      if (head.find(separator) != head.npos) separator_ = separator;
    }
    std::vector<std::string> names;
    std::string_view rest = head;
    for (;;) {
      const auto next = rest.find(separator_);
      std::string_view own = rest.substr(0, next);
      constexpr std::string_view around = " \t\r\"";
      const auto first = own.find_first_not_of(around);
      own = first == own.npos ? "" : own.substr(first, own.find_last_not_of(around) - first + 1);
      if (!own.empty() || separator_ != ' ') names.emplace_back(own);
      if (next == rest.npos) break;
      rest.remove_prefix(next + 1);
    }
    find_columns(names, files, line_of(place));
    cut_up(
        std::min<std::uint64_t>(map_.size(), static_cast<std::uint64_t>(stop - map_.data()) + 1));
  }
};

/// What stands before a PLY's numbers.
struct PlyHead {
  struct Property {
    std::string name;
    SphereNumber type;
  };
  struct Element {
    std::string name;
    std::uint64_t count = 0;
    std::vector<Property> properties;
    bool lists = false;
    int line = 0;
    std::uint64_t bytes() const {
      std::uint64_t sum = 0;
      for (const Property& property : properties) sum += bytes_of(property.type);
      return sum;
    }
  };
  std::string format;
  std::vector<Element> elements;
  std::uint64_t end = 0;  ///< bytes of the head
  int lines = 0;
};

PlyHead read_head(const std::string& path, std::string_view text) {
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

double color_scale(SphereNumber type) {
  const bool real = type == SphereNumber::float32 || type == SphereNumber::float64;
  return real ? 255 : type == SphereNumber::uint16 ? 255.0 / 65535 : 1;
}

class PlyBinary final : public RecordFile {
 public:
  PlyBinary(const std::string& path, const SphereFiles& files) : RecordFile(path, files) {
    const PlyHead head = read_head(path, {map_.data(), map_.size()});
    const PlyHead::Element& vertices = vertices_of(path, head);
    find_columns(names_of(vertices), files, vertices.line);
    turned_ = head.format == "binary_big_endian";
    std::uint64_t first = head.end;
    for (const PlyHead::Element& element : head.elements) {
      const std::uint64_t bytes = element.bytes();
      const std::uint64_t fits = bytes == 0 ? element.count : (map_.size() - first) / bytes;
      if (element.count > fits) {
        refuse(path, fmt::format("ends after {} of {} of '{}'", fits, element.count,
                                 element.name.substr(0, 60)));
      }
      if (&element == &vertices) break;
      first += element.count * bytes;
    }
    count_ = vertices.count;
    std::uint64_t offset = 0;
    for (std::size_t p = 0; p < vertices.properties.size(); ++p) {
      const SphereNumber type = vertices.properties[p].type;
      for (std::size_t q = 0; q < sphere_quantities; ++q) {
        if (!there_[q] || column_[q] != p) continue;
        fields_[q] = {first + offset, vertices.bytes(), type};
        if (q >= color_first && q < material_index)
          color_scale_[q - color_first] = color_scale(type);
      }
      offset += bytes_of(type);
    }
  }
};

class PlyText final : public LineFile {
 public:
  PlyText(const std::string& path, const SphereFiles& files) : LineFile(path, files) {
    const PlyHead head = read_head(path, {map_.data(), map_.size()});
    const PlyHead::Element& vertices = vertices_of(path, head);
    find_columns(names_of(vertices), files, vertices.line);
    for (std::size_t k = 0; k < 3; ++k) {
      if (there_[color_first + k])
        color_scale_[k] = color_scale(vertices.properties[column_[color_first + k]].type);
    }
    comments_ = false;
    std::uint64_t first = head.end;
    const char* const end = map_.data() + map_.size();
    for (const PlyHead::Element& element : head.elements) {
      if (&element == &vertices) break;
      for (std::uint64_t i = 0; i < element.count && first < map_.size(); ++i) {
        first = std::min<std::uint64_t>(
            map_.size(),
            static_cast<std::uint64_t>(line_end(map_.data() + first, end) - map_.data()) + 1);
      }
    }
    count_ = vertices.count;
    // With something behind the vertices, they are counted off.
    if (&vertices != &head.elements.back()) most_lines_ = vertices.count;
    cut_up(first);
  }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    std::uint64_t seen = 0;
    LineFile::read(stretch, [&](const SphereRun& run) {
      seen += run.count;
      take(run);
    });
    // The second time through what is added up is as much again.
    const std::uint64_t all = seen_ += seen;
    if (++done_ % stretches() == 0 && all % std::max<std::uint64_t>(count_, 1) != 0) {
      refuse(path(), fmt::format("{} lines of vertices, expected {}", all, count_));
    }
  }

 private:
  std::uint64_t count_ = 0;
  mutable std::atomic<std::uint64_t> seen_ = 0;
  mutable std::atomic<std::uint64_t> done_ = 0;
};

/// Spheres of a set that was put in order before.
class StoredFile final : public SphereFile {
 public:
  StoredFile(const std::string& path, const SphereFiles& files)
      : SphereFile(path, files), set_(map_spheres(path)) {
    there_.fill(false);
    for (std::size_t q = 0; q < 4; ++q) there_[q] = true;
    for (std::size_t q = color_first; q < material_index; ++q) there_[q] = set_->has_colors();
    there_[material_index] = set_->has_materials();
  }
  std::size_t stretches() const override {
    return static_cast<std::size_t>((set_->items() + per_stretch - 1) / per_stretch);
  }
  std::string name(std::size_t stretch, std::uint64_t at) const override {
    return fmt::format("{}: sphere {}", place_text({path()}), stretch * per_stretch + at);
  }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    const std::uint64_t first = stretch * per_stretch;
    const std::uint64_t last = std::min(set_->items(), first + per_stretch);
    SphereRun run;
    run.count = 0;
    for (std::uint64_t item = first; item < last; ++item) {
      if (!set_->is_item(item)) continue;
      const Sphere sphere = set_->sphere(item);
      double numbers[sphere_quantities] = {sphere.center.x(), sphere.center.y(), sphere.center.z(),
                                           sphere.radius};
      if (set_->has_colors()) {
        const std::uint32_t color = set_->color(item);
        numbers[4] = color >> 16;
        numbers[5] = color >> 8 & 255;
        numbers[6] = color & 255;
      }
      numbers[7] = sphere.material >= 0 ? sphere.material : 65535;
      put(numbers, run, run.count);
      if (++run.count < SphereRun::capacity) continue;
      take(run);
      run.count = 0;
    }
    if (run.count > 0) take(run);
  }

 private:
  static constexpr std::uint64_t per_stretch = std::uint64_t{1} << 22;
  std::shared_ptr<const SphereSet> set_;
};

std::unique_ptr<SphereFile> open_one(const std::string& path, const SphereFiles& files) {
  if (files.raw()) return std::make_unique<RawFile>(path, files);
  if (ends_with(path, ".csv")) return std::make_unique<CsvFile>(path, files);
  if (ends_with(path, ".spheres")) return std::make_unique<StoredFile>(path, files);
  if (!ends_with(path, ".ply")) {
    refuse(path, "expected .ply, .csv or .spheres, or where its numbers lie");
  }
  const MappedFile map(path);
  const PlyHead head = read_head(path, {map.data(), map.size()});
  if (head.format == "ascii") return std::make_unique<PlyText>(path, files);
  if (head.format != "binary_little_endian" && head.format != "binary_big_endian") {
    refuse(path, fmt::format("a PLY of format '{}', expected ascii, binary_little_endian or "
                             "binary_big_endian",
                             head.format.substr(0, 60)));
  }
  return std::make_unique<PlyBinary>(path, files);
}

class SeveralFiles final : public SphereSource {
 public:
  explicit SeveralFiles(const SphereFiles& files) {
    for (const std::string& path : fitting_files(files.paths)) {
      files_.push_back(open_one(path, files));
      for (std::size_t i = 0; i < files_.back()->stretches(); ++i) {
        stretches_.push_back({files_.back().get(), i});
      }
    }
    for (const auto& file : files_) {
      const SphereFile& first = *files_.front();
      const auto differs = [&](SphereQuantity quantity) {
        return file->has(quantity) != first.has(quantity);
      };
      if (differs(SphereQuantity::red) || differs(SphereQuantity::material)) {
        refuse(file->path(),
               fmt::format("colors or materials that {} has not, or the other way round",
                           first.path()));
      }
    }
  }
  std::size_t stretches() const override { return stretches_.size(); }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    stretches_[stretch].file->read(stretches_[stretch].own, take);
  }
  bool has_materials() const override { return files_.front()->has(SphereQuantity::material); }
  bool has_colors() const override { return files_.front()->has_colors(); }
  std::string name(std::size_t stretch, std::uint64_t at) const override {
    return stretches_[stretch].file->name(stretches_[stretch].own, at);
  }

 private:
  struct Stretch {
    const SphereFile* file;
    std::size_t own;
  };
  std::vector<std::unique_ptr<SphereFile>> files_;
  std::vector<Stretch> stretches_;
};

}  // namespace

bool SphereFiles::raw() const {
  return std::any_of(fields.begin(), fields.end(), [](const auto& one) { return one.has_value(); });
}

MappedFile::MappedFile(const std::string& path) : path_(path) {
  const int file = open(path.c_str(), O_RDONLY | O_CLOEXEC);
  struct stat status {};
  if (file < 0 || fstat(file, &status) != 0) {
    const int problem = errno;
    if (file >= 0) close(file);
    refuse(path, fmt::format("cannot be read: {}", std::strerror(problem)));
  }
  if (!S_ISREG(status.st_mode)) {
    close(file);
    refuse(path, S_ISDIR(status.st_mode)
                     ? "is a folder, expected a file"
                     : "is a pipe or a device, expected a file that can be read twice");
  }
  size_ = static_cast<std::uint64_t>(status.st_size);
  if (size_ > 0) {
    void* const at = mmap(nullptr, size_, PROT_READ, MAP_SHARED, file, 0);
    const int problem = errno;
    close(file);
    if (at == MAP_FAILED) refuse(path, fmt::format("cannot be read: {}", std::strerror(problem)));
    data_ = static_cast<const char*>(at);
    madvise(at, size_, MADV_SEQUENTIAL);
  } else {
    close(file);
    data_ = "";
  }
}

MappedFile::~MappedFile() {
  if (size_ > 0) munmap(const_cast<char*>(data_), size_);
}

void MappedFile::done_with(std::uint64_t first, std::uint64_t last) const {
  constexpr std::uint64_t page = 4096;
  first = (first + page - 1) / page * page;
  last = std::min(last, size_) / page * page;
  if (last > first) madvise(const_cast<char*>(data_) + first, last - first, MADV_DONTNEED);
}

std::vector<std::string> fitting_files(const std::vector<std::string>& patterns) {
  std::vector<std::string> result;
  for (const std::string& pattern : patterns) {
    if (pattern.find_first_of("*?") == pattern.npos) {
      result.push_back(pattern);
      continue;
    }
    // Brackets are no part of our patterns.
    std::string plain;
    for (const char one : pattern) {
      if (one == '[' || one == '\\') plain += '\\';
      plain += one;
    }
    glob_t found{};
    const int problem = glob(plain.c_str(), 0, nullptr, &found);
    for (std::size_t i = 0; problem == 0 && i < found.gl_pathc; ++i) {
      result.emplace_back(found.gl_pathv[i]);
    }
    globfree(&found);
    if (problem != 0) refuse(pattern, "no file fits");
  }
  if (result.empty()) throw Error(ErrorKind::input, "no files of spheres, expected one at least");
  return result;
}

std::unique_ptr<SphereSource> open_spheres(const SphereFiles& files) {
  return std::make_unique<SeveralFiles>(files);
}

}  // namespace photonlane::io
