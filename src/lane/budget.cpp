#include "photonlane/lane/budget.hpp"
#include <algorithm>

namespace photonlane {

Budget Budget::reference() const {
  Budget best = *this;
  best.cells.method = CellMethod::boundary;
  best.cells.steps = 1'000'000'000;
  best.field.method = FieldMethod::sphere;
  best.field.steps = std::max<std::int64_t>(field.steps, 20'000);
  best.field.tolerance = 1e-6;
  best.field.growth = 0;
  best.field.detail = 0;
  best.field.refinement = 8;
  best.field.normals = FieldNormals::exact;
  best.texture = {TextureSampling::filtered, 16};
  best.light.sun_shadows = SunShadows::traced;
  best.light.lamp_shadows = LampShadows::traced;
  best.light.corners = Corners::sampled;
  best.light.corner_samples = 256;
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
    best.light.soft_samples = 256;
  }
  best.number = NumberType::float64;
  return best;
}

std::span<const Knob<Budget>> budget_knobs() {
  static const Knob<Budget> table[] = {
      knob<&Budget::frame, &FrameBudget::width>("frame.width", "pixels", {1, 1'000'000},
                                                "columns of the frame"),
      knob<&Budget::frame, &FrameBudget::height>("frame.height", "pixels", {1, 1'000'000},
                                                 "rows of the frame"),
      knob<&Budget::frame, &FrameBudget::samples>(
          "frame.samples", "", {1, 1024},
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
          "where that was too far, fixed takes equal steps and misses what is thinner"),
      knob<&Budget::field, &FieldBudget::steps>(
          "field.steps", "", {1, 16'000'000},
          "steps a lane may take in a field; one that needs more is spent"),
      knob<&Budget::field, &FieldBudget::tolerance>("field.tolerance", "meters", {1e-9, 1},
                                                    "nearer to a surface is on it"),
      knob<&Budget::field, &FieldBudget::growth>("field.growth", "meters a meter", {0, 1},
                                                 "more tolerance for every meter along the lane"),
      knob<&Budget::field, &FieldBudget::relaxation>(
          "field.relaxation", "", {1, 2, false, true},
          "factor of a step where field.method is relaxed", 1, "field.method=relaxed"),
      knob<&Budget::field, &FieldBudget::increment>("field.increment", "meters", {0, 1000, true},
                                                    "length of a step where field.method is fixed",
                                                    1, "field.method=fixed"),
      knob<&Budget::field, &FieldBudget::refinement>(
          "field.refinement", "", {0, 100},
          "looks at most, to find where between the last place outside and the first inside a "
          "surface "
          "is; 0: lanes end within the tolerance"),
      knob<&Budget::field, &FieldBudget::normals>(
          "field.normals", "", {},
          "which way a surface faces: exact, carried through the operations, or by the difference "
          "of values around"),
      knob<&Budget::field, &FieldBudget::normal_step>("field.normal_step", "meters", {1e-9, 1},
                                                      "how far around differences are taken", 1,
                                                      "field.normals=difference"),
      knob<&Budget::field, &FieldBudget::detail>(
          "field.detail", "pixels", {0, 64},
          "what folds again and again is left out where it is smaller than this; 0: nothing is"),
      knob<&Budget::field, &FieldBudget::pruning>(
          "field.pruning", "", {},
          "evaluate only the parts of a field that can matter where lanes are; values are the "
          "same, and lanes "
          "end the same within the tolerance, but for some that graze"),
      knob<&Budget::field, &FieldBudget::cones>(
          "field.cones", "", {}, "lead neighboring lanes together while they are in the open"),
      knob<&Budget::texture, &TextureBudget::sampling>(
          "texture.sampling", "", {},
          "nearest takes one texel, bilinear the four around, filtered all that a pixel covers"),
      knob<&Budget::texture, &TextureBudget::taps>(
          "texture.taps", "", {1, 16},
          "lookups along the longer side of what a pixel covers, where it covers a long strip", 1,
          "texture.sampling=filtered"),
      knob<&Budget::light, &LightBudget::sun_shadows>(
          "light.sun_shadows", "", {},
          "none, one look at the map a fixed way toward the sun, or a ray toward it"),
      knob<&Budget::light, &LightBudget::probe>("light.probe", "meters", {0, 1000, true},
                                                "how far toward the sun the probe looks", 1,
                                                "light.sun_shadows=probe"),
      knob<&Budget::light, &LightBudget::lamp_shadows>("light.lamp_shadows", "", {},
                                                       "none, or a ray toward every lamp"),
      knob<&Budget::light, &LightBudget::corners>(
          "light.corners", "", {},
          "darker corners: none, by the neighboring cells, or by sampled rays"),
      knob<&Budget::light, &LightBudget::corner_samples>("light.corner_samples", "rays", {1, 4096},
                                                         "rays for the darkness of a place", 1,
                                                         "light.corners=sampled"),
      knob<&Budget::light, &LightBudget::wet_floor>(
          "light.wet_floor", "", {},
          "what wet floors show: nothing, the map upside down, or a traced bounce"),
      knob<&Budget::light, &LightBudget::softness>(
          "light.softness", "", {},
          "edges of shadows: hard, quick by the distances of fields on the way to a light, or "
          "sampled by rays over its size"),
      knob<&Budget::light, &LightBudget::soft_samples>("light.soft_samples", "rays", {1, 4096},
                                                       "rays toward each light", 1,
                                                       "light.softness=sampled"),
      knob<&Budget::light, &LightBudget::fog>(
          "light.fog", "", {},
          "fog: quick in one color, or sampled, darker where the sun does not reach it"),
      knob<&Budget::light, &LightBudget::fog_samples>(
          "light.fog_samples", "rays", {1, 4096}, "places along a lane", 1, "light.fog=sampled"),
      knob<&Budget::light, &LightBudget::crossings>(
          "light.crossings", "", {0, 4},
          "portals, one behind another, that light of the sun and of lamps comes through"),
      knob<&Budget::bounces, &BounceBudget::limit>(
          "bounces.limit", "", {0, 64},
          "mirrors and bodies that bend light a lane may go on from; past it mirrors show the sky "
          "and lanes into bodies are spent"),
      knob<&Budget::passes, &PassBudget::limit>(
          "passes.limit", "", {0, 1000},
          "surfaces a lane may look through; one that needs more is spent"),
      knob<&Budget::crossings, &CrossingBudget::limit>(
          "crossings.limit", "", {0, 10000},
          "portals a lane may go through; one that needs more is spent, or shows the portal's "
          "fallback"),
      knob<&Budget::crossings, &CrossingBudget::method>(
          "crossings.method", "", {}, "the order of the steps in which swells bend lanes"),
      knob<&Budget::crossings, &CrossingBudget::tolerance>(
          "crossings.tolerance", "meters", {1e-9, 1},
          "how far lanes that swells bend may be off their way after a step"),
      knob<&Budget::crossings, &CrossingBudget::steps>(
          "crossings.steps", "", {1, 1'000'000},
          "steps a lane may take through swells; one that needs more is spent"),
      knob<&Budget::plane, &PlaneBudget::number>(
          "plane.number", "", {},
          "what the points of a plane are iterated in; auto takes the cheapest type that tells its "
          "pixels apart"),
      knob<&Budget::plane, &PlaneBudget::integer_bits>("plane.integer_bits", "bits", {1, 63},
                                                       "before the point, with the sign", 1,
                                                       "plane.number=fixed"),
      knob<&Budget::plane, &PlaneBudget::fraction_bits>("plane.fraction_bits", "bits", {1, 63},
                                                        "behind the point; 64 with those before "
                                                        "it, at most",
                                                        1, "plane.number=fixed"),
      knob<&Budget::plane, &PlaneBudget::iterations>(
          "plane.iterations", "steps", {1, 9e15},
          "a point that has not escaped by then, nor is known to stay, is spent"),
      knob<&Budget::plane, &PlaneBudget::limit>(
          "plane.limit", "", {}, "given: those steps; auto: doubled until hardly a pixel changes"),
      knob<&Budget::plane, &PlaneBudget::changing>("plane.changing", "", {0, 1},
                                                   "share of the pixels that may still change", 1,
                                                   "plane.limit=auto"),
      knob<&Budget::plane, &PlaneBudget::forms>(
          "plane.forms", "", {}, "whether the largest parts of power 2 are told by closed forms"),
      knob<&Budget::plane, &PlaneBudget::periodicity>(
          "plane.periodicity", "", {}, "whether orbits that come back to a place end"),
      knob<&Budget::plane, &PlaneBudget::derivative>(
          "plane.derivative", "", {}, "whether orbits end that draw what is around them together"),
      knob<&Budget::plane, &PlaneBudget::skipping>(
          "plane.skipping", "", {},
          "whether perturbation takes many steps together where they are as good as linear"),
      knob<&Budget::plane, &PlaneBudget::samples>(
          "plane.samples", "", {},
          "which pixels frame.samples are taken of: those at edges of the color, or all"),
      knob<&Budget::rays>("rays", "", {},
                          "one ray a column (level cameras only) or one a pixel; auto takes "
                          "columns where they are exact"),
      knob<&Budget::number>("number", "", {}, "the number type lanes are traced in"),
      knob<&Budget::far_limit>("far_limit", "meters", {0, 1e6, true},
                               "where a lane that met nothing has escaped"),
  };
  return table;
}

}  // namespace photonlane
