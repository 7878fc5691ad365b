#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <charconv>
#include <cstring>
#include <fstream>

#include "io/files.hpp"
#include "io/json.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/io/sphere_file.hpp"

namespace photonlane::io {
namespace {

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

void set_columns(std::string_view text, SphereFiles& files) {
  for_each_pair(text, [&](std::string_view key, std::string_view value) {
    files.columns[quantity_of(key, {})] = value;
  });
}

void set_record(std::string_view text, SphereFiles& files) {
  SphereField usual{0, 12, SphereNumber::float32};
  for_each_pair(text, [&](std::string_view key, std::string_view value) {
    if (key == "stride") {
      usual.stride = whole_number(key, value);
    } else if (key == "count") {
      files.count = whole_number(key, value);
    } else if (key == "type") {
      const auto& names = choice_names<SphereNumber>;
      const auto found = std::find(names.begin(), names.end(), value);
      if (found == names.end()) {
        throw Error(ErrorKind::input, fmt::format("no such type '{}'{}", value.substr(0, 60),
                                                  suggestion(value, names)));
      }
      usual.type = static_cast<SphereNumber>(found - names.begin());
    }
  });
  for_each_pair(text, [&](std::string_view key, std::string_view value) {
    if (key == "stride" || key == "count" || key == "type") return;
    SphereField field = usual;
    field.offset = whole_number(key, value);
    files.fields[quantity_of(key, {"stride", "count", "type"})] = field;
  });
}

void write_ply(const std::string& path, const SphereSource& source,
               const std::function<bool(double)>& progress) {
  std::uint64_t count = 0;
  for (std::size_t stretch = 0; stretch < source.stretches(); ++stretch) {
    source.read(stretch, [&](const SphereRun& run) { count += run.count; });
  }
  write_whole(path, [&](const std::string& temporary) {
    std::ofstream out(temporary, std::ios::binary | std::ios::trunc);
    std::string head = fmt::format(
        "ply\nformat binary_little_endian 1.0\nelement vertex {}\nproperty float x\nproperty float "
        "y\nproperty float z\nproperty float radius\n",
        count);
    if (source.has_colors()) {
      head += "property uchar red\nproperty uchar green\nproperty uchar blue\n";
    }
    if (source.has_materials()) head += "property ushort material\n";
    out << head << "end_header\n";
    std::string bytes;
    const auto add = [&](const auto& value) {
      bytes.append(reinterpret_cast<const char*>(&value), sizeof(value));
    };
    std::uint64_t done = 0;
    for (std::size_t stretch = 0; stretch < source.stretches(); ++stretch) {
      source.read(stretch, [&](const SphereRun& run) {
        bytes.clear();
        for (std::size_t i = 0; i < run.count; ++i) {
          for (const double value : {run.x[i], run.y[i], run.z[i], run.radius[i]}) {
            add(static_cast<float>(value));
          }
          if (source.has_colors()) {
            for (const int shift : {16, 8, 0}) {
              add(static_cast<std::uint8_t>(run.color[i] >> shift));
            }
          }
          if (source.has_materials()) add(static_cast<std::uint16_t>(run.material[i]));
        }
        out.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
        done += run.count;
      });
      if (!out) break;
      if (progress && !progress(static_cast<double>(done) / static_cast<double>(count))) {
        throw Error(ErrorKind::cancelled, "stopped by the caller");
      }
    }
    out.close();
    if (!out) {
      throw Error(ErrorKind::file, fmt::format("cannot be written: {}", std::strerror(errno)),
                  Place{path});
    }
  });
}

int working_file(const std::string& beside) {
  std::string folder = folder_of(beside);
  if (folder.empty()) folder = ".";
  int file = open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
  if (file < 0) {
    // Not every file system has files without a name.
    std::string name = folder + "/.photonlane-XXXXXX";
    file = mkostemp(name.data(), O_CLOEXEC);
    if (file >= 0) unlink(name.c_str());
  }
  if (file < 0) {
    throw Error(ErrorKind::file,
                fmt::format("no working file can be made there: {}", std::strerror(errno)),
                Place{folder});
  }
  return file;
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
