#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "commands.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "terminal.hpp"

namespace photonlane::tool {
namespace {

/// Where the demo scenes are: named by option, beside the installed tool, or in the source tree.
std::string demo_folder(const std::string& named) {
  namespace fs = std::filesystem;
  if (!named.empty()) return named;
  std::error_code none;
  const fs::path self = fs::read_symlink("/proc/self/exe", none);
  const fs::path installed = self.parent_path().parent_path() / PHOTONLANE_INSTALLED_DEMO;
  return fs::exists(installed, none) ? installed.string() : PHOTONLANE_DEMO_DIR;
}

/// The size of pictures: fit for looking while waiting, but where another is asked for.
std::string size_of(const DemoCommand& command) {
  return !command.size.empty() || command.full ? command.size : "640x400";
}

/// A frame smaller by a factor, of one sample a pixel.
FrameBudget part_of(Size size, int times) {
  return {std::max(1, size.width / times), std::max(1, size.height / times), 1};
}

/// One scene of the demo, its world, and a folder for what is made of it.
class Show {
 public:
  Show(const DemoCommand& command, const std::string& scene, std::string folder)
      : command_(command),
        file_(open_scene(
            {.scene = demo_folder(command.scenes) + "/" + scene, .size = size_of(command)})),
        folder_(std::move(folder)),
        world_(compile(file_.scene)) {}

  const io::SceneFile& file() const { return file_; }
  std::string path(const std::string& name) const { return folder_ + "/" + name; }

  void say(const std::string& text) const {
    if (!command_.quiet) print("{}\n", text);
  }

  Frame frame(const Budget& budget) const {
    ProgressBar bar("render", command_.quiet);
    return render(world_, file_.camera, budget,
                  {.layers = measurable_layers(world_),
                   .threads = command_.threads,
                   .progress = bar.callback(),
                   .recycle = {}});
  }

  /// What another eye in the same scene sees.
  Frame from(const Camera& camera) const {
    return render(
        world_, camera, file_.budget,
        {.layers = {Layer::display}, .threads = command_.threads, .progress = {}, .recycle = {}});
  }
  LaneLog lane(const Camera& camera, const Budget& budget, int x, int y) const {
    return log_lane(world_, camera, budget, x, y);
  }

  /// Steps alone.
  Frame steps(const Budget& budget) const {
    return render(
        world_, file_.camera, budget,
        {.layers = {Layer::steps}, .threads = command_.threads, .progress = {}, .recycle = {}});
  }

  /// Sweeps and leaves the table and the plot.
  void measure(const Budget& base, const std::vector<Vary>& vary, SweepOptions options,
               const std::string& what) const {
    Sweep result;
    {
      ProgressBar bar("sweep", command_.quiet);
      options.threads = command_.threads;
      options.progress = bar.callback();
      result = sweep(world_, file_.camera, base, vary, options);
    }
    const io::SweepFiles files = io::write_sweep(folder_, result, file_.scene.title);
    say(what + "\n" + io::sweep_text(result));
    if (!files.problem.empty()) say(files.problem);
  }

