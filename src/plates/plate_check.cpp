#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/median.hpp"
#include "plates/plate_solid.hpp"

namespace photonlane {
namespace {

constexpr double infinite = std::numeric_limits<double>::infinity();

/// A way to read a plate's depth.
struct Reading {
  PlateDepth means;
  bool from_below = false;
  std::string name;
};

std::string name_of_reading(const PlateDepth& means, const PlateDepth& said) {
  std::string name;
  switch (means.kind) {
    case DepthKind::axis:
      name = "distance along the view axis";
      break;
    case DepthKind::ray:
      name = "distance along the ray";
      break;
    case DepthKind::buffer:
      name = fmt::format("a depth buffer of {}{}", name_of(means.range),
                         means.linear ? ", even in meters" : "");
      break;
  }
  if (means.kind != DepthKind::buffer && means.unit != said.unit) {
    name += fmt::format(" in units of {} m", means.unit);
  }
  return name;
}

std::vector<Reading> readings(const PlateDepth& said) {
  std::vector<PlateDepth> all;
  for (const DepthKind kind : {DepthKind::axis, DepthKind::ray}) {
    PlateDepth one = said;
    one.kind = kind;
    for (const double unit : {said.unit, 1.0, 0.01, 0.001, 0.3048, 0.0254, 100.0}) {
      one.unit = unit;
      all.push_back(one);
    }
  }
  for (const BufferRange range :
       {BufferRange::zero_to_one, BufferRange::one_to_zero, BufferRange::minus_one_to_one}) {
    PlateDepth one = said;
    one.kind = DepthKind::buffer;
    one.range = range;
    one.linear = false;
    all.push_back(one);
    one.linear = true;
    if (said.farthest > 0) all.push_back(one);
  }
  std::vector<Reading> result;
  for (const PlateDepth& means : all) {
    for (const bool from_below : {false, true}) {
      std::string name = name_of_reading(means, said);
      if (from_below) name += ", rows from below";
      result.push_back({means, from_below, std::move(name)});
    }
  }
  return result;
}

/// What is known at a pixel.
struct Known {
  int x, y;
  double slant;
  double distance;  ///< along the axis
};

class Held {
 public:
  explicit Held(const Plate& plate)
      : plate_(plate), size_(plate.depth.size), lens_(plate.camera, size_) {
    for (const PlateMark& mark : plate.marks) {
      const double ahead = (mark.place - lens_.eye).dot(lens_.view.forward);
      if (ahead <= 0 ||
          !(mark.x >= 0 && mark.y >= 0 && mark.x < size_.width && mark.y < size_.height)) {
        continue;
      }
      marks_.push_back({static_cast<int>(mark.x), static_cast<int>(mark.y),
                        lens_.way(mark.x, mark.y).norm(), ahead});
    }
    if (!plate.ground) return;
    // Some thousand pixels say as much as all.
    const int step =
        std::max(1, static_cast<int>(std::sqrt(double(size_.width) * size_.height / 20000)));
    for (int y = step / 2; y < size_.height; y += step) {
      for (int x = step / 2; x < size_.width; x += step) {
        const Vec3d way = lens_.way(x + 0.5, y + 0.5);
        const double distance = (*plate.ground - lens_.eye.z()) / way.z();
        if (distance > 0 && std::isfinite(distance)) {
          floor_.push_back({x, y, way.norm(), distance});
        }
      }
    }
  }

  bool any() const { return marks_.size() >= 3 || !floor_.empty(); }

  /// Meters by which marks are off on the median; infinite without marks.
  double error(const Reading& reading) const {
    if (marks_.size() < 3) return infinite;
    std::vector<double> off;
    for (const Known& one : marks_) off.push_back(std::abs(read(reading, one) - one.distance));
    return median(std::move(off));
  }
  /// The share of the pixels that look down whose distance is the floor's.
  double share(const Reading& reading) const {
    std::size_t on = 0;
    for (const Known& one : floor_) {
      on += std::abs(read(reading, one) - one.distance) < 0.01 * one.distance;
    }
    return floor_.empty() ? 0 : static_cast<double>(on) / static_cast<double>(floor_.size());
  }
  bool has_marks() const { return marks_.size() >= 3; }
  bool has_floor() const { return !floor_.empty(); }
  /// Of the marks, on the median, meters.
  double distance() const {
    std::vector<double> all;
    for (const Known& one : marks_) all.push_back(one.distance);
    return median(std::move(all));
  }

