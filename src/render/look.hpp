#pragma once

#include <algorithm>
#include <memory>
#include <optional>

#include "lane/surfaces.hpp"
#include "render/illuminate.hpp"
#include "render/job.hpp"

namespace photonlane {

class Pool;
struct Onward;

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

/// Bodies that bend light, which lanes start in.
struct LaneMedium {
  bool inside[Surfaces::capacity] = {};
  float red[Surfaces::capacity];  ///< absorption per meter
  float green[Surfaces::capacity];
  float blue[Surfaces::capacity];

  bool any() const {
    return std::find(inside, inside + Surfaces::capacity, true) != inside + Surfaces::capacity;
  }
  void enter(const Material& material, std::size_t i) {
    inside[i] = true;
    red[i] = material.absorption[0];
    green[i] = material.absorption[1];
    blue[i] = material.absorption[2];
  }
  void copy(const LaneMedium& from, std::size_t source, std::size_t to) {
    inside[to] = from.inside[source];
    red[to] = from.red[source];
    green[to] = from.green[source];
    blue[to] = from.blue[source];
  }
  /// Takes from colors what is lost on the way to them (Beer's law), and the fog from that way: it
  /// stays as it was `before`.
  void absorb(const Surfaces& surfaces, const float* before, Colors& colors, float* fogged) const;
};

/// How lanes look that do not come straight from the eye.
struct Leg {
  const LightBudget* light = nullptr;  ///< what lights what they see
  const Onward* lanes = nullptr;       ///< what they carry; null: nothing, and none goes on
  const float* travelled = nullptr;    ///< meters in each room so far, a row a lane
  const LaneMedium* medium = nullptr;  ///< null: they start in none
};

/// The first surfaces that lanes see rather than look through.
struct Seen {
  Surfaces surfaces;
  bool kept[Surfaces::capacity];  ///< false: nothing yet, the lane goes on elsewhere
};

/// Light by no rays at all.
inline constexpr LightBudget rayless{
    SunShadows::none, 1, LampShadows::none, Corners::none, 1, WetFloor::none, Softness::hard, 1,
    FogLight::quick,  1};

/// Soft bodies hide as much as a lane runs inside them. True where there are any.
bool soften(const PaintTable& paint, const Surfaces& surfaces, Colors& colors);

/// Follows the lanes of some pixels in a room through all that lets light through, and adds
/// `share` of the light they see to the sums, or starts them where these lanes are the `first`.
/// `seen`, where not null, gets the first surface of each. What goes on from there, through
/// portals, thrown back or bent, waits in the pool; without one it is not seen. Lanes of a `leg`
/// look as it says, and see no wet floors.
void look(const RenderJob& job, const RoomView& here, Sight& sight, const PixelPlace& place,
          float share, bool first, Colors& sums, Seen* seen, Tally& tally, Pool* pool,
          const Leg* leg = nullptr);

/// Writes the layers that are not colors for the pixels of a block: pixel i of the surfaces is
/// (x + i % width, y + i / width).
void write_data(const RenderJob& job, int x, int y, int width, const Surfaces& surfaces);

/// Writes the colors of `count` pixels of a row.
void write_colors(const RenderJob& job, int x, int y, int count, const Colors& colors,
                  std::size_t first);

}  // namespace photonlane
