#include "fractal/escape_kernel.hpp"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <limits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "fractal/escape_kernel.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include "fractal/drawn_in.hpp"
#include "fractal/escape_numbers-inl.h"
#include "fractal/escape_step-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Points whose orbits have not ended after the same number of steps, and where those are.
template <class Real>
struct Survivors {
  std::vector<std::size_t> point;
  std::vector<DoubleDouble> x, y;
  std::uint64_t steps = 0;
};

/// What both ways through orbits share.
template <class Real, int power, bool plain>
class OrbitsOf {
 public:
  using D = typename Real::D;
  using Number = hn::TFromD<D>;
  using V = hn::Vec<D>;
  using M = hn::Mask<D>;
  using DI = hn::RebindToSigned<D>;
  using Integer = hn::TFromD<DI>;
  using VI = hn::Vec<DI>;

  OrbitsOf(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
           EscapeEnds& ends)
      : rule_(rule),
        stop_(stop),
        points_(points),
        ends_(ends),
        folding_(folding_of<Real>(rule.family)) {}

 protected:
  static constexpr std::size_t vectors = Real::planes == 1 ? 4 : 1;  ///< in flight together
  static constexpr std::size_t lanes = HWY_LANES(Number);

  bool Forms() const {
    return stop_.forms && plain && power == 2 && rule_.family == PlaneFamily::power && !rule_.julia;
  }

  /// False for points that need no step to be told.
  bool Starts(std::size_t point) {
    if (Forms() && in_largest_parts(points_.high_x[point], points_.high_y[point])) {
      Stays(point);
      return false;
    }
    return !rule_.julia || StartsInside(point);
  }
  void Stays(std::size_t point) {
    ends_.count[point] = 0;
    ends_.ending[point] = Ending::hit;
  }
  bool StartsInside(std::size_t point) {
    const double x = points_.high_x[point];
    const double y = points_.high_y[point];
    if (x * x + y * y <= stop_.radius * stop_.radius) return true;
    ends_.count[point] = 0;
    ends_.ending[point] = Ending::escaped;
    ends_.x[point] = x;
    ends_.y[point] = y;
    return false;
  }

  void Escaped(std::size_t point, std::uint64_t count, double x, double y) {
    ends_.count[point] = count;
    ends_.ending[point] = Ending::escaped;
    ends_.x[point] = x;
    ends_.y[point] = y;
    ends_.steps += count;
  }
  void Ended(std::size_t point, std::uint64_t count, Ending ending) {
    ends_.count[point] = count;
    ends_.ending[point] = ending;
    ends_.steps += count;
  }

  static HWY_INLINE V Size(const Real& x, const Real& y) {
    return hn::Add(hn::Mul(x.high(), x.high()), hn::Mul(y.high(), y.high()));
  }
  V Radius() const { return hn::Set(D(), static_cast<Number>(stop_.radius * stop_.radius)); }

  const EscapeRule& rule_;
  const EscapeStop& stop_;
  const PlanePoints& points_;
  EscapeEnds& ends_;
  const Folding<Real> folding_;
};

/// Many orbits that take their first steps together; the columns of those that have not ended are
/// moved together after some of them.
template <class Real, int power, bool plain>
class Waves : public OrbitsOf<Real, power, plain> {
 public:
  using Base = OrbitsOf<Real, power, plain>;
  using typename Base::D;
  using typename Base::DI;
  using typename Base::M;
  using typename Base::Number;
  using typename Base::V;
  using typename Base::VI;

  using Base::Base;

  HWY_INLINE void Run(Survivors<Real>& survivors) {
    std::size_t next = 0;
    while (next < this->points_.size()) {
      const std::size_t end = std::min(this->points_.size(), next + block);
      std::size_t size = 0;
      while (next < end) {
        // Number of points tested by closed forms together.
        std::uint64_t known = this->Forms() ? Largest(next, end) : 0;
        for (const std::size_t last = std::min(end, next + forms_together); next < last;
             ++next, known >>= 1) {
          if (known & 1) {
            this->Stays(next);
          } else if (!this->rule_.julia || this->StartsInside(next)) {
            Take(next, size++);
          }
        }
      }
      const std::uint64_t steps = Roll(size);
      if (size_ > 0) survivors.steps = steps;
      for (std::size_t i = 0; i < size_; ++i) {
        const auto point = static_cast<std::size_t>(point_[i]);
        if (steps == this->stop_.limit) {
          this->Ended(point, steps, Ending::spent);
          continue;
        }
        survivors.point.push_back(point);
        survivors.x.push_back(x_.Get(i));
        survivors.y.push_back(y_.Get(i));
      }
    }
  }

