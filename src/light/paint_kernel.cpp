#include "light/paint.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "light/paint_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "light/texel_fetch-inl.h"

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

/// The entries of a vector of lanes. Most vectors lie on one face of one thing: that is one load a
/// number; others take a round for each that occurs.
struct EntryLanes {
  V red, green, blue, opacity;
  V u_x, u_y, u_0;
  V v_y, v_z, v_0;
  V normal_x, normal_y, normal_z;
  V texels;
  VI level, first, width, height;
};

template <bool kFiltered>
HWY_INLINE EntryLanes LoadEntries(const PaintEntry* entries, VI key) {
  const D d;
  const DI di;
  EntryLanes lanes;
  auto left = hn::FirstN(di, hn::Lanes(di));
  bool first_round = true;
  do {
    const auto lane = static_cast<std::size_t>(hn::FindFirstTrue(di, left));
    const std::int32_t one = hn::ExtractLane(key, lane);
    const auto its = hn::Eq(key, hn::Set(di, one));
    const auto its_numbers = hn::RebindMask(d, its);
    const PaintEntry& entry = entries[one];
    const auto put = [&](V& to, float value) {
      to = first_round ? hn::Set(d, value) : hn::IfThenElse(its_numbers, hn::Set(d, value), to);
    };
    const auto put_whole = [&](VI& to, std::int32_t value) {
      to = first_round ? hn::Set(di, value) : hn::IfThenElse(its, hn::Set(di, value), to);
    };
    put(lanes.red, entry.red);
    put(lanes.green, entry.green);
    put(lanes.blue, entry.blue);
    put(lanes.opacity, entry.opacity);
    put(lanes.u_x, entry.u_x);
    put(lanes.u_y, entry.u_y);
    put(lanes.u_0, entry.u_0);
    put(lanes.v_y, entry.v_y);
    put(lanes.v_z, entry.v_z);
    put(lanes.v_0, entry.v_0);
    put_whole(lanes.level, entry.level);
    put_whole(lanes.first, entry.first);
    put_whole(lanes.width, entry.width);
    put_whole(lanes.height, entry.height);
    if constexpr (kFiltered) {
      put(lanes.normal_x, entry.normal_x);
      put(lanes.normal_y, entry.normal_y);
      put(lanes.normal_z, entry.normal_z);
      put(lanes.texels, entry.texels);
    }
    first_round = false;
    left = hn::AndNot(its, left);
  } while (!hn::AllFalse(di, left));
  return lanes;
}

/// Texels to be looked up for the lanes of a batch. Looking up goes in three rounds over the whole
/// batch (where, fetch, weigh), the fetching by plain loads: gather instructions take several times
/// as long on many machines, and a vector put together from single loads waits for each of them.
struct Lookups {
  static constexpr std::size_t capacity = Surfaces::capacity;
  alignas(64) float u[capacity];  // tiles
  alignas(64) float v[capacity];
  alignas(64) float weight[capacity];
  alignas(64) std::int32_t first[capacity];
  alignas(64) std::int32_t width[capacity];
  alignas(64) std::int32_t height[capacity];
  alignas(64) std::uint32_t texel[4][capacity];  // its place in the set, then itself
  alignas(64) float right[capacity];             // share of the right texels
  alignas(64) float low[capacity];               // share of the lower texels
};

/// Red, green, blue and alpha of texels, as sums of weighed bytes.
struct Sums {
  alignas(64) float red[Lookups::capacity];
  alignas(64) float green[Lookups::capacity];
  alignas(64) float blue[Lookups::capacity];
  alignas(64) float alpha[Lookups::capacity];
};

/// The vectors of a batch that take part, by their first lane.
struct Active {
  std::size_t count = 0;
  std::size_t first[Lookups::capacity];
};

