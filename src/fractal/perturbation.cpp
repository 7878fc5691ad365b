#include "fractal/perturbation.hpp"

#include <algorithm>
#include <cmath>

#include "fractal/drawn_in.hpp"
#include "fractal/perturbed_lane.hpp"

namespace photonlane {
namespace {

/// Steps count as linear where the terms left out are smaller than the rest by this factor.
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

  /// What all points of the window can take together after their first step: a distance becomes
  /// `first_slope` times the point's own.
  FarComplex first_slope{Complex{1, 0}};
  std::uint64_t together = 0;  ///< steps
  LongProduct pull;

  Skips(const EscapeRule& rule, const Perturbation& all, double log_reach, std::uint64_t limit)
      : deep(all.power_ < static_cast<std::int64_t>(near_enough)), end(all.first_end_) {
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
    std::vector<std::vector<Far>> longer;
    const auto halves = [&]() -> const std::vector<Far>& {
      return longer.empty() ? one : longer.back();
    };
    while (halves().size() >= 2) {
      std::vector<Far> two(halves().size() / 2);
      for (std::size_t i = 0; i < two.size(); ++i) {
        const Far& first = halves()[2 * i];
        const Far& second = halves()[2 * i + 1];
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
      levels.push_back(std::move(level));
      longer.push_back(std::move(two));
    }
    if (!rule.julia) go_together(longer, log_reach, limit);
    if (!deep) return;
    for (std::size_t l = 0; l < levels.size(); ++l) levels[l].far = std::move(longer[l]);
  }

  /// The level of the longest one from so many steps after place 1 that takes no more than so many
  /// and is good; -1: none is.
  template <class Good>
  int longest(std::size_t at, std::uint64_t most, const Good& good) const {
    int best = -1;
    for (std::size_t level = 0; level < levels.size(); ++level) {
      const std::uint64_t length = std::uint64_t{2} << level;
      if (at % length != 0) break;
      const std::size_t index = at / length;
      if (index >= levels[level].near.size() || length > most || !good(level, index)) break;
      best = static_cast<int>(level);
    }
    return best;
  }

 private:
  void go_together(const std::vector<std::vector<Far>>& longer, double log_reach,
                   std::uint64_t limit) {
    for (;;) {
      const double size = first_slope.log2() + log_reach;
      const int level = longest(
          together, limit - 1 - together,
          [&](std::size_t one, std::size_t index) { return size < longer[one][index].log_reach; });
      if (level < 0) return;
      const std::uint64_t steps = std::uint64_t{2} << level;
      const Far& best = longer[static_cast<std::size_t>(level)][together / steps];
      first_slope = best.a * first_slope + best.b;
      pull.times(best.a);
      together += steps;
      // Orbits attracted this far have ended.
      if (pull.below(drawn_in)) return;
    }
  }
};

/// Lanes on their way: what is no plain step of many, and all of it where more is found out.
class Perturbation::Walker final : public PerturbedLanes {
 public:
  Walker(const Perturbation& all, const EscapeRule& rule, const EscapeStop& stop,
         const EscapeExtras& extras, const PlanePoints& points, EscapeEnds& ends)
      : all_(all),
        rule_(rule),
        stop_(stop),
        extras_(extras),
        points_(points),
        ends_(ends),
        square_radius_(stop.radius * stop.radius),
        draws_(stop.derivative || stop.periodicity) {
    // Along a trap's every step is looked at.
    skips_ = extras.trap ? nullptr : all.skips_.get();
    FarComplex first(Complex{1, 0}, all.power_);
    unit_ = first.near().x;
    if (skips_ != nullptr && skips_->together < stop.limit) {
      together_ = skips_->together;
      first = skips_->first_slope * first;
    }
    first_ = first.near();
  }

  void walk() {
    if (!extras_.distance && !extras_.trap) {
      PerturbedFlight flight;
      flight.family = rule_.family;
      flight.power = rule_.power;

      flight.orbit = all_.orbit_.data();
      flight.restart = all_.restart_;
      flight.second_end = all_.second_end_;
      flight.square_radius = square_radius_;
      flight.limit = stop_.limit;
      flight.draws = draws_;
      fly_perturbed(flight, *this);
      return;
    }
    for (i_ = 0; i_ < points_.size(); ++i_) {
      bool open = begin();
      while (open) open = take_step();
      finish();
    }
  }

