#include "commands.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "shared.hpp"
#include "terminal.hpp"
#include "tile_command.hpp"

namespace photonlane::tool {
namespace {

/// How spheres and voxels are held, and what making them took.
void tell_sets(const Scene& scene) {
  for (const Room& room : scene.rooms) {
    for (const std::shared_ptr<const SolidPart>& part : room.parts) {
      const auto* const spheres = dynamic_cast<const Spheres*>(part.get());
      if (spheres != nullptr && spheres->set != nullptr) put(io::sphere_set_text(*spheres->set));
      const auto* const voxels = dynamic_cast<const Voxels*>(part.get());
      if (voxels != nullptr && voxels->grid != nullptr) put(io::voxel_text(*voxels->grid));
    }
  }
}

/// Lines of what a frame cost, with `--cost` by stage.
void tell_frame(const RenderCommand& command, const io::SceneFile& file, const Frame& frame) {
  put(io::cost_text(frame));
  if (!command.cost) return;
  tell_sets(file.scene);
  put(io::stages_text(frame.cost));
}

int run_plan(const RenderCommand& command, const io::SceneFile& file) {
  io::PlanOptions options;
  options.legend = !command.no_legend;
  io::write_plan(command.output, file, options);
  if (command.common.json) {
    put(io::check_json(check(file.scene, file.camera, file.budget)));
  } else if (!command.common.quiet) {
    print("{}\n", command.output);
  }
  return success;
}

/// The range that --range asks for.
std::optional<io::ValueRange> range_of(const RenderCommand& command, Layer layer) {
  if (!command.range) return std::nullopt;
  const std::string& text = *command.range;
  const auto refuse = [](const std::string& what) {
    throw Error(ErrorKind::usage, fmt::format("--range: {}", what));
  };
  if (command.view == "plan") refuse("a plan has no colors by value");
  const auto comma = text.find(',');
  if (comma == std::string::npos) {
    refuse(fmt::format("'{}', expected two numbers with a comma between", text));
  }
  io::ValueRange range;
  const KnobInfo number{"--range", KnobKind::number, "", {-1e30, 1e30}, {}, ""};
  try {
    detail::assign(range.low, number, text.substr(0, comma));
    detail::assign(range.high, number, text.substr(comma + 1));
    io::check_range(layer, range);
  } catch (const Error& error) {
    refuse(error.message());
  }
  return range;
}

/// The pixels that --part asks for.
std::optional<PixelPart> part_of(const RenderCommand& command) {
  if (command.part.empty()) return std::nullopt;
  PixelPart part;
  const KnobInfo number{"--part", KnobKind::integer, "", {0, 1'000'000}, {}, ""};
  const std::string& text = command.part;
  const auto one = text.find(',');
  const auto two = one == std::string::npos ? one : text.find(',', one + 1);
  const auto cross = two == std::string::npos ? two : text.find('x', two);
  try {
    if (cross == std::string::npos) throw Error(ErrorKind::usage, "");
    detail::assign(part.x, number, text.substr(0, one));
    detail::assign(part.y, number, text.substr(one + 1, two - one - 1));
    detail::assign(part.size.width, number, text.substr(two + 1, cross - two - 1));
    detail::assign(part.size.height, number, text.substr(cross + 1));
  } catch (const Error&) {
    throw Error(ErrorKind::usage,
                fmt::format("--part: found '{}', expected X,Y,WIDTHxHEIGHT in pixels", text));
  }
  return part;
}

/// The layers that are rendered for an output file.
LayerSet layers_for(const io::SceneFile& file, Layer layer, bool exr) {
  if (!exr) {
    if (layer == Layer::motion) return motion_layers;
    return layer == Layer::color ? LayerSet{Layer::display} : LayerSet{layer};
  }
  // A plane is compiled in no time; rooms all have the same.
  LayerSet layers =
      file.scene.plane ? measurable_layers(compile(file.scene)) : LayerSet::measurable();
  if (!file.budget.frame.backdrop && file.budget.frame.scale == 1 && !file.scene.plane) {
    layers.add(Layer::alpha);
  }
  if (file.budget.light.transport == Transport::paths && !file.scene.plane) {
    for (const Layer one : {Layer::radiance, Layer::samples, Layer::variance}) layers.add(one);
  }
  return layers;
}

/// A picture that grows until a limit holds or it is stopped.
int run_growing(const RenderCommand& command, const io::SceneFile& file, const World& world,
                const LayerSet& layers) {
  if (!command.part.empty() || !file.views.empty()) {
    throw Error(ErrorKind::usage, "--until and --resume take one whole view of a scene");
  }
  io::GrowingRun growing;
  for (const std::string& text : command.until) growing.until.push_back(io::parse_until(text));
  growing.threads = command.common.threads;
  growing.resume = command.resume;
  growing.layers = layers;
  const Stoppable stoppable;
  ProgressBar bar("render", command.common.quiet);
  const auto show = bar.callback();
  growing.progress = [&](const io::GrowingProgress& now) {
    if (now.samples >= 2) {
      bar.note(fmt::format("{:.4g} samples, RMSE {:.4f} ({:.4f} to {:.4f})", now.samples,
                           now.error.rmse, now.error.low, now.error.high));
    }
    return show(now.share);
  };
  const io::GrownFrame grown = io::grow_frame(file, world, command.output, growing);
  bar.clear();
  if (command.common.json) {
    put(io::frame_json(grown.frame));
  } else if (!command.common.quiet) {
    tell_frame(command, file, grown.frame);
    if (!grown.stopped) print("ended by {}\n", grown.ended_by);
    print("{}\n", command.output);
  }
  if (!grown.stopped) return success;
  complain(fmt::format("stopped at {:.4g} samples a pixel; --resume goes on from {}.growing",
                       grown.progress.samples, command.output));
  end_by_signal();
  return success;
}

Layer layer_of(const RenderCommand& command) {
  for (std::size_t i = 0; i < layer_count; ++i) {
    if (choice_names<Layer>[i] == command.layer) return static_cast<Layer>(i);
  }
  throw Error(ErrorKind::usage, fmt::format("--layer: no such layer '{}', expected one of {}{}",
                                            command.layer, fmt::join(choice_names<Layer>, ", "),
                                            suggestion(command.layer, choice_names<Layer>)));
}

/// What stands in the eye's way, and lanes that ran out of steps.
void note_faults(const RenderCommand& command, const io::SceneFile& file, const World& world,
                 const Frame& frame) {
  std::vector<Camera> cameras;
  for (const View& one : file.views) cameras.push_back(one.camera);
  if (cameras.empty()) cameras.push_back(file.camera);
  for (const Camera& camera : cameras) {
    for (const std::string& fault : find_eye_faults(file.scene, world, camera)) {
      complain(fmt::format("{}: note: {}", command.common.scene, fault));
    }
  }
  // Points of planes that are not decided yet have a note of their own.
  const double lanes = static_cast<double>(frame.tally.lanes);
  const double spent = static_cast<double>(frame.tally.spent);
  if (!file.scene.plane && spent > 0.05 * lanes) {
    complain(
        fmt::format("{}: note: {:.0f} % of the lanes ran out of steps and show no surface; "
                    "the layer 'ending' shows where",
                    command.common.scene, 100 * spent / lanes));
  }
}

bool has_next(const RenderCommand& command) {
  return !command.next.empty() || !command.next_sets.empty();
}

/// Adds what --next asks for.
void tell_motion(const RenderCommand& command, const io::SceneFile& file, const World& world,
                 Frame& frame) {
  SceneOptions options = command.common;
  if (!command.next.empty()) options.scene = command.next;
  options.sets.insert(options.sets.end(), command.next_sets.begin(), command.next_sets.end());
  io::SceneFile next;
  next.path = options.scene;
  try {
    next = open_scene(options);
    add_motion(frame, world, file.camera, compile(next.scene, world), next.camera);
  } catch (const Error& error) {
    throw placed(next, error);
  }
}

/// The kind of a matte, and the name of one of its things.
struct MatteRequest {
  MatteOf of;
  std::optional<std::string> thing;
};
MatteRequest matte_request(const std::string& text) {
  const auto equals = text.find('=');
  const std::string kind = text.substr(0, equals);
  for (std::size_t i = 0; i < choice_names<MatteOf>.size(); ++i) {
    if (choice_names<MatteOf>[i] != kind) continue;
    MatteRequest request{static_cast<MatteOf>(i), std::nullopt};
    if (equals != text.npos) request.thing = text.substr(equals + 1);
    return request;
  }
  throw Error(ErrorKind::usage, fmt::format("--matte: no such kind '{}', expected one of {}{}",
                                            kind, fmt::join(choice_names<MatteOf>, ", "),
                                            suggestion(kind, choice_names<MatteOf>)));
}

/// The mattes that --matte asks for. A .png file is of one thing, and is written here.
std::vector<io::NamedMatte> make_mattes(const RenderCommand& command, const io::SceneFile& file,
                                        const World& world) {
  std::vector<io::NamedMatte> mattes;
  const bool exr = io::is_exr(command.output);
  for (const std::string& text : command.mattes) {
    const MatteRequest request = matte_request(text);
    if (exr == request.thing.has_value() || (!exr && command.mattes.size() > 1)) {
      throw Error(ErrorKind::usage,
                  "--matte: a .exr file takes KIND, for all its things, a .png one KIND=NAME");
    }
    ProgressBar bar("matte", command.common.quiet);
    MatteOptions options;
    options.of = request.of;
    options.ranks = command.matte_ranks;
    options.threads = command.common.threads;
    options.progress = bar.callback();
    mattes.push_back(io::named(make_matte(world, file.camera, file.budget, options), file.scene));
    if (mattes.back().matte.left_out > 0 && !command.common.quiet) {
      complain(fmt::format("{}: note: {} pixels show more than {} things; --matte-ranks keeps more",
                           command.common.scene, mattes.back().matte.left_out,
                           command.matte_ranks));
    }
    if (!exr) {
      const std::uint32_t thing = io::thing_named(mattes.back(), *request.thing);
      io::write_png(command.output, io::matte_picture(mattes.back().matte, thing));
    }
  }
  return mattes;
}

/// A file of several distances a pixel.
int run_deep(const RenderCommand& command, const io::SceneFile& file) {
  if (!io::is_exr(command.output) || !command.part.empty() || !command.mattes.empty() ||
      has_next(command)) {
    throw Error(ErrorKind::usage,
                "--deep makes a .exr file by itself, expected no --part, --matte or --next");
  }
  const DeepPicture deep = [&] {
    ProgressBar bar("render", command.common.quiet);
    DeepOptions options;
    options.threads = command.common.threads;
    options.progress = bar.callback();
    return make_deep(compile(file.scene), file.camera, file.budget, options);
  }();
  io::write_deep(command.output, deep);
  const double pixels = static_cast<double>(deep.first.size() - 1);
  const double samples = static_cast<double>(deep.samples.size());
  if (command.common.json) {
    print("{{\"pixels\": {:.0f}, \"samples\": {:.0f}}}\n", pixels, samples);
  } else if (!command.common.quiet) {
    print("{:.0f} samples, {:.2f} a pixel\n{}\n", samples, samples / pixels, command.output);
  }
  return success;
}

/// Refuses what does not go with --matte and --next.
void check_extras(const RenderCommand& command, const io::SceneFile& file) {
  const bool whole = command.tiles == 0 && command.store.empty() && !command.parted &&
                     command.until.empty() && !command.resume && file.views.empty();
  if (!whole || (!command.mattes.empty() && !command.part.empty())) {
    throw Error(ErrorKind::usage,
                "--matte, --next and --deep are of one whole view of a scene, expected no --tiles, "
                "--until or --resume, and no --part with --matte");
  }
}

/// A picture of one scene, of the given layer.
int run_picture(const RenderCommand& command, const io::SceneFile& file, Layer layer,
                const std::optional<io::ValueRange>& range) {
  const bool picture_of_colors = layer == Layer::color || layer == Layer::display;
  const bool exr = io::is_exr(command.output);
  const LayerSet layers = layers_for(file, layer, exr);
  const bool moves = has_next(command);
  if (moves || command.deep || !command.mattes.empty()) check_extras(command, file);
  if (command.deep) return run_deep(command, file);
  if (moves && !exr && layer != Layer::motion) {
    throw Error(ErrorKind::usage,
                "--next makes the layer motion, expected a .exr file or --layer motion");
  }
  if (!moves && layer == Layer::motion) {
    throw Error(ErrorKind::usage, "--layer motion is until another time, expected --next");
  }
  if (command.tiles != 0 || !command.store.empty() || command.parted) {
    if (command.tiles < 1) {
      throw Error(ErrorKind::usage, "--tiles-in and --parted are for --tiles N, at least 1");
    }
    if (!picture_of_colors || !command.part.empty() || !command.until.empty() || command.resume) {
      throw Error(ErrorKind::usage,
                  "--tiles make a whole picture, expected no --layer, --part, --until or --resume");
    }
    return run_tiles(command, file, layers_for(file, Layer::color, exr));
  }
  const World world = compile(file.scene);
  if (!command.until.empty() || command.resume) {
    if (!picture_of_colors) {
      throw Error(ErrorKind::usage, "--until and --resume make pictures, expected no --layer");
    }
    return run_growing(command, file, world, layers_for(file, Layer::color, exr));
  }
  const std::vector<io::NamedMatte> mattes = make_mattes(command, file, world);
  if (!mattes.empty() && !exr) {
    if (!command.common.quiet) print("{}\n", command.output);
    return success;
  }
  Frame frame;
  {
    ProgressBar bar("render", command.common.quiet);
    RenderOptions options;
    options.threads = command.common.threads;
    options.part = part_of(command);
    options.progress = bar.callback();
    options.layers = layers;
    frame = file.views.empty() ? render(world, file.camera, file.budget, std::move(options))
                               : render_views(world, file.views, file.budget, std::move(options));
  }
  if (moves) tell_motion(command, file, world, frame);
  if (exr) {
    io::write_frame(command.output, frame, mattes);
  } else if (picture_of_colors) {
    io::write_frame(command.output, frame);
  } else {
    io::write_layer(command.output, frame, layer, {.legend = !command.no_legend, .range = range});
  }
  if (!command.common.quiet) note_faults(command, file, world, frame);
  if (command.common.json) {
    put(io::frame_json(frame));
  } else if (!command.common.quiet) {
    tell_frame(command, file, frame);
    print("{}\n", command.output);
  }
  return success;
}

}  // namespace

int run(const RenderCommand& command) {
  const Layer layer = layer_of(command);
  const std::optional<io::ValueRange> range = range_of(command, layer);
  const bool picture_of_colors = layer == Layer::color || layer == Layer::display;
  if (picture_of_colors && command.view != "plan") {
    io::check_output(command.output, {".png", ".exr"});
  } else {
    io::check_output(command.output, {".png"});
  }
  return on_scene(command.common, [&](io::SceneFile& file) {
    if (!command.common.quiet) warn(file);
    if (command.view == "plan") return run_plan(command, file);
    return run_picture(command, file, layer, range);
  });
}

}  // namespace photonlane::tool
