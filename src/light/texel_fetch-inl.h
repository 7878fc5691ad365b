// Where texels are, and fetching them: included once for each instruction set.
#if defined(PHOTONLANE_TEXEL_FETCH_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_TEXEL_FETCH_INL_H_
#undef PHOTONLANE_TEXEL_FETCH_INL_H_
#else
#define PHOTONLANE_TEXEL_FETCH_INL_H_
#endif

#include <hwy/highway.h>

#include <cstddef>
#include <cstdint>

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// The fraction of a tile; 0 for what is no number, which would be no index.
template <class V>
HWY_INLINE V Fraction(V tiles) {
  const V share = hn::Sub(tiles, hn::Floor(tiles));
  return hn::IfThenElseZero(hn::Ge(share, hn::Zero(hn::DFromV<V>())), share);
}

/// The texel out of `side` that a share of a tile lies in.
template <class V, class VI>
HWY_INLINE VI TexelAlong(V share, VI side) {
  const hn::DFromV<V> d;
  const hn::DFromV<VI> di;
  const VI texel = hn::ConvertTo(di, hn::Mul(share, hn::ConvertTo(d, side)));
  return hn::Min(texel, hn::Sub(side, hn::Set(di, 1)));
}

/// Puts texels where their places in the set are. Plain loads, kept from becoming inserts into
/// vectors, which are slower than the loads themselves, as gather instructions are on many
/// machines.
#if HWY_COMPILER_GCC_ACTUAL
__attribute__((optimize("no-tree-vectorize"), noinline))
#else
HWY_NOINLINE
#endif
inline void
Fetch(const std::uint32_t* texels, std::size_t count, std::uint32_t* at) {
  std::size_t i = 0;
  for (; i + 4 <= count; i += 4) {
    const std::uint32_t first = texels[at[i]];
    const std::uint32_t second = texels[at[i + 1]];
    const std::uint32_t third = texels[at[i + 2]];
    const std::uint32_t fourth = texels[at[i + 3]];
    at[i] = first;
    at[i + 1] = second;
    at[i + 2] = third;
    at[i + 3] = fourth;
  }
  for (; i < count; ++i) at[i] = texels[at[i]];
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
