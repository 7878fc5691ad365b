// A world that changes every frame: what a change of a light, a material, a field, a sphere or a
// number of the scene file costs, all of it, beside the frame itself.

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <photonlane/io.hpp>
#include <photonlane/photonlane.hpp>
#include <vector>

using namespace photonlane;

namespace {

double milliseconds() {
  const auto now = std::chrono::steady_clock::now().time_since_epoch();
  return std::chrono::duration<double, std::milli>(now).count();
}

double median(std::vector<double> values) {
  std::sort(values.begin(), values.end());
  return values.empty() ? 0 : values[values.size() / 2];
}

constexpr const char* garden = R"(
numbers: {height: 1.2, lean: 10}
camera: {eye: [0.5, -6, 1.8], look_at: [0, 0, 0.9]}
textures:
  bark: {pattern: planks, width: 512, height: 512}
  moss: {pattern: leaf, width: 512, height: 512, color: "#4d7d38"}
materials:
  bark: {texture: bark, tile: 1}
  moss: {texture: moss, tile: 2}
  pearl: {base: "#e8e0d0", specular: 0.04}
room:
  sky: {zenith: "#35507f", horizon: "#f0b88c", haze: 10}
  fog: {color: "#d9b8a0", start: 12, end: 60}
  light: {ambient: [0.4, 0.42, 0.5], sun: {heading: 230, elevation: 30}, lamps: [{place: [0, -2, 2.5]}]}
  solids:
    - field: {plane: {}, material: moss}
    - field: {material: bark, place: {at: [-1.4, 0, 0.8], of: {cylinder: {radius: 0.3, height: 1.6, round: 0.05}}}}
    - field: {material: moss, place: {at: [1.4, 0, 0.7], turn: [$lean, 0, 0], of: {box: {size: [0.8, 0.8, $height], round: 0.1}}}}
    - spheres: {material: pearl, radius: 0.3, at: [[0, 0, 0.3], [0.5, -0.6, 0.3], [-0.5, -0.6, 0.3]]}
)";

}  // namespace

int main(int argc, char** argv) {
  const io::SceneFile file = io::parse_scene(garden, "garden.yaml");
  Scene scene = file.scene;
  Budget budget{.frame = {160, 100, 1}};
  const double start = milliseconds();
  World world = compile(scene);
  fmt::print("compiled at first in {:.2f} ms\n", milliseconds() - start);

  const auto spheres = std::dynamic_pointer_cast<const Spheres>(scene.room().parts.front());
  std::map<std::string, std::vector<double>> costs;
  std::vector<double> frames;
  Frame frame;
  for (int i = 0; i < 100; ++i) {
    const double turn = 0.05 * i;
    const double before = milliseconds();
    const char* what = nullptr;
    switch (i % 5) {
      case 0:
        what = "a light";
        scene.room().light.lamps.front().place.x() = 2 * std::sin(turn);
        break;
      case 1:
        what = "a material";
        scene.materials[2].base = {0.9f, 0.7f, static_cast<float>(0.5 + 0.4 * std::sin(turn))};
        break;
      case 2:
        what = "a field";
        scene.room().fields[1] =
            field::place({-1.4, 0, 0.8 + 0.3 * std::sin(turn)}, field::cylinder(0.3, 1.6, 0.05))
                .made_of(0);
        break;
      case 3: {
        what = "a sphere";
        Spheres moved = *spheres;
        moved.spheres[0].center.z() = 0.5 + 0.2 * std::sin(turn);
        scene.room().parts.front() = std::make_shared<const Spheres>(moved);
        break;
      }
      default:
        what = "a number of the file";
        scene = io::scene_with(file, {{"height", fmt::format("{}", 1 + 0.4 * std::sin(turn))}});
    }
    world = compile(scene, world);
    costs[what].push_back(milliseconds() - before);
    const double ready = milliseconds();
    frame = render(world, file.camera, budget,
                   {.layers = {Layer::display}, .progress = {}, .recycle = std::move(frame)});
    frames.push_back(milliseconds() - ready);
  }
  for (const auto& [what, times] : costs) {
    fmt::print("{} changed: {:.3f} ms until the world is ready, at most {:.3f}\n", what,
               median(times), *std::max_element(times.begin(), times.end()));
  }
  fmt::print("a frame: {:.2f} ms\n", median(frames));
  if (argc > 1) io::write_frame(argv[1], frame);
  return 0;
}
