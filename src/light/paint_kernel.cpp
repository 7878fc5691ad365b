#include "light/paint.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "light/paint_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using D = hn::ScalableTag<float>;
using DI = hn::RebindToSigned<D>;
using DU = hn::RebindToUnsigned<D>;
using V = hn::Vec<D>;
using VI = hn::Vec<DI>;
using VU = hn::Vec<DU>;
using M = hn::Mask<D>;

/// Values of a table by index: one load where all lanes ask for the same.
template <class DT, class T>
HWY_INLINE hn::Vec<DT> Lookup(DT d, const T* table, VI index, bool same) {
  if (same) return hn::Set(d, table[hn::GetLane(index)]);
  return hn::GatherIndex(d, table, index);
}
HWY_INLINE bool AllSame(VI index) {
  const DI di;
  return hn::AllTrue(di, hn::Eq(index, hn::Set(di, hn::GetLane(index))));
}

/// Red, green, blue and alpha of texels, as sums of weighed bytes.
struct Sum {
  V red, green, blue, alpha;
};
HWY_INLINE void AddTexel(VU texel, V weight, Sum& sum) {
  const D d;
  const DI di;
  const DU du;
  const auto byte = [&](VU bits) { return hn::ConvertTo(d, hn::BitCast(di, bits)); };
  const VU low = hn::Set(du, 255);
  const V red = byte(hn::And(texel, low));
  const V green = byte(hn::And(hn::ShiftRight<8>(texel), low));
  const V blue = byte(hn::And(hn::ShiftRight<16>(texel), low));
  sum.red = hn::Add(sum.red, hn::Mul(weight, hn::Mul(red, red)));
  sum.green = hn::Add(sum.green, hn::Mul(weight, hn::Mul(green, green)));
  sum.blue = hn::Add(sum.blue, hn::Mul(weight, hn::Mul(blue, blue)));
  sum.alpha = hn::Add(sum.alpha, hn::Mul(weight, byte(hn::ShiftRight<24>(texel))));
}

/// One level of the lanes' textures.
struct LevelLanes {
  VI first, width, height;
};
HWY_INLINE LevelLanes LoadLevel(const TextureSet& set, VI index) {
  const DI di;
  const bool same = AllSame(index);
  return {Lookup(di, set.first(), index, same), Lookup(di, set.width(), index, same),
          Lookup(di, set.height(), index, same)};
}

/// The fraction of a tile.
HWY_INLINE V Fraction(V tiles) { return hn::Sub(tiles, hn::Floor(tiles)); }

HWY_INLINE VU FetchTexel(const TextureSet& set, const LevelLanes& level, VI x, VI y) {
  const DU du;
  return hn::GatherIndex(du, set.texels(),
                         hn::Add(level.first, hn::Add(hn::Mul(y, level.width), x)));
}

HWY_INLINE void AddNearest(const TextureSet& set, const LevelLanes& level, V u, V v, V weight,
                           Sum& sum) {
  const D d;
  const DI di;
  const VI one = hn::Set(di, 1);
  const auto place = [&](V share, VI side) {
    const VI cell = hn::ConvertTo(di, hn::Mul(share, hn::ConvertTo(d, side)));
    return hn::Min(cell, hn::Sub(side, one));
  };
  const VI x = place(Fraction(u), level.width);
  const VI y = hn::Sub(hn::Sub(level.height, one), place(Fraction(v), level.height));
  AddTexel(FetchTexel(set, level, x, y), weight, sum);
}