  bool next(std::size_t slot, PerturbedLane& lane) override {
    while (next_ < points_.size()) {
      i_ = next_++;
      if (begin()) {
        which_[slot] = i_;
        lane = lane_;
        return true;
      }
      finish();
    }
    return false;
  }

  bool attend(std::size_t slot, PerturbedLane& lane) override {
    i_ = which_[slot];
    lane_ = lane;
    small_ = false;
    if (stepped() && ready()) {
      lane = lane_;
      return true;
    }
    finish();
    return false;
  }

 private:
  FarComplex far_point() const { return FarComplex(offset(), all_.power_); }
  Complex offset() const { return {points_.high_x[i_], points_.high_y[i_]}; }

  /// Takes up a point; false where it has ended already.
  bool begin() {
    lane_ = PerturbedLane{};
    lane_.last = all_.first_end_;
    lane_.look_below = std::max(far_below(), skips_ != nullptr ? skips_->largest_reach : 0);
    trap_ = std::numeric_limits<double>::infinity();
    slope_x_ = {1, 0};
    slope_y_ = {0, 1};
    slope_power_ = 0;
    slope_one_ = 1;
    ends_.ending[i_] = Ending::spent;
    lane_.off = first_ * offset();
    if (!rule_.julia) {
      // The first step of a point is its own distance.
      lane_.point = unit_ * offset();
      ++lane_.place;
      ++lane_.count;
      ++lane_.steps;
      if (together_ > 0) {
        lane_.place += together_;
        lane_.count += together_;
        ++lane_.steps;
        lane_.pull = skips_->pull;
        turn_slope_far(skips_->first_slope, FarComplex());
      }
    }
    small_ = lane_.off.square() < far_below();
    if (small_) {
      far_ = FarComplex(offset(), all_.power_);
      if (together_ > 0) far_ = skips_->first_slope * far_;
    }
    if (rule_.julia) return ready();
    note_trap(reference() + lane_.off);
    return stepped() && ready();
  }

  void finish() {
    ends_.count[i_] = std::min(lane_.count, stop_.limit);
    ends_.steps += lane_.steps;
    if (extras_.trap) ends_.trap[i_] = trap_;
  }

  double far_below() const { return all_.power_ < near_enough ? 0x1p-960 : 0.0; }
  Complex reference() const { return all_.orbit_[lane_.place]; }

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
  bool go_on(const Complex& z) {
    if (lane_.count > stop_.limit) return false;
    if (!(z.square() <= square_radius_)) {
      ends_.ending[i_] = Ending::escaped;
      ends_.x[i_] = z.x;
      ends_.y[i_] = z.y;
      if (extras_.distance) {
        // The gradient of log |z| against it, in the units of points.
        const double square = z.square();
        const double x = z.x * slope_x_.x + z.y * slope_x_.y;
        const double y = z.x * slope_y_.x + z.y * slope_y_.y;
        const double distance =
            std::exp2(std::log2(square * 0.5 * std::log(square)) - 0.5 * std::log2(x * x + y * y) -
                      static_cast<double>(slope_power_ + all_.power_));
        ends_.distance[i_] = distance > 0 ? distance : 0;
      }
      return false;
    }
    if (draws_ && lane_.pull.below(drawn_in) && lane_.count > 1) {
      if (!rule_.julia || returns_drawn_in(rule_, z)) {
        ends_.ending[i_] = Ending::hit;
        return false;
      }
      // Nothing but near to 0 once: what it stretches is told from here on.
      lane_.pull = LongProduct();
    }
    return lane_.count < stop_.limit;
  }

