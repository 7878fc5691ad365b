#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <limits>

#include "io/cost_words.hpp"
#include "io/draw_plot.hpp"
#include "io/files.hpp"
#include "io/page.hpp"
#include "io/run_pictures.hpp"
#include "io/sweep_words.hpp"
#include "photonlane/io/cost_text.hpp"
#include "photonlane/io/layer_picture.hpp"
#include "photonlane/io/machine.hpp"
#include "photonlane/io/output.hpp"
#include "photonlane/io/result_page.hpp"
#include "photonlane/measure/named_setting.hpp"

namespace photonlane::io {
namespace {

const Metric& metric_of(const std::string& name) { return *parse_limit(name + "=0").metric; }

std::vector<std::pair<std::string, std::string>> facts_of(const RunFacts& facts) {
  std::vector<std::pair<std::string, std::string>> list;
  const auto add = [&](const char* name, const std::string& text) {
    if (!text.empty()) list.emplace_back(name, text);
  };
  add("command", facts.command);
  add("scene", facts.scene);
  add("digest of the scene", facts.digest);
  add("date", date_text());
  add("machine", machine_name());
  add("threads", facts.threads > 0 ? fmt::format("{}", facts.threads) : "all");
  add("version", PHOTONLANE_VERSION);
  return list;
}

std::string limits_text(const RunFacts& facts) {
  std::string text;
  const auto add = [&](const std::string& one) { text += (text.empty() ? "" : ", ") + one; };
  for (const Limit& limit : facts.limits) {
    add(fmt::format("{} {} {:g}", limit.metric->name,
                    limit.metric->more_is_better ? "at least" : "at most", limit.bound));
  }
  if (facts.most_ms) add(fmt::format("{:g} ms at most", *facts.most_ms));
  if (facts.most_p95_ms) add(fmt::format("{:g} ms at most for 95 in 100", *facts.most_p95_ms));
  return text;
}

PageCell number_cell(double value, std::string text) { return {std::move(text), value}; }

PageCell metric_cell(const Metric& metric, const Difference& error) {
  const auto value = metric.value(error);
  // Equal frames have no signal-to-noise ratio: nothing is better.
  const double worst = std::numeric_limits<double>::max();
  return {metric_text(metric, error), value.value_or(metric.more_is_better ? worst : 0)};
}

/// Pictures of a run that are there, and which one each has.
class Pictures {
 public:
  explicit Pictures(Page& page) : page_(page) {}

  std::optional<std::size_t> add(const std::string& name, const std::string& path) {
    std::error_code ignored;
    if (!std::filesystem::exists(path, ignored)) return std::nullopt;
    try {
      page_.pictures.push_back({name, read_png(path)});
    } catch (const Error&) {
      return std::nullopt;  // one that was cut short is as good as none
    }
    return page_.pictures.size() - 1;
  }

 private:
  Page& page_;
};

/// Settings as points of a chart and rows of a table.
class SettingRows {
 public:
  SettingRows(const Sweep& sweep, const RunFacts& facts)
      : sweep_(sweep),
        facts_(facts),
        metric_(metric_of(sweep.metric)),
        timed_(sweep.by != RankBy::work) {}

  PageChart chart(const std::vector<std::optional<std::size_t>>& pictures) {
    const std::vector<std::string> series = series_of(sweep_);
    PageChart chart;
    chart.title = "Cost against error";
    chart.note =
        fmt::format("{}: {}. ", metric_.name, metric_.help) +
        "Each point is a setting; larger ones are not beaten in both time and error. Hover for "
        "values, click to see the picture at the right.";
    chart.x_label = cost_axis(sweep_);
    chart.y_label =
        std::string(metric_.name) + (metric_.unit.empty() ? "" : fmt::format(", {}", metric_.unit));
    chart.x_log = true;
    chart.y_log = !metric_.more_is_better;
    for (std::size_t i = 0; i < sweep_.settings.size(); ++i) {
      const Setting& setting = sweep_.settings[i];
      PagePoint point;
      point.x = setting.total_ms.median;
      point.y = metric_.value(setting.error).value_or(std::numeric_limits<double>::quiet_NaN());
      point.low = setting.total_likely.low;
      point.high = setting.total_likely.high;
      point.label = setting_words(sweep_, setting);
      point.values = {timed_ ? fmt::format("{:.4g} {} ({:.4g} to {:.4g})", point.x,
                                           cost_words(sweep_), point.low, point.high)
                             : fmt::format("{:.4g} of work", point.x),
                      fmt::format("{} {}", metric_.name, metric_text(metric_, setting.error))};
      point.front = setting.on_front;
      point.row = i;
      point.picture = pictures[i];
      if (facts_.chosen == i) chart.chosen = {point.x, point.y};
      const std::string name = series[i].empty() ? "settings" : series[i];
      auto found = std::find_if(chart.series.begin(), chart.series.end(),
                                [&](const PageSeries& one) { return one.name == name; });
      if (found == chart.series.end()) found = chart.series.insert(found, {name, {}});
      found->points.push_back(std::move(point));
    }
    for (const Limit& limit : facts_.limits) {
      if (limit.metric->name != metric_.name) continue;
      chart.lines.push_back(
          {false, limit.bound, fmt::format("{} {:g}", metric_.name, limit.bound)});
    }
    if (facts_.most_ms) {
      chart.lines.push_back({true, *facts_.most_ms, fmt::format("{:g} ms", *facts_.most_ms)});
    }
    return chart;
  }

