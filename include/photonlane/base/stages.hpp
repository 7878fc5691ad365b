#pragma once

///   for (const Stage& stage : frame.cost.stages.list())
///     printf("%s %s %.2f ms\n", name_of(stage.lanes).data(), name_of(stage.work).data(),
///     stage.ms);

#include <array>
#include <cstdint>
#include <string_view>
#include <vector>

#include "photonlane/base/knob.hpp"

namespace photonlane {

/// Which lanes a thread works for.
enum class LaneKind {
  frame,    ///< none: what is done for the frame as a whole
  eye,      ///< from the eye to what they meet first
  behind,   ///< from the eye on, behind what is looked through
  portals,  ///< from the eye on, behind portals and in swells
  bounces,  ///< thrown back by mirrors and wet floors, or through bodies that bend light
  sun,      ///< toward the sun
  lamps,    ///< toward lamps
  corners,  ///< for ambient occlusion
  fog,      ///< for shadows in fog
};
inline constexpr std::size_t lane_kind_count = 9;
template <>
inline constexpr std::array<std::string_view, lane_kind_count> choice_names<LaneKind>{
    "frame", "eye", "behind", "portals", "bounces", "sun", "lamps", "corners", "fog"};

/// What a thread does for lanes.
enum class Work {
  setup,    ///< the scene as the camera sees it
  aim,      ///< where lanes start and which way they go
  cells,    ///< steps through cells
  prune,    ///< finding what of a field matters where
  march,    ///< evaluating fields along lanes and at places
  refine,   ///< finding the surface between two steps
  normals,  ///< normals and materials of fields
  solids,   ///< solids of other kinds, as spheres
  portals,  ///< meeting portals and going through them; bending in swells
  iterate,  ///< iterating points of planes
  paint,    ///< materials and textures to colors
  pattern,  ///< patterns on surfaces
  light,    ///< the arithmetic of light: falling, thrown back, lost in fog
  sprites,  ///< panels and sprites before surfaces
  order,    ///< taking lanes into batches of their kind and out of them
  pixels,   ///< colors and layers into the frame
  rest,     ///< what has no name of its own
};
inline constexpr std::size_t work_count = 17;
template <>
inline constexpr std::array<std::string_view, work_count> choice_names<Work>{
    "setup",   "aim",   "cells",   "prune", "march",   "refine", "normals", "solids", "portals",
    "iterate", "paint", "pattern", "light", "sprites", "order",  "pixels",  "rest"};

/// One kind of work for one kind of lanes.
struct Stage {
  LaneKind lanes = LaneKind::frame;
  Work work = Work::rest;
  double ms = 0;            ///< of one thread, summed over all
  std::uint64_t times = 0;  ///< how often it was begun, once a batch mostly
  std::uint64_t count = 0;  ///< lanes, or places, that it was for; 0 where they are not counted

  /// Nanoseconds for each lane; 0 where they are not counted.
  double ns_each() const { return count == 0 ? 0 : ms * 1e6 / static_cast<double>(count); }
};

/// The time of threads by what they did, each moment counted once. Only what took any time is kept.
class StageTimes {
 public:
  Stage& at(LaneKind lanes, Work work);
  Stage at(LaneKind lanes, Work work) const;
  /// Of one kind of lanes, or of one kind of work.
  double ms_of(LaneKind lanes) const;
  double ms_of(Work work) const;
  double total_ms() const;
  /// The dearest first.
  std::vector<Stage> list() const;
  StageTimes& operator+=(const StageTimes& other);

 private:
  std::vector<Stage> stages_;
};

}  // namespace photonlane
