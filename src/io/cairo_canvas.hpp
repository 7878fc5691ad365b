#pragma once

#include <cairo.h>

#include <memory>
#include <string>

#include "photonlane/io/picture.hpp"

namespace photonlane::io {

/// A picture to draw on with cairo.
class Canvas {
 public:
  explicit Canvas(Size size);
  /// Starts from a picture.
  explicit Canvas(const Picture& picture);

  cairo_t* context() const { return context_.get(); }
  void set_color(const std::array<std::uint8_t, 3>& color, double opacity = 1) const;
  void set_font(double size) const;
  double text_width(const std::string& text) const;
  void text(double x, double y, const std::string& text) const;
  void rectangle(double x, double y, double width, double height) const;

  Picture picture() const;

 private:
  struct Destroy {
    void operator()(cairo_surface_t* surface) const { cairo_surface_destroy(surface); }
    void operator()(cairo_t* context) const { cairo_destroy(context); }
  };
  Size size_;
  std::unique_ptr<cairo_surface_t, Destroy> surface_;
  std::unique_ptr<cairo_t, Destroy> context_;
};

}  // namespace photonlane::io
