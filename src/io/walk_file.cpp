#include "photonlane/io/walk_file.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/stopwatch.hpp"
#include "io/files.hpp"
#include "io/frame_loop.hpp"
#include "io/json.hpp"
#include "io/read_node.hpp"
#include "io/run_journal.hpp"
#include "io/run_parts.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/io/output.hpp"
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
    // Across portals places are not far from one another; what of a step lies beyond is left out.
    if (record.steps[i].crossings > 0) continue;
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

/// A name as a field of CSV (RFC 4180): in quotes where it has to be.
std::string csv_field(const std::string& name) {
  if (name.find_first_of(",\"\r\n") == std::string::npos) return name;
  std::string quoted = "\"";
  for (const char c : name) quoted += c == '"' ? std::string("\"\"") : std::string(1, c);
  return quoted + "\"";
}

std::string path_csv(const WalkRecord& record, const World& world) {
  std::string text =
      "frame,time,room,x,y,level,scale,heading,contacts,crossings,in_goal,edits,edit_ms,cast_ms,"
      "fill_ms,encode_ms\n";
  for (std::size_t i = 0; i < record.steps.size(); ++i) {
    const WalkStep& step = record.steps[i];
    const Cost& cost = record.costs[i];
    text += fmt::format("{},{:.6g},{},{:.9g},{:.9g},{:.9g},{:.9g},{:.9g},{},{},{},{},{},{},{},{}\n",
                        i, step.time, csv_field(world.rooms()[step.room].name), step.place.x(),
                        step.place.y(), step.level, step.scale, step.heading / degrees(1),
                        step.contacts, step.crossings, step.in_goal ? 1 : 0, step.edits.size(),
                        cost.compile_ms, cost.cast_ms, cost.fill_ms, cost.encode_ms);
  }
  return text;
}

}  // namespace

namespace {

CellPlace read_place(const Node& node, const CellMap& map) {
  const std::vector<Node>& numbers = node.list("a cell [column, row]");
  if (numbers.size() != 2) node.refuse("expected a cell [column, row]");
  int place[2];
  for (int i = 0; i < 2; ++i) {
    const KnobInfo info{"cell",
                        KnobKind::integer,
                        "",
                        {0.0, static_cast<double>((i == 0 ? map.width : map.height) - 1)}};
    at_place(numbers[i], [&] { detail::assign(place[i], info, numbers[i].text()); });
  }
  return {place[0], place[1]};
}

WalkEdit read_edit(const Node& node, const Scene& scene) {
  const CellMap& map = scene.room().cell_map();
  WalkEdit edit;
  const Node* opening = nullptr;
  const Node* material = nullptr;
  const Node* place = nullptr;
  int nothing = 0;
  read_node(node, "change", std::span<const Knob<int>>(), nothing,
            [&](const std::string& key, const Node& value) {
              (key == "at" ? place : key == "opening" ? opening : material) = &value;
            });
  if (place == nullptr) node.refuse("a change without a cell, expected at: [column, row]");
  if ((opening == nullptr) == (material == nullptr)) {
    node.refuse("expected one of opening and material");
  }
  edit.place = read_place(*place, map);
  if (opening != nullptr) {
    CellForm form;
    const Knob<CellForm>& entry = *find_knob(cell_form_knobs(), "opening");
    at_place(*opening, [&] { entry.assign(form, entry.info, opening->value_text()); });
    edit.opening = form.opening;
    at_place(*place, [&] { open_door(map, edit.place.x, edit.place.y, form.opening); });
    return edit;
  }
  edit.cell = empty_cell;
  if (material->text() == "empty") return edit;
  const auto& names = scene.material_names;
  const auto found = std::find(names.begin(), names.end(), material->text());
  if (found == names.end()) {
    std::vector<std::string_view> words(names.begin(), names.end());
    words.emplace_back("empty");
    material->refuse(fmt::format("no such material '{}'{}", material->text().substr(0, 60),
                                 suggestion(material->text(), words)));
  }
  edit.cell = wall_of(static_cast<std::uint32_t>(found - names.begin()));
  return edit;
}

/// What numbers of the scene come to.
void read_targets(const Node& node, const SceneFile& file, WalkMove& move) {
  for (const auto& [key, value] : node.map("a map of names to numbers")) {
    if (file.numbers.empty()) key.refuse("a number of a scene that has none");
    Settings settings{{}, {}, file.numbers};
    at_place(value, [&, &name = key, &text = value] {
      set_by_name(settings, "scene." + name.text(), text.text());
    });
    move.numbers.emplace_back(key.text(), std::stod(settings.numbers.find(key.text())->second));
  }
}

}  // namespace

