#include "io/cairo_canvas.hpp"

namespace photonlane::io {

Canvas::Canvas(Size size)
    : size_(size),
      surface_(cairo_image_surface_create(CAIRO_FORMAT_RGB24, size.width, size.height)),
      context_(cairo_create(surface_.get())) {}

Canvas::Canvas(const Picture& picture) : Canvas(picture.size) {
  unsigned char* data = cairo_image_surface_get_data(surface_.get());
  const int stride = cairo_image_surface_get_stride(surface_.get());
  for (int y = 0; y < size_.height; ++y) {
    auto* row = reinterpret_cast<std::uint32_t*>(data + y * stride);
    for (int x = 0; x < size_.width; ++x) {
      const std::uint8_t* pixel = picture.pixel(x, y);
      row[x] = static_cast<std::uint32_t>(pixel[0]) << 16 |
               static_cast<std::uint32_t>(pixel[1]) << 8 | pixel[2];
    }
  }
  cairo_surface_mark_dirty(surface_.get());
}

void Canvas::set_color(const std::array<std::uint8_t, 3>& color, double opacity) const {
  cairo_set_source_rgba(context(), color[0] / 255.0, color[1] / 255.0, color[2] / 255.0, opacity);
}

void Canvas::set_font(double size) const {
  cairo_select_font_face(context(), "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL,
                         CAIRO_FONT_WEIGHT_NORMAL);
  cairo_set_font_size(context(), size);
}

double Canvas::text_width(const std::string& text) const {
  cairo_text_extents_t extents;
  cairo_text_extents(context(), text.c_str(), &extents);
  return extents.x_advance;
}

void Canvas::text(double x, double y, const std::string& text) const {
  cairo_move_to(context(), x, y);
  cairo_show_text(context(), text.c_str());
}

void Canvas::rectangle(double x, double y, double width, double height) const {
  cairo_rectangle(context(), x, y, width, height);
  cairo_fill(context());
}

Picture Canvas::picture() const {
  Picture picture(size_);
  cairo_surface_flush(surface_.get());
  const unsigned char* data = cairo_image_surface_get_data(surface_.get());
  const int stride = cairo_image_surface_get_stride(surface_.get());
  for (int y = 0; y < size_.height; ++y) {
    const auto* row = reinterpret_cast<const std::uint32_t*>(data + y * stride);
    for (int x = 0; x < size_.width; ++x) {
      for (int channel = 0; channel < 3; ++channel) {
        picture.pixel(x, y)[channel] = static_cast<std::uint8_t>(row[x] >> (16 - 8 * channel));
      }
    }
  }
  return picture;
}

}  // namespace photonlane::io
