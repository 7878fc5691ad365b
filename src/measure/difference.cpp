#include "photonlane/measure/difference.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <charconv>
#include <cmath>

#include "measure/similarity.hpp"
#include "photonlane/measure/statistics.hpp"

namespace photonlane {
namespace {

/// Refuses a frame with colors or depths that are not numbers: no error can be told of them.
void refuse_not_numbers(const Frame& frame, std::string_view which) {
  const Size size = frame.size();
  const auto count = [&](Layer layer, int channels, bool infinite_too) {
    std::size_t found = 0;
    if (!frame.has(layer)) return found;
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        bool bad = false;
        for (int channel = 0; channel < channels; ++channel) {
          const float value = frame.values(layer, channel)(x, y);
          bad = bad || std::isnan(value) || (infinite_too && std::isinf(value));
        }
        found += bad ? 1 : 0;
      }
    }
    return found;
  };
  if (const std::size_t bad = count(Layer::color, 3, true)) {
    throw Error(ErrorKind::input,
                fmt::format("{}: the color of {} of {} pixels is not a number or infinite", which,
                            bad, static_cast<std::size_t>(size.width) * size.height));
  }
  if (const std::size_t bad = count(Layer::depth, 1, false)) {
    throw Error(ErrorKind::input,
                fmt::format("{}: the depth of {} of {} pixels is not a number", which, bad,
                            static_cast<std::size_t>(size.width) * size.height));
  }
}

/// Display values in [0, 1], three planes of width * height.
std::array<std::vector<float>, 3> display_values(const Frame& frame) {
  const Size size = frame.size();
  const std::size_t pixels = static_cast<std::size_t>(size.width) * size.height;
  std::array<std::vector<float>, 3> values;
  for (int channel = 0; channel < 3; ++channel) {
    values[channel].reserve(pixels);
    for (int y = 0; y < size.height; ++y) {
      if (frame.has(Layer::color)) {
        for (const float linear : frame.values(Layer::color, channel).row(y)) {
          values[channel].push_back(to_display(linear));
        }
      } else {
        for (const std::uint32_t packed : frame.codes(Layer::display).row(y)) {
          values[channel].push_back(static_cast<float>((packed >> (8 * channel)) & 255) / 255.0f);
        }
      }
    }
  }
  return values;
}

void compare_hits(const Frame& frame, const Frame& reference, Difference& result) {
  const auto both = [&](Layer layer) { return frame.has(layer) && reference.has(layer); };
  const Size size = frame.size();
  const double pixels = static_cast<double>(size.width) * size.height;
  if (both(Layer::cell) && both(Layer::face)) {
    std::size_t other = 0;
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        const auto differs = [&](Layer layer) {
          return both(layer) && frame.codes(layer)(x, y) != reference.codes(layer)(x, y);
        };
        other += differs(Layer::cell) || differs(Layer::face) || differs(Layer::ending);
      }
    }
    result.share_other = static_cast<double>(other) / pixels;
  }
  if (both(Layer::smooth_count) && both(Layer::steps) && both(Layer::ending)) {
    // Points that end otherwise, or escape after other numbers of steps.
    std::size_t other = 0;
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        const auto ending = frame.codes(Layer::ending)(x, y);
        const bool out = ending == static_cast<std::uint32_t>(Ending::escaped);
        other += ending != reference.codes(Layer::ending)(x, y) ||
                 (out && frame.codes(Layer::steps)(x, y) != reference.codes(Layer::steps)(x, y));
      }
    }
    result.share_other = static_cast<double>(other) / pixels;
  }
  if (both(Layer::depth)) {
    std::vector<double> errors;
    const auto depth = frame.values(Layer::depth);
    const auto truth = reference.values(Layer::depth);
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        const double error = std::abs(double{depth(x, y)} - double{truth(x, y)});
        if (std::isfinite(error)) errors.push_back(error);
      }
    }
    result.depth_median = quantile(errors, 0.5);
    result.depth_p99 = quantile(std::move(errors), 0.99);
  }
}

}  // namespace

Difference compare(const Frame& frame, const Frame& reference) {
  const Size size = frame.size();
  if (size != reference.size()) {
    throw Error(ErrorKind::input,
                fmt::format("frames of {}x{} and {}x{} pixels, expected the same size", size.width,
                            size.height, reference.size().width, reference.size().height));
  }
  if (size.width <= 0 || size.height <= 0) {
    throw Error(ErrorKind::usage, "frames without pixels, expected frames that were rendered");
  }
  refuse_not_numbers(frame, "the picture");
  refuse_not_numbers(reference, "the reference");
  const auto values = display_values(frame);
  const auto truth = display_values(reference);
  const std::size_t pixels = values[0].size();
  Difference result;
  result.size = size;
  result.errors.assign(pixels, 0);
  double squares = 0;
  for (std::size_t i = 0; i < pixels; ++i) {
    for (int channel = 0; channel < 3; ++channel) {
      const float error = std::abs(values[channel][i] - truth[channel][i]);
      squares += double{error} * error;
      result.errors[i] = std::max(result.errors[i], error);
    }
  }
  const auto worst = std::max_element(result.errors.begin(), result.errors.end());
  result.largest = *worst;
  const auto place = static_cast<std::size_t>(worst - result.errors.begin());
  result.largest_x = static_cast<int>(place % size.width);
  result.largest_y = static_cast<int>(place / size.width);
  result.rmse = std::sqrt(squares / (3.0 * static_cast<double>(pixels)));
  if (result.rmse > 0) result.psnr = -20 * std::log10(result.rmse);

  const auto luma = [&](const std::array<std::vector<float>, 3>& image) {
    std::vector<float> gray(pixels);
    for (std::size_t i = 0; i < pixels; ++i) {
      gray[i] = 0.2126f * image[0][i] + 0.7152f * image[1][i] + 0.0722f * image[2][i];
    }
    return gray;
  };
  if (result.largest > 0) result.ssim = structural_similarity(luma(values), luma(truth), size);
  compare_hits(frame, reference, result);
  return result;
}

