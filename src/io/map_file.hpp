#pragma once

#include <optional>
#include <string>
#include <vector>

#include "io/document.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

/// One entry of a legend: a letter or a pixel color, and what it stands for.
struct LegendEntry {
  Place place;
  std::string text;
  bool is_color = false;
  char32_t letter = 0;
  std::uint32_t color = 0;  ///< red << 16 | green << 8 | blue, display values
  Cell cell = empty_cell;
  LegendLetter::Mark mark = LegendLetter::Mark::none;
  std::optional<CellForm> form{};

  /// True where a map has a cell of that kind. Entries of one material stand for one another.
  bool used(const CellMap& map) const;
};

struct MapLegend {
  std::vector<LegendEntry> entries;
};

/// Reads a legend; entries with a tint add a material of their own to the scene.
MapLegend read_legend(const Node& node, Scene& scene);

/// A map drawn in the scene file itself, whose text tells errors their own line and column.
CellMap map_from_drawing(const Node& node, const std::string& scene_text, const MapLegend& legend);

/// A map from a text file, or a PNG of one pixel a cell, named relative to `folder`.
CellMap map_from_file(const Node& node, const std::string& folder, const MapLegend& legend);

}  // namespace photonlane::io