  PageTable table(const std::vector<std::optional<std::size_t>>& pictures) const {
    PageTable table;
    table.title = "Settings";
    table.note =
        "front: no other setting is better in both time and " + sweep_.metric +
        ", as far as noise tells. A click on a head sorts by it, a click on a row shows its "
        "picture at the right.";
    for (const std::string& knob : sweep_.knobs) {
      table.heads.emplace_back(knob, numbers(table.heads.size()));
    }
    table.heads.emplace_back(cost_words(sweep_), true);
    if (timed_) table.heads.emplace_back("likely", true);
    if (timed_ && sweep_.views > 1) table.heads.emplace_back("p95 ms", true);
    const bool counted = sweep_.settings.front().tally.lanes > 0;
    if (counted) table.heads.emplace_back("steps/lane", true);
    for (const Metric& metric : metrics()) {
      table.heads.emplace_back(
          fmt::format("{}{}{}", metric.name, metric.unit.empty() ? "" : " ", metric.unit), true);
    }
    table.heads.emplace_back("front", false);
    for (std::size_t i = 0; i < sweep_.settings.size(); ++i) {
      const Setting& setting = sweep_.settings[i];
      PageRow& row = table.rows.emplace_back();
      row.chosen = facts_.chosen == i;
      row.picture = pictures[i];
      for (const std::string& value : setting.values) row.cells.push_back({value, {}});
      row.cells.push_back(
          number_cell(setting.total_ms.median, fmt::format("{:.4g}", setting.total_ms.median)));
      if (timed_) {
        row.cells.push_back(number_cell(
            setting.total_likely.low,
            fmt::format("{:.4g} to {:.4g}", setting.total_likely.low, setting.total_likely.high)));
      }
      if (timed_ && sweep_.views > 1) {
        row.cells.push_back(number_cell(setting.p95_ms, fmt::format("{:.4g}", setting.p95_ms)));
      }
      if (counted) {
        row.cells.push_back(number_cell(setting.tally.steps_per_lane(),
                                        fmt::format("{:.1f}", setting.tally.steps_per_lane())));
      }
      for (const Metric& metric : metrics())
        row.cells.push_back(metric_cell(metric, setting.error));
      row.cells.push_back({setting.on_front ? "yes" : "", {}});
    }
    return table;
  }

 private:
  bool numbers(std::size_t knob) const {
    return std::all_of(sweep_.settings.begin(), sweep_.settings.end(), [&](const Setting& setting) {
      const std::string& value = setting.values[knob];
      return value == "-" || value.find_first_not_of("0123456789.+-e") == value.npos;
    });
  }

