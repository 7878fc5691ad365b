// Scene files: read, written and read again, looked at and rendered as a few pixels.

#include <algorithm>

#include "input.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

namespace {

using namespace photonlane;

bool is_digit(char c) { return c >= '0' && c <= '9'; }

/// Whether a text may ask for more than 9,999 grains of pollen. Each is made and put in order while
/// the text is read, and where no count is said there are a million.
bool has_much_pollen(std::string_view text) {
  constexpr std::string_view key = "pollen:";
  for (auto at = text.find(key); at != text.npos; at = text.find(key, at + 1)) {
    auto next = text.substr(at + key.size(), 40);
    if (next.find("base") != next.npos) continue;  // a material
    const auto count = next.find("count:");
    if (count == next.npos) return true;
    int digits = 0;
    next = next.substr(count + 6);
    for (const char c : next.substr(0, next.find_first_of(",}\n"))) {
      digits = is_digit(c) ? digits + 1 : 0;
      if (digits > 4 || c == '$' || c == 'e' || c == 'E') return true;
    }
  }
  return false;
}

/// Large pictures and sets are slow, not wrong: there are other tests for their limits.
bool draws_much(std::string_view text) {
  if (has_much_pollen(text)) return true;
  for (const std::string_view key : {"width:", "height:", "times:", "roots:", "iterations:"}) {
    for (auto at = text.find(key); at != text.npos; at = text.find(key, at + 1)) {
      const auto number = text.substr(at + key.size(), 12);
      if (std::count_if(number.begin(), number.end(), is_digit) > 3) return true;
    }
  }
  return text.find("include") != text.npos;
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
    const World world = compile(file.scene);
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
