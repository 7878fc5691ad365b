// The thread of an open page: pictures of what is asked for, prices and errors of what is tried.

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <utility>

#include "live/encode.hpp"
#include "live/sitting.hpp"
#include "live/stand.hpp"

namespace photonlane::live {
namespace {

using std::chrono::duration;

constexpr double still_after = 0.18;    // seconds without a move, until the picture gets better
constexpr double coarse_ms = 60;        // what a first picture may take
constexpr double soon_ms = 12;          // a picture is made when it is asked for, not ahead
constexpr double longest_look = 0.3;    // seconds that a picture waits to be taken
constexpr double measured_after = 0.6;  // seconds without a move, until prices and errors are asked
constexpr std::size_t most_tried = 200;
constexpr std::size_t timed_frames = 5;

/// What a picture is of, beside its settings: frames that differ in it have nothing in common.
std::string view_of(const Sitting::Stand& stand) {
  std::string text =
      fmt::format("{} {}x{}\n", stand.scene->version, stand.size.width, stand.size.height);
  text += camera_words(stand.settings.camera);
  for (const auto& [name, value] : stand.settings.numbers) text += name + "=" + value + "\n";
  return text;
}

LayerSet shown_layers(const Sitting::Stand& stand) {
  return stand.layer == Layer::color ? LayerSet{Layer::color, Layer::display}
                                     : LayerSet{stand.layer};
}

double pixels_of(Size size) { return size.width * static_cast<double>(size.height); }

Json legend_facts(const io::Legend& legend) {
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
  return told;
}

}  // namespace

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

std::function<bool(double share)> Sitting::until_over(const Stand& stand,
                                                      const std::string& doing) {
  return [this, &stand, doing](double share) {
    say(doing, share);
    return !is_over(stand);
  };
}

World Sitting::world_of(const Stand& stand) const {
  const auto& scene = *stand.scene;
  if (stand.settings.numbers == scene.file.numbers) return scene.world;
  const std::lock_guard lock(world_mutex_);
  if (!world_ || world_version_ != scene.version || world_numbers_ != stand.settings.numbers) {
    const World before = world_ && world_version_ == scene.version ? *world_ : scene.world;
    world_ = compile(io::scene_with(scene.file, stand.settings.numbers), before);
    world_version_ = scene.version;
    world_numbers_ = stand.settings.numbers;
  }
  return *world_;
}

Frame Sitting::frame_of(const Stand& stand, Budget budget, LayerSet layers,
                        std::function<bool(double share)> progress, Frame recycle) const {
  RenderOptions options;
  options.threads = threads_;
  options.layers = layers;
  options.progress = std::move(progress);
  options.recycle = std::move(recycle);
  return render(world_of(stand), stand.settings.camera, budget, std::move(options));
}

Frame Sitting::whole_frame_of(const Stand& stand, const std::string& doing) {
  return frame_of(stand, stand.budget(), shown_layers(stand), until_over(stand, doing),
                  std::move(spare_));
}

Frame Sitting::small_frame_of(const Stand& stand, Size size) {
  Budget budget = stand.budget(size);
  budget.frame.samples = 1;
  budget.frame.scale = 1;
  if (stand.grows()) budget.frame.denoise = std::max(budget.frame.denoise, 4);
  // While something moves every picture is late when it comes; only one that takes far too long
  // gives way to the next, smaller one.
  const auto start = Clock::now();
  const auto in_time = [&, start](double share) {
    const double ms = 1000 * seconds_since(start);
    const std::lock_guard lock(mutex_);
    if (closing_) return false;
    if (version_ == stand.version || ms < 2 * stand.frame_ms) return true;
    pace_.took(pixels_of(size), ms / std::max(share, 0.01));
    return false;
  };
  return frame_of(stand, budget, shown_layers(stand), in_time, std::move(spare_));
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
  if (!legend.title.empty()) facts["legend"] = legend_facts(legend);
  facts["ms"] = frame.cost.total_ms();
  facts["frame"] = Json::parse(io::frame_json(frame));
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

bool Sitting::show_rough(const Stand& stand, Size size) {
  const auto start = Clock::now();
  Frame frame = small_frame_of(stand, size);
  publish(stand, frame, size == stand.size, false);
  pace_.took(pixels_of(size), 1000 * seconds_since(start));
  spare_ = std::move(frame);
  return !is_over(stand);
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
  // Something to look at comes first; where all of it takes long, something better on the way.
  constexpr double long_ms = 1500;
  const auto whole_ms = [&] {
    return pace_.guess_ms(stand.size) * stand.settings.budget.frame.samples;
  };
  const bool soon = pace_.known() && whole_ms() <= 2.5 * coarse_ms;
  if (!soon && !show_rough(stand, pace_.size_for(stand.size, coarse_ms))) return;
  if (whole_ms() > long_ms && !show_rough(stand, Pace::divided(stand.size, 3))) return;
  Frame frame = whole_frame_of(stand, "frame");
  publish(stand, frame, true, false);
  // Land around the eye is shown as it is made.
  while (frame.cost.missing > 0) {
    {
      std::unique_lock lock(mutex_);
      const auto over = [&] { return closing_ || version_ != stand.version; };
      if (asked_.wait_for(lock, std::chrono::milliseconds(150), over)) return;
    }
    spare_ = std::move(frame);
    frame = whole_frame_of(stand, "land");
    publish(stand, frame, true, false);
  }
  if (stand.settings.budget.frame.samples == 1) {
    pace_.took(pixels_of(stand.size), frame.cost.total_ms());
  }
  std::unique_lock lock(mutex_);
  tried_of(stand).ms.push_back(frame.cost.total_ms());
  tell();
  // Without loss, when it stays.
  asked_.wait_for(lock, std::chrono::milliseconds(150),
                  [&] { return closing_ || version_ != stand.version; });
  if (closing_ || version_ != stand.version) return;
  lock.unlock();
  publish(stand, frame, true, true);
  spare_ = std::move(frame);
}

void Sitting::make_growing(const Stand& stand) {
  show_rough(stand, pace_.size_for(stand.size, stand.frame_ms));
  GrowingOptions options;
  options.threads = threads_;
  options.tell = stand.layer != Layer::color;
  options.meters = stand.layer == Layer::cost || stand.layer == Layer::work;
  GrowingFrame growing(world_of(stand), stand.settings.camera, stand.budget(), options);
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
      Frame frame = growing.picture(shown_layers(stand));
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
  tell();
}

void Sitting::repeat(const Stand& stand) {
  for (;;) {
    {
      const std::lock_guard lock(mutex_);
      const Tried& tried = tried_of(stand);
      if (tried.ms.size() >= timed_frames || (!tried.ms.empty() && tried.ms.front() > 2000)) return;
    }
    Frame frame = whole_frame_of(stand, "timing");
    {
      const std::lock_guard lock(mutex_);
      tried_of(stand).ms.push_back(frame.cost.total_ms());
      tell();
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
  LayerSet layers{Layer::color};
  if (stand.scene->world.plane() == nullptr) {
    layers = {Layer::color, Layer::cell, Layer::face, Layer::ending, Layer::depth};
  }
  std::string of = view_of(stand);
  for (const Knob<Budget>& entry : budget_knobs()) of += knob_text(entry, best) + "\n";
  if (!truth_ || truth_of_ != of) {
    truth_.reset();
    truth_ = frame_of(stand, best, layers, until_over(stand, "reference"));
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
    Difference error = compare(
        frame_of(stand, sized(one.settings.budget), layers, until_over(stand, "error")), *truth_);
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
    tell();
  }
}

void Sitting::advance() {
  Stand stand;
  double seconds = 0;
  {
    const std::lock_guard lock(mutex_);
    stand = stand_held();
    const auto now = Clock::now();
    // After a slow picture nobody goes through a room in one step.
    seconds = std::min(0.1, duration<double>(now - std::exchange(advanced_, now)).count());
  }
  const Drive& drive = stand.drive;
  if (!drive.any() || seconds < 0.001) return;
  Camera camera = stand.settings.camera;
  const double way = stand.speed * seconds * stand.body_scale;
  const double turn = degrees(90) * drive.turn * seconds;
  const double tilt = degrees(60) * drive.tilt * seconds;
  WalkMove move{
      .forward = way * drive.ahead, .sideways = way * drive.right, .turn = turn, .over = seconds};
  double scale = 1;
  if (stand.flying) {
    const Viewing view = viewing(camera, stand.size);
    camera.eye +=
        way * (drive.ahead * view.forward + drive.right * view.right) + Vec3d(0, 0, way * drive.up);
    camera.heading += turn;
  } else {
    WalkScript script;
    script.radius *= stand.body_scale;
    script.step *= stand.body_scale;
    script.rate = 1 / seconds;
    script.moves.push_back(move);
    const World world = world_of(stand);
    const WalkStep end = walk(world, camera, script).back();
    camera = camera_at(world, camera, end);
    scale = end.scale;
  }
  const std::lock_guard lock(mutex_);
  Camera& now = settings_.camera;
  const Camera& then = stand.settings.camera;
  if (now.eye != then.eye || now.room != then.room) return;  // it was put elsewhere meanwhile
  if (!stand.flying) remember(move);
  body_scale_ *= scale;
  // What was looked at meanwhile stays.
  now.eye = camera.eye;
  now.room = camera.room;
  now.heading = std::remainder(now.heading + camera.heading - then.heading, 2 * std::numbers::pi);
  now.pitch = std::clamp(now.pitch + tilt, -degrees(89), degrees(89));
  version_ += 1;
}

void Sitting::make(bool moves, const Stand& stand) {
  const auto over = [&] { return closing_ || version_ != stand.version || drive_.any(); };
  if (moves) {
    const Size size = pace_.size_for(stand.size, stand.frame_ms);
    show_rough(stand, size);
    // None is made that nobody sees. One that takes long is begun when the one before is on its
    // way; one that is soon done when it is asked for, and so shows what is asked for then.
    const bool ahead = pace_.guess_ms(size) > soon_ms;
    std::unique_lock lock(mutex_);
    asked_.wait_for(lock, duration<double>(longest_look),
                    [&] { return closing_ || waiting_ > 0 || (ahead && taken_ == number_); });
    // The last move's picture is made better when nothing has moved for a moment.
    if (!over()) asked_.wait_for(lock, duration<double>(still_after - seconds_since(moved_)), over);
    return;
  }
  if (stand.grows()) {
    make_growing(stand);
  } else {
    make_still(stand);
  }
  {
    std::unique_lock lock(mutex_);
    if (asked_.wait_for(lock, duration<double>(measured_after), over)) return;
  }
  // How far light by paths is off it tells by itself; a reference would take as long as an evening.
  if (!stand.grows()) {
    repeat(stand);
    if (stand.measuring) measure(stand);
  }
  const std::lock_guard lock(mutex_);
  settled_ = stand.version;
}

void Sitting::work() {
  for (;;) {
    bool moves = false;
    std::uint64_t version = 0;
    {
      std::unique_lock lock(mutex_);
      doing_.clear();
      asked_.wait(lock, [&] { return closing_ || drive_.any() || settled_ != version_; });
      if (closing_) return;
      moves = moving();
      version = version_;
    }
    std::string problem;
    try {
      advance();
      const Stand stand = stand_now();
      version = stand.version;
      const std::string paced = fmt::format("{} {}", stand.scene->version, name_of(stand.layer));
      if (std::exchange(paced_, paced) != paced) pace_.forget();
      make(moves, stand);
      continue;
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::cancelled) continue;
      problem = error.what();
    } catch (const std::bad_alloc&) {
      problem = "out of memory";
    }
    const std::lock_guard lock(mutex_);
    problem_ = problem;
    drive_ = {};
    settled_ = version;
    tell();
  }
}

}  // namespace photonlane::live
