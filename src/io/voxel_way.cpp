#include "photonlane/io/voxel_way.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "field/warp.hpp"
#include "io/cairo_canvas.hpp"

namespace photonlane::io {
namespace {

int depth_of(std::int32_t side, std::int32_t largest) {
  int depth = 0;
  for (; side < largest; side *= 4) ++depth;
  return depth;
}

std::array<std::uint8_t, 3> color_of(std::int32_t side) {
  static constexpr std::array<std::uint8_t, 3> colors[] = {
      {214, 93, 60}, {222, 158, 66}, {112, 158, 84}, {70, 140, 160}, {92, 98, 170}};
  int size = 0;
  for (std::int32_t k = side; k > 1; k /= 4) ++size;
  return colors[std::min(size, 4)];
}

}  // namespace

std::string visits_text(const std::vector<VoxelVisit>& visits) {
  std::string text;
  std::int32_t largest = 1;
  for (const VoxelVisit& visit : visits) largest = std::max(largest, visit.side);
  for (const VoxelVisit& visit : visits) {
    const char* const what = visit.kind == VoxelVisitKind::opened   ? "looks into"
                             : visit.kind == VoxelVisitKind::passed ? "passes"
                                                                    : "meets";
    text += fmt::format("{:10.3f} m  {:{}}{} {} cell{} at {}, {}, {}\n", visit.t, "",
                        2 * depth_of(visit.side, largest), what, visit.side,
                        visit.side == 1 ? "" : "s", visit.low[0], visit.low[1], visit.low[2]);
  }
  return text;
}

Picture visits_picture(const Voxels& part, const std::vector<VoxelVisit>& visits, const Vec3d& from,
                       const Vec3d& way, double length) {
  // In the grid's own space: along the lane's heading, and up.
  const Mat3d turn = turn_matrix(part.turn);
  const Vec3d start = turn.transpose() * (from - part.at) / part.cell;
  const Vec3d along = turn.transpose() * way / part.cell;
  const double level = std::hypot(along.x(), along.y());
  const Vec3d heading = level > 0 ? Vec3d(along.x() / level, along.y() / level, 0) : Vec3d(1, 0, 0);
  struct Rectangle {
    double left, right, bottom, top;
    const VoxelVisit* visit;
  };
  std::vector<Rectangle> rectangles;
  for (const VoxelVisit& visit : visits) {
    // Where the heading's line lies within the cube, in the plan.
    double in = -1e300;
    double out = 1e300;
    for (int axis = 0; axis < 2; ++axis) {
      const double low = visit.low[static_cast<std::size_t>(axis)] - start[axis];
      const double high = low + visit.side;
      if (heading[axis] == 0) continue;
      const double one = low / heading[axis];
      const double other = high / heading[axis];
      in = std::max(in, std::min(one, other));
      out = std::min(out, std::max(one, other));
    }
    if (in > out) continue;
    const double low = visit.low[2];
    rectangles.push_back({in, out, low, low + visit.side, &visit});
  }
  double end = length;
  for (const VoxelVisit& visit : visits) {
    if (visit.kind == VoxelVisitKind::met) end = visit.t;
  }
  constexpr int wide = 1280;
  constexpr int high = 800;
  constexpr double margin = 30;
  constexpr double head = 64;
  // The lane, and a little around it.
  const double reach = std::max(end * level, 1.0);
  const double lowest = std::min(start.z(), start.z() + end * along.z());
  const double highest = std::max(start.z(), start.z() + end * along.z());
  const double scale = std::min((wide - 2 * margin) / (1.06 * reach),
                                (high - head - margin) / std::max(1.3 * (highest - lowest), 1.0));
  const double left = 0.5 * (reach - (wide - 2 * margin) / scale);
  const double bottom = 0.5 * (lowest + highest - (high - head - margin) / scale);
  const auto x_of = [&](double place) { return margin + (place - left) * scale; };
  const auto y_of = [&](double place) { return high - margin - (place - bottom) * scale; };
  const Canvas canvas({wide, high});
  canvas.set_color({24, 26, 32});
  canvas.rectangle(0, 0, wide, high);
  cairo_t* const context = canvas.context();
  cairo_rectangle(context, 0, head - 8, wide, high - head + 8);
  cairo_clip(context);
  // What is set in the slice.
  constexpr int dot = 2;
  for (int y = static_cast<int>(head) - 8; y < high; y += dot) {
    for (int x = 0; x < wide; x += dot) {
      const double place = left + (x + 0.5 * dot - margin) / scale;
      const Vec3d at = start + place * heading;
      const double up = bottom + (high - margin - y - 0.5 * dot) / scale;
      const std::uint32_t value = part.grid->at({static_cast<std::int32_t>(std::floor(at.x())),
                                                 static_cast<std::int32_t>(std::floor(at.y())),
                                                 static_cast<std::int32_t>(std::floor(up))});
      if (value == 0) continue;
      const VoxelPalette& palette = part.grid->palette();
      std::uint32_t color = palette.direct ? value - 1 : palette.kinds[value - 1].color;
      if (color == VoxelKind::no_color) color = 0x808080;
      canvas.set_color({static_cast<std::uint8_t>(color >> 16),
                        static_cast<std::uint8_t>(color >> 8), static_cast<std::uint8_t>(color)},
                       0.75);
      canvas.rectangle(x, y, dot, dot);
    }
  }
  for (const bool outlines : {false, true}) {
    for (const Rectangle& one : rectangles) {
      const bool passed = one.visit->kind == VoxelVisitKind::passed;
      const double x = x_of(one.left);
      const double y = y_of(one.top);
      const double across = (one.right - one.left) * scale;
      const double up = (one.top - one.bottom) * scale;
      if (!outlines) {
        if (one.visit->kind == VoxelVisitKind::opened) continue;
        canvas.set_color(
            passed ? color_of(one.visit->side) : std::array<std::uint8_t, 3>{255, 240, 200},
            passed ? 0.35 : 1);
        canvas.rectangle(x, y, across, up);
      } else {
        canvas.set_color(color_of(one.visit->side), passed ? 0.8 : 0.6);
        cairo_set_line_width(context, passed ? 1 : 1.5);
        cairo_rectangle(context, x, y, across, up);
        cairo_stroke(context);
      }
    }
  }
  canvas.set_color({255, 255, 255});
  cairo_set_line_width(context, 1.6);
  cairo_move_to(context, x_of(0), y_of(start.z()));
  cairo_line_to(context, x_of(end * level), y_of(start.z() + end * along.z()));
  cairo_stroke(context);
  cairo_reset_clip(context);
  canvas.set_font(16);
  std::size_t opened = 0;
  std::size_t passed = 0;
  for (const VoxelVisit& visit : visits) {
    opened += visit.kind == VoxelVisitKind::opened ? 1 : 0;
    passed += visit.kind == VoxelVisitKind::passed ? 1 : 0;
  }
  canvas.set_color({230, 230, 230});
  canvas.text(
      margin, 24,
      fmt::format("{} nodes looked into, {} empty cubes passed, {:.2f} m", opened, passed, end));
  double x = margin;
  canvas.set_font(13);
  for (const std::int32_t side : {1, 4, 16, 64, 256}) {
    canvas.set_color(color_of(side));
    canvas.rectangle(x, 36, 12, 12);
    canvas.set_color({230, 230, 230});
    const std::string words = fmt::format("up to {} cells a side", side);
    canvas.text(x + 18, 47, side == 1 ? "1 cell" : words);
    x += 40 + canvas.text_width(words);
  }
  return canvas.picture();
}

}  // namespace photonlane::io
