#pragma once

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <limits>

namespace photonlane {

/// A complex number of two doubles.
struct Complex {
  double x = 0, y = 0;

  friend Complex operator+(const Complex& a, const Complex& b) { return {a.x + b.x, a.y + b.y}; }
  friend Complex operator-(const Complex& a, const Complex& b) { return {a.x - b.x, a.y - b.y}; }
  friend Complex operator*(const Complex& a, const Complex& b) {
    return {a.x * b.x - a.y * b.y, a.x * b.y + a.y * b.x};
  }
  friend Complex operator*(double a, const Complex& b) { return {a * b.x, a * b.y}; }
  double square() const { return x * x + y * y; }
};

/// A complex number times a power of two that may lie far beyond those of doubles.
struct FarComplex {
  Complex part;  ///< its larger component from 1 to 2 in size, unless it is 0
  std::int64_t power = 0;

  FarComplex() = default;
  explicit FarComplex(const Complex& value, std::int64_t times = 0) : part(value), power(times) {
    settle();
  }

  /// The logarithm of its size to the base of two, within a half.
  double log2() const {
    const double square = part.square();
    return square > 0 ? 0.5 * std::log2(square) + static_cast<double>(power)
                      : -std::numeric_limits<double>::infinity();
  }
  /// As doubles; 0 or infinite where it is beyond them.
  Complex near() const {
    const int by = static_cast<int>(std::clamp<std::int64_t>(power, -4000, 4000));
    return {std::ldexp(part.x, by), std::ldexp(part.y, by)};
  }

  friend FarComplex operator*(const FarComplex& a, const FarComplex& b) {
    return FarComplex(a.part * b.part, a.power + b.power);
  }
  friend FarComplex operator+(const FarComplex& a, const FarComplex& b) {
    if (a.part.square() == 0) return b;
    if (b.part.square() == 0) return a;
    const FarComplex& large = a.power >= b.power ? a : b;
    const FarComplex& small = a.power >= b.power ? b : a;
    const std::int64_t apart = large.power - small.power;
    if (apart > 120) return large;
    const double share = std::ldexp(1.0, -static_cast<int>(apart));
    return FarComplex(large.part + share * small.part, large.power);
  }

 private:
  void settle() {
    const double size = std::max(std::abs(part.x), std::abs(part.y));
    if (!(size > 0) || !std::isfinite(size)) {
      if (size == 0) power = 0;
      return;
    }
    const int by = std::ilogb(size);
    const double share = std::ldexp(1.0, -by);
    part = share * part;
    power += by;
  }
};

/// A product of many sizes, which may go far beyond doubles on the way.
class LongProduct {
 public:
  LongProduct() = default;
  void times(double factor) {
    part_ *= factor;
    if (part_ > 0x1p400) {
      part_ *= 0x1p-400;
      ++powers_;
    } else if (part_ < 0x1p-400 && powers_ > 0) {
      part_ *= 0x1p400;
      --powers_;
    }
  }
  /// Takes the square of a number's size.
  void times(const FarComplex& number) {
    double factor = number.part.square();
    for (std::int64_t left = 2 * number.power; left != 0;) {
      const std::int64_t by = std::clamp<std::int64_t>(left, -300, 300);
      times(std::ldexp(factor, static_cast<int>(by)));
      left -= by;
      factor = 1;
    }
    if (number.power == 0) times(factor);
  }
  bool below(double limit) const { return powers_ == 0 && part_ < limit; }

  /// Its part in doubles and how many times that is to be taken times 2^400, for multiplying
  /// it himself for a while.
  double part() const { return part_; }
  std::int64_t powers() const { return powers_; }
  LongProduct(double part, std::int64_t powers) : part_(part), powers_(powers) {
    for (; part_ < 1e-20 && powers_ > 0; --powers_) part_ *= 0x1p400;
  }

 private:
  double part_ = 1;
  std::int64_t powers_ = 0;  ///< of 2^400
};

}  // namespace photonlane
