#include "photonlane/io/growing_run.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <limits>

#include "base/stopwatch.hpp"
#include "frame/path_frame.hpp"
#include "io/files.hpp"
#include "io/run_parts.hpp"
#include "photonlane/base/words.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/io/runs.hpp"

namespace photonlane::io {
namespace {

constexpr std::string_view file_kind = "photonlane growing frame 1";
/// More samples than that are past what its numbers tell apart.
constexpr double most_samples = 4e6;
constexpr std::array<std::string_view, 3> until_names{"samples", "rmse", "seconds"};

/// All that decides what samples bring: a frame goes on only where all of it is the same. How far
/// it goes is told by the run, and how what has been gathered is shown does not change it.
Json maker_of_samples(const SceneFile& file) {
  constexpr std::string_view others[] = {"frame.samples", "light.exposure", "light.metering"};
  return maker_of(file, others);
}

template <class Value>
void put(std::ostream& stream, const std::vector<Value>& values) {
  stream.write(reinterpret_cast<const char*>(values.data()),
               static_cast<std::streamsize>(values.size() * sizeof(Value)));
}

template <class Value>
void get(std::istream& stream, std::vector<Value>& values) {
  stream.read(reinterpret_cast<char*>(values.data()),
              static_cast<std::streamsize>(values.size() * sizeof(Value)));
}

void write_gathered(const std::string& path, const GatheredLight& light, const Json& maker) {
  Json head{{"kind", file_kind},
            {"maker", maker},
            {"part", {light.part.x, light.part.y, light.part.size.width, light.part.size.height}},
            {"round_from", light.round_from},
            {"round_to", light.round_to},
            {"asked", light.asked},
            {"clamped", light.clamped},
            {"light", light.light},
            {"planned", light.planned.size()},
            {"tally", to_json(light.tally)},
            {"cast_ms", light.cast_ms}};
  write_whole(path, [&](const std::string& to) {
    errno = 0;
    std::ofstream stream(to, std::ios::binary);
    stream << head.dump(-1, ' ', false, Json::error_handler_t::replace) << '\n';
    put(stream, light.sums);
    put(stream, light.largest);
    put(stream, light.samples);
    put(stream, light.before);
    put(stream, light.planned);
    stream.flush();
    if (!stream) {
      throw Error(ErrorKind::file, fmt::format("cannot be written: {}", std::strerror(errno)),
                  Place{path});
    }
  });
}

/// `own` has the sizes that are expected.
GatheredLight read_gathered(const std::string& path, const GatheredLight& own, const Json& maker) {
  std::ifstream stream(path, std::ios::binary);
  if (!stream) {
    throw Error(ErrorKind::usage, fmt::format("--resume: no {} to go on from", one_line(path)));
  }
  const auto refuse = [&](const std::string& what) {
    throw Error(ErrorKind::usage, fmt::format("--resume: {} is {}", one_line(path), what));
  };
  std::string line(std::size_t{1} << 18, '\0');
  stream.getline(line.data(), static_cast<std::streamsize>(line.size()));
  if (!stream) refuse("no growing frame");
  line.resize(static_cast<std::size_t>(stream.gcount()) - 1);
  GatheredLight light = own;
  try {
    const Json head = parse_json(line);
    if (head.at("kind") != file_kind) refuse("no growing frame of this version");
    const std::string differs = difference_of(head.at("maker"), maker);
    if (!differs.empty()) refuse(differs);
    const Json& part = head.at("part");
    const PixelPart kept{part.at(0), part.at(1), {part.at(2), part.at(3)}};
    if (kept != own.part) refuse("of another part of the frame");
    light.round_from = head.at("round_from");
    light.round_to = head.at("round_to");
    light.asked = head.at("asked");
    light.clamped = head.at("clamped");
    light.light = head.at("light");
    light.cast_ms = head.at("cast_ms");
    light.tally = tally_from(head.at("tally"));
    const std::size_t planned = head.at("planned");
    if (planned != 0 && planned != own.samples.size()) refuse("cut short");
    light.before.assign(planned, 0);
    light.planned.assign(planned, 0);
  } catch (const Json::exception&) {
    refuse("no growing frame, or a broken one");
  }
  get(stream, light.sums);
  get(stream, light.largest);
  get(stream, light.samples);
  get(stream, light.before);
  get(stream, light.planned);
  if (!stream || stream.peek() != std::char_traits<char>::eof()) refuse("cut short");
  return light;
}

/// Whether a limit holds, and about how much of the way to it is done.
struct Reached {
  bool done = false;
  double share = 0;
};
Reached reached(const Until& until, const GrowingProgress& now, double asked) {
  switch (until.kind) {
    case UntilKind::samples:
      return {asked >= until.value, asked / until.value};
    case UntilKind::seconds:
      return {now.seconds >= until.value, now.seconds / until.value};
    case UntilKind::rmse: {
      const double rmse = now.error.rmse;
      // Errors go with the root of samples.
      const double share = std::isfinite(rmse) && rmse > 0
                               ? std::min(1.0, until.value * until.value / (rmse * rmse))
                               : 0;
      return {rmse <= until.value, share};
    }
  }
  return {};
}

std::string in_words_of(const Until& until, const GrowingProgress& now) {
  switch (until.kind) {
    case UntilKind::samples:
      return fmt::format("{:.6g} samples", now.samples);
    case UntilKind::seconds:
      return fmt::format("{:.3g} seconds", now.seconds);
    case UntilKind::rmse:
      return fmt::format("rmse {:.4g} <= {:g}", now.error.rmse, until.value);
  }
  return "";
}

/// One picture that grows.
class Growing {
 public:
  Growing(const SceneFile& file, const World& world, const std::string& output,
          const GrowingRun& run)
      : run_(run),
        output_(output),
        state_(output + ".growing"),
        maker_(maker_of_samples(file)),
        until_(run.until),
        frame_(world, file.camera, file.budget, options(file, run)) {
    if (until_.empty()) {
      until_.push_back({UntilKind::samples, static_cast<double>(file.budget.frame.samples)});
    }
    if (run.resume) frame_.go_on_from(read_gathered(state_, frame_.gathered(), maker_));
  }

