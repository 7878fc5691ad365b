// What a stranger writes first: everything comes from the installed headers and libraries.

#include <cstdio>
#include <photonlane/io.hpp>
#include <photonlane/photonlane.hpp>

int main() {
  using namespace photonlane;
  Scene scene;
  const LegendLetter legend[] = {{U'#', scene.wall({.base = {0.5f, 0.3f, 0.2f}})}};
  scene.room().add(draw_cells("#####\n#...#\n#####", legend));
  Frame frame =
      render(compile(scene), Camera{.eye = {1.5, 1.5, 1.6}}, Budget{.frame = {64, 40, 1}});
  io::write_frame("outside.png", frame);
  const float distance = frame.values(Layer::color).row(20)[32];
  std::printf("hits %d, red %.3f\n", static_cast<int>(frame.tally.hits), distance);
  return frame.tally.hits == 64 ? 0 : 1;
}
