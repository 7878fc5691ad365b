#include <cairo.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <memory>

#include "photonlane/io/layer_picture.hpp"

namespace photonlane::io {
namespace {

constexpr int bar_height = 64;
constexpr int narrowest = 360;

struct Destroy {
  void operator()(cairo_surface_t* surface) const { cairo_surface_destroy(surface); }
  void operator()(cairo_t* context) const { cairo_destroy(context); }
};

void set_color(cairo_t* context, const std::array<std::uint8_t, 3>& color) {
  cairo_set_source_rgb(context, color[0] / 255.0, color[1] / 255.0, color[2] / 255.0);
}

double text_width(cairo_t* context, const std::string& text) {
  cairo_text_extents_t extents;
  cairo_text_extents(context, text.c_str(), &extents);
  return extents.x_advance;
}

void draw_text(cairo_t* context, double x, double y, const std::string& text) {
  cairo_move_to(context, x, y);
  cairo_show_text(context, text.c_str());
}

/// Round numbers that divide a range into four to eight parts.
std::vector<double> ticks(double low, double high) {
  if (!(high > low)) return {low};
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

void draw_bar(cairo_t* context, double top, double width, const Legend& legend) {
  constexpr double margin = 16;
  const double row = top + 42;
  cairo_set_source_rgb(context, 0.086, 0.094, 0.106);
  cairo_rectangle(context, 0, top, width, bar_height);
  cairo_fill(context);
  cairo_select_font_face(context, "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
  cairo_set_font_size(context, 12);
  const std::array<std::uint8_t, 3> ink{222, 224, 226};
  set_color(context, ink);
  draw_text(context, margin, top + 19, legend.title);

  double right = width - margin;
  double left = margin;
  std::vector<Legend::Swatch> swatches = legend.swatches;
  if (legend.has_ramp) {
    std::reverse(swatches.begin(), swatches.end());
    for (const Legend::Swatch& swatch : swatches) {
      right -= text_width(context, swatch.name) + 24;
      set_color(context, swatch.color);
      cairo_rectangle(context, right, row - 11, 14, 14);
      cairo_fill(context);
      set_color(context, ink);
      cairo_rectangle(context, right, row - 11, 14, 14);
      cairo_set_line_width(context, 0.5);
      cairo_stroke(context);
      draw_text(context, right + 20, row + 1, swatch.name);
      right -= 16;
    }
    const double bar_width = std::max(60.0, right - left);
    for (int x = 0; x < static_cast<int>(bar_width); ++x) {
      set_color(context, ramp(x / (bar_width - 1)));
      cairo_rectangle(context, left + x, row - 14, 1.5, 12);
      cairo_fill(context);
    }
    set_color(context, ink);
    const double range = legend.high > legend.low ? legend.high - legend.low : 1;
    for (const double tick : ticks(legend.low, legend.high)) {
      const double x = left + bar_width * (tick - legend.low) / range;
      const std::string label = fmt::format("{:.4g}", tick);
      cairo_rectangle(context, std::floor(x), row - 2, 1, 4);
      cairo_fill(context);
      const double label_width = text_width(context, label);
      draw_text(context, std::clamp(x - label_width / 2, left, left + bar_width - label_width),
                row + 14, label);
    }
    return;
  }
  for (const Legend::Swatch& swatch : swatches) {
    set_color(context, swatch.color);
    cairo_rectangle(context, left, row - 11, 14, 14);
    cairo_fill(context);
    set_color(context, ink);
    draw_text(context, left + 20, row + 1, swatch.name);
    left += text_width(context, swatch.name) + 44;
  }
}

}  // namespace

Picture with_legend(const Picture& picture, const Legend& legend) {
  const int width = std::max(picture.size.width, narrowest);
  Picture result(Size{width, picture.size.height + bar_height});
  for (int y = 0; y < picture.size.height; ++y) {
    std::copy_n(picture.pixel(0, y), 3 * static_cast<std::size_t>(picture.size.width),
                result.pixel(0, y));
  }
  // Only the bar goes through cairo; the picture's pixels stay what they are.
  const std::unique_ptr<cairo_surface_t, Destroy> surface(
      cairo_image_surface_create(CAIRO_FORMAT_RGB24, width, bar_height));
  const std::unique_ptr<cairo_t, Destroy> context(cairo_create(surface.get()));
  draw_bar(context.get(), 0, width, legend);
  cairo_surface_flush(surface.get());
  const unsigned char* data = cairo_image_surface_get_data(surface.get());
  const int stride = cairo_image_surface_get_stride(surface.get());
  for (int y = 0; y < bar_height; ++y) {
    const auto* row = reinterpret_cast<const std::uint32_t*>(data + y * stride);
    for (int x = 0; x < width; ++x) {
      std::uint8_t* pixel = result.pixel(x, picture.size.height + y);
      for (int channel = 0; channel < 3; ++channel) {
        pixel[channel] = static_cast<std::uint8_t>(row[x] >> (16 - 8 * channel));
      }
    }
  }
  return result;
}

}  // namespace photonlane::io