 private:
  const DemoCommand& command_;
  io::SceneFile file_;
  std::string folder_;
  World world_;
};

/// The plan by day: exact and careless stepping, and what each costs.
void show_stepping(const DemoCommand& command) {
  const Show show(command, "glasshouse-plan.yaml", command.output);
  const Budget& budget = show.file().budget;
  Frame exact = show.frame(budget);
  io::write_frame(show.path("view.png"), exact);
  io::write_frame(show.path("view.exr"), exact);
  show.say(fmt::format("{}, view.exr: {}\n{}", show.path("view.png"), show.file().scene.title,
                       io::cost_text(exact)));
  for (const Layer layer :
       {Layer::depth, Layer::ray_distance, Layer::face, Layer::cell, Layer::steps, Layer::ending}) {
    io::write_layer(show.path(fmt::format("layer-{}.png", name_of(layer))), exact, layer);
  }
  show.say("layer-*.png: what else is known of every pixel\n");

  Budget careless = budget;
  careless.cells.method = CellMethod::increment;
  careless.cells.increment = 0.4;
  Frame wrong = show.frame(careless);
  io::write_frame(show.path("view-careless.png"), wrong);
  const Difference difference = compare(wrong, exact);
  io::write_png(show.path("difference.png"), io::difference_picture(difference));
  show.say(
      fmt::format("view-careless.png: the same view by steps of {} m\n"
                  "difference.png: where it is wrong\n{}",
                  careless.cells.increment, io::difference_text(difference)));
  show.measure(
      budget,
      {parse_vary("cells.method=leap,boundary,increment"),
       parse_vary("cells.increment=0.003..0.4//5")},
      {},
      "sweep.csv, sweep.json, cost-error.*: what each way of stepping costs, and how wrong "
      "it is");
}

/// The furnished house in the evening: what each trick of light saves, and where it is wrong.
void show_light(const DemoCommand& command) {
  const Show show(command, "glasshouse-evening.yaml", command.output + "/evening");
  const io::OutputFolder made(command.output + "/evening");
  Frame frame = show.frame(show.file().budget);
  io::write_frame(show.path("view.png"), frame);
  io::write_plan(show.path("plan.png"), show.file());
  show.say(fmt::format("evening/view.png, evening/plan.png: {}\n{}", show.file().scene.title,
                       io::cost_text(frame)));
  Budget small = show.file().budget;
  small.frame = part_of(small.frame.size(), 5);
  small.light.corners = Corners::sampled;
  show.measure(
      small,
      {parse_vary("light.sun_shadows=none,probe,traced"),
       parse_vary("light.lamp_shadows=none,traced"),
       parse_vary("light.corners=none,neighbors,sampled"),
       parse_vary("light.wet_floor=none,mirrored,traced"),
       parse_vary("texture.sampling=nearest,bilinear,filtered")},
      {.repeats = 3, .warm_up = 1, .one_by_one = true, .progress = {}},
      fmt::format("evening/sweep.csv, evening/cost-error.*: what each way of lighting costs "
                  "at {}x{}, and how wrong it is",
                  small.frame.width, small.frame.height));
}

/// The fountain court and all shapes: what marching costs, by which method, and where it is wrong.
void show_fields(const DemoCommand& command) {
  const io::OutputFolder made(command.output + "/court");
  {
    const Show shapes(command, "glasshouse-shapes.yaml", command.output + "/court");
    Frame frame = shapes.frame(shapes.file().budget);
    io::write_frame(shapes.path("shapes.png"), frame);
    shapes.say("court/shapes.png: every shape and operation of a field");
  }
  const Show show(command, "glasshouse-fountain.yaml", command.output + "/court");
  Frame frame = show.frame(show.file().budget);
  io::write_frame(show.path("view.png"), frame);
  io::write_layer(show.path("layer-normal.png"), frame, Layer::normal);
  io::write_plan(show.path("plan.png"), show.file());
  show.say(fmt::format("court/view.png, court/layer-normal.png, court/plan.png: {}\n{}",
                       show.file().scene.title, io::cost_text(frame)));
  std::vector<Frame> by_method;
  for (const FieldMethod method : {FieldMethod::fixed, FieldMethod::sphere, FieldMethod::relaxed}) {
    Budget budget = show.file().budget;
    const int samples = budget.frame.samples;
    budget.frame = part_of(budget.frame.size(), 2);
    budget.frame.samples = samples;
    budget.field.method = method;
    // Neither alone nor together too many for one scale.
    budget.field.increment = 0.15;
    budget.far_limit = 25;
    budget.field.cones = false;
    by_method.push_back(show.steps(budget));
  }
  io::write_png(show.path("steps.png"), io::layer_picture(beside(by_method), Layer::steps));
  show.say("court/steps.png: steps of every lane by equal steps, by spheres, and relaxed");
  Budget small = show.file().budget;
  small.frame = part_of(small.frame.size(), 12);
  show.measure(
      small,
      {parse_vary("field.method=fixed,sphere,relaxed,slope"),
       parse_vary("field.tolerance=2e-5..2e-2//4"), parse_vary("field.relaxation=1.1,1.5,1.9"),
       parse_vary("field.steps=12..96//4"), parse_vary("bounces.limit=0,1,2,4")},
      {.repeats = 3, .warm_up = 1, .one_by_one = true, .progress = {}},
      fmt::format("court/sweep.csv, court/cost-error.*: what each way of marching costs "
                  "at {}x{}, and how wrong it is",
                  small.frame.width, small.frame.height));
}

/// The climate wings: rooms by portals, and what crossings cost.
void show_rooms(const DemoCommand& command) {
  const io::OutputFolder made(command.output + "/wings");
  const Show show(command, "glasshouse-wings.yaml", command.output + "/wings");
  Frame frame = show.frame(show.file().budget);
  io::write_frame(show.path("view.png"), frame);
  show.say(fmt::format("wings/view.png: {}\n{}", show.file().scene.title, io::cost_text(frame)));
  Camera along{.eye = {-0.8, 0.4, 1.6}, .heading = degrees(8), .field_of_view = degrees(60)};
  along.room = "colonnade";
  Frame hall = show.from(along);
  io::write_frame(show.path("colonnade.png"), hall);
  // The lane of one pixel, over all rooms: down the colonnade, at an angle.
  io::SceneFile file = show.file();
  file.camera = along;
  file.budget.frame.samples = 1;
  const Size size = file.budget.frame.size();
  const LaneLog log = show.lane(along, file.budget, size.width * 54 / 100, size.height * 47 / 100);
  io::PlanOptions plan;
  plan.rays = 0;
  plan.lane = &log;
  io::write_plan(show.path("lane.png"), file, plan);
  show.say(
      "wings/colonnade.png: one section of a hall between two portals\n"
      "wings/lane.png: what the lane of one of its pixels did, over the plan of all rooms");
  Budget small = show.file().budget;
  small.frame = part_of(size, 8);
  show.measure(small,
               {parse_vary("crossings.limit=0,1,2,4"), parse_vary("light.crossings=0,1"),
                parse_vary("crossings.tolerance=1e-4,1e-3,1e-2"), parse_vary("bounces.limit=0,1")},
               {.repeats = 3, .warm_up = 1, .one_by_one = true, .progress = {}},
               fmt::format("wings/sweep.csv, wings/cost-error.*: what crossings cost at {}x{}, and "
                           "what is wrong without them",
                           small.frame.width, small.frame.height));
}

/// The stained window: a plane, where its number types break, and a zoom into one of its panes.
void show_window(const DemoCommand& command) {
  const io::OutputFolder made(command.output + "/window");
  const Show show(command, "glasshouse-window.yaml", command.output + "/window");
  Frame frame = show.frame(show.file().budget);
  io::write_frame(show.path("view.png"), frame);
  show.say(fmt::format("window/view.png: {}\n{}", show.file().scene.title, io::cost_text(frame)));
  // All types with the radius that the fewest bits hold.
  io::SceneFile file = show.file();
  file.scene.plane->escape_radius = 4;
  const DecimalPoint pane{Decimal(std::string_view("-0.74329189085243020293162432597251075717")),
                          Decimal(std::string_view("0.13124055230879760477084590658147814307"))};
  file.camera.window.center = pane;
  file.budget.plane.limit = PlaneLimit::given;
  file.budget.plane.iterations = 10000;
  const Size size = file.budget.frame.size();
  file.budget.frame = part_of(size, 8);
  SweepOptions options{.repeats = 3, .warm_up = 1, .progress = {}};
  options.metric = "share_other";
  options.threads = command.threads;
  const Sweep result =
      sweep(compile(file.scene), file.camera, file.budget,
            {parse_vary("window.width=1e-1..1e-29//15"),
             parse_vary("plane.number=fixed,float,double,double_double,perturbation")},
            options);
  io::write_sweep(command.output + "/window", result, file.scene.title);
  show.say(
      fmt::format("window/sweep.csv, window/lines.*: where each number type breaks, and what "
                  "the next one costs, at {}x{}",
                  file.budget.frame.width, file.budget.frame.height));
  std::vector<io::ZoomStep> steps;
  io::SceneFile zoom = show.file();
  zoom.budget.frame.samples = 1;
  const auto windows = zoom_windows(zoom.camera.window, size, pane, Decimal(1e-24), 9);
  const World world = compile(zoom.scene);
  for (std::size_t i = 0; i < windows.size(); ++i) {
    Camera camera;
    camera.window = windows[i];
    Frame one = render(
        world, camera, zoom.budget,
        {.layers = {Layer::display}, .threads = command.threads, .progress = {}, .recycle = {}});
    io::write_frame(show.path(fmt::format("pane-{}.png", i + 1)), one);
    steps.push_back({windows[i], one.cost, one.tally, *one.plane_report});
  }
  io::write_zoom(command.output + "/window", steps);
  show.say("window/pane-*.png, window/zoom.csv: into one of its panes, and what each frame took");
}

/// The bed of flowers: what iterations and detail cost, and where the dew has rolled after a while.
void show_flowers(const DemoCommand& command) {
  const io::OutputFolder made(command.output + "/flowers");
  const Show show(command, "glasshouse-flowers.yaml", command.output + "/flowers");
  Frame frame = show.frame(show.file().budget);
  io::write_frame(show.path("view.png"), frame);
  show.say(fmt::format("flowers/view.png: {}\n{}", show.file().scene.title, io::cost_text(frame)));
  Budget small = show.file().budget;
  const Size size = small.frame.size();
  small.frame = part_of(size, 16);
  SweepOptions options{.repeats = 3, .warm_up = 1, .one_by_one = true, .progress = {}};
  options.threads = command.threads;
  const io::SceneFile& file = show.file();
  const Sweep result =
      sweep([&](const SceneNumbers& numbers) { return compile(io::scene_with(file, numbers)); },
            file.numbers, file.camera, small,
            {parse_vary("scene.folds=1,3,5,7"), parse_vary("field.detail=0,1,2,4")}, options);
  io::write_sweep(command.output + "/flowers", result, file.scene.title);
  show.say(
      fmt::format("flowers/sweep.csv, flowers/cost-error.*: what iterations cost, and what is "
                  "wrong with fewer, at {}x{}",
                  small.frame.width, small.frame.height));
  Scene scene = file.scene;
  roll_bodies(scene, 0, 0.3);
  small.frame = part_of(size, 2);
  small.frame.samples = 4;
  const Camera above = Camera::look_at({0.3, -0.75, 2.75}, {-0.03, 0.37, 2.08}, degrees(32));
  frame = render(
      compile(scene), above, small,
      {.layers = {Layer::display}, .threads = command.threads, .progress = {}, .recycle = {}});
  io::write_frame(show.path("dew.png"), frame);
  show.say("flowers/dew.png: beads of dew on a bloom, three tenths of a second later");
}

/// Dew on a web: spheres of water, and what bounces through them are worth.
void show_dew(const DemoCommand& command) {
  const io::OutputFolder made(command.output + "/dew");
  const Show show(command, "glasshouse-dew.yaml", command.output + "/dew");
  Frame frame = show.frame(show.file().budget);
  io::write_frame(show.path("view.png"), frame);
  show.say(fmt::format("dew/view.png: {}\n{}", show.file().scene.title, io::cost_text(frame)));
  Budget small = show.file().budget;
  small.frame = part_of(small.frame.size(), 8);
  show.measure(small, {parse_vary("bounces.limit=0,1,2,4,8,16")},
               {.repeats = 3, .warm_up = 1, .progress = {}},
               fmt::format("dew/sweep.csv, dew/cost-error.*: what bounces through water cost at "
                           "{}x{}, and what is wrong without them",
                           small.frame.width, small.frame.height));
}

/// A scene of very many small parts: how they are held, and what it is worth to look at those that
/// are too small to be seen. `text` tells how a part of it is held, nothing of others.
void show_many(const DemoCommand& command, const std::string& name, const std::string& knob,
               const std::string& words, std::string (*text)(const SolidPart& part)) {
  const std::string folder = command.output + "/" + name;
  const io::OutputFolder made(folder);
  const Show show(command, "glasshouse-" + name + ".yaml", folder);
  for (const auto& part : show.file().scene.rooms.front().parts) {
    const std::string held = text(*part);
    if (!held.empty()) show.say(name + ": " + held);
  }
  Frame frame = show.frame(show.file().budget);
  io::write_frame(show.path("view.png"), frame);
  show.say(fmt::format("{}/view.png: {}\n{}", name, show.file().scene.title, io::cost_text(frame)));
  Budget small = show.file().budget;
  small.frame = part_of(small.frame.size(), 4);
  show.measure(
      small, {parse_vary(knob + "=0,0.5,1,2,4")}, {.repeats = 3, .warm_up = 1, .progress = {}},
      fmt::format("{0}/sweep.csv, {0}/cost-error.*: what {1} below a pixel cost at {2}x{3}, "
                  "and what is wrong where one stands for many",
                  name, words, small.frame.width, small.frame.height));
}

void show_pollen(const DemoCommand& command) {
  show_many(command, "pollen", "spheres.detail", "grains", [](const SolidPart& part) {
    const auto* const spheres = dynamic_cast<const Spheres*>(&part);
    return spheres != nullptr && spheres->set != nullptr ? io::sphere_set_text(*spheres->set)
                                                         : std::string();
  });
}

void show_terraces(const DemoCommand& command) {
  show_many(command, "terraces", "voxels.detail", "voxels", [](const SolidPart& part) {
    const auto* const voxels = dynamic_cast<const Voxels*>(&part);
    return voxels != nullptr ? io::voxel_text(*voxels->grid) : std::string();
  });
  const Show hills(command, "glasshouse-hills.yaml", command.output + "/terraces");
  Frame frame = hills.frame(hills.file().budget);
  io::write_frame(hills.path("hills.png"), frame);
  hills.say(fmt::format("terraces/hills.png: {}, made around the eye\n{}", hills.file().scene.title,
                        io::cost_text(frame)));
}

/// Pictures of one size side by side.
io::Picture beside(std::span<const io::Picture> pictures) {
  const Size size = pictures.front().size;
  io::Picture all({size.width * static_cast<int>(pictures.size()), size.height});
  for (std::size_t k = 0; k < pictures.size(); ++k) {
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        std::copy_n(pictures[k].pixel(x, y), 3, all.pixel(static_cast<int>(k) * size.width + x, y));
      }
    }
  }
  return all;
}

