#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "io/cairo_canvas.hpp"
#include "photonlane/io/layer_picture.hpp"

namespace photonlane::io {
namespace {

constexpr int bar_height = 64;
constexpr int narrowest = 360;
constexpr double margin = 16;
constexpr double row = 42;  // baseline of swatches and ramp
constexpr std::array<std::uint8_t, 3> paper{22, 24, 27};
constexpr std::array<std::uint8_t, 3> ink{222, 224, 226};

/// Round numbers that divide a range: into four to eight parts where it is not logarithmic.
std::vector<double> ticks(const Legend& legend) {
  const double low = legend.low;
  const double high = legend.high;
  if (!(high > low)) return {low};
  if (legend.logarithmic) {
    // 1, 2 and 5 of each decade, or the decades alone where those are many.
    const bool many = high / low > 1e4;
    std::vector<double> values;
    for (double decade = std::pow(10, std::floor(std::log10(low))); decade <= high; decade *= 10) {
      for (const double factor : {1.0, 2.0, 5.0}) {
        const double value = factor * decade;
        if (value >= low && value <= high && (factor == 1 || !many)) values.push_back(value);
      }
    }
    return values;
  }
  const double rough = (high - low) / 6;
  const double magnitude = std::pow(10, std::floor(std::log10(rough)));
  double step = 10 * magnitude;
  for (const double factor : {1.0, 2.0, 2.5, 5.0}) {
    if (factor * magnitude >= rough) {
      step = factor * magnitude;
      break;
    }
  }
  std::vector<double> values;
  const auto first = static_cast<int>(std::ceil(low / step - 1e-9));
  for (int i = first; i * step <= high * (1 + 1e-9); ++i) values.push_back(i * step);
  return values;
}

/// A swatch with its name; gives the width it took.
double draw_swatch(const Canvas& canvas, double x, const Legend::Swatch& swatch) {
  canvas.set_color(swatch.color);
  canvas.rectangle(x, row - 11, 14, 14);
  canvas.set_color(ink);
  canvas.text(x + 20, row + 1, swatch.name);
  return canvas.text_width(swatch.name) + 40;
}

void draw_ramp(const Canvas& canvas, double left, double right, const Legend& legend) {
  const double width = std::max(60.0, right - left);
  for (int x = 0; x < static_cast<int>(width); ++x) {
    canvas.set_color(ramp(x / (width - 1)));
    canvas.rectangle(left + x, row - 14, 1.5, 12);
  }
  canvas.set_color(ink);
  for (const double tick : ticks(legend)) {
    const double x = left + width * legend.share(tick);
    const std::string label = fmt::format("{:.4g}", tick);
    const double label_width = canvas.text_width(label);
    canvas.rectangle(std::floor(x), row - 2, 1, 4);
    canvas.text(std::clamp(x - label_width / 2, left, left + width - label_width), row + 14, label);
  }
}

}  // namespace

double Legend::share(double number) const {
  if (!logarithmic) return (number - low) / (high - low);
  return number > low ? std::log(number / low) / std::log(high / low) : 0;
}

Picture with_legend(const Picture& picture, const Legend& legend) {
  const int width = std::max(picture.size.width, narrowest);
  // Only the bar goes through cairo; the picture's pixels stay what they are.
  const Canvas canvas(Size{width, bar_height});
  canvas.set_color(paper);
  canvas.rectangle(0, 0, width, bar_height);
  canvas.set_font(12);
  canvas.set_color(ink);
  canvas.text(margin, 19, legend.title);
  double swatches = 0;
  for (const Legend::Swatch& swatch : legend.swatches) {
    swatches += canvas.text_width(swatch.name) + 40;
  }
  double x = legend.has_ramp ? width - margin - swatches + 16 : margin;
  if (legend.has_ramp) draw_ramp(canvas, margin, x - 16, legend);
  for (const Legend::Swatch& swatch : legend.swatches) x += draw_swatch(canvas, x, swatch);

  Picture result(Size{width, picture.size.height + bar_height});
  for (std::size_t i = 0; i < result.bytes.size(); ++i) result.bytes[i] = paper[i % 3];
  for (int y = 0; y < picture.size.height; ++y) {
    std::copy_n(picture.pixel(0, y), 3 * static_cast<std::size_t>(picture.size.width),
                result.pixel(0, y));
  }
  const Picture bar = canvas.picture();
  std::copy(bar.bytes.begin(), bar.bytes.end(), result.pixel(0, picture.size.height));
  return result;
}

}  // namespace photonlane::io
