#include "trace/company.hpp"

#include <algorithm>
#include <memory>
#include <tuple>
#include <vector>

#include "base/fibers.hpp"
#include "base/stage_clock.hpp"

namespace photonlane {
namespace {

/// What one batch waits for.
template <class Number>
struct Question {
  const Solid* solid;
  const LaneBatch<Number>* lanes;
  const Budget* budget;
  HitBatch<Number>* hits;
  StageState stage;  ///< of the asker, whose time the answer is

  /// The same for batches that may be put together.
  auto kind() const {
    return std::tuple(solid, lanes->far_limit, lanes->spread, lanes->any_start, lanes->any_scale,
                      lanes->ending_only, lanes->together);
  }
};

template <class Number>
std::vector<Question<Number>>& waiting() {
  static thread_local std::vector<Question<Number>> questions;
  return questions;
}

/// Lanes of several batches that are far from full, put together into full ones.
template <class Number>
class Packed {
  static constexpr std::size_t capacity = LaneBatch<Number>::capacity;

 public:
  explicit Packed(const std::vector<Question<Number>>& questions) : questions_(questions) {
    for (const Question<Number>& one : questions) {
      for (std::size_t i = 0; i < one.lanes->size; ++i) {
        if (batches_.empty() || batches_.back()->size == capacity) begin(*one.lanes);
        LaneBatch<Number>& batch = *batches_.back();
        batch.take(*one.lanes, i);
        batch.limit[batch.size - 1] =
            one.lanes->any_limit ? one.lanes->limit[i] : one.lanes->far_limit;
      }
    }
    for (const auto& batch : batches_) {
      std::fill(batch->limit + batch->size, batch->limit + capacity, Number(0));
      lanes_.push_back(batch.get());
      hits_.push_back(std::make_unique<HitBatch<Number>>());
      to_.push_back(hits_.back().get());
    }
  }

  void ask() {
    questions_.front().solid->nearest_hits(lanes_, *questions_.front().budget, to_);
    std::size_t next = 0;
    for (const Question<Number>& one : questions_) {
      one.hits->shared_evaluations = 0;
      for (std::size_t i = 0; i < one.lanes->size; ++i, ++next) {
        one.hits->take(*hits_[next / capacity], next % capacity, i);
      }
    }
    for (const auto& hits : hits_) {
      questions_.front().hits->shared_evaluations += hits->shared_evaluations;
    }
  }

 private:
  void begin(const LaneBatch<Number>& like) {
    auto batch = std::make_unique<LaneBatch<Number>>();
    batch->far_limit = like.far_limit;
    batch->spread = like.spread;
    batch->any_start = like.any_start;
    batch->any_limit = true;
    batch->any_scale = like.any_scale;
    batch->ending_only = like.ending_only;
    batch->together = like.together;
    std::fill_n(batch->start, capacity, Number(0));
    std::fill_n(batch->scale, capacity, Number(1));
    batches_.push_back(std::move(batch));
  }

  const std::vector<Question<Number>>& questions_;
  std::vector<std::unique_ptr<LaneBatch<Number>>> batches_;
  std::vector<std::unique_ptr<HitBatch<Number>>> hits_;
  std::vector<const LaneBatch<Number>*> lanes_;
  std::vector<HitBatch<Number>*> to_;
};

template <class Number>
void answer_kind(const std::vector<Question<Number>>& questions) {
  std::size_t lanes = 0;
  for (const Question<Number>& one : questions) lanes += one.lanes->size;
  SharedStages shared;
  std::vector<SharedStages::Asker> askers;
  for (const Question<Number>& one : questions) askers.push_back({one.stage, one.lanes->size});
  constexpr std::size_t capacity = LaneBatch<Number>::capacity;
  const std::size_t needed = (lanes + capacity - 1) / capacity;
  // Whoever goes the same way keeps its neighbors; half full is full enough.
  if (!questions.front().lanes->together && 2 * needed <= questions.size()) {
    {
      const StageScope order(Work::order);
      Packed<Number>(questions).ask();
    }
    shared.give(askers);
    return;
  }
  std::vector<const LaneBatch<Number>*> from;
  std::vector<HitBatch<Number>*> to;
  for (const Question<Number>& one : questions) {
    from.push_back(one.lanes);
    to.push_back(one.hits);
  }
  questions.front().solid->nearest_hits(from, *questions.front().budget, to);
  shared.give(askers);
}

template <class Number>
void answer() {
  std::vector<Question<Number>> all;
  std::swap(all, waiting<Number>());
  while (!all.empty()) {
    std::vector<Question<Number>> alike, rest;
    for (const Question<Number>& one : all) {
      (one.kind() == all.front().kind() ? alike : rest).push_back(one);
    }
    answer_kind(alike);
    all = std::move(rest);
  }
}

}  // namespace

void in_company(bool together, std::size_t count, const std::function<void(std::size_t)>& work) {
  if (!together || count == 1 || Fibers::inside()) {
    for (std::size_t i = 0; i < count; ++i) work(i);
    return;
  }
  Fibers::run(count, work, [] {
    try {
      answer<float>();
      answer<double>();
    } catch (...) {
      waiting<float>().clear();
      waiting<double>().clear();
      throw;
    }
  });
}

template <class Number>
void ask_in_company(const Solid& solid, const LaneBatch<Number>& lanes, const Budget& budget,
                    HitBatch<Number>& hits) {
  if (!Fibers::inside() || lanes.watch != nullptr) {
    hits = solid.nearest_hit(lanes, budget);
    return;
  }
  waiting<Number>().push_back({&solid, &lanes, &budget, &hits, stage_now()});
  Fibers::wait();
}

template void ask_in_company(const Solid&, const LaneBatch<float>&, const Budget&,
                             HitBatch<float>&);
template void ask_in_company(const Solid&, const LaneBatch<double>&, const Budget&,
                             HitBatch<double>&);

}  // namespace photonlane
