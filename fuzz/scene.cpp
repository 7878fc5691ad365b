// Scene files: read, written and read again, looked at and rendered as a few pixels.

#include <algorithm>

#include "input.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

namespace {

using namespace photonlane;

bool is_digit(char c) { return c >= '0' && c <= '9'; }

/// Whether what follows a key, which says what is made, may ask for numbers of more than so many
/// digits, or for as many as are made where `count` is not said.
bool makes_many(std::string_view text, std::string_view key, std::string_view count, int digits) {
  for (auto at = text.find(key); at != text.npos; at = text.find(key, at + 1)) {
    auto next = text.substr(at + key.size(), 60);
    if (next.find("base") != next.npos) continue;  // a material
    const auto first = next.find_first_not_of(' ');
    if (first != next.npos && is_digit(next[first])) continue;  // a number of that name
    const auto said = next.find(count);
    if (said == next.npos) return true;
    int found = 0;
    next = next.substr(said + count.size());
    for (const char c : next.substr(0, next.find_first_of(",}\n"))) {
      found = is_digit(c) ? found + 1 : 0;
      if (found > digits || c == '$' || c == 'e' || c == 'E') return true;
    }
  }
  return false;
}

/// Large pictures and sets are slow, not wrong: there are other tests for their limits.
bool draws_much(std::string_view text) {
  // Each grain of pollen and each block of a garden is made while the text is read.
  if (makes_many(text, "pollen:", "count:", 4)) return true;
  if (text.find("voxels:") != text.npos &&
      (makes_many(text, "terraces:", "side:", 2) || makes_many(text, "field:", "points:", 2))) {
    return true;
  }
  for (const std::string_view key : {"width:", "height:", "times:", "roots:", "iterations:"}) {
    for (auto at = text.find(key); at != text.npos; at = text.find(key, at + 1)) {
      const auto number = text.substr(at + key.size(), 12);
      if (std::count_if(number.begin(), number.end(), is_digit) > 3) return true;
    }
  }
  return text.find("include") != text.npos;
}

bool has_land(const Scene& scene) {
  for (const Room& room : scene.rooms) {
    for (const auto& part : room.parts) {
      const auto* const voxels = dynamic_cast<const Voxels*>(part.get());
      if (voxels != nullptr && voxels->land != nullptr) return true;
    }
  }
  return false;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
  const std::string_view text = fuzz::text_of(bytes, size);
  if (draws_much(text)) return 0;
  return fuzz::try_out([&] {
    io::SceneFile file = io::parse_scene(std::string(text), "made-up.yaml");
    file.budget.frame = {8, 6, 1};
    file.budget.plane.iterations = std::min<std::int64_t>(file.budget.plane.iterations, 200);
    file.budget.plane.limit = PlaneLimit::given;
    file.budget.field.steps =
        std::min<decltype(file.budget.field.steps)>(file.budget.field.steps, 64);
    file.budget.crossings.limit = std::min(file.budget.crossings.limit, 4);
    file.budget.crossings.steps = std::min(file.budget.crossings.steps, 64);
    file.budget.bounces.limit = std::min(file.budget.bounces.limit, 2);
    file.budget.light.soft_samples = std::min(file.budget.light.soft_samples, 2);
    file.budget.light.corner_samples = std::min(file.budget.light.corner_samples, 2);
    // Land without end is made by threads that go on with what they have begun.
    file.budget.voxels.wait = false;
    const World world = compile(file.scene);
    if (!has_land(file.scene))
      render(world, file.camera, file.budget, {.threads = 1, .progress = {}, .recycle = {}});
    std::string again;
    try {
      again = io::scene_text(file);
    } catch (const Error&) {
      return;  // not everything can be written
    }
    io::parse_scene(again, "again.yaml");
  });
}
