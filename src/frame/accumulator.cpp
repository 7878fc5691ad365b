#include "photonlane/frame/accumulator.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "photonlane/base/error.hpp"

namespace photonlane {

void Accumulator::add(const Frame& frame) {
  if (!frame.has(Layer::color)) {
    throw Error(ErrorKind::usage, "a frame without the layer color, expected one to add up");
  }
  if (frame.budget.light.transport == Transport::paths) {
    throw Error(
        ErrorKind::usage,
        "a frame of path-traced light, whose colors do not add up; expected a GrowingFrame");
  }
  const Size size = frame.size();
  if (samples_ > 0 && size != size_) {
    throw Error(ErrorKind::usage, fmt::format("a frame of {}x{} added to those of {}x{}",
                                              size.width, size.height, size_.width, size_.height));
  }
  if (samples_ == 0) {
    size_ = size;
    sums_.assign(3 * static_cast<std::size_t>(size.width) * static_cast<std::size_t>(size.height),
                 0.0);
  }
  const auto weight = static_cast<double>(frame.budget.frame.samples);
  for (int channel = 0; channel < 3; ++channel) {
    const Plane<const float> plane = frame.values(Layer::color, channel);
    auto at = static_cast<std::size_t>(channel);
    for (int y = 0; y < size.height; ++y) {
      for (const float value : plane.row(y)) {
        sums_[at] += weight * static_cast<double>(value);
        at += 3;
      }
    }
  }
  samples_ += frame.budget.frame.samples;
  budget_ = frame.budget;
  tally_ += frame.tally;
  cost_.compile_ms = frame.cost.compile_ms;
  cost_.cast_ms += frame.cost.cast_ms;
  cost_.fill_ms += frame.cost.fill_ms;
}

Frame Accumulator::mean() const {
  if (samples_ == 0) throw Error(ErrorKind::usage, "the mean of no frame, expected one at least");
  Frame frame(size_, {Layer::color});
  const double share = 1 / static_cast<double>(samples_);
  for (int channel = 0; channel < 3; ++channel) {
    const Plane<float> plane = frame.values(Layer::color, channel);
    auto at = static_cast<std::size_t>(channel);
    for (int y = 0; y < size_.height; ++y) {
      for (float& value : plane.row(y)) {
        value = static_cast<float>(share * sums_[at]);
        at += 3;
      }
    }
  }
  frame.budget = budget_;
  frame.budget.frame.samples =
      static_cast<int>(std::min<std::int64_t>(samples_, std::numeric_limits<int>::max()));
  frame.tally = tally_;
  frame.cost = cost_;
  return frame;
}

void Accumulator::clear() { *this = Accumulator(); }

}  // namespace photonlane