  const Sweep& sweep_;
  const RunFacts& facts_;
  const Metric& metric_;
  bool timed_;
};

std::string best_text(const Sweep& sweep, const RunFacts& facts) {
  const std::string limits = limits_text(facts);
  if (limits.empty()) return "";
  if (!facts.chosen) return "No setting keeps " + limits + ".";
  const Setting& best = sweep.settings[*facts.chosen];
  const Metric& metric = metric_of(sweep.metric);
  return fmt::format("{} with {}: {}: {:.4g} {}, {} {}.",
                     facts.most_ms || facts.most_p95_ms ? "Most accurate" : "Cheapest", limits,
                     setting_words(sweep, best), best.total_ms.median, cost_words(sweep),
                     metric.name, metric_text(metric, best.error));
}

std::string csv_word(const std::string& text) {
  if (text.find_first_of(",\"\n\r") == text.npos) return text;
  std::string word = "\"";
  for (const char c : text) word += c == '"' ? std::string("\"\"") : std::string(1, c);
  return word + "\"";
}

Picture picture_of(const Frame& frame) {
  Frame shown = frame;
  if (!shown.has(Layer::display)) encode_display(shown);
  return to_picture(shown);
}

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
      "worked at "
      "together, of 128 in a full batch.";
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

std::string sweep_page(const Sweep& sweep, const std::string& title, const RunFacts& facts,
                       const std::string& folder) {
  Page page;
  page.title = title;
  page.lead = best_text(sweep, facts);
  page.facts = facts_of(facts);
  Pictures pictures(page);
  std::vector<std::optional<std::size_t>> own(sweep.settings.size());
  // Of very many settings only those that may be chosen have their pictures in the page.
  constexpr std::size_t many = 120;
  for (std::size_t i = 0; i < sweep.settings.size(); ++i) {
    const Setting& setting = sweep.settings[i];
    if (sweep.settings.size() > many && !setting.on_front && i > 0 && facts.chosen != i) continue;
    own[i] = pictures.add(setting_words(sweep, setting), setting_picture(folder, i));
  }
  const auto reference = pictures.add("reference", reference_picture(folder));
  PageComparison comparison;
  if (page.pictures.size() > 1) {
    const std::size_t first = own[facts.chosen.value_or(0)].value_or(0);
    comparison = {first, reference.value_or(page.pictures.size() - 1)};
  }
  SettingRows settings(sweep, facts);
  page.parts = {settings.chart(own), comparison, settings.table(own)};
  return page_html(page);
}

std::string tune_page(const Tuned& tuned, const std::string& title, const RunFacts& facts,
                      const std::string& folder) {
  const Sweep sweep = as_sweep(tuned);
  Page page;
  page.title = title;
  page.facts = facts_of(facts);
  page.lead = best_text(sweep, facts);
  if (!tuned.chosen_ms.empty()) {
    page.lead += fmt::format(" Whole frames: {:.4g} ms before, {:.4g} ms with it.",
                             quantile(tuned.base_ms, 0.5), quantile(tuned.chosen_ms, 0.5));
  }
  Pictures pictures(page);
  std::vector<std::optional<std::size_t>> own(sweep.settings.size());
  own[0] = pictures.add("before", tuned_picture(folder, false));
  const std::size_t found = tuned.chosen.value_or(tuned.nearest);
  if (found > 0) {
    own[found] = pictures.add(tuned.kept() ? "chosen" : "nearest", tuned_picture(folder, true));
  }
  SettingRows settings(sweep, facts);
  PageChart chart = settings.chart(own);
  chart.note =
      "Each point is a setting that was tried on a sample of the pixels; times are what its "
      "counted "
      "work costs here. Larger ones are not beaten in both. Hover for values.";
  PageTable knobs;
  knobs.title = tuned.kept() ? "What was found" : "What comes nearest";
  knobs.heads = {{"knob", false}, {"before", false}, {"found", false}};
  for (std::size_t k = 0; k < tuned.knobs.size(); ++k) {
    const std::string& before = tuned.trials.front().values[k];
    const std::string& after = tuned.best().values[k];
    if (after == before || after == "-") continue;
    knobs.rows.push_back({{{tuned.knobs[k], {}}, {before, {}}, {after, {}}}, false, {}});
  }
  page.parts.emplace_back(std::move(chart));
  if (!knobs.rows.empty()) page.parts.emplace_back(std::move(knobs));
  if (page.pictures.size() == 1) {
    page.parts.emplace_back(PageFigures{"The frame, as it was and is", std::move(page.pictures)});
    page.pictures.clear();
  }
  page.parts.emplace_back(PageComparison{});
  page.parts.emplace_back(settings.table(own));
  return page_html(page);
}

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

std::string judgements_page(const std::vector<Judgement>& judgements, const RunFacts& facts) {
  Page page;
  const auto broken = std::count_if(judgements.begin(), judgements.end(),
                                    [](const Judgement& one) { return !one.holds(); });
  page.title = "Judged against what was kept";
  page.lead = broken == 0 ? fmt::format("All {} hold.", judgements.size())
                          : fmt::format("{} of {} do not hold.", broken, judgements.size());
  page.facts = facts_of(facts);
  PageTable table;
  table.title = "Scenes";
  table.note =
      "Marked are those that do not hold. A click on a row shows its picture as it is now "
      "at the right.";
  table.heads = {{"scene", false},       {"holds", false}, {"rmse", true},
                 {"work, times", true},  {"count", false}, {"time, times", true},
                 {"likely, from", true}, {"to", true}};
  std::optional<std::size_t> first;
  for (const Judgement& one : judgements) {
    PageRow& row = table.rows.emplace_back();
    row.chosen = !one.holds();
    const double rmse = one.difference ? one.difference->rmse : 0.0;
    row.cells = {{one.scene, {}},
                 {one.holds() ? "yes" : "no", {}},
                 one.difference || one.same_picture
                     ? number_cell(rmse, one.same_picture ? "same" : fmt::format("{:.3g}", rmse))
                     : PageCell{"another size", std::numeric_limits<double>::max()},
                 number_cell(one.work, fmt::format("{:.4g}", one.work)),
                 {one.most_work, {}}};
    for (const double value : {one.time, one.time_interval.low, one.time_interval.high}) {
      row.cells.push_back(one.timed ? number_cell(value, fmt::format("{:.3f}", value))
                                    : PageCell{"", {}});
    }
    if (!one.kept || !one.made) continue;
    page.pictures.push_back({one.scene + ", kept", picture_of(*one.kept)});
    row.picture = page.pictures.size();
    page.pictures.push_back({one.scene + ", now", picture_of(*one.made)});
    if (!first && !one.holds()) first = *row.picture;
  }
  page.parts.emplace_back(std::move(table));
  const std::size_t now = first.value_or(1);
  page.parts.emplace_back(PageComparison{now - 1, now});
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

ResultFiles write_judgements(const std::string& folder, const std::vector<Judgement>& judgements,
                             const RunFacts& facts) {
  make_folder(folder);
  const ResultFiles files{folder + "/judge.csv", folder + "/judge.json", folder + "/report.html"};
  std::string csv =
      "scene,holds,same_picture,rmse,work,most_work,time,time_low,time_high,other_machine\n";
  for (const Judgement& one : judgements) {
    csv += fmt::format("{},{},{},{},{},{},", csv_word(one.scene), one.holds(), one.same_picture,
                       one.difference ? fmt::format("{}", one.difference->rmse) : "", one.work,
                       one.most_work);
    csv += one.timed ? fmt::format("{},{},{},{}\n", one.time, one.time_interval.low,
                                   one.time_interval.high, one.other_machine)
                     : ",,,\n";
  }
  write_file(files.csv, csv);
  write_file(files.json, judgements_json(judgements));
  write_file(files.report, judgements_page(judgements, facts));
  return files;
}

SweepFiles write_sweep(const std::string& folder, const Sweep& sweep, const std::string& title,
                       const RunFacts& facts) {
  make_folder(folder);
  const std::string base = folder + "/";
  SweepFiles files{base + "sweep.csv", base + "sweep.json", base + "cost-error.gp",
                   base + "cost-error.png", base + "cost-error.svg"};
  write_file(files.csv, sweep_csv(sweep));
  write_file(files.json, sweep_json(sweep, facts));
  write_file(files.script, sweep_plot(sweep, title, facts));
  files.problem = draw_plot(files.script, files.png, files.svg);
  if (const auto lines = sweep_lines(sweep, title)) {
    const std::string script = base + "lines.gp";
    write_file(script, *lines);
    files.lines_png = base + "lines.png";
    files.lines_svg = base + "lines.svg";
    const std::string problem = draw_plot(script, files.lines_png, files.lines_svg);
    if (files.problem.empty()) files.problem = problem;
  }
  files.report = base + "report.html";
  write_file(files.report, sweep_page(sweep, title, facts, folder));
  return files;
}

TuneFiles write_tune(const std::string& folder, const Tuned& tuned, const std::string& title,
                     const RunFacts& given) {
  make_folder(folder);
  RunFacts facts = given;
  facts.chosen = tuned.chosen;
  TuneFiles files{folder + "/tune.csv",       folder + "/tune.json",
                  folder + "/budget.yaml",    folder + "/cost-error.gp",
                  folder + "/cost-error.png", folder + "/cost-error.svg"};
  write_file(files.csv, tune_csv(tuned));
  write_file(files.json, tune_json(tuned, facts));
  write_file(files.budget, budget_yaml(tuned.best().budget));
  write_file(files.script, sweep_plot(as_sweep(tuned), title, facts, "settings that were tried"));
  files.problem = draw_plot(files.script, files.png, files.svg);
  files.report = folder + "/report.html";
  write_file(files.report, tune_page(tuned, title, facts, folder));
  return files;
}

}  // namespace photonlane::io
