#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "base/shared_exponent.hpp"
#include "plates/plate_solid.hpp"

namespace photonlane {
namespace {

struct Step {
  int x, y;
};
constexpr Step steps[] = {{1, 0}, {-1, 0}, {0, 1}, {0, -1}};

std::uint32_t packed(const Color& color) {
  return shared_exponent_code(color[0], color[1], color[2]);
}

}  // namespace

std::uint32_t PlateSolid::code_of(int x, int y) const {
  const float share = plate_.alpha.values != nullptr ? 1 / plate_.alpha.at(x, y) : 1.0f;
  return packed(color(x, y) * share);
}

std::optional<PlateSolid::Edge> PlateSolid::edge_by_alpha(int x, int y) const {
  const float alpha = plate_.alpha.at(x, y);
  if (!(alpha >= covers_none) || alpha > covers_all) return std::nullopt;
  if (alpha >= 0.5f && !stands(x, y)) return std::nullopt;
  // What covers less than half of its pixel has no facet: it is on that of a neighbor, or where its
  // own depth says.
  Step front{x, y};
  for (const Step& step : steps) {
    if (!stands(front.x, front.y)) front = {x + step.x, y + step.y};
  }
  Edge edge{static_cast<std::uint32_t>(pixel(x, y)), Edge::nothing, alpha, code_of(x, y), 0};
  if (stands(front.x, front.y)) {
    edge.front = static_cast<std::uint32_t>(pixel(front.x, front.y));
    return edge;
  }
  const double distance = distance_of(plate_, lens_, x, y);
  if (!(distance > 0 && std::isfinite(distance))) return std::nullopt;
  edge.front_distance = static_cast<float>(distance);
  return edge;
}

std::optional<PlateSolid::Edge> PlateSolid::edge_by_depth(int x, int y) const {
  const auto gap = static_cast<float>(plate_.gap);
  const Facet& own = facet(x, y);
  // The neighbor that stands farthest apart, where neither goes on to the other.
  float most = 0;
  Step across{0, 0};
  for (const Step& step : steps) {
    if (!inside(x + step.x, y + step.y) || !covers(x + step.x, y + step.y)) continue;
    const Facet& other = facet(x + step.x, y + step.y);
    const float apart = std::abs(own.inverse - other.inverse);
    if (apart <= most) continue;
    if (own.inverse > 0 && other.inverse > 0) {
      const float least = gap * std::min(own.inverse, other.inverse);
      const auto there = static_cast<float>(own.at(step.x, step.y));
      const auto back = static_cast<float>(other.at(-step.x, -step.y));
      if (std::abs(there - other.inverse) <= least || std::abs(back - own.inverse) <= least) {
        continue;
      }
    }
    most = apart;
    across = step;
  }
  if (most == 0) return std::nullopt;
  const bool is_near = own.inverse > facet(x + across.x, y + across.y).inverse;
  // From what is near to what is far.
  const Step out = is_near ? across : Step{-across.x, -across.y};
  const Step near = is_near ? Step{x, y} : Step{x + across.x, y + across.y};
  const Step far{near.x + out.x, near.y + out.y};
  // A pixel farther to each side there is nothing of the other.
  const auto pure = [&](const Step& at, int sign) {
    const Step beyond{at.x + sign * out.x, at.y + sign * out.y};
    if (!inside(beyond.x, beyond.y) || !covers(beyond.x, beyond.y)) return color(at.x, at.y);
    const float here = facet(at.x, at.y).inverse;
    const float there = facet(beyond.x, beyond.y).inverse;
    const bool same =
        here == 0 ? there == 0 : std::abs(there - here) <= 2 * gap * std::min(there, here);
    return same ? color(beyond.x, beyond.y) : color(at.x, at.y);
  };
  const Color front = pure(near, -1);
  const Color behind = pure(far, 1);
  const Color mixed = color(x, y);
  const Color between = front - behind;
  const float contrast = between.square().sum();
  if (!(contrast > 1e-4f)) return std::nullopt;
  const float share = ((mixed - behind) * between).sum() / contrast;
  const float off = (mixed - (behind + share * between)).square().sum();
  // Else it is no mixture of the two; nor are colors that are no numbers.
  if (!(off <= 0.04f * contrast && share >= 0.02f && share <= 0.98f)) return std::nullopt;
  Edge edge{static_cast<std::uint32_t>(pixel(near.x, near.y)),
            static_cast<std::uint32_t>(pixel(far.x, far.y)), share, packed(front), packed(behind)};
  // Both together are what the picture has.
  if (share > 0.5f) {
    edge.front_color = packed(((mixed - (1 - share) * behind) / share).max(0.0f));
  } else {
    edge.behind_color = packed(((mixed - share * front) / (1 - share)).max(0.0f));
  }
  return edge;
}

void PlateSolid::make_edges(const std::vector<float>& inverse) {
  const auto width = static_cast<std::size_t>(size_.width);
  const auto height = static_cast<std::size_t>(size_.height);
  const auto gap = static_cast<float>(plate_.gap);
  struct Found {
    std::size_t pixel;
    Edge edge;
  };
  std::vector<std::vector<Found>> rows(height);
  parallel_for(0, height, [&](std::size_t row) {
    const int y = static_cast<int>(row);
    const float* const own = inverse.data() + row * width;
    const float* const above = row > 0 ? own - width : own;
    const float* const below = row + 1 < height ? own + width : own;
    // Pixels all of whose neighbors are about as far are of one surface.
    std::vector<std::uint8_t> apart(width, 0);
    const auto differ = [&](float one, float other) -> std::uint8_t {
      return std::abs(one - other) > gap * std::min(one, other);
    };
    for (std::size_t x = 0; x < width; ++x) {
      apart[x] = differ(own[x], above[x]) | differ(own[x], below[x]);
    }
    for (std::size_t x = 0; x + 1 < width; ++x) {
      const std::uint8_t apart_here = differ(own[x], own[x + 1]);
      apart[x] |= apart_here;
      apart[x + 1] |= apart_here;
    }
    const PlateImage& alpha = plate_.alpha;
    for (std::size_t i = 0; alpha.values != nullptr && i < width; ++i) {
      const float share = alpha.at(static_cast<int>(i), y);
      apart[i] = share > covers_all ? apart[i] : share >= covers_none;
    }
    for (std::size_t i = 0; i < width; ++i) {
      if (!apart[i]) continue;
      const int x = static_cast<int>(i);
      const std::optional<Edge> edge = covers(x, y) ? edge_by_depth(x, y) : edge_by_alpha(x, y);
      if (edge) rows[row].push_back({pixel(x, y), *edge});
    }
  });
  for (const std::vector<Found>& row : rows) {
    for (const Found& one : row) {
      if (edge_of_.empty()) edge_of_.assign(facets_.size(), -1);
      edge_of_[one.pixel] = static_cast<std::int32_t>(edges_.size());
      edges_.push_back(one.edge);
    }
  }
}

PlateSolid::Met PlateSolid::at_edge(const Edge& edge, double px, double py, const PlatePlace& way,
                                    double start, double limit) const {
  constexpr double infinite = std::numeric_limits<double>::infinity();
  const auto t_of = [&](std::uint32_t which) {
    const auto width = static_cast<std::uint32_t>(size_.width);
    return distance_at(static_cast<int>(which % width), static_cast<int>(which / width), px, py) /
           way.z;
  };
  const double front =
      edge.front_distance > 0 ? static_cast<double>(edge.front_distance) / way.z : t_of(edge.front);
  if (front > start) {
    if (!(front < limit)) return {};
    return {front, edge.front, edge.alpha, edge.front_color};
  }
  if (edge.behind == Edge::nothing) return {};
  const double behind = std::max(t_of(edge.behind), front * (1 + 1e-5));
  if (!(behind > start) || (behind < infinite && !(behind < limit))) return {};
  return {behind, edge.behind, 1, edge.behind_color};
}

}  // namespace photonlane
