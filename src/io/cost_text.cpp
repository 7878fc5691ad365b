#include "photonlane/io/cost_text.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "io/cost_words.hpp"
#include "io/json.hpp"
#include "io/run_parts.hpp"
#include "io/text_table.hpp"

namespace photonlane::io {
std::string_view lanes_in_words(LaneKind kind) {
  switch (kind) {
    case LaneKind::frame:
      return "";
    case LaneKind::eye:
      return "from the eye";
    case LaneKind::behind:
      return "behind what is clear";
    case LaneKind::portals:
      return "behind portals";
    case LaneKind::bounces:
      return "reflected, refracted";
    case LaneKind::sun:
      return "toward the sun";
    case LaneKind::lamps:
      return "toward lamps";
    case LaneKind::corners:
      return "ambient occlusion";
    case LaneKind::fog:
      return "shadows in fog";
  }
  return "";
}

std::string_view work_in_words(Work work) {
  switch (work) {
    case Work::setup:
      return "setting up";
    case Work::aim:
      return "aiming";
    case Work::cells:
      return "stepping through cells";
    case Work::prune:
      return "pruning fields";
    case Work::march:
      return "evaluating fields";
    case Work::refine:
      return "refining hits";
    case Work::normals:
      return "normals";
    case Work::solids:
      return "spheres and voxels";
    case Work::portals:
      return "going through portals";
    case Work::iterate:
      return "iterating points";
    case Work::paint:
      return "materials, textures";
    case Work::pattern:
      return "patterns";
    case Work::light:
      return "light arithmetic";
    case Work::sprites:
      return "sprites";
    case Work::order:
      return "handling batches";
    case Work::pixels:
      return "filling pixels";
    case Work::rest:
      return "other";
  }
  return "";
}

std::string at_a_time(const Stage& stage) {
  if (stage.count == 0 || stage.times == 0) return "";
  return fmt::format("{:.0f}", static_cast<double>(stage.count) / static_cast<double>(stage.times));
}

std::string stages_text(const Cost& cost, double least) {
  const double busy = cost.stages.total_ms();
  const double all = busy + cost.waiting_ms;
  std::vector<std::vector<std::string>> rows{
      {"ms", "share", "lanes or places", "at a time", "ns each", "work", "for lanes"}};
  double small = 0;
  std::size_t left_out = 0;
  const auto share = [&](double ms) {
    return fmt::format("{:.1f} %", 100 * ms / std::max(all, 1e-12));
  };
  for (const Stage& stage : cost.stages.list()) {
    if (stage.ms < least * all) {
      small += stage.ms;
      ++left_out;
      continue;
    }
    rows.push_back({fmt::format("{:.2f}", stage.ms), share(stage.ms),
                    stage.count == 0 ? "" : fmt::format("{}", stage.count), at_a_time(stage),
                    stage.count == 0 ? "" : fmt::format("{:.0f}", stage.ns_each()),
                    std::string(work_in_words(stage.work)),
                    std::string(lanes_in_words(stage.lanes))});
  }
  if (left_out > 0) {
    rows.push_back({fmt::format("{:.2f}", small), share(small), "", "", "",
                    fmt::format("{} smaller ones", left_out), ""});
  }
  rows.push_back({fmt::format("{:.2f}", cost.waiting_ms), share(cost.waiting_ms), "", "", "",
                  "waiting for other threads", ""});
  return fmt::format("{} thread{}, {:.2f} ms of work:\n", cost.threads,
                     cost.threads == 1 ? "" : "s", busy) +
         aligned(rows, {.left = {5, 6}});
}

namespace {

std::string views_text(const FrameProfile& profile) {
  if (profile.views.empty()) return "";
  std::vector<double> times;
  for (const ViewTime& one : profile.views) times.push_back(one.ms);
  const ViewTime& slowest = profile.views.front();
  return fmt::format(
      "{} views: {:.4g} ms in the middle, 95 in 100 within {:.4g} ms, the slowest is number {} "
      "with {:.4g} ms; of that one:\n",
      times.size(), quantile(times, 0.5), quantile(times, 0.95), slowest.view + 1, slowest.ms);
}

}  // namespace

std::string profile_text(const FrameProfile& profile) {
  const Interval interval = interval_of_median(profile.frame_ms);
  std::string text = views_text(profile);
  text += fmt::format("a frame takes {:.4g} ms ({:.4g} to {:.4g})\n",
                      quantile(profile.frame_ms, 0.5), interval.low, interval.high);
  text += stages_text(profile.cost);
  if (!profile.regions.empty()) {
    std::vector<std::vector<std::string>> rows{{"pixels", "share of time", "of pixels", "why"}};
    for (const DearRegion& one : profile.regions) {
      rows.push_back({fmt::format("{},{},{}x{}", one.part.x, one.part.y, one.part.size.width,
                                  one.part.size.height),
                      fmt::format("{:.1f} %", 100 * one.share),
                      fmt::format("{:.1f} %", 100 * one.pixels), one.why});
    }
    text += "the dearest regions:\n" + aligned(rows, {.left = {0, 3}});
  }
  if (!profile.knobs.empty()) {
    std::vector<std::vector<std::string>> rows{{"knob", "turned", "ms saved", "rmse changed"}};
    for (const KnobWorth& one : profile.knobs) {
      rows.push_back({one.knob, one.from + " to " + one.to, fmt::format("{:.3g}", one.saved_ms),
                      one.change == 0 ? "0" : fmt::format("{:.2g}", one.change)});
    }
    text += "what each knob is worth, turned alone by one notch, the best bargain first:\n" +
            aligned(rows, {.left = {0, 1}});
  }
  if (!profile.errors.empty()) {
    std::vector<std::vector<std::string>> rows{{"knob", "at its best", "rmse left"}};
    for (const KnobError& one : profile.errors) {
      rows.push_back({one.knob, one.from + " to " + one.to, fmt::format("{:.3g}", one.left)});
    }
    text +=
        fmt::format(
            "where the error comes from: rmse {:.3g} against everything at its best, and what is "
            "left of it where one knob alone is at its best (the others take off less than a "
            "hundredth):\n",
            profile.error) +
        aligned(rows, {.left = {0, 1}});
  }
  if (!profile.idle.empty()) {
    text += "without effect here:";
    for (const std::string& knob : profile.idle) text += " " + knob;
    text += "\n";
  }
  return text;
}

std::string profile_json(const FrameProfile& profile) {
  Json stages = Json::array();
  for (const Stage& stage : profile.cost.stages.list()) stages.push_back(stage_object(stage));
  Json regions = Json::array();
  for (const DearRegion& one : profile.regions) {
    regions.push_back({{"x", one.part.x},
                       {"y", one.part.y},
                       {"width", one.part.size.width},
                       {"height", one.part.size.height},
                       {"share", one.share},
                       {"pixels", one.pixels},
                       {"why", one.why}});
  }
  Json knobs = Json::array();
  for (const KnobWorth& one : profile.knobs) {
    knobs.push_back({{"knob", one.knob},
                     {"from", one.from},
                     {"to", one.to},
                     {"saved_ms", one.saved_ms},
                     {"rmse_changed", one.change},
                     {"finer", one.finer}});
  }
  Json errors = Json::array();
  for (const KnobError& one : profile.errors) {
    errors.push_back(
        {{"knob", one.knob}, {"from", one.from}, {"to", one.to}, {"rmse_left", one.left}});
  }
  Json views = Json::array();
  for (const ViewTime& one : profile.views) views.push_back({{"view", one.view}, {"ms", one.ms}});
  return json_text({{"views", std::move(views)},
                    {"rmse", profile.error},
                    {"errors", std::move(errors)},
                    {"frame_ms", profile.frame_ms},
                    {"tally", to_json(profile.tally)},
                    {"threads", profile.cost.threads},
                    {"waiting_ms", profile.cost.waiting_ms},
                    {"stages", std::move(stages)},
                    {"regions", std::move(regions)},
                    {"knobs", std::move(knobs)},
                    {"idle", profile.idle}});
}

std::string prediction_text(const Prediction& prediction, Size size) {
  return fmt::format(
      "{}x{}: {:.4g} ms, {:.4g} to {:.4g} in 90 of 100 cases; {:.1f} MiB\n"
      "told by {:.2g} % of the pixels in {:.4g} ms\n",
      size.width, size.height, prediction.ms, prediction.likely.low, prediction.likely.high,
      static_cast<double>(prediction.memory_bytes) / 0x1p20, 100 * prediction.share,
      prediction.spent_ms);
}

std::string prediction_json(const Prediction& prediction) {
  return json_text({{"ms", prediction.ms},
                    {"low_ms", prediction.likely.low},
                    {"high_ms", prediction.likely.high},
                    {"memory_bytes", prediction.memory_bytes},
                    {"share", prediction.share},
                    {"spent_ms", prediction.spent_ms}});
}

}  // namespace photonlane::io
