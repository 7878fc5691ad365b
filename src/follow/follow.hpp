#pragma once

#include "follow/onward.hpp"
#include "lane/surfaces.hpp"
#include "photonlane/lane/tally.hpp"
#include "trace/scene_view.hpp"

namespace photonlane {

/// Receives what followed lanes see.
class LightSink {
 public:
  virtual ~LightSink() = default;

  /// Light for the pixel of a lane.
  virtual void add(const Onward& lane, float red, float green, float blue) = 0;
  /// So much of the pixel of a lane is backdrop. Called where SceneView::uncovers says so.
  virtual void uncover(const Onward&, float /*share*/) {}
  /// Settles the layers of a lane's pixel by surface i.
  virtual void settle(const Onward& lane, const Surfaces& surfaces, std::size_t i) = 0;
  /// Whether spend() is to be called.
  virtual bool meters() const { return false; }
  /// What a lane took, in ticks of a thread's clock and in counted work.
  virtual void spend(const Onward&, float /*ticks*/, float /*work*/) {}
};

/// Follows all lanes of a pool, and those that come from them, until none is left. Lanes that only
/// go through portals are traced on, leg by leg; what the others meet is looked at once enough of
/// them have met something to fill a batch.
void go_on(const SceneView& view, Pool& pool, LightSink& pixels, Tally& tally);

}  // namespace photonlane
