#include "photonlane/frame/deep.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"
#include "follow/deep_recorder.hpp"
#include "frame/job.hpp"
#include "frame/parts.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

/// Gives what a pixel has beyond its parts to those that more light comes from: as much as each
/// hides, or to all so where there are none.
void share_rest(const Color& color, std::vector<DeepPart>& parts) {
  Color rest = color;
  float open = 0;
  float all = 0;
  for (const DeepPart& part : parts) {
    rest -= Color(part.red, part.green, part.blue);
    all += part.hides;
    if (part.open) open += part.hides;
  }
  if (!(all > 0)) return;
  for (DeepPart& part : parts) {
    if (open > 0 && !part.open) continue;
    const float share = part.hides / (open > 0 ? open : all);
    part.red += share * rest[0];
    part.green += share * rest[1];
    part.blue += share * rest[2];
  }
}

/// Joins what lies at about one distance. The parts are in order.
void merge(std::vector<DeepPart>& parts, float tolerance) {
  std::size_t kept = 0;
  for (std::size_t i = 1; i < parts.size(); ++i) {
    DeepPart& last = parts[kept];
    const DeepPart& part = parts[i];
    const bool same = part.z == last.z || part.z - last.z <= tolerance * last.z;
    if (!same) {
      parts[++kept] = part;
      continue;
    }
    last.red += part.red;
    last.green += part.green;
    last.blue += part.blue;
    last.hides += part.hides;
  }
  if (!parts.empty()) parts.resize(kept + 1);
}

/// Light and what it hides are shares of the pixel; a sample's are shares of what those before it
/// leave.
void lay(const std::vector<DeepPart>& parts, std::vector<DeepSample>& samples) {
  double left = 1;
  for (const DeepPart& part : parts) {
    const bool nothing = part.hides == 0 && part.red == 0 && part.green == 0 && part.blue == 0;
    if (nothing) continue;
    // Nothing that rounding left over is laid behind what hides all.
    if (!(left > 1e-6)) return;
    const auto over = [&](float share) {
      return static_cast<float>(static_cast<double>(share) / left);
    };
    samples.push_back({part.z, over(part.red), over(part.green), over(part.blue),
                       std::min(over(part.hides), 1.0f)});
    left -= static_cast<double>(part.hides);
  }
}

}  // namespace

DeepPicture make_deep(const World& given, const Camera& camera, const Budget& budget,
                      const DeepOptions& options) {
  if (given.plane() != nullptr) throw Error(ErrorKind::usage, "planes lie at one distance");
  if (budget.light.transport == Transport::paths || budget.frame.scale != 1) {
    throw Error(ErrorKind::usage,
                "several distances a pixel are of light.transport=direct and frame.scale 1");
  }
  if (!(options.merge >= 0 && options.merge <= 1)) {
    throw Error(ErrorKind::input,
                fmt::format("a share of {} to merge by, expected 0 to 1", options.merge));
  }
  const World world = seen_by(given, camera, budget.voxels.wait,
                              [&] { return !options.progress || options.progress(0); });
  Budget by_pixels = budget;
  by_pixels.rays = Rays::pixels;
  RenderOptions asked;
  asked.layers = {Layer::color};
  asked.threads = options.threads;
  check_frame(world, camera, by_pixels, asked);
  const Size size = budget.frame.size();
  DeepPicture deep{.size = size};
  // A band of rows at a time: what lanes saw takes more memory than what is kept of it.
  constexpr int band = 64;
  const double bands = std::ceil(static_cast<double>(size.height) / band);
  for (int top = 0; top < size.height; top += band) {
    const PixelPart part{0, top, {size.width, std::min(band, size.height - top)}};
    if (options.progress) {
      asked.progress = [&](double share) { return options.progress((top / band + share) / bands); };
    }
    Frame frame(part.size, asked.layers);
    frame.part = part;
    RenderJob job(view_scene(world, camera, by_pixels), camera, asked, frame);
    DeepRecorder recorder(part, job.view);
    job.deep = &recorder;
    render_pixels(job);
    std::vector<std::vector<DeepSample>> rows(static_cast<std::size_t>(part.size.height));
    std::vector<std::vector<std::uint32_t>> counts(rows.size());
    parallel_for(options.threads, rows.size(), [&](std::size_t row) {
      const int y = static_cast<int>(row);
      for (int x = 0; x < size.width; ++x) {
        std::vector<DeepPart>& parts = recorder.pixel(x, top + y);
        share_rest({frame.values(Layer::color, 0)(x, y), frame.values(Layer::color, 1)(x, y),
                    frame.values(Layer::color, 2)(x, y)},
                   parts);
        std::stable_sort(parts.begin(), parts.end(),
                         [](const DeepPart& a, const DeepPart& b) { return a.z < b.z; });
        merge(parts, static_cast<float>(options.merge));
        const std::size_t before = rows[row].size();
        lay(parts, rows[row]);
        counts[row].push_back(static_cast<std::uint32_t>(rows[row].size() - before));
      }
    });
    for (std::size_t row = 0; row < rows.size(); ++row) {
      deep.samples.insert(deep.samples.end(), rows[row].begin(), rows[row].end());
      for (const std::uint32_t count : counts[row]) deep.first.push_back(deep.first.back() + count);
    }
    const std::size_t bytes =
        deep.samples.size() * sizeof(DeepSample) + deep.first.size() * sizeof(std::uint64_t);
    if (bytes > options.memory_limit) {
      throw Error(ErrorKind::memory,
                  fmt::format("the distances of {} rows take more than {:.1f} GiB", top + band,
                              static_cast<double>(options.memory_limit) / 0x1p30));
    }
  }
  return deep;
}

}  // namespace photonlane
