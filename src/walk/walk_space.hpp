#pragma once

#include <map>
#include <memory>
#include <vector>

#include "photonlane/world/world.hpp"
#include "room/portal_faces.hpp"

namespace photonlane {

/// The fields that a body meets, in any of a world's rooms. Beside a portal that it may go through
/// that is, within the opening, what stands beyond it, instead of what stands behind it here.
class WalkSpace {
 public:
  explicit WalkSpace(const World& world) : world_(world) {}

  /// What is met within `reach` of a place; null: nothing at all.
  const CompiledField* around(std::size_t room, const Vec3d& place, double reach);

 private:
  struct Near {
    std::int32_t face;
    bool from_front;
    bool open;  ///< it may be gone through from that side; else it is a surface there
    auto operator<=>(const Near&) const = default;
  };
  struct Key {
    std::size_t room;
    std::vector<Near> faces;
    double reach;
    auto operator<=>(const Key&) const = default;
  };
  std::shared_ptr<const CompiledField> put_together(const Key& key) const;

  const World& world_;
  std::map<Key, std::shared_ptr<const CompiledField>> known_;
};

/// A body's middle that has gone through portals.
struct Carried {
  std::size_t room = 0;
  Vec3d place{0, 0, 0};
  Vec3d heading{1, 0, 0};
  double scale = 1;
  int crossings = 0;
};

/// Takes a body's middle along a straight way, through the portals on it.
Carried carry(const World& world, std::size_t room, const Vec3d& from, const Vec3d& to,
              const Vec3d& heading);

}  // namespace photonlane