  /// After steps: false where they have ended it. Where the orbit is nearer to 0 than to the other,
  /// or that one ends, it goes on from the start.
  bool stepped() {
    const FarComplex far = small_ ? all_.far_reference(lane_.place) + far_ : FarComplex();
    const Complex z = small_ ? far.near() : reference() + lane_.off;
    if (!go_on(z)) return false;
    const bool nearer = small_ ? far.log2() < far_.log2() : !(z.square() >= lane_.off.square());
    if (lane_.place < lane_.last && !nearer) return true;
    far_ = far;
    lane_.off = z;
    lane_.place = all_.restart_;
    lane_.last = all_.second_end_;
    return true;
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

  bool skips_here() const {
    return skips_ != nullptr && lane_.place > 0 && lane_.last == skips_->end;
  }

  void count_steps(std::uint64_t taken) {
    lane_.place += taken;
    lane_.count += taken;
    ++lane_.steps;
  }

  /// Takes skips, and what doubles do not hold, until a plain step is next; false where the orbit
  /// has ended.
  bool ready() {
    for (;;) {
      if (small_) {
        const double size = far_.log2();
        if (size > near_enough) {
          small_ = false;
          lane_.off = far_.near();
          continue;
        }
        if (!far_flight()) far_step(size);
        if (!stepped()) return false;
        continue;
      }
      const double square = lane_.off.square();
      if (square < lane_.look_below && skips_here()) {
        if (const Skips::Near* skip = find_near(square)) {
          lane_.off = skip->a * lane_.off + skip->b * lane_.point;
          turn_slope(skip->a, skip->b);
          lane_.pull.times(skip->a.square());
          count_steps(skip_length_);
          if (!stepped()) return false;
          continue;
        }
      }
      // Too far for those that start here: hardly ever good for others before it is nearer.
      if (lane_.place % 2 == 1 && square < lane_.look_below) {
        lane_.look_below = std::max(far_below(), square);
      }
      if (!(square < far_below())) return true;
      small_ = true;
      far_ = FarComplex(lane_.off);
    }
  }

  /// A plain step, and all that is to be done before the next.
  bool take_step() {
    const Complex before = reference() + lane_.off;
    lane_.pull.times(pull_of(before));
    turn_slope_at(before);
    lane_.off = step(reference(), lane_.off) + lane_.point;
    count_steps(1);
    note_trap(reference() + lane_.off);
    return stepped() && ready();
  }

  /// Steps of a distance that is far smaller than the orbit it is told from, where there are no
  /// skips: linear, in units that go along with it. Leaves `far_` where something else is next;
  /// false where the first step would be it.
  bool far_flight() {
    if (skips_here()) return false;
    // What is left out of a step is that much less than what is not.
    constexpr double large = 0x1p-300;
    constexpr double most = 0x1p60;
    const auto fits = [&](const Complex& at) {
      const double x = std::abs(at.x);
      const double y = std::abs(at.y);
      // Of the folded family both components decide which way a distance is turned.
      const double least = std::min(x, y);
      return std::max(x, y) > large && (least > 0x1p-450 || least == 0);
    };
    bool any = false;
    Complex off = far_.part;
    std::int64_t power = far_.power;
    const auto limit = static_cast<std::int64_t>(near_enough);
    Complex own;
    double unit = 1;
    const auto rescale = [&] {
      const FarComplex now(off, power);
      off = now.part;
      power = now.power;
      own = {in_units(FarComplex(Complex{offset().x, 0}, all_.power_), power),
             in_units(FarComplex(Complex{offset().y, 0}, all_.power_), power)};
      unit = power > -1000 ? std::ldexp(1.0, static_cast<int>(-power)) : 0x1p1000;
    };
    rescale();
    while (power < limit) {
      const Complex at = reference();
      const bool go = fits(at) && lane_.place < lane_.last && lane_.count < stop_.limit &&
                      at.square() <= square_radius_;
      if (!go) break;
      lane_.pull.times(pull_of(at));
      turn_slope_at(at);
      Complex w = at;
      if (rule_.family == PlaneFamily::conjugate) {
        w.y = -w.y;
        off.y = -off.y;
      } else if (rule_.family == PlaneFamily::folded) {
        off = {change_of_size(unit * w.x, off.x), change_of_size(unit * w.y, off.y)};
        w = {std::abs(w.x), std::abs(w.y)};
      }
      off = slope_at(w) * off;
      if (!rule_.julia) off = off + own;
      count_steps(1);
      any = true;
      note_trap(reference());
      if (!(off.square() < most * most)) rescale();
      if (draws_ && lane_.pull.below(drawn_in)) break;
    }
    far_ = FarComplex(off, power);
    return any;
  }

  /// A skip or a step in numbers of any size.
  void far_step(double size) {
    if (skips_here()) {
      if (const Skips::Far* skip = find_far(size)) {
        far_ = skip->a * far_ + skip->b * far_point();
        turn_slope_far(skip->a, skip->b);
        lane_.pull.times(skip->a);
        count_steps(skip_length_);
        return;
      }
    }
    const FarComplex at = all_.far_reference(lane_.place);
    const Complex before = (at + far_).near();
    lane_.pull.times(pull_of(before));
    turn_slope_at(before);
    const FarComplex next = step(at, far_);
    far_ = rule_.julia ? next : next + far_point();
    count_steps(1);
    note_trap((all_.far_reference(lane_.place) + far_).near());
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
      // One of the reference's components may be as small as the distance while the other is not.
      const FarPlace parts = all_.far_parts(lane_.place);
      e.part = {change_of_size(in_units(parts.x, e.power), e.part.x),
                change_of_size(in_units(parts.y, e.power), e.part.y)};
      e = FarComplex(e.part, e.power);
      w.part = {std::abs(w.part.x), std::abs(w.part.y)};
    }
    return change(w, e, FarComplex(Complex{1, 0}));
  }
  /// The real part of a number in units of 2^power; huge where that is far below it, 0 where it is
  /// far above.
  static double in_units(const FarComplex& number, std::int64_t power) {
    const auto by = std::clamp<std::int64_t>(number.power - power, -1200, 900);
    return std::ldexp(number.part.x, static_cast<int>(by));
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
    const int best = skips_->longest(lane_.place - 1, stop_.limit - lane_.count, good);
    if (best >= 0) skip_length_ = std::uint64_t{2} << best;
    return best;
  }
  const Skips::Near* find_near(double square) {
    const int level = longest([&](std::size_t one, std::size_t index) {
      return square < skips_->levels[one].near[index].square_reach;
    });
    if (level < 0) return nullptr;
    return &skips_->levels[static_cast<std::size_t>(level)].near[(lane_.place - 1) / skip_length_];
  }
  const Skips::Far* find_far(double size) {
    const int level = longest([&](std::size_t one, std::size_t index) {
      return size < skips_->levels[one].far[index].log_reach;
    });
    if (level < 0) return nullptr;
    return &skips_->levels[static_cast<std::size_t>(level)].far[(lane_.place - 1) / skip_length_];
  }

