#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>

#include "base/stopwatch.hpp"
#include "frame/growing_inside.hpp"
#include "frame/parts.hpp"
#include "paths/sample_points.hpp"

namespace photonlane {
namespace {

constexpr int group_width = 64;
constexpr int group_height = 32;
constexpr int group_across = group_width / cell_side;
constexpr int group_down = group_height / cell_side;

/// Samples that a part of the picture may be ahead of others.
constexpr double most_ahead = 16;

/// Until samples go where the error is, all pixels have as many; then there are half as many more
/// in every round.
constexpr double first_round = 8;
constexpr double round_growth = 1.5;

double next_round(double from) { return from == 0 ? first_round : std::ceil(from * round_growth); }

}  // namespace

GrowingFrame::Inside::Inside(World its_world, Camera its_camera, const Budget& its_budget,
                             GrowingOptions its_options)
    : world(seen_by(its_world, its_camera, its_budget.voxels.wait)),
      camera(std::move(its_camera)),
      budget(its_budget),
      options(std::move(its_options)),
      view(view_scene(world, camera, budget)),
      scene(view),
      seen(viewing(camera, budget.frame.size())) {
  gathered.part = PixelPart{0, 0, budget.frame.size()};
  if (options.part) gathered.part = pixel_blocks(*options.part, budget.frame.size());
  const PixelPart& part = gathered.part;
  cells_across = (part.size.width + cell_side - 1) / cell_side;
  cells_down = (part.size.height + cell_side - 1) / cell_side;
  const std::size_t pixels = count();
  const std::size_t bytes = pixels * (6 * sizeof(double) + 4 * sizeof(float) +
                                      (tells() ? told_count * sizeof(float) : 0) +
                                      (options.meters ? 2 * sizeof(float) : 0));
  if (bytes > options.memory_limit) {
    throw Error(ErrorKind::memory,
                fmt::format("a growing frame of {}x{} pixels needs {:.1f} GiB, the limit is "
                            "{:.1f} GiB",
                            part.size.width, part.size.height, static_cast<double>(bytes) / 0x1p30,
                            static_cast<double>(options.memory_limit) / 0x1p30));
  }
  gathered.sums.assign(6 * pixels, 0.0);
  gathered.largest.assign(4 * pixels, 0.0f);
  gathered.samples.assign(static_cast<std::size_t>(cells_across) * cells_down, 0);
  if (tells()) told.assign(told_count * pixels, 0.0f);
  if (options.meters) meters.assign(2 * pixels, 0.0f);
}

int GrowingFrame::Inside::groups_across() const {
  return (gathered.part.size.width + group_width - 1) / group_width;
}

std::size_t GrowingFrame::Inside::groups() const {
  const int down = (gathered.part.size.height + group_height - 1) / group_height;
  return static_cast<std::size_t>(groups_across()) * static_cast<std::size_t>(down);
}

double GrowingFrame::Inside::mean_samples() const {
  double sum = 0;
  for (int row = 0; row < cells_down; ++row) {
    for (int column = 0; column < cells_across; ++column) {
      sum += static_cast<double>(gathered.samples[cell(column, row)]) * pixels_in(column, row);
    }
  }
  return sum / static_cast<double>(count());
}

/// One path for every pixel of a group that has not all its samples yet.
void GrowingFrame::Inside::aim(std::size_t group, const std::vector<std::uint32_t>& until,
                               std::vector<PathStart>& starts,
                               std::vector<std::uint32_t>& pixels) const {
  const StageScope stage(LaneKind::eye, Work::aim);
  starts.clear();
  pixels.clear();
  const int left = static_cast<int>(group) % groups_across() * group_across;
  const int top = static_cast<int>(group) / groups_across() * group_down;
  const PixelPart& part = gathered.part;
  for (int row = top; row < std::min(top + group_down, cells_down); ++row) {
    for (int column = left; column < std::min(left + group_across, cells_across); ++column) {
      const std::size_t at = cell(column, row);
      if (gathered.samples[at] >= until[at]) continue;
      const std::uint32_t sample = gathered.samples[at] + first_sample();
      const int bottom = std::min((row + 1) * cell_side, part.size.height);
      const int right = std::min((column + 1) * cell_side, part.size.width);
      for (int y = row * cell_side; y < bottom; ++y) {
        for (int x = column * cell_side; x < right; ++x) {
          PathStart start;
          start.x = static_cast<std::uint32_t>(part.x + x);
          start.y = static_cast<std::uint32_t>(part.y + y);
          start.sample = sample;
          const SamplePoints::Pair at_pixel =
              SamplePoints(static_cast<std::uint64_t>(budget.frame.seed), start.x, start.y, sample)
                  .pair(0);
          start.way = seen.ray(seen.u(start.x + static_cast<double>(at_pixel.u)),
                               seen.v(start.y + static_cast<double>(at_pixel.v)));
          starts.push_back(start);
          pixels.push_back(static_cast<std::uint32_t>(y) *
                               static_cast<std::uint32_t>(part.size.width) +
                           static_cast<std::uint32_t>(x));
        }
      }
    }
  }
}

/// False where the group has all its samples.
bool GrowingFrame::Inside::add_sample(std::size_t group, const std::vector<std::uint32_t>& until) {
  thread_local std::vector<PathStart> starts;
  thread_local std::vector<std::uint32_t> pixels;
  thread_local PathResults results;
  aim(group, until, starts, pixels);
  if (starts.empty()) return false;
  results.tell = tells();
  Tally tally;
  StageReading reading;
  {
    const StageMeter meter(options.meters ? &reading : nullptr);
    trace_paths(scene, starts, std::abs(seen.u(1) - seen.u(0)), results, tally);
  }
  const StageScope stage(Work::pixels);
  take_in(results, starts, pixels, reading);
  // Every cell of the group that was short of a sample has one more.
  const int left = static_cast<int>(group) % groups_across() * group_across;
  const int top = static_cast<int>(group) / groups_across() * group_down;
  for (int row = top; row < std::min(top + group_down, cells_down); ++row) {
    for (int column = left; column < std::min(left + group_across, cells_across); ++column) {
      const std::size_t at = cell(column, row);
      if (gathered.samples[at] < until[at]) ++gathered.samples[at];
    }
  }
  const std::lock_guard lock(adding);
  gathered.tally += tally;
  return true;
}

void GrowingFrame::Inside::take_in(const PathResults& results, const std::vector<PathStart>& starts,
                                   const std::vector<std::uint32_t>& pixels,
                                   const StageReading& reading) {
  const auto most = static_cast<float>(budget.frame.clamp);
  double clamped = 0;
  double light = 0;
  double work = 0;
  for (std::size_t i = 0; options.meters && i < pixels.size(); ++i) work += results.work[i] + 2.0;
  for (std::size_t i = 0; i < pixels.size(); ++i) {
    PathColor color = results.radiance[i];
    const float all = color.red + color.green + color.blue;
    // What is no number would stay in the sum for good.
    if (!std::isfinite(all)) continue;
    // Lamps and the sun are as bright as they are: only what was thrown back is cut.
    const PathColor& straight = results.straight[i];
    const PathColor back{color.red - straight.red, color.green - straight.green,
                         color.blue - straight.blue};
    light += static_cast<double>(back.red + back.green + back.blue);
    const float brightest = std::max({back.red, back.green, back.blue});
    if (most > 0 && brightest > most) {
      const float scale = most / brightest;
      clamped += static_cast<double>((1 - scale) * (back.red + back.green + back.blue));
      color = {straight.red + back.red * scale, straight.green + back.green * scale,
               straight.blue + back.blue * scale};
    }
    const std::size_t half = (starts[i].sample - first_sample()) & 1;
    double* sums = gathered.sums.data() + 6 * static_cast<std::size_t>(pixels[i]) + 3 * half;
    float* largest = gathered.largest.data() + 4 * static_cast<std::size_t>(pixels[i]);
    if (color.red + color.green + color.blue > largest[0] + largest[1] + largest[2]) {
      largest[0] = color.red;
      largest[1] = color.green;
      largest[2] = color.blue;
      largest[3] = static_cast<float>(half);
    }
    sums[0] += static_cast<double>(color.red);
    sums[1] += static_cast<double>(color.green);
    sums[2] += static_cast<double>(color.blue);
    if (options.meters) {
      const double share = (results.work[i] + 2.0) / work;
      float* meter = meters.data() + 2 * static_cast<std::size_t>(pixels[i]);
      meter[0] += static_cast<float>(share * static_cast<double>(reading.ticks));
      meter[1] += static_cast<float>(share * static_cast<double>(reading.work));
    }
    if (!tells()) continue;
    float* own = told.data() + told_count * pixels[i];
    const auto put = [&](std::size_t to, const PathColor& from) {
      own[to] += from.red;
      own[to + 1] += from.green;
      own[to + 2] += from.blue;
    };
    for (std::size_t k = 0; k < told_bounces; ++k) {
      put(3 * k, results.by_bounce[i * told_bounces + k]);
    }
    put(told_emission, results.emission[i]);
    put(told_albedo, results.albedo[i]);
    own[told_albedo + 3] += static_cast<float>(results.bounces[i]);
  }
  const std::lock_guard lock(adding);
  gathered.clamped += clamped;
  gathered.light += light;
}

void GrowingFrame::Inside::take_until(const std::vector<std::uint32_t>& until,
                                      const std::function<bool(double)>& progress) {
  const Stopwatch watch;
  std::uint64_t wanted = 0;
  for (std::size_t at = 0; at < until.size(); ++at) {
    wanted += until[at] - std::min(until[at], gathered.samples[at]);
  }
  std::atomic<std::uint64_t> done = 0;
  std::atomic<bool> stopped = false;
  std::mutex telling;
  stages.parallel(options.threads, groups(), [&](std::size_t group) {
    while (!stopped && add_sample(group, until)) {
      if (!progress) continue;
      done += static_cast<std::uint64_t>(group_across) * group_down;
      const std::lock_guard lock(telling);
      const double share =
          static_cast<double>(done) / static_cast<double>(std::max<std::uint64_t>(wanted, 1));
      if (!progress(std::min(share, 1.0))) stopped = true;
    }
  });
  gathered.cast_ms += watch.milliseconds();
  if (stopped) throw Error(ErrorKind::cancelled, "stopped by the caller");
}

/// How many samples each cell has once there are so many as mean, within the round.
std::vector<std::uint32_t> GrowingFrame::Inside::plan(double to) const {
  std::vector<std::uint32_t> until(gathered.samples.size());
  if (!budget.frame.adaptive) {
    std::fill(until.begin(), until.end(), static_cast<std::uint32_t>(std::lround(to)));
    return until;
  }
  const double share =
      (to - gathered.round_from) / std::max(gathered.round_to - gathered.round_from, 1e-9);
  for (std::size_t at = 0; at < until.size(); ++at) {
    const double more = share * gathered.planned[at];
    until[at] = gathered.before[at] + static_cast<std::uint32_t>(more + 1e-9);
  }
  return until;
}

/// Shares out the samples of the next round.
void GrowingFrame::Inside::start_round() {
  GatheredLight& all = gathered;
  all.round_from = all.asked;
  all.round_to = next_round(all.round_from);
  all.before = all.samples;
  const double more = all.round_to - all.round_from;
  if (all.round_from == 0) {
    all.planned.assign(all.samples.size(), static_cast<std::uint32_t>(more));
    return;
  }
  const std::vector<float> errors = pixel_errors(exposure());
  // By what one sample of a cell is off: so many samples each make the sum of squares least.
  std::vector<double> spread(all.samples.size(), 0.0);
  const int width = all.part.size.width;
  for (std::size_t i = 0; i < errors.size(); ++i) {
    const std::size_t at = cell_of_pixel(static_cast<int>(i) % width, static_cast<int>(i) / width);
    spread[at] += static_cast<double>(errors[i]) * all.samples[at];
  }
  for (int row = 0; row < cells_down; ++row) {
    for (int column = 0; column < cells_across; ++column) {
      spread[cell(column, row)] /= pixels_in(column, row);
    }
  }
  // A cell may have missed what its neighbors saw.
  std::vector<double> wanted(spread.size());
  double sum = 0;
  for (int row = 0; row < cells_down; ++row) {
    for (int column = 0; column < cells_across; ++column) {
      double most = spread[cell(column, row)];
      for (int y = std::max(row - 1, 0); y <= std::min(row + 1, cells_down - 1); ++y) {
        for (int x = std::max(column - 1, 0); x <= std::min(column + 1, cells_across - 1); ++x) {
          most = std::max(most, 0.25 * spread[cell(x, y)]);
        }
      }
      wanted[cell(column, row)] = std::sqrt(most);
      sum += wanted[cell(column, row)];
    }
  }
  const double mean = sum / static_cast<double>(wanted.size());
  // What is missing to as many as wanted, at least a quarter of what all get; then as many as there
  // are.
  double missing = 0;
  for (std::size_t at = 0; at < wanted.size(); ++at) {
    const double share = mean > 0 ? wanted[at] / mean : 1;
    const double target = all.round_to * std::max(share, 0.25);
    wanted[at] = std::clamp(target - all.samples[at], 0.25 * more, 4.0 * more);
    missing += wanted[at];
  }
  const double scale = more * static_cast<double>(wanted.size()) / missing;
  all.planned.assign(wanted.size(), 0);
  for (std::size_t at = 0; at < wanted.size(); ++at) {
    all.planned[at] = static_cast<std::uint32_t>(std::lround(std::max(1.0, scale * wanted[at])));
  }
}

namespace {

void check_paths(const World& world, const Camera& camera, const Budget& budget,
                 const GrowingOptions& options) {
  if (budget.light.transport != Transport::paths) {
    throw Error(ErrorKind::usage, "a growing frame without paths, expected light.transport=paths");
  }
  if (budget.frame.scale != 1) {
    throw Error(ErrorKind::usage, "a growing frame has all its pixels, expected frame.scale=1");
  }
  if (world.plane() != nullptr) {
    throw Error(ErrorKind::usage, "no light goes through a plane, expected a scene of rooms");
  }
  RenderOptions all;
  all.part = options.part;
  all.memory_limit = options.memory_limit;
  check_frame(world, camera, budget, all);
  for (std::size_t r = 0; r < world.rooms().size(); ++r) {
    const std::vector<Lamp>& lamps = world.rooms()[r].light.lamps;
    for (std::size_t k = 0; k < lamps.size(); ++k) {
      if (lamps[k].radius > 0) continue;
      throw Error(ErrorKind::input,
                  fmt::format("lamp {} of room {}: radius 0, expected more than 0 meters where "
                              "light.transport is paths",
                              k + 1,
                              world.rooms()[r].name.empty() ? std::to_string(r + 1)
                                                            : world.rooms()[r].name));
    }
  }
}

}  // namespace

GrowingFrame::GrowingFrame(World world, Camera camera, Budget budget, GrowingOptions options) {
  check_paths(world, camera, budget, options);
  inside_ =
      std::make_unique<Inside>(std::move(world), std::move(camera), budget, std::move(options));
}

GrowingFrame::~GrowingFrame() = default;
GrowingFrame::GrowingFrame(GrowingFrame&&) noexcept = default;
GrowingFrame& GrowingFrame::operator=(GrowingFrame&&) noexcept = default;

void GrowingFrame::take(int samples, const std::function<bool(double share)>& progress) {
  if (samples < 1) {
    throw Error(ErrorKind::input, fmt::format("{} samples more, expected 1 at least", samples));
  }
  Inside& in = *inside_;
  const double from = in.gathered.asked;
  const double to = std::floor(from) + samples;
  while (in.gathered.asked < to) {
    // In steps, so that no part of the picture gets far ahead of the others.
    double until = std::min(to, in.gathered.asked + most_ahead);
    if (in.budget.frame.adaptive) {
      if (in.gathered.asked >= in.gathered.round_to) in.start_round();
      until = std::min(until, in.gathered.round_to);
    }
    const double begun = in.gathered.asked;
    std::function<bool(double)> within;
    if (progress) {
      within = [&](double share) {
        return progress((begun - from + share * (until - begun)) / (to - from));
      };
    }
    try {
      in.take_until(in.plan(until), within);
    } catch (const Error&) {
      // What all pixels have was asked for.
      if (!in.budget.frame.adaptive) {
        in.gathered.asked = *std::ranges::min_element(in.gathered.samples);
      }
      throw;
    }
    in.gathered.asked = until;
  }
}

void GrowingFrame::take_for(double milliseconds) {
  Inside& in = *inside_;
  const Stopwatch watch;
  if (in.budget.frame.adaptive) {
    do {
      take(1);
    } while (watch.milliseconds() < milliseconds);
    return;
  }
  bool any = false;
  while (!any || watch.milliseconds() < milliseconds) {
    // Groups that have fewest samples get one more each, for as long as there is time.
    const std::uint32_t least =
        *std::min_element(in.gathered.samples.begin(), in.gathered.samples.end());
    const std::vector<std::uint32_t> until(in.gathered.samples.size(), least + 1);
    in.stages.parallel(in.options.threads, in.groups(), [&](std::size_t group) {
      // The first sample of all pixels is taken whatever it takes: there is no picture before.
      if (least > 0 && watch.milliseconds() >= milliseconds) return;
      in.add_sample(group, until);
    });
    any = true;
    in.gathered.asked = *std::min_element(in.gathered.samples.begin(), in.gathered.samples.end());
  }
  in.gathered.cast_ms += watch.milliseconds();
}

double GrowingFrame::samples() const { return inside_->mean_samples(); }

GrowingError GrowingFrame::error() const { return inside_->error(inside_->exposure()); }

void GrowingFrame::restart(World world, Camera camera, Budget budget) {
  GrowingOptions options = inside_->options;
  *this = GrowingFrame(std::move(world), std::move(camera), budget, std::move(options));
}

const GatheredLight& GrowingFrame::gathered() const { return inside_->gathered; }

void GrowingFrame::go_on_from(GatheredLight gathered) {
  const GatheredLight& own = inside_->gathered;
  if (gathered.part != own.part || gathered.sums.size() != own.sums.size() ||
      gathered.largest.size() != own.largest.size() ||
      gathered.samples.size() != own.samples.size()) {
    throw Error(ErrorKind::input, fmt::format("light gathered for {}x{} pixels, expected {}x{}",
                                              gathered.part.size.width, gathered.part.size.height,
                                              own.part.size.width, own.part.size.height));
  }
  if (inside_->tells()) {
    throw Error(ErrorKind::usage,
                "layers that are told, and frame.denoise, need all samples from the start");
  }
  inside_->gathered = std::move(gathered);
}

}  // namespace photonlane
