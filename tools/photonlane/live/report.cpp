#include "live/report.hpp"

#include <algorithm>

namespace photonlane::live {

std::string report_of(const std::vector<Tried>& tried, const Settings& base, const Budget& best,
                      const std::string& title, const std::string& scene) {
  Sweep sweep;
  sweep.metric = "rmse";
  sweep.reference = best;
  sweep.reference_kind = ReferenceKind::varied;
  for (const Tried& one : tried) {
    for (const auto& [name, value] : one.changed) {
      if (std::find(sweep.knobs.begin(), sweep.knobs.end(), name) == sweep.knobs.end()) {
        sweep.knobs.push_back(name);
      }
    }
  }
  if (sweep.knobs.empty()) sweep.knobs.push_back("frame.samples");
  for (const Tried& one : tried) {
    if (!one.error || one.ms.empty()) continue;
    Setting setting;
    for (const std::string& knob : sweep.knobs) {
      const auto changed = std::find_if(one.changed.begin(), one.changed.end(),
                                        [&](const auto& change) { return change.first == knob; });
      setting.values.push_back(changed == one.changed.end() ? setting_text(base, knob)
                                                            : changed->second);
    }
    setting.budget = one.settings.budget;
    setting.camera = one.settings.camera;
    setting.numbers = one.settings.numbers;
    setting.total_ms = summarize(one.ms);
    setting.total_likely = interval_of_median(one.ms);
    setting.error = *one.error;
    setting.error.errors = {};
    sweep.settings.push_back(std::move(setting));
  }
  if (sweep.settings.empty()) {
    throw Error(ErrorKind::usage, "no setting's error is known yet, so there is nothing to report");
  }
  mark_front(sweep.settings, *parse_limit("rmse=0").metric);
  io::RunFacts facts;
  facts.command = "photonlane live " + scene;
  facts.scene = scene;
  return io::sweep_page(sweep, title, facts, "");
}

}  // namespace photonlane::live