  const Perturbation& all_;
  const EscapeRule& rule_;
  const EscapeStop& stop_;
  const EscapeExtras& extras_;
  const PlanePoints& points_;
  EscapeEnds& ends_;
  const double square_radius_;
  const bool draws_;
  const Skips* skips_ = nullptr;
  std::uint64_t together_ = 0;                 ///< steps of them that all points take first
  Complex first_;                              ///< what offsets are after those, and the first one
  double unit_ = 1;                            ///< of offsets
  std::size_t next_ = 0;                       ///< point
  std::size_t which_[most_perturbed_slots]{};  ///< points are in which slot
  // Of the lane that is looked at.
  std::size_t i_ = 0;
  PerturbedLane lane_;
  bool small_ = false;  ///< its distance is beyond doubles, and in far_
  FarComplex far_;
  std::uint64_t skip_length_ = 0;
  double trap_ = 0;
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
  orbit_ = center.z;
  tiny_ = center.tiny;
  first_end_ = second_end_ = orbit_.size() - 1;
  if (plane.julia) {
    // Behind the first, so that lanes go on from the orbit of 0.
    const ReferenceOrbit zero =
        reference_orbit(plane, window.center, true, stop.limit, stop.radius, bits);
    restart_ = orbit_.size();
    orbit_.insert(orbit_.end(), zero.z.begin(), zero.z.end());
    second_end_ = orbit_.size() - 1;
    for (const auto& [at, value] : zero.tiny) tiny_[restart_ + at] = value;
  }
  if (!skips || plane.family != PlaneFamily::power) return;
  EscapeRule rule;
  rule.power = plane.power;
  rule.julia = plane.julia.has_value();
  skips_ = std::make_unique<Skips>(rule, *this, std::log2(reach) + static_cast<double>(power),
                                   stop.limit);
}

FarPlace Perturbation::far_parts(std::size_t place) const {
  const auto found = tiny_.find(place);
  if (found != tiny_.end()) return found->second;
  return {FarComplex(Complex{orbit_[place].x, 0}), FarComplex(Complex{orbit_[place].y, 0})};
}

FarComplex Perturbation::far_reference(std::size_t place) const {
  const auto found = tiny_.find(place);
  if (found == tiny_.end()) return FarComplex(orbit_[place]);
  const FarComplex& y = found->second.y;
  return found->second.x + FarComplex(Complex{-y.part.y, y.part.x}, y.power);
}

void Perturbation::iterate(const EscapeRule& rule, const EscapeStop& stop,
                           const EscapeExtras& extras, const PlanePoints& points,
                           EscapeEnds& ends) const {
  ends.resize(points.size());
  ends.distance.resize(points.size());
  ends.trap.resize(points.size());
  Walker(*this, rule, stop, extras, points, ends).walk();
}

}  // namespace photonlane
