// EXR pictures: read, and compared with themselves.

#include "input.hpp"
#include "photonlane/io.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
  using namespace photonlane;
  return fuzz::try_out([&] {
    const Frame frame = io::read_frame(fuzz::file_of(bytes, size, ".exr"));
    if (frame.size().width > 256 || frame.size().height > 256) return;
    compare(frame, frame);
  });
}
