// Walk scripts, in a scene with a door and a number.

#include "input.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
  using namespace photonlane;
  static const io::SceneFile file = io::parse_scene(R"(
numbers: {lean: 20}
camera: {eye: [1.5, 1.5, 1.6]}
materials: {stone: {}}
room:
  solids:
    - cells:
        legend: {"#": stone, d: {material: stone, shape: sliding}}
        map: |
          #######
          #..d..#
          #..#..#
          #######
    - field: {place: {at: [2.5, 2.5, 1], turn: [0, 0, $lean], of: {box: {size: [0.3, 0.3, 0.3]}}}}
)",
                                                    "court.yaml");
  return fuzz::try_out([&] {
    const WalkScript script = io::read_walk_script(fuzz::file_of(bytes, size, ".yaml"), file);
    double time = 0;
    double way = 0;
    for (const WalkMove& move : script.moves) {
      time += move.over;
      way += std::abs(move.forward) + std::abs(move.sideways);
    }
    // Long ones are slow, not wrong.
    if (time * script.rate > 500 || way > 100 || script.radius < 0.01) return;
    walk(compile(file.scene), file.camera, script);
  });
}
