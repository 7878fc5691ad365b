#include "fractal/perturbation.hpp"

#include <algorithm>
#include <cmath>

namespace photonlane {
namespace {

/// Steps are as good as linear where what is left out is that much less than what is not.
constexpr double linear_enough = 0x1p-38;
/// The logarithm of the size from which on doubles hold distances and their squares.
constexpr double near_enough = -470;

/// |c + d| - |c|, without loss.
double change_of_size(double c, double d) {
  if (c >= 0) return c + d >= 0 ? d : -(2 * c + d);
  return c + d > 0 ? 2 * c + d : -d;
}

}  // namespace

/// Steps taken together: a distance d becomes a * d + b * (the point's distance).
struct Perturbation::Skips {
  struct Far {
    FarComplex a, b;
    double log_reach = 0;  ///< of distances for which that is good
  };
  struct Near {
    Complex a, b;
    double square_reach = 0;
  };
  /// Level l has those of 2^(l + 1) steps, the first from place 1 on.
  struct Level {
    std::vector<Near> near;
    std::vector<Far> far;  ///< where distances may be too small for doubles
  };
  std::vector<Level> levels;
  double largest_reach = 0;  ///< squared, of all of them
  bool deep = false;
  std::size_t end = 0;  ///< of the orbit they are of

  Skips(const EscapeRule& rule, const Perturbation& all, double log_reach, bool far)
      : deep(far), end(all.first_end_) {
    const std::size_t last = end;
    if (last < 3) return;
    std::vector<Far> one(last - 1);
    const double b = rule.julia ? 0 : 1;
    for (std::size_t m = 1; m < last; ++m) {
      const FarComplex z = all.far_reference(m);
      FarComplex slope(Complex{static_cast<double>(rule.power), 0});
      for (int k = 1; k < rule.power; ++k) slope = slope * z;
      one[m - 1] = {slope, FarComplex(Complex{b, 0}),
                    std::log2(linear_enough * 2 / (rule.power - 1)) + z.log2()};
    }
    while (one.size() >= 2) {
      std::vector<Far> two(one.size() / 2);
      for (std::size_t i = 0; i < two.size(); ++i) {
        const Far& first = one[2 * i];
        const Far& second = one[2 * i + 1];
        Far& both = two[i];
        both.a = second.a * first.a;
        both.b = second.a * first.b + second.b;
        // What the point's own distance adds on the way takes from the reach.
        const double taken = first.b.log2() + log_reach;
        const double rest =
            second.log_reach > taken
                ? second.log_reach + std::log2(1 - std::exp2(taken - second.log_reach))
                : -std::numeric_limits<double>::infinity();
        both.log_reach = std::min(first.log_reach, rest - first.a.log2());
      }
      Level level;
      level.near.resize(two.size());
      for (std::size_t i = 0; i < two.size(); ++i) {
        Near& near = level.near[i];
        near.a = two[i].a.near();
        near.b = two[i].b.near();
        near.square_reach = std::exp2(2 * two[i].log_reach);
        const bool good =
            std::isfinite(near.a.square()) && std::isfinite(near.b.x) && std::isfinite(near.b.y);
        if (!good || !(near.square_reach > 0)) near.square_reach = 0;
        largest_reach = std::max(largest_reach, near.square_reach);
      }
      if (deep) level.far = two;
      levels.push_back(std::move(level));
      one = std::move(two);
    }
  }
};

/// One lane on its way.
class Perturbation::Walker {
 public:
  Walker(const Perturbation& all, const EscapeRule& rule, const EscapeStop& stop,
         const EscapeExtras& extras)
      : all_(all),
        rule_(rule),
        stop_(stop),
        extras_(extras),
        square_radius_(stop.radius * stop.radius),
        draws_(stop.derivative || stop.periodicity) {
    // Along a trap's every step is looked at.
    skips_ = extras.trap ? nullptr : all.skips_.get();
  }

