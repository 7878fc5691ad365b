#include "frame/scaled_frame.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <iterator>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "frame/fill_kernel.hpp"
#include "frame/parts.hpp"

namespace photonlane {
namespace {

/// Where a full-size pixel lies among those of the small frame: the upper left of the four around
/// it, and how far it is from there to the next.
struct Between {
  int first;
  float share;
};
Between between(int pixel, int full, int small) {
  const double at = (pixel + 0.5) * small / full - 0.5;
  const double floor = std::floor(at);
  return {static_cast<int>(floor), static_cast<float>(at - floor)};
}

/// What is met at a pixel, by which colors are brought up.
struct Guide {
  float depth;
  float normal[3];
  std::uint32_t material;
  std::uint32_t ending;
};

class Guides {
 public:
  explicit Guides(const Frame& frame)
      : depth_(frame.values(Layer::depth)),
        material_(frame.codes(Layer::material)),
        ending_(frame.codes(Layer::ending)) {
    for (int axis = 0; axis < 3; ++axis) normal_[axis] = frame.values(Layer::normal, axis);
  }
  Guide at(int x, int y) const {
    return {depth_(x, y),
            {normal_[0](x, y), normal_[1](x, y), normal_[2](x, y)},
            material_(x, y),
            ending_(x, y)};
  }
  static LayerSet layers() { return {Layer::depth, Layer::normal, Layer::material, Layer::ending}; }

 private:
  Plane<const float> depth_;
  std::array<Plane<const float>, 3> normal_;
  Plane<const std::uint32_t> material_, ending_;
};

/// How much two pixels are of one surface, from 0 to 1.
float alike(const Guide& a, const Guide& b) {
  if (a.ending != b.ending || a.material != b.material) return 0;
  if (a.ending != static_cast<std::uint32_t>(Ending::hit)) return 1;
  const float along =
      a.normal[0] * b.normal[0] + a.normal[1] * b.normal[1] + a.normal[2] * b.normal[2];
  // A tenth of the distance apart, or turned by 30 degrees, is another surface.
  // Pictures show what is infinitely far.
  const float apart =
      a.depth == b.depth ? 0 : std::abs(a.depth - b.depth) / (0.1f * std::max(a.depth, 1e-6f));
  const float turned = std::max(0.0f, 1 - along) / 0.13f;
  return std::exp(-apart * apart - turned * turned);
}

/// Of what was made for the sake of a part, whole blocks and pixels around it that its neighbors
/// make as well, the share that is its own: so that counts and times of parts add up to those of
/// the whole.
void take_share(double share, Frame& frame) {
  constexpr std::uint64_t Tally::*counts[] = {
      &Tally::lanes,        &Tally::steps,           &Tally::hits,
      &Tally::escaped,      &Tally::spent,           &Tally::bounces,
      &Tally::shadow_lanes, &Tally::cut_bounces,     &Tally::crossings,
      &Tally::bent_steps,   &Tally::secondary_steps, &Tally::evaluations};
  static_assert(sizeof(Tally) == std::size(counts) * sizeof(std::uint64_t));
  const auto part = [share](std::uint64_t count) {
    return static_cast<std::uint64_t>(std::llround(share * static_cast<double>(count)));
  };
  for (const auto count : counts) frame.tally.*count = part(frame.tally.*count);
  for (const Stage& stage : frame.cost.stages.list()) {
    Stage& own = frame.cost.stages.at(stage.lanes, stage.work);
    own.ms *= share;
    own.count = part(own.count);
  }
}

double area(const PixelPart& part) {
  return static_cast<double>(part.size.width) * part.size.height;
}

class Scaled {
 public:
  Scaled(const World& world, const Camera& camera, const Budget& budget, RenderOptions options)
      : world_(world),
        camera_(camera),
        budget_(budget),
        options_(std::move(options)),
        whole_(budget.frame.size()),
        part_(options_.part.value_or(PixelPart{0, 0, whole_})),
        guided_(budget.frame.upscale == Upscale::guided && world.plane() == nullptr) {
    if (options_.part) check_part(part_, whole_);
    if (options_.layers.has(Layer::alpha)) {
      throw Error(ErrorKind::usage, "no layer alpha where frame.scale is below 1");
    }
    if (options_.layers.has(Layer::cost) || options_.layers.has(Layer::work)) {
      throw Error(ErrorKind::usage,
                  "what pixels cost is told of frames at full size, expected frame.scale 1 for the "
                  "layers cost and work");
    }
    LayerSet layers = options_.layers;
    layers.add(Layer::color);
    check_memory(part_.size, layers, options_.memory_limit);
    const auto scaled = [&](int side) {
      return std::max(1, static_cast<int>(std::lround(side * budget.frame.scale)));
    };
    small_ = {scaled(whole_.width), scaled(whole_.height)};
  }

