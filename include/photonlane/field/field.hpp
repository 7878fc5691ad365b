#pragma once

/// Fields: signed distance functions put together from shapes and operations, as values.
///
///   using namespace photonlane;
///   const Field urn = field::join(0.1, {field::sphere(0.5), field::cylinder(0.2, 1.6)});
///   const Field row = field::repeat({1.5, 0, 0}, {5, 1, 1}, field::made_of(2, urn));
///
/// Distances are in meters, below 0 inside. Shapes have their middle at the origin and stand
/// upright (z is up) unless said otherwise.

#include <memory>
#include <span>
#include <string_view>
#include <vector>

#include "photonlane/base/knob.hpp"
#include "photonlane/field/fold.hpp"
#include "photonlane/field/source.hpp"

namespace photonlane {

enum class FieldKind {
  sphere,
  ellipsoid,
  box,
  frame,
  plane,
  cylinder,
  capsule,
  cone,
  torus,
  disc,
  prism,
  pyramid,
  tetrahedron,
  octahedron,
  sponge,
  gasket,
  bulb,
  julia,
  heights,
  volume,
  function,
  circle,
  rectangle,
  polygon,
  star,
  outline,
  arc,
  extrude,
  revolve,
  join,
  meet,
  carve,
  invert,
  offset,
  shell,
  elongate,
  waves,
  noise,
  damp,
  place,
  mirror,
  fold,
  repeat,
  around,
  twist,
  taper,
  bend,
  iterate,
};
template <>
inline constexpr std::array<std::string_view, 48> choice_names<FieldKind>{
    "sphere",   "ellipsoid", "box",     "frame", "plane",   "cylinder",    "capsule",
    "cone",     "torus",     "disc",    "prism", "pyramid", "tetrahedron", "octahedron",
    "sponge",   "gasket",    "bulb",    "julia", "heights", "volume",      "function",
    "circle",   "rectangle", "polygon", "star",  "outline", "arc",         "extrude",
    "revolve",  "join",      "meet",    "carve", "invert",  "offset",      "shell",
    "elongate", "waves",     "noise",   "damp",  "place",   "mirror",      "fold",
    "repeat",   "around",    "twist",   "taper", "bend",    "iterate"};

/// How a smooth operation goes over from one part to the other.
enum class Profile {
  polynomial,  ///< a parabola where the distances differ by less than the radius
  circular     ///< a quarter of a circle of the radius, where the parts meet squarely
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<Profile>{"polynomial", "circular"};

/// What lies between the corners of a noise's lattice.
enum class NoiseForm {
  value,    ///< a value at each corner, blended (Perlin, "An Image Synthesizer", 1985)
  gradient  ///< a slope at each corner, where it is 0 (Perlin, "Improving Noise", 2002)
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<NoiseForm>{"value", "gradient"};

/// What a kind of field is: what it is called in files, what it is made from, and what it takes.
struct FieldKindInfo {
  enum class Group { shape, figure, operation, space };
  struct Parameter {
    KnobInfo info;
    std::array<double, 3> preset;  ///< as in memory: radians, the index of a choice
    /// Numbers it takes up.
    std::size_t numbers() const { return info.kind == KnobKind::point ? 3 : 1; }
  };
  Group group;
  int least_parts, most_parts;
  std::vector<Parameter> parameters;
  std::string_view help;
  /// What it is made from besides: nothing, the numbers of corners, steps that fold space, or a
  /// source: in files that of a file's name, or of none where only C++ can make it.
  enum class Extra { none, points, steps, file, function };
  Extra extra = Extra::none;

  /// How many numbers all parameters take up, and where those of one start; -1: of none.
  std::size_t numbers() const;
  int place_of(std::string_view name) const;
};
const FieldKindInfo& field_kind_info(FieldKind kind);

/// The same of the steps of field::iterate.
struct FoldKindInfo {
  std::vector<FieldKindInfo::Parameter> parameters;
  std::string_view help;
};
const FoldKindInfo& fold_kind_info(FoldKind kind);
/// The steps among the numbers of a field::iterate.
std::vector<FoldStep> fold_steps(std::span<const double> numbers);

/// A field: a tree of shapes and operations. A value; copies share what they are made from.
class Field {
 public:
  /// Throws Error (input) for too few or too many numbers and parts, values out of range, trees
  /// deeper than `deepest`, and trees of more than `most_nodes` shapes and operations, each counted
  /// as often as it stands there though it is kept and compiled once. The named functions below say
  /// what the numbers are.
  Field(FieldKind kind, std::vector<double> numbers, std::vector<Field> parts = {},
        std::shared_ptr<const FieldSource> source = nullptr);

  static constexpr int deepest = 200;
  static constexpr std::size_t most_nodes = 1'000'000;
  /// Of nodes, those in an iterate times as often as it iterates: what one value costs at most.
  static constexpr double most_work = 1e6;

