#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <vector>

#include "io/files.hpp"
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

std::string escaped(const std::string& text) {
  std::string result;
  for (const char c : text) {
    if (c == '"' || c == '\\') result += '\\';
    result += c == '\n' ? ' ' : c;
  }
  return result;
}

double error_of(const Metric& metric, const Setting& setting) {
  const auto value = metric.value(setting.error);
  return value.value_or(std::numeric_limits<double>::quiet_NaN());
}

/// Where the points of a plot lie and what stands beside them.
struct Points {
  double fastest = std::numeric_limits<double>::infinity();
  double slowest = 0;
  double largest = 0;  ///< error
  double floor = 0;    ///< errors below this are drawn on a line of their own; 0: no such line
  bool on_floor = false;
  bool logarithmic = false;

  double x_share(double time) const {
    return std::log(time / fastest) / std::max(0.1, std::log(slowest / fastest));
  }
  double y_share(double error) const {
    if (!logarithmic) return largest > 0 ? error / largest : 0;
    return std::log(error / floor) / std::log(largest / floor);
  }
};

/// A setting by its values; where knobs were turned one by one, by the one that was.
std::string label_of(const Sweep& sweep, const Setting& setting) {
  const Setting& base = sweep.settings.front();
  if (sweep.one_by_one && &setting == &base) return "all as in the scene";
  std::string label;
  for (std::size_t i = 0; i < setting.values.size(); ++i) {
    const std::string& value = setting.values[i];
    if (value == "-") continue;
    std::string told = value;
    if (sweep.one_by_one) {
      if (value == base.values[i]) continue;
      told = sweep.knobs[i].substr(sweep.knobs[i].rfind('.') + 1) + "=" + value;
    }
    label += (label.empty() ? "" : " ") + told;
  }
  return label;
}

/// Labels beside their points, each moved up until it does not cover another.
std::string labels(const Sweep& sweep, const Points& points,
                   const std::vector<const Setting*>& order, const std::vector<double>& errors) {
  struct Spot {
    double x, y;
  };
  constexpr double wide = 0.17;
  constexpr double high = 0.032;
  std::vector<Spot> taken;
  std::string text;
  for (std::size_t i = 0; i < order.size(); ++i) {
    const std::string label = label_of(sweep, *order[i]);
    const double time = order[i]->total_ms.median;
    Spot spot{points.x_share(time), points.y_share(errors[i])};
    int moved = 0;
    const auto covers = [&](const Spot& other) {
      return std::abs(other.x - spot.x) < wide && std::abs(other.y - spot.y) < high;
    };
    while (moved < 20 && std::any_of(taken.begin(), taken.end(), covers)) {
      spot.y += high;
      ++moved;
    }
    taken.push_back(spot);
    text += fmt::format(
        "set label \"{}\" at first {}, first {} offset 0.8,{:.2f} left tc rgb "
        "'#33312c' noenhanced\n",
        escaped(label), time, errors[i], 0.7 + 1.25 * moved);
  }
  return text;
}

}  // namespace

std::string sweep_plot(const Sweep& sweep, const std::string& title) {
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
  std::string all;
  std::string front;
  std::vector<double> errors;
  for (const Setting* setting : order) {
    double error = error_of(metric, *setting);
    if (points.logarithmic && error < points.floor) {
      error = points.floor;
      points.on_floor = true;
    }
    errors.push_back(error);
    const std::string line =
        fmt::format("{} {} {}\n", setting->total_ms.median, error, setting->total_ms.spread);
    all += line;
    if (setting->on_front) front += line;
  }
  std::string knobs;
  for (const std::string& knob : sweep.knobs) knobs += (knobs.empty() ? "" : ", ") + knob;

  std::string text = fmt::format(
      "# gnuplot -c THIS png|svg OUTPUT\n$all << END\n{}END\n$front << END\n{}END\n", all, front);
  text +=
      "if (ARG1 eq 'svg') set terminal svg size 1000,640 font 'DejaVu Sans,13' background "
      "'#fbfaf6'\n"
      "if (ARG1 ne 'svg') set terminal pngcairo size 1280,800 font 'DejaVu Sans,13' background "
      "'#fbfaf6'\n"
      "set output ARG2\n";
  text += fmt::format("set title \"{}: cost against error, by {}\" noenhanced\n", escaped(title),
                      escaped(knobs));
  text += fmt::format(
      "set xlabel 'milliseconds a frame, median, bars to the quartiles' noenhanced\n"
      "set ylabel '{}{}' noenhanced\n",
      metric.help, metric.unit.empty() ? "" : fmt::format(", {}", metric.unit));
  text += fmt::format("set logscale x\nset xrange [{}:{}]\n", points.fastest / 1.3,
                      points.slowest * 1.6);
  if (points.logarithmic) {
    text += fmt::format("set logscale y\nset format y '%g'\nset yrange [{}:{}]\n", points.floor / 2,
                        points.largest * 3);
  }
  text +=
      "set format x '%g'\nset grid xtics ytics lc rgb '#c9c4b4' lw 0.6\nset border 3 lc rgb "
      "'#55524a'\n"
      "set tics nomirror\nset key top right reverse Left samplen 2\nset lmargin 12\n";
  if (points.on_floor) {
    text += fmt::format(
        "set arrow from graph 0, first {0} to graph 1, first {0} nohead dt 3 lc rgb '#8a867a'\n"
        "set label '{0:.1g} or less' at graph 0.99, first {0} right offset 0,-0.7 tc rgb "
        "'#6b675c'\n",
        points.floor);
  }
  text += labels(sweep, points, order, errors);
  text +=
      "plot $front using 1:2 with steps lw 2 lc rgb '#5f7f52' notitle, \\\n"
      "  $all using 1:2:3 with xerrorbars pt 7 ps 0.9 lc rgb '#9a8f80' title 'beaten in both', \\\n"
      "  $front using 1:2 with points pt 7 ps 1.6 lc rgb '#3c6132' title 'front of best choices'\n";
  return text;
}

SweepFiles write_sweep(const std::string& folder, const Sweep& sweep, const std::string& title) {
  make_folder(folder);
  const std::string base = folder + "/";
  SweepFiles files{base + "sweep.csv",      base + "sweep.json",     base + "cost-error.gp",
                   base + "cost-error.png", base + "cost-error.svg", ""};
  write_file(files.csv, sweep_csv(sweep));
  write_file(files.json, sweep_json(sweep));
  write_file(files.script, sweep_plot(sweep, title));
  for (const char* kind : {"png", "svg"}) {
    const std::string& path = kind == std::string_view("png") ? files.png : files.svg;
    try {
      write_whole(path, [&](const std::string& temporary) {
        const int code = run({"gnuplot", "-c", files.script, kind, temporary});
        if (code != 0) {
          throw Error(ErrorKind::file,
                      code == -1 || code == 127
                          ? "no plot: gnuplot is not installed; apt-get install gnuplot-nox, then "
                            "gnuplot -c " +
                                files.script + " png " + files.png
                          : fmt::format("no plot: gnuplot failed with code {}", code));
        }
      });
    } catch (const Error& error) {
      files.problem = error.message();
      files.png.clear();
      files.svg.clear();
      break;
    }
  }
  return files;
}

}  // namespace photonlane::io
