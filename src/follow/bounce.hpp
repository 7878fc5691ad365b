#pragma once

#include "follow/leg.hpp"
#include "follow/onward.hpp"
#include "shade/illuminate.hpp"
#include "trace/sight.hpp"

namespace photonlane {

class BatchRecord;

/// Where the lanes of a batch stand at one of the surfaces they see, for those that go on from
/// there.
struct GoingOn {
  const SceneView& view;
  const RoomView& here;
  const PixelPlace& place;
  const Leg& leg;
  const Through* left;  ///< what is left of the lanes' light; null: all
  const float* others;  ///< what of that the fog of other rooms leaves; null: all
  Outbox* outbox;
  Tally& tally;
  const BatchRecord* record;  ///< null: nothing is

  /// What lane i has left where it has run t meters in this room, before fog; and after all fog,
  /// the most of any color.
  struct Weight {
    float red = 1, green = 1, blue = 1;
    float seen = 1;
  };
  Weight weight(const Surfaces& surfaces, std::size_t i) const;

  /// A lane that goes on from surface i with a weight; place and way are left to the caller.
  Onward lane(const Surfaces& surfaces, std::size_t i, const Weight& weight) const;
  /// Puts it into the outbox, after the surface it comes from.
  void send(const Onward& lane, const Surfaces& surfaces, std::size_t i) const;

  bool inside(std::size_t i) const { return leg.medium != nullptr && leg.medium->inside[i]; }
};

/// How much each surface of a batch throws back as a wet floor.
struct WetFloors {
  bool any = false;
  bool wanted[Surfaces::capacity];
  float share[Surfaces::capacity];  ///< 0 where not wanted
  LaneRays rays;                    ///< of lanes that do not come from the eye

  WetFloors(const GoingOn& going, const Sight& sight, const Surfaces& surfaces);
};

/// Sends on what wet floors throw back.
void reflect_wet(const GoingOn& going, const Sight& sight, const WetFloors& wet,
                 const Surfaces& surfaces, Colors& colors);

/// Sends on what mirrors throw back and what goes into bodies that bend light. Nothing is left to
/// be looked through where light is bent.
void bounce(const GoingOn& going, const LookedAt& seen, Colors& colors);

/// What is left to be looked through beside that, for lanes that look for surfaces alone: the same
/// surfaces as those of colors.
void shade_behind(const Gloss& gloss, std::size_t size, Colors& colors);

/// Sends lanes on that have crossed portals, and marks them as `gone`. `settles` are those the
/// layers of whose pixels are still open; `blind` ones see no colors. Lanes out of crossings end
/// here, as spent.
void cross(const GoingOn& going, Sight& sight, const bool* settles, bool blind, bool* gone,
           Surfaces& surfaces, Colors& colors);

}  // namespace photonlane
