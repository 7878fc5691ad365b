#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <functional>
#include <mutex>
#include <vector>

#include "photonlane/base/stages.hpp"

namespace photonlane {

/// Time in ticks of the machine's clock, by stage.
struct StageTicks {
  struct Entry {
    std::uint64_t ticks = 0;
    std::uint64_t times = 0;
    std::uint64_t count = 0;
  };
  std::array<std::array<Entry, work_count>, lane_kind_count> entries{};
  std::uint64_t unsplit = 0;  ///< in UnsplitStages
  std::uint64_t told = 0;     ///< parts that might have been, and were looked at
  std::uint64_t untold = 0;   ///< and that were not

  StageTicks& operator+=(const StageTicks& other);
  StageTimes times() const;
  std::uint64_t total() const;  ///< ticks
  double total_ms() const;
};

/// What one batch took: ticks of the clock, and counted work at fixed prices (about nanoseconds of
/// a plain machine), which is the same each time.
struct StageReading {
  std::uint64_t ticks = 0;
  std::uint64_t work = 0;
};

/// What a thread is at. Each fiber has its own.
struct StageState {
  LaneKind lanes = LaneKind::frame;
  Work work = Work::rest;
  StageReading* meter = nullptr;  ///< what one batch takes goes here as well; null: nowhere
};

/// From here to its end this thread's time goes to `to`, all to (frame, rest) unless something
/// within says otherwise. Within another one it takes that one's time.
class StageRun {
 public:
  explicit StageRun(StageTicks& to);
  StageRun(const StageRun&) = delete;
  StageRun& operator=(const StageRun&) = delete;
  ~StageRun();

 private:
  StageTicks* outer_;
  StageState state_;
};

/// From here to its end this thread is at something else. Costs nothing worth speaking of outside
/// of a StageRun, and two looks at the clock within: for batches, not for lanes.
class StageScope {
 public:
  explicit StageScope(Work work, std::size_t count = 0);
  /// At whatever its batches take beside what has a name: Work::order.
  explicit StageScope(LaneKind lanes);
  StageScope(LaneKind lanes, Work work, std::size_t count = 0);
  StageScope(const StageScope&) = delete;
  StageScope& operator=(const StageScope&) = delete;
  ~StageScope();

 private:
  bool on_;
  LaneKind lanes_;
  Work work_;
};

/// From here to its end the clock is not looked at: the time counts as spent like that of the
/// other lanes of the run. For batches that take as little as looking at the clock does.
class UnsplitStages {
 public:
  explicit UnsplitStages(bool on);
  UnsplitStages(const UnsplitStages&) = delete;
  UnsplitStages& operator=(const UnsplitStages&) = delete;
  ~UnsplitStages();

 private:
  StageTicks* to_ = nullptr;
};

/// From here to its end what is done is added to a meter too. Of those within one another the inner
/// one gets it.
class StageMeter {
 public:
  explicit StageMeter(StageReading* to);
  StageMeter(const StageMeter&) = delete;
  StageMeter& operator=(const StageMeter&) = delete;
  ~StageMeter();

 private:
  StageReading* outer_;
};

/// The time of the threads that make one frame.
class StageSum {
 public:
  StageSum();
  /// This thread's own part of it.
  StageTicks& mine();
  /// Calls work(i) for every i below count, on that many threads, and books their time.
  void parallel(int threads, std::size_t count, const std::function<void(std::size_t)>& work);
  StageTicks all() const;
  /// Milliseconds of threads in parallel() that had nothing to do: more than what they were at.
  double waiting_ms() const;

 private:
  std::uint64_t id_;
  std::mutex making_;
  std::deque<StageTicks> parts_;
  std::uint64_t thread_ticks_ = 0;  ///< in parallel(): the time that passed, once for each thread
  std::uint64_t busy_ticks_ = 0;
};

/// Adds evaluations of fields to the work of whatever this thread is at.
void count_evaluations(std::uint64_t evaluations);

/// What this thread is at, and how to go on with something else: for fibers.
StageState stage_now();
void set_stage(const StageState& state);

/// Work that is done for several askers at once: from here to give() its time is kept aside.
class SharedStages {
 public:
  struct Asker {
    StageState state;
    std::size_t count;  ///< of lanes
  };
  SharedStages();
  SharedStages(const SharedStages&) = delete;
  SharedStages& operator=(const SharedStages&) = delete;
  ~SharedStages();
  /// Each gets its share, by lanes.
  void give(const std::vector<Asker>& askers);

 private:
  void end();

  StageTicks own_;
  StageTicks* outer_;
  StageState state_;
  std::uint64_t work_ = 0;  ///< before, then of this
  bool on_;
};

/// The ticks of one nanosecond.
double ticks_per_ns();

}  // namespace photonlane
