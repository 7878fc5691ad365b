#include "photonlane/io/layer_picture.hpp"

#include <fmt/format.h>

#include "photonlane/frame/growing_frame.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/random.hpp"
#include "photonlane/light/material.hpp"
#include "photonlane/measure/statistics.hpp"

namespace photonlane::io {
namespace {

using Rgb = std::array<std::uint8_t, 3>;

Rgb bytes_of(const Color& color) {
  Rgb bytes{};
  for (int i = 0; i < 3; ++i) {
    bytes[i] = static_cast<std::uint8_t>(std::lround(255 * to_display(color[i])));
  }
  return bytes;
}

constexpr Rgb nothing{38, 40, 46};  // where a layer has no value

template <class Code>
Rgb color_of(Code code);

template <>
Rgb color_of(Face face) {
  switch (face) {
    case Face::east:
      return bytes_of(color_from_lightness(0.78f, 0.12f, 70));
    case Face::west:
      return bytes_of(color_from_lightness(0.56f, 0.12f, 40));
    case Face::north:
      return bytes_of(color_from_lightness(0.50f, 0.11f, 255));
    case Face::south:
      return bytes_of(color_from_lightness(0.76f, 0.10f, 220));
    case Face::floor:
      return bytes_of(color_from_lightness(0.40f, 0.05f, 140));
    case Face::ceiling:
      return bytes_of(color_from_lightness(0.90f, 0.02f, 120));
    case Face::panel:
      return bytes_of(color_from_lightness(0.70f, 0.13f, 330));
    case Face::curved:
      return bytes_of(color_from_lightness(0.68f, 0.12f, 150));
    case Face::inside:
      return bytes_of(color_from_lightness(0.60f, 0.20f, 15));
    case Face::none:
      return nothing;
  }
  return nothing;
}

template <>
Rgb color_of(Ending ending) {
  switch (ending) {
    case Ending::hit:
      return bytes_of(color_from_lightness(0.62f, 0.07f, 150));
    case Ending::escaped:
      return bytes_of(color_from_lightness(0.85f, 0.06f, 230));
    case Ending::spent:
      return bytes_of(spent_color);
    case Ending::crossed:
      return nothing;
  }
  return nothing;
}

Rgb color_of_number(std::uint32_t number) {
  if (number == no_item) return nothing;
  const RandomKey key{.seed = 0, .pixel = number, .sample = 0, .bounce = 0};
  return bytes_of(color_from_lightness(0.55f + 0.3f * random_uniform(key, 0), 0.11f,
                                       360 * random_uniform(key, 1)));
}

template <class Value>
Picture paint(Size size, const Value& value) {
  Picture picture(size);
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      const Rgb color = value(x, y);
      std::copy(color.begin(), color.end(), picture.pixel(x, y));
    }
  }
  return picture;
}

/// How the numbers of a layer spread.
struct Numbers {
  double tail;   ///< the share of pixels at either end that may be left out of the range
  bool counted;  ///< they may lie on a logarithmic ramp
  const char* gap = "nothing met";  ///< what it means that there is none
};

/// Which layers are numbers, and of what kind.
std::optional<Numbers> numbers_of(Layer layer) {
  switch (layer) {
    case Layer::depth:
    case Layer::ray_distance:
    case Layer::edge_distance:
    case Layer::trap:
      // A far horizon does not leave the room without contrast.
      return Numbers{0.02, false};
    case Layer::nearest:
      return Numbers{0.1, false};
    case Layer::alpha:
      return Numbers{0, false};
    case Layer::motion:
      return Numbers{0.02, false, "out of sight"};
    case Layer::cost:
    case Layer::work:
    case Layer::steps:
    case Layer::crossings:
    case Layer::evaluations:
    case Layer::smooth_count:
    case Layer::bounces:
    case Layer::samples:
    case Layer::variance:
      return Numbers{0.005, true};
    default:
      return std::nullopt;
  }
}

/// Sets a legend's range by the values that there are, in order.
void choose_range(const std::vector<double>& sorted, const Numbers& kind, Legend& legend) {
  const auto at = [&](double share) {
    return sorted[static_cast<std::size_t>(share * static_cast<double>(sorted.size() - 1))];
  };
  legend.low = at(kind.tail);
  legend.high = at(1 - kind.tail);
  // Extremes that are not far out stay in.
  const double most = 1.25 * (legend.high - legend.low);
  if (sorted.back() - legend.low <= most) legend.high = sorted.back();
  if (legend.high - sorted.front() <= most) legend.low = sorted.front();
  constexpr double decades = 30;
  if (kind.counted && legend.high >= 100 && legend.high >= decades * std::max(1.0, at(0.5))) {
    legend.logarithmic = true;
    legend.low = std::max(legend.low, 1.0);
  } else if (legend.low > 0 && legend.low < 0.25 * legend.high) {
    legend.low = 0;
  }
  if (!(legend.high > legend.low))
    legend.high = legend.low + (legend.low == 0 ? 1 : std::abs(legend.low));
}

