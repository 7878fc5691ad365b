// PNG pictures: as pictures, textures, heights and plates.

#include "input.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "plate.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
  using namespace photonlane;
  const std::string& path = fuzz::file_of(bytes, size, ".png");
  fuzz::try_out([&] { io::read_png(path, 1 << 20); });
  fuzz::try_out([&] { io::read_texture(path, 1 << 20); });
  fuzz::try_out([&] { fuzz::try_plate(path); });
  return fuzz::try_out([&] {
    const HeightMap map = io::read_heights(path);
    if (map.heights.size() < 4096)
      CompiledField(field::heights(map, {2, 2, 0.5})).distance({0, 0, 0});
  });
}
