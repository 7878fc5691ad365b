#include "photonlane/measure/calibration.hpp"

#include <cstdint>
#include <vector>

#include "base/stopwatch.hpp"

namespace photonlane {

double calibrate_ms() {
  static const std::vector<std::uint32_t> places = [] {
    // A walk that comes to every place, far from the last one each time.
    constexpr std::uint32_t count = 1u << 20;
    std::vector<std::uint32_t> next(count);
    for (std::uint32_t i = 0; i < count; ++i) next[i] = (i * 1664525u + 1013904223u) % count;
    return next;
  }();
  const Stopwatch watch;
  std::uint32_t at = 1;
  float a = 1;
  float b = 0.5f;
  float c = 0.25f;
  float d = 0.125f;
  for (int i = 0; i < 60'000; ++i) {
    for (int k = 0; k < 8; ++k) {
      a = a * 0.999f + 0.001f;
      b = b * 0.998f + 0.002f;
      c = c * 0.997f + 0.003f;
      d = d * 0.996f + 0.004f;
    }
    if (i % 8 == 0) at = places[at];
  }
  // Kept, so that none of it is left out.
  volatile float kept = a + b + c + d + static_cast<float>(at);
  static_cast<void>(kept);
  return watch.milliseconds();
}

}  // namespace photonlane
