#include "io/page.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "io/json.hpp"
#include "io/page_assets.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/words.hpp"

namespace photonlane::io {
namespace {

/// Text of a user's as a page shows it: nothing in it is markup.
std::string shown(std::string_view text) {
  std::string result;
  for (const char c : one_line(text)) {
    switch (c) {
      case '&':
        result += "&amp;";
        break;
      case '<':
        result += "&lt;";
        break;
      case '>':
        result += "&gt;";
        break;
      case '"':
        result += "&quot;";
        break;
      case '\'':
        result += "&#39;";
        break;
      default:
        result += c;
    }
  }
  return result;
}

/// JSON that may stand within a page: without "<" nothing in it ends its element.
std::string within_page(const Json& json) {
  std::string result;
  for (const char c : json.dump(-1, ' ', false, Json::error_handler_t::replace)) {
    if (c == '<') {
      result += "\\u003c";
    } else {
      result += c;
    }
  }
  return result;
}

/// Source that may stand within its element.
std::string within_element(std::string_view source) {
  std::string result;
  for (std::size_t i = 0; i < source.size(); ++i) {
    result += source[i];
    if (source[i] == '<' && i + 1 < source.size() && source[i + 1] == '/') result += '\\';
  }
  return result;
}

std::string base64(std::string_view bytes) {
  constexpr std::string_view digits =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string text;
  text.reserve((bytes.size() + 2) / 3 * 4);
  for (std::size_t i = 0; i < bytes.size(); i += 3) {
    std::uint32_t three = 0;
    for (std::size_t k = 0; k < 3; ++k) {
      three = three << 8 | (i + k < bytes.size() ? static_cast<unsigned char>(bytes[i + k]) : 0);
    }
    for (std::size_t k = 0; k < 4; ++k) {
      text += i + k <= bytes.size() ? digits[three >> (18 - 6 * k) & 63] : '=';
    }
  }
  return text;
}

/// The picture no wider than that: means of the pixels that fall together.
Picture narrower(const Picture& picture, int widest) {
  const int width = picture.size.width;
  if (width <= widest) return picture;
  const int by = (width + widest - 1) / widest;
  Picture small(Size{width / by, std::max(1, picture.size.height / by)});
  for (int y = 0; y < small.size.height; ++y) {
    for (int x = 0; x < small.size.width; ++x) {
      int sums[3] = {};
      int count = 0;
      for (int v = y * by; v < std::min((y + 1) * by, picture.size.height); ++v) {
        for (int u = x * by; u < (x + 1) * by; ++u, ++count) {
          for (int c = 0; c < 3; ++c) sums[c] += picture.pixel(u, v)[c];
        }
      }
      for (int c = 0; c < 3; ++c) {
        small.pixel(x, y)[c] = static_cast<std::uint8_t>((sums[c] + count / 2) / count);
      }
    }
  }
  return small;
}

/// What a page of many pictures has room for.
int widest_of(std::size_t pictures) {
  if (pictures <= 8) return 1280;
  return pictures <= 32 ? 640 : 320;
}

/// Ends of an axis and, of logarithmic ones, where zeros stand.
struct Axis {
  double least = 0, most = 1;
  std::optional<double> floor;