  // All of these throw Error (usage) for a field that was moved from.
  FieldKind kind() const { return node().kind; }
  const std::vector<double>& numbers() const { return node().numbers; }
  const std::vector<Field>& parts() const { return node().parts; }
  /// What it asks for its values, of shapes from data and functions; else null.
  const std::shared_ptr<const FieldSource>& source() const { return node().source; }
  /// The material of everything in it that has none of its own, or -1.
  int material() const { return node().material; }
  /// Holds everything at or below distance 0.
  const Bounds& bounds() const { return node().bounds; }
  /// The value grows by at most this for a meter: 1 for distances and bounds of them, more where an
  /// operation stretches space. A step of value / stretch never goes through a surface.
  double stretch() const { return node().stretch; }
  /// Where the value is h, `bounds` grown by h times this hold it: 1 for distances, more where the
  /// value is only a bound of one.
  double looseness() const { return node().looseness; }
  std::size_t node_count() const { return node().count; }
  /// Tells nodes apart: the same for copies.
  const void* identity() const { return &node(); }

  Field made_of(int material) const;
  /// Of fields that fold space again and again (sponge, gasket, bulb, julia, iterate): its surface
  /// of several materials. Throws Error (input) for others.
  Field tinted(FoldTint tint) const;
  const FoldTint& tint() const { return node().tint; }

  /// Whether its value is an estimate of a distance, of which only trying tells how far it can be
  /// trusted.
  bool estimates() const;

