#include <fmt/format.h>

#include <cmath>

#include "field/kind_traits.hpp"
#include "photonlane/field/field.hpp"

namespace photonlane {
namespace {

using Group = FieldKindInfo::Group;
using Parameter = FieldKindInfo::Parameter;
using Extra = FieldKindInfo::Extra;

constexpr double huge = 1e6;
constexpr Range above_zero{0, huge, true};
constexpr Range from_zero{0, huge};
constexpr Range anywhere{-huge, huge};

Parameter length(std::string_view name, Range range, double preset, std::string_view help) {
  return {{name, KnobKind::number, "meters", range, {}, help}, {preset, 0, 0}};
}
Parameter number(std::string_view name, Range range, double preset, std::string_view help) {
  return {{name, KnobKind::number, "", range, {}, help}, {preset, 0, 0}};
}
Parameter whole(std::string_view name, Range range, double preset, std::string_view help) {
  return {{name, KnobKind::integer, "", range, {}, help}, {preset, 0, 0}};
}
Parameter angle(std::string_view name, Range range, double preset, std::string_view help,
                std::string_view unit = "degrees") {
  return {{name, KnobKind::number, unit, range, {}, help, degrees(1)}, {preset, 0, 0}};
}
Parameter point(std::string_view name, Range range, const std::array<double, 3>& preset,
                std::string_view help, std::string_view unit = "meters", double factor = 1) {
  return {{name, KnobKind::point, unit, range, {}, help, factor}, preset};
}
template <class Enumeration>
Parameter choice(std::string_view name, Enumeration preset, std::string_view help) {
  return {{name, KnobKind::choice, "", {}, choice_names<Enumeration>, help},
          {static_cast<double>(preset), 0, 0}};
}

Parameter radius_of_seam() {
  return length("radius", from_zero, 0, "of the smooth seam; 0: sharp");
}
Parameter profile() {
  return choice("profile", Profile::polynomial,
                "how the seam goes over from one part to the other");
}
Parameter escape_limit() {
  return number("limit", {2, 64}, 8, "how far from the middle a place has left for good");
}
Parameter derivative() {
  return choice("derivative", FoldDerivative::scalar,
                "what the estimate goes by: one number for how much space is stretched, or nine");
}
Parameter safety() {
  return number("safety", {0, 1000}, 0,
                "steps go by the estimate over this; 0: by what trying finds");
}
Parameter round_edges() { return length("round", from_zero, 0, "radius of its edges"); }

/// A kind and what is to know of it.
struct KindRow {
  FieldKind kind;
  KindTraits traits;
  FieldKindInfo info;
};

std::vector<KindRow> make_table() {
  constexpr int many = 1 << 20;
  return {
      {FieldKind::sphere,
       plain_values,
       {Group::shape, 0, 0, {length("radius", above_zero, 1, "from its middle")}, "a ball"}},
      {FieldKind::ellipsoid,
       own_looseness | loose_values,
       {Group::shape,
        0,
        0,
        {point("radii", above_zero, {1, 1, 1}, "along each axis")},
        "a stretched ball; its distance is a bound"}},
      {FieldKind::box,
       plain_values,
       {Group::shape,
        0,
        0,
        {point("size", above_zero, {1, 1, 1}, "along each axis"), round_edges()},
        "a box"}},
      {FieldKind::frame,
       boxed,
       {Group::shape,
        0,
        0,
        {point("size", above_zero, {1, 1, 1}, "along each axis"),
         length("bar", above_zero, 0.1, "thickness of its bars")},
        "the edges of a box"}},
      {FieldKind::plane,
       plain_values,
       {Group::shape,
        0,
        0,
        {point("normal", anywhere, {0, 0, 1}, "which way is out", ""),
         length("height", anywhere, 0, "of the plane along its normal")},
        "everything below a plane"}},
      {FieldKind::cylinder,
       plain_values,
       {Group::shape,
        0,
        0,
        {length("radius", above_zero, 0.5, "from its axis"),
         length("height", above_zero, 1, "from end to end"), round_edges()},
        "an upright cylinder"}},
      {FieldKind::capsule,
       plain_values,
       {Group::shape,
        0,
        0,
        {point("from", anywhere, {0, 0, -0.5}, "one end of its axis"),
         point("to", anywhere, {0, 0, 0.5}, "the other end"),
         length("radius", above_zero, 0.25, "from its axis")},
        "a stick with round ends"}},
      {FieldKind::cone,
       plain_values,
       {Group::shape,
        0,
        0,
        {length("radius", from_zero, 0.5, "of its foot"),
         length("top", from_zero, 0, "radius of its top; 0: pointed"),
         length("height", above_zero, 1, "from foot to top")},
        "an upright cone"}},
      {FieldKind::torus,
       boxed,
       {Group::shape,
        0,
        0,
        {length("radius", above_zero, 1, "from its middle to the middle of the tube"),
         length("tube", above_zero, 0.25, "radius of the tube"),
         angle("angle", {0, 360, true}, 2 * pi, "how much of the ring, its middle at +x")},
        "a level ring, or a part of one with round ends"}},
      {FieldKind::disc,
       plain_values,
       {Group::shape,
        0,
        0,
        {length("radius", above_zero, 1, "of the flat disc within"),
         length("round", above_zero, 0.05, "how far around it")},
        "a level plate with a round rim"}},
      {FieldKind::prism,
       boxed,
       {Group::shape,
        0,
        0,
        {whole("sides", {3, 1000}, 6, "how many"),
         length("radius", above_zero, 0.5, "from the axis to its edges"),
         length("height", above_zero, 1, "from end to end")},
        "an upright prism of equal sides, an edge at +x"}},
      {FieldKind::pyramid,
       plain_values,
       {Group::shape,
        0,
        0,
        {length("size", above_zero, 1, "of a side of its foot"),
         length("height", above_zero, 1, "from foot to top")},
        "a pyramid on a square"}},
      {FieldKind::tetrahedron,
       folds_space | boxed,
       {Group::shape,
        0,
        0,
        {length("radius", above_zero, 1, "from the middle to its corners")},
        "a tetrahedron, its corners at four of a cube's"}},
      {FieldKind::octahedron,
       folds_space | boxed,
       {Group::shape,
        0,
        0,
        {length("radius", above_zero, 1, "from the middle to its corners")},
        "an octahedron, its corners on the axes"}},
      {FieldKind::sponge,
       folds_space,
       {Group::shape,
        0,
        0,
        {length("size", above_zero, 1, "of the cube"),
         whole("times", {0, 12}, 4, "how often something is taken out"),
         choice("cut", SpongeCut::cross, "what is taken out of each part"),
         number("ball", {0, 1.7, true}, 1.25, "radius of a ball, of half its part's size")},
        "a cube with holes in all of its parts"}},
      {FieldKind::gasket,
       folds_space,
       {Group::shape,
        0,
        0,
        {choice("form", GasketForm::tetrahedron, "of each part"),
         length("radius", above_zero, 1, "from the middle to its corners"),
         whole("times", {0, 20}, 6, "how often it is put together from smaller ones")},
        "smaller ones of itself at its corners"}},
      {FieldKind::bulb,
       folds_space,
       {Group::shape,
        0,
        0,
        {whole("power", {2, 16}, 8, "of each step"),
         whole("times", {1, 1000}, 12, "how many steps"), escape_limit(), derivative(), safety()},
        "places that z^power + place keeps near the middle; its distance is an estimate"}},
      {FieldKind::julia,
       folds_space,
       {Group::shape,
        0,
        0,
        {point("c", {-4, 4}, {-0.2, 0.6, 0.2}, "its first three parts", ""),
         number("last", {-4, 4}, 0, "the fourth part of c"),
         number("slice", {-4, 4}, 0, "the fourth part of all places"),
         whole("times", {1, 1000}, 12, "how many steps"), escape_limit(), derivative(), safety()},
        "places that q^2 + c keeps near the middle, in quaternions; its distance is an estimate"}},
      {FieldKind::heights,
       own_looseness | loose_values | boxed,
       {Group::shape,
        0,
        0,
        {point("size", above_zero, {1, 1, 1}, "along x and y, and of a height of 1")},
        "a block whose upper side is a picture's brightness; its distance is a bound",
        Extra::file}},
      {FieldKind::volume,
       own_stretch | own_looseness | loose_values | boxed,
       {Group::shape,
        0,
        0,
        {},
        "a sampled distance function, made by `photonlane make volume`",
        Extra::file}},
      {FieldKind::function,
       own_stretch | own_looseness | loose_values,
       {Group::shape, 0, 0, {}, "a function of one's own, in C++ alone", Extra::function}},
      {FieldKind::circle,
       plain_values,
       {Group::figure, 0, 0, {length("radius", above_zero, 1, "from its middle")}, "a disk"}},
      {FieldKind::rectangle,
       plain_values,
       {Group::figure,
        0,
        0,
        {length("width", above_zero, 1, "along x"), length("height", above_zero, 1, "along y"),
         round_edges()},
        "a rectangle"}},
      {FieldKind::polygon,
       plain_values,
       {Group::figure,
        0,
        0,
        {whole("sides", {3, 1000}, 6, "how many"),
         length("radius", above_zero, 1, "from the middle to the corners")},
        "a polygon of equal sides, a corner at +x"}},
      {FieldKind::star,
       plain_values,
       {Group::figure,
        0,
        0,
        {whole("points", {2, 500}, 5, "how many"),
         length("radius", above_zero, 1, "from the middle to its points"),
         length("inner", above_zero, 0.5, "from the middle to the corners between them")},
        "a star, a point at +x"}},
      {FieldKind::outline,
       plain_values,
       {Group::figure, 0, 0, {}, "within a closed line through corners", Extra::points}},
      {FieldKind::arc,
       plain_values,
       {Group::figure,
        0,
        0,
        {length("radius", above_zero, 1, "from the middle to the middle of the band"),
         length("width", above_zero, 0.25, "of the band"),
         angle("angle", {0, 360, true}, pi, "how much of the ring, its middle at +x")},
        "a bent band with round ends"}},
      {FieldKind::extrude,
       boxed,
       {Group::figure,
        1,
        1,
        {length("height", above_zero, 1, "along z"), round_edges()},
        "a figure made a solid"}},
      {FieldKind::revolve,
       by_sign | boxed,
       {Group::figure,
        1,
        1,
        {length("offset", anywhere, 0, "of the figure's middle from the z axis")},
        "a figure turned about the z axis; its y becomes z"}},
      {FieldKind::join,
       own_stretch | by_sign,
       {Group::operation, 1, many, {radius_of_seam(), profile()}, "all of the parts"}},
      {FieldKind::meet,
       own_stretch | by_sign,
       {Group::operation, 1, many, {radius_of_seam(), profile()}, "where all parts are"}},
      {FieldKind::carve,
       own_stretch | by_sign,
       {Group::operation,
        1,
        many,
        {radius_of_seam(), profile()},
        "the first part without the others"}},
      {FieldKind::invert, by_sign, {Group::operation, 1, 1, {}, "inside out"}},
      {FieldKind::offset,
       plain_values,
       {Group::operation,
        1,
        1,
        {length("distance", anywhere, 0.1, "how much it grows")},
        "grown, with round edges"}},
      {FieldKind::shell,
       plain_values,
       {Group::operation,
        1,
        1,
        {length("thickness", above_zero, 0.05, "of the skin")},
        "only its skin"}},
      {FieldKind::elongate,
       by_sign,
       {Group::operation,
        1,
        1,
        {point("size", from_zero, {0, 0, 0}, "how much is put between")},
        "cut in the middle and pulled apart"}},
      {FieldKind::waves,
       own_stretch | loose_values,
       {Group::operation,
        1,
        1,
        {length("height", from_zero, 0.02, "of the waves"),
         length("length", above_zero, 0.5, "from wave to wave")},
        "waves in its surface"}},
      {FieldKind::noise,
       own_stretch | loose_values,
       {Group::operation,
        1,
        1,
        {length("height", from_zero, 0.02, "at most, of the first octave"),
         length("length", above_zero, 0.5, "of the first octave's lattice"),
         whole("octaves", {1, 8}, 3, "each half as high and half as long as the one before"),
         choice("form", NoiseForm::value, "what lies between the lattice's corners")},
        "a rough surface"}},
      {FieldKind::damp,
       own_stretch | own_looseness | loose_values | by_sign,
       {Group::operation,
        1,
        1,
        {number("factor", {0, 1, true}, 0.5, "of its value")},
        "the same surface, marched in shorter steps"}},
      {FieldKind::place,
       own_looseness | by_sign,
       {Group::space,
        1,
        1,
        {point("at", anywhere, {0, 0, 0}, "where it goes"),
         point("turn", {-36000, 36000}, {0, 0, 0}, "about x, then y, then z", "degrees",
               degrees(1)),
         number("scale", above_zero, 1, "how much larger, before all else")},
        "somewhere else"}},
      {FieldKind::mirror,
       by_sign,
       {Group::space,
        1,
        1,
        {choice("axis", SpaceAxis::x, "across which")},
        "what lies on an axis' positive side, on both"}},
      {FieldKind::fold,
       by_sign,
       {Group::space,
        1,
        1,
        {point("normal", anywhere, {1, 0, 0}, "of a plane through the origin", "")},
        "what lies where the normal points to, on both sides of the plane"}},
      {FieldKind::repeat,
       by_sign | boxed,
       {Group::space,
        1,
        1,
        {point("spacing", from_zero, {1, 0, 0}, "between copies; 0: one"),
         point("count", {0, 1e6}, {0, 0, 0}, "copies along each axis; 0: without end", "")},
        "copies in rows"}},
      {FieldKind::around,
       by_sign | boxed,
       {Group::space,
        1,
        1,
        {whole("count", {1, 10000}, 6, "how many")},
        "copies about the z axis"}},
      {FieldKind::twist,
       own_stretch | loose_values | by_sign | boxed,
       {Group::space,
        1,
        1,
        {angle("rate", {-36000, 36000}, degrees(45), "turn for every meter up", "degrees a meter")},
        "turned about the z axis, more with height"}},
      {FieldKind::taper,
       own_stretch | own_looseness | loose_values | by_sign | boxed,
       {Group::space,
        1,
        1,
        {number("foot", above_zero, 1, "how wide at its foot"),
         number("top", above_zero, 0.5, "how wide at its top")},
        "narrower or wider with height"}},
      {FieldKind::bend,
       own_stretch | own_looseness | loose_values | by_sign,
       {Group::space,
        1,
        1,
        {angle("rate", {-36000, 36000}, degrees(45), "turn for every meter along x",
               "degrees a meter")},
        "what lies along x, bent upward"}},
      {FieldKind::iterate,
       folds_space,
       {Group::space,
        1,
        1,
        {whole("times", {0, 1000}, 6, "how often the steps are done"), derivative(),
         length("reach", from_zero, 0, "radius of a ball that holds all of it; 0: found"), safety(),
         choice("keep", FoldKeep::last,
                "whether it stands there after the last time alone, or from the start after each")},
        "what stands where steps that fold space lead to",
        Extra::steps}},
  };
}

std::vector<FoldKindInfo> make_fold_table() {
  return {
      {{choice("axis", SpaceAxis::x, "across which")}, "to an axis' positive side"},
      {{point("normal", anywhere, {1, 0, 0}, "of the plane", ""),
        length("height", anywhere, 0, "of the plane along its normal")},
       "to the side of a plane that its normal points to"},
      {{whole("count", {1, 10000}, 6, "shares of the circle about the z axis")},
       "into half of a share of the circle, about +x"},
      {{point("at", anywhere, {0, 0, 0}, "where what follows goes"),
        point("turn", {-36000, 36000}, {0, 0, 0}, "about x, then y, then z", "degrees", degrees(1)),
        number("scale", {-huge, huge}, 1, "how much larger; below 0 turned inside out as well")},
       "what follows stands somewhere else"},
      {{length("half", above_zero, 1, "from the middle to the faces")},
       "thrown back by the faces of a box"},
      {{length("inner", above_zero, 0.5, "within which all is moved by the same factor"),
        length("outer", above_zero, 1, "within which something is moved")},
       "what lies within a ball turned outward"},
      {{point("at", anywhere, {0, 0, 0}, "its middle"),
        length("radius", above_zero, 1, "of the ball")},
       "the inside of a ball to its outside, and the outside in"},
      {{number("share", anywhere, 1, "of the place that is added")},
       "farther by the place where the first step began"},
      {{point("factors", above_zero, {1, 1, 1}, "along each axis", "")}, "scaled along each axis"},
  };
}

}  // namespace

std::size_t FieldKindInfo::numbers() const {
  std::size_t sum = 0;
  for (const Parameter& parameter : parameters) sum += parameter.numbers();
  return sum;
}

int FieldKindInfo::place_of(std::string_view name) const {
  std::size_t place = 0;
  for (const Parameter& parameter : parameters) {
    if (parameter.info.name == name) return static_cast<int>(place);
    place += parameter.numbers();
  }
  return -1;
}

const FoldKindInfo& fold_kind_info(FoldKind kind) {
  static const std::vector<FoldKindInfo> table = make_fold_table();
  return table[static_cast<std::size_t>(kind)];
}

namespace {

const KindRow& row_of(FieldKind kind) {
  static const std::vector<KindRow> table = [] {
    std::vector<KindRow> rows = make_table();
    for (std::size_t i = 0; i < choice_names<FieldKind>.size(); ++i) {
      if (i < rows.size() && rows[i].kind == static_cast<FieldKind>(i)) continue;
      throw Error(ErrorKind::usage,
                  fmt::format("no row for the kind {} in its place", choice_names<FieldKind>[i]));
    }
    return rows;
  }();
  return table[static_cast<std::size_t>(kind)];
}

}  // namespace

const FieldKindInfo& field_kind_info(FieldKind kind) { return row_of(kind).info; }

bool has_trait(FieldKind kind, KindTraits trait) { return (row_of(kind).traits & trait) != 0; }

}  // namespace photonlane
