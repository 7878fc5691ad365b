#pragma once

#include <atomic>
#include <functional>
#include <mutex>
#include <vector>

#include "base/stage_clock.hpp"
#include "frame/cost_sample.hpp"
#include "frame/fill_kernel.hpp"
#include "photonlane/frame/render.hpp"
#include "shade/chance.hpp"
#include "trace/scene_view.hpp"

namespace photonlane {

/// Where a sample sits in its pixel, both in [0, 1).
struct SampleOffset {
  double x, y;
};

/// The samples of a pixel: the points of a rank-1 lattice, so that every sample has a column part
/// and a row part of its own and edges near either axis get all the steps there are (Niederreiter,
/// "Random Number Generation and Quasi-Monte Carlo Methods", 1992).
std::vector<SampleOffset> sample_offsets(int samples);

/// Or for a sequence without end so many points from its `first` on: a (0, 2)-sequence, of which
/// every 2^k points that begin at a multiple of 2^k lie one in each of as many columns and rows
/// (Sobol', "On the Distribution of Points in a Cube", 1967).
std::vector<SampleOffset> sample_offsets(const FrameBudget& frame);

/// Tells the caller how far the frame is, and remembers when it asked to stop.
class Progress {
 public:
  Progress(const std::function<bool(double)>& callback, std::size_t parts)
      : callback_(callback), parts_(parts) {}

  bool stopped() const { return stopped_.load(std::memory_order_relaxed); }
  void part_done();
  /// Throws Error (cancelled) where the caller asked to stop.
  void check() const;

 private:
  const std::function<bool(double)>& callback_;
  std::size_t parts_;
  std::size_t done_ = 0;
  std::mutex mutex_;
  std::atomic<bool> stopped_ = false;
};

/// Where a frame's colors are.
struct FramePlanes {
  explicit FramePlanes(Frame& frame);
  FillTarget first;  ///< the frame's first pixel
  std::ptrdiff_t stride = 0;
};

/// A frame in the making: all that casting and filling need, and the frame they fill.
struct RenderJob : SceneView {
  RenderJob(SceneView seen, const Camera& camera, const RenderOptions& options, Frame& frame);

  const Camera& camera;
  const RenderOptions& options;
  Viewing view;
  std::vector<SampleOffset> offsets;
  Frame& frame;
  FramePlanes planes;
  StageSum stages;

  /// Whether surfaces are lit; the price of that is asked for without the colors as well.
  bool colors() const {
    return frame.has(Layer::color) || frame.has(Layer::display) || uncovers || meters();
  }
  bool data() const { return options.layers.has_data(); }
  /// Whether what each pixel costs is asked for.
  bool meters() const { return frame.has(Layer::cost) || frame.has(Layer::work); }
  /// The pixels that are made: all of the frame's, which may be a part of a larger one.
  PixelPart part;
  /// Of the frame that they are a part of.
  Size whole() const { return budget.frame.size(); }
  int right() const { return part.x + part.size.width; }
  int bottom() const { return part.y + part.size.height; }
  /// Whether the one sample of each pixel is its center, where the other layers sit.
  bool center_is_sample() const {
    return offsets.size() == 1 && offsets.front().x == 0.5 && offsets.front().y == 0.5;
  }
  /// Sample s of pixels side by side, or of a block, for what is drawn at random.
  PixelPlace pixels(int x, int y, int width, std::size_t s) const {
    const bool open = budget.frame.sequence == SampleSequence::open;
    const int number = static_cast<int>(s) + (open ? budget.frame.first : 0);
    return {x,       y,
            width,   static_cast<std::uint32_t>(number),
            nullptr, static_cast<std::uint64_t>(budget.frame.seed)};
  }

  /// True where every column shows one wall between floor and ceiling, each of one color or one
  /// texel to a pixel.
  bool plain() const;
  /// Where colors of a run of pixels go.
  FillTarget target(int x, int y) const {
    const std::ptrdiff_t offset = (y - part.y) * planes.stride + x - part.x;
    const auto at = [&](auto* plane) { return plane == nullptr ? nullptr : plane + offset; };
    return {at(planes.first.red), at(planes.first.green), at(planes.first.blue),
            at(planes.first.display)};
  }
};

/// Puts the time of threads into a frame's cost: what was before they were set to work, and theirs.
void put_stages(const StageTicks& before, const StageSum& stages, int threads, Cost& cost);

/// The blocks of a size, counted from the upper left of a frame, that hold a part of it.
PixelPart whole_blocks(const PixelPart& part, Size block, Size whole);

/// What of a frame is made with a part of it, for the same bytes.
PixelPart column_blocks(const PixelPart& part, Size whole);
PixelPart pixel_blocks(const PixelPart& part, Size whole);

/// Casts one lane a column and sample, then fills rows from what they met.
void render_columns(RenderJob& job);

/// Casts one lane a pixel and sample.
void render_pixels(RenderJob& job);

/// Makes some blocks of a frame, as sample_costs() says.
CostSample sample_columns(RenderJob& job, std::span<const PixelPart> blocks);
CostSample sample_pixels(RenderJob& job, std::span<const PixelPart> blocks);
Size column_cost_block();
Size pixel_cost_block();

/// The same, as little of the frame as what the pixel at x, y depends on.
void render_around(RenderJob& job, int x, int y);

}  // namespace photonlane