 private:
  using Base::lanes;
  using Base::vectors;
  static constexpr std::size_t block = 1024;
  static constexpr std::size_t space = block + vectors * lanes;
  /// Most steps that are taken together: far fewer than the whole way of those that are left.
  static constexpr std::uint64_t most = 512;

  static constexpr std::size_t forms_together = 64;

  /// Which points from one on are in the largest parts: the lowest bit for the first.
  HWY_INLINE std::uint64_t Largest(std::size_t first, std::size_t end) const {
    const hn::ScalableTag<double> d;
    const double* const at_x = this->points_.high_x.data();
    const double* const at_y = this->points_.high_y.data();
    constexpr std::size_t width = HWY_LANES(double);
    std::uint64_t all = 0;
    for (std::size_t i = 0; i < forms_together && first + i < end; i += width) {
      if (first + i + width > end) {
        for (; first + i < end; ++i) {
          const bool inside = in_largest_parts(at_x[first + i], at_y[first + i]);
          all |= std::uint64_t{inside} << i;
        }
        break;
      }
      const auto x = hn::LoadU(d, at_x + first + i);
      const auto y = hn::LoadU(d, at_y + first + i);
      const auto yy = hn::Mul(y, y);
      const auto off = hn::Sub(x, hn::Set(d, 0.25));
      const auto q = hn::Add(hn::Mul(off, off), yy);
      const auto left = hn::Add(x, hn::Set(d, 1.0));
      const auto inside = hn::Or(hn::Le(hn::Mul(q, hn::Add(q, off)), hn::Mul(hn::Set(d, 0.25), yy)),
                                 hn::Le(hn::Add(hn::Mul(left, left), yy), hn::Set(d, 0.0625)));
      std::uint8_t bits[8] = {};
      hn::StoreMaskBits(d, inside, bits);
      const std::uint64_t these = bits[0] & ((1u << width) - 1);
      all |= these << i;
    }
    return all;
  }

  void Take(std::size_t point, std::size_t at) {
    const DoubleDouble zero;
    const EscapeRule& rule = this->rule_;
    const DoubleDouble x = this->points_.x(point);
    const DoubleDouble y = this->points_.y(point);
    x_.Put(at, rule.julia ? x : zero);
    y_.Put(at, rule.julia ? y : zero);
    cx_.Put(at, rule.julia ? rule.julia_x : x);
    cy_.Put(at, rule.julia ? rule.julia_y : y);
    point_[at] = static_cast<hn::TFromD<DI>>(point);
  }

  /// Returns how many steps those have taken that are left.
  HWY_INLINE std::uint64_t Roll(std::size_t size) {
    size_ = size;
    const std::uint64_t last = std::min(this->stop_.limit, most);
    std::uint64_t taken = 0;
    std::uint64_t kept = 0;
    while (taken < last && size_ > 0) {
      const std::uint64_t steps = std::min(std::max<std::uint64_t>(8, taken / 3), last - taken);
      // Where orbits were when their steps had last doubled (Brent, "An improved Monte Carlo
      // factorization algorithm", 1980).
      if (this->stop_.periodicity && taken >= 32 && taken >= 2 * kept) {
        for (std::size_t i = 0; i < size_; i += lanes) {
          kept_x_.StoreAt(i, x_.LoadAt(i));
          kept_y_.StoreAt(i, y_.LoadAt(i));
        }
        kept = taken;
      }
      Together(taken, static_cast<int>(steps), kept > 0);
      taken += steps;
    }
    return taken;
  }

