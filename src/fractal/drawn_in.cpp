#include "fractal/drawn_in.hpp"

#include <cmath>

namespace photonlane {

bool returns_drawn_in(const EscapeRule& rule, const Complex& z) {
  // Far longer than the cycles of sets that one sees anything of.
  constexpr int longest_cycle = 1 << 14;
  constexpr double near = 1e-6;
  // The cycle's own stretch, squared: less than 1 by enough that rounding does not decide.
  constexpr double shrinks = 0.98;
  const Complex c{rule.julia_x.high, rule.julia_y.high};
  Complex at = z;
  double stretch = 1;
  for (int step = 0; step < longest_cycle; ++step) {
    double slope = rule.power * rule.power;
    for (int k = 1; k < rule.power; ++k) slope *= at.square();
    stretch *= slope;
    if (rule.family == PlaneFamily::conjugate) at.y = -at.y;
    if (rule.family == PlaneFamily::folded) at = {std::abs(at.x), std::abs(at.y)};
    Complex power = at;
    for (int k = 1; k < rule.power; ++k) power = power * at;
    at = power + c;
    if (!(at.square() < 1e12)) return false;
    if ((at - z).square() < near * near && stretch < shrinks) return true;
  }
  return false;
}

}  // namespace photonlane
