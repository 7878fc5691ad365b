#include <fmt/format.h>

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

}  // namespace

int run(const DemoCommand& command) {
  const std::string folder = command.output;
  const io::OutputFolder made(folder);
  const io::SceneFile file = io::read_scene(demo_folder(command.scenes) + "/glasshouse-plan.yaml");
  const auto say = [&](const std::string& text) {
    if (!command.quiet) fmt::print("{}\n", text);
  };
  const World world = compile(file.scene);
  const auto frame_of = [&](const Budget& budget) {
    return render(world, file.camera, budget,
                  {.layers = LayerSet::measurable(),
                   .threads = command.threads,
                   .progress = {},
                   .recycle = {}});
  };

  Frame exact = frame_of(file.budget);
  io::write_frame(folder + "/view.png", exact);
  io::write_frame(folder + "/view.exr", exact);
  say(fmt::format("view.png, view.exr: {}\n{}", file.scene.title, io::cost_text(exact)));
  for (const Layer layer :
       {Layer::depth, Layer::ray_distance, Layer::face, Layer::cell, Layer::steps, Layer::ending}) {
    io::write_layer(fmt::format("{}/layer-{}.png", folder, name_of(layer)), exact, layer);
  }
  say("layer-*.png: what else is known of every pixel\n");

  Budget careless = file.budget;
  careless.cells.method = CellMethod::increment;
  careless.cells.increment = 0.4;
  Frame wrong = frame_of(careless);
  io::write_frame(folder + "/view-careless.png", wrong);
  const Difference difference = compare(wrong, exact);
  io::write_png(folder + "/difference.png", io::difference_picture(difference));
  say(
      fmt::format("view-careless.png: the same view by steps of {} m\n"
                  "difference.png: where it is wrong\n{}",
                  careless.cells.increment, io::difference_text(difference)));

  ProgressBar bar("sweep", command.quiet);
  SweepOptions options;
  options.threads = command.threads;
  options.progress = bar.callback();
  const Sweep result = sweep(world, file.camera, file.budget,
                             {parse_vary("cells.method=leap,boundary,increment"),
                              parse_vary("cells.increment=0.003..0.4//5")},
                             options);
  const io::SweepFiles files = io::write_sweep(folder, result, file.scene.title);
  say("sweep.csv, sweep.json, cost-error.*: what each way of stepping costs, and how wrong it "
      "is\n" +
      io::sweep_text(result));
  if (!files.problem.empty()) say(files.problem);
  fmt::print("{}\n", folder);
  return success;
}

}  // namespace photonlane::tool
