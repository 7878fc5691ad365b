// Pages and files of sweeps and of tuning: settings as points of a chart and rows of a table.

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <limits>

#include "io/draw_plot.hpp"
#include "io/files.hpp"
#include "io/page_facts.hpp"
#include "io/run_pictures.hpp"
#include "io/sweep_words.hpp"
#include "photonlane/io/result_page.hpp"

namespace photonlane::io {
namespace {

const Metric& metric_of(const std::string& name) { return *parse_limit(name + "=0").metric; }

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
    chart.x_label = words_of(sweep_.by).axis;
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
                                           words_of(sweep_.by).head, point.low, point.high)
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
    table.heads.emplace_back(words_of(sweep_.by).head, true);
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
                     setting_words(sweep, best), best.total_ms.median, words_of(sweep.by).head,
                     metric.name, metric_text(metric, best.error));
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