namespace {

/// Reads the scene with the numbers that each move comes to, so that what does not fit is told
/// before the first frame.
void try_numbers(const Node& root, const SceneFile& file, const WalkScript& script) {
  double time = 0;
  for (std::size_t i = 0; i < script.moves.size(); ++i) {
    time += script.moves[i].over;
    if (script.moves[i].numbers.empty()) continue;
    const Node& at = *root.find("moves")->list("moves")[i].find("numbers");
    try {
      scene_with(file, numbers_at(file, script, time));
    } catch (const Error& error) {
      at.refuse(fmt::format("the scene with these numbers: {}", error.what()));
    }
  }
}

}  // namespace

WalkScript read_walk_script(const std::string& path, const SceneFile& file) {
  const Scene& scene = file.scene;
  const Node root = parse_document(read_file(path), path);
  WalkScript script;
  read_node(root, "walk", walk_script_knobs(), script, [&](const std::string&, const Node& moves) {
    for (const Node& node : moves.list("moves")) {
      WalkMove move;
      read_node(node, "move", walk_move_knobs(), move,
                [&](const std::string& key, const Node& value) {
                  if (key == "numbers") {
                    read_targets(value, file, move);
                    return;
                  }
                  for (const Node& one : value.list("changes")) {
                    move.cells.push_back(read_edit(one, scene));
                  }
                });
      script.moves.push_back(move);
    }
  });
  try_numbers(root, file, script);
  if (script.moves.empty()) root.refuse("no moves, expected moves: [{forward: 2, over: 1}, ...]");
  return script;
}

std::size_t WalkRecord::slowest() const {
  const auto time = [](const Cost& cost) { return cost.cast_ms + cost.fill_ms; };
  const auto found = std::max_element(
      costs.begin(), costs.end(), [&](const Cost& a, const Cost& b) { return time(a) < time(b); });
  return static_cast<std::size_t>(found - costs.begin());
}

SceneNumbers numbers_at(const SceneFile& file, const WalkScript& script, double time) {
  SceneNumbers numbers = file.numbers;
  double start = 0;
  for (const WalkMove& move : script.moves) {
    if (time < start) break;
    const double share = std::clamp((time - start) / move.over, 0.0, 1.0);
    for (const auto& [name, target] : move.numbers) {
      const double now = std::stod(numbers.find(name)->second);
      numbers.insert_or_assign(name, fmt::format("{:.17g}", now + share * (target - now)));
    }
    start += move.over;
  }
  return numbers;
}

namespace {

/// What moves by itself during a walk: the scene's numbers, and bodies on its fields.
class Moving {
 public:
  Moving(const SceneFile& file, const WalkScript& script) : file_(file), script_(script) {
    scene_ = file.scene;
    for (Room& room : scene_.rooms) {
      rolls_ = rolls_ || !room.bodies.empty();
      // Once, not for every frame.
      for (Field& field : room.fields) field = field::measured(field);
    }
    for (const WalkMove& move : script.moves) numbers_ = numbers_ || !move.numbers.empty();
  }

  bool any() const { return rolls_ || numbers_; }
  bool rolls() const { return rolls_; }
  const Scene& scene() const { return scene_; }

