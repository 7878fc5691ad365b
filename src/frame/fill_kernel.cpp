#include "frame/fill_kernel.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "frame/fill_kernel.cpp"
#include <hwy/cache_control.h>
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "light/texel_fetch-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using D = hn::ScalableTag<float>;
using DU = hn::RebindToUnsigned<D>;
using DI = hn::RebindToSigned<D>;
using V = hn::Vec<D>;
using VU = hn::Vec<DU>;
using VI = hn::Vec<DI>;
using M = hn::Mask<D>;

/// Linear light in [0, 1] to its display value (IEC 61966-2-1), times 255. Above the linear part a
/// polynomial in the square root, fitted by ourselves for the least largest error: 3.3e-4, 1/12 of
/// a byte's step, which the dither hides. (Slower ways that were tried stand in
/// docs/performance.md.)
HWY_INLINE V Encode(V x) {
  const D d;
  const V s = hn::Sqrt(x);
  // Pairs first, so that the additions do not wait for one another.
  const auto pair = [&](float constant, float factor) {
    return hn::Add(hn::Set(d, 255 * constant), hn::Mul(s, hn::Set(d, 255 * factor)));
  };
  const V low =
      hn::Add(pair(-0.0401095398f, 1.51794959f), hn::Mul(pair(-1.4027301f, 2.0315613f), x));
  const V high = hn::Mul(pair(-1.62364599f, 0.517298541f), hn::Mul(x, x));
  const V curve = hn::Min(hn::Add(low, high), hn::Set(d, 255.0f));
  const V line = hn::Mul(x, hn::Set(d, 255 * 12.92f));
  return hn::IfThenElse(hn::Le(x, hn::Set(d, 0.0031308f)), line, curve);
}

/// Light that may be anything, brought into [0, 1].
HWY_INLINE V Clamped(V x) {
  const D d;
  return hn::Min(hn::Max(x, hn::Zero(d)), hn::Set(d, 1.0f));
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
    const V level = hn::Add(Encode(linear), dither);
    const V rounded = hn::Add(level, hn::Set(d, 0x1.8p23f));
    return hn::And(hn::BitCast(du, rounded), hn::Set(du, 0xffu));
  };
  const VU high = hn::Or(hn::ShiftLeft<16>(byte(blue)), hn::Set(du, 0xff000000u));
  return hn::Or(hn::Or(byte(red), hn::ShiftLeft<8>(byte(green))), high);
}

/// How fog takes a vector of pixels.
class Fading {
 public:
  explicit Fading(const FogRow& fog)
      : start_(hn::Set(D(), fog.start)), inverse_range_(hn::Set(D(), fog.inverse_range)) {}

  V operator()(const FillColumns& column, const FillRow& row, std::size_t i, M wall,
               V reach) const {
    const D d;
    const V length =
        hn::Sqrt(hn::Add(hn::Load(d, column.length_square + i), hn::Set(d, row.slope_square)));
    V fade = hn::Mul(hn::Sub(hn::Mul(reach, length), start_), inverse_range_);
    fade = hn::Min(hn::Max(fade, hn::Zero(d)), hn::Set(d, 1.0f));
    fade = hn::Mul(hn::Mul(fade, fade), hn::Sub(hn::Set(d, 3.0f), hn::Add(fade, fade)));
    return hn::IfThenElse(wall, hn::Mul(fade, hn::Load(d, column.fades + i)), fade);
  }

 private:
  V start_, inverse_range_;
};

/// Puts a row's colors where they go, vector by vector.
class Writer {
 public:
  Writer(const FillTarget& target, int x, int y)
      : target_(target),
        dither_(DitherBits(x, y)),
        step_(hn::Set(DU(), dither_x * static_cast<std::uint32_t>(hn::Lanes(D())))) {}

  HWY_INLINE void put(V red, V green, V blue, std::size_t i) {
    const D d;
    if (target_.red != nullptr) {
      hn::Stream(red, d, target_.red + i);
      hn::Stream(green, d, target_.green + i);
      hn::Stream(blue, d, target_.blue + i);
    }
    if (target_.display != nullptr) {
      hn::Stream(Pack(red, green, blue, dither_), DU(), target_.display + i);
      dither_ = hn::Add(dither_, step_);
    }
  }

