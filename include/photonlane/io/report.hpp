#pragma once

///   fputs(io::cost_text(frame).c_str(), stdout);
///   io::write_sweep("out", result, "what shadows cost");

#include <optional>
#include <string>
#include <vector>

#include "photonlane/field/sample.hpp"
#include "photonlane/fractal/landmark.hpp"
#include "photonlane/measure/check.hpp"
#include "photonlane/measure/difference.hpp"
#include "photonlane/measure/sweep.hpp"

namespace photonlane::io {

/// Tables for people: one line a row, columns aligned.
std::string difference_text(const Difference& difference);
std::string sweep_text(const Sweep& sweep);
/// What SweepOptions::first_look is told: counted work and the time of one frame of each.
std::string first_look_text(const Sweep& sweep);
/// A metric's value as tables have it: "equal" and "-" where it has none.
std::string metric_text(const Metric& metric, const Difference& difference);
/// A setting by its values; where knobs were turned one by one, by the one that was, with its last
/// word alone where that is told apart.
std::string setting_label(const Sweep& sweep, const Setting& setting);
std::string check_text(const SceneReport& report);
/// How far a frame of path-traced light has come, a line; nothing for others.
std::string path_text(const Frame& frame);
std::string cost_text(const Frame& frame);
std::string volume_text(const Volume& volume, const VolumeError& error);

/// How results were made and what they had to keep, for the files they are written to.
struct RunFacts {
  std::string command;                ///< that makes them again
  std::string scene;                  ///< its file
  std::string digest;                 ///< of all that the scene says, see scene_digest()
  int threads = 0;                    ///< that were asked for; 0: all
  std::vector<Limit> limits;          ///< of errors
  std::optional<double> most_ms;      ///< the median frame
  std::optional<double> most_p95_ms;  ///< 95 in 100 of the views' frames
  std::optional<std::size_t> chosen;  ///< of the settings: the best that keeps them
};

/// The same for programs: JSON objects, two spaces a level, with a last line feed. Numbers that do
/// not exist (the signal-to-noise ratio of equal frames) are null.
std::string difference_json(const Difference& difference);
std::string check_json(const SceneReport& report);
std::string frame_json(const Frame& frame);
std::string volume_json(const Volume& volume, const VolumeError& error);
std::string sweep_json(const Sweep& sweep, const RunFacts& facts = {});
std::string sweep_csv(const Sweep& sweep);

/// A gnuplot script, its data inside, that draws cost against error with the front of best choices
/// marked, limits as lines and what was chosen with a ring around it: gnuplot -c FILE png|svg
/// OUTPUT. `what` stands beside the title; empty: the knobs that vary.
std::string sweep_plot(const Sweep& sweep, const std::string& title, const RunFacts& facts = {},
                       const std::string& what = "");

/// A place of a plane, for people and for programs.
std::string landmark_text(const PlaneLandmark& landmark);
std::string landmark_json(const PlaneLandmark& landmark);

/// One frame of a zoom.
struct ZoomStep {
  PlaneWindow window;
  Cost cost;
  Tally tally;
  PlaneReport report;
};
/// A line a frame, with a head: width, number type, limit, time and steps.
std::string zoom_csv(const std::vector<ZoomStep>& steps);
/// The same as a list of objects, with all digits.
std::string zoom_json(const std::vector<ZoomStep>& steps);
/// Writes that to zoom.csv in a folder. Throws Error (file) where it cannot be written.
std::string write_zoom(const std::string& folder, const std::vector<ZoomStep>& steps);

/// What write_sweep left in a folder.
struct SweepFiles {
  std::string csv, json, script, png, svg;
  std::string lines_png, lines_svg;  ///< of sweeps over two knobs, one of them of numbers
  std::string report;                ///< a page for a browser
  std::string problem;  ///< why there are no plots, and what to do about it; empty where there are
};

/// A script that draws error and time along a knob of numbers, a line for each value of the other;
/// nothing where the sweep is not over two knobs such.
std::optional<std::string> sweep_lines(const Sweep& sweep, const std::string& title);

/// Writes sweep.csv, sweep.json, report.html, cost-error.gp, where it has one lines.gp, and where
/// gnuplot is installed, cost-error.png and cost-error.svg. The report has the pictures that
/// run_sweep() left in the folder. Throws Error (file) where the folder cannot be written.
SweepFiles write_sweep(const std::string& folder, const Sweep& sweep, const std::string& title,
                       const RunFacts& facts = {});

}  // namespace photonlane::io