/// A drawn court into which fields grow, and what it looks like where its depth is read wrongly.
void show_plate(const DemoCommand& command) {
  const io::OutputFolder made(command.output + "/plate");
  Show court(command, "glasshouse-plate.yaml", command.output + "/plate");
  Frame frame = court.frame(court.file().budget);
  io::write_frame(court.path("view.png"), frame);
  io::write_layer(court.path("layer-depth.png"), frame, Layer::depth, {});
  court.say(fmt::format("plate/view.png: {}\n{}", court.file().scene.title, io::cost_text(frame)));
  Budget small = court.file().budget;
  small.frame = part_of(small.frame.size(), 2);
  std::vector<io::Picture> pictures;
  const auto read_as = [&](const std::string& name, const auto& change) {
    io::SceneFile wrong = court.file();
    for (std::shared_ptr<const SolidPart>& part : wrong.scene.room().parts) {
      if (const auto* const plate = dynamic_cast<const Plate*>(part.get())) {
        Plate other = *plate;
        change(other.means);
        part = std::make_shared<const Plate>(std::move(other));
        for (const std::string& fault : find_plate_faults(dynamic_cast<const Plate&>(*part))) {
          court.say(fmt::format("  {}: {}", name, fault));
        }
      }
    }
    pictures.push_back(io::to_picture(render(
        compile(wrong.scene), wrong.camera, small,
        {.layers = {Layer::display}, .threads = command.threads, .progress = {}, .recycle = {}})));
  };
  read_as("range zero_to_one", [](PlateDepth& means) { means.range = BufferRange::zero_to_one; });
  read_as("range minus_one_to_one",
          [](PlateDepth& means) { means.range = BufferRange::minus_one_to_one; });
  read_as("nearest twice as far", [](PlateDepth& means) { means.nearest *= 2; });
  io::write_png(court.path("wrong.png"), beside(pictures));
  court.say("plate/wrong.png: the same with its depth read as it is not");
}

