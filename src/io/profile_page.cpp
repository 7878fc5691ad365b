// The page and the files of a profile.

#include <fmt/format.h>

#include <algorithm>

#include "io/cost_words.hpp"
#include "io/files.hpp"
#include "io/page_facts.hpp"
#include "photonlane/io/cost_text.hpp"
#include "photonlane/io/layer_picture.hpp"
#include "photonlane/io/result_page.hpp"

namespace photonlane::io {
namespace {

PageFigures pictures_of(const Frame& frame) {
  PageFigures figures;
  figures.title = "Where in the picture";
  figures.pictures.push_back({"the frame", picture_of(frame)});
  const auto add = [&](Layer layer, const char* name) {
    if (frame.has(layer)) figures.pictures.push_back({name, layer_picture(frame, layer)});
  };
  add(Layer::cost, "cost of each pixel");
  add(Layer::evaluations, "evaluations of each pixel's own lane");
  add(Layer::steps, "steps of each pixel's own lane");
  return figures;
}

PageCell share_cell(double share, double largest) {
  return {fmt::format("{:.1f} %", 100 * share), share, share / std::max(largest, 1e-12)};
}

PageTable stages_table(const Cost& cost) {
  PageTable table;
  table.title = "Where the time goes";
  table.heads = {{"share", true},   {"ms", true},    {"lanes or places", true}, {"at a time", true},
                 {"ns each", true}, {"work", false}, {"for lanes", false}};
  const std::vector<Stage> stages = cost.stages.list();
  const double all = std::max(cost.stages.total_ms() + cost.waiting_ms, 1e-12);
  double largest = cost.waiting_ms / all;
  for (const Stage& stage : stages) largest = std::max(largest, stage.ms / all);
  const auto row = [&](double ms) -> PageRow& {
    PageRow& added = table.rows.emplace_back();
    added.cells = {share_cell(ms / all, largest), number_cell(ms, fmt::format("{:.2f}", ms))};
    return added;
  };
  const auto plain = [](PageRow& to, const std::string& name) {
    to.cells.insert(to.cells.end(), {{"", 0.0}, {"", 0.0}, {"", 0.0}, {name, {}}, {"", {}}});
  };
  constexpr double least = 0.002;
  double small = 0;
  std::size_t left_out = 0;
  for (const Stage& stage : stages) {
    if (stage.ms < least * all) {
      small += stage.ms;
      ++left_out;
      continue;
    }
    PageRow& own = row(stage.ms);
    const bool counted = stage.count > 0;
    own.cells.push_back(
        {counted ? fmt::format("{}", stage.count) : "", static_cast<double>(stage.count)});
    const std::string together = at_a_time(stage);
    own.cells.push_back({together, together.empty() ? 0.0 : std::stod(together)});
    own.cells.push_back({counted ? fmt::format("{:.0f}", stage.ns_each()) : "", stage.ns_each()});
    own.cells.push_back({std::string(work_in_words(stage.work)), {}});
    own.cells.push_back({std::string(lanes_in_words(stage.lanes)), {}});
  }
  if (left_out > 0) plain(row(small), fmt::format("{} smaller ones", left_out));
  plain(row(cost.waiting_ms), "waiting for other threads");
  table.note =
      "Time of all threads, by kind of work and kind of lanes. At a time: how many lanes were "
      "worked at together; a full batch has 128, and several go together where fields are large.";
  return table;
}

PageTable regions_table(const std::vector<DearRegion>& regions) {
  PageTable table;
  table.title = "The dearest regions";
  table.heads = {{"share of time", true}, {"of pixels", true}, {"pixels", false}, {"why", false}};
  double largest = 0;
  for (const DearRegion& one : regions) largest = std::max(largest, one.share);
  for (const DearRegion& one : regions) {
    PageRow& row = table.rows.emplace_back();
    row.cells = {share_cell(one.share, largest),
                 number_cell(one.pixels, fmt::format("{:.1f} %", 100 * one.pixels)),
                 {fmt::format("{},{},{}x{}", one.part.x, one.part.y, one.part.size.width,
                              one.part.size.height),
                  {}},
                 {one.why, {}}};
  }
  return table;
}

PageChart knobs_chart(const FrameProfile& profile) {
  const double frame_ms = quantile(profile.frame_ms, 0.5);
  PageChart chart;
  chart.title = "What each knob is worth";
  chart.note =
      "Each point is one knob turned alone by one notch, the line is the frame as it is. Hover for "
      "values.";
  chart.x_label = "milliseconds a frame with the knob turned";
  chart.y_label = "RMSE between the frame as it is and turned";
  chart.x_log = chart.y_log = true;
  chart.lines = {{true, frame_ms, fmt::format("{:.4g} ms", frame_ms)}};
  chart.series = {{"toward speed", {}}, {"toward accuracy", {}}};
  for (std::size_t i = 0; i < profile.knobs.size(); ++i) {
    const KnobWorth& one = profile.knobs[i];
    PagePoint point;
    point.x = std::max(frame_ms - one.saved_ms, 1e-3 * frame_ms);
    point.y = one.change;
    point.label = fmt::format("{}: {} to {}", one.knob, one.from, one.to);
    point.values = {one.saved_ms >= 0 ? fmt::format("{:.4g} ms saved", one.saved_ms)
                                      : fmt::format("{:.4g} ms more", -one.saved_ms),
                    fmt::format("rmse {:.3g}", one.change)};
    point.row = i;
    chart.series[one.finer ? 1 : 0].points.push_back(std::move(point));
  }
  return chart;
}

PageTable errors_table(const FrameProfile& profile) {
  PageTable table;
  table.title = "Where the error comes from";
  table.note = fmt::format(
      "RMSE {:.3g} against everything at its best, on a sample of the pixels; what is left of it "
      "where one knob alone is at its best.",
      profile.error);
  table.heads = {{"rmse left", true}, {"knob", false}, {"from", false}, {"to", false}};
  for (const KnobError& one : profile.errors) {
    PageCell left = number_cell(one.left, fmt::format("{:.3g}", one.left));
    left.bar = one.left / std::max(profile.error, 1e-12);
    table.rows.emplace_back().cells = {
        std::move(left), {one.knob, {}}, {one.from, {}}, {one.to, {}}};
  }
  return table;
}

PageTable views_table(const std::vector<ViewTime>& views) {
  PageTable table;
  table.title = "Views";
  table.note = "All else on this page is of the slowest.";
  table.heads = {{"ms", true}, {"view", true}};
  for (const ViewTime& one : views) {
    PageCell ms = number_cell(one.ms, fmt::format("{:.4g}", one.ms));
    ms.bar = one.ms / views.front().ms;
    table.rows.emplace_back().cells = {std::move(ms), number_cell(static_cast<double>(one.view + 1),
                                                                  fmt::format("{}", one.view + 1))};
  }
  return table;
}

PageTable knobs_table(const std::vector<KnobWorth>& knobs) {
  PageTable table;
  table.title = "Knobs turned alone by one notch";
  table.note = "The best bargain first: much time for little change.";
  table.heads = {
      {"knob", false}, {"from", false}, {"to", false}, {"ms saved", true}, {"rmse changed", true}};
  for (const KnobWorth& one : knobs) {
    PageRow& row = table.rows.emplace_back();
    row.cells = {{one.knob, {}},
                 {one.from, {}},
                 {one.to, {}},
                 number_cell(one.saved_ms, fmt::format("{:.4g}", one.saved_ms)),
                 number_cell(one.change, fmt::format("{:.3g}", one.change))};
  }
  return table;
}

}  // namespace

std::string profile_page(const FrameProfile& profile, const std::string& title,
                         const RunFacts& facts) {
  Page page;
  page.title = title;
  page.facts = facts_of(facts);
  const Interval likely = interval_of_median(profile.frame_ms);
  page.lead = fmt::format("A frame takes {:.4g} ms ({:.4g} to {:.4g}) on {} thread{}.",
                          quantile(profile.frame_ms, 0.5), likely.low, likely.high,
                          profile.cost.threads, profile.cost.threads == 1 ? "" : "s");
  if (profile.frame) page.parts.emplace_back(pictures_of(*profile.frame));
  page.parts.emplace_back(stages_table(profile.cost));
  if (!profile.regions.empty()) page.parts.emplace_back(regions_table(profile.regions));
  if (!profile.knobs.empty()) {
    page.parts.emplace_back(knobs_chart(profile));
    page.parts.emplace_back(knobs_table(profile.knobs));
  }
  if (!profile.errors.empty()) page.parts.emplace_back(errors_table(profile));
  if (!profile.views.empty()) page.parts.emplace_back(views_table(profile.views));
  return page_html(page);
}

ResultFiles write_profile(const std::string& folder, const FrameProfile& profile,
                          const std::string& title, const RunFacts& facts) {
  make_folder(folder);
  const ResultFiles files{folder + "/profile.csv", folder + "/profile.json",
                          folder + "/report.html"};
  std::string csv = "work,lanes,ms,times,count\n";
  for (const Stage& stage : profile.cost.stages.list()) {
    csv += fmt::format("{},{},{},{},{}\n", name_of(stage.work), name_of(stage.lanes), stage.ms,
                       stage.times, stage.count);
  }
  csv += fmt::format("waiting,,{},,\n", profile.cost.waiting_ms);
  write_file(files.csv, csv);
  write_file(files.json, profile_json(profile));
  write_file(files.report, profile_page(profile, title, facts));
  return files;
}

}  // namespace photonlane::io