  HWY_INLINE void Together(std::uint64_t before, int count, bool compares) {
    const D d;
    const DI di;
    const V radius = this->Radius();
    const std::size_t size = size_;
    const VI one = hn::Set(di, 1);
    std::size_t left = 0;
    std::size_t out = 0;
    for (std::size_t first = 0; first < size; first += vectors * lanes) {
      Real x[vectors], y[vectors], cx[vectors], cy[vectors];
      VI steps[vectors];
      for (std::size_t v = 0; v < vectors; ++v) {
        const std::size_t i = first + v * lanes;
        x[v] = x_.LoadAt(i);
        y[v] = y_.LoadAt(i);
        cx[v] = cx_.LoadAt(i);
        cy[v] = cy_.LoadAt(i);
        steps[v] = hn::Zero(di);
      }
      // Orbits stay where they are first outside, and the steps before are counted.
      for (int k = 0; k < count; ++k) {
        for (std::size_t v = 0; v < vectors; ++v) {
          const M inside = hn::Le(Base::Size(x[v], y[v]), radius);
          Real next_x = x[v];
          Real next_y = y[v];
          Step<power, plain>(this->folding_, cx[v], cy[v], next_x, next_y);
          x[v] = Choose(inside, next_x, x[v]);
          y[v] = Choose(inside, next_y, y[v]);
          steps[v] = hn::IfThenElse(hn::RebindMask(di, inside), hn::Add(steps[v], one), steps[v]);
        }
      }
      for (std::size_t v = 0; v < vectors; ++v) {
        const std::size_t i = first + v * lanes;
        if (i >= size) break;
        const M here = hn::FirstN(d, size - i);
        const M outside = hn::AndNot(hn::Le(Base::Size(x[v], y[v]), radius), here);
        M ended = outside;
        const VI points = hn::LoadU(di, point_ + i);
        Real kept_x, kept_y;
        if (compares) {
          kept_x = kept_x_.LoadAt(i);
          kept_y = kept_y_.LoadAt(i);
          const M same = hn::And(here, hn::And(Equal(x[v], kept_x), Equal(y[v], kept_y)));
          ended = hn::Or(ended, same);
          steps[v] = hn::IfThenElse(hn::RebindMask(di, same), hn::Set(di, -1), steps[v]);
        }
        if (!hn::AllFalse(d, ended)) {
          const auto chosen = hn::RebindMask(di, ended);
          hn::CompressStore(points, chosen, di, out_point_ + out);
          hn::CompressStore(steps[v], chosen, di, out_steps_ + out);
          hn::CompressStore(x[v].high(), ended, d, out_x_ + out);
          out += hn::CompressStore(y[v].high(), ended, d, out_y_ + out);
        }
        const M stay = hn::AndNot(ended, here);
        if (left == i && hn::AllTrue(d, stay)) {
          x_.StoreAt(i, x[v]);
          y_.StoreAt(i, y[v]);
          left += lanes;
          continue;
        }
        x_.CompressAt(left, x[v], stay);
        y_.CompressAt(left, y[v], stay);
        cx_.CompressAt(left, cx[v], stay);
        cy_.CompressAt(left, cy[v], stay);
        if (compares) {
          kept_x_.CompressAt(left, kept_x, stay);
          kept_y_.CompressAt(left, kept_y, stay);
        }
        left += hn::CompressStore(points, hn::RebindMask(di, stay), di, point_ + left);
      }
    }
    size_ = left;
    for (std::size_t i = 0; i < out; ++i) {
      const auto point = static_cast<std::size_t>(out_point_[i]);
      if (out_steps_[i] < 0) {
        this->Ended(point, before + static_cast<std::uint64_t>(count), Ending::hit);
      } else {
        this->Escaped(point, before + static_cast<std::uint64_t>(out_steps_[i]),
                      static_cast<double>(out_x_[i]), static_cast<double>(out_y_[i]));
      }
    }
  }

  std::size_t size_ = 0;
  Stored<Real, space> x_, y_, cx_, cy_, kept_x_, kept_y_;
  alignas(64) hn::TFromD<DI> point_[space];
  alignas(64) hn::TFromD<DI> out_point_[space], out_steps_[space];
  alignas(64) Number out_x_[space], out_y_[space];
};

/// Long orbits in flight, one a slot; a slot whose orbit has ended takes the next one.
template <class Real, int power, bool plain>
class Orbits : public OrbitsOf<Real, power, plain> {
 public:
  using Base = OrbitsOf<Real, power, plain>;
  using typename Base::D;
  using typename Base::DI;
  using typename Base::Integer;
  using typename Base::M;
  using typename Base::Number;
  using typename Base::V;
  using typename Base::VI;
  /// One lane, in the same arithmetic.
  using One = typename Real::One;

  using Base::Base;

  /// Goes on with those that have not ended, or from the start where none are given.
  HWY_INLINE void Run(const Survivors<Real>* survivors) {
    survivors_ = survivors;
    for (std::size_t slot = 0; slot < slots; ++slot) Refill(slot);
    Fly();
  }

