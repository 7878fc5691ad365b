#include "photonlane/io/walk_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "io/files.hpp"
#include "io/read_node.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/io/plan_picture.hpp"
#include "photonlane/measure/statistics.hpp"

namespace photonlane::io {
namespace {

/// When the body first stood in the goal, if it did.
std::optional<double> goal_time(const WalkRecord& record) {
  for (const WalkStep& step : record.steps) {
    if (step.in_goal) return step.time;
  }
  return std::nullopt;
}

double length_of(const WalkRecord& record) {
  double length = 0;
  for (std::size_t i = 1; i < record.steps.size(); ++i) {
    length += (record.steps[i].place - record.steps[i - 1].place).norm();
  }
  return length;
}

int contacts_of(const WalkRecord& record) {
  int contacts = 0;
  for (const WalkStep& step : record.steps) contacts += step.contacts;
  return contacts;
}

Statistics frame_times(const WalkRecord& record) {
  std::vector<double> times;
  for (const Cost& cost : record.costs) times.push_back(cost.cast_ms + cost.fill_ms);
  return summarize(times);
}

std::string path_csv(const WalkRecord& record) {
  std::string text = "frame,time,x,y,heading,contacts,in_goal,cast_ms,fill_ms,encode_ms\n";
  for (std::size_t i = 0; i < record.steps.size(); ++i) {
    const WalkStep& step = record.steps[i];
    const Cost& cost = record.costs[i];
    text += fmt::format("{},{:.6g},{:.9g},{:.9g},{:.9g},{},{},{},{},{}\n", i, step.time,
                        step.place.x(), step.place.y(), step.heading / degrees(1), step.contacts,
                        step.in_goal ? 1 : 0, cost.cast_ms, cost.fill_ms, cost.encode_ms);
  }
  return text;
}

}  // namespace

WalkScript read_walk_script(const std::string& path) {
  const Node root = parse_document(read_file(path), path);
  WalkScript script;
  read_node(root, "walk", walk_script_knobs(), script, [&](const std::string&, const Node& moves) {
    for (const Node& node : moves.list("moves")) {
      WalkMove move;
      read_plain(node, "move", walk_move_knobs(), move);
      script.moves.push_back(move);
    }
  });
  if (script.moves.empty()) root.refuse("no moves, expected moves: [{forward: 2, over: 1}, ...]");
  return script;
}

std::size_t WalkRecord::slowest() const {
  const auto time = [](const Cost& cost) { return cost.cast_ms + cost.fill_ms; };
  const auto found = std::max_element(
      costs.begin(), costs.end(), [&](const Cost& a, const Cost& b) { return time(a) < time(b); });
  return static_cast<std::size_t>(found - costs.begin());
}

WalkRecord play_walk(const SceneFile& file, const WalkScript& script, const std::string& folder,
                     RenderOptions options) {
  WalkRecord record;
  record.steps = walk(file.scene.room().solids.front(), file.camera, script);
  const World world = compile(file.scene);
  const auto progress = std::move(options.progress);
  options.progress = {};
  options.layers = {Layer::display};
  Frame frame;
  PlanOptions plan;
  for (std::size_t i = 0; i < record.steps.size(); ++i) {
    RenderOptions one = options;
    one.recycle = std::move(frame);
    frame = render(world, camera_at(file.camera, record.steps[i]), file.budget, std::move(one));
    write_frame(fmt::format("{}/frame-{:05}.png", folder, i), frame);
    record.costs.push_back(frame.cost);
    plan.path.push_back(record.steps[i].place);
    const double share = static_cast<double>(i + 1) / static_cast<double>(record.steps.size());
    if (progress && !progress(share)) throw Error(ErrorKind::cancelled, "stopped by the caller");
  }
  plan.rays = 0;
  write_png(folder + "/plan.png",
            plan_picture(file.scene, world, camera_at(file.camera, record.steps.back()),
                         file.budget, file.budget.frame.size(), plan));
  write_file(folder + "/path.csv", path_csv(record));
  write_file(folder + "/walk.json", walk_json(record));
  return record;
}

std::string walk_text(const WalkRecord& record) {
  const auto goal = goal_time(record);
  const Statistics times = frame_times(record);
  const std::size_t slowest = record.slowest();
  return fmt::format(
      "{} frames, {:.2f} s, {:.2f} m, {} contacts, {}\n"
      "{:.3f} +- {:.3f} ms a frame; slowest frame {} at {:.2f} s: {:.3f} ms\n",
      record.steps.size(), record.steps.back().time, length_of(record), contacts_of(record),
      goal ? fmt::format("goal reached at {:.2f} s", *goal) : "goal not reached", times.median,
      times.spread, slowest, record.steps[slowest].time,
      record.costs[slowest].cast_ms + record.costs[slowest].fill_ms);
}

std::string walk_json(const WalkRecord& record) {
  const auto goal = goal_time(record);
  const Statistics times = frame_times(record);
  const std::size_t slowest = record.slowest();
  const WalkStep& last = record.steps.back();
  const nlohmann::ordered_json object{
      {"frames", record.steps.size()},
      {"seconds", last.time},
      {"meters", length_of(record)},
      {"contacts", contacts_of(record)},
      {"goal_reached_at", goal ? nlohmann::ordered_json(*goal) : nlohmann::ordered_json(nullptr)},
      {"end",
       {{"x", last.place.x()}, {"y", last.place.y()}, {"heading", last.heading / degrees(1)}}},
      {"frame_ms", {{"median", times.median}, {"spread", times.spread}}},
      {"slowest_frame", slowest}};
  return object.dump(2) + "\n";
}

}  // namespace photonlane::io
