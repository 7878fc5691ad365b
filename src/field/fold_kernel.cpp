#include <algorithm>
#include <cmath>

#include "field/field_kernel.hpp"
#include "field/fold_program.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "field/fold_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "field/folds-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Asks a program at places, some vectors at a time.
template <class Number>
SourceBatch<Number> Part(const SourceBatch<Number>& batch, std::size_t first, std::size_t count) {
  SourceBatch<Number> part = batch;
  part.count = count;
  for (const Number** from : {&part.x, &part.y, &part.z, &part.footprint}) {
    if (*from != nullptr) *from += first;
  }
  for (Number** to : {&part.value, &part.slope_x, &part.slope_y, &part.slope_z, &part.tint}) {
    if (*to != nullptr) *to += first;
  }
  return part;
}

template <class Number>
void Ask(const FoldProgram& program, const SourceBatch<Number>& batch) {
  using D = hn::ScalableTag<Number>;
  if (batch.tint != nullptr) {
    Folder<D, Plain<D>, 1, true>(program).ask(batch);
  } else if (batch.slope_x != nullptr || program.jacobian) {
    Folder<D, Dual<D>, 1, false>(program).ask(batch);
  } else {
    // Blocks of some vectors, and what is left in as few as it takes.
    const std::size_t lanes = hn::Lanes(D());
    const std::size_t whole = batch.count - batch.count % (block_of_folds * lanes);
    const std::size_t rest = batch.count - whole;
    if (whole > 0) {
      Folder<D, Plain<D>, block_of_folds, false>(program).ask(Part(batch, 0, whole));
    }
    if (rest > 2 * lanes) {
      Folder<D, Plain<D>, block_of_folds, false>(program).ask(Part(batch, whole, rest));
    } else if (rest > lanes) {
      Folder<D, Plain<D>, 2, false>(program).ask(Part(batch, whole, rest));
    } else if (rest > 0) {
      Folder<D, Plain<D>, 1, false>(program).ask(Part(batch, whole, rest));
    }
  }
}

void AskFloat(const FoldProgram& program, const SourceBatch<float>& batch) { Ask(program, batch); }
void AskDouble(const FoldProgram& program, const SourceBatch<double>& batch) {
  Ask(program, batch);
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {
HWY_EXPORT(AskFloat);
HWY_EXPORT(AskDouble);

void ask_folds(const FoldProgram& program, const SourceBatch<float>& batch) {
  HWY_DYNAMIC_DISPATCH(AskFloat)(program, batch);
}
void ask_folds(const FoldProgram& program, const SourceBatch<double>& batch) {
  HWY_DYNAMIC_DISPATCH(AskDouble)(program, batch);
}

}  // namespace photonlane
#endif
