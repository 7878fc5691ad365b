#include "field/field_kernel.hpp"

#include <algorithm>
#include <cmath>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "field/field_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "field/place_march-inl.h"
#include "field/slices-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Sets the first register of a machine to places; the last place again past the end.
template <class D>
struct BlockPlaces {
  using Number = hn::TFromD<D>;
  static constexpr std::size_t most = block_vectors * hn::MaxLanes(D());
  HWY_ALIGN Number x[most], y[most], z[most];
  std::size_t count = 0;

  BlockPlaces(const FieldPlaces<Number>& places, std::size_t first, std::size_t end) {
    const std::size_t lanes = block_vectors * hn::Lanes(D());
    count = std::min(lanes, end - first);
    if (count == lanes) {
      std::copy_n(places.x + first, lanes, x);
      std::copy_n(places.y + first, lanes, y);
      std::copy_n(places.z + first, lanes, z);
      return;
    }
    for (std::size_t i = 0; i < lanes; ++i) {
      const std::size_t from = first + std::min(i, count - 1);
      x[i] = places.x[from];
      y[i] = places.y[from];
      z[i] = places.z[from];
    }
  }
  ActiveVectors active() const {
    const std::size_t lanes = hn::Lanes(D());
    return ActiveVectors::First((count + lanes - 1) / lanes);
  }
};

/// Runs a tape over places, block by block; `give` gets each block's machine.
template <class T, class D, class Give>
HWY_INLINE void Ask(D d, const Tape& tape, std::span<const Tape::Instruction> instructions,
                    const FieldPlaces<hn::TFromD<D>>& places, std::size_t begin, std::size_t end,
                    const Give& give) {
  using Number = hn::TFromD<D>;
  const std::size_t lanes = hn::Lanes(d);
  Machine<D, T> machine(tape);
  for (std::size_t first = begin; first < end; first += block_vectors * lanes) {
    const BlockPlaces<D> block(places, first, end);
    const ActiveVectors active = block.active();
    for (std::size_t j = 0; j < active.count; ++j) {
      T& x = machine.point(0, 0, j);
      T& y = machine.point(0, 1, j);
      T& z = machine.point(0, 2, j);
      x = T(hn::Load(d, block.x + j * lanes));
      y = T(hn::Load(d, block.y + j * lanes));
      z = T(hn::Load(d, block.z + j * lanes));
      if constexpr (std::is_same_v<T, Dual<D>>) {
        x.x = y.y = z.z = hn::Set(d, Number(1));
      }
    }
    machine.run(instructions, active);
    give(machine, first, block.count);
  }
}

/// Copies lanes of vectors to where they belong, up to a count.
template <class D, class Vector, class Value, class Get>
HWY_INLINE void Spread(D d, std::size_t count, Value* to, const Get& get) {
  HWY_ALIGN Value lanes[hn::MaxLanes(D())];
  const std::size_t width = hn::Lanes(d);
  for (std::size_t i = 0; i < count; i += width) {
    const Vector vector = get(i / width);
    if (i + width <= count) {
      hn::StoreU(vector, hn::DFromV<Vector>(), to + i);
      continue;
    }
    hn::Store(vector, hn::DFromV<Vector>(), lanes);
    std::copy_n(lanes, count - i, to + i);
  }
}

template <class Number>
std::size_t Values(const Tape& tape, const FieldPlaces<Number>& places, Number* values) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  const D d;
  const auto give = [&](auto& machine, std::size_t first, std::size_t count) {
    Spread<D, V>(d, count, values + first, [&](std::size_t j) { return machine.value(j).v; });
  };
  // Where a field is large, neighbors are asked only for what matters around them.
  constexpr std::size_t part = 64;
  constexpr std::size_t cloud = 16;
  constexpr std::size_t chunk = Regions<D>::most * cloud;
  if (tape.instructions.size() < 24 || places.count < part) {
    Ask<Plain<D>>(d, tape, tape.instructions, places, 0, places.count, give);
    return places.count;
  }
  std::size_t evaluations = places.count;
  Machine<D, Plain<D>> machine(tape);
  Regions<D> regions(tape);
  for (std::size_t first = 0; first < places.count; first += chunk) {
    const std::size_t end = std::min(first + chunk, places.count);
    typename Regions<D>::Balls balls;
    for (std::size_t at = first; at < end; at += cloud) {
      balls.add_around(places, at, std::min(at + cloud, end));
    }
    regions.find(machine, tape.instructions, balls);
    evaluations += balls.count;
    for (std::size_t begin = first; begin < end; begin += part) {
      const std::size_t past = std::min(begin + part, end);
      Ask<Plain<D>>(d, tape, regions.between((begin - first) / cloud, (past - 1 - first) / cloud),
                    places, begin, past, give);
    }
  }
  return evaluations;
}