  Json json(const std::string& label, bool log) const {
    return {{"label", label},
            {"log", log},
            {"least", least},
            {"most", most},
            {"narrow", most < 40 * least}};
  }
};

Axis axis_of(const PageChart& chart, bool across) {
  const bool log = across ? chart.x_log : chart.y_log;
  Axis axis;
  double least = std::numeric_limits<double>::infinity();
  double most = 0;
  double lowest_of_all = 0;
  bool zero = false;
  const auto take = [&](double value) {
    if (!std::isfinite(value)) return;
    most = std::max(most, value);
    lowest_of_all = std::min(lowest_of_all, value);
    if (value > 0) {
      least = std::min(least, value);
    } else {
      zero = true;
    }
  };
  for (const PageSeries& series : chart.series) {
    for (const PagePoint& point : series.points) take(across ? point.x : point.y);
  }
  if (!log || !(most > 0)) {
    const double wide = std::max(most - lowest_of_all, 1e-9);
    return {lowest_of_all < 0 ? lowest_of_all - 0.06 * wide : 0.0, most + 0.06 * wide, {}};
  }
  // Errors of rounding alone would stretch the axis over many empty decades.
  const double lowest = std::max(least, most * 1e-4);
  if (zero || least < lowest) axis.floor = lowest / 3;
  axis.least = axis.floor ? *axis.floor / 1.6 : lowest / 1.6;
  axis.most = most * 1.6;
  return axis;
}

Json chart_json(const PageChart& chart) {
  const Axis across = axis_of(chart, true);
  const Axis up = axis_of(chart, false);
  const auto on = [](const Axis& axis, double value) {
    return axis.floor && value < 3 * *axis.floor ? *axis.floor : value;
  };
  Json json{{"x", across.json(chart.x_label, chart.x_log)},
            {"y", up.json(chart.y_label, chart.y_log)},
            {"series", Json::array()},
            {"lines", Json::array()}};
  if (up.floor) json["floor"] = *up.floor;
  for (const PageSeries& series : chart.series) {
    Json points = Json::array();
    for (const PagePoint& point : series.points) {
      if (!std::isfinite(point.x) || !std::isfinite(point.y)) continue;
      Json one{{"x", on(across, point.x)}, {"y", on(up, point.y)}, {"label", point.label},
               {"told", point.values},     {"front", point.front}, {"row", point.row}};
      if (point.high > point.low) {
        one["low"] = std::max(point.low, across.least);
        one["high"] = point.high;
      }
      if (point.picture) one["picture"] = *point.picture;
      points.push_back(std::move(one));
    }
    json["series"].push_back({{"name", series.name}, {"points", std::move(points)}});
  }
  for (const PageLine& line : chart.lines) {
    json["lines"].push_back(
        {{"axis", line.upright ? "x" : "y"}, {"at", line.at}, {"label", line.label}});
  }
  if (chart.chosen) {
    json["chosen"] = {{"x", on(across, chart.chosen->first)}, {"y", on(up, chart.chosen->second)}};
  }
  return json;
}

std::string table_html(const PageTable& table) {
  std::string html = fmt::format("<section><h2>{}</h2><div class=\"wide\"><table class=\"sorts\">",
                                 shown(table.title));
  html += "<thead><tr>";
  for (const auto& [head, number] : table.heads) {
    html += fmt::format("<th{}>{}</th>", number ? " class=\"number\"" : "", shown(head));
  }
  html += "</tr></thead>\n<tbody>\n";
  for (std::size_t r = 0; r < table.rows.size(); ++r) {
    const PageRow& row = table.rows[r];
    html += fmt::format("<tr data-row=\"{}\"", r);
    if (row.picture) html += fmt::format(" data-picture=\"{}\"", *row.picture);
    if (row.chosen) html += " class=\"chosen\"";
    html += ">";
    for (std::size_t c = 0; c < row.cells.size(); ++c) {
      const PageCell& cell = row.cells[c];
      constexpr std::size_t long_text = 40;
      html += "<td";
      if (table.heads[c].second) {
        html += " class=\"number\"";
      } else if (cell.text.size() > long_text) {
        html += " class=\"text\"";
      }
      if (cell.number && std::isfinite(*cell.number)) {
        html += fmt::format(" data-number=\"{}\"", *cell.number);
      }
      if (cell.bar > 0) {
        html += fmt::format(" style=\"--share:{:.1f}%\"", 100 * std::min(cell.bar, 1.0));
      }
      html += ">" + shown(cell.text) + "</td>";
    }
    html += "</tr>\n";
  }
  html += "</tbody></table></div>";
  if (!table.note.empty()) html += "<p class=\"note\">" + shown(table.note) + "</p>";
  return html + "</section>\n";
}

std::string image(const PagePicture& one, int widest) {
  return fmt::format("<img alt=\"{}\" src=\"data:image/png;base64,{}\">", shown(one.name),
                     base64(png_bytes(narrower(one.picture, widest))));
}

/// The parts of a page, one after the other; what scripts need of them goes to `data`.
class Writer {
 public:
  Writer(const Page& page, Json& data) : page_(page), data_(data) {}

  std::string operator()(const PageChart& chart) {
    const std::size_t number = data_["charts"].size();
    data_["charts"].push_back(chart_json(chart));
    return fmt::format(
        "<section><h2>{0}</h2><div class=\"chart\"><canvas id=\"chart-{1}\" role=\"img\" "
        "aria-label=\"{0}\"></canvas></div><p class=\"note\">{2}</p></section>\n",
        shown(chart.title), number, shown(chart.note));
  }
  std::string operator()(const PageTable& table) { return table_html(table); }
  std::string operator()(const PageFigures& figures) {
    std::string html =
        fmt::format("<section><h2>{}</h2><div class=\"figures\">", shown(figures.title));
    const int widest = figures.pictures.size() > 1 ? 800 : 1280;
    for (const PagePicture& one : figures.pictures) {
      html += fmt::format("<figure>{}<figcaption>{}</figcaption></figure>", image(one, widest),
                          shown(one.name));
    }
    return html + "</div></section>\n";
  }
  std::string operator()(const PageComparison& comparison) {
    if (page_.pictures.size() < 2) return "";
    data_["compare"] = {comparison.left, comparison.right};
    return "<section><h2>Pictures</h2><div id=\"compare\"></div></section>\n";
  }

 private:
  const Page& page_;
  Json& data_;
};

}  // namespace

std::string page_html(const Page& page) {
  Json data{{"charts", Json::array()}, {"pictures", Json::array()}, {"compare", Json::array()}};
  for (const PagePicture& one : page.pictures) {
    data["pictures"].push_back(
        {{"name", one_line(one.name)},
         {"png", base64(png_bytes(narrower(one.picture, widest_of(page.pictures.size()))))}});
  }
  std::string html = fmt::format(
      "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">\n"
      "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
      "<title>{}</title>\n<style>{}</style>\n<style>{}</style>\n</head>\n"
      "<body><main class=\"container\">\n<h1 class=\"mt-3\">{}</h1>\n",
      shown(page.title), within_element(bootstrap_css), within_element(page_css),
      shown(page.title));
  if (!page.lead.empty()) html += fmt::format("<p class=\"lead\">{}</p>\n", shown(page.lead));
  if (!page.facts.empty()) {
    html += "<details><summary>How this was made</summary><dl>";
    for (const auto& [name, text] : page.facts) {
      html += fmt::format("<dt>{}</dt><dd>{}</dd>", shown(name), shown(text));
    }
    html += "</dl></details>\n";
  }
  html +=
      "<noscript><p class=\"note\">Charts and pictures need scripts, which are all in this "
      "file.</p></noscript>\n";
  Writer writer(page, data);
  for (const auto& part : page.parts) html += std::visit(writer, part);
  html += fmt::format(
      "</main>\n<script type=\"application/json\" id=\"data\">{}</script>\n<script>{}</script>\n"
      "<script>{}</script>\n</body></html>\n",
      within_page(data), within_element(chart_js), within_element(page_js));
  return html;
}

}  // namespace photonlane::io
