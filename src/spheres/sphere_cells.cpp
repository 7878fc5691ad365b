#include "spheres/sphere_cells.hpp"

#include <algorithm>

namespace photonlane {

SphereCells::SphereCells(std::vector<Vec3d> samples, std::size_t cells, const Vec3d& low,
                         const Vec3d& high) {
  cut(samples.data(), samples.data() + samples.size(), cells, low, high);
}

std::uint32_t SphereCells::cut(Vec3d* first, Vec3d* last, std::size_t cells, const Vec3d& low,
                               const Vec3d& high) {
  const auto own = static_cast<std::uint32_t>(cuts_.size());
  cuts_.emplace_back();
  if (cells <= 1 || last - first < 16) {
    cuts_[own] = {0, 0, static_cast<std::int32_t>(cells_.size()), own, own};
    cells_.push_back({low, high});
    return own;
  }
  Vec3d least = *first;
  Vec3d most = *first;
  for (const Vec3d* one = first; one != last; ++one) {
    least = least.cwiseMin(*one);
    most = most.cwiseMax(*one);
  }
  int axis = 0;
  (most - least).maxCoeff(&axis);
  const std::size_t left = cells / 2;
  Vec3d* const middle =
      first + static_cast<std::ptrdiff_t>(static_cast<double>(last - first) *
                                          static_cast<double>(left) / static_cast<double>(cells));
  std::nth_element(first, middle, last,
                   [axis](const Vec3d& a, const Vec3d& b) { return a[axis] < b[axis]; });
  const double at = (*middle)[axis];
  Vec3d below = high;
  Vec3d above = low;
  below[axis] = at;
  above[axis] = at;
  const std::uint32_t one = cut(first, middle, left, low, below);
  const std::uint32_t two = cut(middle, last, cells - left, above, high);
  cuts_[own] = {at, axis, -1, one, two};
  return own;
}

/// Several ways down are followed at a time, so that none waits for memory, and without branches
/// that nobody can foresee.
void SphereCells::find(const SphereRun& run, std::uint32_t* cells) const {
  constexpr std::size_t at_once = 8;
  const Cut* const cuts = cuts_.data();
  for (std::size_t first = 0; first < run.count; first += at_once) {
    double at[3][at_once];
    const Cut* now[at_once];
    for (std::size_t k = 0; k < at_once; ++k) {
      const std::size_t i = std::min(first + k, run.count - 1);
      at[0][k] = run.x[i];
      at[1][k] = run.y[i];
      at[2][k] = run.z[i];
      now[k] = cuts;
    }
    for (bool on = true; on;) {
      on = false;
      for (std::size_t k = 0; k < at_once; ++k) {
        // A cell leads to itself.
        const std::uint32_t next[2] = {now[k]->low, now[k]->high};
        now[k] = cuts + next[at[now[k]->axis][k] < now[k]->at ? 0 : 1];
        on = on || now[k]->cell < 0;
      }
    }
    const std::size_t there = std::min(at_once, run.count - first);
    for (std::size_t k = 0; k < there; ++k) {
      cells[first + k] = static_cast<std::uint32_t>(now[k]->cell);
    }
  }
}

}  // namespace photonlane
