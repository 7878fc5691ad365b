#include "photonlane/frame/render.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <mutex>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "follow/lane_recorder.hpp"
#include "frame/job.hpp"
#include "frame/parts.hpp"
#include "frame/path_frame.hpp"
#include "frame/plane_frame.hpp"
#include "frame/scaled_frame.hpp"
#include "room/portal_faces.hpp"

namespace photonlane {
namespace {

/// Whether there is anything in the eye's room that columns do not show.
bool sees_more(const World& world, const Camera& camera) {
  const CompiledRoom& room = world.rooms()[world.room_index(camera.room)];
  return !room.only_cells() || room.portals;
}

/// Throws Error (usage) for layers that a world has nothing for.
void check_layers(const World& world, const Budget& budget, LayerSet layers) {
  LayerSet known = world.plane() != nullptr ? LayerSet::of_planes() : LayerSet::measurable();
  known.add(Layer::display);
  if (world.plane() == nullptr) {
    known.add(Layer::cost);
    known.add(Layer::work);
    known.add(Layer::alpha);
  }
  if (layers.has(Layer::motion)) {
    throw Error(ErrorKind::usage,
                "layer motion is of two times: add_motion() makes it, and render --next");
  }
  if (layers.has(Layer::alpha) && budget.frame.backdrop) {
    throw Error(ErrorKind::usage,
                "layer alpha is of frames without their backdrop, expected frame.backdrop=false");
  }
  const bool paths = world.plane() == nullptr && budget.light.transport == Transport::paths;
  if (layers.any_of(LayerSet::of_paths())) {
    const Layer first = [&] {
      LayerSet own = layers;
      for (const Layer layer : own.list()) {
        if (LayerSet::of_paths().has(layer)) return layer;
      }
      return Layer::radiance;
    }();
    if (!paths) {
      throw Error(ErrorKind::usage,
                  fmt::format("layer {} is of path-traced light, expected light.transport=paths",
                              name_of(first)));
    }
    if (budget.frame.scale != 1) {
      throw Error(ErrorKind::usage,
                  fmt::format("no layer {} where frame.scale is below 1", name_of(first)));
    }
    for (const Layer layer : LayerSet::of_paths().list()) known.add(layer);
  }
  for (std::size_t i = 0; i < layer_count; ++i) {
    const auto layer = static_cast<Layer>(i);
    if (!layers.has(layer) || known.has(layer)) continue;
    throw Error(
        ErrorKind::usage,
        fmt::format("{} no layer {}", world.plane() != nullptr ? "planes have" : "rooms have",
                    name_of(layer)));
  }
}

/// Refuses scenes so far from the origin that floats tell no places apart there that the tolerance
/// of fields does.
void check_far(const World& world, const Camera& camera, const Budget& budget) {
  if (budget.number != NumberType::float32) return;
  const double most = budget.field.tolerance * 0x1p24;
  const auto check_place = [&](const CompiledRoom& room, const Vec3d& place,
                               std::string_view what) {
    const double far = place.cwiseAbs().maxCoeff();
    if (room.others().empty() || far <= most) return;
    throw Error(
        ErrorKind::input,
        fmt::format("{} is {:.3g} m from the origin, where float tells places apart by {:.2g} "
                    "m; expected at most {:.3g} m, for field.tolerance, or number=double",
                    what, far, far * 0x1p-23, most));
  };
  check_place(world.rooms()[world.room_index(camera.room)], camera.eye, "camera.eye");
  for (const CompiledRoom& room : world.rooms()) {
    if (!room.portals) continue;
    for (const PortalFace& face : room.portals->faces()) {
      if (face.swell >= 0) continue;
      check_place(room, face.middle, portal_title(world.portals(), face.portal));
    }
  }
}

}  // namespace

void check_frame(const World& world, const Camera& camera, const Budget& budget,
                 const RenderOptions& options) {
  validate_knobs(budget_knobs(), budget);
  if (budget.plane.integer_bits + budget.plane.fraction_bits > 64) {
    throw Error(ErrorKind::input,
                fmt::format("plane.integer_bits and plane.fraction_bits: {} and {} make {}, "
                            "expected 64 or fewer",
                            budget.plane.integer_bits, budget.plane.fraction_bits,
                            budget.plane.integer_bits + budget.plane.fraction_bits));
  }
  check_layers(world, budget, options.layers);
  if (budget.light.transport == Transport::paths && !budget.frame.backdrop &&
      world.plane() == nullptr) {
    throw Error(ErrorKind::input, "frame.backdrop=false is of light.transport=direct, found paths");
  }
  if (options.part) check_part(*options.part, budget.frame.size());
  const bool whole = !options.part || world.plane() != nullptr;
  check_memory(whole ? budget.frame.size() : options.part->size, options.layers,
               options.memory_limit);
  if (world.plane() != nullptr) {
    validate(camera.window);
    return;
  }
  const CompiledRoom& room = world.rooms()[world.room_index(camera.room)];
  if (room.has_cells && !(camera.eye.z() > 0 && camera.eye.z() < room.ceiling_height)) {
    throw Error(ErrorKind::input,
                fmt::format("camera.eye: height {} is not between the floor at 0 and the ceiling "
                            "at {} meters",
                            camera.eye.z(), room.ceiling_height));
  }
  check_far(world, camera, budget);
  if (budget.rays == Rays::columns && !camera.level()) {
    throw Error(ErrorKind::input,
                "rays: columns need a level camera, expected camera.pitch and camera.roll 0, or "
                "rays pixels");
  }
  if (budget.rays == Rays::columns && (camera.distorted() || !budget.frame.backdrop)) {
    throw Error(ErrorKind::input,
                "rays: columns are of lenses without distortion, and of frames with their "
                "backdrop; expected rays pixels");
  }
  if (budget.rays == Rays::columns && sees_more(world, camera)) {
    throw Error(ErrorKind::input,
                "rays: columns see no fields and no portals, expected rays pixels");
  }
  // Beyond this, neighboring cells have no float numbers of their own.
  constexpr double countable = 4e6;
  const double from_origin = std::max(std::abs(camera.eye.x()), std::abs(camera.eye.y()));
  const double cells = (from_origin + budget.far_limit) / room.cell_size;
  if (budget.number == NumberType::float32 && cells > countable) {
    throw Error(
        ErrorKind::input,
        fmt::format("{}: lanes may run {:.3g} cells from the origin, expected at most {:.0f} "
                    "in float; lower it or set number to double",
                    from_origin > budget.far_limit ? "camera.eye" : "far_limit", cells, countable));
  }
}

namespace {

/// A frame to be filled, once all has been looked at.
Frame frame_for(const World& world, const Camera& camera, const Budget& budget,
                RenderOptions& options) {
  check_frame(world, camera, budget, options);
  PixelPart made{0, 0, budget.frame.size()};
  if (options.part && world.plane() == nullptr) {
    made = made_part(world, camera, budget, *options.part);
  }
  Frame frame(made.size, options.layers, std::move(options.recycle));
  if (options.part && world.plane() == nullptr) frame.part = made;
  frame.budget = budget;
  frame.cost.compile_ms = world.compile_ms();
  return frame;
}

}  // namespace

bool by_columns(const World& world, const Camera& camera, const Budget& budget) {
  if (budget.light.transport == Transport::paths) return false;
  return budget.rays == Rays::columns ||
         (budget.rays == Rays::automatic && camera.level() && !camera.distorted() &&
          budget.frame.backdrop && !sees_more(world, camera));
}

PixelPart made_part(const World& world, const Camera& camera, const Budget& budget,
                    const PixelPart& part) {
  if (world.plane() != nullptr) return part;
  const Size whole = budget.frame.size();
  return by_columns(world, camera, budget) ? column_blocks(part, whole) : pixel_blocks(part, whole);
}

Size block_size(const World& world, const Camera& camera, const Budget& budget) {
  const Size whole = budget.frame.size();
  if (const EscapePlane* plane = world.plane()) {
    const bool needs_all = plane->equalize || budget.plane.limit == PlaneLimit::automatic;
    return needs_all ? whole : Size{64, 32};
  }
  const PixelPart one{0, 0, {1, 1}};
  const Size large{1 << 20, 1 << 20};
  return by_columns(world, camera, budget) ? column_blocks(one, large).size
                                           : pixel_blocks(one, large).size;
}

LayerSet measurable_layers(const World& world) {
  if (world.plane() == nullptr) return LayerSet::measurable();
  LayerSet layers;
  for (const Layer layer : LayerSet::of_planes().list()) {
    // Along a trap every step counts, which is a price.
    if (layer != Layer::trap || world.plane()->tells == PlaneTells::trap) layers.add(layer);
  }
  return layers;
}

namespace {

/// What was asked for of a frame of more.
Frame cut_out(const Frame& made, const PixelPart& from, const PixelPart& part, Frame recycle) {
  Frame frame(part.size, made.layers(), std::move(recycle));
  paste(made, {part.x - from.x, part.y - from.y, part.size}, 0, 0, frame);
  frame.budget = made.budget;
  frame.tally = made.tally;
  frame.cost = made.cost;
  frame.plane_report = made.plane_report;
  frame.part = part;
  return frame;
}

Frame render_paths(const World& world, const Camera& camera, const Budget& budget,
                   RenderOptions options) {
  check_frame(world, camera, budget, options);
  const std::optional<PixelPart> asked = options.part;
  Frame recycle = std::move(options.recycle);
  if (asked) options.part = made_part(world, camera, budget, *asked);
  const PixelPart made = options.part.value_or(PixelPart{0, 0, budget.frame.size()});
  Frame frame = render_path_frame(world, camera, budget, std::move(options));
  if (!asked || *asked == made) {
    if (asked) frame.part = made;
    return frame;
  }
  Frame part = cut_out(frame, made, *asked, std::move(recycle));
  part.path_report = frame.path_report;
  return part;
}

}  // namespace

namespace {

/// A world with what is around the camera's eye, as the budget has it.
World look_around(const World& world, const Camera& camera, const Budget& budget,
                  const std::function<bool(double)>& progress) {
  return seen_by(world, camera, budget.voxels.wait, [&] { return !progress || progress(0); });
}

Frame render_seen(const World& world, const Camera& camera, const Budget& budget,
                  RenderOptions options) {
  if (budget.frame.scale != 1) {
    validate_knobs(budget_knobs(), budget);
    return render_scaled(world, camera, budget, std::move(options));
  }
  if (budget.light.transport == Transport::paths && world.plane() == nullptr) {
    return render_paths(world, camera, budget, std::move(options));
  }
  Frame recycle;
  const std::optional<PixelPart> asked = options.part;
  if (asked) recycle = std::move(options.recycle);
  Frame frame = frame_for(world, camera, budget, options);
  if (world.plane() != nullptr) {
    render_plane(*world.plane(), camera.window, budget, options, frame);
    if (!asked) return frame;
    return cut_out(frame, {0, 0, budget.frame.size()}, *asked, std::move(recycle));
  }
  StageTicks before;
  std::optional<StageRun> setup;
  setup.emplace(before);
  std::optional<StageScope> stage;
  stage.emplace(LaneKind::frame, Work::setup);
  RenderJob job(view_scene(world, camera, budget), camera, options, frame);
  stage.reset();
  setup.reset();
  if (by_columns(world, camera, budget)) {
    render_columns(job);
  } else {
    render_pixels(job);
  }
  put_stages(before, job.stages, options.threads, frame.cost);
  if (!asked || *asked == job.part) return frame;
  const PixelPart made = job.part;
  return cut_out(frame, made, *asked, std::move(recycle));
}

}  // namespace

Frame render(const World& world, const Camera& camera, const Budget& budget,
             RenderOptions options) {
  const World seen = look_around(world, camera, budget, options.progress);
  Frame frame = render_seen(seen, camera, budget, std::move(options));
  frame.cost.missing = seen.missing();
  return frame;
}

Size cost_block(const World& world, const Camera& camera, const Budget& budget) {
  if (by_columns(world, camera, budget)) return column_cost_block();
  return pixel_cost_block();
}

CostSample sample_costs(const World& given, const Camera& camera, const Budget& budget,
                        std::span<const PixelPart> blocks, int threads,
                        const std::function<bool(double)>& progress) {
  const World world = look_around(given, camera, budget, progress);
  RenderOptions options;
  options.layers = {Layer::display};
  options.threads = threads;
  options.progress = progress;
  check_frame(world, camera, budget, options);
  for (const PixelPart& block : blocks) check_part(block, budget.frame.size());
  if (budget.light.transport == Transport::paths) {
    return sample_paths(world, camera, budget, blocks, threads, progress);
  }
  // Only what is written takes memory.
  Frame frame(budget.frame.size(), options.layers);
  const Stopwatch watch;
  RenderJob job(view_scene(world, camera, budget), camera, options, frame);
  const double setup_ms = watch.milliseconds();
  CostSample sample =
      by_columns(world, camera, budget) ? sample_columns(job, blocks) : sample_pixels(job, blocks);
  sample.setup_ms = setup_ms;
  return sample;
}

Frame render_parts(const World& given, const Camera& camera, const Budget& budget,
                   std::span<const PixelPart> parts, RenderOptions options) {
  const World world = look_around(given, camera, budget, options.progress);
  if (parts.empty()) throw Error(ErrorKind::input, "no part of a frame, expected at least one");
  const Size size = parts.front().size;
  for (const PixelPart& part : parts) {
    check_part(part, budget.frame.size());
    if (part.size != size) {
      throw Error(ErrorKind::input, "parts of a frame of several sizes, expected one size");
    }
  }
  const std::size_t count = parts.size();
  if (count > static_cast<std::size_t>(std::numeric_limits<int>::max() / size.height)) {
    throw Error(ErrorKind::input, fmt::format("{} parts of a frame are too many", count));
  }
  const Size stacked{size.width, size.height * static_cast<int>(count)};
  check_memory(stacked, options.layers, options.memory_limit);
  Frame all(stacked, options.layers, std::move(options.recycle));
  all.budget = budget;
  all.cost.compile_ms = world.compile_ms();
  const Stopwatch watch;
  Progress progress(options.progress, count);
  std::mutex adding;
  // Of many parts each thread makes its own, at few ones all work together.
  const bool many = count >= 2 * static_cast<std::size_t>(thread_count(options.threads));
  parallel_for(many ? options.threads : 1, count, [&](std::size_t i) {
    if (progress.stopped()) return;
    RenderOptions one{.layers = options.layers,
                      .threads = many ? 1 : options.threads,
                      .progress = {},
                      .memory_limit = options.memory_limit,
                      .recycle = {},
                      .part = parts[i]};
    if (!many && options.progress) {
      one.progress = [&, i](double share) {
        return options.progress((static_cast<double>(i) + share) / static_cast<double>(count));
      };
    }
    const Frame frame = render(world, camera, budget, std::move(one));
    const std::lock_guard lock(adding);
    paste(frame, {0, 0, size}, 0, static_cast<int>(i) * size.height, all);
    all.tally += frame.tally;
    all.cost.stages += frame.cost.stages;
    all.plane_report = frame.plane_report;
    if (options.part_done) options.part_done(i, frame);
    progress.part_done();
  });
  progress.check();
  all.cost.cast_ms = watch.milliseconds();
  all.cost.threads = thread_count(options.threads);
  all.cost.missing = world.missing();
  return all;
}

Frame render_after(const World& world, const Camera& camera, const Budget& budget,
                   const PlaneBefore& before, RenderOptions options) {
  if (world.plane() == nullptr || before.frame == nullptr) {
    throw Error(ErrorKind::usage, "a frame goes on from the one before in planes alone");
  }
  if (world.plane()->tells != PlaneTells::smooth) {
    throw Error(ErrorKind::usage,
                fmt::format("pixels are taken from the frame before where colors tell smooth "
                            "counts, not {}",
                            name_of(world.plane()->tells)));
  }
  for (const Layer layer : options.layers.list()) {
    if (LayerSet{Layer::color, Layer::display, Layer::smooth_count, Layer::ending}.has(layer)) {
      continue;
    }
    throw Error(ErrorKind::usage,
                fmt::format("pixels taken from the frame before have no layer {}", name_of(layer)));
  }
  if (!(before.error > 0)) {
    throw Error(ErrorKind::input,
                fmt::format("an error of {} steps, expected one above 0", before.error));
  }
  Frame frame = frame_for(world, camera, budget, options);
  render_plane(*world.plane(), camera.window, budget, options, frame, &before);
  return frame;
}

LaneLog log_lane(const World& given, const Camera& camera, const Budget& budget, int x, int y,
                 const LaneLogOptions& options) {
  const World world = look_around(given, camera, budget, {});
  const Size size = budget.frame.size();
  if (x < 0 || y < 0 || x >= size.width || y >= size.height) {
    throw Error(ErrorKind::input,
                fmt::format("no pixel {},{} in a frame of {}x{}", x, y, size.width, size.height));
  }
  if (world.plane() != nullptr) throw Error(ErrorKind::usage, "no lanes run in a plane");
  if (budget.light.transport == Transport::paths) {
    throw Error(ErrorKind::usage,
                "lanes of paths are not told one by one, expected light.transport=direct");
  }
  Budget by_pixels = budget;
  by_pixels.rays = Rays::pixels;
  RenderOptions asked{.threads = 1, .progress = {}, .recycle = {}};
  asked.layers = {Layer::color,  Layer::depth, Layer::ray_distance,
                  Layer::ending, Layer::room,  Layer::crossings};
  check_frame(world, camera, by_pixels, asked);
  Frame frame(size, asked.layers);
  RenderJob job(view_scene(world, camera, by_pixels), camera, asked, frame);
  LaneRecorder recorder(x, y, options);
  job.log = &recorder;
  render_around(job, x, y);
  LaneLog log = std::move(recorder.log);
  for (int channel = 0; channel < 3; ++channel) {
    log.color[channel] = frame.values(Layer::color, channel)(x, y);
  }
  log.depth = frame.values(Layer::depth)(x, y);
  log.ray_distance = frame.values(Layer::ray_distance)(x, y);
  log.ending = static_cast<Ending>(frame.codes(Layer::ending)(x, y));
  log.room = frame.codes(Layer::room)(x, y);
  log.crossings = frame.codes(Layer::crossings)(x, y);
  return log;
}

}  // namespace photonlane
