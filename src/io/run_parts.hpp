#pragma once

#include <span>
#include <string_view>
#include <utility>

#include "base/digest.hpp"
#include "io/json.hpp"
#include "photonlane/io/report.hpp"
#include "photonlane/io/scene_file.hpp"
#include "photonlane/measure/sweep.hpp"

namespace photonlane::io {

/// All of a scene file that decides what a run of it leaves: its text, numbers, doors, camera and
/// budget as they are now.
Digest digest_of(const SceneFile& file);
/// The same but for the camera and the budget, which add_view() adds: for many of one scene, whose
/// files are read once.
Digest digest_of_scene(const SceneFile& file);
void add_view(const Camera& camera, const Budget& budget, Digest& digest);

/// All that decides what comes of a scene, in words: version, scene, camera, and the budget but for
/// some of its knobs.
Json maker_of(const SceneFile& file, std::span<const std::string_view> left_out = {});
/// What differs between two of those, in words; empty: nothing.
std::string difference_of(const Json& kept, const Json& own);

/// Adds the colors of a frame, or what else it has, and its size.
void add_frame(const Frame& frame, Digest& digest);

/// What a tally counts, by name.
using TallyCount = std::pair<std::string_view, std::uint64_t Tally::*>;
std::span<const TallyCount> tally_counts();

/// What results had to keep, by name.
Json limits_object(const RunFacts& facts);
/// Every metric by its name, null where it has no value.
Json metrics_object(const Difference& difference);
Json stage_object(const Stage& stage);
/// Every knob by its name.
Json budget_object(const Budget& budget);
Json to_json(const Cost& cost);
Json to_json(const Tally& tally);
Json to_json(const PlaneReport& report);
Json to_json(const SweepPart& part);
/// Throw Json::exception for what is none.
Cost cost_from(const Json& json);
Tally tally_from(const Json& json);
PlaneReport plane_report_from(const Json& json);
SweepPart sweep_part_from(const Json& json);

}  // namespace photonlane::io
