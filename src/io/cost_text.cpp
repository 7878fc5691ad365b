#include "photonlane/io/cost_text.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "io/json.hpp"
#include "io/text_table.hpp"

namespace photonlane::io {
namespace {

/// Lanes of a stage in words.
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
      return "spheres";
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

}  // namespace

std::string stages_text(const Cost& cost, double least) {
  const double busy = cost.stages.total_ms();
  const double all = busy + cost.waiting_ms;
  std::vector<std::vector<std::string>> rows{
      {"ms", "share", "lanes or places", "ns each", "work", "for lanes"}};
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
                    stage.count == 0 ? "" : fmt::format("{}", stage.count),
                    stage.count == 0 ? "" : fmt::format("{:.0f}", stage.ns_each()),
                    std::string(work_in_words(stage.work)),
                    std::string(lanes_in_words(stage.lanes))});
  }
  if (left_out > 0) {
    rows.push_back({fmt::format("{:.2f}", small), share(small), "", "",
                    fmt::format("{} smaller ones", left_out), ""});
  }
  rows.push_back({fmt::format("{:.2f}", cost.waiting_ms), share(cost.waiting_ms), "", "",
                  "waiting for other threads", ""});
  return fmt::format("{} thread{}, {:.2f} ms of work:\n", cost.threads,
                     cost.threads == 1 ? "" : "s", busy) +
         aligned(rows, {.left = {4, 5}});
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
