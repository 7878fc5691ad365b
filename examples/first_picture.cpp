// A scene in ten lines, a picture of it, and what a careless setting would have saved and cost.

#include <fmt/format.h>

#include <photonlane/io.hpp>
#include <photonlane/photonlane.hpp>

using namespace photonlane;

int main(int argc, char** argv) {
  Scene scene;
  const Cell hedge = scene.wall({.base = {0.10f, 0.24f, 0.09f}}, "hedge");
  const Cell stone = scene.wall({.base = {0.55f, 0.48f, 0.38f}}, "stone");
  const LegendLetter legend[] = {{U'H', hedge}, {U'S', stone}};
  scene.room().add(
      draw_cells("HHHHHHHHHHHH\n"
                 "H..........H\n"
                 "H..S....S..H\n"
                 "H..........H\n"
                 "H..S....S..H\n"
                 "H...........\n"
                 "HHHHHHHHHHHH\n",
                 legend));
  const World world = compile(scene);
  const Camera camera{.eye = {1.5, 1.4, 1.6}, .heading = degrees(18)};

  Frame exact = render(world, camera, Budget{.frame = {640, 400, 4}});
  const Frame careless = render(
      world, camera,
      Budget{.frame = {640, 400, 4}, .cells = {.method = CellMethod::increment, .increment = 0.3}});
  const Difference error = compare(careless, exact);
  fmt::print("exact:    {:6.1f} steps a lane, {:.2f} ms\n", exact.tally.steps_per_lane(),
             exact.cost.total_ms());
  fmt::print("careless: {:6.1f} steps a lane, {:.2f} ms, RMSE {:.4f}\n",
             careless.tally.steps_per_lane(), careless.cost.total_ms(), error.rmse);
  io::write_frame(argc > 1 ? argv[1] : "first_picture.png", exact);
}