 private:
  struct Node {
    FieldKind kind;
    std::vector<double> numbers;
    std::vector<Field> parts;
    std::shared_ptr<const FieldSource> source;
    int material = -1;
    FoldTint tint;
    int depth = 1;
    std::size_t count = 1;
    double work = 1;
    Bounds bounds;
    double stretch = 1;
    double looseness = 1;
  };
  explicit Field(std::shared_ptr<const Node> node) : node_(std::move(node)) {}
  const Node& node() const {
    if (!node_) refuse_empty();
    return *node_;
  }
  [[noreturn]] static void refuse_empty();
  std::shared_ptr<const Node> node_;
};

namespace field {

// Shapes. Distances are exact unless said otherwise.

Field sphere(double radius);
/// A bound: at least the shortest over the longest radius of the distance.
Field ellipsoid(const Vec3d& radii);
/// `round` is the radius of its edges, within the size.
Field box(const Vec3d& size, double round = 0);
/// The edges of a box, `bar` thick. Inside, where bars meet, a bound: up to a twentieth short.
Field frame(const Vec3d& size, double bar);
/// Everything below a plane at `height` along its normal.
Field plane(const Vec3d& normal, double height = 0);
Field cylinder(double radius, double height, double round = 0);
Field capsule(const Vec3d& from, const Vec3d& to, double radius);
/// A cone with a flat top, or a pointed one of top radius 0.
Field cone(double radius, double top, double height);
/// A ring in the xy plane, or `angle` radians of it, middle at +x, with round ends.
Field torus(double radius, double tube, double angle = 2 * pi);
/// A level disc, its rim and faces `round` away from it.
Field disc(double radius, double round);
/// An upright prism with equal sides, `radius` from the axis to its edges.
Field prism(int sides, double radius, double height);
/// On a square foot.
Field pyramid(double size, double height);
/// Corners at four of the eight of a cube, one of them at (1, 1, 1), `radius` from the middle.
Field tetrahedron(double radius);
/// Corners on the axes, `radius` from the middle.
Field octahedron(double radius);
/// A block on the xy plane, its upper side a map of heights over `size` in x and y; heights count
/// `size` in z each. A bound: its steepest meter longer than the distance at most.
Field heights(const HeightMap& map, const Vec3d& size);
/// A sampled distance function; everything it is in lies within its box. A bound.
Field volume(std::shared_ptr<const Volume> volume);
/// A function of one's own; its bounds and stretch are taken as given. Throws Error (input) where
/// it gives what is no number at some place that is tried.
Field function(FieldFunction function);

// Solids of steps done again and again. They are exact where they say so; else values are
// estimates, of which `field::measured` finds out how far they can be trusted.

/// A cube of `size` of which, and of each of whose 27 parts, and so on, `times` times, a third is
/// taken out across each pair of sides. Exact outside; a bound inside.
Field sponge(double size, int times);
/// The same with balls taken out of all parts, `ball` times half a part's size in radius. A bound.
Field ball_sponge(double size, int times, double ball = 1.25);
/// A tetrahedron or octahedron made of ones half as large at its corners, `times` times. Exact
/// outside.
Field gasket(GasketForm form, double radius, int times);
/// Places that z -> z^power + place, a power that multiplies the angles of a place and raises its
/// length, leaves near the middle for `times` steps. An estimate: half of r log r over its
/// derivative (Hart, Sandin and Kauffman, "Ray Tracing Deterministic 3-D Fractals", 1989).
Field bulb(int power = 8, int times = 12, FoldDerivative derivative = FoldDerivative::scalar);
/// The same of q -> q^2 + c, q a quaternion whose first three parts are a place and whose last is
/// `slice` (Norton, "Generation and Display of Geometric Fractals in 3-D", 1982).
Field julia(const std::array<double, 4>& c, int times = 12, double slice = 0,
            FoldDerivative derivative = FoldDerivative::scalar);

// Plane figures, in the xy plane and without end along z. Exact.

Field circle(double radius);
Field rectangle(double width, double height, double round = 0);
/// With equal sides, a corner at +x, `radius` from the middle to the corners.
Field polygon(int sides, double radius);
Field star(int points, double radius, double inner);
/// Within a closed line through corners. Throws Error (input) for fewer than 3 or more than 1000,
/// and for lines that meet themselves.
Field outline(std::span<const Vec2d> corners);
/// As torus: a bent band with round ends.
Field arc(double radius, double width, double angle);

/// A figure made `height` high, its edges `round`. Exact for exact figures.
Field extrude(double height, Field figure, double round = 0);
/// A figure turned about the z axis: its x axis starts `offset` from it, its y axis becomes z.
Field revolve(double offset, Field figure);

// Operations. A radius makes the seam smooth.

Field join(double radius, std::vector<Field> parts, Profile profile = Profile::polynomial);
Field meet(double radius, std::vector<Field> parts, Profile profile = Profile::polynomial);
/// The first part without the others.
Field carve(double radius, std::vector<Field> parts, Profile profile = Profile::polynomial);
inline Field join(std::vector<Field> parts) { return join(0, std::move(parts)); }
inline Field meet(std::vector<Field> parts) { return meet(0, std::move(parts)); }
inline Field carve(std::vector<Field> parts) { return carve(0, std::move(parts)); }
/// Inside out.
Field invert(Field part);
/// Grown by `distance`, with round edges; shrunk below 0.
Field offset(double distance, Field part);
/// Only its skin, `thickness` thick.
Field shell(double thickness, Field part);
/// Cut in the middle and pulled apart by `size`.
Field elongate(const Vec3d& size, Field part);
/// Waves in its surface: `height` times a product of sines along x, y and z, `length` meters each.
Field waves(double height, double length, Field part);
/// A rough surface: values at the corners of a lattice of `length` meters, `height` at most, and of
/// each further octave half as high and half as long.
Field noise(double height, double length, int octaves, Field part,
            NoiseForm form = NoiseForm::value);
/// Its value times a factor of at most 1: the same surface, marched in shorter steps. Waves and
/// noise are damped near their surface alone.
Field damp(double factor, Field part);
/// The same surface, damped where it has to be for no value to grow by more than a meter a meter:
/// what is marched through.
Field calm(const Field& field);

// Space.

/// Scaled, then turned (radians about x, then y, then z), then moved.
Field place(const Vec3d& at, Field part, const Vec3d& turn = {0, 0, 0}, double scale = 1);
/// What lies on the positive side of an axis, on both.
Field mirror(SpaceAxis axis, Field part);
/// What lies on the side of a plane through the origin that its normal points to, on both.
Field fold(const Vec3d& normal, Field part);
/// Copies `spacing` apart along each axis of spacing above 0: `count` of them about the middle, or
/// without end where it is 0. Throws Error (input) where the part is wider than two spacings.
Field repeat(const Vec3d& spacing, const Vec3d& count, Field part);
/// `count` copies about the z axis, the first as it is. Throws Error (input) for more than 64 whose
/// bounds reach into the share of the circle of one.
Field around(int count, Field part);
/// Turned about z by `rate` radians for every meter up. Throws Error (input) for parts that have no
/// end in x and y.
Field twist(double rate, Field part);
/// As wide as a factor says at its foot and at its top, evenly in between. Throws Error (input) for
/// parts that have no end.
Field taper(double foot, double top, Field part);
/// What lies along x bent upward, by `rate` radians for every meter; below 0 downward. Throws Error
/// (input) for parts that have no end, that would meet themselves around the circle, or reach its
/// middle.
Field bend(double rate, Field part);

/// What stands where `steps`, done `times` times, lead to, or with `keep` all after each time.
/// Where all steps keep shapes (mirror, fold, wedge, place) it is as exact as its part, and a bound
/// where the part reaches through what folds it; else an estimate: the part's distance over how
/// much the steps stretch space. `reach` is the radius of a ball about the origin that holds all of
/// it, 0 to find one; steps that add where they started need it unless they are box, ball, place
/// (scaled alone) and start. Throws Error (input) for steps out of range.
Field iterate(int times, const std::vector<FoldStep>& steps, Field part,
              FoldKeep keep = FoldKeep::last, FoldDerivative derivative = FoldDerivative::scalar,
              double reach = 0);

/// The same field with every estimate in it tried at `places` places: each gets a stretch that
/// keeps all but one in a thousand of the steps that were tried from going through a surface.
Field measured(const Field& field, std::size_t places = 4096);

inline Field made_of(int material, const Field& part) { return part.made_of(material); }

}  // namespace field

}  // namespace photonlane