  void go_to(double time) {
    if (numbers_) {
      Scene next = scene_at(time);
      for (std::size_t r = 0; r < next.rooms.size(); ++r) {
        next.rooms[r].bodies = scene_.rooms[r].bodies;
      }
      scene_ = std::move(next);
    }
    if (rolls_ && time > time_) {
      roll_bodies(
          scene_, time_, time, {},
          numbers_ ? [this](double at) { return scene_at(at); } : std::function<Scene(double)>());
    }
    time_ = time;
  }

  std::vector<RollingBody> bodies() const {
    std::vector<RollingBody> all;
    for (const Room& room : scene_.rooms) {
      for (const RoomBody& body : room.bodies) all.push_back(body.body);
    }
    return all;
  }

 private:
  Scene scene_at(double time) const { return scene_with(file_, numbers_at(file_, script_, time)); }

  const SceneFile& file_;
  const WalkScript& script_;
  Scene scene_;
  double time_ = 0;
  bool rolls_ = false;
  bool numbers_ = false;
};

/// All that decides what a walk leaves.
Digest digest_of(const SceneFile& file, const WalkScript& script) {
  Digest digest = io::digest_of(file);
  for (const Knob<WalkScript>& entry : walk_script_knobs()) digest.add(knob_text(entry, script));
  for (const WalkMove& move : script.moves) {
    for (const Knob<WalkMove>& entry : walk_move_knobs()) digest.add(knob_text(entry, move));
    for (const auto& [name, value] : move.numbers) digest.add(fmt::format("{} {}", name, value));
    for (const WalkEdit& change : move.cells) {
      digest.add(fmt::format("{} {} {} {}", change.place.x, change.place.y,
                             change.opening.value_or(-1), change.cell ? int{*change.cell} : -1));
    }
  }
  return digest;
}

std::string bodies_csv(const WalkRecord& record) {
  std::string text = "frame,time,body,x,y,z,speed,spin,energy,touching,still\n";
  for (std::size_t i = 0; i < record.steps.size(); ++i) {
    for (std::size_t k = 0; k < record.bodies[i].size(); ++k) {
      const RollingBody& body = record.bodies[i][k];
      text +=
          fmt::format("{},{:.6g},{},{:.9g},{:.9g},{:.9g},{:.6g},{:.6g},{:.9g},{},{:.4g}\n", i,
                      record.steps[i].time, k, body.place.x(), body.place.y(), body.place.z(),
                      body.velocity.norm(), body.spin.norm(),
                      body_energy(body, RollSettings{}.gravity), body.touching ? 1 : 0, body.still);
    }
  }
  return text;
}

}  // namespace

