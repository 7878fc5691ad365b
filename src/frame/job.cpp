#include "frame/job.hpp"

#include <cmath>
#include <numeric>

#include "base/parallel.hpp"

namespace photonlane {

std::vector<SampleOffset> sample_offsets(int samples) {
  int generator = static_cast<int>(std::lround(samples * 0.6180339887));
  while (std::gcd(generator, samples) != 1) ++generator;
  std::vector<SampleOffset> offsets;
  for (int s = 0; s < samples; ++s) {
    const int row = static_cast<int>(static_cast<std::int64_t>(s) * generator % samples);
    offsets.push_back({(s + 0.5) / samples, (row + 0.5) / samples});
  }
  return offsets;
}

std::vector<SampleOffset> sample_offsets(const FrameBudget& frame) {
  if (frame.sequence == SampleSequence::lattice) return sample_offsets(frame.samples);
  std::vector<SampleOffset> offsets;
  for (int s = 0; s < frame.samples; ++s) {
    const auto number = static_cast<std::uint32_t>(frame.first) + static_cast<std::uint32_t>(s);
    std::uint32_t x = 0;
    std::uint32_t y = 0;
    // The columns of Pascal's triangle, odd or even, direct the second coordinate.
    std::uint32_t direction = 1u << 31;
    for (int bit = 0; bit < 32; ++bit) {
      if ((number >> bit & 1) != 0) {
        x ^= 1u << (31 - bit);
        y ^= direction;
      }
      direction ^= direction >> 1;
    }
    // In the middle of the 2^-25 that doubles and floats alike tell apart.
    offsets.push_back({(x >> 8) * 0x1p-24 + 0x1p-25, (y >> 8) * 0x1p-24 + 0x1p-25});
  }
  return offsets;
}

void Progress::part_done() {
  if (!callback_) return;
  const std::lock_guard lock(mutex_);
  if (!callback_(static_cast<double>(++done_) / static_cast<double>(parts_))) stopped_ = true;
}

void Progress::check() const {
  if (stopped()) throw Error(ErrorKind::cancelled, "stopped by the caller");
}

RenderJob::RenderJob(SceneView seen, const Camera& its_camera, const RenderOptions& its_options,
                     Frame& its_frame)
    : SceneView(std::move(seen)),
      camera(its_camera),
      options(its_options),
      view(viewing(camera, budget.frame.size())),
      offsets(sample_offsets(budget.frame)),
      frame(its_frame),
      planes(frame),
      part(frame.part.value_or(PixelPart{0, 0, budget.frame.size()})) {
  uncovers = frame.has(Layer::alpha);
}

PixelPart whole_blocks(const PixelPart& part, Size block, Size whole) {
  const auto down = [](int value, int by) { return value / by * by; };
  const auto up = [](int value, int by, int most) {
    return static_cast<int>(std::min<std::int64_t>((std::int64_t{value} + by - 1) / by * by, most));
  };
  const int x = down(part.x, block.width);
  const int y = down(part.y, block.height);
  return {x,
          y,
          {up(part.x + part.size.width, block.width, whole.width) - x,
           up(part.y + part.size.height, block.height, whole.height) - y}};
}

void put_stages(const StageTicks& before, const StageSum& stages, int threads, Cost& cost) {
  StageTicks all = stages.all();
  all += before;
  cost.stages = all.times();
  cost.waiting_ms = stages.waiting_ms();
  cost.threads = thread_count(threads);
}

bool RenderJob::plain() const {
  const RoomView& room_view = here();
  return (world.textures().size() == 0 || room_view.paint.sampling == TextureSampling::nearest) &&
         !room_view.paint.clear && !room_view.room.sky && room_view.room.has_ceiling &&
         room_view.room.only_cells() && !room_view.cells().has_forms() &&
         room_view.panels.empty() && !room_view.room.light.lit() && !wet && !glossy && !patterned;
}

FramePlanes::FramePlanes(Frame& frame) {
  if (frame.has(Layer::color)) {
    first.red = frame.values(Layer::color, 0).data;
    first.green = frame.values(Layer::color, 1).data;
    first.blue = frame.values(Layer::color, 2).data;
    stride = frame.values(Layer::color).stride;
  }
  if (frame.has(Layer::display)) {
    first.display = frame.codes(Layer::display).data;
    stride = frame.codes(Layer::display).stride;
  }
}

}  // namespace photonlane