 private:
  using Base::lanes;
  using Base::vectors;
  static constexpr std::size_t slots = vectors * lanes;
  /// Steps between tests of escape. Once outside nothing comes back, so that the ones
  /// within which some orbit ended are taken again to see when.
  static constexpr int chunk = 8;

  static constexpr std::size_t nobody = ~std::size_t{0};
  static constexpr std::uint64_t allotment = std::uint64_t{1} << 30;

  void Refill(std::size_t slot) {
    const EscapeRule& rule = this->rule_;
    const DoubleDouble zero;
    DoubleDouble x, y;
    std::size_t point = nobody;
    std::uint64_t taken = 0;
    if (survivors_ != nullptr) {
      if (next_ < survivors_->point.size()) {
        point = survivors_->point[next_];
        x = survivors_->x[next_];
        y = survivors_->y[next_];
        taken = survivors_->steps;
        ++next_;
      }
    } else {
      while (next_ < this->points_.size() && !this->Starts(next_)) ++next_;
      if (next_ < this->points_.size()) {
        point = next_++;
        if (rule.julia) {
          x = this->points_.x(point);
          y = this->points_.y(point);
        }
      }
    }
    const bool dead = point == nobody;
    const DoubleDouble at_x = dead ? zero : this->points_.x(point);
    const DoubleDouble at_y = dead ? zero : this->points_.y(point);
    point_[slot] = point;
    x_.Put(slot, x);
    y_.Put(slot, y);
    cx_.Put(slot, rule.julia && !dead ? rule.julia_x : at_x);
    cy_.Put(slot, rule.julia && !dead ? rule.julia_y : at_y);
    kept_x_.Put(slot, {std::numeric_limits<double>::quiet_NaN(), 0});
    kept_y_.Put(slot, zero);
    given_[slot] = dead ? allotment : std::min(this->stop_.limit, allotment);
    allotted_[slot] = static_cast<Integer>(given_[slot]);
    left_[slot] = static_cast<Integer>(given_[slot] - taken);
    mark_[slot] = dead ? -1 : left_[slot] - chunk;
    pull_[slot] = 1;
    live_ += !dead;
  }

  /// The square of how much a step stretches what is around z: by every family the same.
  static HWY_INLINE V Slope(V x, V y) {
    const D d;
    const V square = hn::Add(hn::Mul(x, x), hn::Mul(y, y));
    V slope = hn::Set(d, Number(power * power));
    for (int k = 1; k < power; ++k) slope = hn::Mul(slope, square);
    return slope;
  }

  /// Takes steps until all orbits have ended; a slot whose orbit has takes the next point.
  HWY_INLINE void Fly() {
    const D d;
    const DI di;
    const V radius = this->Radius();
    const bool periodicity = this->stop_.periodicity;
    const bool derivative = this->stop_.derivative;
    Real x[vectors], y[vectors], cx[vectors], cy[vectors], from_x[vectors], from_y[vectors];
    V pull[vectors];
    const auto load = [&](std::size_t v) HWY_ATTR {
      x[v] = x_.Load(v);
      y[v] = y_.Load(v);
      cx[v] = cx_.Load(v);
      cy[v] = cy_.Load(v);
      pull[v] = hn::Load(d, pull_ + v * lanes);
    };
    for (std::size_t v = 0; v < vectors; ++v) load(v);
    while (live_ > 0) {
      for (std::size_t v = 0; v < vectors; ++v) {
        from_x[v] = x[v];
        from_y[v] = y[v];
      }
      if (!derivative) {
        for (int k = 0; k < chunk; ++k) {
          for (std::size_t v = 0; v < vectors; ++v) {
            Step<power, plain>(this->folding_, cx[v], cy[v], x[v], y[v]);
          }
        }
      } else {
        for (int k = 0; k < chunk; ++k) {
          for (std::size_t v = 0; v < vectors; ++v) {
            Step<power, plain>(this->folding_, cx[v], cy[v], x[v], y[v]);
            pull[v] = hn::Mul(pull[v], Slope(x[v].high(), y[v].high()));
          }
        }
      }
      for (std::size_t v = 0; v < vectors; ++v) {
        const V square = Base::Size(x[v], y[v]);
        const VI left = hn::Sub(hn::Load(di, left_ + v * lanes), hn::Set(di, chunk));
        hn::Store(left, di, left_ + v * lanes);
        M ended = hn::Or(hn::Not(hn::Le(square, radius)),
                         hn::RebindMask(d, hn::Lt(left, hn::Set(di, 1))));
        M same = hn::FirstN(d, 0);
        if (periodicity) {
          // Against where an orbit was when its steps had last doubled.
          const Real kept_x = kept_x_.Load(v);
          const Real kept_y = kept_y_.Load(v);
          same = hn::And(Equal(x[v], kept_x), Equal(y[v], kept_y));
          const auto keeps = hn::Eq(left, hn::Load(di, mark_ + v * lanes));
          if (!hn::AllFalse(di, keeps)) {
            const M keep = hn::RebindMask(d, keeps);
            kept_x_.Store(v, Choose(keep, x[v], kept_x));
            kept_y_.Store(v, Choose(keep, y[v], kept_y));
            // After as many steps again.
            const VI given = hn::Load(di, allotted_ + v * lanes);
            const VI taken = hn::Sub(given, left);
            hn::Store(hn::IfThenElse(keeps, hn::Sub(left, taken), hn::Load(di, mark_ + v * lanes)),
                      di, mark_ + v * lanes);
          }
        }
        if (derivative) {
          same = hn::Or(same, hn::Lt(pull[v], hn::Set(d, Number(drawn_in))));
        }
        ended = hn::Or(ended, same);
        if (hn::AllFalse(d, ended)) continue;
        x_.Store(v, x[v]);
        y_.Store(v, y[v]);
        hn::Store(pull[v], d, pull_ + v * lanes);
        from_x_.Store(v, from_x[v]);
        from_y_.Store(v, from_y[v]);
        End(v, ended, same);
        load(v);
      }
    }
  }

