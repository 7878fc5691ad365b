#include "photonlane/io/runs.hpp"

#include <fmt/format.h>

#include <cstdio>
#include <filesystem>

#include "io/files.hpp"
#include "io/frame_loop.hpp"
#include "io/kept_references.hpp"
#include "io/run_journal.hpp"
#include "io/run_parts.hpp"
#include "io/run_pictures.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/io/output.hpp"

namespace photonlane::io {

std::vector<ZoomStep> play_zoom(const SceneFile& file, const ZoomPlan& plan,
                                const std::string& folder, const RunOptions& run) {
  if (!file.scene.plane) {
    throw Error(ErrorKind::input, "the scene is no plane, expected one to zoom into");
  }
  const World world = compile(file.scene);
  const std::vector<PlaneWindow> windows =
      zoom_windows(file.camera.window, file.budget.frame.size(), plan.to, plan.width, plan.frames);
  const OutputFolder made(folder);
  Digest what = digest_of(file);
  what.add(fmt::format("{} {} {} {} {}", plan.to.x.text(), plan.to.y.text(), plan.width.text(),
                       plan.frames, plan.allowed_error));
  if (!run.resume) {
    made.remove_numbered("frame-", ".png");
    made.remove_numbered("before-", ".exr");
  }
  RunJournal journal(folder, "zoom", what, run.resume);
  // Each frame, as far as the next one needs it, until that is kept: for a run that goes on there.
  const auto before_path = [&](std::size_t i) {
    return fmt::format("{}/before-{:04}.exr", folder, i + 1);
  };
  const bool takes = plan.allowed_error > 0;
  RenderOptions options{
      .layers = {Layer::display}, .threads = run.threads, .progress = {}, .recycle = {}};
  // The file of the frame before is a picture as well.
  if (takes) {
    options.layers = {Layer::color, Layer::display, Layer::smooth_count, Layer::ending};
  }
  std::vector<ZoomStep> steps;
  std::optional<Frame> before;
  const auto path_of = [&](std::size_t i) {
    return fmt::format("{}/frame-{:04}.png", folder, i + 1);
  };
  const auto play = [&](std::size_t i, const std::function<bool(double)>& go_on) {
    Camera camera = file.camera;
    camera.window = windows[i];
    options.progress = go_on;
    if (takes && i > 0 && !before) {
      before = read_frame(before_path(i - 1));
      before->tally = steps.back().tally;
    }
    Frame frame = takes && i > 0
                      ? render_after(world, camera, file.budget,
                                     {&*before, windows[i - 1], plan.allowed_error}, options)
                      : render(world, camera, file.budget, options);
    write_frame(path_of(i), frame);
    if (takes) write_frame(before_path(i), frame);
    // Of many frames the times are kept, not what they were made of.
    frame.cost.stages = {};
    steps.push_back({windows[i], frame.cost, frame.tally, *frame.plane_report});
    journal.keep(i, {{"cost", to_json(frame.cost)},
                     {"tally", to_json(frame.tally)},
                     {"report", to_json(*frame.plane_report)}});
    if (!takes) return;
    if (i > 0) std::remove(before_path(i - 1).c_str());
    before = std::move(frame);
  };
  const auto left_by = [&](std::size_t i) {
    return journal.left(i, [&](const Json& json) {
      return ZoomStep{windows[i], cost_from(json.at("cost")), tally_from(json.at("tally")),
                      plane_report_from(json.at("report"))};
    });
  };
  play_frames(
      windows.size(), run.progress, journal,
      [&](std::size_t i, const std::function<bool(double)>& go_on) {
        const auto left = left_by(i);
        if (left && std::filesystem::exists(path_of(i))) {
          steps.push_back(*left);
          before.reset();
        } else {
          play(i, go_on);
        }
      },
      [&](std::size_t) { return "what they took is in " + write_zoom(folder, steps); });
  write_zoom(folder, steps);
  made.remove_numbered("before-", ".exr");
  journal.finish();
  return steps;
}

std::string scene_digest(const SceneFile& file) {
  const Digest digest = digest_of_scene(file);
  return fmt::format("{:016x}{:016x}", digest.high, digest.low);
}

Sweep run_sweep(const SceneFile& file, const std::vector<Vary>& vary, const std::string& folder,
                SweepOptions options, const RunOptions& run) {
  const OutputFolder made(folder);
  const Digest scene = digest_of_scene(file);
  Digest what = scene;
  add_view(file.camera, file.budget, what);
  for (const Vary& one : vary) {
    what.add(one.knob);
    for (const std::string& value : one.values) what.add(value);
  }
  for (const Camera& view : options.views) add_view(view, file.budget, what);
  what.add(fmt::format("{} {} {} {} {} {} {}", name_of(options.by), options.repeats,
                       options.precision, options.warm_up, options.one_by_one, options.metric,
                       name_of(options.reference)));
  if (options.given) add_frame(*options.given, what);
  RunJournal journal(folder, "sweep", what, run.resume);
  options.threads = run.threads;
  options.known = [&](std::size_t part) -> std::optional<SweepPart> {
    return journal.left(part, sweep_part_from);
  };
  options.measured = [&](std::size_t part, const SweepPart& measured) {
    journal.keep(part, to_json(measured));
  };
  const KeptReferences references(folder);
  const auto reference = [&](const Budget& budget, const Camera& camera) {
    Digest digest = scene;
    add_view(camera, budget, digest);
    return digest;
  };
  options.kept = [&](const Budget& budget, const Camera& camera) {
    std::optional<Frame> kept = references.read(reference(budget, camera));
    if (kept && kept->size() != budget.frame.size()) kept.reset();
    return kept;
  };
  options.keep = [&](const Budget& budget, const Camera& camera, Frame& frame) {
    references.write(reference(budget, camera), frame);
  };
  const OutputFolder pictures(folder + "/pictures");
  if (!run.resume) pictures.remove_numbered("setting-", ".png");
  options.made = [&](std::size_t setting, Frame& frame) {
    encode_display(frame);  // here, or all its layers would be copied for it
    write_frame(setting_picture(folder, setting), frame);
  };
  bool table = false;
  options.so_far = [&](const Sweep& so_far) {
    write_file(folder + "/sweep.csv", sweep_csv(so_far));
    write_file(folder + "/sweep.json", sweep_json(so_far, run.facts));
    table = true;
  };
  double share = 0;
  options.progress = [&](double done) {
    share = done;
    return !run.progress || run.progress(done);
  };
  try {
    Sweep result =
        sweep([&](const SceneNumbers& numbers) { return compile(scene_with(file, numbers)); },
              file.numbers, file.camera, file.budget, vary, options);
    journal.finish();
    const Budget& best = result.reference;
    const std::vector<Camera>& views = options.views;
    const Camera& first = views.empty() ? result.settings[0].camera : views.front();
    std::optional<Frame> told =
        options.given ? std::optional(*options.given) : options.kept(best, first);
    if (told) write_frame(reference_picture(folder), *told);
    if (options.given) return result;
    std::vector<Digest> own;
    for (const Camera& view : views) own.push_back(reference(best, view));
    for (const Setting& setting : result.settings) {
      if (views.empty()) own.push_back(reference(best, setting.camera));
    }
    references.remove_all_but(own);
    return result;
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::cancelled) throw;
    throw Error(ErrorKind::cancelled,
                fmt::format("stopped after {:.0f} % of the work{}{}", 100 * share,
                            table ? "; what is known by then is in " + folder + "/sweep.csv"
                                  : std::string(),
                            journal.hint()));
  }
}

}  // namespace photonlane::io