  void walk(const Complex& offset, EscapeEnds& ends, std::size_t i) {
    place_ = 0;
    last_ = all_.first_end_;
    count_ = 0;
    steps_ = 0;
    pull_ = LongProduct();
    trap_ = std::numeric_limits<double>::infinity();
    slope_x_ = {rule_.julia ? 1.0 : 0.0, 0};
    slope_y_ = {0, slope_x_.x};
    slope_power_ = 0;
    slope_one_ = 1;
    ends.ending[i] = Ending::spent;
    FarComplex far(offset, all_.power_);
    const FarComplex far_point = far;
    point_ = far.near();
    if (!rule_.julia) far = FarComplex();
    off_ = far.near();
    bool open = true;
    // The first step of a point is its own distance.
    bool small = point_is_small(far_point);
    while (open) {
      if (small) {
        open = far_leg(far, far_point, ends, i, small);
        off_ = far.near();
      } else {
        open = near_leg(ends, i, small);
        far = FarComplex(off_);
      }
    }
    ends.count[i] = std::min(count_, stop_.limit);
    ends.steps += steps_;
    if (extras_.trap) ends.trap[i] = trap_;
  }

 private:
  bool point_is_small(const FarComplex& point) const {
    return all_.power_ < near_enough && point.log2() < near_enough;
  }
  Complex reference() const { return {all_.x_[place_], all_.y_[place_]}; }

  void note_trap(const Complex& z) {
    if (!extras_.trap) return;
    const OrbitTrap& trap = *extras_.trap;
    const double x = z.x - trap.x;
    const double y = z.y - trap.y;
    double off = std::sqrt(x * x + y * y);
    if (trap.shape == TrapShape::cross) off = std::min(std::abs(x), std::abs(y));
    if (trap.shape == TrapShape::ring) off = std::abs(off - trap.radius);
    trap_ = std::min(trap_, off);
  }

  /// After steps that may have ended it; false where they have.
  bool go_on(EscapeEnds& ends, std::size_t i, const Complex& z) {
    if (!(z.square() <= square_radius_)) {
      if (count_ <= stop_.limit) {
        ends.ending[i] = Ending::escaped;
        ends.x[i] = z.x;
        ends.y[i] = z.y;
        if (extras_.distance) {
          // The gradient of log |z| against it, in the units of points.
          const double square = z.square();
          const double x = z.x * slope_x_.x + z.y * slope_x_.y;
          const double y = z.x * slope_y_.x + z.y * slope_y_.y;
          const double distance = std::exp2(std::log2(square * 0.5 * std::log(square)) -
                                            0.5 * std::log2(x * x + y * y) -
                                            static_cast<double>(slope_power_ + all_.power_));
          ends.distance[i] = distance > 0 ? distance : 0;
        }
      }
      return false;
    }
    if (draws_ && pull_.below(1e-20) && count_ > 1) {
      ends.ending[i] = Ending::hit;
      return false;
    }
    return count_ < stop_.limit;
  }

  /// Where the orbit is nearer to 0 than to the other, or that one ends, it goes on from the start.
  void restart(const Complex& z) {
    if (place_ < last_ && z.square() >= off_.square()) return;
    off_ = z;
    place_ = all_.restart_;
    last_ = all_.second_end_;
  }

  double pull_of(const Complex& z) const {
    const double square = z.square();
    double pull = rule_.power * rule_.power;
    for (int k = 1; k < rule_.power; ++k) pull *= square;
    return pull;
  }

