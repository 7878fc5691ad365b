#include <algorithm>
#include <charconv>
#include <cstring>

#include "io/ply_head.hpp"
#include "io/sphere_input.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane::io {
namespace {

constexpr auto& quantity_names = choice_names<SphereQuantity>;

/// Lines of numbers.
class LineFile : public SphereInput {
 public:
  using SphereInput::SphereInput;
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
    while (place < end) {
      const char* const stop = line_end(place, end);
      if (!blank(place, stop)) {
        parse(place, stop, numbers);
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
  /// Where the line after the one that `place` is in begins.
  const char* next_line(const char* place) const {
    return std::min(line_end(place, map_.end()) + 1, map_.end());
  }
  /// The lines between are those of spheres, in stretches of some megabytes.
  void cut_up(const char* first, const char* last) {
    constexpr std::ptrdiff_t length = std::ptrdiff_t{1} << 25;
    const auto offset = [&](const char* place) {
      return static_cast<std::uint64_t>(place - map_.data());
    };
    starts_ = {offset(first)};
    while (last - first > length) {
      first = std::min(next_line(first + length), last);
      if (first < last) starts_.push_back(offset(first));
    }
    starts_.push_back(offset(last));
  }
  void parse(const char* place, const char* stop, double* numbers) const {
    std::size_t column = 0;
    std::size_t found = 0;
    const char* const line = place;
    const auto refuse_here = [&](const std::string& what) { refuse(what, line_of(line)); };
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

  std::vector<std::uint64_t> starts_;  ///< of stretches, and where the last one ends
  char separator_ = ' ';
  bool comments_ = true;
};

/// A table whose first line names its columns.
class CsvFile final : public LineFile {
 public:
  CsvFile(const std::string& path, const SphereFiles& files) : LineFile(path, files) {
    const char* place = map_.data();
    const char* const end = map_.end();
    // A byte order mark is none of a name.
    if (map_.size() >= 3 && std::memcmp(place, "\xef\xbb\xbf", 3) == 0) place += 3;
    while (place < end && blank(place, line_end(place, end))) place = next_line(place);
    if (place == end) refuse("no line in it, expected the names of its columns");
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
    cut_up(next_line(stop), end);
  }
};

class PlyText final : public LineFile {
 public:
  PlyText(const std::string& path, const SphereFiles& files) : LineFile(path, files) {
    const PlyHead head = read_ply_head(path, {map_.data(), map_.size()});
    const PlyHead::Element& vertices = vertices_of(path, head);
    find_columns(names_of(vertices), files, vertices.line);
    for (std::size_t q = 0; q < sphere_quantities; ++q) {
      if (there_[q]) scale_color(q, vertices.properties[column_[q]].type);
    }
    comments_ = false;
    const char* place = map_.data() + head.end;
    for (const PlyHead::Element& element : head.elements) {
      if (&element == &vertices) break;
      place = pass(place, element.count, nullptr);
    }
    std::uint64_t lines = 0;
    const char* const last = pass(place, vertices.count, &lines);
    // Where nothing else is to come there is nothing else.
    if (&vertices == &head.elements.back()) pass(last, ~std::uint64_t{0}, &lines);
    if (lines != vertices.count) {
      refuse(fmt::format("{} lines of vertices, expected {}", lines, vertices.count));
    }
    cut_up(place, last);
  }

 private:
  /// Where so many lines that are not blank end, or the file; counts them.
  const char* pass(const char* place, std::uint64_t count, std::uint64_t* lines) const {
    while (place < map_.end() && count > 0) {
      if (!blank(place, line_end(place, map_.end()))) {
        --count;
        if (lines != nullptr) ++*lines;
      }
      place = next_line(place);
    }
    return place;
  }
};

}  // namespace

std::unique_ptr<SphereInput> open_table(const std::string& path, const SphereFiles& files) {
  return std::make_unique<CsvFile>(path, files);
}

std::unique_ptr<SphereInput> open_ply_text(const std::string& path, const SphereFiles& files) {
  return std::make_unique<PlyText>(path, files);
}

}  // namespace photonlane::io