HWY_INLINE void AddBilinear(const TextureSet& set, const LevelLanes& level, V u, V v, M panel,
                            V weight, Sum& sum) {
  const D d;
  const DI di;
  const V one = hn::Set(d, 1.0f);
  const V half = hn::Set(d, 0.5f);
  const VI last_y = hn::Sub(level.height, hn::Set(di, 1));
  const V x = hn::Sub(hn::Mul(Fraction(u), hn::ConvertTo(d, level.width)), half);
  // Panels end at their upper and lower rim; everything else goes on.
  const V from_top = hn::Sub(one, hn::IfThenElse(panel, v, Fraction(v)));
  const V y = hn::Sub(hn::Mul(from_top, hn::ConvertTo(d, level.height)), half);
  const V left = hn::Floor(x);
  const V top = hn::Floor(y);
  const V right_share = hn::Sub(x, left);
  const V low_share = hn::Sub(y, top);
  const VI zero = hn::Zero(di);
  const auto wrapped = [&](VI place, VI side) {
    place = hn::IfThenElse(hn::Lt(place, zero), hn::Add(place, side), place);
    return hn::IfThenElse(hn::Lt(place, side), place, zero);
  };
  const auto row = [&](VI place) {
    const auto clamped = hn::Max(hn::Min(place, last_y), zero);
    return hn::IfThenElse(hn::RebindMask(di, panel), clamped, wrapped(place, level.height));
  };
  const VI x0 = wrapped(hn::ConvertTo(di, left), level.width);
  const VI x1 = wrapped(hn::Add(hn::ConvertTo(di, left), hn::Set(di, 1)), level.width);
  const VI y0 = row(hn::ConvertTo(di, top));
  const VI y1 = row(hn::Add(hn::ConvertTo(di, top), hn::Set(di, 1)));
  const V low = hn::Mul(weight, low_share);
  const V high = hn::Sub(weight, low);
  const V high_right = hn::Mul(high, right_share);
  const V low_right = hn::Mul(low, right_share);
  AddTexel(FetchTexel(set, level, x0, y0), hn::Sub(high, high_right), sum);
  AddTexel(FetchTexel(set, level, x1, y0), high_right, sum);
  AddTexel(FetchTexel(set, level, x0, y1), hn::Sub(low, low_right), sum);
  AddTexel(FetchTexel(set, level, x1, y1), low_right, sum);
}

/// What of a texture a pixel covers: a strip `count` lookups long, each as wide as the pixel, and
/// the level whose texels are as large (Heckbert, "Survey of Texture Mapping", 1986; lookups along
/// the longer side as in Barkans, "High Quality Rendering Using the Talisman Architecture", 1997).
struct Footprint {
  V count;
  V along_u, along_v;  // the strip, in tiles
  VI level;
  V next_share;  // of the level above
};

/// Where the lanes of a vector are on their textures.
struct Spot {
  V u, v;        // tiles
  V along_u, along_v;  // direction of the lane on the surface's axes, unit length in space
  V cosine;      // between lane and normal
  V across, up;  // tiles a meter
  M panel;
};

HWY_INLINE Footprint FindFootprint(const PaintTable& table, const Spot& spot, V t, VI level_index) {
  const D d;
  const DI di;
  const V one = hn::Set(d, 1.0f);
  const V foot = hn::Mul(t, hn::Set(d, table.pixel_angle));
  const V cosine = hn::Max(spot.cosine, hn::Set(d, 1e-4f));
  const V stretch = hn::Div(one, cosine);
  const V count = hn::Ceil(hn::Min(stretch, hn::Set(d, table.taps)));
  const V sine_square = hn::Max(hn::Sub(one, hn::Mul(cosine, cosine)), hn::Set(d, 1e-12f));
  // Meters along the strip over the length of the lane's direction on the surface.
  const V length = hn::Div(hn::Mul(foot, stretch), hn::Sqrt(sine_square));
  Footprint result;
  result.count = hn::IfThenElse(spot.panel, one, count);
  result.along_u = hn::IfThenZeroElse(spot.panel, hn::Mul(hn::Mul(spot.along_u, length), spot.across));
  result.along_v = hn::IfThenZeroElse(spot.panel, hn::Mul(hn::Mul(spot.along_v, length), spot.up));
  const V width = hn::ConvertTo(d, Lookup(di, table.textures->width(), level_index,
                                          AllSame(level_index)));
  const V wide = hn::Max(one, hn::Div(stretch, result.count));
  const V texels = hn::Mul(hn::Mul(foot, spot.across),
                           hn::Mul(width, hn::IfThenElse(spot.panel, one, wide)));
  // The exponent is the level, the mantissa a good enough share of the next one.
  const VI bits = hn::BitCast(di, hn::Max(texels, one));
  const VI exponent = hn::Sub(hn::ShiftRight<23>(bits), hn::Set(di, 127));
  const VI mantissa =
      hn::Or(hn::And(bits, hn::Set(di, 0x7fffff)), hn::BitCast(di, hn::Set(d, 1.0f)));
  result.level = hn::Min(exponent, hn::Set(di, TextureSet::levels - 2));
  result.next_share = hn::Sub(hn::BitCast(d, mantissa), one);
  return result;
}