  /// The lanes of a vector that have ended within the last steps: those are taken again, one by
  /// one, to see when.
  HWY_INLINE void End(std::size_t v, M ended, M same) {
    const D d;
    std::uint8_t ended_bits[8] = {};
    std::uint8_t same_bits[8] = {};
    hn::StoreMaskBits(d, ended, ended_bits);
    hn::StoreMaskBits(d, same, same_bits);
    std::uint64_t open = std::bit_cast<std::uint64_t>(ended_bits);
    // Bits past the lanes are anything.
    if (lanes < 64) open &= (std::uint64_t{1} << lanes) - 1;
    for (; open != 0; open &= open - 1) {
      const auto i = static_cast<std::size_t>(std::countr_zero(open));
      const std::size_t slot = v * lanes + i;
      const std::size_t point = point_[slot];
      if (point == nobody) {
        left_[slot] = static_cast<Integer>(allotment);
        allotted_[slot] = static_cast<Integer>(allotment);
        continue;
      }
      One x = from_x_.One(slot);
      One y = from_y_.One(slot);
      const One cx = cx_.One(slot);
      const One cy = cy_.One(slot);
      const Folding<One> folding = folding_of<One>(this->rule_.family);
      const auto square_limit = static_cast<Number>(this->stop_.radius * this->stop_.radius);
      int step = 0;
      for (int k = 1; k <= chunk && step == 0; ++k) {
        Step<power, plain>(folding, cx, cy, x, y);
        const Number at_x = hn::GetLane(x.high());
        const Number at_y = hn::GetLane(y.high());
        if (!(at_x * at_x + at_y * at_y <= square_limit)) step = k;
      }
      // What is left counts this chunk.
      const std::uint64_t before =
          given_[slot] - static_cast<std::uint64_t>(static_cast<std::int64_t>(left_[slot]) + chunk);
      const std::uint64_t count = before + static_cast<std::uint64_t>(step);
      if (step > 0 && count <= this->stop_.limit) {
        this->Escaped(point, count, static_cast<double>(hn::GetLane(x.high())),
                      static_cast<double>(hn::GetLane(y.high())));
      } else if (step == 0 && this->rule_.julia && pull_[slot] < Number(drawn_in) &&
                 count <= this->stop_.limit && !Returns(slot)) {
        // Nothing but near to 0 once.
        pull_[slot] = 1;
        continue;
      } else if (same_bits[i / 8] >> (i % 8) & 1) {
        this->Ended(point, before + chunk, Ending::hit);
      } else if (given_[slot] < this->stop_.limit && step == 0) {
        const std::uint64_t more = std::min(this->stop_.limit - given_[slot], allotment);
        given_[slot] += more;
        left_[slot] += static_cast<Integer>(more);
        allotted_[slot] = left_[slot];
        mark_[slot] = 0;
        continue;
      } else {
        this->Ended(point, this->stop_.limit, Ending::spent);
      }
      --live_;
      Refill(slot);
    }
  }

