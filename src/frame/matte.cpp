#include "photonlane/frame/matte.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "frame/job.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

struct Share {
  std::uint32_t thing;
  int count;
};

Layer layer_of(MatteOf of) {
  return of == MatteOf::material ? Layer::material
         : of == MatteOf::cell   ? Layer::cell
                                 : Layer::room;
}

/// What lanes through a place in each pixel meet: the frame of a camera that is shifted by it.
Frame frame_at(const World& world, Camera camera, const Budget& budget, const SampleOffset& offset,
               RenderOptions options) {
  camera.shift_x += (0.5 - offset.x) / budget.frame.width;
  camera.shift_y -= (0.5 - offset.y) / budget.frame.height;
  return render(world, camera, budget, std::move(options));
}

/// Writes the things of one pixel, those that cover most first; true where some are left out.
bool write_pixel(std::vector<Share>& seen, std::size_t pixel, int samples, Matte& matte) {
  std::sort(seen.begin(), seen.end(), [](const Share& one, const Share& two) {
    return one.count != two.count ? one.count > two.count : one.thing < two.thing;
  });
  const std::size_t ranks = std::min(seen.size(), matte.things.size());
  for (std::size_t rank = 0; rank < ranks; ++rank) {
    matte.things[rank][pixel] = seen[rank].thing;
    matte.shares[rank][pixel] = static_cast<float>(seen[rank].count) / static_cast<float>(samples);
  }
  return seen.size() > ranks;
}

}  // namespace

float Matte::share(int x, int y, std::uint32_t thing) const {
  const std::size_t pixel = static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width) +
                            static_cast<std::size_t>(x);
  for (std::size_t rank = 0; rank < things.size(); ++rank) {
    if (things[rank][pixel] == thing) return shares[rank][pixel];
  }
  return 0;
}

float Matte::covered(int x, int y) const {
  const std::size_t pixel = static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width) +
                            static_cast<std::size_t>(x);
  float sum = 0;
  for (const std::vector<float>& plane : shares) sum += plane[pixel];
  return sum;
}

Matte make_matte(const World& world, const Camera& camera, const Budget& budget,
                 const MatteOptions& options) {
  if (options.ranks < 1 || options.ranks > 32) {
    throw Error(ErrorKind::input,
                fmt::format("a matte of {} ranks, expected 1 to 32", options.ranks));
  }
  if (world.plane() != nullptr) {
    throw Error(ErrorKind::usage, "planes have no mattes: they show no things");
  }
  if (budget.frame.scale != 1) {
    throw Error(ErrorKind::usage, "no mattes where frame.scale is below 1");
  }
  const Size size = budget.frame.size();
  const std::size_t pixels =
      static_cast<std::size_t>(size.width) * static_cast<std::size_t>(size.height);
  const auto ranks = static_cast<std::size_t>(options.ranks);
  const std::vector<SampleOffset> offsets = sample_offsets(budget.frame);
  Budget one = budget;
  one.frame.samples = 1;
  one.frame.sequence = SampleSequence::lattice;
  one.rays = Rays::pixels;
  const LayerSet layers{layer_of(options.of), Layer::ending};
  // Frames of all samples lie side by side, a band of rows at a time.
  const std::size_t per_row = Frame::memory_bytes({size.width, 1}, layers) * offsets.size();
  const std::size_t kept = pixels * ranks * 8;
  constexpr int least_rows = 32;  // as high as what is worked at together
  constexpr std::size_t at_once = std::size_t{256} << 20;
  const std::size_t needed = kept + per_row * least_rows;
  if (needed > options.memory_limit) {
    throw Error(ErrorKind::memory,
                fmt::format("a matte of {}x{} pixels, {} ranks and {} samples needs {:.1f} GiB, "
                            "the limit is {:.1f} GiB",
                            size.width, size.height, ranks, offsets.size(),
                            static_cast<double>(needed) / 0x1p30,
                            static_cast<double>(options.memory_limit) / 0x1p30));
  }
  const std::size_t rows_at_once =
      std::min(at_once, options.memory_limit - kept) / per_row / least_rows * least_rows;
  const int band = static_cast<int>(std::min<std::size_t>(
      std::max<std::size_t>(rows_at_once, least_rows), static_cast<std::size_t>(size.height)));
  Matte matte{.of = options.of, .size = size, .things = {}, .shares = {}};
  matte.things.assign(ranks, std::vector<std::uint32_t>(pixels, Matte::nothing));
  matte.shares.assign(ranks, std::vector<float>(pixels, 0.0f));
  const double bands = std::ceil(static_cast<double>(size.height) / band);
  const double steps = bands * static_cast<double>(offsets.size());
  double done = 0;
  std::vector<Frame> frames;
  std::vector<Share> seen;
  for (int top = 0; top < size.height; top += band) {
    const int rows = std::min(band, size.height - top);
    frames.clear();
    for (const SampleOffset& offset : offsets) {
      RenderOptions part;
      part.layers = layers;
      part.threads = options.threads;
      part.memory_limit = options.memory_limit;
      part.part = PixelPart{0, top, {size.width, rows}};
      if (options.progress) {
        part.progress = [&](double share) { return options.progress((done + share) / steps); };
      }
      frames.push_back(frame_at(world, camera, one, offset, std::move(part)));
      done += 1;
    }
    for (int row = 0; row < rows; ++row) {
      for (int x = 0; x < size.width; ++x) {
        seen.clear();
        for (const Frame& frame : frames) {
          if (frame.codes(Layer::ending)(x, row) != static_cast<std::uint32_t>(Ending::hit)) {
            continue;
          }
          const std::uint32_t thing = frame.codes(layer_of(options.of))(x, row);
          const auto same = std::find_if(
              seen.begin(), seen.end(), [&](const Share& one_of) { return one_of.thing == thing; });
          if (same != seen.end()) {
            ++same->count;
          } else {
            seen.push_back({thing, 1});
          }
        }
        const std::size_t pixel =
            static_cast<std::size_t>(top + row) * static_cast<std::size_t>(size.width) +
            static_cast<std::size_t>(x);
        matte.left_out += write_pixel(seen, pixel, static_cast<int>(offsets.size()), matte);
      }
    }
  }
  return matte;
}

}  // namespace photonlane