  /// What a skip does to how z changes with the point.
  void turn_slope(const Complex& a, const Complex& b) {
    if (!extras_.distance) return;
    slope_x_ = a * slope_x_ + slope_one_ * b;
    slope_y_ = a * slope_y_ + slope_one_ * Complex{-b.y, b.x};
    shrink_slope();
  }
  /// What a step from z does to it.
  void turn_slope_at(const Complex& z) {
    if (!extras_.distance) return;
    Complex w = z;
    const auto fold = [&](Complex& turned) {
      if (rule_.family == PlaneFamily::conjugate) turned.y = -turned.y;
      if (rule_.family == PlaneFamily::folded) {
        if (z.x < 0) turned.x = -turned.x;
        if (z.y < 0) turned.y = -turned.y;
      }
    };
    fold(w);
    fold(slope_x_);
    fold(slope_y_);
    const Complex slope = slope_at(w);
    const double one = rule_.julia ? 0 : slope_one_;
    slope_x_ = slope * slope_x_ + Complex{one, 0};
    slope_y_ = slope * slope_y_ + Complex{0, one};
    shrink_slope();
  }
  void shrink_slope() {
    const double size = std::max(std::max(std::abs(slope_x_.x), std::abs(slope_x_.y)),
                                 std::max(std::abs(slope_y_.x), std::abs(slope_y_.y)));
    if (size < 0x1p400) return;
    slope_x_ = 0x1p-400 * slope_x_;
    slope_y_ = 0x1p-400 * slope_y_;
    slope_one_ *= 0x1p-400;
    slope_power_ += 400;
  }
  /// Only the family power has skips: there one direction tells the other.
  void turn_slope_far(const FarComplex& a, const FarComplex& b) {
    if (!extras_.distance) return;
    const FarComplex turned = a * FarComplex(slope_x_, slope_power_) + b;
    slope_power_ = turned.power;
    slope_x_ = turned.part;
    slope_y_ = {-slope_x_.y, slope_x_.x};
    slope_one_ = std::ldexp(1.0, static_cast<int>(std::max<std::int64_t>(-slope_power_, -2000)));
  }
  Complex slope_at(const Complex& z) const {
    Complex slope{static_cast<double>(rule_.power), 0};
    for (int k = 1; k < rule_.power; ++k) slope = slope * z;
    return slope;
  }

  /// In doubles, until it has ended or comes so near to the reference that those do not hold it.
  bool near_leg(EscapeEnds& ends, std::size_t i, bool& small) {
    const bool quadratic = rule_.family == PlaneFamily::power && rule_.power == 2 &&
                           !extras_.distance && !extras_.trap;
    for (;;) {
      if (quadratic) {
        // Most of the way is of such steps, with nothing to be told on it.
        const Leg leg = quick_leg();
        if (leg == Leg::looks) {
          const Complex z = reference() + off_;
          if (!go_on(ends, i, z)) return false;
          restart(z);
        }
      }
      const double square = off_.square();
      if (skips_here() && square < skips_->largest_reach) {
        if (const Skips::Near* skip = find_near(square)) {
          const std::uint64_t length = skip_length_;
          off_ = skip->a * off_ + skip->b * point_;
          turn_slope(skip->a, skip->b);
          pull_.times(skip->a.square());
          place_ += length;
          count_ += length;
          ++steps_;
          const Complex z = reference() + off_;
          if (!go_on(ends, i, z)) return false;
          restart(z);
          continue;
        }
      }
      if (all_.power_ < near_enough && square < 0x1p-960) {
        small = true;
        return true;
      }
      const Complex before = reference() + off_;
      if (count_ > 0 || rule_.julia) pull_.times(pull_of(before));
      turn_slope_at(before);
      off_ = step(reference(), off_) + (rule_.julia ? Complex{} : point_);
      ++place_;
      ++count_;
      ++steps_;
      const Complex z = reference() + off_;
      note_trap(z);
      if (!go_on(ends, i, z)) return false;
      restart(z);
    }
  }

  bool skips_here() const { return skips_ != nullptr && place_ > 0 && last_ == skips_->end; }

  enum class Leg { looks, skips };

  /// Steps of z^2 + c with all that changes in registers, until one may have ended the orbit
  /// (looks), or a skip may be taken or doubles may not hold the distance (skips).
  Leg quick_leg() {
    const double* const x = all_.x_.data();
    const double* const y = all_.y_.data();
    const double far_below = all_.power_ < near_enough ? 0x1p-960 : 0.0;
    double skip_below =
        std::max(skips_ != nullptr && last_ == skips_->end ? skips_->largest_reach : 0, far_below);
    const Complex point = rule_.julia ? Complex{} : point_;
    Complex off = off_;
    std::size_t place = place_;
    std::uint64_t count = count_;
    const std::uint64_t limit = stop_.limit;
    const std::uint64_t from = count;
    double square = off.square();
    Complex reference{x[place], y[place]};
    Leg leg = Leg::skips;
    if (count == 0 && !rule_.julia) return leg;
    double pull = 1;
    while (square >= skip_below) {
      const Complex z = reference + off;
      pull *= 4 * z.square();
      // (2 Z + d) d.
      const Complex twice = reference + z;
      off = twice * off + point;
      ++place;
      ++count;
      reference = {x[place], y[place]};
      const Complex next = reference + off;
      const double size = next.square();
      square = off.square();
      if (!(size <= square_radius_) || count >= limit || !(pull > 1e-10 && pull < 1e200)) {
        leg = Leg::looks;
        break;
      }
      if (size < square || place == last_) {
        off = next;
        square = size;
        place = all_.restart_;
        last_ = all_.second_end_;
        reference = {x[place], y[place]};
        // The orbit of 0 has no skips.
        if (skips_ != nullptr && last_ != skips_->end) skip_below = far_below;
      }
    }
    pull_.times(pull);
    off_ = off;
    place_ = place;
    count_ = count;
    steps_ += count - from;
    return leg;
  }