struct Weighed {
  V red, green, blue, alpha;
};
HWY_INLINE void AddTexel(const std::uint32_t* from, V weight, Weighed& sum) {
  const D d;
  const DI di;
  const DU du;
  const VU texel = hn::Load(du, from);
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

HWY_INLINE void AddNearest(const TextureSet& set, Lookups& look, std::size_t size, Sums& sums) {
  const D d;
  const DI di;
  const DU du;
  const VI one = hn::Set(di, 1);
  for (std::size_t i = 0; i < size; i += hn::Lanes(d)) {
    const VI width = hn::Load(di, look.width + i);
    const VI height = hn::Load(di, look.height + i);
    const VI x = TexelAlong(Fraction(hn::Load(d, look.u + i)), width);
    const VI down = TexelAlong(Fraction(hn::Load(d, look.v + i)), height);
    const VI y = hn::Sub(hn::Sub(height, one), down);
    hn::Store(hn::BitCast(du, hn::Add(hn::Load(di, look.first + i), hn::Add(hn::Mul(y, width), x))),
              du, look.texel[0] + i);
  }
  Fetch(set.texels(), size, look.texel[0]);
  for (std::size_t i = 0; i < size; i += hn::Lanes(d)) {
    Weighed sum{hn::Zero(d), hn::Zero(d), hn::Zero(d), hn::Zero(d)};
    AddTexel(look.texel[0] + i, hn::Set(d, 1.0f), sum);
    hn::Store(sum.red, d, sums.red + i);
    hn::Store(sum.green, d, sums.green + i);
    hn::Store(sum.blue, d, sums.blue + i);
    hn::Store(sum.alpha, d, sums.alpha + i);
  }
}

/// Adds what lies between the four texels around, of the vectors that take part.
HWY_INLINE void AddBilinear(const TextureSet& set, const std::int32_t* panel, Lookups& look,
                            const Active& active, Sums& sums) {
  const D d;
  const DI di;
  const DU du;
  const V one = hn::Set(d, 1.0f);
  const V half = hn::Set(d, 0.5f);
  const VI zero = hn::Zero(di);
  const VI next = hn::Set(di, 1);
  for (std::size_t k = 0; k < active.count; ++k) {
    const std::size_t i = active.first[k];
    const VI width = hn::Load(di, look.width + i);
    const VI height = hn::Load(di, look.height + i);
    const V v = hn::Load(d, look.v + i);
    const V x = hn::Sub(hn::Mul(Fraction(hn::Load(d, look.u + i)), hn::ConvertTo(d, width)), half);
    const auto wrapped = [&](VI place, VI side) {
      place = hn::IfThenElse(hn::Lt(place, zero), hn::Add(place, side), place);
      return hn::IfThenElse(hn::Lt(place, side), place, zero);
    };
    const V left = hn::Floor(x);
    const VI x0 = wrapped(hn::ConvertTo(di, left), width);
    const VI x1 = wrapped(hn::Add(hn::ConvertTo(di, left), next), width);
    V share_v = Fraction(v);
    VI y0;
    VI y1;
    V y;
    V top;
    if (panel == nullptr) {
      y = hn::Sub(hn::Mul(hn::Sub(one, share_v), hn::ConvertTo(d, height)), half);
      top = hn::Floor(y);
      y0 = wrapped(hn::ConvertTo(di, top), height);
      y1 = wrapped(hn::Add(hn::ConvertTo(di, top), next), height);
    } else {
      // Panels end at their upper and lower rim; everything else goes on.
      const auto its = hn::Ne(hn::Load(di, panel + i), zero);
      share_v = hn::IfThenElse(hn::RebindMask(d, its), v, share_v);
      y = hn::Sub(hn::Mul(hn::Sub(one, share_v), hn::ConvertTo(d, height)), half);
      top = hn::Floor(y);
      const VI last = hn::Sub(height, next);
      const auto row = [&](VI place) {
        return hn::IfThenElse(its, hn::Max(hn::Min(place, last), zero), wrapped(place, height));
      };
      y0 = row(hn::ConvertTo(di, top));
      y1 = row(hn::Add(hn::ConvertTo(di, top), next));
    }
    const VI first = hn::Load(di, look.first + i);
    const VI row0 = hn::Add(first, hn::Mul(y0, width));
    const VI row1 = hn::Add(first, hn::Mul(y1, width));
    const std::size_t to = k * hn::Lanes(d);
    hn::Store(hn::BitCast(du, hn::Add(row0, x0)), du, look.texel[0] + to);
    hn::Store(hn::BitCast(du, hn::Add(row0, x1)), du, look.texel[1] + to);
    hn::Store(hn::BitCast(du, hn::Add(row1, x0)), du, look.texel[2] + to);
    hn::Store(hn::BitCast(du, hn::Add(row1, x1)), du, look.texel[3] + to);
    hn::Store(hn::Sub(x, left), d, look.right + to);
    hn::Store(hn::Sub(y, top), d, look.low + to);
  }
  for (int corner = 0; corner < 4; ++corner) {
    Fetch(set.texels(), active.count * hn::Lanes(d), look.texel[corner]);
  }
  for (std::size_t k = 0; k < active.count; ++k) {
    const std::size_t i = active.first[k];
    const std::size_t from = k * hn::Lanes(d);
    const V weight = hn::Load(d, look.weight + i);
    const V right = hn::Load(d, look.right + from);
    const V low = hn::Mul(weight, hn::Load(d, look.low + from));
    const V high = hn::Sub(weight, low);
    const V high_right = hn::Mul(high, right);
    const V low_right = hn::Mul(low, right);
    Weighed sum{hn::Load(d, sums.red + i), hn::Load(d, sums.green + i), hn::Load(d, sums.blue + i),
                hn::Load(d, sums.alpha + i)};
    AddTexel(look.texel[0] + from, hn::Sub(high, high_right), sum);
    AddTexel(look.texel[1] + from, high_right, sum);
    AddTexel(look.texel[2] + from, hn::Sub(low, low_right), sum);
    AddTexel(look.texel[3] + from, low_right, sum);
    hn::Store(sum.red, d, sums.red + i);
    hn::Store(sum.green, d, sums.green + i);
    hn::Store(sum.blue, d, sums.blue + i);
    hn::Store(sum.alpha, d, sums.alpha + i);
  }
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

/// How the lanes of a vector come in.
struct Spot {
  V along_u, along_v;  // the lane's way over the surface, in tiles
  V cosine;            // between lane and normal
};

HWY_INLINE Footprint FindFootprint(const PaintTable& table, const Spot& spot, V t, V texels) {
  const D d;
  const DI di;
  const V one = hn::Set(d, 1.0f);
  const V foot = hn::Mul(t, hn::Set(d, table.pixel_angle));
  const V cosine = hn::Max(spot.cosine, hn::Set(d, 1e-4f));
  const V stretch = hn::Div(one, cosine);
  Footprint result;
  result.count = hn::Ceil(hn::Min(stretch, hn::Set(d, table.taps)));
  const V sine_square = hn::Max(hn::Sub(one, hn::Mul(cosine, cosine)), hn::Set(d, 1e-12f));
  // The strip's length over that of the lane's way.
  const V length = hn::Div(hn::Mul(foot, stretch),
                           hn::Mul(hn::Max(t, hn::Set(d, 1e-6f)), hn::Sqrt(sine_square)));
  result.along_u = hn::Mul(spot.along_u, length);
  result.along_v = hn::Mul(spot.along_v, length);
  const V wide = hn::Max(one, hn::Div(stretch, result.count));
  const V covered = hn::Mul(hn::Mul(foot, texels), wide);
  // The exponent is the level, the mantissa a good enough share of the next one.
  const VI bits = hn::BitCast(di, hn::Max(covered, one));
  const VI exponent = hn::Sub(hn::ShiftRight<23>(bits), hn::Set(di, 127));
  const VI mantissa =
      hn::Or(hn::And(bits, hn::Set(di, 0x7fffff)), hn::BitCast(di, hn::Set(d, 1.0f)));
  result.level = hn::Min(exponent, hn::Set(di, TextureSet::levels - 2));
  result.next_share = hn::Sub(hn::BitCast(d, mantissa), one);
  return result;
}

/// What filtering has to know of every lane, beside where it is.
struct Strips {
  alignas(64) float u[Lookups::capacity];  // middle of the strip, in tiles
  alignas(64) float v[Lookups::capacity];
  alignas(64) float along_u[Lookups::capacity];
  alignas(64) float along_v[Lookups::capacity];
  alignas(64) float count[Lookups::capacity];
  alignas(64) float next_share[Lookups::capacity];
  alignas(64) std::int32_t index[Lookups::capacity];  // of the level in the set
};

/// Sets where the lookups of the vectors that take part are: lookup `tap` of each strip, in the
/// strip's level or the next one.
HWY_INLINE void PlaceTap(const TextureSet& set, const Strips& strips, std::size_t size, float tap,
                         bool next, Lookups& look, Active& active) {
  const D d;
  const DI di;
  const V zero = hn::Zero(d);
  active.count = 0;
  for (std::size_t i = 0; i < size; i += hn::Lanes(d)) {
    const V count = hn::Load(d, strips.count + i);
    const V next_share = hn::Load(d, strips.next_share + i);
    const V share = hn::Div(hn::Set(d, 1.0f), count);
    V weight = hn::IfThenElseZero(hn::Lt(hn::Set(d, tap), count), share);
    const V next_weight = hn::Mul(weight, next_share);
    weight = next ? next_weight : hn::Sub(weight, next_weight);
    if (hn::AllTrue(d, hn::Eq(weight, zero))) continue;
    active.first[active.count++] = i;
    const V place = hn::Sub(hn::Mul(hn::Set(d, tap + 0.5f), share), hn::Set(d, 0.5f));
    hn::Store(hn::Add(hn::Load(d, strips.u + i), hn::Mul(place, hn::Load(d, strips.along_u + i))),
              d, look.u + i);
    hn::Store(hn::Add(hn::Load(d, strips.v + i), hn::Mul(place, hn::Load(d, strips.along_v + i))),
              d, look.v + i);
    hn::Store(weight, d, look.weight + i);
    VI index = hn::Load(di, strips.index + i);
    if (next) index = hn::Add(index, hn::Set(di, 1));
    const std::int32_t one = hn::GetLane(index);
    if (hn::AllTrue(di, hn::Eq(index, hn::Set(di, one)))) {
      hn::Store(hn::Set(di, set.first()[one]), di, look.first + i);
      hn::Store(hn::Set(di, set.width()[one]), di, look.width + i);
      hn::Store(hn::Set(di, set.height()[one]), di, look.height + i);
    } else {
      hn::Store(hn::GatherIndex(di, set.first(), index), di, look.first + i);
      hn::Store(hn::GatherIndex(di, set.width(), index), di, look.width + i);
      hn::Store(hn::GatherIndex(di, set.height(), index), di, look.height + i);
    }
  }
}

HWY_INLINE void AddFiltered(const TextureSet& set, const Strips& strips, float most,
                            const std::int32_t* panel, std::size_t size, Lookups& look,
                            Sums& sums) {
  Active active;
  for (float tap = 0; tap < most; tap += 1) {
    for (const bool next : {false, true}) {
      PlaceTap(set, strips, size, tap, next, look, active);
      if (active.count > 0) AddBilinear(set, panel, look, active, sums);
    }
  }
}

template <TextureSampling kSampling>
HWY_INLINE bool Paint(const Surfaces& surfaces, const PaintTable& table, const Reach& reach,
                      Colors& colors) {
  const D d;
  const DI di;
  const V one = hn::Set(d, 1.0f);
  const V zero = hn::Zero(d);
  constexpr bool kFiltered = kSampling == TextureSampling::filtered;
  V least_alpha = one;
  V most = zero;
  bool any_textured = false;
  bool all_textured = true;
  Lookups look;
  Strips strips;
  Sums sums;
  alignas(64) std::int32_t panels[Lookups::capacity];
  alignas(64) std::int32_t covered[Lookups::capacity];
  Active active;
  // First round: the materials, and where on their textures the lanes are.
  for (std::size_t i = 0; i < surfaces.size; i += hn::Lanes(d)) {
    const VI face = hn::Load(di, reinterpret_cast<const std::int32_t*>(surfaces.face + i));
    const VI material = hn::Load(di, reinterpret_cast<const std::int32_t*>(surfaces.material + i));
    const VI key = hn::Add(hn::Mul(material, hn::Set(di, PaintTable::faces)), face);
    const EntryLanes entry = LoadEntries<kFiltered>(table.entries.data(), key);
    hn::Store(hn::Mul(entry.red, entry.opacity), d, colors.red + i);
    hn::Store(hn::Mul(entry.green, entry.opacity), d, colors.green + i);
    hn::Store(hn::Mul(entry.blue, entry.opacity), d, colors.blue + i);
    hn::Store(entry.opacity, d, colors.alpha + i);
    least_alpha = hn::Min(least_alpha, entry.opacity);
    if (table.textures->size() == 0) continue;
    const auto textured = hn::Gt(entry.level, hn::Set(di, -1));
    const bool none = hn::AllFalse(di, textured);
    any_textured = any_textured || !none;
    all_textured = all_textured && hn::AllTrue(di, textured);
    hn::Store(entry.level, di, covered + i);
    const V x = hn::Load(d, surfaces.x + i);
    const V y = hn::Load(d, surfaces.y + i);
    const V z = hn::Load(d, surfaces.z + i);
    Spot spot;
    spot.along_u = hn::Add(hn::Mul(x, entry.u_x), hn::Mul(y, entry.u_y));
    spot.along_v = hn::Add(hn::Mul(y, entry.v_y), hn::Mul(z, entry.v_z));
    V u = hn::Add(spot.along_u, entry.u_0);
    V v = hn::Add(spot.along_v, entry.v_0);
    auto panel = hn::Lt(one, zero);
    if (surfaces.any_panel) {
      const auto its = hn::Eq(face, hn::Set(di, static_cast<int>(Face::panel)));
      panel = hn::RebindMask(d, its);
      hn::Store(hn::VecFromMask(di, its), di, panels + i);
      u = hn::IfThenElse(panel, hn::Load(d, surfaces.u + i), u);
      v = hn::IfThenElse(panel, hn::Load(d, surfaces.v + i), v);
    }
    if constexpr (kFiltered) {
      const V t = hn::Load(d, reach.meters + i);
      const auto facing = [&](V along_x, V along_y, V along_z) {
        return hn::Abs(
            hn::Add(hn::Add(hn::Mul(along_x, entry.normal_x), hn::Mul(along_y, entry.normal_y)),
                    hn::Mul(along_z, entry.normal_z)));
      };
      if (reach.way_x == nullptr) {
        spot.cosine = hn::Div(facing(x, y, z), hn::Max(t, hn::Set(d, 1e-6f)));
      } else {
        const V way_x = hn::Load(d, reach.way_x + i);
        const V way_y = hn::Load(d, reach.way_y + i);
        const V way_z = hn::Load(d, reach.way_z + i);
        spot.cosine = facing(way_x, way_y, way_z);
        spot.along_u = hn::Mul(t, hn::Add(hn::Mul(way_x, entry.u_x), hn::Mul(way_y, entry.u_y)));
        spot.along_v = hn::Mul(t, hn::Add(hn::Mul(way_y, entry.v_y), hn::Mul(way_z, entry.v_z)));
      }

      // Panels are taken as facing the lane.
      spot.cosine = hn::IfThenElse(panel, one, spot.cosine);
      const Footprint foot = FindFootprint(table, spot, t, entry.texels);
      hn::Store(u, d, strips.u + i);
      hn::Store(v, d, strips.v + i);
      hn::Store(foot.along_u, d, strips.along_u + i);
      hn::Store(foot.along_v, d, strips.along_v + i);
      hn::Store(foot.count, d, strips.count + i);
      hn::Store(foot.next_share, d, strips.next_share + i);
      // Lanes without a texture look at the first one, and forget it.
      hn::Store(hn::Add(hn::Max(entry.level, hn::Zero(di)), foot.level), di, strips.index + i);
      most = hn::Max(most, hn::IfThenElseZero(hn::RebindMask(d, textured), foot.count));
    } else {
      hn::Store(u, d, look.u + i);
      hn::Store(v, d, look.v + i);
      hn::Store(entry.first, di, look.first + i);
      hn::Store(entry.width, di, look.width + i);
      hn::Store(entry.height, di, look.height + i);
      if constexpr (kSampling == TextureSampling::bilinear) {
        hn::Store(one, d, look.weight + i);
        active.first[active.count++] = i;
      }
    }
    if constexpr (kSampling != TextureSampling::nearest) {
      hn::Store(zero, d, sums.red + i);
      hn::Store(zero, d, sums.green + i);
      hn::Store(zero, d, sums.blue + i);
      hn::Store(zero, d, sums.alpha + i);
    }
  }
  if (!any_textured) return hn::GetLane(hn::MinOfLanes(d, least_alpha)) < 0.9995f;

  const std::int32_t* panel = surfaces.any_panel ? panels : nullptr;
  if constexpr (kSampling == TextureSampling::nearest) {
    AddNearest(*table.textures, look, surfaces.size, sums);
  } else if constexpr (kSampling == TextureSampling::bilinear) {
    AddBilinear(*table.textures, panel, look, active, sums);
  } else {
    AddFiltered(*table.textures, strips, hn::GetLane(hn::MaxOfLanes(d, most)), panel, surfaces.size,
                look, sums);
  }

  const V level_share = hn::Set(d, 1.0f / 65025.0f);
  const V alpha_share = hn::Set(d, 1.0f / 255.0f);
  for (std::size_t i = 0; i < surfaces.size; i += hn::Lanes(d)) {
    const auto its = hn::RebindMask(d, hn::Gt(hn::Load(di, covered + i), hn::Set(di, -1)));
    const auto times = [&](float* color, const float* sum, V share) {
      const V base = hn::Load(d, color + i);
      V value = hn::Mul(base, hn::Mul(hn::Load(d, sum + i), share));
      if (!all_textured) value = hn::IfThenElse(its, value, base);
      hn::Store(value, d, color + i);
      return value;
    };
    times(colors.red, sums.red, level_share);
    times(colors.green, sums.green, level_share);
    times(colors.blue, sums.blue, level_share);
    least_alpha = hn::Min(least_alpha, times(colors.alpha, sums.alpha, alpha_share));
  }
  // Bytes of 255 may sum up to a little below.
  return hn::GetLane(hn::MinOfLanes(d, least_alpha)) < 0.9995f;
}

bool PaintSimd(const Surfaces& surfaces, const PaintTable& table, const Reach& reach,
               Colors& colors) {
  switch (table.sampling) {
    case TextureSampling::nearest:
      return Paint<TextureSampling::nearest>(surfaces, table, reach, colors);
    case TextureSampling::bilinear:
      return Paint<TextureSampling::bilinear>(surfaces, table, reach, colors);
    case TextureSampling::filtered:
      return Paint<TextureSampling::filtered>(surfaces, table, reach, colors);
  }
  return false;
}

/// Fog by how far along its way from start to end a distance is, rising and ending gently, so that
/// neither end shows as a line.
HWY_INLINE V FadeOf(V distance, V start, V inverse_range) {
  const D d;
  const V raw = hn::Mul(hn::Sub(distance, start), inverse_range);
  const V s = hn::Min(hn::Max(raw, hn::Zero(d)), hn::Set(d, 1.0f));
  return hn::Mul(hn::Mul(s, s), hn::Sub(hn::Set(d, 3.0f), hn::Add(s, s)));
}

template <bool kFirst>
HWY_INLINE void AddFaded(const Colors& colors, const float* distance, const FogRow& fog,
                         float share, const Through* through, std::size_t count, Colors& sums) {
  const D d;
  const V start = hn::Set(d, fog.start);
  const V inverse_range = hn::Set(d, fog.inverse_range);
  const V share_of = hn::Set(d, share);
  for (std::size_t i = 0; i < count; i += hn::Lanes(d)) {
    const V fade = FadeOf(hn::Load(d, distance + i), start, inverse_range);
    const V fog_part = hn::Mul(hn::Load(d, colors.alpha + i), fade);
    const auto add = [&](const float* color, float fog_color, const float* left, float* sum) {
      const V base = hn::Load(d, color + i);
      V value =
          hn::Add(hn::Sub(base, hn::Mul(base, fade)), hn::Mul(hn::Set(d, fog_color), fog_part));
      if (left != nullptr) value = hn::Mul(value, hn::Load(d, left + i));
      value = hn::Mul(value, share_of);
      if constexpr (!kFirst) value = hn::Add(hn::Load(d, sum + i), value);
      hn::Store(value, d, sum + i);
    };
    add(colors.red, fog.red, through != nullptr ? through->red : nullptr, sums.red);
    add(colors.green, fog.green, through != nullptr ? through->green : nullptr, sums.green);
    add(colors.blue, fog.blue, through != nullptr ? through->blue : nullptr, sums.blue);
  }
}

void AddFadedSimd(const Colors& colors, const float* distance, const FogRow& fog, float share,
                  const Through* through, std::size_t count, bool first, Colors& sums) {
  return first ? AddFaded<true>(colors, distance, fog, share, through, count, sums)
               : AddFaded<false>(colors, distance, fog, share, through, count, sums);
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(PaintSimd);
HWY_EXPORT(AddFadedSimd);

bool paint_surfaces(const Surfaces& surfaces, const PaintTable& table, const Reach& reach,
                    Colors& colors) {
  return HWY_DYNAMIC_DISPATCH(PaintSimd)(surfaces, table, reach, colors);
}

void add_faded(const Colors& colors, const float* distance, const FogRow& fog, float share,
               const Through* through, std::size_t count, bool first, Colors& sums) {
  HWY_DYNAMIC_DISPATCH(AddFadedSimd)(colors, distance, fog, share, through, count, first, sums);
}

}  // namespace photonlane
#endif
