#pragma once

#include <memory>
#include <optional>

#include "lane/surfaces.hpp"
#include "trace/panels.hpp"

namespace photonlane {

/// Finds what the lanes of some pixels see: by columns, or lane by lane.
class Sight {
 public:
  virtual ~Sight() = default;

  /// What is nearest, for every pixel.
  virtual void nearest(Surfaces& surfaces) = 0;
  /// What is behind that, for the pixels where `wanted` is set; the others stay as they are.
  virtual void behind(const bool* wanted, Surfaces& surfaces) = 0;
  /// Sees what the floor would show as a mirror, for the pixels where `wanted` is set, whose
  /// surface it is, t from the floor on; null where only lanes of their own can tell.
  virtual std::unique_ptr<Sight> mirrored(const Surfaces&, const bool*) const { return nullptr; }
  /// The lanes themselves, of which `surfaces` is what they see.
  virtual void rays(const Surfaces& surfaces, LaneRays& rays) const { rays.toward(surfaces); }
  /// Where lane i is, and its way, as exactly as they are known, for lanes that go on.
  struct Exact {
    Vec3d place, way;
  };
  virtual std::optional<Exact> exact(std::size_t) const { return std::nullopt; }
};

}  // namespace photonlane
