// The page and the files of what was judged.

#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "io/files.hpp"
#include "io/page_facts.hpp"
#include "photonlane/io/result_page.hpp"

namespace photonlane::io {
namespace {

std::string csv_word(const std::string& text) {
  if (text.find_first_of(",\"\n\r") == text.npos) return text;
  std::string word = "\"";
  for (const char c : text) word += c == '"' ? std::string("\"\"") : std::string(1, c);
  return word + "\"";
}

}  // namespace

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

}  // namespace photonlane::io
