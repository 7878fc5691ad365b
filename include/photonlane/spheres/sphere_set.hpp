#pragma once

/// Spheres by the million, put in order for lanes to meet them:
///
///   StridedSpheres grains;  // where they lie
///   grains.count = all.size();
///   grains.center = &all[0].x;
///   grains.stride = sizeof(all[0]);
///   grains.radius = 2e-3;
///   scene.room().add(Spheres(SphereSet::make(grains), gold));

#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "photonlane/base/bounds.hpp"
#include "photonlane/base/knob.hpp"
#include "photonlane/base/vector.hpp"

namespace photonlane {

/// One of them, in meters.
struct Sphere {
  Vec3d center{0, 0, 0};
  double radius = 0.05;
  int material = -1;  ///< index of materials; -1: that of the set
};

std::span<const Knob<Sphere>> sphere_knobs();

/// Some spheres of a stream, one array a quantity, in meters.
struct SphereRun {
  static constexpr std::size_t capacity = 1024;
  std::size_t count = 0;
  double x[capacity], y[capacity], z[capacity], radius[capacity];
  std::uint32_t material[capacity];  ///< where the source has materials: an index from 0 to 65535
  std::uint32_t color[capacity];     ///< where it has colors: 0xRRGGBB, sRGB
};

/// Where spheres come from. They are gone through twice, never held all at once.
class SphereSource {
 public:
  virtual ~SphereSource() = default;

  /// In how many stretches they come, one behind the other: these are read at the same time.
  virtual std::size_t stretches() const { return 1; }
  /// Calls `take` with the spheres of a stretch, from the first to the last; the same ones each
  /// time it is called. From any thread.
  virtual void read(std::size_t stretch,
                    const std::function<void(const SphereRun&)>& take) const = 0;
  virtual bool has_materials() const { return false; }
  virtual bool has_colors() const { return false; }
  /// What messages call a sphere.
  virtual std::string name(std::size_t stretch, std::uint64_t index) const;
};

/// Spheres in memory of the caller's, as they lie there: nothing is copied before it is put in
/// order.
struct StridedSpheres final : SphereSource {
  std::uint64_t count = 0;
  const float* center = nullptr;             ///< three numbers each
  const double* center_wide = nullptr;       ///< these, where not null
  std::size_t stride = 0;                    ///< bytes from one to the next; 0: three numbers
  double radius = 0.05;                      ///< of those without their own
  const float* radii = nullptr;              ///< where not null
  std::size_t radius_stride = 0;             ///< bytes; 0: one number
  const std::uint32_t* colors = nullptr;     ///< 0xRRGGBB each, where not null
  const std::uint16_t* materials = nullptr;  ///< where not null

  std::size_t stretches() const override;
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override;
  bool has_materials() const override { return materials != nullptr; }
  bool has_colors() const override { return colors != nullptr; }
  std::string name(std::size_t stretch, std::uint64_t index) const override;
};

/// How spheres are held.
enum class SphereKeeping {
  automatic,  ///< exact up to a million, compact beyond
  exact,      ///< in doubles, in some 38 bytes each, with the index each had
  compact,    ///< in 16 bits a number, in some 9 bytes each: moved by a little, which is told
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<SphereKeeping>{"automatic", "exact",
                                                                             "compact"};

struct SphereSetOptions {
  SphereKeeping keeping = SphereKeeping::automatic;
  int threads = 0;                                   ///< 0: all the machine has
  std::size_t memory_limit = std::size_t{16} << 30;  ///< bytes, the finished set among them
  /// Where memory does not hold it: gives the descriptor of a new empty file without a name, in
  /// which the set is made instead; slower. Without one, Error (memory) is thrown.
  std::function<int()> working_file;
  /// Called now and then with what share is done; return false to stop: Error (cancelled).
  std::function<bool(double)> progress;
};

/// What making a set took.
struct SphereSetCost {
  double reading_s = 0;   ///< going through the source the first time: bounds, mistakes, samples
  double sharing_s = 0;   ///< the second time: to which part each belongs
  double ordering_s = 0;  ///< putting parts in order and making their trees, all threads together
  double whole_s = 0;
  std::size_t peak_bytes = 0;  ///< held at the most, of memory or of working files
  bool on_disk = false;        ///< made in working files
};

class SphereStore;

/// A set of spheres in order. Immutable; shared by scenes, worlds and threads.
class SphereSet {
 public:
  /// Throws Error (input) for no sphere, for numbers that are not finite, places beyond 1e6 m and
  /// radii below 0, and Error (memory) for more than options allow. At most 2^32 - 2^24 spheres.
  static std::shared_ptr<const SphereSet> make(const SphereSource& source,
                                               const SphereSetOptions& options = {});
  static std::shared_ptr<const SphereSet> make(const std::vector<Sphere>& spheres,
                                               const SphereSetOptions& options = {});
  explicit SphereSet(std::shared_ptr<const SphereStore> store);
  ~SphereSet();

  std::uint64_t size() const;
  bool exact() const;
  bool has_materials() const;
  bool has_colors() const;
  Bounds bounds() const;
  double smallest() const;  ///< radius, in meters
  double largest() const;
  /// No sphere lies farther than this, in meters, from where it was said to; 0 where exact.
  double moved() const;
  std::size_t memory_bytes() const;  ///< of memory: little where it is mapped
  std::size_t bytes() const;         ///< of all that says it
  const SphereSetCost& cost() const;

  /// Items are what hits tell: the index a sphere had where the set is exact, else its place in
  /// order, of which some up to items() are none.
  std::uint64_t items() const;
  bool is_item(std::uint64_t item) const;
  /// As lanes meet it; material -1 where the set has none.
  Sphere sphere(std::uint64_t item) const;
  std::uint32_t color(std::uint64_t item) const;  ///< 0xRRGGBB

  const SphereStore& store() const { return *store_; }
  const std::shared_ptr<const SphereStore>& shared_store() const { return store_; }

 private:
  std::shared_ptr<const SphereStore> store_;
};

}  // namespace photonlane
