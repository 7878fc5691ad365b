#pragma once

///   Budget budget{.frame = {320, 200, 4}};
///   budget.light.softness = Softness::sampled;
///   set_knob(budget_knobs(), budget, "bounces.limit", "4");

#include <cstdint>
#include <span>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// How a lane steps through a cell map.
enum class CellMethod {
  boundary,   ///< exact: from one cell boundary to the next, no cell skipped
  increment,  ///< equal small steps: clips corners and tunnels through thin walls
  leap,       ///< the same hits as boundary, with empty space skipped by a distance map
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<CellMethod>{"boundary", "increment",
                                                                          "leap"};

/// The number type lanes are traced in.
enum class NumberType { float32, float64 };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<NumberType>{"float", "double"};

/// Which rays make a frame.
enum class Rays {
  automatic,  ///< columns where they are exact, else pixels
  columns,    ///< one lane a column: level cameras only
  pixels,     ///< one lane a pixel
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<Rays>{"auto", "columns", "pixels"};

/// How a texture becomes one color.
enum class TextureSampling {
  nearest,   ///< the nearest texel
  bilinear,  ///< between the four nearest texels
  filtered,  ///< over what the pixel covers: no shimmer far away
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<TextureSampling>{
    "nearest", "bilinear", "filtered"};

/// Where the samples of a pixel lie.
enum class SampleSequence {
  lattice,  ///< evenly, for as many as there are
  open,     ///< points of a sequence without end, which frames added to this one go on with
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<SampleSequence>{"lattice", "open"};

/// How colors of fewer pixels are brought up to a frame's size.
enum class Upscale {
  nearest,   ///< the nearest one
  bilinear,  ///< between the four around
  guided     ///< between those of the four that are of the surface seen at full size
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<Upscale>{"nearest", "bilinear",
                                                                       "guided"};

struct FrameBudget {
  int width = 1280;
  int height = 800;
  int samples = 1;  ///< color samples a pixel; layers other than color sit at its center
  SampleSequence sequence = SampleSequence::lattice;
  int first = 0;          ///< of an open sequence: which samples come before these, in other frames
  std::int64_t seed = 0;  ///< of all that is drawn at random
  double scale = 1;       ///< sides of the frame that colors are made for, as a share of this one's
  Upscale upscale = Upscale::guided;
  /// What is seen where nothing is met: the sky, or the room's open color. Without it pixels have
  /// its share of them missing: they are black there, and colors are times their alpha.
  bool backdrop = true;
  bool adaptive = false;  ///< of paths: samples go where the error is largest
  double clamp = 0;       ///< of paths: radiance that a sample counts at most; 0: any
  int denoise = 0;        ///< of paths: rounds of the edge-avoiding filter; 0: none