  bool Returns(std::size_t slot) const {
    const One x = x_.One(slot);
    const One y = y_.One(slot);
    return returns_drawn_in(this->rule_, {static_cast<double>(hn::GetLane(x.high())),
                                          static_cast<double>(hn::GetLane(y.high()))});
  }

  const Survivors<Real>* survivors_ = nullptr;
  std::size_t next_ = 0;
  std::size_t live_ = 0;

  Stored<Real, slots> x_, y_, cx_, cy_, from_x_, from_y_, kept_x_, kept_y_;
  alignas(64) Integer left_[slots];      ///< of what was given
  alignas(64) Integer allotted_[slots];  ///< all of it
  alignas(64) Integer mark_[slots];      ///< what is left when the place is kept anew
  alignas(64) Number pull_[slots];       ///< the square of how much the orbit stretches so far
  std::uint64_t given_[slots];           ///< steps it may take, so far
  std::size_t point_[slots];
};

template <class Real>
HWY_INLINE void Iterate(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                        EscapeEnds& ends) {
  const auto run = [&](auto power, auto plain) HWY_ATTR {
    Orbits<Real, decltype(power)::value, decltype(plain)::value> orbits(rule, stop, points, ends);
    // How much an orbit stretches is told from its first step on.
    if (stop.derivative) return orbits.Run(nullptr);
    Survivors<Real> survivors;
    Waves<Real, decltype(power)::value, decltype(plain)::value>(rule, stop, points, ends)
        .Run(survivors);
    if (!survivors.point.empty()) orbits.Run(&survivors);
  };
  using std::integral_constant;
  if (rule.family == PlaneFamily::power && rule.power == 2) {
    return run(integral_constant<int, 2>(), std::true_type());
  }
  switch (rule.power) {
    case 2:
      return run(integral_constant<int, 2>(), std::false_type());
    case 3:
      return run(integral_constant<int, 3>(), std::false_type());
    case 4:
      return run(integral_constant<int, 4>(), std::false_type());
    case 5:
      return run(integral_constant<int, 5>(), std::false_type());
    case 6:
      return run(integral_constant<int, 6>(), std::false_type());
    case 7:
      return run(integral_constant<int, 7>(), std::false_type());
    default:
      return run(integral_constant<int, 8>(), std::false_type());
  }
}

void IterateFloat(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                  EscapeEnds& ends) {
  Iterate<Single<hn::ScalableTag<float>>>(rule, stop, points, ends);
}
void IterateDouble(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                   EscapeEnds& ends) {
  Iterate<Single<hn::ScalableTag<double>>>(rule, stop, points, ends);
}
void IteratePairs(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                  EscapeEnds& ends) {
  Iterate<Pair<hn::ScalableTag<double>>>(rule, stop, points, ends);
}

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace photonlane {

HWY_EXPORT(IterateFloat);
HWY_EXPORT(IterateDouble);
HWY_EXPORT(IteratePairs);

void EscapeEnds::resize(std::size_t size) {
  count.resize(size);
  ending.resize(size);
  x.resize(size);
  y.resize(size);
  steps = 0;
}

bool in_largest_parts(double x, double y) {
  const double off = x - 0.25;
  const double q = off * off + y * y;
  return q * (q + off) <= 0.25 * y * y || (x + 1) * (x + 1) + y * y <= 0.0625;
}

void iterate_float(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                   EscapeEnds& ends) {
  ends.resize(points.size());
  HWY_DYNAMIC_DISPATCH(IterateFloat)(rule, stop, points, ends);
}
void iterate_double(const EscapeRule& rule, const EscapeStop& stop, const PlanePoints& points,
                    EscapeEnds& ends) {
  ends.resize(points.size());
  HWY_DYNAMIC_DISPATCH(IterateDouble)(rule, stop, points, ends);
}
void iterate_double_double(const EscapeRule& rule, const EscapeStop& stop,
                           const PlanePoints& points, EscapeEnds& ends) {
  ends.resize(points.size());
  HWY_DYNAMIC_DISPATCH(IteratePairs)(rule, stop, points, ends);
}

}  // namespace photonlane
#endif