  Frame run() {
    make_small();
    make_full();
    bring_up();
    finish();
    return std::move(frame_);
  }

 private:
  /// `from`, `to`: what of the progress it is.
  RenderOptions options(LayerSet layers, const PixelPart& part, Size size, double from, double to) {
    RenderOptions own;
    own.layers = layers;
    own.threads = options_.threads;
    own.memory_limit = options_.memory_limit;
    if (options_.progress) {
      own.progress = [this, from, to](double share) {
        return options_.progress(from + share * (to - from));
      };
    }
    if (!(part == PixelPart{0, 0, size})) own.part = part;
    return own;
  }

  void make_small() {
    Budget few = budget_;
    few.frame.scale = 1;
    few.frame.width = small_.width;
    few.frame.height = small_.height;
    // One more on each side, for what lies between.
    const auto low = [](const Between& one) { return std::max(0, one.first - 1); };
    const auto high = [](const Between& one, int most) { return std::min(most, one.first + 3); };
    const Between left = between(part_.x, whole_.width, small_.width);
    const Between top = between(part_.y, whole_.height, small_.height);
    const Between right = between(part_.x + part_.size.width - 1, whole_.width, small_.width);
    const Between bottom = between(part_.y + part_.size.height - 1, whole_.height, small_.height);
    small_part_.x = std::min(low(left), small_.width - 1);
    small_part_.y = std::min(low(top), small_.height - 1);
    small_part_.size = {high(right, small_.width) - small_part_.x,
                        high(bottom, small_.height) - small_part_.y};
    LayerSet layers = guided_ ? Guides::layers() : LayerSet{};
    layers.add(Layer::color);
    few_ = render(world_, camera_, few, options(layers, small_part_, small_, 0, 0.8));
    if (!options_.part) return;
    const double across = static_cast<double>(part_.size.width) * small_.width / whole_.width;
    const double down = static_cast<double>(part_.size.height) * small_.height / whole_.height;
    take_share(across * down / area(made_part(world_, camera_, few, small_part_)), few_);
  }

  /// The layers that were asked for and those that guide colors, at full size and lit by nothing.
  void make_full() {
    LayerSet layers = guided_ ? Guides::layers() : LayerSet{};
    for (const Layer layer : options_.layers.list()) {
      if (layer != Layer::color && layer != Layer::display) layers.add(layer);
    }
    if (layers.empty()) return;
    Budget full = budget_;
    full.frame.scale = 1;
    full_ = render(world_, camera_, full, options(layers, part_, whole_, 0.8, 1));
    if (options_.part) {
      take_share(area(part_) / area(made_part(world_, camera_, full, part_)), full_);
    }
  }

  /// The small pixels around a full-size one, with their weights.
  struct Mix {
    int x[4], y[4];
    float weight[4];
  };
  Mix mix_at(int x, int y, const Guides* small, const Guides* full) const {
    const Between across = between(part_.x + x, whole_.width, small_.width);
    const Between down = between(part_.y + y, whole_.height, small_.height);
    Mix mix;
    float sum = 0;
    int best = 0;
    float most = -1;
    for (int k = 0; k < 4; ++k) {
      const int dx = k % 2;
      const int dy = k / 2;
      mix.x[k] = std::clamp(across.first + dx - small_part_.x, 0, few_.size().width - 1);
      mix.y[k] = std::clamp(down.first + dy - small_part_.y, 0, few_.size().height - 1);
      const float near =
          (dx == 1 ? across.share : 1 - across.share) * (dy == 1 ? down.share : 1 - down.share);
      mix.weight[k] = near;
      if (near > most) {
        most = near;
        best = k;
      }
      if (small != nullptr) {
        mix.weight[k] = (near + 0.02f) * alike(full->at(x, y), small->at(mix.x[k], mix.y[k]));
      }
      sum += mix.weight[k];
    }
    if (budget_.frame.upscale == Upscale::nearest) {
      for (int k = 0; k < 4; ++k) mix.weight[k] = k == best ? 1.0f : 0.0f;
      return mix;
    }
    if (small != nullptr && !(sum > 1e-3f)) {
      look_around(across, down, full->at(x, y), *small, mix);
      return mix;
    }
    for (float& weight : mix.weight) weight /= sum;
    return mix;
  }

