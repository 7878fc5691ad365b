// Races the library against the plain loops, interleaved in one process, and prints a line a race:
// name, ratio, spread, the bar it must pass. Exit code 1 where one is below its bar. Arguments: a
// file for the same as JSON, and a part of the name of the races to run (default: all).

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstring>
#include <fstream>
#include <functional>
#include <nlohmann/json.hpp>
#include <string>
#include <thread>
#include <vector>

#include "maps.hpp"
#include "photonlane/photonlane.hpp"
#include "race.hpp"
#include "textbook/frame.hpp"

namespace photonlane::bench {
namespace {

constexpr int columns = 1920;
constexpr int rows = 1080;
constexpr double heading = 0.4;
constexpr double field = 1.35;

struct Setup {
  World world;
  Camera camera;
  textbook::Map map;
  textbook::Eye eye;
  textbook::Look look;
  textbook::Cover cover;
};

/// Textures of our own for walls, floor and ceiling, the same for the plain loops.
textbook::Cover cover(Scene& scene) {
  textbook::Cover result;
  const auto paint = [&](Material& material, Pattern pattern, std::int64_t seed) {
    const Texture texture =
        make_texture({.pattern = pattern, .width = 256, .height = 256, .seed = seed});
    material = {.base = {1, 1, 1}, .texture = scene.add(texture)};
    return textbook::Texture{texture.width, texture.texels.values()};
  };
  const Pattern patterns[] = {Pattern::brick, Pattern::leaf, Pattern::tiles, Pattern::planks};
  for (int i = 0; i < 4; ++i) {
    result.walls.push_back(paint(scene.materials[i], patterns[i], i + 1));
  }
  result.floor = paint(scene.room().floor, Pattern::tiles, 9);
  result.ceiling = paint(scene.room().ceiling, Pattern::noise, 8);
  return result;
}

Setup setup(const CellMap& map, bool textured = false) {
  Scene scene;
  const Color colors[] = {
      {0.5f, 0.3f, 0.2f}, {0.2f, 0.4f, 0.2f}, {0.6f, 0.6f, 0.5f}, {0.3f, 0.3f, 0.5f}};
  textbook::Look look;
  for (const Color& color : colors) {
    scene.wall({.base = color});
    look.walls.push_back({color[0], color[1], color[2]});
  }
  Room& room = scene.room();
  room.add(map);
  room.fog.end = map.width;
  look.fog_start = static_cast<float>(room.fog.start);
  look.fog_end = static_cast<float>(room.fog.end);
  const auto rgb = [](const Color& color) { return textbook::Rgb{color[0], color[1], color[2]}; };
  look.fog = rgb(room.fog.color);
  look.floor = rgb(room.floor.base);
  look.ceiling = rgb(room.ceiling.base);
  look.wall_height = static_cast<float>(map.wall_height);
  look.north_shade = static_cast<float>(map.face_shade);
  Camera camera{.eye = {map.width / 2 + 0.37, map.height / 2 + 0.61, 1.6},
                .heading = heading,
                .field_of_view = field,
                .field_axis = FieldAxis::horizontal};
  textbook::Eye eye{static_cast<float>(camera.eye.x()), static_cast<float>(camera.eye.y()),
                    static_cast<float>(std::cos(heading)), static_cast<float>(std::sin(heading)),
                    static_cast<float>(std::tan(field / 2))};
  textbook::Cover covers;
  if (textured) covers = cover(scene);
  return {compile(scene), camera, bench::textbook_map(map), eye, look, std::move(covers)};
}

/// Casts the columns of a frame with nothing written: an empty set of layers.
std::function<void()> cast(const Setup& setup, CellMethod method, int threads) {
  Budget budget{.frame = {columns, rows, 1}, .cells = {.method = method}};
  budget.far_limit = 20000;
  return [&setup, budget, threads] {
    render(setup.world, setup.camera, budget,
           {.layers = {}, .threads = threads, .progress = {}, .recycle = {}});
  };
}

void race_columns(const std::string& name, const CellMap& map, double bar_two, double bar_one,
                  double bar_increment, int rounds, std::vector<Race>& races) {
  const Setup s = setup(map);
  std::vector<textbook::Hit> hits(columns);
  std::vector<Runner> runners{
      {"leap, two threads", cast(s, CellMethod::leap, 2), {}},
      {"leap, one thread", cast(s, CellMethod::leap, 1), {}},
      {"boundary, one thread", cast(s, CellMethod::boundary, 1), {}},
      {"plain boundary loop", [&] { textbook::cast_columns_boundaries(s.map, s.eye, hits); }, {}},
      {"plain increments of 1/100",
       [&] { textbook::cast_columns_increments(s.map, s.eye, 0.01f, 20000, hits); },
       {}}};
  if (bar_increment == 0) runners.pop_back();
  run_rounds(runners, rounds);
  races.push_back(
      race(name + ": leap on two threads / plain boundary", runners[0], runners[3], bar_two));
  races.push_back(
      race(name + ": leap on one thread / plain boundary", runners[1], runners[3], bar_one));
  races.push_back(
      race(name + ": boundary on one thread / plain boundary", runners[2], runners[3], 0));
  if (bar_increment > 0) {
    races.push_back(race(name + ": leap on two threads / plain increments", runners[0], runners[4],
                         bar_increment));
  }
}

/// Writes memory on two threads as fast as it goes.
void write_memory(std::vector<char>& memory, int value) {
  const std::size_t half = memory.size() / 2;
  std::thread other([&] { std::memset(memory.data() + half, value, memory.size() - half); });
  std::memset(memory.data(), value, half);
  other.join();
}

void race_frames(const std::string& name, const CellMap& map, double pixel_bar, int rounds,
                 std::vector<Race>& races) {
  const Setup s = setup(map);
  std::vector<textbook::Rgb> linear(static_cast<std::size_t>(columns) * rows);
  std::vector<std::uint32_t> display(linear.size());
  std::vector<char> linear_bytes(linear.size() * 12);
  std::vector<char> display_bytes(linear.size() * 4);
  Budget budget{.frame = {columns, rows, 1}};
  budget.far_limit = 20000;
  const auto frame = [&](Layer layer, Frame& kept, Rays rays = Rays::columns, int threads = 2) {
    budget.rays = rays;
    return [&s, &kept, budget, layer, threads] {
      kept = render(
          s.world, s.camera, budget,
          {.layers = {layer}, .threads = threads, .progress = {}, .recycle = std::move(kept)});
    };
  };
  Frame kept_linear, kept_display, kept_pixels, kept_alone;
  std::vector<textbook::Rgb> by_pixels(linear.size());
  std::vector<Runner> runners{
      {"display frame", frame(Layer::display, kept_display), {}},
      {"linear frame", frame(Layer::color, kept_linear), {}},
      {"plain display frame",
       [&] { textbook::draw_display(s.map, s.eye, s.look, columns, rows, display); },
       {}},
      {"plain linear frame",
       [&] { textbook::draw_linear(s.map, s.eye, s.look, columns, rows, linear); },
       {}},
      {"writing its memory", [&] { write_memory(display_bytes, 1); }, {}},
      {"writing its memory", [&] { write_memory(linear_bytes, 2); }, {}}};
  const Runner ours{"linear frame by pixels", frame(Layer::color, kept_pixels, Rays::pixels), {}};
  const Runner plain{"plain frame by pixels",
                     [&] { textbook::draw_pixels(s.map, s.eye, s.look, columns, rows, by_pixels); },
                     {}};
  const Runner alone{"on one thread", frame(Layer::color, kept_alone, Rays::pixels, 1), {}};
  std::vector<Runner> pixel_runners{ours, plain, alone};
  run_rounds(pixel_runners, std::max(3, rounds / 3));
  run_rounds(runners, rounds);
  // The pictures must be the same, or the race is about nothing.
  std::size_t wrong = 0;
  for (int y = 0; y < rows; ++y) {
    for (int x = 0; x < columns; ++x) {
      const float plain_color = linear[static_cast<std::size_t>(y) * columns + x].g;
      wrong += std::abs(plain_color - kept_linear.values(Layer::color, 1)(x, y)) > 0.004f;
      wrong += std::abs(by_pixels[static_cast<std::size_t>(y) * columns + x].g -
                        kept_pixels.values(Layer::color, 1)(x, y)) > 0.004f;
    }
  }
  fmt::print("{}: {:.4f} % of the pixels differ from the plain frames\n", name,
             100.0 * static_cast<double>(wrong) / (2.0 * static_cast<double>(linear.size())));
  races.push_back(race(name + ": display frame / plain frame", runners[0], runners[2], 5));
  races.push_back(race(name + ": linear frame / plain frame", runners[1], runners[3], 5));
  races.push_back(race(name + ": frame by pixels / plain frame by pixels", pixel_runners[0],
                       pixel_runners[1], pixel_bar));
  races.push_back(
      race(name + ": the same on one thread", pixel_runners[2], pixel_runners[1], pixel_bar));
  // A display frame is a third of the bytes and twice the arithmetic: memory is not its limit, so
  // its line has no bar.
  races.push_back(race(name + ": display frame / writing memory", runners[0], runners[4], 0));
  races.push_back(race(name + ": linear frame / writing memory", runners[1], runners[5], 1.0 / 3));
}

/// Share of the pixels whose green differs by more than half a step of a byte.
double differing(const std::vector<textbook::Rgb>& plain, const Frame& frame, float tolerance) {
  std::size_t wrong = 0;
  for (int y = 0; y < rows; ++y) {
    const auto ours = frame.values(Layer::color, 1).row(y);
    for (int x = 0; x < columns; ++x) {
      wrong += std::abs(plain[static_cast<std::size_t>(y) * columns + x].g - ours[x]) > tolerance;
    }
  }
  return static_cast<double>(wrong) / static_cast<double>(plain.size());
}

void race_textured(const std::string& name, const CellMap& map, double pixel_bar, int rounds,
                   std::vector<Race>& races) {
  const Setup s = setup(map, true);
  std::vector<textbook::Rgb> plain(static_cast<std::size_t>(columns) * rows);
  std::vector<char> bytes(plain.size() * 12);
  Frame kept;
  const auto frame = [&](TextureSampling sampling, Rays rays = Rays::columns) {
    Budget budget{.frame = {columns, rows, 1}, .texture = {.sampling = sampling}};
    budget.rays = rays;
    budget.far_limit = 20000;
    return [&s, &kept, budget] {
      kept = render(
          s.world, s.camera, budget,
          {.layers = {Layer::color}, .threads = 2, .progress = {}, .recycle = std::move(kept)});
    };
  };
  std::vector<Runner> runners{
      {"nearest, two threads", frame(TextureSampling::nearest), {}},
      {"bilinear, two threads", frame(TextureSampling::bilinear), {}},
      {"filtered, two threads", frame(TextureSampling::filtered), {}},
      {"plain textured frame",
       [&] { textbook::draw_textured(s.map, s.eye, s.look, s.cover, columns, rows, plain); },
       {}},
      {"writing its memory", [&] { write_memory(bytes, 2); }, {}}};
  run_rounds(runners, rounds);
  const auto tell_differing = [&](const std::string& what) {
    fmt::print("{}: {:.4f} % of the pixels differ from the plain frame{}\n", name,
               100 * differing(plain, kept, 0.02f), what);
  };
  runners[0].work();
  tell_differing("");
  std::vector<Runner> pixel_runners{
      {"nearest by pixels", frame(TextureSampling::nearest, Rays::pixels), {}},
      {"plain textured frame by pixels",
       [&] { textbook::draw_textured_pixels(s.map, s.eye, s.look, s.cover, columns, rows, plain); },
       {}}};
  run_rounds(pixel_runners, std::max(3, rounds / 3));
  pixel_runners[0].work();
  tell_differing(" by pixels");
  races.push_back(race(name + ": nearest / plain frame", runners[0], runners[3], 6));
  races.push_back(race(name + ": bilinear / plain frame", runners[1], runners[3], 0));
  races.push_back(race(name + ": filtered / plain frame", runners[2], runners[3], 0));
  races.push_back(race(name + ": nearest / writing memory", runners[0], runners[4], 1.0 / 3));
  races.push_back(race(name + ": nearest by pixels / plain frame by pixels", pixel_runners[0],
                       pixel_runners[1], pixel_bar));
}

/// One cell opened or closed again in a world that nobody else holds, against compiling it anew.
void race_edit(const std::string& name, const CellMap& map, int rounds, std::vector<Race>& races) {
  Scene scene;
  for (int i = 0; i < 4; ++i) scene.wall({});
  scene.room().add(map);
  World world = compile(scene);
  bool open = false;
  std::vector<Runner> runners{{"one cell edited",
                               [&] {
                                 const CellEdit change{map.width / 2 + 3, map.height / 2 + 3,
                                                       open ? empty_cell : wall_of(0)};
                                 open = !open;
                                 world = edit(std::move(world), {&change, 1});
                               },
                               {}},
                              {"compiled anew", [&] { compile(scene); }, {}}};
  run_rounds(runners, rounds);
  races.push_back(race(name + ": one cell edited / compiled anew", runners[0], runners[1], 100));
}

/// A door that opens and closes before the eye, and the frames around it.
void race_door(const std::string& name, CellMap map, int rounds, std::vector<Race>& races) {
  const int column = map.width / 2;
  const int row = map.height / 2;
  Scene scene;
  for (int i = 0; i < 5; ++i) scene.wall({.base = {0.3f, 0.4f, 0.1f * static_cast<float>(i)}});
  for (int y = row - 3; y <= row + 3; ++y) {
    for (int x = column - 8; x <= column; ++x) {
      map.at(x, y) = x == column && y != row ? wall_of(1) : empty_cell;
    }
  }
  map.at(column, row) = wall_of(4);
  map.set_form(column, row,
               CellForm{.shape = CellShape::sliding, .along = PanelAxis::y, .thickness = 0.1});
  scene.room().add(map);
  const World compiled = compile(scene);
  World world = compile(scene);
  const Camera camera{.eye = {column - 4.4, row + 0.6, 1.6}};
  Budget budget{.frame = {columns, rows, 1}};
  budget.far_limit = 20000;
  Frame kept;
  const auto frame = [&](const World& of) {
    kept = render(
        of, camera, budget,
        {.layers = {Layer::color}, .threads = 2, .progress = {}, .recycle = std::move(kept)});
  };
  int moves = 0;
  std::vector<Runner> runners{{"a door moved",
                               [&] {
                                 const CellEdit change =
                                     open_door(world.room().cells()->map(), column, row,
                                               0.01 * static_cast<double>(++moves % 100));
                                 world = edit(std::move(world), {&change, 1});
                               },
                               {}},
                              {"frame after it", [&] { frame(world); }, {}},
                              {"frame of the world compiled", [&] { frame(compiled); }, {}},
                              {"compiled anew", [&] { compile(scene); }, {}}};
  run_rounds(runners, rounds);
  races.push_back(race(name + ": a door moved / compiled anew", runners[0], runners[3], 100));
  races.push_back(race(name + ": frame after it / frame before", runners[1], runners[2], 0.9));
}

int run(int argc, char** argv) {
  const std::string json = argc > 1 ? argv[1] : "";
  const std::string wanted = argc > 2 ? argv[2] : "";
  std::vector<Race> races;
  // Where a ray takes two steps, as on the dense map, setting up a vector of them is most of the
  // work: the bar there only keeps what has been reached.
  const auto run_race = [&](const std::string& name, const auto& work) {
    if (name.find(wanted) != std::string::npos) work(name);
  };
  run_race("open 1024x1024", [&](const std::string& name) {
    race_columns(name, scattered(1024, 0.0002), 8, 0, 80, 15, races);
  });
  run_race("half open 1024x1024", [&](const std::string& name) {
    race_columns(name, scattered(1024, 0.02), 1, 1, 0, 41, races);
  });
  run_race("dense 1024x1024", [&](const std::string& name) {
    race_columns(name, scattered(1024, 0.1), 1, 1, 0, 81, races);
  });
  run_race("denser 256x256", [&](const std::string& name) {
    race_columns(name, scattered(256, 0.3), 1, 1, 0, 81, races);
  });
  run_race("open 4096x4096", [&](const std::string& name) {
    race_columns(name, scattered(4096, 0.0002), 8, 0, 0, 9, races);
  });
  run_race("1920x1080 of open 1024x1024", [&](const std::string& name) {
    race_frames(name, scattered(1024, 0.0002), 5, 25, races);
  });
  run_race("1920x1080 of dense 256x256",
           [&](const std::string& name) { race_frames(name, scattered(256, 0.1), 2, 25, races); });
  run_race("1920x1080 textured, open 1024x1024", [&](const std::string& name) {
    race_textured(name, scattered(1024, 0.0002), 5, 15, races);
  });
  run_race("1920x1080 textured, dense 256x256", [&](const std::string& name) {
    race_textured(name, scattered(256, 0.1), 2, 15, races);
  });
  run_race("edit, half open 4096x4096",
           [&](const std::string& name) { race_edit(name, scattered(4096, 0.02), 15, races); });
  run_race("edit, open 4096x4096",
           [&](const std::string& name) { race_edit(name, scattered(4096, 0.0002), 15, races); });
  run_race("door, half open 4096x4096",
           [&](const std::string& name) { race_door(name, scattered(4096, 0.02), 25, races); });

  race_fields(wanted, races);
  race_folds(wanted, races);
  race_planes(wanted, races);
  race_paths(wanted, races);
  race_plates(wanted, races);
  race_rooms(wanted, races);
  race_spheres(wanted, races);
  race_voxels(wanted, races);
  race_lanes(wanted, races);

  bool passed = true;
  nlohmann::ordered_json report = nlohmann::ordered_json::array();
  for (const Race& one : races) {
    fmt::print("{} {:<58} {:8.2f} +- {:<6.2f} bar {:<6.3g} ({}; {})\n",
               one.passed() ? "ok  " : "SLOW", one.name, one.ratio, one.spread, one.bar, one.ours,
               one.theirs);
    report.push_back({{"name", one.name},
                      {"ratio", one.ratio},
                      {"spread", one.spread},
                      {"bar", one.bar},
                      {"passed", one.passed()},
                      {"ours", one.ours},
                      {"theirs", one.theirs}});
    passed = passed && one.passed();
  }
  if (!json.empty()) std::ofstream(json) << report.dump(2) << "\n";
  return passed ? 0 : 1;
}

}  // namespace
}  // namespace photonlane::bench

int main(int argc, char** argv) { return photonlane::bench::run(argc, argv); }