  GrownFrame finish() {
    GrownFrame result;
    for (;;) {
      look(result);
      if (result.stopped || !result.ended_by.empty()) break;
      if (now_.samples >= most_samples) {
        write();
        throw Error(ErrorKind::input,
                    fmt::format("--until: not reached by {:.3g} samples, with rmse {:.4g}",
                                now_.samples, now_.error.rmse));
      }
      if (written_.milliseconds() >= 1000 * run_.write_every && now_.samples >= 1) {
        write();
        written_ = Stopwatch();
      }
      try {
        advance();
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::cancelled) throw;
        result.stopped = true;
      }
    }
    look(result);
    if (frame_.samples() > 0 && least() > 0) {
      result.frame = frame_.picture(run_.layers);
      write_frame(output_, result.frame);
    }
    if (result.stopped) {
      write_gathered(state_, frame_.gathered(), maker_);
    } else {
      std::error_code ignored;
      std::filesystem::remove(state_, ignored);
    }
    result.progress = now_;
    return result;
  }

 private:
  static GrowingOptions options(const SceneFile& file, const GrowingRun& run) {
    GrowingOptions options;
    options.threads = run.threads;
    options.tell = run.layers.any_of(told_layers());
    if (run.resume && (options.tell || file.budget.frame.denoise > 0)) {
      throw Error(ErrorKind::usage,
                  "--resume: layers by bounce and frame.denoise need all samples from the start");
    }
    return options;
  }

  std::uint32_t least() const { return *std::ranges::min_element(frame_.gathered().samples); }

