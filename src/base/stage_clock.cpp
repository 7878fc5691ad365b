#include "base/stage_clock.hpp"

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>

#include "base/parallel.hpp"

#if defined(__x86_64__)
#include <x86intrin.h>
#endif

namespace photonlane {
namespace {

using Clock = std::chrono::steady_clock;

/// Of the processor where it has a counter that is quick to read.
std::uint64_t ticks_now() {
#if defined(__x86_64__)
  return __rdtsc();
#else
  return static_cast<std::uint64_t>(Clock::now().time_since_epoch().count());
#endif
}

/// Where both clocks stood when the program started.
struct Start {
  Clock::time_point time = Clock::now();
  std::uint64_t ticks = ticks_now();
};
const Start start;

/// What a thread measures.
struct Thread {
  StageTicks* to = nullptr;
  StageState state;
  std::uint64_t last = 0;
  std::uint64_t work = 0;       ///< counted so far
  std::uint64_t last_work = 0;  ///< of that, what was booked
};
thread_local Thread own;

StageTicks::Entry& entry_of(StageTicks& ticks, LaneKind lanes, Work work) {
  return ticks.entries[static_cast<std::size_t>(lanes)][static_cast<std::size_t>(work)];
}

/// Of one lane or place, in about nanoseconds of a plain machine.
constexpr std::array<std::uint64_t, work_count> price_each = [] {
  std::array<std::uint64_t, work_count> price{};
  const auto put = [&](Work work, std::uint64_t ns) { price[static_cast<std::size_t>(work)] = ns; };
  put(Work::aim, 3);
  put(Work::cells, 90);
  put(Work::march, 60);
  put(Work::solids, 60);
  put(Work::portals, 40);
  put(Work::paint, 40);
  put(Work::pattern, 80);
  put(Work::light, 35);
  put(Work::sprites, 60);
  return price;
}();
constexpr std::uint64_t price_of_evaluation = 10;

/// Books the time since the last look at the clock.
void book(Thread& thread) {
  const std::uint64_t now = ticks_now();
  // Clocks of two processors may differ by a little.
  const std::uint64_t passed = now > thread.last ? now - thread.last : 0;
  entry_of(*thread.to, thread.state.lanes, thread.state.work).ticks += passed;
  if (thread.state.meter != nullptr) {
    thread.state.meter->ticks += passed;
    thread.state.meter->work += thread.work - thread.last_work;
  }
  thread.last = now;
  thread.last_work = thread.work;
}

}  // namespace

double ticks_per_ns() {
  // Over a millisecond both clocks agree to a thousandth.
  for (;;) {
    const double ns = std::chrono::duration<double, std::nano>(Clock::now() - start.time).count();
    const auto ticks = static_cast<double>(ticks_now() - start.ticks);
    if (ns > 1e6) return std::max(ticks / ns, 1e-9);
  }
}

StageTicks& StageTicks::operator+=(const StageTicks& other) {
  for (std::size_t k = 0; k < lane_kind_count; ++k) {
    for (std::size_t w = 0; w < work_count; ++w) {
      entries[k][w].ticks += other.entries[k][w].ticks;
      entries[k][w].times += other.entries[k][w].times;
      entries[k][w].count += other.entries[k][w].count;
    }
  }
  unsplit += other.unsplit;
  told += other.told;
  untold += other.untold;
  return *this;
}

std::uint64_t StageTicks::total() const {
  std::uint64_t sum = unsplit;
  for (const auto& kind : entries) {
    for (const Entry& entry : kind) sum += entry.ticks;
  }
  return sum;
}

double StageTicks::total_ms() const {
  return static_cast<double>(total()) / (ticks_per_ns() * 1e6);
}

StageTimes StageTicks::times() const {
  StageTimes times;
  const auto of_lanes = [](std::size_t k, std::size_t w) {
    return static_cast<LaneKind>(k) != LaneKind::frame || static_cast<Work>(w) == Work::pixels;
  };
  std::uint64_t split = 0;
  for (std::size_t k = 0; k < lane_kind_count; ++k) {
    for (std::size_t w = 0; w < work_count; ++w) split += of_lanes(k, w) ? entries[k][w].ticks : 0;
  }
  const double more =
      split == 0 ? 1 : 1 + static_cast<double>(unsplit) / static_cast<double>(split);
  const double more_often =
      told == 0 ? 1 : 1 + static_cast<double>(untold) / static_cast<double>(told);
  const double per_ms = ticks_per_ns() * 1e6;
  for (std::size_t k = 0; k < lane_kind_count; ++k) {
    for (std::size_t w = 0; w < work_count; ++w) {
      if (entries[k][w].ticks == 0) continue;
      Stage& stage = times.at(static_cast<LaneKind>(k), static_cast<Work>(w));
      const double share = of_lanes(k, w) ? more : 1;
      const auto scaled = [&](std::uint64_t counted) {
        const double often = of_lanes(k, w) ? more_often : 1;
        return static_cast<std::uint64_t>(often * static_cast<double>(counted) + 0.5);
      };
      stage.ms = share * static_cast<double>(entries[k][w].ticks) / per_ms;
      stage.times = scaled(entries[k][w].times);
      stage.count = scaled(entries[k][w].count);
    }
  }
  return times;
}

StageRun::StageRun(StageTicks& to) : outer_(own.to), state_(own.state) {
  if (outer_ != nullptr) book(own);
  own.to = &to;
  own.state = {};
  own.last = ticks_now();
}

StageRun::~StageRun() {
  book(own);
  own.to = outer_;
  own.state = state_;
}

StageScope::StageScope(Work work, std::size_t count) : StageScope(own.state.lanes, work, count) {}

StageScope::StageScope(LaneKind lanes) : StageScope(lanes, Work::order) {}

StageScope::StageScope(LaneKind lanes, Work work, std::size_t count)
    : on_(own.to != nullptr), lanes_(own.state.lanes), work_(own.state.work) {
  if (!on_) return;
  book(own);
  own.state.lanes = lanes;
  own.state.work = work;
  StageTicks::Entry& entry = entry_of(*own.to, lanes, work);
  ++entry.times;
  entry.count += count;
  own.work += count * price_each[static_cast<std::size_t>(work)];
}

StageScope::~StageScope() {
  if (!on_ || own.to == nullptr) return;
  book(own);
  own.state.lanes = lanes_;
  own.state.work = work_;
}

UnsplitStages::UnsplitStages(bool on) {
  if (own.to == nullptr) return;
  ++(on ? own.to->untold : own.to->told);
  if (!on) return;
  to_ = own.to;
  book(own);
  own.to = nullptr;
}

UnsplitStages::~UnsplitStages() {
  if (to_ == nullptr) return;
  const std::uint64_t now = ticks_now();
  to_->unsplit += now > own.last ? now - own.last : 0;
  own.last = now;
  own.to = to_;
}

StageMeter::StageMeter(StageReading* to) : outer_(own.state.meter) {
  if (own.to != nullptr) book(own);
  own.state.meter = to;
}

StageMeter::~StageMeter() {
  if (own.to != nullptr) book(own);
  own.state.meter = outer_;
}

StageSum::StageSum() {
  static std::atomic<std::uint64_t> next{1};
  id_ = next++;
}

StageTicks& StageSum::mine() {
  struct Last {
    std::uint64_t id = 0;
    StageTicks* part = nullptr;
  };
  static thread_local Last last;
  if (last.id != id_) {
    const std::lock_guard lock(making_);
    last = {id_, &parts_.emplace_back()};
  }
  return *last.part;
}

void StageSum::parallel(int threads, std::size_t count,
                        const std::function<void(std::size_t)>& work) {
  if (own.to != nullptr) book(own);
  const std::uint64_t before = all().total();
  const std::uint64_t from = ticks_now();
  parallel_for(threads, count, [&](std::size_t i) {
    const StageRun run(mine());
    work(i);
  });
  const std::uint64_t now = ticks_now();
  thread_ticks_ += (now - from) * static_cast<std::uint64_t>(thread_count(threads));
  busy_ticks_ += all().total() - before;
  // What this thread waited for the others is not what it is at.
  own.last = now;
}

StageTicks StageSum::all() const {
  StageTicks sum;
  for (const StageTicks& part : parts_) sum += part;
  return sum;
}

double StageSum::waiting_ms() const {
  const std::uint64_t idle = thread_ticks_ > busy_ticks_ ? thread_ticks_ - busy_ticks_ : 0;
  return static_cast<double>(idle) / (ticks_per_ns() * 1e6);
}

void count_evaluations(std::uint64_t evaluations) { own.work += evaluations * price_of_evaluation; }

StageState stage_now() { return own.state; }

void set_stage(const StageState& state) {
  if (own.to != nullptr) book(own);
  own.state = state;
}

SharedStages::SharedStages() : outer_(own.to), state_(own.state), on_(own.to != nullptr) {
  if (!on_) return;
  book(own);
  own.to = &own_;
  own.state.meter = nullptr;
  work_ = own.work;
}

void SharedStages::end() {
  if (!on_) return;
  on_ = false;
  book(own);
  work_ = own.work - work_;
  own.to = outer_;
  own.state = state_;
}

SharedStages::~SharedStages() { end(); }

void SharedStages::give(const std::vector<Asker>& askers) {
  if (!on_) return;
  end();
  std::size_t all = 0;
  for (const Asker& asker : askers) all += asker.count;
  if (all == 0) return;
  std::size_t first = 0;
  for (const Asker& asker : askers) {
    if (asker.state.meter != nullptr) {
      asker.state.meter->work += work_ * (first + asker.count) / all - work_ * first / all;
    }
    first += asker.count;
  }
  for (std::size_t w = 0; w < work_count; ++w) {
    StageTicks::Entry sum;
    for (const auto& kind : own_.entries) {
      sum.ticks += kind[w].ticks;
      sum.times += kind[w].times;
      sum.count += kind[w].count;
    }
    if (sum.ticks == 0) continue;
    std::size_t before = 0;
    // What is left by rounding goes to those that come next.
    const auto part = [&](std::uint64_t of, std::size_t count) {
      const auto up_to = [&](std::size_t lanes) {
        return static_cast<std::uint64_t>(static_cast<double>(of) * static_cast<double>(lanes) /
                                          static_cast<double>(all));
      };
      return up_to(before + count) - up_to(before);
    };
    for (const Asker& asker : askers) {
      const std::uint64_t ticks = part(sum.ticks, asker.count);
      StageTicks::Entry& to = entry_of(*outer_, asker.state.lanes, static_cast<Work>(w));
      to.ticks += ticks;
      to.times += part(sum.times, asker.count);
      to.count += part(sum.count, asker.count);
      if (asker.state.meter != nullptr) asker.state.meter->ticks += ticks;
      before += asker.count;
    }
  }
}

Stage& StageTimes::at(LaneKind lanes, Work work) {
  for (Stage& stage : stages_) {
    if (stage.lanes == lanes && stage.work == work) return stage;
  }
  return stages_.emplace_back(Stage{.lanes = lanes, .work = work});
}

Stage StageTimes::at(LaneKind lanes, Work work) const {
  for (const Stage& stage : stages_) {
    if (stage.lanes == lanes && stage.work == work) return stage;
  }
  return {.lanes = lanes, .work = work};
}

double StageTimes::ms_of(LaneKind lanes) const {
  double sum = 0;
  for (const Stage& stage : stages_) sum += stage.lanes == lanes ? stage.ms : 0;
  return sum;
}

double StageTimes::ms_of(Work work) const {
  double sum = 0;
  for (const Stage& stage : stages_) sum += stage.work == work ? stage.ms : 0;
  return sum;
}

double StageTimes::total_ms() const {
  double sum = 0;
  for (const Stage& stage : stages_) sum += stage.ms;
  return sum;
}

std::vector<Stage> StageTimes::list() const {
  std::vector<Stage> stages = stages_;
  std::stable_sort(stages.begin(), stages.end(),
                   [](const Stage& a, const Stage& b) { return a.ms > b.ms; });
  return stages;
}

StageTimes& StageTimes::operator+=(const StageTimes& other) {
  for (const Stage& stage : other.stages_) {
    Stage& sum = at(stage.lanes, stage.work);
    sum.ms += stage.ms;
    sum.times += stage.times;
    sum.count += stage.count;
  }
  return *this;
}

}  // namespace photonlane
