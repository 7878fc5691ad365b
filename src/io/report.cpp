#include "photonlane/io/report.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <numbers>
#include <optional>

#include "io/files.hpp"
#include "io/json.hpp"
#include "io/run_parts.hpp"
#include "io/sweep_words.hpp"
#include "io/text_table.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/io/machine.hpp"
#include "photonlane/measure/tune.hpp"

namespace photonlane::io {
namespace {

std::string reference_line(const Sweep& sweep) {
  const FrameBudget& frame = sweep.reference.frame;
  std::string means;
  switch (sweep.reference_kind) {
    case ReferenceKind::given:
      means = "a frame that was made before";
      break;
    case ReferenceKind::best:
      means = fmt::format("everything at its best, {} knobs of which are others than the base's",
                          sweep.reference_knobs.size());
      break;
    case ReferenceKind::varied:
      for (const auto& [knob, value] : sweep.reference_knobs) {
        means += fmt::format("{}{}={}", means.empty() ? "" : ", ", knob, value);
      }
      means = means.empty() ? "the base: nothing that varies can be better than there"
                            : "the base with " + means;
      break;
  }
  return fmt::format("reference: {}x{}, {}", frame.width, frame.height, means);
}

std::string views_note(const Sweep& sweep) {
  std::string note = fmt::format("of {} views: errors are their means", sweep.views);
  if (sweep.by == RankBy::work) return note + "\n";
  // The view that is the slowest of most settings.
  std::map<std::size_t, std::size_t> times;
  std::size_t slowest = sweep.settings.front().slowest_view;
  for (const Setting& setting : sweep.settings) {
    if (++times[setting.slowest_view] > times[slowest]) slowest = setting.slowest_view;
  }
  return note +
         fmt::format(", times their medians; the slowest is most often number {}\n", slowest + 1);
}

Json camera_object(const Camera& camera) {
  Json object = Json::object();
  for (const auto& entry : camera_knobs()) {
    object[std::string(entry.info.name)] = knob_text(entry, camera);
  }
  return object;
}

}  // namespace

std::string difference_text(const Difference& difference) {
  std::vector<std::vector<std::string>> rows;
  for (const Metric& metric : metrics()) {
    std::string value = metric_text(metric, difference);
    if (value == "-") value = "not in these files";
    if (!metric.unit.empty() && metric.value(difference)) value += fmt::format(" {}", metric.unit);
    if (metric.name == "largest" && difference.largest > 0) {
      value += fmt::format(" at pixel {}, {}", difference.largest_x, difference.largest_y);
    }
    rows.push_back({std::string(metric.name), value, std::string(metric.help)});
  }
  std::string text;
  for (const auto& row : rows) text += fmt::format("{:<13} {:<28} {}\n", row[0], row[1], row[2]);
  return text;
}

std::string metric_text(const Metric& metric, const Difference& difference) {
  const auto value = metric.value(difference);
  if (!value) return metric.name == "psnr" ? "equal" : "-";
  if (metric.name == "psnr") return fmt::format("{:.1f}", *value);
  if (metric.name == "ssim") return fmt::format("{:.5f}", *value);
  return *value == 0 ? "0" : fmt::format("{:.3g}", *value);
}

std::string setting_label(const Sweep& sweep, const Setting& setting) {
  const Setting& base = sweep.settings.front();
  if (sweep.one_by_one && &setting == &base) return "base";
  std::string label;
  for (std::size_t i = 0; i < setting.values.size(); ++i) {
    const std::string& value = setting.values[i];
    if (value == "-") continue;
    std::string told = value;
    if (sweep.one_by_one) {
      if (value == base.values[i]) continue;
      told = short_name(sweep, sweep.knobs[i]) + "=" + value;
    }
    label += (label.empty() ? "" : " ") + told;
  }
  return label;
}

std::string sweep_text(const Sweep& sweep) {
  std::vector<std::vector<std::string>> rows(1);
  const bool any_more =
      std::any_of(sweep.settings.begin(), sweep.settings.end(), [](const Setting& setting) {
        return setting.tally.shadow_lanes + setting.tally.bounces > 0;
      });
  if (sweep.one_by_one) {
    rows[0].emplace_back("setting");
  } else {
    for (const std::string& knob : sweep.knobs) rows[0].push_back(knob);
  }
  const bool timed = sweep.by != RankBy::work;
  rows[0].emplace_back(words_of(sweep.by).head);
  if (timed) {
    rows[0].emplace_back("likely");
    if (sweep.views > 1) rows[0].emplace_back("p95 ms");
    rows[0].emplace_back("cast ms");
  }
  for (const char* name : {"steps/lane", "spent"}) rows[0].emplace_back(name);
  if (any_more) rows[0].emplace_back("light lanes");
  for (const Metric& metric : metrics()) {
    rows[0].push_back(metric.unit.empty() ? std::string(metric.name)
                                          : fmt::format("{} {}", metric.name, metric.unit));
  }
  rows[0].emplace_back("front");
  for (const Setting& setting : sweep.settings) {
    auto& row = rows.emplace_back();
    if (sweep.one_by_one) {
      row.push_back(setting_label(sweep, setting));
    } else {
      for (const std::string& value : setting.values) row.push_back(value);
    }
    row.push_back(fmt::format("{:.3f}", setting.total_ms.median));
    if (timed) {
      row.push_back(
          fmt::format("{:.3f}..{:.3f}", setting.total_likely.low, setting.total_likely.high));
      if (sweep.views > 1) row.push_back(fmt::format("{:.3f}", setting.p95_ms));
      row.push_back(fmt::format("{:.3f}", setting.cast_ms.median));
    }
    row.push_back(fmt::format("{:.1f}", setting.tally.steps_per_lane()));
    row.push_back(fmt::format("{}", setting.tally.spent));
    if (any_more) {
      row.push_back(fmt::format("{}", setting.tally.shadow_lanes + setting.tally.bounces));
    }
    for (const Metric& metric : metrics()) row.push_back(metric_text(metric, setting.error));
    row.emplace_back(setting.on_front ? "*" : "");
  }
  std::string grows;
  for (const bool samples : {false, true}) {
    if (const std::optional<Growth> fit = growth(sweep, samples)) {
      grows +=
          fmt::format("{0} grows as {1}^{2:.2f}: {3:.3g} {4} * {1}^{2:.2f}, within {5:.0f} %\n",
                      timed ? "time" : "work", samples ? "samples" : "pixels", fit->power,
                      fit->constant, words_of(sweep.by).head, 100 * fit->off);
    }
  }
  std::string notes =
      fmt::format("* no other setting is better in both {} and {}{}\n", timed ? "time" : "work",
                  sweep.metric, timed ? ", as far as noise tells" : "");
  if (timed) notes += "likely: holds the median with 90 %\n";
  if (sweep.by == RankBy::cpu) notes += "cpu ms: work of all threads, without their waiting\n";
  if (!timed) notes += "work: counted, about milliseconds of a plain machine\n";
  if (sweep.views > 1) notes += views_note(sweep);
  return reference_line(sweep) + "\n" + aligned(rows) + grows + notes;
}

std::string first_look_text(const Sweep& sweep) {
  std::vector<std::vector<std::string>> rows{{"setting", "work", "one frame, ms", "steps/lane"}};
  for (const Setting& setting : sweep.settings) {
    const double work = 1e-6 * counted_cost(setting.tally) / static_cast<double>(sweep.views);
    rows.push_back({setting_words(sweep, setting), fmt::format("{:.3g}", work),
                    fmt::format("{:.3f}", setting.total_ms.median),
                    fmt::format("{:.1f}", setting.tally.steps_per_lane())});
  }
  return aligned(rows, {.left = {0}});
}

std::string volume_text(const Volume& volume, const VolumeError& error) {
  return fmt::format(
      "{}x{}x{} points, {:.4g} m apart, as {}: {:.2f} MB\n"
      "error within two cells of the surface: {:.3g} m rms, {:.3g} m at most ({:.1f} % and {:.1f} "
      "% "
      "of a cell); anywhere {:.3g} m\n"
      "stretch {:.3g}\n",
      volume.size[0], volume.size[1], volume.size[2], error.cell, name_of(volume.storage),
      static_cast<double>(volume.memory_bytes()) / 1e6, error.rms, error.largest,
      100 * error.rms / error.cell, 100 * error.largest / error.cell, error.everywhere,
      error.stretch);
}

std::string volume_json(const Volume& volume, const VolumeError& error) {
  return json_text({{"size", volume.size},
                    {"cell", error.cell},
                    {"storage", std::string(name_of(volume.storage))},
                    {"bytes", volume.memory_bytes()},
                    {"rms", error.rms},
                    {"largest", error.largest},
                    {"everywhere", error.everywhere},
                    {"stretch", error.stretch}});
}

std::string check_text(const SceneReport& report) {
  if (report.plane) {
    std::string text =
        fmt::format("plane      in {}: {}\nlimit      {} steps\n", name_of(report.plane->number),
                    report.plane->why, report.plane->limit);
    for (const std::string& warning : report.warnings)
      text += fmt::format("warning: {}\n", warning);
    return text;
  }
  std::string text = fmt::format("rooms      {}\n", report.rooms);
  if (report.map_width > 0) {
    text += fmt::format(
        "map        {}x{} cells of {} m{}\n"
        "walls      {:.1f} % of the cells\n"
        "openings   {}\n"
        "reachable  {:.1f} % of the empty cells, walking from the eye\n",
        report.map_width, report.map_height, report.cell_size,
        report.repeat ? ", repeated without end" : "", 100 * report.wall_share, report.openings,
        100 * report.reachable_share);
  }
  if (report.fields > 0) {
    text +=
        fmt::format("fields     {}, of {} operations\n", report.fields, report.field_operations);
  }
  for (const std::string& solid : report.solids) text += fmt::format("solid      {}\n", solid);
  if (report.portals > 0) text += fmt::format("portals    {}\n", report.portals);
  if (report.swells > 0) text += fmt::format("swells     {}\n", report.swells);
  for (const std::string& loop : report.loops) text += fmt::format("loop       {}\n", loop);
  for (const std::string& estimate : report.estimates) {
    text += fmt::format("estimate   {}\n", estimate);
  }
  text += fmt::format("memory     {:.1f} KiB to trace, compiled in {:.2f} ms\n",
                      static_cast<double>(report.memory_bytes) / 1024, report.compile_ms);
  for (const std::string& warning : report.warnings) text += "warning: " + warning + "\n";
  return text;
}

std::string plane_text(const PlaneReport& report) {
  std::string text = fmt::format("in {}: {}; limit of {} steps\n", name_of(report.number),
                                 report.why, report.limit);
  if (report.taken > 0) {
    text += fmt::format("{:.1f} % of the pixels from the frame before, off by {:.2g} steps\n",
                        100 * report.taken, report.taken_error);
  }
  if (report.past_limit) {
    text += fmt::format("warning: past what {} tells apart: {:.0f} % of the pixels are doubtful\n",
                        name_of(report.number), 100 * report.doubtful);
  }
  if (report.undecided > 0) {
    text += fmt::format(
        "warning: {:.3g} % of the pixels are undecided after {} steps, more would "
        "cost too much\n",
        100 * report.undecided, report.limit);
  }
  return text;
}

std::string landmark_text(const PlaneLandmark& landmark) {
  std::string text = fmt::format("{} of period {}", name_of(landmark.kind), landmark.period);
  if (landmark.kind == LandmarkKind::branching) {
    text += fmt::format(" after {} steps", landmark.preperiod);
  }
  text += fmt::format("\nplace   {},{}\n", landmark.place.x.text(), landmark.place.y.text());
  if (landmark.kind == LandmarkKind::copy) {
    text += fmt::format("size    {} of the whole, turned by {:.1f} degrees\n", landmark.size.text(),
                        landmark.turned * 180 / std::numbers::pi);
  }
  return text;
}

std::string landmark_json(const PlaneLandmark& landmark) {
  Json json{{"kind", name_of(landmark.kind)},
            {"place", {landmark.place.x.text(), landmark.place.y.text()}},
            {"period", landmark.period}};
  if (landmark.kind == LandmarkKind::branching) {
    json["preperiod"] = landmark.preperiod;
  } else {
    json["size"] = landmark.size.text();
    json["turned"] = landmark.turned * 180 / std::numbers::pi;
  }
  return json_text(json);
}

std::string path_text(const Frame& frame) {
  if (!frame.path_report) return "";
  const PathReport& report = *frame.path_report;
  std::string text = fmt::format("{:.4g} samples a pixel", report.samples);
  if (std::isfinite(report.rmse)) {
    text += fmt::format(", RMSE {:.4f} left ({:.4f} to {:.4f})", report.rmse, report.rmse_low,
                        report.rmse_high);
    if (frame.budget.frame.denoise > 0) text += " before frame.denoise";
  }
  if (report.exposure != 1) text += fmt::format(", radiance shown times {:.4g}", report.exposure);
  if (report.clamped > 0) {
    text += fmt::format(", {:.2g} % of the light cut by frame.clamp", 100 * report.clamped);
  }
  return text + "\n";
}

std::string cost_text(const Frame& frame) {
  const Cost& cost = frame.cost;
  const Tally& tally = frame.tally;
  std::string secondary;
  if (tally.shadow_lanes + tally.bounces > 0) {
    const double lanes = static_cast<double>(tally.shadow_lanes + tally.bounces);
    secondary =
        fmt::format("{} lanes for shadows, {} bounces, {:.1f} steps each\n", tally.shadow_lanes,
                    tally.bounces, static_cast<double>(tally.secondary_steps) / lanes);
    if (tally.cut_bounces > 0) {
      secondary += fmt::format("{} bounces past bounces.limit\n", tally.cut_bounces);
    }
  }
  if (tally.bent_steps > 0) secondary += fmt::format("{} steps through swells\n", tally.bent_steps);
  if (tally.crossings > 0) secondary += fmt::format("{} crossings of portals\n", tally.crossings);
  if (tally.evaluations > 0) {
    secondary += fmt::format("fields evaluated {} times, {:.1f} for each of the frame's lanes\n",
                             tally.evaluations,
                             static_cast<double>(tally.evaluations) /
                                 static_cast<double>(std::max<std::uint64_t>(tally.lanes, 1)));
  }
  if (frame.plane_report) secondary += plane_text(*frame.plane_report);
  if (cost.missing > 0) {
    secondary += fmt::format(
        "{} pieces of land around the eye were not made yet: --set voxels.wait=true waits\n",
        cost.missing);
  }
  secondary += path_text(frame);
  return fmt::format(
      "{}x{}  compile {:.2f} ms  cast {:.2f} ms  fill {:.2f} ms  encode {:.2f} ms\n"
      "{} lanes, {:.1f} steps a lane: {} hit, {} escaped, {} spent\n{}",
      frame.size().width, frame.size().height, cost.compile_ms, cost.cast_ms, cost.fill_ms,
      cost.encode_ms, tally.lanes, tally.steps_per_lane(), tally.hits, tally.escaped, tally.spent,
      secondary);
}

std::string difference_json(const Difference& difference) {
  return json_text(metrics_object(difference));
}

std::string sweep_json(const Sweep& sweep, const RunFacts& facts) {
  Json object;
  object["knobs"] = sweep.knobs;
  object["metric"] = sweep.metric;
  object["by"] = std::string(name_of(sweep.by));
  object["views"] = sweep.views;
  object["reference"] = budget_object(sweep.reference);
  object["reference_kind"] = std::string(name_of(sweep.reference_kind));
  object["reference_knobs"] = Json::object();
  for (const auto& [knob, value] : sweep.reference_knobs) object["reference_knobs"][knob] = value;
  for (const bool samples : {false, true}) {
    if (const std::optional<Growth> fit = growth(sweep, samples)) {
      object["growth"][samples ? "samples" : "pixels"] = {
          {"power", fit->power}, {"constant_ms", fit->constant}, {"off", fit->off}};
    }
  }
  object["settings"] = Json::array();
  const auto statistics = [](const Statistics& value) {
    return Json{{"median", value.median}, {"spread", value.spread}};
  };
  object["version"] = PHOTONLANE_VERSION;
  object["machine"] = machine_name();
  object["date"] = date_text();
  object["scene"] = facts.scene;
  object["scene_digest"] = facts.digest;
  object["command"] = facts.command;
  object["threads"] = facts.threads;
  object["limits"] = limits_object(facts);
  object["chosen"] = facts.chosen ? Json(*facts.chosen) : Json(nullptr);
  if (!sweep.settings.empty()) object["camera"] = camera_object(sweep.settings.front().camera);
  for (const Setting& setting : sweep.settings) {
    const std::string cost(words_of(sweep.by).column);
    object["settings"].push_back(
        {{"values", setting.values},
         {cost, statistics(setting.total_ms)},
         {cost + "_likely", {setting.total_likely.low, setting.total_likely.high}},
         {"p95_ms", sweep.views > 1 ? Json(setting.p95_ms) : Json(nullptr)},
         {"slowest_view", sweep.views > 1 ? Json(setting.slowest_view) : Json(nullptr)},
         {"cast_ms", statistics(setting.cast_ms)},
         {"fill_ms", statistics(setting.fill_ms)},
         {"tally", to_json(setting.tally)},
         {"error", metrics_object(setting.error)},
         {"on_front", setting.on_front},
         {"budget", budget_object(setting.budget)}});
  }
  return json_text(object);
}

std::string check_json(const SceneReport& report) {
  const Json object{{"rooms", report.rooms},
                    {"map_size", {report.map_width, report.map_height}},
                    {"cell_size", report.cell_size},
                    {"repeat", report.repeat},
                    {"wall_share", report.wall_share},
                    {"openings", report.openings},
                    {"reachable_share", report.reachable_share},
                    {"fields", report.fields},
                    {"field_operations", report.field_operations},
                    {"solids", report.solids},
                    {"estimates", report.estimates},
                    {"portals", report.portals},
                    {"swells", report.swells},
                    {"loops", report.loops},
                    {"memory_bytes", report.memory_bytes},
                    {"compile_ms", report.compile_ms},
                    {"warnings", report.warnings}};
  return json_text(object);
}

std::string frame_json(const Frame& frame) {
  Json layers = Json::array();
  for (std::size_t i = 0; i < layer_count; ++i) {
    const auto layer = static_cast<Layer>(i);
    if (frame.has(layer)) layers.push_back(std::string(name_of(layer)));
  }
  Json object{{"size", {frame.size().width, frame.size().height}},
              {"layers", layers},
              {"tally", to_json(frame.tally)},
              {"cost", to_json(frame.cost)},
              {"budget", budget_object(frame.budget)}};
  Json& cost = object["cost"];
  cost["threads"] = frame.cost.threads;
  cost["waiting_ms"] = frame.cost.waiting_ms;
  if (frame.cost.missing > 0) cost["missing"] = frame.cost.missing;
  cost["stages"] = Json::array();
  for (const Stage& stage : frame.cost.stages.list()) {
    cost["stages"].push_back(stage_object(stage));
  }
  if (frame.plane_report) object["plane"] = to_json(*frame.plane_report);
  if (frame.path_report) {
    const PathReport& report = *frame.path_report;
    const auto number = [](double value) { return std::isfinite(value) ? Json(value) : Json(); };
    object["paths"] = {{"samples", report.samples},
                       {"exposure", report.exposure},
                       {"rmse", number(report.rmse)},
                       {"rmse_low", report.rmse_low},
                       {"rmse_high", number(report.rmse_high)},
                       {"clamped", report.clamped}};
  }
  return json_text(object);
}

std::string zoom_csv(const std::vector<ZoomStep>& steps) {
  std::string text =
      "frame,width,number,limit,cast_ms,total_ms,steps_per_lane,hit,escaped,spent,doubtful,"
      "taken,taken_error\n";
  for (std::size_t i = 0; i < steps.size(); ++i) {
    const ZoomStep& step = steps[i];
    text += fmt::format("{},{},{},{},{:.2f},{:.2f},{:.1f},{},{},{},{:.4f},{:.4f},{:.2g}\n", i + 1,
                        step.window.width.text(), name_of(step.report.number), step.report.limit,
                        step.cost.cast_ms, step.cost.total_ms(), step.tally.steps_per_lane(),
                        step.tally.hits, step.tally.escaped, step.tally.spent, step.report.doubtful,
                        step.report.taken, step.report.taken_error);
  }
  return text;
}

std::string zoom_json(const std::vector<ZoomStep>& steps) {
  Json frames = Json::array();
  for (const ZoomStep& step : steps) {
    frames.push_back({{"frame", frames.size() + 1},
                      {"width", step.window.width.text()},
                      {"number", std::string(name_of(step.report.number))},
                      {"limit", step.report.limit},
                      {"cast_ms", step.cost.cast_ms},
                      {"total_ms", step.cost.total_ms()},
                      {"steps_per_lane", step.tally.steps_per_lane()},
                      {"hit", step.tally.hits},
                      {"escaped", step.tally.escaped},
                      {"spent", step.tally.spent},
                      {"doubtful", step.report.doubtful},
                      {"taken", step.report.taken},
                      {"taken_error", step.report.taken_error}});
  }
  return json_text({{"frames", std::move(frames)}});
}

std::string write_zoom(const std::string& folder, const std::vector<ZoomStep>& steps) {
  const std::string path = folder + "/zoom.csv";
  write_file(path, zoom_csv(steps));
  return path;
}

std::string sweep_csv(const Sweep& sweep) {
  std::string text;
  for (const std::string& knob : sweep.knobs) text += knob + ",";
  text += fmt::format("{0},{0}_spread,{0}_low,{0}_high,cast_ms,fill_ms", words_of(sweep.by).column);
  if (sweep.views > 1) text += ",p95_ms,slowest_view";
  for (const auto& [name, member] : tally_counts()) text += fmt::format(",{}", name);
  for (const Metric& metric : metrics()) text += fmt::format(",{}", metric.name);
  text += ",on_front\n";
  for (const Setting& setting : sweep.settings) {
    for (const std::string& value : setting.values) text += value + ",";
    text += fmt::format("{},{},{},{},{},{}", setting.total_ms.median, setting.total_ms.spread,
                        setting.total_likely.low, setting.total_likely.high, setting.cast_ms.median,
                        setting.fill_ms.median);
    if (sweep.views > 1) text += fmt::format(",{},{}", setting.p95_ms, setting.slowest_view);
    for (const auto& [name, member] : tally_counts()) {
      text += fmt::format(",{}", setting.tally.*member);
    }
    for (const Metric& metric : metrics()) {
      const auto value = metric.value(setting.error);
      text += value ? fmt::format(",{}", *value) : ",";
    }
    text += setting.on_front ? ",true\n" : ",false\n";
  }
  return text;
}

}  // namespace photonlane::io