HWY_INLINE void AddFiltered(const PaintTable& table, const Spot& spot, V t, VI level_index,
                            Sum& sum) {
  const D d;
  const DI di;
  const V zero = hn::Zero(d);
  const V one = hn::Set(d, 1.0f);
  const Footprint foot = FindFootprint(table, spot, t, level_index);
  const VI index = hn::Add(level_index, foot.level);
  const LevelLanes level = LoadLevel(*table.textures, index);
  const LevelLanes next = LoadLevel(*table.textures, hn::Add(index, hn::Set(di, 1)));
  const bool one_level = hn::AllTrue(d, hn::Eq(foot.next_share, zero));
  const V share = hn::Div(one, foot.count);
  const float most = hn::GetLane(hn::MaxOfLanes(d, foot.count));
  for (float tap = 0; tap < most; tap += 1) {
    const V place = hn::Sub(hn::Mul(hn::Set(d, tap + 0.5f), share), hn::Set(d, 0.5f));
    const V weight = hn::IfThenElseZero(hn::Lt(hn::Set(d, tap), foot.count), share);
    const V u = hn::Add(spot.u, hn::Mul(place, foot.along_u));
    const V v = hn::Add(spot.v, hn::Mul(place, foot.along_v));
    const V next_weight = hn::Mul(weight, foot.next_share);
    AddBilinear(*table.textures, level, u, v, spot.panel, hn::Sub(weight, next_weight), sum);
    if (!one_level) AddBilinear(*table.textures, next, u, v, spot.panel, next_weight, sum);
  }
}

bool PaintSimd(const Surfaces& surfaces, const PaintTable& table, Colors& colors) {
  const D d;
  const DI di;
  const V one = hn::Set(d, 1.0f);
  V least_alpha = one;
  for (std::size_t i = 0; i < surfaces.size; i += hn::Lanes(d)) {
    const VI material = hn::Load(di, reinterpret_cast<const std::int32_t*>(surfaces.material + i));
    const VI face = hn::Load(di, reinterpret_cast<const std::int32_t*>(surfaces.face + i));
    const auto is = [&](Face one_face) {
      return hn::RebindMask(d, hn::Eq(face, hn::Set(di, static_cast<int>(one_face))));
    };
    const bool same = AllSame(material);
    const auto number = [&](const std::vector<float>& values) {
      return Lookup(d, values.data(), material, same);
    };
    const M north = is(Face::north);
    const M toward_x = hn::Or(north, is(Face::south));  // walls that run along x
    V red = number(table.red);
    V green = number(table.green);
    V blue = number(table.blue);
    V alpha = number(table.opacity);
    const VI texture = Lookup(di, table.texture.data(), material, same);
    const auto textured = hn::Gt(texture, hn::Set(di, -1));
    if (!hn::AllFalse(di, textured)) {
      const V x = hn::Load(d, surfaces.x + i);
      const V y = hn::Load(d, surfaces.y + i);
      const V z = hn::Load(d, surfaces.z + i);
      const M east = is(Face::east);
      const M west = is(Face::west);
      const M ceiling = is(Face::ceiling);
      const M level_face = hn::Or(ceiling, is(Face::floor));
      const M along_y = hn::Or(east, west);
      Spot spot;
      spot.across = number(table.across);
      spot.up = number(table.up);
      spot.panel = surfaces.any_panel ? is(Face::panel) : hn::Lt(one, hn::Zero(d));
      const auto turned = [&](M where, V value) { return hn::IfThenElse(where, hn::Neg(value), value); };
      const M mirrored = hn::Or(west, north);
      const V eye_u = hn::IfThenElse(along_y, number(table.phase_y), number(table.phase_x));
      const V eye_v = hn::IfThenElse(level_face, number(table.phase_up_y), number(table.phase_up_z));
      const V along = turned(mirrored, hn::IfThenElse(along_y, y, x));
      const V above = turned(ceiling, hn::IfThenElse(level_face, y, z));
      spot.u = hn::Add(hn::Mul(along, spot.across), turned(mirrored, eye_u));
      spot.v = hn::Add(hn::Mul(above, spot.up), turned(ceiling, eye_v));
      if (surfaces.any_panel) {
        spot.u = hn::IfThenElse(spot.panel, hn::Load(d, surfaces.u + i), spot.u);
        spot.v = hn::IfThenElse(spot.panel, hn::Load(d, surfaces.v + i), spot.v);
      }
      // Lanes without a texture look at the first one, and forget it.
      const VI level_index = hn::Mul(hn::Max(texture, hn::Zero(di)),
                                     hn::Set(di, TextureSet::levels));
      Sum sum{hn::Zero(d), hn::Zero(d), hn::Zero(d), hn::Zero(d)};
      if (table.sampling == TextureSampling::filtered) {
        const V t = hn::Load(d, surfaces.t + i);
        const V inverse = hn::Div(one, hn::Max(t, hn::Set(d, 1e-6f)));
        const V toward = hn::IfThenElse(level_face, z, hn::IfThenElse(along_y, x, y));
        spot.cosine = hn::IfThenElse(spot.panel, one, hn::Mul(hn::Abs(toward), inverse));
        spot.along_u = hn::Mul(along, inverse);
        spot.along_v = hn::Mul(above, inverse);
        AddFiltered(table, spot, t, level_index, sum);
      } else {
        const LevelLanes level = LoadLevel(*table.textures, level_index);
        if (table.sampling == TextureSampling::bilinear) {
          AddBilinear(*table.textures, level, spot.u, spot.v, spot.panel, one, sum);
        } else {
          AddNearest(*table.textures, level, spot.u, spot.v, one, sum);
        }
      }
      const auto covered = hn::RebindMask(d, textured);
      const V level_share = hn::Set(d, 1.0f / 65025.0f);
      const auto times = [&](V base, V value) {
        return hn::IfThenElse(covered, hn::Mul(base, value), base);
      };
      red = times(red, hn::Mul(sum.red, level_share));
      green = times(green, hn::Mul(sum.green, level_share));
      blue = times(blue, hn::Mul(sum.blue, level_share));
      const V opacity = alpha;
      alpha = times(alpha, hn::Mul(sum.alpha, hn::Set(d, 1.0f / 255.0f)));
      // Texels are times their own alpha already.
      red = hn::Mul(red, opacity);
      green = hn::Mul(green, opacity);
      blue = hn::Mul(blue, opacity);
    } else {
      red = hn::Mul(red, alpha);
      green = hn::Mul(green, alpha);
      blue = hn::Mul(blue, alpha);
    }
    const V shade = hn::IfThenElse(toward_x, hn::Set(d, table.north_shade), one);
    hn::Store(hn::Mul(red, shade), d, colors.red + i);
    hn::Store(hn::Mul(green, shade), d, colors.green + i);
    hn::Store(hn::Mul(blue, shade), d, colors.blue + i);
    hn::Store(alpha, d, colors.alpha + i);
    least_alpha = hn::Min(least_alpha, alpha);
  }
  // Bytes of 255 may sum up to a little below.
  return hn::GetLane(hn::MinOfLanes(d, least_alpha)) < 0.9995f;
}