template <class Number>
void Gradients(const Tape& tape, const FieldPlaces<Number>& places, Number* values,
               const FieldGradients<Number>& to) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  const D d;
  Ask<Dual<D>>(
      d, tape, tape.instructions, places, 0, places.count,
      [&](auto& machine, std::size_t first, std::size_t count) {
        Spread<D, V>(d, count, values + first, [&](std::size_t j) { return machine.value(j).v; });
        Spread<D, V>(d, count, to.x + first, [&](std::size_t j) { return machine.value(j).x; });
        Spread<D, V>(d, count, to.y + first, [&](std::size_t j) { return machine.value(j).y; });
        Spread<D, V>(d, count, to.z + first, [&](std::size_t j) { return machine.value(j).z; });
      });
}

template <class Number>
void Materials(const Tape& tape, const FieldPlaces<Number>& places,
               const FieldMaterials<Number>& to) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  using VI = hn::Vec<hn::RebindToSigned<D>>;
  using Integer = hn::TFromV<VI>;
  const D d;
  Ask<Made<D>>(
      d, tape, tape.instructions, places, 0, places.count,
      [&](auto& machine, std::size_t first, std::size_t count) {
        Integer whole[block_vectors * hn::MaxLanes(D())];
        Spread<D, VI>(d, count, whole, [&](std::size_t j) { return machine.value(j).material; });
        std::copy_n(whole, count, to.material + first);
        Spread<D, VI>(d, count, whole, [&](std::size_t j) { return machine.value(j).other; });
        std::copy_n(whole, count, to.other + first);
        Spread<D, V>(d, count, to.share + first,
                     [&](std::size_t j) { return machine.value(j).share; });
      });
}

template <class Number>
void MarchAll(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget,
              HitBatch<Number>& hits) {
  using D = hn::ScalableTag<Number>;
  if (!budget.pruning || lanes.together) {
    SliceMarch<D>(tape, lanes, budget).run(false, hits);
    return;
  }
  LaneOrder<Number> order(lanes);
  if (!order.worth_it()) {
    SliceMarch<D>(tape, lanes, budget).run(false, hits);
    return;
  }
  HitBatch<Number> own;
  SliceMarch<D>(tape, order.lanes(), budget).run(true, own);
  order.give_back(own, hits);
}

/// Values at places, each by what matters there.
template <class Number>
std::size_t ValuesByPlace(const Tape& tape, PlaceTree& tree, const FieldPlaces<Number>& places,
                          Number* values) {
  using D = hn::ScalableTag<Number>;
  using V = hn::Vec<D>;
  const D d;
  const std::size_t width = hn::Lanes(d);
  Machine<D, Plain<D>> machine(tape);
  Places<D> lookup(machine, tape, tree);
  const Lent<PlaceLanes<Number>> room;
  constexpr std::size_t most_in_block = block_vectors * hn::MaxLanes(D());
  HWY_ALIGN Number at[3][most_in_block];
  for (std::size_t first = 0; first < places.count; first += PlaceLanes<Number>::most) {
    const std::size_t count = std::min(PlaceLanes<Number>::most, places.count - first);
    typename Places<D>::Last last;
    for (std::size_t k = 0; k < count; ++k) {
      const Number place[3] = {places.x[first + k], places.y[first + k], places.z[first + k]};
      room->keys[k] = std::uint64_t{lookup.find(place, last).part} << 32 | k;
    }
    const std::uint64_t* keys = sort_keys(room->keys, room->sorted, count);
    for (std::size_t next = 0; next < count;) {
      const std::uint64_t part = keys[next] >> 32;
      std::size_t some[most_in_block];
      std::size_t size = 0;
      while (size < block_vectors * width && next < count && keys[next] >> 32 == part) {
        some[size++] = first + static_cast<std::uint32_t>(keys[next++]);
      }
      const ActiveVectors active = ActiveVectors::First((size + width - 1) / width);
      for (std::size_t k = 0; k < active.count * width; ++k) {
        const std::size_t i = some[std::min(k, size - 1)];
        at[0][k] = places.x[i];
        at[1][k] = places.y[i];
        at[2][k] = places.z[i];
      }
      for (std::size_t j = 0; j < active.count; ++j) {
        for (std::size_t axis = 0; axis < 3; ++axis) {
          machine.point(0, axis, j) = Plain<D>(hn::Load(d, at[axis] + j * width));
        }
      }
      machine.run(lookup.part(static_cast<std::uint32_t>(part)), active);
      for (std::size_t j = 0; j < active.count; ++j) {
        hn::Store(V(machine.value(j).v), d, at[0] + j * width);
      }
      for (std::size_t k = 0; k < size; ++k) values[some[k]] = at[0][k];
    }
  }
  return places.count;
}

