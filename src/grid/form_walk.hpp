#pragma once

#include <cmath>
#include <cstdint>
#include <limits>

#include "photonlane/grid/cell_map.hpp"
#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// One lane on its way through a map, cell by cell. The same numbers as in the vector kernels, bit
/// for bit: t(k) = (k + offset) * inverse, in cells.
template <class Number>
struct CellLane {
  struct Axis {
    Number position, direction;  ///< cells; per cell of the way
    Number start;                ///< the cell it starts in
    Number offset, inverse;
    Number crossed = 0;
    int sign = 1;

    Number next() const { return (crossed + offset) * inverse; }
    std::int64_t cell() const {
      return static_cast<std::int64_t>(start) + sign * static_cast<std::int64_t>(crossed);
    }
  };
  Axis x, y;
  Number t = 0;       ///< cells: where it came into its cell
  bool by_x = false;  ///< across a boundary of constant x
  std::uint32_t steps = 0;

  CellLane(const LaneBatch<Number>& lanes, std::size_t i, double cell_size) {
    begin(x, lanes.x[i], lanes.direction_x[i], cell_size);
    begin(y, lanes.y[i], lanes.direction_y[i], cell_size);
  }

  /// Puts the lane into the cell it is in after so many crossings.
  void resume(Number crossed_x, Number crossed_y) {
    x.crossed = crossed_x;
    y.crossed = crossed_y;
    const Number t_x = crossed_x > 0 ? (crossed_x - 1 + x.offset) * x.inverse : 0;
    const Number t_y = crossed_y > 0 ? (crossed_y - 1 + y.offset) * y.inverse : 0;
    by_x = t_x > t_y;
    t = std::max(t_x, t_y);
  }

  /// Puts it into the cell it is in at `way`, boundaries at `way` itself crossed.
  void resume_at(Number way) {
    const auto crossings = [&](const Axis& axis) {
      if (axis.direction == 0) return Number(0);
      Number count = std::max(Number(0), std::floor(way * std::abs(axis.direction) - axis.offset));
      while ((count + axis.offset) * axis.inverse <= way) ++count;
      while (count > 0 && (count - 1 + axis.offset) * axis.inverse > way) --count;
      return count;
    };
    resume(crossings(x), crossings(y));
  }

  Number leaves() const { return std::min(x.next(), y.next()); }

  void step() {
    by_x = x.next() <= y.next();
    t = by_x ? x.next() : y.next();
    (by_x ? x : y).crossed += 1;
    ++steps;
  }

  Face face() const {
    if (x.crossed == 0 && y.crossed == 0) return Face::inside;
    if (by_x) return x.sign > 0 ? Face::west : Face::east;
    return y.sign > 0 ? Face::south : Face::north;
  }

 private:
  static void begin(Axis& axis, Number meters, Number direction, double cell_size) {
    int exponent = 0;
    const bool halves = std::frexp(cell_size, &exponent) == 0.5;
    axis.position = halves ? meters * static_cast<Number>(1 / cell_size)
                           : meters / static_cast<Number>(cell_size);
    axis.direction = direction;
    axis.start = std::floor(axis.position);
    const Number fraction = axis.position - axis.start;
    axis.inverse = 1 / std::abs(direction);
    axis.offset = direction == 0 ? 1 : direction < 0 ? fraction : 1 - fraction;
    axis.sign = direction < 0 ? -1 : 1;
  }
};

/// A panel in its cell: an upright box turned any way, in cells from the cell's south-west corner.
struct PanelBox {
  double center_x, center_y;
  double along_x, along_y;  ///< unit length, from the panel's low end to its high end
  double half_length, half_width;
  double u_low;  ///< place on the panel of the box's low end, of its whole length
};

PanelBox panel_box(const CellForm& form, double cell_size);

/// Where a lane is in what stands in its cell, and how it came in.
template <class Number>
struct Content {
  Number enter, exit;  ///< cells
  Face face;
  float u = 0, normal_x = 0, normal_y = 0;  ///< of panels
};

/// Clips a lane to a panel; false where it misses it.
template <class Number>
bool clip_to_panel(const CellLane<Number>& lane, const PanelBox& box, Content<Number>& content) {
  const double size = 2 * box.half_length;
  if (!(size > 0)) return false;
  const double from_x =
      static_cast<double>(lane.x.position) - static_cast<double>(lane.x.cell()) - box.center_x;
  const double from_y =
      static_cast<double>(lane.y.position) - static_cast<double>(lane.y.cell()) - box.center_y;
  const double dx = lane.x.direction;
  const double dy = lane.y.direction;
  const double across_x = -box.along_y;
  const double across_y = box.along_x;
  double enter = -std::numeric_limits<double>::infinity();
  double exit = -enter;
  bool by_length = false;
  const auto clip = [&](double position, double direction, double half, bool length) {
    if (direction == 0) {
      if (std::abs(position) > half) exit = enter;
      return;
    }
    const double a = (-half - position) / direction;
    const double b = (half - position) / direction;
    if (std::min(a, b) > enter) {
      enter = std::min(a, b);
      by_length = length;
    }
    exit = std::min(exit, std::max(a, b));
  };
  const double place = from_x * box.along_x + from_y * box.along_y;
  const double speed = dx * box.along_x + dy * box.along_y;
  clip(place, speed, box.half_length, true);
  clip(from_x * across_x + from_y * across_y, dx * across_x + dy * across_y, box.half_width, false);
  if (!(enter < exit)) return false;
  const auto enter_t = static_cast<Number>(enter);
  const auto exit_t = static_cast<Number>(exit);
  // Only what lies in this cell.
  content.enter = std::max(enter_t, lane.t);
  content.exit = std::min(exit_t, lane.leaves());
  if (!(content.enter < content.exit)) return false;
  if (enter < 0 && lane.t == 0) {
    content.face = Face::inside;
    return true;
  }
  content.face = Face::panel;
  const double normal_x = by_length ? box.along_x : across_x;
  const double normal_y = by_length ? box.along_y : across_y;
  const double toward = dx * normal_x + dy * normal_y > 0 ? -1 : 1;
  content.normal_x = static_cast<float>(normal_x * toward);
  content.normal_y = static_cast<float>(normal_y * toward);
  if (by_length) {
    content.u = 0.01f;  // the narrow end shows the rim
    return true;
  }
  // Left and right as one stands before it.
  const double u = box.u_low + (place + speed * enter + box.half_length);
  const double right = -content.normal_y * box.along_x + content.normal_x * box.along_y;
  content.u = static_cast<float>(right > 0 ? u : 1 - u);
  return true;
}

}  // namespace photonlane