/// What of the values lies outside a legend's range, for its title.
std::string outside_of(const std::vector<double>& sorted, const Legend& legend) {
  const auto below = std::lower_bound(sorted.begin(), sorted.end(), legend.low) - sorted.begin();
  const auto above = sorted.end() - std::upper_bound(sorted.begin(), sorted.end(), legend.high);
  const auto percent = [&](std::ptrdiff_t count) {
    return 100 * static_cast<double>(count) / static_cast<double>(sorted.size());
  };
  std::string text;
  if (above > 0) text += fmt::format("; {:.2g} % above, to {:.3g}", percent(above), sorted.back());
  if (below > 0) text += fmt::format("; {:.2g} % below, to {:.3g}", percent(below), sorted.front());
  return text;
}

/// Numbers by the ramp; those outside the range have the color of its end.
template <class Value>
Picture paint_numbers(Size size, const Value& value, const Numbers& kind,
                      const std::optional<ValueRange>& range, Legend& legend) {
  std::vector<double> numbers;
  bool gaps = false;
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      const double number = value(x, y);
      if (std::isfinite(number)) {
        numbers.push_back(number);
      } else {
        gaps = true;
      }
    }
  }
  std::sort(numbers.begin(), numbers.end());
  if (range) {
    legend.low = range->low;
    legend.high = range->high;
  } else if (!numbers.empty()) {
    choose_range(numbers, kind, legend);
  }
  if (legend.logarithmic) legend.title += ", logarithmic";
  if (!numbers.empty()) legend.title += outside_of(numbers, legend);
  if (gaps) legend.swatches.push_back({nothing, kind.gap});
  return paint(size, [&](int x, int y) {
    const double number = value(x, y);
    return std::isfinite(number) ? ramp(legend.share(number)) : nothing;
  });
}

template <class Code>
Picture paint_codes(Plane<const std::uint32_t> plane, Legend& legend) {
  legend.has_ramp = false;
  std::array<bool, choice_names<Code>.size()> seen{};
  Picture picture = paint({plane.width, plane.height}, [&](int x, int y) {
    const std::uint32_t code = plane(x, y);
    if (code >= seen.size()) return nothing;
    seen[code] = true;
    return color_of(static_cast<Code>(code));
  });
  for (std::size_t i = 0; i < seen.size(); ++i) {
    const auto code = static_cast<Code>(i);
    if (seen[i]) legend.swatches.push_back({color_of(code), std::string(name_of(code))});
  }
  return picture;
}

}  // namespace

Picture to_picture(const Frame& frame) {
  const auto display = frame.codes(Layer::display);
  return paint(frame.size(), [&](int x, int y) {
    const std::uint32_t packed = display(x, y);
    return Rgb{static_cast<std::uint8_t>(packed), static_cast<std::uint8_t>(packed >> 8),
               static_cast<std::uint8_t>(packed >> 16)};
  });
}

std::array<std::uint8_t, 3> ramp(double share) {
  static const auto table = [] {
    std::array<Rgb, 256> colors{};
    for (int i = 0; i < 256; ++i) {
      const float s = static_cast<float>(i) / 255;
      const float hue = s < 0.5f    ? 225 - 150 * s
                        : s < 0.78f ? 150 - 196 * (s - 0.5f)
                                    : 95 - 270 * (s - 0.78f);
      const float chroma = 0.04f + 0.23f * s * (1 - s);
      colors[i] = bytes_of(color_from_lightness(0.18f + 0.78f * s, chroma, hue));
    }
    return colors;
  }();
  return table[static_cast<std::size_t>(std::lround(255 * std::clamp(share, 0.0, 1.0)))];
}

void check_range(Layer layer, const ValueRange& range) {
  if (!numbers_of(layer)) {
    throw Error(
        ErrorKind::usage,
        fmt::format("layer {} has no colors by value, expected a layer of numbers, as depth "
                    "or steps",
                    name_of(layer)));
  }
  if (!std::isfinite(range.low) || !std::isfinite(range.high) || !(range.low < range.high)) {
    throw Error(ErrorKind::usage, fmt::format("{} is not below {}", range.low, range.high));
  }
}