/// Fog by how far along its way from start to end a distance is, rising and ending gently, so that
/// neither end shows as a line.
HWY_INLINE V FadeOf(V distance, V start, V inverse_range) {
  const D d;
  const V raw = hn::Mul(hn::Sub(distance, start), inverse_range);
  const V s = hn::Min(hn::Max(raw, hn::Zero(d)), hn::Set(d, 1.0f));
  return hn::Mul(hn::Mul(s, s), hn::Sub(hn::Set(d, 3.0f), hn::Add(s, s)));
}

void AddFadedSimd(const Colors& colors, const float* distance, const FogRow& fog, float share,
                  const Through* through, std::size_t count, Colors& sums) {
  const D d;
  const V start = hn::Set(d, fog.start);
  const V inverse_range = hn::Set(d, fog.inverse_range);
  const V share_of = hn::Set(d, share);
  for (std::size_t i = 0; i < count; i += hn::Lanes(d)) {
    const V fade = FadeOf(hn::Load(d, distance + i), start, inverse_range);
    const V fog_part = hn::Mul(hn::Load(d, colors.alpha + i), fade);
    const auto add = [&](const float* color, float fog_color, const float* left, float* sum) {
      const V base = hn::Load(d, color + i);
      V value = hn::Add(hn::Sub(base, hn::Mul(base, fade)), hn::Mul(hn::Set(d, fog_color), fog_part));
      if (left != nullptr) value = hn::Mul(value, hn::Load(d, left + i));
      hn::Store(hn::Add(hn::Load(d, sum + i), hn::Mul(value, share_of)), d, sum + i);
    };
    add(colors.red, fog.red, through != nullptr ? through->red : nullptr, sums.red);
    add(colors.green, fog.green, through != nullptr ? through->green : nullptr, sums.green);
    add(colors.blue, fog.blue, through != nullptr ? through->blue : nullptr, sums.blue);
  }
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(PaintSimd);
HWY_EXPORT(AddFadedSimd);

bool paint_surfaces(const Surfaces& surfaces, const PaintTable& table, Colors& colors) {
  return HWY_DYNAMIC_DISPATCH(PaintSimd)(surfaces, table, colors);
}

void add_faded(const Colors& colors, const float* distance, const FogRow& fog, float share,
               const Through* through, std::size_t count, Colors& sums) {
  HWY_DYNAMIC_DISPATCH(AddFadedSimd)(colors, distance, fog, share, through, count, sums);
}

}  // namespace photonlane
#endif
