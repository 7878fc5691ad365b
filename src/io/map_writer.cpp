#include "io/files.hpp"
#include "io/map_marks.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/io/plan_picture.hpp"
#include "photonlane/io/scene_file.hpp"

namespace photonlane::io {
namespace {

/// A map as a scene of its own: stone walls, the eye at the start, looking where the way is open
/// longest.
SceneFile scene_of(const CellMap& map, const std::string& title) {
  SceneFile file;
  file.scene.title = title;
  file.scene.wall({.base = {0.36f, 0.33f, 0.27f}}, "stone");
  file.scene.room().add(map);
  const CellPlace from = map.start.value_or(CellPlace{});
  file.camera.eye = Vec3d((from.x + 0.5) * map.cell_size, (from.y + 0.5) * map.cell_size, 1.6);
  int longest = 0;
  constexpr int dx[] = {1, 0, -1, 0};
  constexpr int dy[] = {0, 1, 0, -1};
  for (int turn = 0; turn < 4; ++turn) {
    int length = 0;
    int x = from.x + dx[turn];
    int y = from.y + dy[turn];
    while (x >= 0 && y >= 0 && x < map.width && y < map.height && map.at(x, y) == empty_cell) {
      ++length;
      x += dx[turn];
      y += dy[turn];
    }
    if (length > longest) {
      longest = length;
      file.camera.heading = degrees(90.0 * turn);
    }
  }
  file.camera.field_of_view = degrees(60);
  return file;
}

}  // namespace

std::string draw_map(const CellMap& map, const std::string& indent,
                     const std::function<char(std::size_t)>& letter) {
  std::string text;
  for (int y = map.height - 1; y >= 0; --y) {
    text += indent;
    for (int x = 0; x < map.width; ++x) {
      const CellPlace place{x, y};
      text += map.start == place  ? start_letter
              : map.goal == place ? goal_letter
                                  : letter(static_cast<std::size_t>(y) * map.width + x);
    }
    text += '\n';
  }
  return text;
}

std::string map_drawing(const CellMap& map) {
  return draw_map(map, "", [&](std::size_t id) { return map.cells[id] == empty_cell ? '.' : '#'; });
}

Picture map_pixels(const CellMap& map) {
  constexpr std::array<std::uint8_t, 3> empty_color{0xf2, 0xee, 0xe2};
  constexpr std::array<std::uint8_t, 3> wall_color{0x2c, 0x3a, 0x34};
  Picture picture(Size{map.width, map.height});
  for (int y = 0; y < map.height; ++y) {
    for (int x = 0; x < map.width; ++x) {
      const CellPlace place{x, y};
      const std::array<std::uint8_t, 3>& color = map.start == place           ? start_color
                                                 : map.goal == place          ? goal_color
                                                 : map.at(x, y) == empty_cell ? empty_color
                                                                              : wall_color;
      std::copy(color.begin(), color.end(), picture.pixel(x, map.height - 1 - y));
    }
  }
  return picture;
}

void write_map(const std::string& path, const CellMap& map, const std::string& title) {
  if (ends_with(path, ".txt")) {
    write_file(path, map_drawing(map));
  } else if (ends_with(path, ".png")) {
    write_png(path, map_pixels(map));
  } else if (ends_with(path, ".yaml")) {
    write_file(path, scene_text(scene_of(map, title)));
  } else {
    throw Error(ErrorKind::usage, "expected a name that ends in .yaml, .txt or .png", Place{path});
  }
}

}  // namespace photonlane::io
