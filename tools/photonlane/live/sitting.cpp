#include "live/sitting.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <utility>

#include "live/encode.hpp"
#include "live/stand.hpp"

namespace photonlane::live {
namespace {

using std::chrono::duration;

constexpr double still_after = 0.18;  // seconds without a move, until the picture gets better
constexpr double coarse_ms = 60;      // what a first picture may take
constexpr double soon_ms = 12;
constexpr double longest_look = 0.3;    // seconds that a picture waits to be taken
constexpr double measured_after = 0.6;  // seconds without a move, until prices and errors are asked
constexpr std::size_t most_moves = 20000;
constexpr std::size_t most_tried = 200;
constexpr std::size_t timed_frames = 5;

double seconds_since(Clock::time_point then) {
  return duration<double>(Clock::now() - then).count();
}

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

std::string camera_words(const Camera& camera) {
  std::string text;
  for (const auto& entry : camera_knobs()) text += knob_text(entry, camera) + "\n";
  for (const auto& entry : plane_window_knobs()) text += knob_text(entry, camera.window) + "\n";
  return text;
}

/// What a picture is of, beside its settings: frames that differ in it have nothing in common.
std::string view_of(const Sitting::Stand& stand) {
  std::string text =
      fmt::format("{} {}x{}\n", stand.scene->version, stand.size.width, stand.size.height);
  text += camera_words(stand.settings.camera);
  for (const auto& [name, value] : stand.settings.numbers) text += name + "=" + value + "\n";
  return text;
}

}  // namespace

std::vector<Layer> frame_layers(const Frame& frame, LayerSet layers) {
  std::vector<Layer> there;
  for (const Layer layer : layers.list()) {
    if (frame.has(layer)) there.push_back(layer);
  }
  return there;
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

Settings with_changes(Settings settings,
                      const std::vector<std::pair<std::string, std::string>>& changed) {
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
  result.budget = stand.settings.budget;
  result.budget.light.transport = Transport::direct;
  result.budget.frame.width = stand.size.width;
  result.budget.frame.height = stand.size.height;
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
  state_ += 1;
  problem_.clear();
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
      state_ += 1;
    }
  }
  asked_.notify_all();
  made_.notify_all();
}

