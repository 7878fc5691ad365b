#include "photonlane/io/volume_file.hpp"

#include <fmt/format.h>

#include <bit>
#include <cerrno>
#include <cmath>
#include <cstring>
#include <fstream>

#include "io/files.hpp"
#include "io/json.hpp"
#include "photonlane/field/sample.hpp"
#include "photonlane/io/picture.hpp"

namespace photonlane::io {
namespace {

static_assert(std::endian::native == std::endian::little, "volumes are written as they are kept");

constexpr std::string_view first_line = "photonlane volume 1";

Json numbers(const Vec3d& point) { return {point.x(), point.y(), point.z()}; }

/// Calls work(the numbers that are kept).
template <class V, class Work>
void with_kept(V& volume, const Work& work) {
  switch (volume.storage) {
    case VolumeStorage::floats:
      return work(volume.floats);
    case VolumeStorage::words:
      return work(volume.words);
    case VolumeStorage::bytes:
      return work(volume.bytes);
  }
}

Volume read_header(const std::string& path, const std::string& line) {
  const auto refuse = [&](const std::string& what) {
    throw Error(ErrorKind::file, what, Place{path, 2});
  };
  Volume volume;
  try {
    const auto header = parse_json(line);
    // Whole numbers of any size and kind, before they are taken for counts.
    const auto size = header.at("size").get<std::array<double, 3>>();
    for (std::size_t axis = 0; axis < 3; ++axis) {
      const bool counts = size[axis] >= 2 && size[axis] <= Volume::largest_side;
      if (!counts || size[axis] != std::floor(size[axis])) {
        refuse(fmt::format("a volume of {}x{}x{}, expected 2 to {} points each way", size[0],
                           size[1], size[2], Volume::largest_side));
      }
      volume.size[axis] = static_cast<int>(size[axis]);
    }
    const auto low = header.at("low").get<std::array<double, 3>>();
    const auto high = header.at("high").get<std::array<double, 3>>();
    volume.box = {Vec3d(low[0], low[1], low[2]), Vec3d(high[0], high[1], high[2])};
    volume.low = header.at("value").get<double>();
    volume.step = header.at("step").get<double>();
    const auto storage = header.at("storage").get<std::string>();
    const auto& names = choice_names<VolumeStorage>;
    const auto found = std::find(names.begin(), names.end(), storage);
    if (found == names.end()) {
      refuse(fmt::format("numbers kept as '{}', expected floats, words or bytes",
                         storage.substr(0, 60)));
    }
    volume.storage = static_cast<VolumeStorage>(found - names.begin());
  } catch (const Json::exception&) {
    refuse("not a volume's header, expected JSON with size, low, high, storage, value and step");
  }
  const auto finite = [](const Vec3d& point) { return point.allFinite(); };
  if (!finite(volume.box.low) || !finite(volume.box.high) || !std::isfinite(volume.low) ||
      !std::isfinite(volume.step)) {
    refuse("a number of the header is not finite");
  }
  return volume;
}

}  // namespace

void write_volume(const std::string& path, const Volume& volume) {
  if (!ends_with(path, ".volume")) {
    throw Error(ErrorKind::usage, "expected a name that ends in .volume", Place{path});
  }
  const Json header{{"size", volume.size},
                    {"low", numbers(volume.box.low)},
                    {"high", numbers(volume.box.high)},
                    {"storage", std::string(name_of(volume.storage))},
                    {"value", volume.low},
                    {"step", volume.step}};
  write_whole(path, [&](const std::string& temporary) {
    errno = 0;
    std::ofstream file(temporary, std::ios::binary);
    file << first_line << '\n' << header.dump() << '\n';
    with_kept(volume, [&](const auto& kept) {
      file.write(reinterpret_cast<const char*>(kept.data()),
                 static_cast<std::streamsize>(kept.size() * sizeof(kept[0])));
    });
    file.close();
    if (!file) {
      throw Error(ErrorKind::file, fmt::format("cannot be written: {}", std::strerror(errno)),
                  Place{path});
    }
  });
}

Volume read_volume(const std::string& path) {
  const std::string bytes = read_file(path, std::size_t{1} << 32);
  const auto first = bytes.find('\n');
  if (first == std::string::npos || bytes.substr(0, first) != first_line) {
    throw Error(ErrorKind::file, fmt::format("not a volume, expected the line '{}'", first_line),
                Place{path, 1});
  }
  const auto second = bytes.find('\n', first + 1);
  if (second == std::string::npos) {
    throw Error(ErrorKind::file, "ends in its header", Place{path, 2});
  }
  Volume volume = read_header(path, bytes.substr(first + 1, second - first - 1));
  volume.name = path;
  const std::size_t there = bytes.size() - second - 1;
  with_kept(volume, [&](auto& kept) {
    const std::size_t expected = volume.count() * sizeof(kept[0]);
    if (there != expected) {
      throw Error(ErrorKind::file, fmt::format("{} bytes of numbers, expected {}", there, expected),
                  Place{path});
    }
    kept.resize(volume.count());
    std::memcpy(kept.data(), bytes.data() + second + 1, expected);
  });
  return volume;
}

HeightMap read_heights(const std::string& path) {
  const Texture picture = read_texture(path, HeightMap::most_heights);
  HeightMap map;
  map.name = path;
  map.columns = picture.width;
  map.rows = picture.height;
  for (int row = picture.height - 1; row >= 0; --row) {
    for (int column = 0; column < picture.width; ++column) {
      const std::uint32_t texel = picture.at(column, row);
      const auto sum = (texel & 255) + (texel >> 8 & 255) + (texel >> 16 & 255);
      map.heights.push_back(static_cast<float>(sum) / (3 * 255));
    }
  }
  return map;
}

}  // namespace photonlane::io