std::span<const Metric> metrics() {
  using Optional = std::optional<double>;
  static const Metric table[] = {
      {"rmse", "", "root mean square error of the display values", false,
       [](const Difference& d) { return Optional(d.rmse); }},
      {"psnr", "dB", "peak signal to noise", true, [](const Difference& d) { return d.psnr; }},
      {"ssim", "", "structural similarity", true,
       [](const Difference& d) { return Optional(d.ssim); }},
      {"largest", "", "largest error of a channel", false,
       [](const Difference& d) { return Optional(d.largest); }},
      {"share_other", "", "share of pixels that met another cell or face, or ended in another way",
       false, [](const Difference& d) { return d.share_other; }},
      {"depth_median", "m", "median depth error where both hit", false,
       [](const Difference& d) { return d.depth_median; }},
      {"depth_p99", "m", "99th percentile of the depth error where both hit", false,
       [](const Difference& d) { return d.depth_p99; }},
  };
  return table;
}

Limit parse_limit(std::string_view text) {
  const auto equals = text.find('=');
  const std::string_view name = text.substr(0, equals);
  std::vector<std::string_view> names;
  for (const Metric& metric : metrics()) names.push_back(metric.name);
  for (const Metric& metric : metrics()) {
    if (metric.name != name) continue;
    const std::string_view number = equals == text.npos ? "" : text.substr(equals + 1);
    double bound = 0;
    const auto [end, problem] =
        std::from_chars(number.data(), number.data() + number.size(), bound);
    if (problem != std::errc() || end != number.data() + number.size() || !std::isfinite(bound)) {
      throw Error(ErrorKind::usage,
                  fmt::format("{}: expected METRIC=NUMBER, as in {}=0.01", text, name));
    }
    return {&metric, bound};
  }
  throw Error(ErrorKind::usage, fmt::format("{}: no such metric, expected one of {}{}", name,
                                            fmt::join(names, ", "), suggestion(name, names)));
}

bool holds(const Limit& limit, const Difference& difference) {
  const auto value = limit.metric->value(difference);
  if (!value) {
    if (limit.metric->name == "psnr") return true;
    throw Error(ErrorKind::usage,
                fmt::format("{}: the pictures do not have the layers for it", limit.metric->name));
  }
  return limit.metric->more_is_better ? *value >= limit.bound : *value <= limit.bound;
}

Frame resample(const Frame& frame, Size size) {
  Frame result(size, frame.layers());
  result.budget = frame.budget;
  result.tally = frame.tally;
  result.cost = frame.cost;
  const Size old = frame.size();
  const auto nearest = [](int i, int from, int to) {
    return std::min(from - 1, static_cast<int>((i + 0.5) * from / to));
  };
  struct Between {
    int low, high;
    float share;
  };
  const auto between = [](int i, int from, int to) {
    const double place = std::clamp((i + 0.5) * from / to - 0.5, 0.0, from - 1.0);
    const int low = static_cast<int>(place);
    return Between{low, std::min(low + 1, from - 1), static_cast<float>(place - low)};
  };
  const auto each_pixel = [&](const auto& from, const auto& to, const auto& value) {
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) to(x, y) = value(from, x, y);
    }
  };
  const auto take_nearest = [&](const auto& from, int x, int y) {
    return from(nearest(x, old.width, size.width), nearest(y, old.height, size.height));
  };
  const auto take_bilinear = [&](const auto& from, int x, int y) {
    const Between across = between(x, old.width, size.width);
    const Between down = between(y, old.height, size.height);
    const auto along = [&](int row) {
      const float low = from(across.low, row);
      return low + (from(across.high, row) - low) * across.share;
    };
    return along(down.low) + (along(down.high) - along(down.low)) * down.share;
  };
  for (std::size_t i = 0; i < layer_count; ++i) {
    const auto layer = static_cast<Layer>(i);
    if (!frame.has(layer)) continue;
    if (layer_info(layer).codes) {
      each_pixel(frame.codes(layer), result.codes(layer), take_nearest);
    } else if (layer == Layer::color) {
      for (int channel = 0; channel < 3; ++channel) {
        each_pixel(frame.values(layer, channel), result.values(layer, channel), take_bilinear);
      }
    } else {
      for (int channel = 0; channel < layer_info(layer).channels; ++channel) {
        each_pixel(frame.values(layer, channel), result.values(layer, channel), take_nearest);
      }
    }
  }
  return result;
}

}  // namespace photonlane
