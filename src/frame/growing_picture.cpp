#include <algorithm>
#include <cmath>
#include <limits>
#include <optional>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "frame/denoise.hpp"
#include "frame/fill_kernel.hpp"
#include "frame/growing_inside.hpp"
#include "frame/parts.hpp"
#include "frame/path_frame.hpp"
#include "photonlane/frame/render.hpp"

namespace photonlane {
namespace {

/// Of middle gray, as a display shows it.
constexpr double middle_gray = 0.18;

}  // namespace

LayerSet told_layers() {
  LayerSet told = LayerSet::of_paths();
  told.remove({Layer::radiance, Layer::samples, Layer::variance});
  return told;
}

float tone(float radiance) {
  constexpr float knee = 0.6f;
  if (!(radiance > knee)) return std::max(radiance, 0.0f);
  return knee + (1 - knee) * (1 - std::exp(-(radiance - knee) / (1 - knee)));
}

Color GrowingFrame::Inside::mean_of(std::size_t pixel, std::uint32_t samples, int half) const {
  const double* sums = gathered.sums.data() + 6 * pixel;
  const std::uint32_t odd = samples / 2;
  const std::uint32_t even = samples - odd;
  const auto color = [](const double* of, double share) {
    return Color(static_cast<float>(of[0] * share), static_cast<float>(of[1] * share),
                 static_cast<float>(of[2] * share));
  };
  if (half == 0) return color(sums, 1.0 / std::max(even, 1u));
  if (half == 1) return color(sums + 3, 1.0 / std::max(odd, 1u));
  const double all[3] = {sums[0] + sums[3], sums[1] + sums[4], sums[2] + sums[5]};
  return color(all, 1.0 / std::max(samples, 1u));
}

/// The squared error left in a pixel, as mean of its channels, in display values.
float GrowingFrame::Inside::squared_error(std::size_t pixel, std::uint32_t samples,
                                          float exposure) const {
  if (samples < 2) return 1;
  const double* sums = gathered.sums.data() + 6 * pixel;
  const float* largest = gathered.largest.data() + 4 * pixel;
  // Where one sample is as much as most of the others together, halves tell too little: both are
  // past white with it, or it is in one alone.
  const double sum_of_all = sums[0] + sums[1] + sums[2] + sums[3] + sums[4] + sums[5];
  const bool apart =
      samples >= 8 && static_cast<double>(largest[0] + largest[1] + largest[2]) > 0.5 * sum_of_all;
  const auto all = static_cast<double>(samples);
  double count[2] = {all - std::floor(all / 2), std::floor(all / 2)};
  const std::size_t half = largest[3] > 0 ? 1 : 0;
  if (apart) count[half] -= 1;
  const double left = count[0] + count[1];
  const double factor = count[0] * count[1] / (left * left);
  const auto shown = [&](double sum, double of) {
    return static_cast<double>(to_display(tone(static_cast<float>(sum / of) * exposure)));
  };
  double error = 0;
  for (std::size_t c = 0; c < 3; ++c) {
    double halves[2] = {sums[c], sums[3 + c]};
    const double whole = halves[0] + halves[1];
    if (apart) halves[half] -= static_cast<double>(largest[c]);
    const double off = shown(halves[0], count[0]) - shown(halves[1], count[1]);
    error += factor * off * off;
    if (!apart) continue;
    const double without = shown(whole, all) - shown(halves[0] + halves[1], left);
    error += left / all * without * without;
  }
  return static_cast<float>(error / 3);
}

/// The squared error left in each pixel, as mean of its channels, in display values.
std::vector<float> GrowingFrame::Inside::pixel_errors(double exposure) const {
  const auto scale = static_cast<float>(exposure);
  const int width = gathered.part.size.width;
  std::vector<float> errors(count());
  parallel_for(options.threads, static_cast<std::size_t>(gathered.part.size.height),
               [&](std::size_t y) {
                 for (int x = 0; x < width; ++x) {
                   const std::size_t i = y * static_cast<std::size_t>(width) + x;
                   errors[i] = squared_error(i, samples_of(i), scale);
                 }
               });
  return errors;
}

double GrowingFrame::Inside::exposure() const {
  const double by_hand = std::exp2(budget.light.exposure);
  if (budget.light.metering == Metering::manual) return by_hand;
  double sum = 0;
  for (std::size_t i = 0; i < count(); ++i) {
    const Color mean = mean_of(i, samples_of(i), -1);
    const double light = 0.2126 * static_cast<double>(mean[0]) +
                         0.7152 * static_cast<double>(mean[1]) +
                         0.0722 * static_cast<double>(mean[2]);
    sum += std::log(std::max(light, 1e-4));
  }
  return by_hand * middle_gray / std::exp(sum / static_cast<double>(count()));
}

GrowingError GrowingFrame::Inside::error(double exposure) const {
  GrowingError error;
  const auto least = *std::min_element(gathered.samples.begin(), gathered.samples.end());
  if (least < 2) {
    error.rmse = error.high = std::numeric_limits<double>::infinity();
    return error;
  }
  const std::vector<float> errors = pixel_errors(exposure);
  const auto pixels = static_cast<double>(errors.size());
  double sum = 0;
  double squares = 0;
  for (const float one : errors) {
    sum += static_cast<double>(one);
    squares += static_cast<double>(one) * static_cast<double>(one);
  }
  const double mean = sum / pixels;
  const double variance = std::max(0.0, squares / pixels - mean * mean);
  // The estimate spreads as much as the error itself does that it is of.
  const double spread = 1.645 * std::sqrt(2 * variance / pixels);
  error.rmse = std::sqrt(mean);
  // A few parts in a hundred more, for what the curve of display values bends.
  constexpr double bent = 0.03;
  error.low = (1 - bent) * std::sqrt(std::max(0.0, mean - spread));
  error.high = (1 + bent) * std::sqrt(mean + spread);
  return error;
}

void GrowingFrame::Inside::check_asked(LayerSet layers) const {
  if (*std::min_element(gathered.samples.begin(), gathered.samples.end()) == 0) {
    throw Error(ErrorKind::usage, "the picture of no samples, expected one at least");
  }
  if (layers.any_of(told_layers()) && !tells()) {
    throw Error(ErrorKind::usage,
                "layers bounces, emission, albedo and light.N are not told of this frame");
  }
  if (layers.any_of({Layer::cost, Layer::work}) && !options.meters) {
    throw Error(ErrorKind::usage, "layers cost and work are not told of this frame");
  }
}

std::optional<Frame> GrowingFrame::Inside::straight_frame(LayerSet layers,
                                                          std::optional<PixelPart> part) const {
  if (budget.frame.denoise > 0) {
    for (const Layer layer : denoise_guides().list()) layers.add(layer);
  }
  if (layers.empty()) return {};
  Budget plain = budget;
  plain.light.transport = Transport::direct;
  plain.rays = Rays::pixels;
  RenderOptions straight;
  straight.layers = layers;
  straight.threads = options.threads;
  straight.part = part;
  return render(world, camera, plain, std::move(straight));
}

void GrowingFrame::Inside::means(std::vector<Color>& light, std::vector<float>& variance) const {
  light.resize(count());
  variance.resize(count());
  for (std::size_t i = 0; i < count(); ++i) {
    const std::uint32_t samples = samples_of(i);
    light[i] = mean_of(i, samples, -1);
    const auto odd = static_cast<float>(samples / 2);
    const auto number = static_cast<float>(samples);
    const Color off = mean_of(i, samples, 0) - mean_of(i, samples, 1);
    // Of one sample nothing is known.
    variance[i] = samples < 2 ? std::numeric_limits<float>::infinity()
                              : odd * (number - odd) / (number * number) * (off * off).mean();
  }
}

void GrowingFrame::Inside::filter(const Frame& guides, const std::vector<float>& variance,
                                  std::vector<Color>& light) const {
  // What is seen straight has next to no noise and edges of its own: lamps are balls of light.
  std::vector<Color> albedo(count());
  std::vector<Color> straight(count());
  for (std::size_t i = 0; i < albedo.size(); ++i) {
    const float* own = told.data() + told_count * i;
    const float share = 1 / static_cast<float>(samples_of(i));
    straight[i] = Color(own[0], own[1], own[2]) * share;
    albedo[i] = Color(own[told_albedo], own[told_albedo + 1], own[told_albedo + 2]) * share;
    light[i] -= straight[i];
  }
  denoise(guides, albedo, variance, budget.frame.denoise, options.threads, light);
  for (std::size_t i = 0; i < light.size(); ++i) light[i] += straight[i];
}

void GrowingFrame::Inside::put_told(std::size_t i, int x, int y, Frame& frame) const {
  const auto number = static_cast<float>(samples_of(i));
  const float* own = told.data() + told_count * i;
  const auto put = [&](Layer layer, std::size_t from) {
    if (!frame.has(layer)) return;
    for (int c = 0; c < 3; ++c) {
      frame.values(layer, c)(x, y) = own[from + static_cast<std::size_t>(c)] / number;
    }
  };
  for (int k = 0; k < told_bounces; ++k) {
    put(static_cast<Layer>(static_cast<int>(Layer::light_0) + k), 3 * static_cast<std::size_t>(k));
  }
  put(Layer::emission, told_emission);
  put(Layer::albedo, told_albedo);
  if (frame.has(Layer::bounces)) {
    frame.values(Layer::bounces)(x, y) = own[told_albedo + 3] / number;
  }
}

Frame GrowingFrame::picture(LayerSet layers) const {
  const Inside& in = *inside_;
  const GatheredLight& all = in.gathered;
  const PixelPart& part = all.part;
  in.check_asked(layers);
  const Stopwatch watch;
  Frame frame(part.size, layers);
  frame.budget = in.budget;
  if (part.size != in.budget.frame.size()) frame.part = part;
  LayerSet data = layers;
  data.remove(LayerSet::of_paths());
  data.remove({Layer::color, Layer::display, Layer::cost, Layer::work});
  const std::optional<Frame> straight = in.straight_frame(data, frame.part);
  if (straight) copy_layers(*straight, data, frame);
  const double exposure = in.exposure();
  std::vector<Color> light;
  std::vector<float> variance;
  in.means(light, variance);
  if (in.budget.frame.denoise > 0) in.filter(*straight, variance, light);
  const auto scale = static_cast<float>(exposure);
  std::vector<float> rows[3];
  for (auto& row : rows) row.resize(static_cast<std::size_t>(part.size.width) + 16);
  for (int y = 0; y < part.size.height; ++y) {
    for (int x = 0; x < part.size.width; ++x) {
      const std::size_t i = static_cast<std::size_t>(y) * part.size.width + x;
      for (int c = 0; c < 3; ++c) {
        const float shown = tone(light[i][c] * scale);
        rows[c][static_cast<std::size_t>(x)] = shown;
        if (frame.has(Layer::color)) frame.values(Layer::color, c)(x, y) = shown;
        if (frame.has(Layer::radiance)) frame.values(Layer::radiance, c)(x, y) = light[i][c];
      }
      if (frame.has(Layer::samples)) {
        frame.values(Layer::samples)(x, y) = static_cast<float>(in.samples_of(i));
      }
      if (frame.has(Layer::variance)) frame.values(Layer::variance)(x, y) = variance[i];
      if (in.options.meters) {
        const float* own = in.meters.data() + 2 * i;
        if (frame.has(Layer::cost)) {
          frame.values(Layer::cost)(x, y) =
              static_cast<float>(static_cast<double>(own[0]) / ticks_per_ns());
        }
        if (frame.has(Layer::work)) frame.values(Layer::work)(x, y) = own[1];
      }
      if (in.tells()) in.put_told(i, x, y, frame);
    }
    if (frame.has(Layer::display)) {
      encode_row(rows[0].data(), rows[1].data(), rows[2].data(),
                 frame.codes(Layer::display).row(y).data(),
                 static_cast<std::size_t>(part.size.width), part.x, part.y + y);
    }
  }
  const GrowingError error = in.error(exposure);
  frame.path_report =
      PathReport{samples(), exposure,   error.rmse,
                 error.low, error.high, all.light > 0 ? all.clamped / all.light : 0};
  frame.tally = all.tally;
  frame.cost.compile_ms = in.world.compile_ms();
  frame.cost.missing = in.world.missing();
  frame.cost.cast_ms = all.cast_ms;
  frame.cost.fill_ms = watch.milliseconds();
  StageTicks none;
  put_stages(none, in.stages, in.options.threads, frame.cost);
  return frame;
}

Frame render_path_frame(const World& world, const Camera& camera, const Budget& budget,
                        RenderOptions options) {
  GrowingOptions growing;
  growing.threads = options.threads;
  growing.memory_limit = options.memory_limit;
  growing.tell = options.layers.any_of(told_layers());
  growing.meters = options.layers.any_of({Layer::cost, Layer::work});
  growing.part = options.part;
  GrowingFrame frame(world, camera, budget, growing);
  frame.take(budget.frame.samples, options.progress);
  return frame.picture(options.layers);
}

CostSample sample_paths(const World& world, const Camera& camera, const Budget& budget,
                        std::span<const PixelPart> blocks, int threads,
                        const std::function<bool(double)>& progress) {
  CostSample sample;
  sample.block_ms.resize(blocks.size());
  Progress done(progress, blocks.size());
  parallel_for(threads, blocks.size(), [&](std::size_t i) {
    if (done.stopped()) return;
    GrowingOptions options;
    options.threads = 1;
    options.part = blocks[i];
    GrowingFrame frame(world, camera, budget, options);
    const Stopwatch watch;
    frame.take(budget.frame.samples);
    sample.block_ms[i] = watch.milliseconds();
    done.part_done();
  });
  done.check();
  return sample;
}

}  // namespace photonlane
