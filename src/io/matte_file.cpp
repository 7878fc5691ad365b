#include "photonlane/io/matte_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <vector>

#include "io/scene_names.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane::io {

NamedMatte named(Matte matte, const Scene& scene) {
  NamedMatte result{std::move(matte)};
  const auto add = [&](std::size_t count, const auto& name_of_thing) {
    for (std::size_t i = 0; i < count; ++i) {
      result.names[static_cast<std::uint32_t>(i)] = name_of_thing(i);
    }
  };
  switch (result.matte.of) {
    case MatteOf::material:
      add(scene.materials.size(), [&](std::size_t i) { return name_of_material(scene, i); });
      break;
    case MatteOf::room:
      add(scene.rooms.size(), [&](std::size_t i) { return scene.rooms[i].name; });
      break;
    case MatteOf::cell:
      break;
  }
  return result;
}

std::uint32_t thing_named(const NamedMatte& matte, const std::string& name) {
  std::vector<std::string_view> names;
  for (const auto& [thing, its_name] : matte.names) {
    if (its_name == name) return thing;
    names.push_back(its_name);
  }
  std::uint32_t number = 0;
  const char* const end = name.data() + name.size();
  const auto [last, wrong] = std::from_chars(name.data(), end, number);
  if (wrong == std::errc() && last == end && !name.empty()) return number;
  throw Error(ErrorKind::usage, fmt::format("a matte has no {} '{}'{}", name_of(matte.matte.of),
                                            name.substr(0, 60), suggestion(name, names)));
}

Picture matte_picture(const Matte& matte, std::uint32_t thing) {
  Picture picture(matte.size);
  for (int y = 0; y < matte.size.height; ++y) {
    for (int x = 0; x < matte.size.width; ++x) {
      // Bytes are shares, as alpha's are, and no light.
      std::fill_n(picture.pixel(x, y), 3,
                  static_cast<std::uint8_t>(255 * matte.share(x, y, thing) + 0.5f));
    }
  }
  return picture;
}

}  // namespace photonlane::io
