#pragma once

/// What lanes can meet in a room. A kind of one's own is a SolidPart, which a scene holds, and the
/// Solid it is compiled to:
///
///   struct Post final : SolidPart {
///     double height = 2;
///     std::string_view kind() const override { return "post"; }
///     std::shared_ptr<const Solid> compile(const SolidContext&) const override {
///       return std::make_shared<const PostSolid>(height);
///     }
///   };
///   scene.room().add(Post{});

#include <cstddef>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "photonlane/base/bounds.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/lane/lanes.hpp"

namespace photonlane {

/// The place of a surface nearest to a place, as far as it is known.
struct ClosestSurface {
  Vec3d place{0, 0, 0};
  double distance = 0;  ///< of it; infinite where no surface was found
  /// No surface is nearer than this: at most the distance, and for most fields within a thousandth
  /// of it. Where no surface was found, how far it was looked for.
  double least = 0;
};

/// Places, one array a coordinate, and where what is known of them goes.
struct DistanceBatch {
  std::size_t count = 0;
  const double* x = nullptr;
  const double* y = nullptr;
  const double* z = nullptr;
  double* value = nullptr;  ///< meters to the surface, below 0 inside
  /// Where the value grows, by how much for a meter; all null where they are not asked for.
  double* slope_x = nullptr;
  double* slope_y = nullptr;
  double* slope_z = nullptr;
  /// Index of the material of what is nearest; null where it is not asked for.
  std::uint32_t* material = nullptr;
  bool opaque_only = false;  ///< what bends light is not there: it is looked through
};

/// A part of a solid that emits light and whose form is known, so that light can be sought there.
struct Emitter {
  std::uint32_t item = 0;  ///< as hits tell it
  std::uint32_t material = 0;
  bool ball = false;
  Vec3d place{0, 0, 0};  ///< of a ball
  double radius = 0;
  Vec3d low{0, 0, 0}, high{0, 0, 0};  ///< of a box along the axes
};

/// A place and what is this near to it, in meters.
struct Ball {
  Vec3d middle{0, 0, 0};
  double radius = 0;
};

/// Something a lane can hit inside a room. Asked a batch at a time, so that the virtual call is
/// paid once a batch. Immutable once made; safe to ask from any thread.
class Solid {
 public:
  virtual ~Solid() = default;

  /// The first surface each lane meets beyond its start and before its limit, with all that is to
  /// know of it.
  virtual HitBatch<float> nearest_hit(const LaneBatch<float>& lanes,
                                      const Budget& budget) const = 0;
  virtual HitBatch<double> nearest_hit(const LaneBatch<double>& lanes,
                                       const Budget& budget) const = 0;
  /// The same for several batches of one kind: alike but for where their lanes are. `hits` has as
  /// many. Kinds that gain by having more lanes at once take them together.
  virtual void nearest_hits(std::span<const LaneBatch<float>* const> lanes, const Budget& budget,
                            std::span<HitBatch<float>* const> hits) const;
  virtual void nearest_hits(std::span<const LaneBatch<double>* const> lanes, const Budget& budget,
                            std::span<HitBatch<double>* const> hits) const;
  /// Whether that gains so much that batches should wait for one another.
  virtual bool gains_by_company() const { return false; }
  /// Sets `hidden` of the lanes in whose way something stands; those for which it is set already
  /// are not looked at. Returns the steps that took.
  virtual std::uint64_t hide(const LaneBatch<float>& lanes, const Budget& budget,
                             bool* hidden) const;

  /// Whether measure() and closest() can be asked: bodies that walk, ambient occlusion, quick
  /// shadows and plans go by distances.
  virtual bool knows_distances() const { return false; }
  /// Distances of places. They grow by at most 1 for a meter. Throws Error (usage) where they are
  /// not known.
  virtual void measure(const DistanceBatch& batch) const;
  /// The place of the surface nearest to one; none where that is not known.
  virtual std::optional<ClosestSurface> closest(const Vec3d& place) const;
  /// Whether its colors have in them what light falls on it, as pictures do.
  virtual bool already_lit() const { return false; }
  /// Whether some of what lanes meet of it covers their pixel in part.
  virtual bool covers_in_part() const { return false; }
  /// Its parts made of materials that emit: balls and boxes alone. Light of others is found only by
  /// paths that happen to meet them.
  virtual std::vector<Emitter> emitters(const std::vector<bool>& emitting) const;
  /// The ball that an item of its hits is, where items move as wholes from frame to frame and keep
  /// their numbers.
  virtual std::optional<Ball> ball(std::uint32_t /*item*/) const { return std::nullopt; }
  /// Holds all of it.
  virtual Bounds bounds() const = 0;
  /// Whether it is made around the eye, as land without end is: of that seen_from() tells what
  /// there is. As it was compiled there is nothing of it.
  virtual bool surrounds_eye() const { return false; }
  /// The same around an eye, in meters of its room; null: this is it. With `wait`, when all of it
  /// is made; `go_on` is asked meanwhile, and Error (cancelled) thrown where it says false.
  virtual std::shared_ptr<const Solid> seen_from(const Vec3d& /*eye*/, bool /*wait*/,
                                                 const std::function<bool()>& /*go_on*/) const {
    return nullptr;
  }
  /// How many of its pieces are not made yet.
  virtual std::size_t missing() const { return 0; }
  /// The group of the budget's knobs that matter for it beside those for all, as in
  /// "spheres.detail".
  virtual std::string_view knob_group() const { return {}; }
  /// A line that says what it is, as `photonlane check` prints it.
  virtual std::string summary() const = 0;

  virtual std::size_t memory_bytes() const = 0;
};

/// What a part of a room is compiled with.
struct SolidContext {
  std::size_t materials = 0;  ///< of the scene: indexes are below it
  std::uint32_t plain = 0;    ///< index of the material of what has none of its own
  std::vector<bool> bends{};  ///< by material: those that bend light; missing ones do not
};

/// Something a scene's room holds, as it is described; plain data that compiles to a Solid.
class SolidPart {
 public:
  virtual ~SolidPart() = default;
  /// What scene files and messages call it.
  virtual std::string_view kind() const = 0;
  /// Calls `use` for every material it is made of, -1 for none.
  virtual void use_materials(const std::function<void(int)>& /*use*/) const {}
  /// Throws Error (input) for values that cannot be.
  virtual std::shared_ptr<const Solid> compile(const SolidContext& context) const = 0;

 protected:
  SolidPart() = default;
  SolidPart(const SolidPart&) = default;
  SolidPart& operator=(const SolidPart&) = default;
};

}  // namespace photonlane
