// Volumes: read, and asked for a few values.

#include "input.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
  using namespace photonlane;
  return fuzz::try_out([&] {
    const std::string& path = fuzz::file_of(bytes, size, ".volume");
    const CompiledField field(field::volume(std::make_shared<Volume>(io::read_volume(path))));
    field.distance({0, 0, 0});
    field.gradient({1e6, -3, 0.5});
  });
}