template <class Number>
void MarchByPlace(const Tape& tape, PlaceTree& tree,
                  std::span<const LaneBatch<Number>* const> lanes, const FieldBudget& budget,
                  std::span<HitBatch<Number>* const> hits) {
  using D = hn::ScalableTag<Number>;
  const LaneBatch<Number>& first = *lanes.front();
  LaneBatch<Number> work;
  work.far_limit = first.far_limit;
  work.any_start = first.any_start;
  work.any_scale = first.any_scale;
  work.ending_only = first.ending_only;
  work.watch = first.watch;
  PlaceMarch<D> march(tape, tree, work, budget);
  work.watch_order = march.order_;
  march.run(lanes, hits);
}

#define PHOTONLANE_FIELD_FOR(Number, Name)                                                        \
  std::size_t ValuesByPlace##Name(const Tape& tape, PlaceTree& tree,                              \
                                  const FieldPlaces<Number>& places, Number* values) {            \
    return ValuesByPlace(tape, tree, places, values);                                             \
  }                                                                                               \
  void MarchByPlace##Name(const Tape& tape, PlaceTree& tree,                                      \
                          std::span<const LaneBatch<Number>* const> lanes,                        \
                          const FieldBudget& budget, std::span<HitBatch<Number>* const> hits) {   \
    MarchByPlace(tape, tree, lanes, budget, hits);                                                \
  }                                                                                               \
  std::size_t Values##Name(const Tape& tape, const FieldPlaces<Number>& places, Number* values) { \
    return Values(tape, places, values);                                                          \
  }                                                                                               \
  void Gradients##Name(const Tape& tape, const FieldPlaces<Number>& places, Number* values,       \
                       const FieldGradients<Number>& to) {                                        \
    Gradients(tape, places, values, to);                                                          \
  }                                                                                               \
  void Materials##Name(const Tape& tape, const FieldPlaces<Number>& places,                       \
                       const FieldMaterials<Number>& to) {                                        \
    Materials(tape, places, to);                                                                  \
  }                                                                                               \
  void March##Name(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget,   \
                   HitBatch<Number>& hits) {                                                      \
    MarchAll(tape, lanes, budget, hits);                                                          \
  }
PHOTONLANE_FIELD_FOR(float, Float)
PHOTONLANE_FIELD_FOR(double, Double)
#undef PHOTONLANE_FIELD_FOR

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

#define PHOTONLANE_FIELD_FOR(Number, Name)                                                         \
  HWY_EXPORT(Values##Name);                                                                        \
  HWY_EXPORT(ValuesByPlace##Name);                                                                 \
  HWY_EXPORT(MarchByPlace##Name);                                                                  \
  template <>                                                                                      \
  std::size_t evaluate_by_place(const Tape& tape, PlaceTree& tree,                                 \
                                const FieldPlaces<Number>& places, Number* values) {               \
    return HWY_DYNAMIC_DISPATCH(ValuesByPlace##Name)(tape, tree, places, values);                  \
  }                                                                                                \
  template <>                                                                                      \
  void march_by_place(const Tape& tape, PlaceTree& tree,                                           \
                      std::span<const LaneBatch<Number>* const> lanes, const FieldBudget& budget,  \
                      std::span<HitBatch<Number>* const> hits) {                                   \
    HWY_DYNAMIC_DISPATCH(MarchByPlace##Name)(tape, tree, lanes, budget, hits);                     \
  }                                                                                                \
  HWY_EXPORT(Gradients##Name);                                                                     \
  HWY_EXPORT(Materials##Name);                                                                     \
  HWY_EXPORT(March##Name);                                                                         \
  template <>                                                                                      \
  std::size_t evaluate_tape(const Tape& tape, const FieldPlaces<Number>& places, Number* values) { \
    return HWY_DYNAMIC_DISPATCH(Values##Name)(tape, places, values);                               \
  }                                                                                                \
  template <>                                                                                      \
  void differentiate_tape(const Tape& tape, const FieldPlaces<Number>& places, Number* values,     \
                          const FieldGradients<Number>& gradients) {                               \
    HWY_DYNAMIC_DISPATCH(Gradients##Name)(tape, places, values, gradients);                        \
  }                                                                                                \
  template <>                                                                                      \
  void tape_materials(const Tape& tape, const FieldPlaces<Number>& places,                         \
                      const FieldMaterials<Number>& materials) {                                   \
    HWY_DYNAMIC_DISPATCH(Materials##Name)(tape, places, materials);                                \
  }                                                                                                \
  template <>                                                                                      \
  void march_tape(const Tape& tape, const LaneBatch<Number>& lanes, const FieldBudget& budget,     \
                  HitBatch<Number>& hits) {                                                        \
    HWY_DYNAMIC_DISPATCH(March##Name)(tape, lanes, budget, hits);                                  \
  }
PHOTONLANE_FIELD_FOR(float, Float)
PHOTONLANE_FIELD_FOR(double, Double)
#undef PHOTONLANE_FIELD_FOR

}  // namespace photonlane
#endif
