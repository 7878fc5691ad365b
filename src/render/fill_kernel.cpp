#include "render/fill_kernel.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "render/fill_kernel.cpp"
#include <hwy/cache_control.h>
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using D = hn::ScalableTag<float>;
using DU = hn::RebindToUnsigned<D>;
using DI = hn::RebindToSigned<D>;
using V = hn::Vec<D>;
using VU = hn::Vec<DU>;

/// Linear light to its display value (IEC 61966-2-1), in [0, 1]. Above the linear part a polynomial
/// in the square root, fitted by ourselves for the least largest error: 3.3e-4, 1/12 of a byte's
/// step, which the dither hides. (Slower ways that were
/// tried stand in docs/performance.md.)
HWY_INLINE V Encode(V linear) {
  const D d;
  const V x = hn::Min(hn::Max(linear, hn::Zero(d)), hn::Set(d, 1.0f));
  const V s = hn::Sqrt(x);
  // Pairs first, so that the additions do not wait for one another.
  const auto pair = [&](float constant, float factor) {
    return hn::Add(hn::Set(d, constant), hn::Mul(s, hn::Set(d, factor)));
  };
  const V low =
      hn::Add(pair(-0.0401095398f, 1.51794959f), hn::Mul(pair(-1.4027301f, 2.0315613f), x));
  const V high = hn::Mul(pair(-1.62364599f, 0.517298541f), hn::Mul(x, x));
  const V curve = hn::Min(hn::Add(low, high), hn::Set(d, 1.0f));
  const V line = hn::Mul(x, hn::Set(d, 12.92f));
  return hn::IfThenElse(hn::Le(x, hn::Set(d, 0.0031308f)), line, curve);
}

/// A number in [0, 1) for each pixel, evenly spread over every neighborhood, that decides which of
/// two bytes stands for a value between them, so that slow gradients show no bands (the additive
/// sequence of Roberts, "The Unreasonable Effectiveness of Quasirandom Sequences", 2018).
constexpr std::uint32_t dither_x = 0xc13fa9a9u;
constexpr std::uint32_t dither_y = 0x91e10da5u;
HWY_INLINE VU DitherBits(int x, int y) {
  const DU du;
  const std::uint32_t first =
      static_cast<std::uint32_t>(x) * dither_x + static_cast<std::uint32_t>(y) * dither_y;
  return hn::Add(hn::Set(du, first), hn::Mul(hn::Iota(du, 0), hn::Set(du, dither_x)));
}

/// Packed bytes of three linear channels. Rounding after adding up to half a step either way
/// rounds up as often as the value is near the next byte; the added numbers lie between the ties.
/// Adding 1.5 * 2^23 leaves the rounded number in the lowest bits.
HWY_INLINE VU Pack(V red, V green, V blue, VU dither_bits) {
  const D d;
  const DI di;
  const DU du;
  const V steps = hn::ConvertTo(d, hn::BitCast(di, hn::ShiftRight<17>(dither_bits)));
  const V dither = hn::Sub(hn::Mul(steps, hn::Set(d, 0x1p-15f)), hn::Set(d, 0.5f - 0x1p-16f));
  const auto byte = [&](V linear) {
    const V level = hn::Add(hn::Mul(Encode(linear), hn::Set(d, 255.0f)), dither);
    const V rounded = hn::Add(level, hn::Set(d, 0x1.8p23f));
    return hn::And(hn::BitCast(du, rounded), hn::Set(du, 0xffu));
  };
  const VU high = hn::Or(hn::ShiftLeft<16>(byte(blue)), hn::Set(du, 0xff000000u));
  return hn::Or(hn::Or(byte(red), hn::ShiftLeft<8>(byte(green))), high);
}

