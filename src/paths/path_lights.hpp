#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "trace/scene_view.hpp"

namespace photonlane {

/// A place or a direction in floats.
using Vec3f = Eigen::Vector3f;

/// What lanes see that leave a room, and where it is bright.
class SkyLight {
 public:
  SkyLight(const World& world, const CompiledRoom& room);

  Color radiance(const Vec3f& way) const;
  /// A direction, more often where it is bright, and its density per steradian.
  Vec3f sample(float u, float v, float& density) const;
  float density(const Vec3f& way) const;
  float mean() const { return mean_; }  ///< of red, green and blue all around

 private:
  Color panorama(float u, float v) const;
  std::size_t cell_of(const Vec3f& way) const;

  const TextureSet& textures_;
  const Sky* sky_ = nullptr;
  Color fog_;
  int rows_ = 1, columns_ = 1;  ///< of a table by height and heading, all of one solid angle
  std::vector<float> until_;    ///< share of the light up to the end of each cell
  float mean_ = 0;
};

/// A light that paths are sent toward.
struct PathLight {
  enum class Kind { sun, lamp, ball, box, sky };
  Kind kind = Kind::lamp;
  Color radiance{0, 0, 0};  ///< of its surface; irradiance of a sun without size
  Vec3d place{0, 0, 0};     ///< of lamps and balls their middle; toward the sun
  double radius = 0;
  double spread = 0;     ///< of the sun: 1 - cosine of half its angle
  double cone = 2 * pi;  ///< of a spot
  Lamp lamp;
  Vec3d low{0, 0, 0}, high{0, 0, 0};  ///< of a box
  float strength = 0;                 ///< irradiance, at a meter where it is near
  std::span<const FaceOf> way{};      ///< portals it is seen through
  std::uint32_t room = 0;             ///< where it stands
  std::uint32_t index = 0;            ///< which lamp of that room's
  std::uint32_t item = 0;             ///< of a ball or box: of its solid
};

/// Where a path is sent to find a light.
struct LightSample {
  Vec3f way{0, 0, 1};
  float distance = 0;  ///< infinite for what is far
  float density = 0;   ///< per steradian; 0: none there
  Color radiance{0, 0, 0};
  bool point = false;  ///< it has no size: radiance is irradiance
};

/// All lights that light the surfaces of one room.
class RoomLights {
 public:
  RoomLights(const SceneView& view, const RoomView& here);

  bool empty() const { return lights_.empty(); }
  const PathLight& light(std::size_t which) const { return lights_[which]; }
  const SkyLight& sky() const { return sky_; }

  struct Pick {
    std::size_t which = 0;
    float chance = 0;  ///< 0: there is none
    float sum = 0;     ///< for chance()
  };
  /// One light, more often one that is strong at a place; `at` in [0, 1).
  Pick pick(const Vec3d& from, float at) const;
  /// What pick() would have told of one; `sum` is that of a Pick at that place.
  float chance(std::size_t which, const Vec3d& from, float sum) const;

  struct FogPick {
    std::size_t which = 0;
    float chance = 0;  ///< 0: none is looked for
  };
  /// One light that shines on the fog of a leg, more often one that does so strongly; or none.
  FogPick pick_in_fog(const Vec3d& from, const Vec3d& way, float meters, float extinction,
                      float at) const;
  /// Where on the leg it is looked for: more often where it is near (Kulla and Fajardo, "Importance
  /// Sampling Techniques for Path Tracing in Participating Media", 2012), or where more light is
  /// thrown on. Gives the density per meter.
  float place_in_fog(std::size_t which, const Vec3d& from, const Vec3d& way, float meters,
                     float extinction, float drawn, float& at) const;

  LightSample sample(std::size_t which, const Vec3d& from, float u, float v) const;
  /// By which sample() finds the direction of a light that was met, for boxes at a distance and a
  /// cosine to its surface.
  float density(std::size_t which, const Vec3d& from, const Vec3f& way, float distance = 0,
                float cosine = 0) const;

  static constexpr std::size_t none = static_cast<std::size_t>(-1);
  /// Which light is lamp `index` of a room, seen by a way; or none.
  std::size_t find_lamp(std::uint32_t room, std::uint32_t index, std::span<const FaceOf> way) const;
  std::size_t find_sun(std::uint32_t room, std::span<const FaceOf> way) const;
  std::size_t find_sky(std::span<const FaceOf> way) const {
    return way.empty() ? sky_light_ : none;
  }
  /// A ball or box of this room that has a surface at a place.
  std::size_t find_item(std::uint32_t item, const Vec3d& at) const;

 private:
  float strength_at(const PathLight& light, const Vec3d& from) const;
  void add_emitters(const SceneView& view, const RoomView& here);

  SkyLight sky_;
  std::size_t sky_light_ = none;
  std::vector<PathLight> lights_;
  bool many_ = false;         ///< picked by their strength alone
  std::vector<float> until_;  ///< of many: share of the strength up to each
  std::vector<std::pair<std::uint32_t, std::size_t>> items_;  ///< sorted: item and light
};

/// Where a lane meets a lamp of this room first, after `start` and before `end`; infinite: nowhere.
double meet_lamp(const Lamp& lamp, const Vec3d& from, const Vec3d& way, double start, double end);
/// What a lane sees that meets a lamp, going a way.
Color lamp_radiance(const Lamp& lamp, const Vec3d& way);
/// Radiance of the sun's disc, and 1 - the cosine of half its angle.
Color sun_radiance(const Color& color, double strength, double size);
double sun_spread(double size);

}  // namespace photonlane
