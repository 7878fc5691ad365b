#pragma once

#include <boost/multiprecision/mpfr.hpp>

namespace photonlane {

/// A number of as many digits as Digits says when it is made.
using Precise = boost::multiprecision::number<boost::multiprecision::mpfr_float_backend<0>,
                                              boost::multiprecision::et_off>;

/// Sets how many digits new numbers of this thread have, for as long as it stands.
class Digits {
 public:
  explicit Digits(unsigned digits) : before_(Precise::default_precision()) {
    Precise::default_precision(digits);
  }
  ~Digits() { Precise::default_precision(before_); }
  Digits(const Digits&) = delete;
  Digits& operator=(const Digits&) = delete;

 private:
  unsigned before_;
};

}  // namespace photonlane
