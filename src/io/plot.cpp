#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>

#include <algorithm>
#include <cmath>
#include <iterator>
#include <limits>
#include <optional>
#include <vector>

#include "io/draw_plot.hpp"
#include "io/files.hpp"
#include "io/sweep_words.hpp"
#include "photonlane/base/words.hpp"
#include "photonlane/io/report.hpp"

extern char** environ;

namespace photonlane::io {
namespace {

/// Runs a program; its exit code, or -1 where it cannot be started.
int run(std::vector<std::string> words) {
  std::vector<char*> arguments;
  for (std::string& word : words) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  pid_t child = 0;
  if (posix_spawnp(&child, arguments[0], nullptr, nullptr, arguments.data(), environ) != 0) {
    return -1;
  }
  int status = 0;
  if (waitpid(child, &status, 0) != child || !WIFEXITED(status)) return -1;
  return WEXITSTATUS(status);
}

/// Text as gnuplot takes it for nothing but text: in single quotes, in which it looks for no
/// escapes, variables or commands. Single quotes in it become apostrophes, since doubled ones are
/// not told apart everywhere, and backticks, which are looked for everywhere, primes.
std::string quoted(const std::string& text) {
  std::string result = "'";
  for (const char c : one_line(text)) {
    if (c == '\'') {
      result += "\u2019";
    } else if (c == '`') {
      result += "\u2032";
    } else {
      result += c;
    }
  }
  return result + "'";
}

/// A path that gnuplot takes for a file: with '|' or '<' in front it would start a program.
std::string plain_path(const std::string& path) {
  return path.starts_with('/') ? path : "./" + path;
}

constexpr const char* series_colors[] = {"#3c6132", "#b5632a", "#2f6d86",
                                         "#8c2331", "#7a6a9a", "#5a5a50"};
constexpr int series_shapes[] = {7, 13, 9, 5, 11, 15};

double error_of(const Metric& metric, const Setting& setting) {
  const auto value = metric.value(setting.error);
  return value.value_or(std::numeric_limits<double>::quiet_NaN());
}

/// Where the points of a plot lie, and the axes around them.
struct Points {
  double fastest = std::numeric_limits<double>::infinity();
  double slowest = 0;
  double smallest = std::numeric_limits<double>::infinity();  ///< error drawn
  double largest = 0;
  double floor = 0;  ///< errors below this are drawn on a line of their own
  bool on_floor = false;
  bool logarithmic = false;