WalkRecord play_walk(const SceneFile& file, const WalkScript& script, const std::string& folder,
                     RenderOptions options, bool resume) {
  WalkRecord record;
  const OutputFolder made(folder);
  if (!resume) made.remove_numbered("frame-", ".png");
  RunJournal journal(folder, "walk", digest_of(file, script), resume);
  World world = compile(file.scene);
  record.steps = walk(world, file.camera, script);
  for (const Room& room : file.scene.rooms) {
    record.has_goal = record.has_goal || (room.cells && room.cells->goal);
  }

  const auto progress = std::exchange(options.progress, {});
  options.layers = {Layer::display};
  Frame frame;
  PlanOptions plan;
  Moving moving(file, script);
  std::vector<CellEdit> edited;
  const auto write_tables = [&] {
    write_file(folder + "/path.csv", path_csv(record, world));
    if (moving.rolls()) write_file(folder + "/bodies.csv", bodies_csv(record));
  };
  const auto play = [&](std::size_t i, const std::function<bool(double)>& go_on) {
    RenderOptions one = options;
    one.recycle = std::move(frame);
    one.progress = go_on;
    const std::vector<CellEdit>& edits = record.steps[i].edits;
    edited.insert(edited.end(), edits.begin(), edits.end());
    const Stopwatch watch;
    if (moving.any()) {
      moving.go_to(record.steps[i].time);
      world = compile(moving.scene(), world);
      if (!edited.empty()) world = edit(std::move(world), edited);
    } else if (!edits.empty()) {
      world = edit(std::move(world), edits);
    }
    const double changing = watch.milliseconds();
    record.bodies.push_back(moving.bodies());
    const std::string path = fmt::format("{}/frame-{:05}.png", folder, i);
    const std::optional<Cost> left = journal.left(i, cost_from);
    if (left && std::filesystem::exists(path)) {
      record.costs.push_back(*left);
    } else {
      frame = render(world, camera_at(world, file.camera, record.steps[i]), file.budget,
                     std::move(one));
      write_frame(path, frame);
      // All that it took to get to this frame's world.
      frame.cost.compile_ms = edits.empty() && !moving.any() ? 0 : changing;
      // Of many frames the times are kept, not what they were made of.
      frame.cost.stages = {};
      record.costs.push_back(frame.cost);
      journal.keep(i, to_json(frame.cost));
    }
    plan.path.push_back(
        {record.steps[i].place, record.steps[i].room, record.steps[i].crossings > 0});
  };
  if (!moving.rolls()) std::remove((folder + "/bodies.csv").c_str());
  play_frames(record.steps.size(), progress, journal, play, [&](std::size_t done) {
    record.steps.resize(done);
    record.bodies.resize(done);
    write_tables();
    return fmt::format("their way is in {}/path.csv", folder);
  });
  plan.rays = 0;
  write_png(folder + "/plan.png",
            plan_picture(file.scene, world, camera_at(world, file.camera, record.steps.back()),
                         file.budget, file.budget.frame.size(), plan));
  write_tables();
  write_file(folder + "/walk.json", walk_json(record));
  journal.finish();
  return record;
}

namespace {

/// The cost of the frames that came after a change in the map.
Statistics edit_times(const WalkRecord& record) {
  std::vector<double> times;
  for (std::size_t i = 0; i < record.steps.size(); ++i) {
    if (!record.steps[i].edits.empty()) times.push_back(record.costs[i].compile_ms);
  }
  return summarize(times);
}

bool any_edit(const WalkRecord& record) {
  return std::any_of(record.steps.begin(), record.steps.end(),
                     [](const WalkStep& step) { return !step.edits.empty(); });
}

}  // namespace

std::string walk_text(const WalkRecord& record) {
  const auto goal = goal_time(record);
  const Statistics times = frame_times(record);
  const std::size_t slowest = record.slowest();
  return fmt::format(
      "{} frames, {:.2f} s, {:.2f} m, {} contacts{}\n"
      "{:.3f} +- {:.3f} ms a frame; slowest frame {} at {:.2f} s: {:.3f} ms\n{}",
      record.steps.size(), record.steps.back().time, length_of(record), contacts_of(record),
      goal              ? fmt::format(", goal reached at {:.2f} s", *goal)
      : record.has_goal ? ", goal not reached"
                        : "",
      times.median, times.spread, slowest, record.steps[slowest].time,
      record.costs[slowest].cast_ms + record.costs[slowest].fill_ms,
      any_edit(record) ? fmt::format("{:.3f} ms a change of the map, before its frame\n",
                                     edit_times(record).median)
                       : "");
}

std::string walk_json(const WalkRecord& record) {
  const auto goal = goal_time(record);
  const Statistics times = frame_times(record);
  const std::size_t slowest = record.slowest();
  const WalkStep& last = record.steps.back();
  const Json object{
      {"frames", record.steps.size()},
      {"seconds", last.time},
      {"meters", length_of(record)},
      {"contacts", contacts_of(record)},
      {"goal_reached_at", goal ? Json(*goal) : Json(nullptr)},
      {"end",
       {{"x", last.place.x()}, {"y", last.place.y()}, {"heading", last.heading / degrees(1)}}},
      {"frame_ms", {{"median", times.median}, {"spread", times.spread}}},
      {"edit_ms", any_edit(record) ? Json(edit_times(record).median) : Json(nullptr)},
      {"slowest_frame", slowest}};
  return json_text(object);
}

}  // namespace photonlane::io