 private:
  double read(const Reading& reading, const Known& one) const {
    const int y = reading.from_below ? size_.height - 1 - one.y : one.y;
    return plate_distance(reading.means, static_cast<double>(plate_.depth.at(one.x, y)), one.slant);
  }

  const Plate& plate_;
  Size size_;
  PlateLens lens_;
  std::vector<Known> marks_;
  std::vector<Known> floor_;
};

/// How far marks are seen from where they are said to be, on the median, in pixels.
double pixels_off(const Plate& plate, bool mirrored, bool upside_down) {
  const PlateLens lens(plate.camera, plate.depth.size);
  std::vector<double> off;
  for (const PlateMark& mark : plate.marks) {
    const auto seen = lens.view.pixel(mark.place - lens.eye);
    const double x = mirrored ? plate.depth.size.width - mark.x : mark.x;
    const double y = upside_down ? plate.depth.size.height - mark.y : mark.y;
    off.push_back(seen ? std::hypot(seen->x() - x, seen->y() - y) : infinite);
  }
  return median(std::move(off));
}

}  // namespace

std::vector<std::string> find_plate_faults(const Plate& plate) {
  std::vector<std::string> faults;
  const auto meters = [](double value) {
    return std::isfinite(value) ? fmt::format("{:.3g} m", value) : std::string("no distance");
  };
  if (plate.marks.size() >= 3) {
    const double off = pixels_off(plate, false, false);
    if (off > 2) {
      std::string fault = std::isfinite(off)
                              ? fmt::format("the plate's marks are seen {:.3g} pixels off", off)
                              : "the plate's marks lie behind its camera";
      for (const auto& [mirrored, upside_down, words] :
           {std::tuple(false, true, "with rows from below"),
            std::tuple(true, false, "with the picture mirrored"),
            std::tuple(true, true, "with the picture turned by 180 degrees")}) {
        const double other = pixels_off(plate, mirrored, upside_down);
        if (other < 2 && other < 0.2 * off) fault += fmt::format(", {:.3g} {}", other, words);
      }
      faults.push_back(fault + ": its camera is another one");
    }
  }
  const Held held(plate);
  if (!held.any()) return faults;
  const Reading said{plate.means, false, ""};
  if (held.has_marks()) {
    const double error = held.error(said);
    if (!(error <= 0.01 * held.distance())) {
      const Reading* best = nullptr;
      double least = std::min(0.2 * error, 0.01 * held.distance());
      const std::vector<Reading> all = readings(plate.means);
      for (const Reading& one : all) {
        const double other = held.error(one);
        if (!(other < least)) continue;
        least = other;
        best = &one;
      }
      faults.push_back(
          best != nullptr
              ? fmt::format("the plate's depth looks like {}: median error at its marks {} as "
                            "said, {} so",
                            best->name, meters(error), meters(least))
              : fmt::format("the plate's depth does not fit its marks: median error {}",
                            meters(error)));
      return faults;
    }
  }
  if (held.has_floor()) {
    const double share = held.share(said);
    const Reading* best = nullptr;
    double most = std::max(2 * share, 0.05);
    const std::vector<Reading> all = readings(plate.means);
    for (const Reading& one : all) {
      const double other = held.share(one);
      if (other <= most) continue;
      most = other;
      best = &one;
    }
    if (best != nullptr) {
      faults.push_back(
          fmt::format("the plate's depth looks like {}: of the pixels that look down, {:.2g} % "
                      "show the ground as said, {:.2g} % so",
                      best->name, 100 * share, 100 * most));
    } else if (share < 0.02) {
      faults.push_back(
          fmt::format("the plate shows no ground at a height of {:.4g} m", *plate.ground));
    }
  }
  return faults;
}

}  // namespace photonlane