template <bool kOneSample>
HWY_INLINE void FillRowOf(const FillColumns* columns, const FillRow* rows, int samples,
                          const FogRow& fog, std::size_t count, int x, int y,
                          const FillTarget& target) {
  const D d;
  const DU du;
  const V zero = hn::Zero(d);
  const V one = hn::Set(d, 1.0f);
  const V three = hn::Set(d, 3.0f);
  const V start = hn::Set(d, fog.start);
  const V inverse_range = hn::Set(d, fog.inverse_range);
  const V fog_red = hn::Set(d, fog.red);
  const V fog_green = hn::Set(d, fog.green);
  const V fog_blue = hn::Set(d, fog.blue);
  const V share = hn::Set(d, 1.0f / static_cast<float>(samples));
  VU dither = DitherBits(x, y);
  const VU dither_step = hn::Set(du, dither_x * static_cast<std::uint32_t>(hn::Lanes(d)));
  for (std::size_t i = 0; i < count; i += hn::Lanes(d)) {
    V red = zero;
    V green = zero;
    V blue = zero;
    for (int s = 0; s < (kOneSample ? 1 : samples); ++s) {
      const FillColumns& column = columns[s];
      const FillRow& row = rows[s];
      const V wall_reach = hn::Load(d, column.reach + i);
      const V row_reach = hn::Set(d, row.reach);
      const auto wall = hn::Le(wall_reach, row_reach);
      const V reach = hn::Min(wall_reach, row_reach);
      const V length =
          hn::Sqrt(hn::Add(hn::Load(d, column.length_square + i), hn::Set(d, row.slope_square)));
      const V distance = hn::Mul(reach, length);
      V fade = hn::Mul(hn::Sub(distance, start), inverse_range);
      fade = hn::Min(hn::Max(fade, zero), one);
      fade = hn::Mul(hn::Mul(fade, fade), hn::Sub(three, hn::Add(fade, fade)));
      fade = hn::IfThenElse(wall, hn::Mul(fade, hn::Load(d, column.fades + i)), fade);
      const auto add = [&](V sum, const float* wall_color, float row_color, V fog_color) {
        const V base = hn::IfThenElse(wall, hn::Load(d, wall_color + i), hn::Set(d, row_color));
        const V color = hn::Add(base, hn::Mul(hn::Sub(fog_color, base), fade));
        return kOneSample ? color : hn::Add(sum, color);
      };
      red = add(red, column.red, row.red, fog_red);
      green = add(green, column.green, row.green, fog_green);
      blue = add(blue, column.blue, row.blue, fog_blue);
    }
    if constexpr (!kOneSample) {
      red = hn::Mul(red, share);
      green = hn::Mul(green, share);
      blue = hn::Mul(blue, share);
    }
    if (target.red != nullptr) {
      hn::Stream(red, d, target.red + i);
      hn::Stream(green, d, target.green + i);
      hn::Stream(blue, d, target.blue + i);
    }
    if (target.display != nullptr) {
      hn::Stream(Pack(red, green, blue, dither), du, target.display + i);
      dither = hn::Add(dither, dither_step);
    }
  }
}

void FillRowSimd(const FillColumns* columns, const FillRow* rows, int samples, const FogRow& fog,
                 std::size_t count, int x, int y, const FillTarget& target) {
  return samples == 1 ? FillRowOf<true>(columns, rows, 1, fog, count, x, y, target)
                      : FillRowOf<false>(columns, rows, samples, fog, count, x, y, target);
}

void WriteRowSimd(const float* red, const float* green, const float* blue, std::size_t count, int x,
                  int y, const FillTarget& target) {
  const D d;
  const DU du;
  VU dither = DitherBits(x, y);
  const VU dither_step = hn::Set(du, dither_x * static_cast<std::uint32_t>(hn::Lanes(d)));
  for (std::size_t i = 0; i < count; i += hn::Lanes(d)) {
    const V r = hn::LoadU(d, red + i);
    const V g = hn::LoadU(d, green + i);
    const V b = hn::LoadU(d, blue + i);
    if (target.red != nullptr) {
      hn::Stream(r, d, target.red + i);
      hn::Stream(g, d, target.green + i);
      hn::Stream(b, d, target.blue + i);
    }
    if (target.display != nullptr) {
      hn::Stream(Pack(r, g, b, dither), du, target.display + i);
      dither = hn::Add(dither, dither_step);
    }
  }
}

void EncodeRowSimd(const float* red, const float* green, const float* blue, std::uint32_t* display,
                   std::size_t count, int x, int y) {
  const D d;
  const DU du;
  VU dither = DitherBits(x, y);
  const VU dither_step = hn::Set(du, dither_x * static_cast<std::uint32_t>(hn::Lanes(d)));
  for (std::size_t i = 0; i < count; i += hn::Lanes(d)) {
    hn::Store(Pack(hn::LoadU(d, red + i), hn::LoadU(d, green + i), hn::LoadU(d, blue + i), dither),
              du, display + i);
    dither = hn::Add(dither, dither_step);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(FillRowSimd);
HWY_EXPORT(WriteRowSimd);
HWY_EXPORT(EncodeRowSimd);

void fill_row(const FillColumns* columns, const FillRow* rows, int samples, const FogRow& fog,
              std::size_t count, int x, int y, const FillTarget& target) {
  HWY_DYNAMIC_DISPATCH(FillRowSimd)(columns, rows, samples, fog, count, x, y, target);
}

void flush_rows() { hwy::FlushStream(); }

void write_row(const float* red, const float* green, const float* blue, std::size_t count, int x,
               int y, const FillTarget& target) {
  HWY_DYNAMIC_DISPATCH(WriteRowSimd)(red, green, blue, count, x, y, target);
}

void encode_row(const float* red, const float* green, const float* blue, std::uint32_t* display,
                std::size_t count, int x, int y) {
  HWY_DYNAMIC_DISPATCH(EncodeRowSimd)(red, green, blue, display, count, x, y);
}

}  // namespace photonlane
#endif
