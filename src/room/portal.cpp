#include "photonlane/room/portal.hpp"

#include <fmt/format.h>

#include <cmath>

#include "photonlane/base/trigonometry.hpp"

namespace photonlane {

Similarity Stance::frame() const {
  const auto [sine, cosine] = sine_cosine(heading);
  const auto [pitch_sine, pitch_cosine] = sine_cosine(pitch);
  const auto [roll_sine, roll_cosine] = sine_cosine(roll);
  const Vec3d level(cosine, sine, 0);
  const Vec3d above(0, 0, 1);
  const Vec3d ahead = level * pitch_cosine + above * pitch_sine;
  const Vec3d upright = above * pitch_cosine - level * pitch_sine;
  const Vec3d aside(sine, -cosine, 0);
  Similarity result;
  result.turn.col(0) = ahead;
  result.turn.col(1) = upright * roll_sine - aside * roll_cosine;
  result.turn.col(2) = upright * roll_cosine + aside * roll_sine;
  result.shift = at;
  return result;
}

std::span<const Knob<Portal>> portal_knobs() {
  static const Knob<Portal> table[] = {
      knob<&Portal::stance, &Stance::at>("at", "meters", {-1e7, 1e7}, "the middle of the opening"),
      knob<&Portal::stance, &Stance::heading>("heading", "degrees", {-36000, 36000},
                                              "the way its front faces, counterclockwise from east",
                                              degrees(1)),
      knob<&Portal::stance, &Stance::pitch>(
          "pitch", "degrees", {-90, 90}, "how far its front faces above the horizon", degrees(1)),
      knob<&Portal::stance, &Stance::roll>("roll", "degrees", {-36000, 36000},
                                           "how far it is turned about the way it faces",
                                           degrees(1)),
      knob<&Portal::one_way>("one_way", "", {}, "the portal has no way back"),
      knob<&Portal::behind>(
          "behind", "", {},
          "what it is from behind, or from inside a sphere or box: same leads to the far side of "
          "its target, open is as if nothing were there, shut is a surface of the rim's color"),
      knob<&Portal::rim>("rim", "meters", {0, 1000}, "width of the rim, within the opening"),
      knob<&Portal::rim_color>("rim_color", "", {0, 1}, "color of the rim"),
      knob<&Portal::stretch>("stretch", "", {0.01, 100},
                             "of boxes: how many times longer it is inside than outside, ahead, "
                             "across and up"),
  };
  return table;
}

std::span<const Knob<PortalTarget>> portal_target_knobs() {
  static const Knob<PortalTarget> table[] = {
      knob<&PortalTarget::stance, &Stance::at>("at", "meters", {-1e7, 1e7},
                                               "where the middle of the opening comes out"),
      knob<&PortalTarget::stance, &Stance::heading>(
          "heading", "degrees", {-36000, 36000},
          "direction in which lanes go on that come straight through a flat opening; turn of what "
          "is seen in a sphere or box",
          degrees(1)),
      knob<&PortalTarget::stance, &Stance::pitch>(
          "pitch", "degrees", {-90, 90}, "angle of that direction above the horizon", degrees(1)),
      knob<&PortalTarget::stance, &Stance::roll>("roll", "degrees", {-36000, 36000},
                                                 "turn about that direction", degrees(1)),
      knob<&PortalTarget::scale>("scale", "", {1e-6, 1e6},
                                 "meters there for a meter before the opening"),
  };
  return table;
}

std::span<const Knob<Opening>> opening_knobs(OpeningShape shape) {
  static const Knob<Opening> rectangle[] = {
      knob<&Opening::width>("width", "meters", {0, 1e6, true}, "how wide"),
      knob<&Opening::height>("height", "meters", {0, 1e6, true}, "how high"),
  };
  static const Knob<Opening> round[] = {
      knob<&Opening::radius>("radius", "meters", {0, 1e6, true}, "radius of the opening"),
  };
  static const Knob<Opening> box[] = {
      knob<&Opening::size>("size", "meters", {0, 1e6, true}, "how long ahead, across and up"),
  };
  switch (shape) {
    case OpeningShape::rectangle:
      return rectangle;
    case OpeningShape::disc:
    case OpeningShape::sphere:
      return round;
    case OpeningShape::box:
      return box;
    default:
      return {};
  }
}

void validate(const Portal& portal) {
  const auto refuse = [&](const std::string& what) {
    throw Error(ErrorKind::input, fmt::format("portal '{}': {}", portal.name, what));
  };
  const auto check = [&](const auto& table, const auto& owner) {
    try {
      validate_knobs(table, owner);
    } catch (const Error& error) {
      refuse(error.message());
    }
  };
  const Opening& opening = portal.opening;
  check(portal_knobs(), portal);
  check(opening_knobs(opening.shape), opening);
  if (portal.to) check(portal_target_knobs(), *portal.to);
  if (portal.stretch != Vec3d(1, 1, 1) && opening.shape != OpeningShape::box) {
    refuse(fmt::format("a stretched {}, expected a box", name_of(opening.shape)));
  }
  if (opening.shape != OpeningShape::polygon) return;
  const std::size_t count = opening.corners.size();
  if (count < 3) refuse(fmt::format("a polygon of {} corners, expected at least 3", count));
  double turned = 0;
  for (std::size_t i = 0; i < count; ++i) {
    const Vec2d& at = opening.corners[i];
    const Vec2d way = opening.corners[(i + 1) % count] - at;
    const Vec2d next = opening.corners[(i + 2) % count] - opening.corners[(i + 1) % count];
    const double area = way.x() * next.y() - way.y() * next.x();
    if (!at.allFinite()) refuse("a corner that is not finite");
    if (!(area > 1e-9 * way.norm() * next.norm()) || way.norm() == 0) {
      refuse(
          fmt::format("corners that turn right or go straight at the one after [{:g}, {:g}], "
                      "expected those of a convex polygon, counterclockwise",
                      at.x(), at.y()));
    }
    turned += std::atan2(area, way.dot(next));
  }
  if (turned > 2 * pi + 1e-6) refuse("corners that go round more than once");
}

}  // namespace photonlane
