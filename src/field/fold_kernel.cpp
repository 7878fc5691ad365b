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
void Ask(const FoldProgram& program, const SourceBatch<Number>& batch) {
  using D = hn::ScalableTag<Number>;
  if (batch.tint != nullptr) {
    Folder<D, Plain<D>, 1, true>(program).ask(batch);
  } else if (batch.slope_x != nullptr || program.jacobian) {
    Folder<D, Dual<D>, 1, false>(program).ask(batch);
  } else {
    Folder<D, Plain<D>, block_of_folds, false>(program).ask(batch);
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