/// After dark: light that bounces, what each bounce brings, and how wrong the tricks of the evening
/// are against it.
void show_night(const DemoCommand& command) {
  const io::OutputFolder made(command.output + "/night");
  const std::string folder = command.output + "/night";
  io::SceneFile night = open_scene(
      {.scene = demo_folder(command.scenes) + "/glasshouse-night.yaml", .size = size_of(command)});
  if (!command.full) night.budget.frame.denoise = 4;  // a dozen samples a pixel are noisy
  const World world = compile(night.scene);
  const auto grow = [&](const io::SceneFile& file, const World& of, const std::string& name,
                        double seconds) {
    ProgressBar bar("render", command.quiet);
    const auto show = bar.callback();
    io::GrowingRun run{.until = {{io::UntilKind::seconds, seconds}, {io::UntilKind::rmse, 0.01}}};
    run.threads = command.threads;
    run.layers = {Layer::color, Layer::display};
    run.progress = [&](const io::GrowingProgress& now) { return show(now.share); };
    const io::GrownFrame grown = io::grow_frame(file, of, folder + "/" + name, run);
    bar.clear();
    if (grown.stopped) throw Error(ErrorKind::cancelled, "stopped by the caller");
    return grown.frame;
  };
  const auto say = [&](const std::string& text) {
    if (!command.quiet) print("{}\n", text);
  };
  const double longer = command.full ? 12 : 1;
  Frame view = grow(night, world, "view.png", 25 * longer);
  say(fmt::format("night/view.png: {}\n{}", night.scene.title, io::path_text(view)));
  {
    Budget small = night.budget;
    small.frame.width /= 2;
    small.frame.height /= 2;
    small.frame.samples = command.full ? 128 : 16;
    const LayerSet layers{Layer::light_0, Layer::light_1, Layer::light_2, Layer::light_4,
                          Layer::bounces};
    Frame told =
        render(world, night.camera, small,
               {.layers = layers, .threads = command.threads, .progress = {}, .recycle = {}});
    for (const Layer layer : layers.list()) {
      io::write_layer(fmt::format("{}/layer-{}.png", folder, name_of(layer)), told, layer);
    }
    say("night/layer-*.png: light that was thrown back so often, and how often paths were");
  }
  // The evening, as the tricks have it and as light goes.
  io::SceneFile evening =
      open_scene({.scene = demo_folder(command.scenes) + "/glasshouse-evening.yaml",
                  .size = size_of(command)});
  const World lit = compile(evening.scene);
  Frame tricks = render(lit, evening.camera, evening.budget,
                        {.layers = {Layer::color, Layer::display},
                         .threads = command.threads,
                         .progress = {},
                         .recycle = {}});
  evening.budget.light.transport = Transport::paths;
  evening.budget.light.exposure = -0.3;
  evening.budget.frame.clamp = 4;
  const Frame paths = grow(evening, lit, "evening-paths.png", 15 * longer);
  const Difference off = compare(tricks, paths);
  const io::Picture three[] = {io::to_picture(tricks), io::to_picture(paths),
                               io::difference_picture(off, false)};
  io::write_png(folder + "/evening.png", beside(three));
  say(fmt::format(
      "night/evening.png: the evening by tricks, by paths, and where they differ: RMSE {:.3f}\n{}",
      off.rmse, io::path_text(paths)));
}

