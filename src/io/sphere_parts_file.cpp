#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "io/files.hpp"
#include "io/json.hpp"
#include "io/sphere_sources.hpp"
#include "io/sphere_store_file.hpp"
#include "io/stored_blocks.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/words.hpp"
#include "photonlane/io/sphere_file.hpp"
#include "spheres/sphere_store.hpp"

namespace photonlane::io {
namespace {

constexpr std::string_view file_kind = "photonlane parts of spheres 1";
constexpr std::size_t most_parts = 65536;
constexpr std::size_t most_list_bytes = std::size_t{1} << 26;

Json vector_json(const Vec3d& vector) { return {vector.x(), vector.y(), vector.z()}; }

Vec3d vector_from(const Json& json) {
  const Vec3d vector(json.at(0).get<double>(), json.at(1).get<double>(), json.at(2).get<double>());
  if (json.size() != 3 || !vector.allFinite()) throw Error(ErrorKind::input, "no three numbers");
  return vector;
}

std::string name_of_part(const std::string& path, std::size_t part, std::size_t parts) {
  const std::string name = std::filesystem::path(path).stem();
  return fmt::format("{}-{}of{}.spheres", name, part + 1, parts);
}

std::shared_ptr<const SphereSet> open_part(const std::string& path, std::uint64_t checksum) {
  if (stored_spheres_checksum(path) != checksum) {
    refuse_file(path, "another set than the list of parts says");
  }
  return map_spheres(path);
}

}  // namespace

std::shared_ptr<const SphereParts> write_sphere_parts(const std::string& path,
                                                      const SphereSource& source, int parts,
                                                      const SphereSetOptions& options) {
  if (parts < 1 || static_cast<std::size_t>(parts) > most_parts) {
    throw Error(ErrorKind::input, fmt::format("{} parts, expected 1 to {}", parts, most_parts));
  }
  const std::vector<SphereRegion> regions = split_space(source, parts);
  Json list{{"kind", file_kind},
            {"materials", source.has_materials()},
            {"colors", source.has_colors()},
            {"numbers", Json::array()},
            {"parts", Json::array()}};
  std::vector<std::uint32_t> numbers;
  for (std::size_t k = 0; k < regions.size(); ++k) {
    SphereSetOptions own = options;
    const auto share = [&, k](double within) {
      return (static_cast<double>(k) + within) / static_cast<double>(regions.size());
    };
    if (options.progress) {
      own.progress = [&, share](double done) { return options.progress(share(0.9 * done)); };
    }
    const auto set = SphereSet::make(SpheresInRegion(source, regions[k]), own);
    const std::string name = name_of_part(path, k, regions.size());
    write_spheres(folder_of(path) + name, *set, [&](double done) {
      return !options.progress || options.progress(share(0.9 + 0.1 * done));
    });
    for (const std::uint32_t number : set->store().numbers()) numbers.push_back(number);
    const Bounds bounds = set->bounds();
    list["parts"].push_back({{"file", name},
                             {"spheres", set->size()},
                             {"items", set->items()},
                             {"low", vector_json(bounds.low)},
                             {"high", vector_json(bounds.high)},
                             {"smallest", set->smallest()},
                             {"largest", set->largest()},
                             {"moved", set->moved()},
                             {"bytes", set->store().arrays().bytes},
                             {"checksum", stored_spheres_checksum(folder_of(path) + name)}});
  }
  std::sort(numbers.begin(), numbers.end());
  numbers.erase(std::unique(numbers.begin(), numbers.end()), numbers.end());
  list["numbers"] = numbers;
  write_file(path, json_text(list));
  return open_sphere_parts(path);
}

std::shared_ptr<const SphereParts> write_sphere_parts(const std::string& path,
                                                      const SphereFiles& files, int parts,
                                                      const SphereSetOptions& options) {
  return write_sphere_parts(path, *open_spheres(files), parts, options);
}

std::shared_ptr<const SphereParts> open_sphere_parts(const std::string& path) {
  const std::string text = read_file(path, most_list_bytes);
  auto all = std::make_shared<SphereParts>();
  try {
    const Json list = parse_json(text);
    if (list.at("kind") != file_kind) refuse_file(path, "no list of parts of spheres");
    all->has_materials = list.at("materials").get<bool>();
    all->has_colors = list.at("colors").get<bool>();
    all->numbers = list.at("numbers").get<std::vector<std::uint32_t>>();
    if (list.at("parts").empty() || list.at("parts").size() > most_parts) {
      refuse_file(path,
                  fmt::format("{} parts, expected 1 to {}", list.at("parts").size(), most_parts));
    }
    for (const Json& one : list.at("parts")) {
      SpherePart part;
      const std::string name = one.at("file");
      if (name.empty() || name.find('/') != name.npos || name.find('\0') != name.npos) {
        refuse_file(path, fmt::format("a part in '{}', expected a file beside it",
                                      one_line(name.substr(0, 80))));
      }
      part.count = one.at("spheres").get<std::uint64_t>();
      part.items = one.at("items").get<std::uint64_t>();
      if (part.count == 0 || part.items < part.count || part.items > 0xffffffffu) {
        refuse_file(path, fmt::format("a part of {} spheres and {} items", part.count, part.items));
      }
      part.bounds = {vector_from(one.at("low")), vector_from(one.at("high"))};
      if ((part.bounds.low.array() > part.bounds.high.array()).any()) {
        refuse_file(path, "a part whose low end lies beyond its high one");
      }
      part.smallest = one.at("smallest").get<double>();
      part.largest = one.at("largest").get<double>();
      part.moved = one.at("moved").get<double>();
      part.bytes = one.at("bytes").get<std::uint64_t>();
      part.checksum = one.at("checksum").get<std::uint64_t>();
      const SpherePart told = part;
      part.open = [file = folder_of(path) + name, told] {
        const auto set = open_part(file, told.checksum);
        if (set->size() != told.count || set->items() != told.items ||
            set->bounds().low != told.bounds.low || set->bounds().high != told.bounds.high) {
          refuse_file(file, "other counts or bounds than the list of parts says");
        }
        return set;
      };
      all->parts.push_back(std::move(part));
    }
  } catch (const Json::exception& problem) {
    refuse_file(path, fmt::format("no list of parts of spheres: {}", problem.what()));
  } catch (const Error& error) {
    if (!error.place().file.empty()) throw;
    refuse_file(path, error.message());
  }
  return all;
}

namespace {

struct PartsSum {
  std::uint64_t count = 0, bytes = 0, most = 0;
  explicit PartsSum(const SphereParts& all) {
    for (const SpherePart& part : all.parts) {
      count += part.count;
      bytes += part.bytes;
      most = std::max(most, part.bytes);
    }
  }
};

}  // namespace

std::string sphere_parts_text(const SphereParts& all) {
  const PartsSum sum(all);
  return fmt::format(
      "{} spheres in {} parts, {:.1f} MB in all, {:.1f} MB the largest, {:.1f} bytes each\n",
      sum.count, all.parts.size(), static_cast<double>(sum.bytes) / 1e6,
      static_cast<double>(sum.most) / 1e6,
      static_cast<double>(sum.bytes) / static_cast<double>(sum.count));
}

std::string sphere_parts_json(const SphereParts& all) {
  const PartsSum sum(all);
  return json_text(Json{{"spheres", sum.count},
                        {"parts", all.parts.size()},
                        {"bytes", sum.bytes},
                        {"largest_part_bytes", sum.most}});
}

}  // namespace photonlane::io
