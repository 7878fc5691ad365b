#pragma once

///   io::write_profile("out", profile, "evening", {.command = "photonlane profile evening.yaml"});

#include <string>
#include <vector>

#include "photonlane/io/keep.hpp"
#include "photonlane/io/report.hpp"
#include "photonlane/io/tune_run.hpp"
#include "photonlane/measure/profile.hpp"

namespace photonlane::io {

/// Results as one HTML file that opens without a network: charts with values on hover, two pictures
/// with a slider or as their difference, tables that sort by a click on a head. Pictures are those
/// that run_sweep() and run_tune() left in `folder`/pictures; what is not there is left out.
std::string sweep_page(const Sweep& sweep, const std::string& title, const RunFacts& facts,
                       const std::string& folder);
std::string tune_page(const Tuned& tuned, const std::string& title, const RunFacts& facts,
                      const std::string& folder);
std::string profile_page(const FrameProfile& profile, const std::string& title,
                         const RunFacts& facts);
std::string judgements_page(const std::vector<Judgement>& judgements, const RunFacts& facts);

/// What write_profile and write_judgements leave in a folder.
struct ResultFiles {
  std::string csv, json, report;
};

/// Writes profile.csv (the stages), profile.json and report.html. Throws Error (file) where the
/// folder cannot be written.
ResultFiles write_profile(const std::string& folder, const FrameProfile& profile,
                          const std::string& title, const RunFacts& facts);
/// Writes judge.csv, judge.json and report.html. Throws as write_profile.
ResultFiles write_judgements(const std::string& folder, const std::vector<Judgement>& judgements,
                             const RunFacts& facts);

}  // namespace photonlane::io
