// EXR pictures: read, compared with themselves, and as plates.

#include "input.hpp"
#include "photonlane/io.hpp"
#include "plate.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
  using namespace photonlane;
  const std::string& path = fuzz::file_of(bytes, size, ".exr");
  fuzz::try_out([&] { fuzz::try_plate(path); });
  return fuzz::try_out([&] {
    const Frame frame = io::read_frame(path);
    if (frame.size().width > 256 || frame.size().height > 256) return;
    compare(frame, frame);
  });
}