 private:
  FillTarget target_;
  VU dither_;
  VU step_;
};

template <bool kOneSample>
HWY_INLINE void FillRowOf(const FillColumns* columns, const FillRow* rows, int samples,
                          const FogRow& fog, std::size_t count, int x, int y,
                          const FillTarget& target) {
  const D d;
  const V zero = hn::Zero(d);
  const Fading fading(fog);
  const V fog_red = hn::Set(d, fog.red);
  const V fog_green = hn::Set(d, fog.green);
  const V fog_blue = hn::Set(d, fog.blue);
  const V share = hn::Set(d, 1.0f / static_cast<float>(samples));
  Writer writer(target, x, y);
  for (std::size_t i = 0; i < count; i += hn::Lanes(d)) {
    V red = zero;
    V green = zero;
    V blue = zero;
    for (int s = 0; s < (kOneSample ? 1 : samples); ++s) {
      const FillColumns& column = columns[s];
      const FillRow& row = rows[s];
      const V wall_reach = hn::Load(d, column.reach + i);
      const V row_reach = hn::Set(d, row.reach);
      const M wall = hn::Le(wall_reach, row_reach);
      const V fade = fading(column, row, i, wall, hn::Min(wall_reach, row_reach));
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
    writer.put(red, green, blue, i);
  }
}

/// What a row keeps between finding its texels and weighing them.
struct TexelRow {
  static constexpr std::size_t capacity = ColumnEvents::capacity;
  alignas(64) std::uint32_t texel[capacity];  // its place in the set, then itself

  alignas(64) float red[capacity];
  alignas(64) float green[capacity];
  alignas(64) float blue[capacity];
};

HWY_INLINE VI WallTexel(const FillTexels& texels, float slope, std::size_t i) {
  const D d;
  const DI di;
  const V v = hn::Add(hn::Mul(hn::Load(d, texels.rise + i), hn::Set(d, slope)),
                      hn::Load(d, texels.v_0 + i));
  const VI up = TexelAlong(Fraction(v), hn::Load(di, texels.height + i));
  return hn::Sub(hn::Load(di, texels.corner + i), hn::Mul(up, hn::Load(di, texels.width + i)));
}

HWY_INLINE VI LevelTexel(const FillColumns& column, const FillRow& row, std::size_t i) {
  const D d;
  const DI di;
  const V u = hn::Add(hn::Mul(hn::Load(d, column.direction_x + i), hn::Set(d, row.u_x)),
                      hn::Set(d, row.u_0));
  const V v = hn::Add(hn::Mul(hn::Load(d, column.direction_y + i), hn::Set(d, row.v_y)),
                      hn::Set(d, row.v_0));
  const VI width = hn::Set(di, row.width);
  const VI up = TexelAlong(Fraction(v), hn::Set(di, row.height));
  return hn::Add(hn::Sub(hn::Set(di, row.corner), hn::Mul(up, width)),
                 TexelAlong(Fraction(u), width));
}

/// In three rounds a sample, so that no load waits for the store before it: where the texels are,
/// fetching them, their colors.
template <bool kOneSample>
HWY_INLINE void FillTexturedRowOf(const FillColumns* columns, const FillRow* rows, int samples,
                                  const FogRow& fog, const std::uint32_t* texels, std::size_t count,
                                  int x, int y, const FillTarget& target) {
  const D d;
  const DI di;
  const DU du;
  const Fading fading(fog);
  const V fog_red = hn::Set(d, fog.red);
  const V fog_green = hn::Set(d, fog.green);
  const V fog_blue = hn::Set(d, fog.blue);
  const V share = hn::Set(d, 1.0f / static_cast<float>(samples));
  const VU low_byte = hn::Set(du, 255);
  const std::size_t step = hn::Lanes(d);
  Writer writer(target, x, y);
  TexelRow kept;
  for (int s = 0; s < (kOneSample ? 1 : samples); ++s) {
    const FillColumns& column = columns[s];
    const FillRow& row = rows[s];
    const V row_reach = hn::Set(d, row.reach);
    for (std::size_t i = 0; i < count; i += step) {
      const M wall = hn::Le(hn::Load(d, column.reach + i), row_reach);
      VI index;
      if (hn::AllTrue(d, wall)) {
        index = WallTexel(column.texels, row.slope, i);
      } else {
        index = LevelTexel(column, row, i);
        if (!hn::AllFalse(d, wall)) {
          index = hn::IfThenElse(hn::RebindMask(di, wall), WallTexel(column.texels, row.slope, i),
                                 index);
        }
      }
      hn::Store(hn::BitCast(du, index), du, kept.texel + i);
    }
    Fetch(texels, (count + step - 1) / step * step, kept.texel);
    for (std::size_t i = 0; i < count; i += step) {
      const V wall_reach = hn::Load(d, column.reach + i);
      const M wall = hn::Le(wall_reach, row_reach);
      const V fade = fading(column, row, i, wall, hn::Min(wall_reach, row_reach));
      const VU texel = hn::Load(du, kept.texel + i);
      const auto color = [&](VU bits, const float* wall_color, float row_color, V fog_color,
                             const float* sum) {
        const V byte = hn::ConvertTo(d, hn::BitCast(di, hn::And(bits, low_byte)));
        const V tint = hn::IfThenElse(wall, hn::Load(d, wall_color + i), hn::Set(d, row_color));
        const V base = hn::Mul(tint, hn::Mul(byte, byte));
        const V faded = hn::Add(base, hn::Mul(hn::Sub(fog_color, base), fade));
        return kOneSample || s == 0 ? faded : hn::Add(hn::Load(d, sum + i), faded);
      };
      V red = color(texel, column.red, row.red, fog_red, kept.red);
      V green = color(hn::ShiftRight<8>(texel), column.green, row.green, fog_green, kept.green);
      V blue = color(hn::ShiftRight<16>(texel), column.blue, row.blue, fog_blue, kept.blue);
      if constexpr (kOneSample) {
        writer.put(red, green, blue, i);
      } else if (s + 1 < samples) {
        hn::Store(red, d, kept.red + i);
        hn::Store(green, d, kept.green + i);
        hn::Store(blue, d, kept.blue + i);
      } else {
        writer.put(hn::Mul(red, share), hn::Mul(green, share), hn::Mul(blue, share), i);
      }
    }
  }
}

void FillRowSimd(const FillColumns* columns, const FillRow* rows, int samples, const FogRow& fog,
                 const std::uint32_t* texels, std::size_t count, int x, int y,
                 const FillTarget& target) {
  if (texels != nullptr) {
    samples == 1
        ? FillTexturedRowOf<true>(columns, rows, 1, fog, texels, count, x, y, target)
        : FillTexturedRowOf<false>(columns, rows, samples, fog, texels, count, x, y, target);
  } else {
    samples == 1 ? FillRowOf<true>(columns, rows, 1, fog, count, x, y, target)
                 : FillRowOf<false>(columns, rows, samples, fog, count, x, y, target);
  }
}

void WriteRowSimd(const float* red, const float* green, const float* blue, std::size_t count, int x,
                  int y, const FillTarget& target) {
  const D d;
  Writer writer(target, x, y);
  for (std::size_t i = 0; i < count; i += hn::Lanes(d)) {
    writer.put(hn::LoadU(d, red + i), hn::LoadU(d, green + i), hn::LoadU(d, blue + i), i);
  }
}

void EncodeRowSimd(const float* red, const float* green, const float* blue, std::uint32_t* display,
                   std::size_t count, int x, int y) {
  const D d;
  const DU du;
  VU dither = DitherBits(x, y);
  const VU dither_step = hn::Set(du, dither_x * static_cast<std::uint32_t>(hn::Lanes(d)));
  for (std::size_t i = 0; i < count; i += hn::Lanes(d)) {
    hn::Store(Pack(Clamped(hn::LoadU(d, red + i)), Clamped(hn::LoadU(d, green + i)),
                   Clamped(hn::LoadU(d, blue + i)), dither),
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
              const std::uint32_t* texels, std::size_t count, int x, int y,
              const FillTarget& target) {
  HWY_DYNAMIC_DISPATCH(FillRowSimd)(columns, rows, samples, fog, texels, count, x, y, target);
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
