#include "live/sitting.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <utility>

#include "live/stand.hpp"

namespace photonlane::live {
namespace {

using std::chrono::duration;

constexpr std::size_t most_moves = 20000;

double number_of(const Json& value, double low, double high) {
  const double number = value.get<double>();
  if (!std::isfinite(number)) throw Error(ErrorKind::input, "a number that is none");
  return std::clamp(number, low, high);
}

Layer layer_named(const std::string& name) {
  for (std::size_t i = 0; i < layer_count; ++i) {
    if (name == choice_names<Layer>[i]) return static_cast<Layer>(i);
  }
  throw Error(ErrorKind::usage, "no layer is called " + one_line(name));
}

}  // namespace

std::string camera_words(const Camera& camera) {
  std::string text;
  for (const auto& entry : camera_knobs()) text += knob_text(entry, camera) + "\n";
  for (const auto& entry : plane_window_knobs()) text += knob_text(entry, camera.window) + "\n";
  return text;
}

std::string yaml_value(const KnobInfo& info, const std::string& value) {
  return info.kind == KnobKind::text ? Json(value).dump() : value;
}

Budget best_of(const Budget& file, const std::vector<Tried>& tried) {
  std::vector<Vary> vary;
  std::vector<Setting> settings;
  for (const Tried& one : tried) {
    Setting setting;
    setting.budget = one.settings.budget;
    settings.push_back(std::move(setting));
    for (const auto& [name, value] : one.changed) {
      if (find_knob(budget_knobs(), name) != nullptr) vary.push_back({name, {}});
    }
  }
  return reference_of(file, settings, vary, ReferenceKind::varied);
}

Settings with_changes(Settings settings, const Changes& changed) {
  for (const auto& [name, value] : changed) {
    try {
      set_by_name(settings, name, value);
    } catch (const Error& error) {
      throw Error(error.kind(), one_line(name) + ": " + error.message());
    }
  }
  return settings;
}

DirectLane direct_lane(const Sitting::Stand& stand, double x, double y) {
  DirectLane result;
  result.budget = stand.budget();
  result.budget.light.transport = Transport::direct;
  result.budget.frame.scale = 1;
  const auto pixel = [](double share, int side) {
    return std::clamp(static_cast<int>(share * side), 0, side - 1);
  };
  result.x = pixel(x, stand.size.width);
  result.y = pixel(y, stand.size.height);
  return result;
}

Sitting::Sitting(std::shared_ptr<Desk> desk, int threads)
    : desk_(std::move(desk)), threads_(threads) {
  {
    const std::lock_guard lock(mutex_);
    take_scene();
    start_ = settings_.camera;
  }
  worker_ = std::thread([this] { work(); });
}

Sitting::~Sitting() {
  end();
  worker_.join();
}

void Sitting::end() {
  {
    const std::lock_guard lock(mutex_);
    closing_ = true;
    version_ += 1;
  }
  asked_.notify_all();
  made_.notify_all();
}

double Sitting::idle_seconds() const {
  const std::lock_guard lock(mutex_);
  return seconds_since(heard_);
}

// --- What pages ask for -------------------------------------------------------------------------

void Sitting::changed() {
  version_ += 1;
  problem_.clear();
  tell();
}

void Sitting::tell() {
  state_ += 1;
  made_.notify_all();
}

void Sitting::keep_for_undo() {
  constexpr std::size_t most = 500;
  if (before_.size() == most) before_.erase(before_.begin());
  before_.push_back(settings_);
}

void Sitting::take_scene() {
  const bool first = scene_ == nullptr;
  const Changes kept = first ? Changes{} : changes_of(settings_);
  const bool was_plane = !first && scene_->world.plane() != nullptr;
  scene_ = desk_->scene();
  Settings fresh{scene_->file.budget, scene_->file.camera, scene_->file.numbers};
  const Settings before = std::exchange(base_, fresh);
  // Knobs of the page stay as they are, as far as the new text lets them.
  for (const auto& change : kept) {
    try {
      fresh = with_changes(fresh, {change});
    } catch (const Error&) {
      continue;
    }
  }
  // So does its camera, but where the text has another one than before.
  const bool is_plane = scene_->world.plane() != nullptr;
  if (!first && was_plane == is_plane &&
      camera_words(before.camera) == camera_words(base_.camera)) {
    try {
      scene_->world.room_index(settings_.camera.room);
      fresh.camera = settings_.camera;
    } catch (const Error&) {
      start_ = fresh.camera;  // its room is gone
    }
  }
  settings_ = fresh;
  tried_.clear();
  changed();
}

void Sitting::look_again() {
  {
    const std::lock_guard lock(mutex_);
    if (desk_->scene()->version != scene_->version) {
      take_scene();
    } else {
      tell();
    }
  }
  asked_.notify_all();
}

void Sitting::set(const std::string& name, const std::string& value, bool turning) {
  if (value.size() > 4096) throw Error(ErrorKind::input, "a value of over 4096 characters");
  const Settings after = with_changes(settings_, {{name, value}});
  if (name.starts_with("camera.") || name.starts_with("window.")) {
    viewing(after.camera, size_);
    go_to(after.camera);
  } else {
    // All of a slider's way is one change.
    if (turning_ != name) keep_for_undo();
    settings_ = after;
  }
  turning_ = turning ? name : std::string();
  if (turning) moved_ = Clock::now();
  changed();
}

void Sitting::go_to(const Camera& camera) {
  settings_.camera = camera;
  start_ = camera;
  moves_.clear();
  body_scale_ = 1;
}

void Sitting::remember(const WalkMove& move) {
  if (!moves_.empty()) {
    // Even motion is one move.
    WalkMove& last = moves_.back();
    const auto alike = [&](double one, double other) {
      return std::abs(one / last.over - other / move.over) < 1e-3;
    };
    if (alike(last.forward, move.forward) && alike(last.sideways, move.sideways) &&
        alike(last.turn, move.turn)) {
      last.forward += move.forward;
      last.sideways += move.sideways;
      last.turn += move.turn;
      last.over += move.over;
      return;
    }
  }
  if (moves_.size() < most_moves) moves_.push_back(move);
}

bool Sitting::apply_to_settings(const std::string& what, const Json& value) {
  if (what == "set") {
    set(value.at(0).get<std::string>(), value.at(1).get<std::string>(),
        value.size() > 2 && value.at(2).get<bool>());
  } else if (what == "reset") {
    const auto name = value.get<std::string>();
    set(name, setting_text(base_, name), false);
  } else if (what == "settings") {
    // All changes at once, from what the file says.
    Settings fresh = base_;
    fresh.camera = settings_.camera;
    Changes changes;
    for (const Json& one : value) {
      changes.emplace_back(one.at("name").get<std::string>(), one.at("value").get<std::string>());
    }
    fresh = with_changes(fresh, changes);
    keep_for_undo();
    settings_ = fresh;
    changed();
  } else if (what == "undo") {
    if (before_.empty()) return true;
    const Camera kept = settings_.camera;
    settings_ = before_.back();
    settings_.camera = kept;
    before_.pop_back();
    changed();
  } else if (what == "size") {
    const auto side = [&](const Json& pixels) {
      return static_cast<int>(number_of(pixels, 16, 4096));
    };
    const Size size{side(value.at(0)), side(value.at(1))};
    if (size != size_) {
      size_ = size;
      changed();
    }
  } else if (what == "layer") {
    layer_ = layer_named(value.get<std::string>());
    changed();
  } else if (what == "frame_ms") {
    frame_ms_ = number_of(value, 4, 2000);
    tell();
  } else if (what == "quality") {
    quality_ = static_cast<int>(number_of(value, 1, 100));
    changed();
  } else if (what == "speed") {
    speed_ = number_of(value, 1e-3, 1e4);
    tell();
  } else if (what == "fly") {
    flying_ = value.get<bool>();
    tell();
  } else if (what == "measure") {
    measuring_ = value.get<bool>();
    changed();
  } else if (what == "forget") {
    tried_.clear();
    changed();
  } else if (what == "home") {
    go_to(base_.camera);
    changed();
  } else {
    return false;
  }
  return true;
}

bool Sitting::apply_to_eye(const std::string& what, const Json& value) {
  const bool plane = scene_->world.plane() != nullptr;
  Camera& camera = settings_.camera;
  if (what == "look" && !plane) {
    // Degrees to the left and upward.
    const double left = degrees(number_of(value.at(0), -360, 360));
    const double up = degrees(number_of(value.at(1), -180, 180));
    camera.heading = std::remainder(camera.heading + left, 2 * std::numbers::pi);
    camera.pitch = std::clamp(camera.pitch + up, -degrees(89), degrees(89));
    if (left != 0 && !flying_) remember({.turn = left, .over = 0.04});
  } else if (what == "drive" && !plane) {
    const auto share = [&](const char* name) {
      return value.contains(name) ? number_of(value.at(name), -1, 1) : 0.0;
    };
    if (!drive_.any()) advanced_ = Clock::now();
    drive_ = {share("ahead"), share("right"), share("up"), share("turn"), share("tilt")};
  } else if (what == "widen" && !plane) {
    Camera wider = camera;
    wider.field_of_view =
        std::clamp(camera.field_of_view * number_of(value, 0.1, 10), degrees(1), degrees(150));
    viewing(wider, size_);
    camera = wider;
  } else if (what == "pan" && plane) {
    camera.window = panned(camera.window, size_, number_of(value.at(0), -1e5, 1e5),
                           number_of(value.at(1), -1e5, 1e5));
  } else if (what == "zoom" && plane) {
    const double x = number_of(value.at(0), 0, 1) * size_.width;
    const double y = number_of(value.at(1), 0, 1) * size_.height;
    camera.window = zoomed(camera.window, size_, x, y, number_of(value.at(2), 1e-3, 1e3));
  } else if (what == "look" || what == "drive" || what == "widen" || what == "pan" ||
             what == "zoom") {
    throw Error(ErrorKind::usage,
                what + (plane ? " is of rooms, this is a plane" : " is of planes, this is a room"));
  } else {
    return false;
  }
  moved_ = Clock::now();
  version_ += 1;
  return true;
}

void Sitting::apply(const Json& act) {
  const auto only = act.begin();
  const std::string& what = only.key();
  if (apply_to_settings(what, only.value()) || apply_to_eye(what, only.value())) return;
  throw Error(ErrorKind::usage, "no act is called " + one_line(what));
}

Json Sitting::act(const Json& acts) {
  Json refused = Json::array();
  {
    const std::lock_guard lock(mutex_);
    heard_ = Clock::now();
    for (const Json& one : acts) {
      try {
        if (!one.is_object() || one.size() != 1) {
          throw Error(ErrorKind::usage, "expected an object of one act");
        }
        apply(one);
      } catch (const Error& error) {
        refused.push_back(error.what());
      } catch (const Json::exception&) {
        refused.push_back("an act that is not written as docs/live.md says");
      }
    }
  }
  asked_.notify_all();
  const std::lock_guard lock(mutex_);
  return {{"version", version_}, {"state", state_}, {"refused", refused}};
}

std::shared_ptr<const Shown> Sitting::next(std::uint64_t after, double seconds) {
  std::unique_lock lock(mutex_);
  heard_ = Clock::now();
  asked_.notify_all();
  const std::uint64_t state = state_;
  ++waiting_;
  made_.wait_for(lock, duration<double>(seconds),
                 [&] { return closing_ || number_ > after || state_ != state; });
  --waiting_;
  if (number_ <= after) return nullptr;
  taken_ = number_;
  asked_.notify_all();
  return shown_;
}

Sitting::Stand Sitting::stand_held() const {
  return {scene_,     settings_, size_,   layer_, frame_ms_,   quality_,
          measuring_, drive_,    flying_, speed_, body_scale_, version_};
}
Sitting::Stand Sitting::stand_now() const {
  const std::lock_guard lock(mutex_);
  return stand_held();
}

std::string Sitting::difference() const {
  const std::lock_guard lock(mutex_);
  if (difference_of_ != version_) {
    throw Error(ErrorKind::usage, "the error of what is shown is not known yet");
  }
  return difference_;
}

Frame Sitting::still(const Changes& changed, LayerSet layers) {
  // One at a time: each takes all threads.
  const std::lock_guard alone(still_mutex_);
  Stand stand = stand_now();
  {
    const std::lock_guard lock(mutex_);
    Settings fresh = base_;
    fresh.camera = settings_.camera;
    stand.settings = with_changes(fresh, changed);
  }
  return frame_of(stand, stand.budget(), layers, [this](double) {
    const std::lock_guard lock(mutex_);
    return !closing_;
  });
}

Frame Sitting::still(LayerSet layers) {
  Changes changed;
  {
    const std::lock_guard lock(mutex_);
    changed = changes_of(settings_);
  }
  return still(changed, layers);
}

void Sitting::write_budget() const {
  Changes changed;
  {
    const std::lock_guard lock(mutex_);
    changed = changes_of(settings_);
  }
  desk_->write_knobs(changed);
}

void Sitting::write_camera() const {
  Camera camera;
  {
    const std::lock_guard lock(mutex_);
    camera = settings_.camera;
  }
  desk_->write_camera(camera);
}

}  // namespace photonlane::live
