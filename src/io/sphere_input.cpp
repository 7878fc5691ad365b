#include "io/sphere_input.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/error.hpp"
#include "photonlane/base/words.hpp"

namespace photonlane::io {
namespace {

constexpr auto& quantity_names = choice_names<SphereQuantity>;

}  // namespace

void SphereInput::refuse(const std::string& what, int line) const {
  throw Error(ErrorKind::file, what, Place{path(), line});
}

void SphereInput::scale_color(std::size_t quantity, SphereNumber type) {
  if (quantity < color_first || quantity >= material_index) return;
  const bool real = type == SphereNumber::float32 || type == SphereNumber::float64;
  color_scale_[quantity - color_first] = real                           ? 255
                                         : type == SphereNumber::uint16 ? 255.0 / 65535
                                                                        : 1;
}

void SphereInput::put(const double* numbers, SphereRun& run, std::size_t i) const {
  run.x[i] = numbers[0] * scale_;
  run.y[i] = numbers[1] * scale_;
  run.z[i] = numbers[2] * scale_;
  run.radius[i] = (there_[3] ? numbers[3] : radius_) * scale_;
  if (there_[color_first]) {
    std::uint32_t color = 0;
    for (std::size_t k = 0; k < 3; ++k) {
      // What is no number becomes 0.
      const double level = numbers[color_first + k] * color_scale_[k] + 0.5;
      const auto byte = static_cast<std::uint32_t>(level > 0 ? std::min(level, 255.0) : 0.0);
      color = (color << 8) | byte;
    }
    run.color[i] = color;
  }
  if (there_[material_index]) {
    const double number = numbers[material_index];
    const bool whole = number >= 0 && number <= 65535 && number == std::floor(number);
    run.material[i] = whole ? static_cast<std::uint32_t>(number) : 0xffffffffu;
  }
}
void SphereInput::find_columns(const std::vector<std::string>& names, const SphereFiles& files,
                               int line) {
  for (std::size_t q = 0; q < sphere_quantities; ++q) {
    const bool asked = !files.columns[q].empty();
    const std::string wanted = asked ? files.columns[q] : std::string(quantity_names[q]);
    const auto found = std::find(names.begin(), names.end(), wanted);
    there_[q] = found != names.end();
    column_[q] = static_cast<std::size_t>(found - names.begin());
    if (there_[q] || !(asked || q < 3)) continue;
    std::vector<std::string_view> known(names.begin(), names.end());
    refuse(fmt::format("no '{}' among its columns, expected it for {}{}", wanted.substr(0, 60),
                       quantity_names[q], suggestion(wanted, known)),
           line);
  }
  const int colors = there_[4] + there_[5] + there_[6];
  if (colors != 0 && colors != 3) {
    refuse("some of red, green and blue, expected all of them or none", line);
  }
}

}  // namespace photonlane::io