/// A part of the demo, and how long it takes beside the others: seconds on two cores.
struct Part {
  std::string_view name;
  double seconds;
  void (*show)(const DemoCommand&);
};
constexpr Part parts[] = {
    {"plan", 3, show_stepping},    {"evening", 9, show_light},      {"court", 31, show_fields},
    {"wings", 5, show_rooms},      {"window", 15, show_window},     {"dew", 8, show_dew},
    {"pollen", 40, show_pollen},   {"terraces", 35, show_terraces}, {"plate", 6, show_plate},
    {"flowers", 50, show_flowers}, {"night", 52, show_night}};

/// The parts that are asked for, in their order.
std::vector<const Part*> parts_of(const DemoCommand& command) {
  const std::vector<std::string_view> names = demo_parts();
  for (const std::string& wanted : command.parts) {
    if (std::find(names.begin(), names.end(), wanted) != names.end()) continue;
    throw Error(ErrorKind::usage,
                fmt::format("no part '{}' of the demo, expected one of {}{}", one_line(wanted),
                            fmt::join(names, ", "), suggestion(wanted, names)));
  }
  std::vector<const Part*> chosen;
  for (const Part& part : parts) {
    const bool wanted =
        std::find(command.parts.begin(), command.parts.end(), part.name) != command.parts.end();
    if (command.parts.empty() || wanted) chosen.push_back(&part);
  }
  return chosen;
}

}  // namespace

std::vector<std::string_view> demo_parts() {
  std::vector<std::string_view> names;
  for (const Part& part : parts) names.push_back(part.name);
  return names;
}

int run(const DemoCommand& command) {
  const std::vector<const Part*> chosen = parts_of(command);
  const io::OutputFolder made(command.output);
  double left = 0;
  for (const Part* part : chosen) left += part->seconds;
  const auto start = std::chrono::steady_clock::now();
  double done = 0;
  for (const Part* part : chosen) {
    if (!command.quiet && part != chosen.front()) {
      const double took =
          std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
      print("{}: made in {:.0f} s, about {:.0f} s left\n\n", command.output, took,
            took / done * left);
    }
    part->show(command);
    done += part->seconds;
    left -= part->seconds;
  }
  print("{}\n", command.output);
  return success;
}

}  // namespace photonlane::tool