  /// Where none of the four is of the surface that is seen here: the one around them that is most,
  /// or else between the four.
  void look_around(const Between& across, const Between& down, const Guide& here,
                   const Guides& small, Mix& mix) const {
    float most = 1e-3f;
    bool any = false;
    for (int dy = -1; dy <= 2; ++dy) {
      for (int dx = -1; dx <= 2; ++dx) {
        const int sx = std::clamp(across.first + dx - small_part_.x, 0, few_.size().width - 1);
        const int sy = std::clamp(down.first + dy - small_part_.y, 0, few_.size().height - 1);
        const float like = alike(here, small.at(sx, sy));
        if (like <= most) continue;
        most = like;
        any = true;
        mix.x[0] = sx;
        mix.y[0] = sy;
      }
    }
    for (int k = 0; k < 4; ++k) {
      const float near = (k % 2 == 1 ? across.share : 1 - across.share) *
                         (k / 2 == 1 ? down.share : 1 - down.share);
      mix.weight[k] = any ? (k == 0 ? 1.0f : 0.0f) : near;
    }
  }

  void bring_up() {
    const Stopwatch watch;
    LayerSet layers = options_.layers;
    const bool keeps_color = layers.has(Layer::color);
    layers.add(Layer::color);
    frame_ = Frame(part_.size, layers, std::move(options_.recycle));
    std::optional<Guides> small, full;
    if (guided_) {
      small.emplace(std::as_const(few_));
      full.emplace(std::as_const(full_));
    }
    std::array<Plane<const float>, 3> from;
    std::array<Plane<float>, 3> to;
    for (int channel = 0; channel < 3; ++channel) {
      from[channel] = std::as_const(few_).values(Layer::color, channel);
      to[channel] = frame_.values(Layer::color, channel);
    }
    const Plane<std::uint32_t> display =
        layers.has(Layer::display) ? frame_.codes(Layer::display) : Plane<std::uint32_t>{};
    parallel_for(
        options_.threads, static_cast<std::size_t>(part_.size.height), [&](std::size_t row) {
          const int y = static_cast<int>(row);
          for (int x = 0; x < part_.size.width; ++x) {
            const Mix mix = mix_at(x, y, small ? &*small : nullptr, full ? &*full : nullptr);
            for (int channel = 0; channel < 3; ++channel) {
              float sum = 0;
              for (int k = 0; k < 4; ++k) sum += mix.weight[k] * from[channel](mix.x[k], mix.y[k]);
              to[channel](x, y) = sum;
            }
          }
          if (display.data == nullptr) return;
          encode_row(to[0].row(y).data(), to[1].row(y).data(), to[2].row(y).data(),
                     display.row(y).data(), static_cast<std::size_t>(part_.size.width), part_.x,
                     part_.y + y);
        });
    if (!keeps_color) {
      Frame shown(part_.size, options_.layers);
      copy_layers(frame_, options_.layers, shown);
      frame_ = std::move(shown);
    }
    LayerSet rest = options_.layers;
    rest.remove({Layer::color, Layer::display});
    copy_layers(full_, rest, frame_);
    fill_ms_ = watch.milliseconds();
  }

  void finish() {
    frame_.budget = budget_;
    frame_.part = options_.part;
    frame_.tally = few_.tally;
    frame_.tally += full_.tally;
    frame_.cost = few_.cost;
    frame_.cost.cast_ms += full_.cost.cast_ms;
    frame_.cost.fill_ms += full_.cost.fill_ms + fill_ms_;
    frame_.cost.waiting_ms += full_.cost.waiting_ms;
    frame_.cost.stages += full_.cost.stages;
    Stage& pixels = frame_.cost.stages.at(LaneKind::frame, Work::pixels);
    pixels.ms += fill_ms_ * frame_.cost.threads;
    pixels.times += 1;
    frame_.plane_report = few_.plane_report;
  }

  const World& world_;
  const Camera& camera_;
  const Budget& budget_;
  RenderOptions options_;
  const Size whole_;
  const PixelPart part_;
  const bool guided_;
  Size small_;
  PixelPart small_part_;
  Frame few_, full_, frame_;
  double fill_ms_ = 0;
};

}  // namespace

Frame render_scaled(const World& world, const Camera& camera, const Budget& budget,
                    RenderOptions options) {
  return Scaled(world, camera, budget, std::move(options)).run();
}

}  // namespace photonlane