  /// The same in numbers of any size, until doubles hold the distance.
  bool far_leg(FarComplex& off, const FarComplex& point, EscapeEnds& ends, std::size_t i,
               bool& small) {
    for (;;) {
      const double size = off.log2();
      if (size > near_enough) {
        small = false;
        return true;
      }
      if (skips_here()) {
        if (const Skips::Far* skip = find_far(size)) {
          const std::uint64_t length = skip_length_;
          off = skip->a * off + skip->b * point;
          turn_slope_far(skip->a, skip->b);
          pull_.times(skip->a.near().square());
          place_ += length;
          count_ += length;
          ++steps_;
          if (!go_on_far(off, ends, i)) return false;
          continue;
        }
      }
      const FarComplex before = all_.far_reference(place_) + off;
      const Complex near_before = before.near();
      if (count_ > 0 || rule_.julia) pull_.times(pull_of(near_before));
      turn_slope_at(near_before);
      const FarComplex next = step(all_.far_reference(place_), off);
      off = rule_.julia ? next : next + point;
      ++place_;
      ++count_;
      ++steps_;
      if (!go_on_far(off, ends, i)) return false;
    }
  }

  bool go_on_far(FarComplex& off, EscapeEnds& ends, std::size_t i) {
    const FarComplex z = all_.far_reference(place_) + off;
    note_trap(z.near());
    if (!go_on(ends, i, z.near())) return false;
    if (place_ < last_ && z.log2() >= off.log2()) return true;
    off = z;
    place_ = all_.restart_;
    last_ = all_.second_end_;
    return true;
  }

  /// The change of one step by a distance: (W + e)^n - W^n, where W and e are what the family
  /// makes of the reference and the distance.
  Complex step(const Complex& at, const Complex& off) const {
    Complex w = at;
    Complex e = off;
    if (rule_.family == PlaneFamily::conjugate) {
      w.y = -w.y;
      e.y = -e.y;
    } else if (rule_.family == PlaneFamily::folded) {
      e = {change_of_size(w.x, e.x), change_of_size(w.y, e.y)};
      w = {std::abs(w.x), std::abs(w.y)};
    }
    return change(w, e, Complex{1, 0});
  }
  FarComplex step(const FarComplex& at, const FarComplex& off) const {
    FarComplex w = at;
    FarComplex e = off;
    if (rule_.family == PlaneFamily::conjugate) {
      w.part.y = -w.part.y;
      e.part.y = -e.part.y;
    } else if (rule_.family == PlaneFamily::folded) {
      // Far smaller than the reference, but where that is at 0.
      if (w.part.x < 0 || (w.part.x == 0 && e.part.x < 0)) e.part.x = -e.part.x;
      if (w.part.y < 0 || (w.part.y == 0 && e.part.y < 0)) e.part.y = -e.part.y;
      w.part = {std::abs(w.part.x), std::abs(w.part.y)};
    }
    return change(w, e, FarComplex(Complex{1, 0}));
  }
  /// e times the sum of (w + e)^(n-1-k) w^k over all k below n.
  template <class Number>
  Number change(const Number& w, const Number& e, const Number& one) const {
    const Number full = w + e;
    Number sum = one;
    Number power = one;
    for (int k = 1; k < rule_.power; ++k) {
      power = power * w;
      sum = full * sum + power;
    }
    return e * sum;
  }