  double left() const { return fastest / 1.3; }
  double right() const { return slowest * 1.6; }
  double bottom() const { return logarithmic ? (on_floor ? floor : smallest) / 2 : 0; }
  double top() const { return logarithmic ? largest * 3 : std::max(largest * 1.2, 1e-12); }
  /// From 0 to 1 along each axis.
  double across(double time) const { return std::log(time / left()) / std::log(right() / left()); }
  double up(double error) const {
    if (!logarithmic) return error / top();
    return std::log(error / bottom()) / std::log(top() / bottom());
  }
};

/// Part of a plot, in shares of its axes.
struct Box {
  double left, bottom, right, top;
  bool meets(const Box& other) const {
    return left < other.right && other.left < right && bottom < other.top && other.bottom < top;
  }
};

/// Labels beside their points, each as near as it can be without covering a point or
/// another label.
std::string labels(const Sweep& sweep, const Points& points,
                   const std::vector<const Setting*>& order, const std::vector<double>& errors,
                   const Setting* chosen) {
  constexpr double letter = 0.0095;
  constexpr double line = 0.03;
  std::vector<Box> taken;
  for (std::size_t i = 0; i < order.size(); ++i) {
    const double x = points.across(order[i]->total_ms.median);
    const double y = points.up(errors[i]);
    taken.push_back({x - 0.006, y - 0.3 * line, x + 0.006, y + 0.3 * line});
  }
  std::string text;
  // Of many settings those have names that may be chosen.
  constexpr std::size_t many = 30;
  for (std::size_t i = 0; i < order.size(); ++i) {
    const bool base = order[i] == &sweep.settings.front();
    if (order.size() > many && !order[i]->on_front && !base && order[i] != chosen) continue;
    std::string label = setting_label(sweep, *order[i]);
    // The whole of a long one stands in the tables.
    constexpr std::size_t longest = 44;
    if (order[i] == chosen) {
      label = "chosen";
    } else if (label.size() > longest && order.size() > many) {
      continue;
    } else if (label.size() > longest) {
      label.resize(longest - 3);
      label += "...";
    }
    const double x = points.across(order[i]->total_ms.median);
    const double y = points.up(errors[i]);
    const double wide = letter * static_cast<double>(label.size());
    Box best{};
    double best_y = y;
    bool to_left = false;
    for (int turn = 0; turn < 80; ++turn) {
      // Above and below in turn, ever farther; first to the right of the point, then to the left.
      const int away = turn / 4 + 1;
      const double middle = y + 0.85 * line * (turn % 2 == 0 ? away : -away);
      to_left = turn / 2 % 2 == 1;
      const double from = to_left ? x - 0.008 - wide : x + 0.008;
      best = {from, middle - 0.5 * line, from + wide, middle + 0.5 * line};
      best_y = middle;
      const bool inside = best.left >= 0 && best.right <= 1 && best.bottom >= 0 && best.top <= 1;
      if (inside && std::none_of(taken.begin(), taken.end(),
                                 [&](const Box& other) { return best.meets(other); })) {
        break;
      }
    }
    taken.push_back(best);
    text +=
        fmt::format("set label {} at graph {:.4f}, graph {:.4f} left tc rgb '#33312c' noenhanced\n",
                    quoted(label), best.left, best_y);
  }
  return text;
}

/// Round numbers along an axis of less than two decades, which gnuplot would label but once.
std::string time_tics(const Points& points) {
  if (points.right() / points.left() > 100) return "";
  std::string list;
  for (double decade = std::pow(10, std::floor(std::log10(points.left()))); decade < points.right();
       decade *= 10) {
    for (const double share : {1.0, 1.5, 2.0, 3.0, 5.0, 7.0}) {
      const double tic = share * decade;
      if (tic < points.left() || tic > points.right()) continue;
      list += fmt::format("{}{:g}", list.empty() ? "" : ", ", tic);
    }
  }
  return fmt::format("set xtics ({})\n", list);
}

}  // namespace

std::string sweep_plot(const Sweep& sweep, const std::string& title, const RunFacts& facts,
                       const std::string& what) {
  const Metric& metric = *parse_limit(sweep.metric + "=0").metric;
  std::vector<const Setting*> order;
  for (const Setting& setting : sweep.settings) order.push_back(&setting);
  std::sort(order.begin(), order.end(), [](const Setting* a, const Setting* b) {
    return a->total_ms.median < b->total_ms.median;
  });
  Points points;
  for (const Setting* setting : order) {
    const double error = error_of(metric, *setting);
    points.fastest = std::min(points.fastest, setting->total_ms.median);
    points.slowest = std::max(points.slowest, setting->total_ms.median);
    if (error > points.largest) points.largest = error;
  }
  points.logarithmic = !metric.more_is_better && points.largest > 0;
  // Errors of rounding alone would stretch the axis over many empty decades.
  if (points.logarithmic) points.floor = points.largest * 1e-4;
  const std::vector<std::string> series = series_of(sweep);
  std::vector<std::string> names;
  std::vector<std::string> points_of;  // of each series
  std::string front;
  std::vector<double> errors;
  for (const Setting* setting : order) {
    double error = error_of(metric, *setting);
    if (points.logarithmic && error < points.floor) {
      error = points.floor;
      points.on_floor = true;
    }
    errors.push_back(error);
    points.smallest = std::min(points.smallest, error);
    const std::string line =
        fmt::format("{} {} {}\n", setting->total_ms.median, error, setting->total_ms.spread);
    const std::string& name = series[static_cast<std::size_t>(setting - sweep.settings.data())];
    const auto at = static_cast<std::size_t>(std::ranges::find(names, name) - names.begin());
    if (at == names.size()) {
      names.push_back(name);
      points_of.emplace_back();
    }
    points_of[at] += line;
    if (setting->on_front) front += line;
  }
  std::string knobs;
  for (const std::string& knob : sweep.knobs) knobs += (knobs.empty() ? "" : ", ") + knob;

  std::string text = fmt::format("# gnuplot -c THIS png|svg OUTPUT\n$front << END\n{}END\n", front);
  for (std::size_t n = 0; n < points_of.size(); ++n) {
    text += fmt::format("$series{} << END\n{}END\n", n, points_of[n]);
  }
  text +=
      "if (ARG1 eq 'svg') set terminal svg size 1000,640 font 'DejaVu Sans,13' background "
      "'#fbfaf6'\n"
      "if (ARG1 ne 'svg') set terminal pngcairo size 1280,800 font 'DejaVu Sans,13' background "
      "'#fbfaf6'\n"
      "set output ARG2\n";
  text += fmt::format("set title {} noenhanced\n",
                      quoted(fmt::format("{}: cost against error, {}", title,
                                         !what.empty()      ? what
                                         : sweep.one_by_one ? "one knob at a time"
                                                            : "by " + knobs)));
  text += fmt::format("set xlabel {} noenhanced\nset ylabel {} noenhanced\n",
                      quoted(std::string(words_of(sweep.by).axis)),
                      quoted(std::string(metric.help) +
                             (metric.unit.empty() ? "" : fmt::format(", {}", metric.unit))));
  text += fmt::format("set logscale x\nset xrange [{}:{}]\nset yrange [{}:{}]\n{}", points.left(),
                      points.right(), points.bottom(), points.top(), time_tics(points));
  if (points.logarithmic) text += "set logscale y\nset format y '%g'\n";
  text +=
      "set format x '%g'\nset grid xtics ytics lc rgb '#c9c4b4' lw 0.6\nset border 3 lc rgb "
      "'#55524a'\n"
      "set tics nomirror\nset key bmargin center horizontal reverse Left samplen 2\nset lmargin "
      "12\n";
  text += fmt::format("set bmargin {}\n", names.size() > 1 ? 7 : 5);
  if (points.on_floor) {
    text += fmt::format(
        "set arrow from graph 0, first {0} to graph 1, first {0} nohead dt 3 lc rgb '#8a867a'\n"
        "set label '{0:.1g} or less' at graph 0.99, first {0} right offset 0,-0.7 tc rgb "
        "'#6b675c'\n",
        points.floor);
  }
  const Setting* const chosen =
      facts.chosen ? &sweep.settings[*facts.chosen] : static_cast<const Setting*>(nullptr);
  for (const Limit& limit : facts.limits) {
    if (limit.metric->name != metric.name) continue;
    if (limit.bound <= points.bottom() || limit.bound >= points.top()) continue;
    text += fmt::format(
        "set arrow from graph 0, first {0} to graph 1, first {0} nohead dt 2 lc rgb '#b5632a'\n"
        "set label {1} at graph 0.995, first {0} right offset 0,0.5 tc rgb '#b5632a' noenhanced\n",
        limit.bound, quoted(fmt::format("{} {:g}", metric.name, limit.bound)));
  }
  if (facts.most_ms && *facts.most_ms > points.left() && *facts.most_ms < points.right()) {
    text += fmt::format(
        "set arrow from first {0}, graph 0 to first {0}, graph 1 nohead dt 2 lc rgb '#b5632a'\n"
        "set label '{0:g} ms' at first {0}, graph 0.97 left offset 0.5,0 tc rgb '#b5632a'\n",
        *facts.most_ms);
  }
  if (chosen != nullptr) {
    const double error =
        std::max(error_of(metric, *chosen), points.logarithmic ? points.floor : 0.0);
    text +=
        fmt::format("set label '' at first {}, first {} point pt 6 ps 3 lw 2 lc rgb '#b5632a'\n",
                    chosen->total_ms.median, error);
  }
  text += labels(sweep, points, order, errors, chosen);
  text += "plot $front using 1:2 with steps lw 2 lc rgb '#5f7f52' notitle, \\\n";
  if (names.size() == 1) {
    text +=
        "  $series0 using 1:2:3 with xerrorbars pt 7 ps 0.9 lc rgb '#9a8f80' title 'beaten in "
        "both', "
        "\\\n";
  }
  for (std::size_t n = 0; names.size() > 1 && n < names.size(); ++n) {
    text += fmt::format(
        "  $series{} using 1:2:3 with xerrorbars pt {} ps 1.4 lc rgb '{}' title {} noenhanced, "
        "\\\n",
        n, series_shapes[n % std::size(series_shapes)], series_colors[n % std::size(series_colors)],
        quoted(names[n]));
  }
  text +=
      names.size() == 1
          ? "  $front using 1:2 with points pt 7 ps 1.6 lc rgb '#3c6132' title 'front of best "
            "choices'\n"
          : "  $front using 1:2 with points pt 6 ps 1.9 lw 1.5 lc rgb '#3c6132' title 'front of "
            "best choices'\n";
  return text;
}

namespace {

std::optional<Decimal> decimal_of(const std::string& text) {
  try {
    return Decimal(std::string_view(text));
  } catch (const Error&) {
    return std::nullopt;
  }
}

/// The knob of two whose values are numbers and most: it goes along an axis.
struct AlongKnob {
  std::size_t index = 0;
  bool powers = false;  ///< values over decades
};

std::optional<AlongKnob> knob_along(const Sweep& sweep) {
  std::optional<AlongKnob> along;
  std::size_t most = 2;
  for (std::size_t k = 0; k < 2; ++k) {
    std::vector<std::string> values;
    double low = std::numeric_limits<double>::infinity();
    double high = -low;
    bool numbers = true;
    for (const Setting& setting : sweep.settings) {
      const auto number = decimal_of(setting.values[k]);
      numbers = numbers && number.has_value();
      if (!numbers) break;
      if (std::find(values.begin(), values.end(), setting.values[k]) == values.end()) {
        values.push_back(setting.values[k]);
      }
      const double log =
          number->positive() ? number->log10() : -std::numeric_limits<double>::infinity();
      low = std::min(low, log);
      high = std::max(high, log);
    }
    if (!numbers || values.size() <= most) continue;
    along = AlongKnob{k, std::isfinite(low) && high - low >= 2};
    most = values.size();
  }
  return along;
}

}  // namespace

std::optional<std::string> sweep_lines(const Sweep& sweep, const std::string& title) {
  if (sweep.one_by_one || sweep.knobs.size() != 2 || sweep.settings.empty()) return std::nullopt;
  // The knob of numbers goes along, the other has a line for each of its values.
  const std::optional<AlongKnob> knob = knob_along(sweep);
  if (!knob) return std::nullopt;
  const std::size_t along = knob->index;
  const bool powers = knob->powers;
  const std::size_t by = 1 - along;
  const Metric& metric = *parse_limit(sweep.metric + "=0").metric;
  std::vector<std::string> names;
  for (const Setting& setting : sweep.settings) {
    if (std::find(names.begin(), names.end(), setting.values[by]) == names.end()) {
      names.push_back(setting.values[by]);
    }
  }
  std::string text = "# gnuplot -c THIS png|svg OUTPUT\n";
  // Errors of 0 stand at the bottom of their axis.
  constexpr double least = 1e-4;
  for (std::size_t n = 0; n < names.size(); ++n) {
    text += fmt::format("$line{} << END\n", n);
    for (const Setting& setting : sweep.settings) {
      if (setting.values[by] != names[n]) continue;
      const Decimal value = *decimal_of(setting.values[along]);
      const double error = error_of(metric, setting);
      text += fmt::format("{} {} {}\n", powers ? value.log10() : value.value(),
                          metric.more_is_better ? error : std::max(error, least),
                          setting.total_ms.median);
    }
    text += "END\n";
  }
  text +=
      "if (ARG1 eq 'svg') set terminal svg size 1000,720 font 'DejaVu Sans,13' background "
      "'#fbfaf6'\n"
      "if (ARG1 ne 'svg') set terminal pngcairo size 1280,800 font 'DejaVu Sans,13' background "
      "'#fbfaf6'\n"
      "set output ARG2\n";
  text += fmt::format(
      "set multiplot layout 2,1 title {} noenhanced\n",
      quoted(fmt::format("{}: by {} and {}", title, sweep.knobs[along], sweep.knobs[by])));
  text +=
      "set grid xtics ytics lc rgb '#c9c4b4' lw 0.6\nset border 3 lc rgb '#55524a'\nset tics "
      "nomirror\nset lmargin 12\nset rmargin 20\nset key outside right center samplen 2 "
      "noenhanced\nset logscale y\nset format y '%g'\n";
  text += powers ? "set format x '10^{%.0f}'\n" : "set format x '%g'\n";
  // Zooming goes on to the right.
  if (sweep.knobs[along] == "window.width") text += "set xrange [*:*] reverse\n";
  const auto panel = [&](int column, const std::string& label) {
    text += fmt::format("set ylabel {} noenhanced\nplot ", quoted(label));
    for (std::size_t n = 0; n < names.size(); ++n) {
      text += fmt::format(
          "{}$line{} using 1:{} with linespoints lw 2 pt 7 ps 1.1 lc rgb '{}' title "
          "{}",
          n == 0 ? "" : ", \\\n  ", n, column, series_colors[n % std::size(series_colors)],
          quoted(names[n]));
    }
    text += "\n";
  };
  panel(2, fmt::format("{}{}", metric.name,
                       metric.unit.empty() ? "" : fmt::format(", {}", metric.unit)));
  text += fmt::format("set xlabel {} noenhanced\n", quoted(sweep.knobs[along]));
  panel(3, std::string(words_of(sweep.by).axis));
  return text + "unset multiplot\n";
}

std::string draw_plot(const std::string& script, std::string& png, std::string& svg) {
  for (const char* kind : {"png", "svg"}) {
    const std::string& path = kind == std::string_view("png") ? png : svg;
    try {
      write_whole(path, [&](const std::string& temporary) {
        const int code = run({"gnuplot", "-c", plain_path(script), kind, plain_path(temporary)});
        if (code == 0) return;
        throw Error(ErrorKind::file,
                    code == -1 || code == 127
                        ? "no plot: gnuplot is not installed; apt-get install gnuplot-nox, then "
                          "gnuplot -c " +
                              script + " png " + png
                        : fmt::format("no plot: gnuplot failed with code {}", code));
      });
    } catch (const Error& error) {
      png.clear();
      svg.clear();
      return error.message();
    }
  }
  return "";
}

}  // namespace photonlane::io