  Size size() const { return {width, height}; }
};

struct CellBudget {
  CellMethod method = CellMethod::leap;
  std::int64_t steps = 100000;
  double increment = 0.02;  ///< meters; used by CellMethod::increment alone
};

/// How a lane marches through a field.
enum class FieldMethod {
  fixed,    ///< equal steps until the sign changes, then halved: misses what is thinner than a step
  sphere,   ///< by the distance itself, which nothing is nearer than
  relaxed,  ///< by more than that, and back where two such steps leave a gap between them
  slope,    ///< by how the distance to each shape changes along the lane, where that is sound
};
template <>
inline constexpr std::array<std::string_view, 4> choice_names<FieldMethod>{"fixed", "sphere",
                                                                           "relaxed", "slope"};

/// How the way a field's surface faces is found.
enum class FieldNormals {
  exact,      ///< carried through the operations
  difference  ///< from values at four places around
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<FieldNormals>{"exact", "difference"};

struct FieldBudget {
  FieldMethod method = FieldMethod::relaxed;
  std::int64_t steps = 4096;
  double tolerance = 2e-4;  ///< meters: nearer to a surface is on it
  double growth = 2e-4;     ///< more tolerance for every meter along the lane
  double relaxation = 1.3;  ///< factor of a step of FieldMethod::relaxed
  double increment = 0.02;  ///< meters: a step of FieldMethod::fixed
  int refinement = 6;       ///< looks at most for where the surface is, once a lane is there
  FieldNormals normals = FieldNormals::exact;
  double normal_step = 5e-4;  ///< meters: how far around; used by FieldNormals::difference alone
  double detail = 0;          ///< pixels: smaller folds are left out; 0: none are
  bool pruning = true;        ///< evaluate only what can matter where lanes are; the same values
  double place_memory = 64;   ///< MiB a field may keep of what matters where; 0: none
  bool cones = true;          ///< lead neighboring lanes together while they are in the open
};

struct SphereBudget {
  /// Pixels: boxes of many spheres that are smaller than this are not gone into; one of them, drawn
  /// by chance, stands for all. 0: every sphere is met.
  double detail = 0;
};

struct VoxelBudget {
  /// Pixels: cubes of voxels smaller than this are not gone into. How much of one is covered
  /// decides by chance whether a lane meets it; its color is the mean of its voxels. 0: every voxel
  /// is met.
  double detail = 0;
  /// Frames are made when all around the eye is, of land without end; else of what is made by then.
  bool wait = false;
};

struct TextureBudget {
  TextureSampling sampling = TextureSampling::filtered;
  int taps = 4;  ///< lookups along the longer side of a pixel's footprint
};

/// Where the sun is shut out.
enum class SunShadows {
  none,   ///< nowhere
  probe,  ///< where one look at the map, a fixed way toward the sun, finds something
  traced  ///< where a ray toward the sun meets something
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<SunShadows>{"none", "probe",
                                                                          "traced"};

/// Where lamps are shut out.
enum class LampShadows { none, traced };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<LampShadows>{"none", "traced"};

/// How it gets darker toward corners.
enum class Corners {
  none,
  neighbors,  ///< by which neighboring cells are walls
  sampled,    ///< by rays over the half space above the surface
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<Corners>{"none", "neighbors",
                                                                       "sampled"};

/// What a wet floor shows.
enum class WetFloor {
  none,
  mirrored,  ///< each column below its foot, lit by no rays
  traced,    ///< a bounce: sprites, lights, water's share by the angle, roughness
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<WetFloor>{"none", "mirrored",
                                                                        "traced"};

/// How shadows go over into light.
enum class Softness {
  hard,   ///< at once, as if lights were points
  quick,  ///< over what a light's size makes of the distances met on the way to it; of fields alone
  sampled  ///< by rays to several places of a light
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<Softness>{"hard", "quick", "sampled"};

/// Whether shadows lie in fog.
enum class FogLight {
  quick,   ///< no: fog is one color
  sampled  ///< rays toward the sun from places along the lanes
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<FogLight>{"quick", "sampled"};

/// Which light there is.
enum class Transport {
  direct,  ///< sun, lamps and ambient light, added so that they never exceed white
  paths    ///< all light that goes from emitters to the eye, by paths that bounce at random
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<Transport>{"direct", "paths"};

/// How radiance becomes what a display can show.
enum class Metering {
  manual,  ///< by `exposure` alone
  picture  ///< so that the picture's mean is middle gray, and then by `exposure`
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<Metering>{"manual", "picture"};

struct LightBudget {
  SunShadows sun_shadows = SunShadows::traced;
  double probe = 0.7;  ///< meters toward the sun, in the plan
  LampShadows lamp_shadows = LampShadows::traced;
  Corners corners = Corners::neighbors;
  int corner_samples = 16;
  WetFloor wet_floor = WetFloor::traced;
  Softness softness = Softness::hard;
  int soft_samples = 8;
  FogLight fog = FogLight::quick;
  int fog_samples = 8;
  int crossings = 1;  ///< portals that light of the sun and of lamps comes through
  Transport transport = Transport::direct;
  bool seek = true;  ///< of paths: look for lights from every surface; else they are met by chance
  double exposure = 0;  ///< of paths: radiance is shown 2 to the power of this times as bright
  Metering metering = Metering::manual;
};

/// The numbers that the points of a plane are iterated in.
enum class PlaneNumber {
  automatic,      ///< the cheapest that tells the pixels apart
  fixed,          ///< whole numbers of a split of bits
  float32,        ///< 24 bits
  float64,        ///< 53 bits
  double_double,  ///< 106 bits
  perturbation,   ///< distances from one orbit of as many bits as it takes
};
template <>
inline constexpr std::array<std::string_view, 6> choice_names<PlaneNumber>{
    "auto", "fixed", "float", "double", "double_double", "perturbation"};

/// How many steps the points of a plane may take.
enum class PlaneLimit {
  given,      ///< as `iterations` says
  automatic,  ///< from there on doubled, until hardly a pixel changes by it
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<PlaneLimit>{"given", "auto"};

/// Which pixels of a plane are sampled more than once.
enum class PlaneSamples { edges, all };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<PlaneSamples>{"edges", "all"};

struct PlaneBudget {
  PlaneNumber number = PlaneNumber::automatic;
  int integer_bits = 4;  ///< of fixed, with the sign
  int fraction_bits = 28;
  std::int64_t iterations = 1000;
  PlaneLimit limit = PlaneLimit::given;
  double changing = 2e-4;  ///< share of the pixels that may still change at limit auto
  bool forms = true;       ///< the largest parts of the power 2 by their closed forms
  bool periodicity = true;
  bool derivative = false;
  bool skipping = true;  ///< of perturbation: many steps together where that is as good
  PlaneSamples samples = PlaneSamples::edges;
};

struct BounceBudget {
  int limit = 4;  ///< mirrors and bodies that bend light a lane may go on from; of paths all
  /// Of paths: those that carry less than this go on only with the chance of their share of it.
  double roulette = 0.25;
};

/// The order of the steps by which lanes are bent in swells.
enum class BendMethod {
  second,  ///< the midpoint method, with Euler's inside it to tell the error
  third,   ///< Bogacki and Shampine, "A 3(2) Pair of Runge-Kutta Formulas", 1989
  fifth,   ///< Dormand and Prince, "A Family of Embedded Runge-Kutta Formulae", 1980
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<BendMethod>{"second", "third",
                                                                          "fifth"};

struct CrossingBudget {
  int limit = 32;                         ///< portals a lane may go through
  BendMethod method = BendMethod::fifth;  ///< of swells
  double tolerance = 1e-3;  ///< meters: how far lanes bent by a swell may be off a step
  int steps = 400;          ///< steps a lane may take through swells
};

struct PassBudget {
  int limit = 12;  ///< surfaces a lane may look through
};

struct ReferenceBudget {
  int samples = 0;  ///< color samples a pixel; 0: as many as the frame, or as what varies asks for
};

/// Everything a frame may spend. Turn the knobs one by one, measure, keep the cheapest setting
/// that is good enough.
struct Budget {
  FrameBudget frame;
  CellBudget cells;
  FieldBudget field;
  SphereBudget spheres;
  VoxelBudget voxels;
  TextureBudget texture;
  LightBudget light;
  PassBudget passes;
  CrossingBudget crossings;

  BounceBudget bounces;
  PlaneBudget plane;
  ReferenceBudget against;  ///< of the frame that errors are measured against
  Rays rays = Rays::automatic;
  NumberType number = NumberType::float32;
  double far_limit = 4096;  ///< meters; a lane that gets there has escaped

  /// The most accurate setting of everything that can be wrong, for the frame to measure against:
  /// exact stepping in double, with a step limit that is not met. What the picture is of (size,
  /// far limit) stays, and so do samples but for against.samples. Rays that are drawn at random are
  /// so many that a pixel has at least 256 of each kind.
  Budget reference() const;
};

/// The same where light goes by paths, with samples of its own, so that its noise is not that of
/// the frames it is compared with: as many as `against` says, or 256 at least. It has no trick that
/// takes light away or spreads it.
Budget with_path_truth(const Budget& budget);

/// The table of every knob in a Budget.
std::span<const Knob<Budget>> budget_knobs();

}  // namespace photonlane