  /// The longest skip from here that is good for a distance and does not pass the limit.
  template <class Good>
  int longest(const Good& good) {
    const std::size_t at = place_ - 1;
    int best = -1;
    for (std::size_t level = 0; level < skips_->levels.size(); ++level) {
      const std::uint64_t length = std::uint64_t{2} << level;
      if (at % length != 0) break;
      const std::size_t index = at / length;
      if (index >= skips_->levels[level].near.size() || count_ + length > stop_.limit) break;
      if (!good(level, index)) break;
      best = static_cast<int>(level);
    }
    if (best >= 0) skip_length_ = std::uint64_t{2} << best;
    return best;
  }
  const Skips::Near* find_near(double square) {
    const int level = longest([&](std::size_t one, std::size_t index) {
      return square < skips_->levels[one].near[index].square_reach;
    });
    if (level < 0) return nullptr;
    return &skips_->levels[static_cast<std::size_t>(level)].near[(place_ - 1) / skip_length_];
  }
  const Skips::Far* find_far(double size) {
    const int level = longest([&](std::size_t one, std::size_t index) {
      return size < skips_->levels[one].far[index].log_reach;
    });
    if (level < 0) return nullptr;
    return &skips_->levels[static_cast<std::size_t>(level)].far[(place_ - 1) / skip_length_];
  }

  const Perturbation& all_;
  const EscapeRule& rule_;
  const EscapeStop& stop_;
  const EscapeExtras& extras_;
  const double square_radius_;
  const bool draws_;
  const Skips* skips_ = nullptr;
  std::size_t place_ = 0;
  std::size_t last_ = 0;
  std::uint64_t count_ = 0;
  std::uint64_t steps_ = 0;
  std::uint64_t skip_length_ = 0;
  LongProduct pull_;
  double trap_ = 0;
  Complex off_, point_;
  Complex slope_x_, slope_y_;  ///< how z changes with the point, in units of 2^slope_power_
  std::int64_t slope_power_ = 0;
  double slope_one_ = 1;  ///< 1 in those
};

Perturbation::~Perturbation() = default;

Perturbation::Perturbation(const EscapePlane& plane, const PlaneWindow& window,
                           const EscapeStop& stop, double reach, std::int64_t power, bool skips)
    : power_(power) {
  const long bits = std::max<long>(64, static_cast<long>(-power) + 64);
  const ReferenceOrbit center =
      reference_orbit(plane, window.center, false, stop.limit, stop.radius, bits);
  x_ = center.x;
  y_ = center.y;
  tiny_ = center.tiny;
  first_end_ = second_end_ = x_.size() - 1;
  if (plane.julia) {
    // Behind the first, so that lanes go on from the orbit of 0.
    const ReferenceOrbit zero =
        reference_orbit(plane, window.center, true, stop.limit, stop.radius, bits);
    restart_ = x_.size();
    x_.insert(x_.end(), zero.x.begin(), zero.x.end());
    y_.insert(y_.end(), zero.y.begin(), zero.y.end());
    second_end_ = x_.size() - 1;
    for (const auto& [at, value] : zero.tiny) tiny_[restart_ + at] = value;
  }
  if (!skips || plane.family != PlaneFamily::power) return;
  EscapeRule rule;
  rule.power = plane.power;
  rule.julia = plane.julia.has_value();
  skips_ = std::make_unique<Skips>(rule, *this, std::log2(reach) + static_cast<double>(power),
                                   power < static_cast<std::int64_t>(near_enough));
}

FarComplex Perturbation::far_reference(std::size_t place) const {
  const auto found = tiny_.find(place);
  return found != tiny_.end() ? found->second : FarComplex(Complex{x_[place], y_[place]});
}

void Perturbation::iterate(const EscapeRule& rule, const EscapeStop& stop,
                           const EscapeExtras& extras, const PlanePoints& points,
                           EscapeEnds& ends) const {
  ends.resize(points.size());
  ends.distance.resize(points.size());
  ends.trap.resize(points.size());
  Walker walker(*this, rule, stop, extras);
  for (std::size_t i = 0; i < points.size(); ++i) {
    walker.walk({points.x[i].high, points.y[i].high}, ends, i);
  }
}

}  // namespace photonlane
