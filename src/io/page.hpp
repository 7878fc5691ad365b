#pragma once

#include <optional>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "photonlane/io/picture.hpp"

namespace photonlane::io {

/// A picture inside a page. Those that are wider than its page shows are made smaller.
struct PagePicture {
  std::string name;
  Picture picture;
};

/// A point of a chart: a setting of a table's row.
struct PagePoint {
  double x = 0, y = 0;
  double low = 0, high = 0;         ///< where x is likely to lie
  std::string label;                ///< on hover
  std::vector<std::string> values;  ///< below the label
  bool front = false;
  std::size_t row = 0;
  std::optional<std::size_t> picture;
};

struct PageSeries {
  std::string name;
  std::vector<PagePoint> points;
};

struct PageLine {
  bool upright = false;  ///< at a value of x; else of y
  double at = 0;
  std::string label;
};

/// Points of cost and error. Zeros of a logarithmic axis stand at its lower end.
struct PageChart {
  std::string title, note;
  std::string x_label, y_label;
  bool x_log = false, y_log = false;
  std::vector<PageSeries> series;
  std::vector<PageLine> lines;
  std::optional<std::pair<double, double>> chosen;  ///< with a ring around it
};

struct PageCell {
  std::string text;
  std::optional<double> number;  ///< what it sorts by; none: by its text
  double bar = 0;                ///< a bar of so much of the cell's width
};

/// What a row of a table is about.
struct PageRow {
  std::vector<PageCell> cells;
  bool chosen = false;
  std::optional<std::size_t> picture;  ///< shown at the right where the row is clicked
};

struct PageTable {
  std::string title, note;
  std::vector<std::pair<std::string, bool>> heads;  ///< true: of numbers
  std::vector<PageRow> rows;
};

/// Pictures one beside the other, with their legends inside.
struct PageFigures {
  std::string title;
  std::vector<PagePicture> pictures;
};

/// Two of the page's pictures with a slider between them, or their difference.
struct PageComparison {
  std::size_t left = 0, right = 1;  ///< shown first
};

/// Results as one file for a browser: charts with values on hover, two pictures with a slider or as
/// their difference, tables that sort. It opens without a network.
struct Page {
  std::string title, lead;
  std::vector<std::pair<std::string, std::string>> facts;  ///< how it was made
  std::vector<PagePicture> pictures;                       ///< to be compared
  std::vector<std::variant<PageChart, PageTable, PageFigures, PageComparison>> parts;
};

std::string page_html(const Page& page);

}  // namespace photonlane::io