void Sitting::set(const std::string& name, const std::string& value) {
  if (value.size() > 4096) throw Error(ErrorKind::input, "a value of over 4096 characters");
  const Settings after = with_changes(settings_, {{name, value}});
  if (name.starts_with("camera.") || name.starts_with("window.")) {
    viewing(after.camera, size_);
    go_to(after.camera);
    return;
  }
  before_.push_back(settings_);
  if (before_.size() > 500) before_.erase(before_.begin());
  settings_ = after;
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

void Sitting::apply(const Json& act) {
  const bool plane = scene_->world.plane() != nullptr;
  Camera& camera = settings_.camera;
  const auto only = act.begin();
  const std::string& what = only.key();
  const Json& value = only.value();
  const auto move_done = [&] {
    moved_ = Clock::now();
    version_ += 1;
  };
  if (what == "set") {
    set(value.at(0).get<std::string>(), value.at(1).get<std::string>());
    if (value.size() > 2 && value.at(2).get<bool>()) moved_ = Clock::now();  // it is being turned
    changed();
  } else if (what == "reset") {
    const auto name = value.get<std::string>();
    set(name, setting_text(base_, name));
    changed();
  } else if (what == "settings") {
    // All changes at once, from what the file says.
    Settings fresh = base_;
    fresh.camera = camera;
    Changes changes;
    for (const Json& one : value) {
      changes.emplace_back(one.at("name").get<std::string>(), one.at("value").get<std::string>());
    }
    fresh = with_changes(fresh, changes);
    before_.push_back(settings_);
    settings_ = fresh;
    changed();
  } else if (what == "undo") {
    if (before_.empty()) return;
    const Camera kept = camera;
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
    state_ += 1;
  } else if (what == "quality") {
    quality_ = static_cast<int>(number_of(value, 1, 100));
    changed();
  } else if (what == "speed") {
    speed_ = number_of(value, 1e-3, 1e4);
    state_ += 1;
  } else if (what == "fly") {
    flying_ = value.get<bool>();
    state_ += 1;
  } else if (what == "measure") {
    measuring_ = value.get<bool>();
    changed();
  } else if (what == "forget") {
    tried_.clear();
    changed();
  } else if (what == "home") {
    go_to(base_.camera);
    changed();
  } else if (what == "look" && !plane) {
    // Degrees to the left and upward.
    const double left = degrees(number_of(value.at(0), -360, 360));
    const double up = degrees(number_of(value.at(1), -180, 180));
    camera.heading = std::remainder(camera.heading + left, 2 * std::numbers::pi);
    camera.pitch = std::clamp(camera.pitch + up, -degrees(89), degrees(89));
    if (left != 0 && !flying_) remember({.turn = left, .over = 0.04});
    move_done();
  } else if (what == "drive" && !plane) {
    const auto share = [&](const char* name) {
      return value.contains(name) ? number_of(value.at(name), -1, 1) : 0.0;
    };
    if (!drive_.any()) advanced_ = Clock::now();
    drive_ = {share("ahead"), share("right"), share("up"), share("turn"), share("tilt")};
    move_done();
  } else if (what == "widen" && !plane) {
    Camera wider = camera;
    wider.field_of_view =
        std::clamp(camera.field_of_view * number_of(value, 0.1, 10), degrees(1), degrees(150));
    viewing(wider, size_);
    camera = wider;
    move_done();
  } else if (what == "pan" && plane) {
    camera.window = panned(camera.window, size_, number_of(value.at(0), -1e5, 1e5),
                           number_of(value.at(1), -1e5, 1e5));
    move_done();
  } else if (what == "zoom" && plane) {
    const double x = number_of(value.at(0), 0, 1) * size_.width;
    const double y = number_of(value.at(1), 0, 1) * size_.height;
    camera.window = zoomed(camera.window, size_, x, y, number_of(value.at(2), 1e-3, 1e3));
    move_done();
  } else if (what == "look" || what == "drive" || what == "widen" || what == "pan" ||
             what == "zoom") {
    throw Error(ErrorKind::usage,
                what + (plane ? " is of rooms, this is a plane" : " is of planes, this is a room"));
  } else {
    throw Error(ErrorKind::usage, "no act is called " + one_line(what));
  }
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
  return {scene_, settings_, size_, layer_, frame_ms_, quality_, version_};
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
  Budget budget = stand.settings.budget;
  budget.frame.width = stand.size.width;
  budget.frame.height = stand.size.height;
  RenderOptions options;
  options.threads = threads_;
  options.layers = layers;
  options.progress = [this](double) {
    const std::lock_guard lock(mutex_);
    return !closing_;
  };
  return render(world_of(stand), stand.settings.camera, budget, std::move(options));
}

Frame Sitting::still(LayerSet layers) {
  Changes changed;
  {
    const std::lock_guard lock(mutex_);
    changed = changes_of(settings_);
  }
  return still(changed, layers);
}

void Sitting::write_budget() {
  if (!desk_->may_write()) {
    throw Error(ErrorKind::usage,
                "the tool was started without --write, so files stay as they are");
  }
  const Stand stand = stand_now();
  io::write_budget(stand.scene->file, stand.settings.budget);
}

// --- Pictures -----------------------------------------------------------------------------------

bool Sitting::moving() const { return drive_.any() || seconds_since(moved_) < still_after; }

void Sitting::say(const std::string& doing, double share) {
  const std::lock_guard lock(mutex_);
  doing_ = doing;
  doing_share_ = share;
}

bool Sitting::is_over(const Stand& stand) const {
  const std::lock_guard lock(mutex_);
  return closing_ || version_ != stand.version;
}

World Sitting::world_of(const Stand& stand) {
  const auto& scene = *stand.scene;
  if (stand.settings.numbers == scene.file.numbers) return scene.world;
  const std::lock_guard lock(world_mutex_);
  if (!world_ || world_version_ != scene.version || world_numbers_ != stand.settings.numbers) {
    const World& before = world_ && world_version_ == scene.version ? *world_ : scene.world;
    world_ = compile(io::scene_with(scene.file, stand.settings.numbers), World(before));
    world_version_ = scene.version;
    world_numbers_ = stand.settings.numbers;
  }
  return *world_;
}

Frame Sitting::frame_of(const Stand& stand, Size size, const std::string& doing) {
  Budget budget = stand.settings.budget;
  budget.frame.width = size.width;
  budget.frame.height = size.height;
  RenderOptions options;
  options.threads = threads_;
  options.layers =
      stand.layer == Layer::color ? LayerSet{Layer::color, Layer::display} : LayerSet{stand.layer};
  options.recycle = std::move(spare_);
  options.progress = [&](double share) {
    say(doing, share);
    return !is_over(stand);
  };
  return render(world_of(stand), stand.settings.camera, budget, std::move(options));
}

Frame Sitting::small_frame_of(const Stand& stand, Size size) {
  Stand rough = stand;
  FrameBudget& frame = rough.settings.budget.frame;
  frame.samples = 1;
  frame.scale = 1;
  if (stand.grows()) frame.denoise = std::max(frame.denoise, 4);
  Budget budget = rough.settings.budget;
  budget.frame.width = size.width;
  budget.frame.height = size.height;
  RenderOptions options;
  options.threads = threads_;
  options.layers =
      rough.layer == Layer::color ? LayerSet{Layer::color, Layer::display} : LayerSet{rough.layer};
  options.recycle = std::move(spare_);
  // While something moves every picture is late when it comes; only one that takes far too long
  // gives way to the next, smaller one.
  const auto start = Clock::now();
  options.progress = [&, start](double share) {
    const double ms = 1000 * seconds_since(start);
    const std::lock_guard lock(mutex_);
    if (closing_) return false;
    if (version_ == stand.version || ms < 2 * stand.frame_ms) return true;
    pace_.took(size.width * static_cast<double>(size.height), ms / std::max(share, 0.01));
    return false;
  };
  return render(world_of(rough), rough.settings.camera, budget, std::move(options));
}

void Sitting::publish(const Stand& stand, Frame& frame, bool whole, bool last) {
  const auto start = Clock::now();
  auto shown = std::make_shared<Shown>();
  Json facts{{"size", {frame.size().width, frame.size().height}},
             {"whole", whole},
             {"last", last},
             {"layer", name_of(stand.layer)}};
  const bool plain = stand.layer == Layer::color && frame.has(Layer::display);
  io::Legend legend;
  io::Picture picture;
  if (!plain || last) {
    picture = io::layer_picture(frame, stand.layer,
                                {.legend = false, .range = std::nullopt, .told = &legend});
  }
  if (last) {
    shown->type = "image/png";
    shown->bytes = io::png_bytes(picture);
  } else {
    shown->type = "image/jpeg";
    shown->bytes =
        plain ? jpeg_bytes(frame, stand.quality) : jpeg_bytes(picture, std::max(stand.quality, 90));
  }
  if (!legend.title.empty()) {
    Json told{{"title", legend.title}, {"ramp", legend.has_ramp}, {"swatches", Json::array()}};
    if (legend.has_ramp) {
      told["low"] = legend.low;
      told["high"] = legend.high;
      told["logarithmic"] = legend.logarithmic;
      told["colors"] = Json::array();
      for (int i = 0; i <= 8; ++i) told["colors"].push_back(io::ramp(i / 8.0));
    }
    for (const auto& swatch : legend.swatches) {
      told["swatches"].push_back({{"color", swatch.color}, {"name", swatch.name}});
    }
    facts["legend"] = told;
  }
  Json cost = Json::parse(io::frame_json(frame));
  facts["ms"] = frame.cost.total_ms();
  facts["frame"] = std::move(cost);
  facts["send_ms"] = 1000 * seconds_since(start);
  const Camera& camera = stand.settings.camera;
  if (stand.scene->world.plane() != nullptr) {
    facts["center"] = {camera.window.center.x.text(), camera.window.center.y.text()};
    facts["width"] = camera.window.width.text();
  } else {
    facts["eye"] = {camera.eye.x(), camera.eye.y(), camera.eye.z()};
    facts["heading"] = camera.heading * 180 / std::numbers::pi;
    facts["pitch"] = camera.pitch * 180 / std::numbers::pi;
    facts["field_of_view"] = camera.field_of_view * 180 / std::numbers::pi;
    facts["room"] = camera.room;
  }
  const std::lock_guard lock(mutex_);
  facts["version"] = stand.version;
  facts["state"] = state_;
  // When it was ready, by the clock that browsers have too, for who measures how late it is shown.
  facts["at"] =
      duration<double, std::milli>(std::chrono::system_clock::now().time_since_epoch()).count();
  shown->number = ++number_;
  facts["number"] = shown->number;
  shown->facts = std::move(facts);
  shown_ = std::move(shown);
  doing_.clear();
  made_.notify_all();
}

void Sitting::make_moving(const Stand& stand) {
  const auto start = Clock::now();
  const Size size = pace_.size_for(stand.size, stand.frame_ms);
  Frame frame = small_frame_of(stand, size);
  const bool whole = size == stand.size;
  publish(stand, frame, whole, false);
  pace_.took(size.width * static_cast<double>(size.height), 1000 * seconds_since(start));
  spare_ = std::move(frame);
}

Tried& Sitting::tried_of(const Stand& stand) {
  const std::string view = view_of(stand);
  if (view != view_) {
    view_ = view;
    tried_.clear();
  }
  const Changes changed = changes_of(stand.settings);
  for (Tried& one : tried_) {
    if (one.changed == changed) return one;
  }
  if (tried_.size() >= most_tried) tried_.erase(tried_.begin());
  tried_.push_back({changed, stand.settings, {}, std::nullopt, std::nullopt});
  return tried_.back();
}

void Sitting::make_still(const Stand& stand) {
  // Something to look at comes first.
  if (!pace_.known() || pace_.guess_ms(stand.size) > 2.5 * coarse_ms) {
    const auto start = Clock::now();
    const Size size = pace_.size_for(stand.size, coarse_ms);
    Frame rough = small_frame_of(stand, size);
    publish(stand, rough, false, false);
    pace_.took(size.width * static_cast<double>(size.height), 1000 * seconds_since(start));
    spare_ = std::move(rough);
    if (is_over(stand)) return;
  }
  // Where all of it takes long, something better is shown on the way.
  constexpr double long_ms = 1500;
  if (pace_.guess_ms(stand.size) > long_ms) {
    const Size size = Pace::divided(stand.size, 3);
    Frame rough = small_frame_of(stand, size);
    publish(stand, rough, false, false);
    spare_ = std::move(rough);
    if (is_over(stand)) return;
  }
  Frame frame = frame_of(stand, stand.size, "frame");
  publish(stand, frame, true, false);
  {
    const std::lock_guard lock(mutex_);
    Tried& tried = tried_of(stand);
    if (tried.ms.size() < 25) tried.ms.push_back(frame.cost.total_ms());
    state_ += 1;
  }
  // Without loss, when it stays.
  if (stand.settings.budget.frame.samples == 1) {
    pace_.took(stand.size.width * static_cast<double>(stand.size.height), frame.cost.total_ms());
  }
  {
    std::unique_lock lock(mutex_);
    asked_.wait_for(lock, std::chrono::milliseconds(150),
                    [&] { return closing_ || version_ != stand.version; });
  }
  if (is_over(stand)) return;
  publish(stand, frame, true, true);
  spare_ = std::move(frame);
}

void Sitting::make_growing(const Stand& stand) {
  make_moving(stand);
  Budget budget = stand.settings.budget;
  budget.frame.width = stand.size.width;
  budget.frame.height = stand.size.height;
  LayerSet layers{Layer::color, Layer::display};
  GrowingOptions options;
  options.threads = threads_;
  if (stand.layer != Layer::color) {
    layers = LayerSet{stand.layer};
    options.tell = true;
    options.meters = stand.layer == Layer::cost || stand.layer == Layer::work;
  }
  GrowingFrame growing(world_of(stand), stand.settings.camera, budget, options);
  const double target = stand.settings.budget.frame.samples;
  double wait = 0.15;
  const auto start = Clock::now();
  auto shown = start;
  std::optional<double> noise;
  const auto going_on = [&](double) {
    say("samples", growing.samples() / target);
    return !is_over(stand);
  };
  for (int samples = 1;;) {
    const auto from = Clock::now();
    growing.take(samples, going_on);
    const double a_sample = std::max(1e-6, seconds_since(from) / samples);
    const bool last = growing.samples() >= target;
    if (samples == 1 || last || seconds_since(shown) > wait) {
      Frame frame = growing.picture(layers);
      if (last && frame.path_report) noise = frame.path_report->rmse;
      publish(stand, frame, true, last);
      shown = Clock::now();
      wait = std::min(2.0, 1.4 * wait);
    }
    if (last) break;
    // So many that about a tenth of a second goes by, and no more than are wanted.
    samples = std::clamp(static_cast<int>(0.1 / a_sample), 1,
                         static_cast<int>(std::ceil(target - growing.samples())));
  }
  const std::lock_guard lock(mutex_);
  Tried& tried = tried_of(stand);
  tried.ms.push_back(1000 * seconds_since(start));
  tried.noise = noise;
  state_ += 1;
}

void Sitting::repeat(const Stand& stand) {
  for (;;) {
    {
      const std::lock_guard lock(mutex_);
      const Tried& tried = tried_of(stand);
      if (tried.ms.size() >= timed_frames || (!tried.ms.empty() && tried.ms.front() > 2000)) return;
    }
    Frame frame = frame_of(stand, stand.size, "timing");
    {
      const std::lock_guard lock(mutex_);
      tried_of(stand).ms.push_back(frame.cost.total_ms());
      state_ += 1;
    }
    spare_ = std::move(frame);
  }
}

void Sitting::measure(const Stand& stand) {
  std::vector<Tried> tried;
  Budget base;
  {
    const std::lock_guard lock(mutex_);
    tried_of(stand);
    tried = tried_;
    base = base_.budget;
  }
  const auto sized = [&](Budget budget) {
    budget.frame.width = stand.size.width;
    budget.frame.height = stand.size.height;
    return budget;
  };
  const Budget best = sized(best_of(base, tried));
  const bool plane = stand.scene->world.plane() != nullptr;
  const auto frame_by = [&](const Budget& budget, const std::string& doing) {
    RenderOptions options;
    options.threads = threads_;
    options.layers = LayerSet{Layer::color};
    if (!plane)
      options.layers = {Layer::color, Layer::cell, Layer::face, Layer::ending, Layer::depth};
    options.progress = [&](double share) {
      say(doing, share);
      return !is_over(stand);
    };
    return render(world_of(stand), stand.settings.camera, budget, std::move(options));
  };
  std::string of = view_of(stand);
  for (const Knob<Budget>& entry : budget_knobs()) of += knob_text(entry, best) + "\n";
  if (!truth_ || truth_of_ != of) {
    truth_.reset();
    truth_ = frame_by(best, "reference");
    truth_of_ = of;
    // What was held against another one counts no longer, also where this is stopped halfway.
    for (Tried& one : tried) one.error.reset();
    const std::lock_guard lock(mutex_);
    for (Tried& one : tried_) one.error.reset();
    difference_of_ = 0;
  }
  const Changes now = [&] {
    const std::lock_guard lock(mutex_);
    return changes_of(stand.settings);
  }();
  // What is shown comes first, then what was tried and is not known.
  std::stable_partition(tried.begin(), tried.end(),
                        [&](const Tried& one) { return one.changed == now; });
  for (const Tried& one : tried) {
    const bool shown = one.changed == now;
    if (one.error && !(shown && difference_of_ != stand.version)) continue;
    Difference error = compare(frame_by(sized(one.settings.budget), "error"), *truth_);
    const std::string picture =
        shown ? io::png_bytes(io::difference_picture(error, false)) : std::string();
    error.errors = {};
    const std::lock_guard lock(mutex_);
    if (version_ != stand.version) return;
    for (Tried& known : tried_) {
      if (known.changed == one.changed) known.error = error;
    }
    if (shown) {
      difference_ = picture;
      difference_of_ = stand.version;
    }
    state_ += 1;
    made_.notify_all();
  }
}

void Sitting::go(double seconds, const Drive& drive, const Stand& stand) {
  Camera camera = stand.settings.camera;
  const double way = speed_ * seconds * body_scale_;
  const double turn = degrees(90) * drive.turn * seconds;
  const double tilt = degrees(60) * drive.tilt * seconds;
  if (flying_) {
    const Viewing view = viewing(camera, stand.size);
    camera.eye +=
        way * (drive.ahead * view.forward + drive.right * view.right) + Vec3d(0, 0, way * drive.up);
    camera.heading += turn;
  } else {
    WalkScript script;
    script.radius *= body_scale_;
    script.step *= body_scale_;
    script.rate = 1 / seconds;
    WalkMove move;
    move.forward = way * drive.ahead;
    move.sideways = way * drive.right;
    move.turn = turn;
    move.over = seconds;
    script.moves.push_back(move);
    const World world = world_of(stand);
    const std::vector<WalkStep> steps = walk(world, camera, script);
    camera = camera_at(world, camera, steps.back());
    const std::lock_guard lock(mutex_);
    body_scale_ *= steps.back().scale;
    remember(move);
  }
  const std::lock_guard lock(mutex_);
  // What was looked at meanwhile stays.
  Camera& now = settings_.camera;
  now.eye = camera.eye;
  now.room = camera.room;
  now.heading = std::remainder(now.heading + camera.heading - stand.settings.camera.heading,
                               2 * std::numbers::pi);
  now.pitch = std::clamp(now.pitch + tilt, -degrees(89), degrees(89));
  version_ += 1;
}

void Sitting::advance(double seconds) {
  Drive drive;
  Stand stand;
  {
    const std::lock_guard lock(mutex_);
    drive = drive_;
    stand = stand_held();
  }
  if (drive.any() && seconds > 0.001) go(std::min(seconds, 0.1), drive, stand);
}

void Sitting::work() {
  for (;;) {
    bool moves = false;
    {
      std::unique_lock lock(mutex_);
      const auto has_work = [&] { return closing_ || drive_.any() || settled_ != version_; };
      doing_.clear();
      asked_.wait(lock, has_work);
      if (closing_) return;
      moves = moving();
    }
    std::uint64_t version = 0;
    try {
      {
        const auto now = Clock::now();
        advance(duration<double>(now - advanced_).count());
        advanced_ = now;
      }
      const Stand stand = stand_now();
      version = stand.version;
      const std::string paced = fmt::format("{} {}", stand.scene->version, name_of(stand.layer));
      if (paced != paced_) {
        paced_ = paced;
        pace_.forget();
      }
      if (moves) {
        make_moving(stand);
        // None is made that nobody sees. One that takes long is begun when the one before is on its
        // way; one that is soon done when it is asked for, and so shows what is asked for then.
        {
          const double took = pace_.guess_ms(pace_.size_for(stand.size, stand.frame_ms));
          std::unique_lock lock(mutex_);
          asked_.wait_for(lock, duration<double>(longest_look), [&] {
            return closing_ || waiting_ > 0 || (taken_ == number_ && took > soon_ms);
          });
        }
        // The last move's picture is made better when nothing has moved for a moment.
        std::unique_lock lock(mutex_);
        if (!drive_.any() && version_ == stand.version) {
          asked_.wait_for(lock, duration<double>(still_after - seconds_since(moved_)),
                          [&] { return closing_ || version_ != stand.version || drive_.any(); });
        }
        continue;
      }
      if (stand.grows()) {
        make_growing(stand);
      } else {
        make_still(stand);
      }
      {
        std::unique_lock lock(mutex_);
        asked_.wait_for(lock, duration<double>(measured_after),
                        [&] { return closing_ || version_ != stand.version || drive_.any(); });
        if (closing_ || version_ != stand.version) continue;
      }
      if (!stand.grows()) repeat(stand);
      bool measuring = false;
      {
        const std::lock_guard lock(mutex_);
        measuring = measuring_;
      }
      // How far light by paths is off it tells by itself; a reference would take as long as an
      // evening.
      if (measuring && !stand.grows()) measure(stand);
      const std::lock_guard lock(mutex_);
      settled_ = stand.version;
      made_.notify_all();
    } catch (const Error& error) {
      const std::lock_guard lock(mutex_);
      if (error.kind() == ErrorKind::cancelled) continue;
      problem_ = error.what();
      drive_ = {};
      settled_ = version;
      state_ += 1;
      made_.notify_all();
    } catch (const std::bad_alloc&) {
      const std::lock_guard lock(mutex_);
      problem_ = "out of memory";
      settled_ = version;
      state_ += 1;
      made_.notify_all();
    }
  }
}

}  // namespace photonlane::live
