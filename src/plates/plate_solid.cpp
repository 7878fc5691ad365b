#include "plates/plate_solid.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "base/parallel.hpp"
#include "base/shared_exponent.hpp"
#include "base/stage_clock.hpp"
#include "lane/hits.hpp"

namespace photonlane {
namespace {

/// Places this near the camera's own plane have no place in the picture.
constexpr double least_z = 1e-6;

double at(double start, double slope, double t) { return start + slope * t; }

/// Keeps of [from, to] where start + slope t is at least 0.
void clip(double start, double slope, double& from, double& to) {
  if (slope == 0) {
    if (start < 0) to = -1;
    return;
  }
  const double root = -start / slope;
  if (slope > 0) {
    from = std::max(from, root);
  } else {
    to = std::min(to, root);
  }
}

/// How the middle one of five neighbors changes by a pixel. Of the differences to both sides and
/// their mean that one is taken which goes on most evenly: at folds and edges it is that of the
/// surface's own side (Harten, Engquist, Osher and Chakravarthy, "Uniformly High Order Accurate
/// Essentially Non-oscillatory Schemes, III", 1987).
float slope_of(const float (&row)[5], float gap) {
  constexpr float never = std::numeric_limits<float>::infinity();
  float step[4];
  bool joined[4];
  for (int k = 0; k < 4; ++k) {
    step[k] = row[k + 1] - row[k];
    joined[k] =
        one_surface(k > 0 ? row[k - 1] : 0, row[k], row[k + 1], k < 3 ? row[k + 2] : 0, gap);
  }
  const float back = step[1];
  const float ahead = step[2];
  if (!joined[1] || !joined[2]) return joined[1] ? back : joined[2] ? ahead : 0.0f;
  const float uneven_back = joined[0] ? std::abs(back - step[0]) : never;
  const float uneven_ahead = joined[3] ? std::abs(step[3] - ahead) : never;
  // The mean has the least noise: a side has to be much better.
  if (std::min(uneven_back, uneven_ahead) >= 0.25f * std::abs(ahead - back)) {
    return 0.5f * (ahead + back);
  }
  return uneven_back < uneven_ahead ? back : ahead;
}

/// The slopes of pixels that lie on something flat, with neighbors on it, as most do: those of
/// which `flat` is set.
void flat_slopes(const float* before, const float* own, const float* after, std::size_t count,
                 float gap, float* slope, std::uint8_t* flat) {
  for (std::size_t x = 0; x < count; ++x) {
    const float back = own[x] - before[x];
    const float ahead = after[x] - own[x];
    const float least = std::min(before[x], after[x]);
    const float most = std::max(std::abs(back), std::abs(ahead));
    slope[x] = 0.5f * (back + ahead);
    flat[x] = (least > 0) & (std::abs(ahead - back) <= 1e-6f * own[x]) & (most <= gap * least);
  }
}

}  // namespace

bool one_surface(float before, float one, float two, float after, float gap) {
  if (!(one > 0 && two > 0)) return false;
  const float step = two - one;
  if (std::abs(step) <= gap * std::min(one, two)) return true;
  const auto like = [&](bool there, float other) {
    return there && std::abs(step - other) <= 0.25f * std::min(std::abs(step), std::abs(other));
  };
  return like(before > 0, one - before) || like(after > 0, after - two);
}

/// A lane in the picture: place = start + way t.
struct PlateSolid::Line {
  PlatePlace start, way;