  void look(GrownFrame& result) {
    now_.samples = frame_.samples();
    now_.seconds = watch_.milliseconds() / 1000;
    now_.error = frame_.error();
    now_.share = 0;
    for (const Until& until : until_) {
      const Reached one = reached(until, now_, frame_.gathered().asked);
      now_.share = std::max(now_.share, std::min(one.share, 1.0));
      if (one.done && result.ended_by.empty()) result.ended_by = in_words_of(until, now_);
    }
    if (run_.progress && !run_.progress(now_)) result.stopped = result.ended_by.empty();
  }

  /// Some samples more: about a second of them, and no more than are asked for.
  void advance() {
    const Stopwatch watch;
    const double before = frame_.gathered().asked;
    double most = before < 1 ? 1 : std::max(1.0, 1000 / std::max(per_sample_ms_, 1e-3));
    bool by_time = false;
    for (const Until& until : until_) {
      if (until.kind == UntilKind::samples) most = std::min(most, until.value - before);
      if (until.kind != UntilKind::seconds) continue;
      const double left = 1000 * (until.value - now_.seconds);
      by_time = by_time || (before >= 1 && left < 2 * per_sample_ms_);
      most = std::min(most, std::max(1.0, left / std::max(per_sample_ms_, 1e-3)));
    }
    if (by_time) {
      frame_.take_for(1000 * (seconds() - now_.seconds));
    } else {
      const int samples = static_cast<int>(std::ceil(std::clamp(most, 1.0, 4096.0)));
      frame_.take(samples, [&](double) { return !run_.progress || run_.progress(now_); });
    }
    const double more = frame_.gathered().asked - before;
    if (more > 0) per_sample_ms_ = watch.milliseconds() / more;
  }

  double seconds() const {
    double least = std::numeric_limits<double>::infinity();
    for (const Until& until : until_) {
      if (until.kind == UntilKind::seconds) least = std::min(least, until.value);
    }
    return least;
  }

  /// The picture as it is now, and what it takes to go on.
  void write() {
    if (least() == 0) return;
    Frame frame = frame_.picture(run_.layers);
    write_frame(output_, frame);
    write_gathered(state_, frame_.gathered(), maker_);
  }

  const GrowingRun& run_;
  const std::string output_, state_;
  const Json maker_;
  std::vector<Until> until_;
  GrowingFrame frame_;
  Stopwatch watch_, written_;
  GrowingProgress now_;
  double per_sample_ms_ = 0;
};

}  // namespace

Until parse_until(const std::string& text) {
  const auto equals = text.find('=');
  const std::string name = text.substr(0, equals);
  const auto found = std::ranges::find(until_names, name);
  if (equals == std::string::npos || found == until_names.end()) {
    throw Error(ErrorKind::usage,
                fmt::format("--until: found '{}', expected samples=N, rmse=ERROR or seconds=N{}",
                            text, suggestion(name, until_names)));
  }
  Until until;
  until.kind = static_cast<UntilKind>(found - until_names.begin());
  KnobInfo number{"--until", KnobKind::number, "", {}, {}, ""};
  switch (until.kind) {
    case UntilKind::samples:
      number.range = {1, most_samples};
      break;
    case UntilKind::rmse:
      number.range = {0, 1, true};
      break;
    case UntilKind::seconds:
      number.range = {0, 1e7, true};
      break;
  }
  try {
    detail::assign(until.value, number, std::string_view(text).substr(equals + 1));
  } catch (const Error& error) {
    throw Error(ErrorKind::usage, fmt::format("--until {}: {}", name, error.message()));
  }
  if (until.kind == UntilKind::samples) until.value = std::ceil(until.value);
  return until;
}

GrownFrame grow_frame(const SceneFile& file, const World& world, const std::string& output,
                      const GrowingRun& run) {
  return Growing(file, world, output, run).finish();
}

}  // namespace photonlane::io
