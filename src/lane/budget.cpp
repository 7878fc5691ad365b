#include "photonlane/lane/budget.hpp"
#include <algorithm>

namespace photonlane {

Budget Budget::reference() const {
  Budget best = *this;
  best.frame.scale = 1;
  best.cells.method = CellMethod::boundary;
  best.cells.steps = 1'000'000'000;
  best.field.method = FieldMethod::sphere;
  best.field.steps = std::max<std::int64_t>(field.steps, 20'000);
  best.field.tolerance = 1e-6;
  best.field.growth = 0;
  best.field.detail = 0;
  best.spheres.detail = 0;
  best.voxels.detail = 0;
  best.voxels.wait = true;
  best.field.refinement = 8;
  best.field.normals = FieldNormals::exact;
  best.texture = {TextureSampling::filtered, 16};
  best.light.sun_shadows = SunShadows::traced;
  best.light.lamp_shadows = LampShadows::traced;
  best.light.corners = Corners::sampled;
  best.frame.samples = std::max(frame.samples, against.samples);
  // What is drawn at random is drawn anew for every sample of a pixel.
  const int each = against.samples > 0 ? (256 + best.frame.samples - 1) / best.frame.samples : 256;
  best.light.corner_samples = std::max(light.corner_samples, each);
  best.light.wet_floor = WetFloor::traced;
  best.light.fog_samples = std::max(light.fog_samples, 64);
  best.passes.limit = 1000;
  best.bounces.limit = std::max(bounces.limit, 24);
  best.crossings.limit = std::max(crossings.limit, 256);
  best.plane.number = PlaneNumber::perturbation;
  best.plane.skipping = false;
  best.plane.iterations = std::max<std::int64_t>(4 * plane.iterations, 100'000);
  best.plane.derivative = false;
  best.crossings.method = BendMethod::fifth;
  best.crossings.tolerance = 1e-6;
  best.crossings.steps = std::max(crossings.steps, 100'000);

  if (light.softness != Softness::hard) {
    best.light.softness = Softness::sampled;
    best.light.soft_samples = std::max(light.soft_samples, each);
  }
  best.number = NumberType::float64;
  if (light.transport != Transport::paths) return best;
  best.bounces.limit = std::max(bounces.limit, 64);
  return with_path_truth(best);
}

Budget with_path_truth(const Budget& budget) {
  Budget best = budget;
  best.frame.seed = budget.frame.seed < 9'000'000'000'000'000 ? budget.frame.seed + 1 : 0;
  const int asked = budget.against.samples > 0 ? budget.against.samples : 256;
  best.frame.samples = std::max(budget.frame.samples, asked);
  best.frame.adaptive = false;
  best.frame.clamp = 0;
  best.frame.denoise = 0;
  return best;
}

std::span<const Knob<Budget>> budget_knobs() {
  static const Knob<Budget> table[] = {
      knob<&Budget::frame, &FrameBudget::width>("frame.width", "pixels", {1, 1'000'000},
                                                "columns of the frame"),
      knob<&Budget::frame, &FrameBudget::height>("frame.height", "pixels", {1, 1'000'000},
                                                 "rows of the frame"),
      knob<&Budget::frame, &FrameBudget::scale>(
          "frame.scale", "", {0.05, 1},
          "sides of the frame that colors are made for, as a share of the frame's: 0.5 makes a "
          "quarter of the pixels and brings them up to size"),
      knob<&Budget::frame, &FrameBudget::upscale>(
          "frame.upscale", "", {},
          "how colors of a smaller frame are brought up where frame.scale is below 1: nearest, "
          "bilinear, or guided by depth, normals and materials that are cast at full size"),
      knob<&Budget::frame, &FrameBudget::backdrop>("frame.backdrop", "", {},
                                                   "whether the sky, or a room's open color, is "
                                                   "seen where nothing is met; without it colors "
                                                   "are times the alpha that EXR files get"),
      knob<&Budget::frame, &FrameBudget::samples>(
          "frame.samples", "", {1, 65536},
          "color samples a pixel; the other layers always sit at the pixel's center"),
      knob<&Budget::frame, &FrameBudget::sequence>(
          "frame.sequence", "", {},
          "where the samples of a pixel lie: lattice spreads as many as there are evenly, open "
          "takes "
          "the points of a sequence without end, so that frames can be added up"),
      knob<&Budget::frame, &FrameBudget::first>(
          "frame.first", "samples", {0, 16'777'216},
          "how many samples of the sequence other frames have taken already", 1,
          "frame.sequence=open"),
      knob<&Budget::frame, &FrameBudget::seed>(
          "frame.seed", "", {0, 9e15},
          "number that everything drawn at random starts from: another one gives other noise"),
      knob<&Budget::frame, &FrameBudget::adaptive>(
          "frame.adaptive", "", {},
          "samples go to the blocks of pixels whose error in display values is largest; "
          "frame.samples is the mean of all",
          1, "light.transport=paths"),
      knob<&Budget::frame, &FrameBudget::clamp>("frame.clamp", "radiance", {0, 1e9},
                                                "most that thrown back light of a sample may "
                                                "count, against bright specks; it takes light "
                                                "away, and how much is told; 0 takes none",
                                                1, "light.transport=paths"),
      knob<&Budget::frame, &FrameBudget::denoise>(
          "frame.denoise", "rounds", {0, 6},
          "rounds of a filter that evens out noise between edges of color, normals and depth, each "
          "twice as wide as the one before; 0 leaves the noise",
          1, "light.transport=paths"),
      knob<&Budget::cells, &CellBudget::method>(
          "cells.method", "", {},
          "how lanes step through cells: boundary is exact, leap gives the same hits and skips "
          "empty space, increment takes equal small steps and misses corners"),
      knob<&Budget::cells, &CellBudget::steps>(
          "cells.steps", "", {1, 1e9}, "steps a lane may take; one that needs more is spent"),
      knob<&Budget::cells, &CellBudget::increment>(
          "cells.increment", "meters", {0, 1000, true},
          "length of a step where cells.method is increment", 1, "cells.method=increment"),
      knob<&Budget::field, &FieldBudget::method>(
          "field.method", "", {},
          "how lanes march through fields: sphere steps by the distance, relaxed by more and back "
          "where that was too far, slope by how distances to shapes change along the lane, fixed "
          "takes equal steps and misses what is thinner"),
      knob<&Budget::field, &FieldBudget::steps>(
          "field.steps", "", {1, 16'000'000},
          "steps a lane may take in a field; one that needs more is spent"),
      knob<&Budget::field, &FieldBudget::tolerance>(
          "field.tolerance", "meters", {1e-9, 1},
          "distance from a surface at which a lane has hit it"),
      knob<&Budget::field, &FieldBudget::growth>(
          "field.growth", "meters a meter", {0, 1},
          "additional tolerance for each meter along the lane"),
      knob<&Budget::field, &FieldBudget::relaxation>(
          "field.relaxation", "", {1, 2, false, true},
          "factor of a step where field.method is relaxed", 1, "field.method=relaxed"),
      knob<&Budget::field, &FieldBudget::increment>("field.increment", "meters", {0, 1000, true},
                                                    "length of a step where field.method is fixed",
                                                    1, "field.method=fixed"),
      knob<&Budget::field, &FieldBudget::refinement>(
          "field.refinement", "", {0, 100},
          "most evaluations for refining a hit between the last place outside and the first "
          "inside; 0 ends lanes within the tolerance"),
      knob<&Budget::field, &FieldBudget::normals>(
          "field.normals", "", {},
          "surface normals: exact by derivatives carried through the operations, or by differences "
          "of values"),
      knob<&Budget::field, &FieldBudget::normal_step>("field.normal_step", "meters", {1e-9, 1},
                                                      "distance over which differences are taken",
                                                      1, "field.normals=difference"),
      knob<&Budget::spheres, &SphereBudget::detail>("spheres.detail", "pixels", {0, 64},
                                                    "boxes of many spheres smaller than this are "
                                                    "not gone into: one of them, drawn by chance, "
                                                    "stands for all; 0 meets every sphere"),
      knob<&Budget::voxels, &VoxelBudget::detail>(
          "voxels.detail", "pixels", {0, 64},
          "cubes of voxels smaller than this are not gone into: their mean color stands for them, "
          "met by chance as far as they are covered; 0 meets every voxel"),
      knob<&Budget::voxels, &VoxelBudget::wait>(
          "voxels.wait", "", {},
          "frames are made when all around the eye is, of land without end; else of what is made "
          "by then"),
      knob<&Budget::field, &FieldBudget::detail>(
          "field.detail", "pixels", {0, 64},
          "detail of iterated folds smaller than this is left out; 0 keeps all"),
      knob<&Budget::field, &FieldBudget::pruning>(
          "field.pruning", "", {},
          "evaluate only the parts of a field that can matter where lanes are; values are the "
          "same, and lanes "
          "end the same within the tolerance, but for some that graze"),
      knob<&Budget::field, &FieldBudget::place_memory>(
          "field.place_memory", "MiB", {0, 2000},
          "memory that a field may use to keep which of its parts matter where; lanes of shadows "
          "and bounces go by it; 0 looks anew for every batch",
          1, "field.pruning=true"),
      knob<&Budget::field, &FieldBudget::cones>(
          "field.cones", "", {}, "lead neighboring lanes together while they are in the open"),
      knob<&Budget::texture, &TextureBudget::sampling>(
          "texture.sampling", "", {},
          "texture filter: nearest texel, bilinear between four, or filtered over the pixel's "
          "footprint"),
      knob<&Budget::texture, &TextureBudget::taps>("texture.taps", "", {1, 16},
                                                   "most texture lookups along the longer side of "
                                                   "a pixel's footprint (anisotropic filtering)",
                                                   1, "texture.sampling=filtered"),
      knob<&Budget::light, &LightBudget::transport>(
          "light.transport", "", {},
          "direct adds sun, lamps and ambient light by rules of thumb; paths follows light by "
          "paths "
          "that bounce at random off everything, as it really goes"),
      knob<&Budget::light, &LightBudget::seek>(
          "light.seek", "", {},
          "look for lights from every surface that a path meets, beside meeting them by chance: "
          "the "
          "same light with less noise; without it a sun or a lamp is hardly ever found",
          1, "light.transport=paths"),
      knob<&Budget::light, &LightBudget::exposure>(
          "light.exposure", "stops", {-40, 40},
          "exposure: each stop shows radiance twice as bright", 1, "light.transport=paths"),
      knob<&Budget::light, &LightBudget::metering>(
          "light.metering", "", {},
          "manual exposes by light.exposure alone, picture first brings the picture's mean to "
          "middle gray",
          1, "light.transport=paths"),
      knob<&Budget::light, &LightBudget::sun_shadows>(
          "light.sun_shadows", "", {},
          "shadows of the sun: none, probe looks at one place of the map toward the sun, traced "
          "casts a ray",
          1, "light.transport=direct"),
      knob<&Budget::light, &LightBudget::probe>("light.probe", "meters", {0, 1000, true},
                                                "distance toward the sun at which the probe looks",
                                                1, "light.sun_shadows=probe"),
      knob<&Budget::light, &LightBudget::lamp_shadows>(
          "light.lamp_shadows", "", {}, "shadows of lamps: none, or a traced ray toward each lamp",
          1, "light.transport=direct"),
      knob<&Budget::light, &LightBudget::corners>(
          "light.corners", "", {},
          "ambient occlusion: none, estimated from neighboring cells and distances, or sampled by "
          "rays",
          1, "light.transport=direct"),
      knob<&Budget::light, &LightBudget::corner_samples>(
          "light.corner_samples", "rays", {1, 4096}, "rays for the ambient occlusion of a place", 1,
          "light.corners=sampled"),
      knob<&Budget::light, &LightBudget::wet_floor>(
          "light.wet_floor", "", {},
          "reflections on wet floors: none, mirrored shows the map upside down, traced follows a "
          "bounce",
          1, "light.transport=direct"),
      knob<&Budget::light, &LightBudget::softness>(
          "light.softness", "", {},
          "shadow edges: hard, quick estimates the penumbra from distances on the way to the "
          "light, sampled casts rays over the light's size",
          1, "light.transport=direct"),
      knob<&Budget::light, &LightBudget::soft_samples>(
          "light.soft_samples", "rays", {1, 4096},
          "shadow rays toward each light where softness is sampled", 1, "light.softness=sampled"),
      knob<&Budget::light, &LightBudget::fog>(
          "light.fog", "", {},
          "light in fog: quick is one color, sampled is darker where the sun does not reach "
          "(shadow rays from places along the lane)",
          1, "light.transport=direct"),
      knob<&Budget::light, &LightBudget::fog_samples>(
          "light.fog_samples", "rays", {1, 4096}, "places along a lane where lit fog is sampled", 1,
          "light.fog=sampled"),
      knob<&Budget::light, &LightBudget::crossings>(
          "light.crossings", "", {0, 4},
          "portals, one behind another, that sunlight and lamplight pass through"),
      knob<&Budget::bounces, &BounceBudget::limit>(
          "bounces.limit", "", {0, 1000},
          "bounce depth: reflections and refractions of a lane; past it mirrors show the sky and "
          "lanes into glass are spent; of paths how often light is thrown back, 1 being light "
          "that comes straight from its source"),
      knob<&Budget::bounces, &BounceBudget::roulette>(
          "bounces.roulette", "", {0, 100},
          "paths that carry less than this go on with the chance of their share of it, and count "
          "more then; 0 lets all go on",
          1, "light.transport=paths"),
      knob<&Budget::passes, &PassBudget::limit>(
          "passes.limit", "", {0, 1000},
          "translucent surfaces a lane may pass; one that needs more is spent"),
      knob<&Budget::crossings, &CrossingBudget::limit>(
          "crossings.limit", "", {0, 10000},
          "crossing depth: portals a lane may pass; one that needs more is spent, or shows the "
          "portal's fallback"),
      knob<&Budget::crossings, &CrossingBudget::method>(
          "crossings.method", "", {},
          "order of the integration steps along which swells bend lanes"),
      knob<&Budget::crossings, &CrossingBudget::tolerance>(
          "crossings.tolerance", "meters", {1e-9, 1}, "error a step of a bent lane may have"),
      knob<&Budget::crossings, &CrossingBudget::steps>(
          "crossings.steps", "", {1, 1'000'000},
          "steps a lane may take through swells; one that needs more is spent"),
      knob<&Budget::plane, &PlaneBudget::number>(
          "plane.number", "", {},
          "number type of a plane's iteration; auto takes the cheapest that tells neighboring "
          "pixels apart"),
      knob<&Budget::plane, &PlaneBudget::integer_bits>(
          "plane.integer_bits", "bits", {1, 63},
          "integer bits of fixed-point numbers, with the sign", 1, "plane.number=fixed"),
      knob<&Budget::plane, &PlaneBudget::fraction_bits>(
          "plane.fraction_bits", "bits", {1, 63},
          "fraction bits of fixed-point numbers; at most 64 with the integer bits", 1,
          "plane.number=fixed"),
      knob<&Budget::plane, &PlaneBudget::iterations>(
          "plane.iterations", "steps", {1, 9e15},
          "iteration limit; a point that has neither escaped by then nor is known to stay is "
          "spent"),
      knob<&Budget::plane, &PlaneBudget::limit>(
          "plane.limit", "", {},
          "given uses plane.iterations; auto doubles it until hardly a pixel changes"),
      knob<&Budget::plane, &PlaneBudget::changing>(
          "plane.changing", "", {0, 1}, "share of the pixels that may still change when auto stops",
          1, "plane.limit=auto"),
      knob<&Budget::plane, &PlaneBudget::forms>(
          "plane.forms", "", {},
          "test the largest parts of power 2 by closed forms (cardioid and disc)"),
      knob<&Budget::plane, &PlaneBudget::periodicity>("plane.periodicity", "", {},
                                                      "end orbits that return to an earlier place"),
      knob<&Budget::plane, &PlaneBudget::derivative>(
          "plane.derivative", "", {},
          "end orbits whose derivative vanishes: they are attracted to a cycle"),
      knob<&Budget::plane, &PlaneBudget::skipping>(
          "plane.skipping", "", {}, "let perturbation skip steps that are linear within rounding"),
      knob<&Budget::plane, &PlaneBudget::samples>(
          "plane.samples", "", {},
          "which pixels frame.samples are taken of: those at edges of the color, or all"),
      knob<&Budget::against, &ReferenceBudget::samples>(
          "reference.samples", "", {0, 1024},
          "color samples a pixel of the frame that errors are measured against; 0 takes as many as "
          "the frame has, or four times the most of a sweep over frame.samples"),
      knob<&Budget::rays>("rays", "", {},
                          "one ray a column (level cameras only) or one a pixel; auto takes "
                          "columns where they are exact"),
      knob<&Budget::number>("number", "", {}, "the number type lanes are traced in"),
      knob<&Budget::far_limit>("far_limit", "meters", {0, 1e6, true},
                               "distance at which a lane that hit nothing has escaped"),
  };
  return table;
}

}  // namespace photonlane
