// Drawings of cell maps.

#include "input.hpp"
#include "photonlane/photonlane.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
  using namespace photonlane;
  return fuzz::try_out([&] {
    Scene scene;
    const Cell wall = scene.wall({}, "wall");
    const LegendLetter legend[] = {{U'#', wall},
                                   {U'S', empty_cell, LegendLetter::Mark::start},
                                   {U'G', empty_cell, LegendLetter::Mark::goal},
                                   {U'b', wall, LegendLetter::Mark::none, CellForm{.height = 0.5}}};
    scene.room().add(draw_cells(fuzz::text_of(bytes, size), legend));
    const World world = compile(scene);
    render(world, Camera{.eye = {0.5, 0.5, 1.6}}, Budget{.frame = {8, 6, 1}},
           {.threads = 1, .progress = {}, .recycle = {}});
  });
}
