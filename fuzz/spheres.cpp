// Spheres from files of every kind: read, put in order and met. The first byte says which kind.

#include "input.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
  using namespace photonlane;
  if (size < 1) return 0;
  constexpr const char* endings[] = {".ply", ".csv", ".spheres", ".bin"};
  const char* const ending = endings[bytes[0] % 4];
  return fuzz::try_out([&] {
    io::SphereFiles files;
    files.paths = {fuzz::file_of(bytes + 1, size - 1, ending)};
    if (bytes[0] % 4 == 3) io::set_record("stride=14,x=0,y=4,z=8,material=12", files);
    SphereSetOptions options;
    options.keeping = bytes[0] >= 128 ? SphereKeeping::exact : SphereKeeping::compact;
    const auto solid = Spheres(io::read_spheres(files, options)).compile({.materials = 70000});
    LaneBatch<float> lanes;
    lanes.size = 1;
    lanes.far_limit = 1000;
    lanes.direction_x[0] = 1;
    solid->nearest_hit(lanes, Budget{});
    solid->closest({1, 2, 3});
  });
}