  PlatePlace at(double t) const {
    return {start.x + way.x * t, start.y + way.y * t, start.z + way.z * t};
  }
  /// Where it goes over the line x = k, or y = k, of the picture; NaN or infinite where it does
  /// not.
  double over_x(double k) const { return (k * start.z - start.x) / (way.x - k * way.z); }
  double over_y(double k) const { return (k * start.z - start.y) / (way.y - k * way.z); }
  /// Which way it goes across and down the picture, everywhere.
  double across() const { return way.x * start.z - start.x * way.z; }
  double down() const { return way.y * start.z - start.y * way.z; }
};

PlateSolid::PlateSolid(const Plate& plate, std::uint32_t material)
    : plate_(plate), material_(material), size_(plate.depth.size), lens_(plate.camera, size_) {
  const std::vector<float> inverse = make_facets();
  make_levels();
  make_edges(inverse);
}

std::vector<float> PlateSolid::make_facets() {
  const auto width = static_cast<std::size_t>(size_.width);
  const auto height = static_cast<std::size_t>(size_.height);
  std::vector<float> inverse(width * height);
  std::vector<std::size_t> far(height, 0);
  parallel_for(0, height, [&](std::size_t y) {
    float* const row = inverse.data() + y * width;
    inverse_distances(plate_, lens_, static_cast<int>(y), row);
    for (std::size_t x = 0; x < width; ++x) {
      const bool there = plate_.alpha.values == nullptr ||
                         plate_.alpha.at(static_cast<int>(x), static_cast<int>(y)) >= 0.5f;
      far[y] += there && row[x] == 0;
      row[x] = there ? row[x] : 0.0f;
    }
  });
  far_pixels_ = std::accumulate(far.begin(), far.end(), std::size_t{0});
  facets_.resize(width * height);
  const auto gap = static_cast<float>(plate_.gap);
  parallel_for(0, height, [&](std::size_t y) {
    // Before and after the row there is nothing.
    std::vector<float> across(width), down(width), nothing(width, 0.0f);
    std::vector<std::uint8_t> flat(width);
    const float* const own = inverse.data() + y * width;
    const auto slope_along = [&](std::size_t x, std::size_t at, std::size_t count,
                                 std::size_t stride) {
      float row[5];
      for (std::size_t k = 0; k < 5; ++k) {
        const bool there = at + k >= 2 && at + k - 2 < count;
        row[k] = there ? inverse[y * width + x + k * stride - 2 * stride] : 0.0f;
      }
      return slope_of(row, gap);
    };
    if (width > 2) {
      flat_slopes(own, own + 1, own + 2, width - 2, gap, across.data() + 1, flat.data() + 1);
    }
    for (std::size_t x = 0; x < width; ++x) {
      if (own[x] > 0 && !flat[x]) across[x] = slope_along(x, x, width, 1);
    }
    flat_slopes(y > 0 ? own - width : nothing.data(), own,
                y + 1 < height ? own + width : nothing.data(), width, gap, down.data(),
                flat.data());
    for (std::size_t x = 0; x < width; ++x) {
      if (own[x] > 0 && !flat[x]) down[x] = slope_along(x, y, height, width);
    }
    for (std::size_t x = 0; x < width; ++x) {
      const bool there = own[x] > 0;
      facets_[y * width + x] = {own[x], there ? across[x] : 0.0f, there ? down[x] : 0.0f};
    }
  });
  return inverse;
}

void PlateSolid::make_levels() {
  constexpr float infinite = std::numeric_limits<float>::infinity();
  const auto reach_of = [&](const Facet* facets, std::size_t count) -> Reach {
    float most = 0;
    float least = infinite;
    for (std::size_t i = 0; i < count; ++i) {
      const Facet& own = facets[i];
      const float more = 0.5f * (std::abs(own.across) + std::abs(own.down));
      most = std::max(most, own.inverse + more);
      least = std::min(least, own.inverse > 0 ? own.inverse - more : infinite);
    }
    if (most == 0) return {infinite, -infinite};
    // A little more than it is, for rounding.
    return {0.99999f / most, least > 0 ? 1.00001f / least : infinite};
  };
  int width = size_.width;
  int height = size_.height;
  while (width > 1 || height > 1) {
    Level level{(width + 3) / 4, (height + 3) / 4, {}};
    level.blocks.assign(
        static_cast<std::size_t>(level.width) * static_cast<std::size_t>(level.height),
        {infinite, -infinite});
    const Level* const below = levels_.empty() ? nullptr : &levels_.back();
    parallel_for(0, static_cast<std::size_t>(level.height), [&](std::size_t row) {
      for (std::size_t y = 4 * row; y < std::min(4 * row + 4, std::size_t(height)); ++y) {
        const auto across = static_cast<std::size_t>(width);
        const std::size_t together = below != nullptr ? 1 : 4;
        for (std::size_t x = 0; x < across; x += together) {
          const std::size_t i = y * across + x;
          const Reach own = below != nullptr
                                ? below->blocks[i]
                                : reach_of(&facets_[i], std::min(together, across - x));
          Reach& block = level.blocks[row * static_cast<std::size_t>(level.width) + x / 4];
          block.least = std::min(block.least, own.least);
          block.most = std::max(block.most, own.most);
        }
      }
    });
    width = level.width;
    height = level.height;
    levels_.push_back(std::move(level));
  }
  // All that stands, between the nearest and the farthest of it.
  const Reach all = levels_.empty() ? reach_of(facets_.data(), 1) : levels_.back().blocks.front();
  bounds_ = {lens_.eye, lens_.eye};
  if (all.least > all.most) return;
  const double far = std::min(double{all.most} + plate_.thickness, 1e9);
  for (const double z : {double{all.least}, far}) {
    for (const double x : {0.0, static_cast<double>(size_.width)}) {
      for (const double y : {0.0, static_cast<double>(size_.height)}) {
        const Vec3d corner = lens_.eye + z * lens_.way(x, y);
        bounds_.low = bounds_.low.cwiseMin(corner);
        bounds_.high = bounds_.high.cwiseMax(corner);
      }
    }
  }
}

double PlateSolid::distance_at(int x, int y, double px, double py) const {
  constexpr double infinite = std::numeric_limits<double>::infinity();
  if (!stands(x, y)) return infinite;
  const Facet& own = facet(x, y);
  return 1 / std::max(own.at(px - x - 0.5, py - y - 0.5), 0.5 * double{own.inverse});
}

bool PlateSolid::within(const Vec3d& place) const {
  const PlatePlace at = lens_.place(place - lens_.eye);
  if (!(at.z > least_z)) return false;
  const double px = at.x / at.z;
  const double py = at.y / at.z;
  if (!(px >= 0 && py >= 0 && px < size_.width && py < size_.height)) return false;
  const double behind = at.z - distance_at(static_cast<int>(px), static_cast<int>(py), px, py);
  return behind >= 0 && behind <= plate_.thickness;
}

/// Of a lane from the plate's own eye.
PlateSolid::Met PlateSolid::from_eye(const PlatePlace& way, double start, double limit) const {
  if (!(way.z > 0)) return {};
  const double px = way.x / way.z;
  const double py = way.y / way.z;
  if (!(px >= 0 && py >= 0 && px < size_.width && py < size_.height)) return {};
  const int x = static_cast<int>(px);
  const int y = static_cast<int>(py);
  const std::size_t which = pixel(x, y);
  if (!edge_of_.empty() && edge_of_[which] >= 0) {
    return at_edge(edges_[static_cast<std::size_t>(edge_of_[which])], px, py, way, start, limit);
  }
  if (!stands(x, y)) {
    // A color without a place is behind all else.
    const bool shown = plate_.alpha.values == nullptr || plate_.alpha.at(x, y) >= 0.5f;
    return shown ? Met{std::numeric_limits<double>::infinity(), which} : Met{};
  }
  // Across a pixel at an edge what is linear may go past the horizon.
  const double t = distance_at(x, y, px, py) / way.z;
  if (!(t > start) || !(t < limit)) return {};
  return {t, which};
}

/// Of a lane that is over one pixel between two t. `entered` is where it went behind a surface that
/// it is still taken for being on; what is met there is met where it was entered.
PlateSolid::Met PlateSolid::cross(const Line& line, int x, int y, double from, double to,
                                  Met& entered) const {
  if (!stands(x, y)) {
    entered = {};
    return {};
  }
  const Facet& own = facet(x, y);
  const std::size_t which = pixel(x, y);
  // How far behind the facet, as a share of its distance: linear along the lane.
  const double a = double{own.across};
  const double b = double{own.down};
  const double c = double{own.inverse} - a * (x + 0.5) - b * (y + 0.5);
  const double start = a * line.start.x + b * line.start.y + c * line.start.z - 1;
  const double slope = a * line.way.x + b * line.way.y + c * line.way.z;
  const double first = at(start, slope, from);
  const double last = at(start, slope, to);
  const double on = plate_.tolerance;
  if (first <= on) {
    const bool crosses = first <= 0 && last > 0;
    if (crosses) entered = {std::clamp(-start / slope, from, to), which};
    if (last <= 0) entered = {};
    if (last <= on) return {};
    return entered.t >= 0 ? entered : Met{from, which};
  }
  // Behind it already: within what stands there it came through a side.
  const auto behind = [&](double share, double t) {
    const double z = at(line.start.z, line.way.z, t);
    return z * share / (1 + share);
  };
  const double in = behind(first, from);
  if (in <= plate_.thickness) return entered.t >= 0 ? entered : Met{from, which};
  entered = {};
  const double out = behind(last, to);
  if (out > plate_.thickness) return {};
  // From behind, into its back.
  const double share = (in - plate_.thickness) / std::max(in - out, 1e-300);
  return {from + share * (to - from), which};
}

PlateSolid::Met PlateSolid::walk(const Line& line, double start, double limit,
                                 std::uint32_t& steps) const {
  double from = start;
  double to = limit;
  const PlatePlace& o = line.start;
  const PlatePlace& d = line.way;
  clip(o.z - least_z, d.z, from, to);
  clip(o.x, d.x, from, to);
  clip(size_.width * o.z - o.x, size_.width * d.z - d.x, from, to);
  clip(o.y, d.y, from, to);
  clip(size_.height * o.z - o.y, size_.height * d.z - d.y, from, to);
  if (!(from < to)) return {};
  const auto pixel_of = [](double position, int count) {
    return std::clamp(static_cast<int>(std::floor(position)), 0, count - 1);
  };
  const PlatePlace first = line.at(from);
  int x = pixel_of(first.x / first.z, size_.width);
  int y = pixel_of(first.y / first.z, size_.height);
  const int step_x = line.across() > 0 ? 1 : line.across() < 0 ? -1 : 0;
  const int step_y = line.down() > 0 ? 1 : line.down() < 0 ? -1 : 0;
  const int top = static_cast<int>(levels_.size());
  int level = top;
  double t = from;
  Met entered;
  for (;;) {
    ++steps;
    // The block of this level, and where the lane leaves it.
    const int shift = 2 * level;
    const int low_x = x >> shift << shift;
    const int low_y = y >> shift << shift;
    const int edge_x = step_x > 0 ? low_x + (1 << shift) : low_x;
    const int edge_y = step_y > 0 ? low_y + (1 << shift) : low_y;
    constexpr double never = std::numeric_limits<double>::infinity();
    // Where the line is over an edge; now, where rounding has brought it there already; never,
    // where it was before the edge came behind the eye.
    const auto over = [&](double root, double past) {
      return past >= 0 ? t : root > t ? root : never;
    };
    const PlatePlace here = line.at(t);
    const double over_x =
        step_x != 0 ? over(line.over_x(edge_x), step_x * (here.x - edge_x * here.z)) : never;
    const double over_y =
        step_y != 0 ? over(line.over_y(edge_y), step_y * (here.y - edge_y * here.z)) : never;
    const double leave = std::min({over_x, over_y, to});
    if (level > 0) {
      const Level& blocks = levels_[static_cast<std::size_t>(level - 1)];
      const Reach& reach = blocks.blocks[static_cast<std::size_t>(y >> shift) *
                                             static_cast<std::size_t>(blocks.width) +
                                         static_cast<std::size_t>(x >> shift)];
      const double z_from = at(o.z, d.z, t);
      const double z_to = at(o.z, d.z, leave);
      if (reach.least <= reach.most && std::max(z_from, z_to) >= double{reach.least} &&
          std::min(z_from, z_to) <=
              double{reach.most} * (1 + plate_.tolerance) + plate_.thickness) {
        --level;
        continue;
      }
      entered = {};
    } else {
      const Met met = cross(line, x, y, t, leave, entered);
      if (met.t >= 0) return met;
    }
    if (leave >= to) return {};
    // Into the next block, at the same level or a coarser one.
    t = leave;
    const PlatePlace now = line.at(t);
    if (over_x <= over_y) {
      x = step_x > 0 ? edge_x : edge_x - 1;
      y = std::clamp(pixel_of(now.y / now.z, size_.height), low_y,
                     std::min(low_y + (1 << shift), size_.height) - 1);
    } else {
      y = step_y > 0 ? edge_y : edge_y - 1;
      x = std::clamp(pixel_of(now.x / now.z, size_.width), low_x,
                     std::min(low_x + (1 << shift), size_.width) - 1);
    }
    if (!inside(x, y)) return {};
    if (level < top) ++level;
  }
}

template <class Number>
HitBatch<Number> PlateSolid::meet(const LaneBatch<Number>& lanes, const Budget&) const {
  const StageScope stage(Work::solids, lanes.size);
  HitBatch<Number> hits;
  let_escape(lanes, hits);
  const double near_eye = 1e-6 * std::max(1.0, lens_.eye.cwiseAbs().maxCoeff());
  const double far = static_cast<double>(lanes.far_limit) * (1 - 1e-6);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const Vec3d start = Vec3d(lanes.x[i], lanes.y[i], lanes.z[i]) - lens_.eye;
    const Vec3d way(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
    const double after = lanes.any_start ? static_cast<double>(lanes.start[i]) : 0.0;
    const double limit = static_cast<double>(
        lanes.any_limit ? std::min(lanes.limit[i], lanes.far_limit) : lanes.far_limit);
    Met met;
    bool backdrop = false;
    // What was met last has been rounded.
    const double beyond = after * (1 + 1e-6);
    if (start.squaredNorm() <= near_eye * near_eye) {
      hits.steps[i] = 1;
      met = from_eye(lens_.place(way), beyond, limit);
      if (std::isinf(met.t)) {
        backdrop = true;
        met.t = after < far && limit > far ? far : -1;
      }
    } else {
      // Its start may be the end of a lane before: on the surface, not behind it.
      met = walk({lens_.place(start), lens_.place(way)}, after, limit, hits.steps[i]);
      if (met.t <= after) met.t = -1;
    }
    if (met.t < 0) continue;
    hits.t[i] = hits.exit[i] = static_cast<Number>(met.t);
    hits.ending[i] = Ending::hit;
    hits.face[i] = Face::curved;
    hits.item[i] = static_cast<std::uint32_t>(met.pixel);
    hits.material[i] = material_;
    hits.share[i] = backdrop ? shown_color : share_of_lit(met.alpha);
    // Whether something is in the way does not depend on how it looks.
    if (lanes.ending_only) {
      hits.other[i] = 0;
      continue;
    }
    const int x = static_cast<int>(met.pixel % static_cast<std::size_t>(size_.width));
    const int y = static_cast<int>(met.pixel / static_cast<std::size_t>(size_.width));
    Vec3d normal = -way;
    if (!backdrop) {
      const Facet& seen = facet(x, y);
      const double a = double{seen.across};
      const double b = double{seen.down};
      const Vec3d own = -lens_.slope(a, b, double{seen.inverse} - a * (x + 0.5) - b * (y + 0.5));
      if (own.dot(way) < 0) normal = own;
      const Vec3d said = normal_of(x, y);
      if (said.dot(way) < 0) normal = said;
    }
    hits.normal_x[i] = static_cast<float>(normal.x());
    hits.normal_y[i] = static_cast<float>(normal.y());
    hits.normal_z[i] = static_cast<float>(normal.z());
    hits.other[i] = met.color ? *met.color : code_of(x, y);
  }
  return hits;
}

HitBatch<float> PlateSolid::nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const {
  return meet(lanes, budget);
}
HitBatch<double> PlateSolid::nearest_hit(const LaneBatch<double>& lanes,
                                         const Budget& budget) const {
  return meet(lanes, budget);
}

std::string PlateSolid::summary() const {
  const double count = static_cast<double>(facets_.size());
  std::string text = fmt::format("a plate of {}x{} pixels", size_.width, size_.height);
  if (far_pixels_ > 0) {
    text +=
        fmt::format(", {:.2g} % without a place", 100 * static_cast<double>(far_pixels_) / count);
  }
  return text;
}

std::size_t PlateSolid::memory_bytes() const {
  std::size_t bytes = facets_.size() * sizeof(Facet) + edge_of_.size() * sizeof(std::int32_t) +
                      edges_.size() * sizeof(Edge);
  for (const Level& level : levels_) bytes += level.blocks.size() * sizeof(Reach);
  return bytes;
}

}  // namespace photonlane