namespace {

/// Radiance as the frame shows it; albedo as it is.
Picture light_picture(const Frame& frame, Layer layer) {
  const double exposure =
      layer != Layer::albedo && frame.path_report ? frame.path_report->exposure : 1;
  Frame shown(frame.size(), {Layer::color});
  for (int channel = 0; channel < 3; ++channel) {
    const auto from = frame.values(layer, channel);
    const auto to = shown.values(Layer::color, channel);
    for (int y = 0; y < frame.size().height; ++y) {
      for (int x = 0; x < frame.size().width; ++x) {
        const float light = from(x, y) * static_cast<float>(exposure);
        to(x, y) = layer == Layer::albedo ? light : tone(light);
      }
    }
  }
  encode_display(shown);
  return to_picture(shown);
}

Picture colors_picture(const Frame& frame) {
  if (frame.has(Layer::display)) return to_picture(frame);
  Frame shown = frame;
  encode_display(shown);
  return to_picture(shown);
}

Picture normal_picture(const Frame& frame, Legend& legend) {
  const auto part = [&](int channel, int x, int y) {
    const float number = frame.values(Layer::normal, channel)(x, y);
    return static_cast<std::uint8_t>(std::lround(127.5 + 127.5 * std::clamp(number, -1.0f, 1.0f)));
  };
  legend.has_ramp = false;
  legend.swatches = {{{255, 128, 128}, "east"},
                     {{128, 255, 128}, "north"},
                     {{128, 128, 255}, "up"},
                     {nothing, "nothing met"}};
  return paint(frame.size(), [&](int x, int y) {
    const Rgb color{part(0, x, y), part(1, x, y), part(2, x, y)};
    return color == Rgb{128, 128, 128} ? nothing : color;
  });
}

Picture overstretched_picture(const Frame& frame, Legend& legend) {
  const auto over = frame.codes(Layer::overstretched);
  const Rgb kept = bytes_of(color_from_lightness(0.45f, 0.02f, 230));
  const Rgb broken = bytes_of(color_from_lightness(0.72f, 0.17f, 40));
  legend.has_ramp = false;
  legend.swatches = {{broken, "it did"}, {kept, "it did not"}};
  return paint(frame.size(), [&](int x, int y) { return over(x, y) != 0 ? broken : kept; });
}

/// Numbers without an order: a color of its own for each.
Picture numbered_picture(const Frame& frame, Layer layer, Legend& legend) {
  const auto numbers = frame.codes(layer);
  legend.has_ramp = false;
  legend.title += fmt::format(": a color of its own for each {}", name_of(layer));
  legend.swatches.push_back({nothing, fmt::format("no {}", name_of(layer))});
  return paint(frame.size(), [&](int x, int y) { return color_of_number(numbers(x, y)); });
}

}  // namespace

Picture layer_picture(const Frame& frame, Layer layer, const LayerPictureOptions& options) {
  const LayerInfo& info = layer_info(layer);
  if (options.range) check_range(layer, *options.range);
  if (options.told != nullptr) *options.told = {};
  Legend legend;
  legend.title = std::string(info.help);
  if (!info.unit.empty() && info.unit != "steps" && info.unit != "evaluations")
    legend.title += fmt::format(", {}", info.unit);
  Picture picture;
  switch (layer) {
    case Layer::color:
      return colors_picture(frame);
    case Layer::display:
      return to_picture(frame);
    case Layer::normal:
      picture = normal_picture(frame, legend);
      break;
    case Layer::overstretched:
      picture = overstretched_picture(frame, legend);
      break;
    case Layer::face:
      picture = paint_codes<Face>(frame.codes(layer), legend);
      break;
    case Layer::ending:
      picture = paint_codes<Ending>(frame.codes(layer), legend);
      break;
    case Layer::material:
    case Layer::room:
    case Layer::cell:
      picture = numbered_picture(frame, layer, legend);
      break;
    case Layer::motion: {
      // How far, whichever way.
      Frame far(frame.size(), {Layer::motion});
      for (int y = 0; y < frame.size().height; ++y) {
        for (int x = 0; x < frame.size().width; ++x) {
          far.values(layer)(x, y) =
              std::hypot(frame.values(layer, 0)(x, y), frame.values(layer, 1)(x, y));
        }
      }
      picture = paint_numbers(frame.size(), std::as_const(far).values(layer), *numbers_of(layer),
                              options.range, legend);
      break;
    }
    case Layer::depth:
    case Layer::ray_distance:
    case Layer::edge_distance:
    case Layer::trap:
    case Layer::nearest:
    case Layer::smooth_count:
    case Layer::cost:
    case Layer::work:
    case Layer::alpha:
    case Layer::bounces:
    case Layer::samples:
    case Layer::variance:
      picture = paint_numbers(frame.size(), frame.values(layer), *numbers_of(layer), options.range,
                              legend);
      break;
    case Layer::steps:
    case Layer::crossings:
    case Layer::evaluations:
      picture = paint_numbers(frame.size(), frame.codes(layer), *numbers_of(layer), options.range,
                              legend);
      break;
    case Layer::radiance:
    case Layer::emission:
    case Layer::albedo:
    case Layer::light_0:
    case Layer::light_1:
    case Layer::light_2:
    case Layer::light_3:
    case Layer::light_4:
    case Layer::light_5:
    case Layer::light_6:
    case Layer::light_7:
      return light_picture(frame, layer);
  }
  if (options.told != nullptr) *options.told = legend;
  return options.legend ? with_legend(picture, legend) : picture;
}

Picture difference_picture(const Difference& difference, bool legend_wanted) {
  Legend legend;
  legend.title =
      fmt::format("largest error of a channel, display values (RMSE {:.4f})", difference.rmse);
  const auto error = [&](int x, int y) {
    return double{difference.errors[static_cast<std::size_t>(y) * difference.size.width + x]};
  };
  const double largest =
      std::max(1e-9, double{*std::max_element(difference.errors.begin(), difference.errors.end())});
  const Picture picture =
      paint_numbers(difference.size, error, {0, false}, ValueRange{0, largest}, legend);
  return legend_wanted ? with_legend(picture, legend) : picture;
}

}  // namespace photonlane::io
