// What a page is told in words: knobs, state, pixels, lanes, texts to copy.

#include <fmt/format.h>
#include <set>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "live/report.hpp"
#include "live/stand.hpp"

namespace photonlane::live {
namespace {

/// A number as JSON has it; null where it is none.
Json number(double value) { return std::isfinite(value) ? Json(value) : Json(nullptr); }

std::string_view kind_word(KnobKind kind) {
  switch (kind) {
    case KnobKind::integer:
      return "integer";
    case KnobKind::number:
      return "number";
    case KnobKind::flag:
      return "flag";
    case KnobKind::choice:
      return "choice";
    case KnobKind::text:
      return "text";
    case KnobKind::point:
      return "point";
    case KnobKind::color:
      return "color";
    case KnobKind::decimal:
      return "decimal";
    case KnobKind::place:
      return "place";
  }
  return "text";
}

/// What a world has, as far as knobs go by it.
struct Contents {
  bool plane = false, cells = false, fields = false, portals = false, swells = false;
  std::set<std::string_view> groups;  ///< of knobs of its parts
  bool sun = false, lamps = false, lit = false, wet = false, mirrors = false, panes = false;

  explicit Contents(const World& world) : plane(world.plane() != nullptr) {
    for (const CompiledRoom& room : world.rooms()) {
      cells = cells || room.has_cells;
      fields = fields || room.field_count > 0;
      for (const auto& part : room.parts()) groups.insert(part->knob_group());
      portals = portals || room.portals != nullptr;
      swells = swells || !room.swells.empty();
      sun = sun || room.light.sun.has_value();
      lamps = lamps || !room.light.lamps.empty();
      lit = lit || room.light.lit();
      panes = panes || !room.sprites.empty();
    }
    for (const Material& material : world.materials()) {
      wet = wet || material.wetness > 0;
      mirrors = mirrors || material.glossy();
      panes = panes || material.opacity < 1 || material.texture >= 0;
    }
  }
  /// Whether a knob can have an effect here.
  bool knows(std::string_view name, bool paths) const {
    const std::string_view group = name.substr(0, name.find('.'));
    if (group == "plane" || group == "window") return plane;
    if (group == "frame" || group == "reference") return true;
    if (plane) return false;
    if (group == "cells") return cells;
    if (group == "field") return fields;
    if (group == "spheres" || group == "voxels") return groups.contains(group);
    if (name == "crossings.limit" || name == "light.crossings") return portals;
    if (group == "crossings") return swells;
    if (paths) return true;
    if (group == "bounces") return wet || mirrors;
    if (group == "passes") return panes;
    if (name == "light.wet_floor") return wet;
    if (name == "light.sun_shadows" || name == "light.probe") return sun;
    if (name == "light.lamp_shadows") return lamps;
    if (name == "light.softness" || name == "light.soft_samples") return sun || lamps;
    if (name == "light.corners" || name == "light.corner_samples") return lit;
    if (name == "light.fog" || name == "light.fog_samples") return sun;
    return true;
  }
};

Json knob_facts(const KnobInfo& info, const std::string& name, const std::string& value,
                const std::string& file, const std::string& usual) {
  Json one{{"name", name},
           {"kind", kind_word(info.kind)},
           {"unit", info.unit},
           {"help", info.help},
           {"expected", info.expected()},
           {"value", value},
           {"file", file},
           {"default", usual}};
  if (info.kind == KnobKind::integer || info.kind == KnobKind::number) {
    one["low"] = number(info.range.low);
    one["high"] = number(info.range.high);
  }
  if (!info.choices.empty()) one["choices"] = info.choices;
  return one;
}

Json legs(const LaneLog& log, const World& world) {
  Json all = Json::array();
  for (const LaneLeg& leg : log.legs) {
    const auto& rooms = world.rooms();
    all.push_back({{"start", name_of(leg.start)},
                   {"sample", leg.sample},
                   {"room", leg.room < rooms.size() ? rooms[leg.room].name : std::string()},
                   {"place", {leg.place.x(), leg.place.y(), leg.place.z()}},
                   {"way", {leg.way.x(), leg.way.y(), leg.way.z()}},
                   {"length", number(leg.length)},
                   {"steps", leg.steps}});
  }
  return all;
}

}  // namespace

Json trouble_facts(const Trouble& trouble) {
  return {{"message", trouble.message}, {"line", trouble.line}, {"column", trouble.column}};
}

Changes Sitting::changes_of(const Settings& settings) const {
  Changes changed;
  for (const Knob<Budget>& entry : budget_knobs()) {
    const std::string value = knob_text(entry, settings.budget);
    if (entry.info.name == "frame.width" || entry.info.name == "frame.height") continue;
    if (value != knob_text(entry, base_.budget)) changed.emplace_back(entry.info.name, value);
  }
  for (const auto& [name, value] : settings.numbers) {
    const auto was = base_.numbers.find(name);
    if (was == base_.numbers.end() || was->second != value) {
      changed.emplace_back("scene." + name, value);
    }
  }
  return changed;
}

Json Sitting::knobs() const {
  std::unique_lock lock(mutex_);
  const Settings now = settings_;
  const Settings base = base_;
  const std::shared_ptr<const OpenScene> scene = scene_;
  lock.unlock();
  const Contents contents(scene->world);
  const Settings usual;
  const bool paths = now.budget.light.transport == Transport::paths;
  Json all = Json::array();
  const auto add = [&](const KnobInfo& info, const std::string& name, const std::string& value,
                       const std::string& file, const std::string& standard) {
    if (!contents.knows(name, paths) || name == "frame.width" || name == "frame.height") return;
    Json one = knob_facts(info, name, value, file, standard);
    one["applies"] = setting_applies(now, name);
    all.push_back(std::move(one));
  };
  for (const auto& [name, value] : now.numbers) {
    const auto was = base.numbers.find(name);
    const std::string file = was == base.numbers.end() ? value : was->second;
    const KnobInfo info{name, KnobKind::number, "", {}, {}, "number of the scene", 1, ""};
    Json one = knob_facts(info, "scene." + name, value, file, file);
    one["applies"] = true;
    all.push_back(std::move(one));
  }
  for (const Knob<Budget>& entry : budget_knobs()) {
    add(entry.info, std::string(entry.info.name), knob_text(entry, now.budget),
        knob_text(entry, base.budget), knob_text(entry, usual.budget));
  }
  if (!contents.plane) {
    for (const Knob<Camera>& entry : camera_knobs()) {
      add(entry.info, "camera." + std::string(entry.info.name), knob_text(entry, now.camera),
          knob_text(entry, base.camera), knob_text(entry, usual.camera));
    }
  } else {
    for (const Knob<PlaneWindow>& entry : plane_window_knobs()) {
      add(entry.info, "window." + std::string(entry.info.name), knob_text(entry, now.camera.window),
          knob_text(entry, base.camera.window), knob_text(entry, usual.camera.window));
    }
  }
  return all;
}

Json Sitting::state() const {
  // What the desk says is asked before, as it is locked by itself.
  const auto trouble = desk_->trouble();
  const std::uint64_t text = desk_->version();
  std::unique_lock lock(mutex_);
  Json state{{"state", state_},
             {"text", text},
             {"scene", scene_->version},
             {"title", scene_->file.scene.title},
             {"path", desk_->path()},
             {"may_write", desk_->may_write()},
             {"plane", scene_->world.plane() != nullptr},
             {"paths", settings_.budget.light.transport == Transport::paths},
             {"layer", name_of(layer_)},
             {"flying", flying_},
             {"measuring", measuring_},
             {"frame_ms", frame_ms_},
             {"quality", quality_},
             {"speed", speed_},
             {"undo", before_.size()},
             {"gone", moves_.size()}};
  Json layers = Json::array();
  LayerSet there = measurable_layers(scene_->world);
  if (settings_.budget.light.transport == Transport::paths && scene_->world.plane() == nullptr) {
    for (const Layer layer : LayerSet::of_paths().list()) there.add(layer);
  }
  for (const Layer layer : there.list()) {
    const LayerInfo& info = layer_info(layer);
    layers.push_back({{"name", name_of(layer)}, {"unit", info.unit}, {"help", info.help}});
  }
  state["layers"] = layers;
  if (trouble) state["trouble"] = trouble_facts(*trouble);
  if (!problem_.empty()) state["problem"] = problem_;
  Json changed = Json::array();
  for (const auto& [name, value] : changes_of(settings_)) {
    changed.push_back({{"name", name}, {"value", value}, {"file", setting_text(base_, name)}});
  }
  state["changed"] = changed;
  Json tried = Json::array();
  for (const Tried& one : tried_) {
    Json point{{"changed", Json::array()},
               {"ms", one.ms.empty() ? Json(nullptr) : number(quantile(one.ms, 0.5))},
               {"frames", one.ms.size()}};
    for (const auto& [name, value] : one.changed) {
      point["changed"].push_back({{"name", name}, {"value", value}});
    }
    if (one.error) {
      point["rmse"] = one.error->rmse;
      point["share_other"] =
          one.error->share_other ? number(*one.error->share_other) : Json(nullptr);
    }
    if (one.noise && std::isfinite(*one.noise)) {
      point["rmse"] = *one.noise;
      point["noise"] = true;
    }
    tried.push_back(std::move(point));
  }
  state["tried"] = tried;
  lock.unlock();
  state["camera"] = camera_text();
  state["budget"] = budget_text();
  return state;
}

Json Sitting::progress() const {
  const std::lock_guard lock(mutex_);
  return {{"number", number_}, {"state", state_}, {"doing", doing_}, {"share", doing_share_}};
}

Json Sitting::pixel(double x, double y) const {
  const Stand stand = stand_now();
  const World world = world_of(stand);
  // The layers are those of one lane; of light by paths it has none to show.
  const DirectLane of = direct_lane(stand, x, y);
  Budget budget = of.budget;
  constexpr int few = 16;
  budget.frame.samples = std::min(budget.frame.samples, few);
  LayerSet layers = measurable_layers(world);
  layers.remove({Layer::cost, Layer::work});
  if (stand.grows()) layers.remove({Layer::color});
  const PixelPart part{of.x, of.y, {1, 1}};
  RenderOptions options;
  options.threads = 1;
  options.part = part;
  options.layers = layers;
  const Frame frame = render(world, stand.settings.camera, budget, std::move(options));
  Json told{{"x", part.x}, {"y", part.y}, {"layers", Json::array()}};
  for (const Layer layer : frame.layers().list()) {
    const LayerInfo& info = layer_info(layer);
    Json one{{"name", name_of(layer)}, {"unit", info.unit}};
    if (info.codes) {
      const std::uint32_t code = frame.codes(layer)(0, 0);
      one["value"] = code == no_item ? Json("none") : Json(code);
      if (layer == Layer::ending) one["value"] = name_of(static_cast<Ending>(code));
      if (layer == Layer::face) one["value"] = name_of(static_cast<Face>(code));
      const auto& names = stand.scene->file.scene.material_names;
      if (layer == Layer::material && code < names.size() && !names[code].empty()) {
        one["value"] = names[code];
      }
      if (layer == Layer::room && code < world.rooms().size()) {
        const std::string& name = world.rooms()[code].name;
        if (!name.empty()) one["value"] = name;
      }
    } else if (info.channels == 1) {
      const double value = frame.values(layer)(0, 0);
      one["value"] = std::isfinite(value) ? Json(value) : Json("infinite");
    } else {
      one["value"] = Json::array();
      for (int channel = 0; channel < info.channels; ++channel) {
        one["value"].push_back(number(frame.values(layer, channel)(0, 0)));
      }
    }
    told["layers"].push_back(std::move(one));
  }
  return told;
}

Json Sitting::find(LandmarkKind kind) {
  const Stand stand = stand_now();
  const World world = world_of(stand);
  const EscapePlane* plane = world.plane();
  if (plane == nullptr) throw Error(ErrorKind::usage, "landmarks are of planes, this is a room");
  LandmarkSearch search = around(stand.settings.camera.window, kind);
  // Whoever looks elsewhere meanwhile wants another one.
  search.progress = [&] { return !is_over(stand); };
  const auto found = find_landmark(*plane, search);
  if (!found) throw Error(ErrorKind::input, fmt::format("no {} is found here", name_of(kind)));
  const PlaneWindow window = window_of(*found, stand.settings.camera.window);
  Json told = Json::parse(io::landmark_json(*found));
  told["text"] = io::landmark_text(*found);
  told["window"] = Json::array();
  for (const Knob<PlaneWindow>& entry : plane_window_knobs()) {
    told["window"].push_back({"window." + std::string(entry.info.name), knob_text(entry, window)});
  }
  return told;
}

Json Sitting::lane(double x, double y) const {
  const Stand stand = stand_now();
  const DirectLane of = direct_lane(stand, x, y);
  const World world = world_of(stand);
  const LaneLog log = log_lane(world, stand.settings.camera, of.budget, of.x, of.y);
  return {{"x", of.x},
          {"y", of.y},
          {"summary", io::lane_summary(log, stand.scene->file.scene, world,
                                       io::frame_steps(world, stand.settings.camera, of.budget))},
          {"text", io::lane_text(log, stand.scene->file.scene, world)},
          {"legs", legs(log, world)}};
}

io::Picture Sitting::lane_plan(double x, double y) const {
  const Stand stand = stand_now();
  const DirectLane of = direct_lane(stand, x, y);
  const World world = world_of(stand);
  const LaneLog log = log_lane(world, stand.settings.camera, of.budget, of.x, of.y);
  io::PlanOptions options;
  options.rays = 0;
  options.lane = &log;
  options.legend = false;
  const io::SceneFile& file = stand.scene->file;
  const Scene scene = stand.settings.numbers == file.numbers
                          ? file.scene
                          : io::scene_with(file, stand.settings.numbers);
  return io::plan_picture(scene, world, stand.settings.camera, of.budget, {720, 480}, options);
}

std::string Sitting::camera_text() const {
  const std::lock_guard lock(mutex_);
  std::string text;
  if (scene_->world.plane() != nullptr) {
    for (const Knob<PlaneWindow>& entry : plane_window_knobs()) {
      text += fmt::format("{}{}: {}", text.empty() ? "" : ", ", entry.info.name,
                          yaml_value(entry.info, knob_text(entry, settings_.camera.window)));
    }
    return "window: {" + text + "}\n";
  }
  const Camera usual;
  for (const Knob<Camera>& entry : camera_knobs()) {
    const std::string value = knob_text(entry, settings_.camera);
    if (value == knob_text(entry, usual) && entry.info.name != "eye") continue;
    text += fmt::format("{}{}: {}", text.empty() ? "" : ", ", entry.info.name,
                        yaml_value(entry.info, value));
  }
  return "camera: {" + text + "}\n";
}

std::string Sitting::budget_text() const {
  const std::lock_guard lock(mutex_);
  std::vector<std::pair<std::string, std::string>> groups;
  std::string text;
  for (const auto& [name, value] : changes_of(settings_)) {
    if (name.starts_with("scene.")) continue;
    const auto dot = name.find('.');
    const Knob<Budget>* entry = find_knob(budget_knobs(), name);
    const std::string written = yaml_value(entry->info, value);
    if (dot == std::string::npos) {
      text += fmt::format("  {}: {}\n", name, written);
      continue;
    }
    const std::string group = name.substr(0, dot);
    auto known = std::find_if(groups.begin(), groups.end(),
                              [&](const auto& one) { return one.first == group; });
    if (known == groups.end()) known = groups.insert(groups.end(), {group, ""});
    known->second +=
        fmt::format("{}{}: {}", known->second.empty() ? "" : ", ", name.substr(dot + 1), written);
  }
  for (const auto& [group, values] : groups) text += fmt::format("  {}: {{{}}}\n", group, values);
  return text.empty() ? "" : "budget:\n" + text;
}

std::string Sitting::report() const {
  const std::lock_guard lock(mutex_);
  const Budget best = best_of(base_.budget, tried_);
  const std::string& title = scene_->file.scene.title;
  return report_of(tried_, base_, best, title.empty() ? desk_->path() : title, desk_->path());
}

std::string Sitting::walk_script() const {
  const std::lock_guard lock(mutex_);
  std::string text =
      fmt::format("# From {}, {} looking along {:.2f} degrees.\nmoves:\n", start_.eye.x(),
                  start_.eye.y(), start_.heading * 180 / std::numbers::pi);
  for (const WalkMove& move : moves_) {
    text += fmt::format("  - {{forward: {:.3f}, sideways: {:.3f}, turn: {:.2f}, over: {:.3f}}}\n",
                        move.forward, move.sideways, move.turn * 180 / std::numbers::pi, move.over);
  }
  return text;
}

}  // namespace photonlane::live
