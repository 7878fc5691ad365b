#pragma once

///   const Tuned tuned = io::run_tune(file, "tuned", options, {});
///   fputs(io::tune_text(tuned).c_str(), stdout);

#include <string>
#include <vector>

#include "photonlane/io/report.hpp"
#include "photonlane/io/runs.hpp"
#include "photonlane/measure/tune.hpp"

namespace photonlane::io {

/// Tunes the budget of a scene. Trials and references are kept in the folder as they come, so that
/// a run that was stopped goes on with `resume` (see RunOptions). tune.csv and budget.yaml are
/// written whenever something better was found; write_tune() writes all at the end.
Tuned run_tune(const SceneFile& file, const std::string& folder, TuneOptions options,
               const RunOptions& run);

/// What was found and at what price, for people; the trials as a table; all of it for programs.
std::string tune_text(const Tuned& tuned);
std::string tune_csv(const Tuned& tuned);
std::string tune_json(const Tuned& tuned, const RunFacts& facts = {});

/// The trials as settings of a sweep, the base first: for its plot and its tables.
Sweep as_sweep(const Tuned& tuned);

/// The budget as a part of a scene file: "budget:" and what is not as it would be without it.
std::string budget_yaml(const Budget& budget);

struct TuneFiles {
  std::string csv, json, budget, script, png, svg;
  std::string report;   ///< a page for a browser
  std::string problem;  ///< why there are no plots; empty where there are
};
/// Throws Error (file) where the folder cannot be written.
TuneFiles write_tune(const std::string& folder, const Tuned& tuned, const std::string& title,
                     const RunFacts& facts);

}  // namespace photonlane::io
