#include "io/room_plan.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/color.hpp"
#include "photonlane/light/texture.hpp"
#include "room/portal_faces.hpp"

namespace photonlane::io {
namespace {

using Rgb = std::array<std::uint8_t, 3>;

constexpr Rgb ground{17, 20, 23};  // outside the map
constexpr Rgb floor_color{38, 44, 46};

PlanScale fit(const Vec2d& low, const Vec2d& extent, Size size) {
  const double wide = extent.x();
  const double high = extent.y();
  const double margin = 0.02 * std::min(size.width, size.height);
  const double scale =
      std::min((size.width - 2 * margin) / wide, (size.height - 2 * margin) / high);
  return {scale, (size.width - wide * scale) / 2, (size.height - high * scale) / 2, high, low};
}

Color linear(const Rgb& bytes) {
  return {from_display(bytes[0] / 255.0f), from_display(bytes[1] / 255.0f),
          from_display(bytes[2] / 255.0f)};
}

/// The cells, each pixel the mean of up to 4x4 places in it, so that maps with more cells than
/// pixels do not shimmer. Low blocks and floors of their own are darker than walls.
Picture paint_cells(const Scene& scene, const CellMap& map, const PlanScale& frame, Size size) {
  const std::vector<Color> colors = mean_colors(scene);
  const Color outside = linear(ground);
  const Color empty = linear(floor_color);
  const auto mixed = [](const Color& a, const Color& b, float share) -> Color {
    return a + (b - a) * share;
  };
  const auto color_at = [&](double px, double py) -> Color {
    const double x = (px - frame.left) / frame.scale / map.cell_size;
    const double y = (frame.height - (py - frame.top) / frame.scale) / map.cell_size;
    const double cell_x = std::floor(x);
    const double cell_y = std::floor(y);
    if (cell_x < 0 || cell_y < 0 || cell_x >= map.width || cell_y >= map.height) return outside;
    const int column = static_cast<int>(cell_x);
    const int row = static_cast<int>(cell_y);
    const Cell cell = map.at(column, row);
    const CellForm* form = map.form(column, row);
    if (form == nullptr) return cell == empty_cell ? empty : colors[material_of(cell)];
    const Color floor = form->floor < 0 ? empty : mixed(empty, colors[form->floor], 0.25f);
    if (cell == empty_cell || !stands_at(*form, map.cell_size, x - cell_x, y - cell_y)) {
      return floor;
    }
    if (form->height == 0) return colors[material_of(cell)];
    const Color& top = form->top < 0 ? colors[material_of(cell)] : colors[form->top];
    return mixed(floor, top, 0.5f);
  };
  Picture picture(size);
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      Color sum(0, 0, 0);
      for (int i = 0; i < 16; ++i) {
        sum += color_at(x + (i % 4 + 0.5) / 4, y + (std::floor(i / 4.0) + 0.5) / 4);
      }
      for (int channel = 0; channel < 3; ++channel) {
        picture.pixel(x, y)[channel] =
            static_cast<std::uint8_t>(std::lround(255 * to_display(sum[channel] / 16)));
      }
    }
  }
  return picture;
}

/// Asks the parts of a room that know distances about places: tell(i, value,
/// material) for each place and solid.
template <class Tell>
void ask_solids(const CompiledRoom& room, const std::vector<Vec3d>& places, const Tell& tell) {
  const std::size_t count = places.size();
  std::vector<double> x(count), y(count), z(count), value(count);
  std::vector<std::uint32_t> material(count);
  for (std::size_t i = 0; i < count; ++i) {
    x[i] = places[i].x();
    y[i] = places[i].y();
    z[i] = places[i].z();
  }
  for (const std::shared_ptr<const Solid>& solid : room.parts()) {
    if (!solid->knows_distances()) continue;
    solid->measure({.count = count,
                    .x = x.data(),
                    .y = y.data(),
                    .z = z.data(),
                    .value = value.data(),
                    .material = material.data()});
    for (std::size_t i = 0; i < count; ++i) tell(i, value[i], material[i]);
  }
}

std::vector<Vec3d> row_places(const PlanScale& frame, int y, double height, int width) {
  std::vector<Vec3d> places;
  for (int x = 0; x < width; ++x) {
    const Vec2d place = frame.place(x + 0.5, y + 0.5);
    places.emplace_back(place.x(), place.y(), height);
  }
  return places;
}

/// Lays a level cut through solids that are neither cells nor fields over the plan of a map.
void lay_solids(const CompiledRoom& room, const std::vector<Color>& colors, const PlanScale& frame,
                double height, Picture& picture) {
  for (int y = 0; y < picture.size.height; ++y) {
    ask_solids(
        room, row_places(frame, y, height, picture.size.width),
        [&](std::size_t i, double value, std::uint32_t material) {
          const auto inside = static_cast<float>(std::clamp(0.5 - value * frame.scale, 0.0, 1.0));
          if (inside == 0) return;
          const Color held = material < colors.size() ? colors[material] : Color(0.6f, 0.6f, 0.6f);
          std::uint8_t* pixel = picture.pixel(static_cast<int>(i), y);
          for (int channel = 0; channel < 3; ++channel) {
            const float under = from_display(static_cast<float>(pixel[channel]) / 255);
            pixel[channel] = static_cast<std::uint8_t>(
                std::lround(255 * to_display(under + (held[channel] - under) * inside)));
          }
        });
  }
}

/// A level cut through what knows distances, what it holds in the colors of its materials, and
/// around it a line every half meter away.
Picture paint_fields(const Scene& scene, const CompiledRoom& room, const PlanScale& frame,
                     double height, Size size) {
  const CompiledField& field = *room.near_field;
  const std::vector<Color> colors = mean_colors(scene);
  constexpr double between = 0.5;
  Picture picture(size);
  const Color empty = linear(floor_color);
  const Color line = linear({64, 74, 78});
  for (int y = 0; y < size.height; ++y) {
    const std::vector<Vec3d> places = row_places(frame, y, height, size.width);
    const std::vector<FieldSlope> slopes = field.slopes(places);
    std::vector<SurfaceMaterial> made = field.materials(places);
    // The field knows nothing of what other solids are made of.
    ask_solids(room, places, [&](std::size_t i, double value, std::uint32_t material) {
      if (value <= slopes[i].value) made[i].material = static_cast<int>(material);
    });
    for (int x = 0; x < size.width; ++x) {
      const auto& [value, gradient] = slopes[static_cast<std::size_t>(x)];
      const int material = made[static_cast<std::size_t>(x)].material;
      // Shares of a pixel: of what is held, of a line.
      const auto inside = static_cast<float>(std::clamp(0.5 - value * frame.scale, 0.0, 1.0));
      const double from_line = std::abs(value / between - std::round(value / between)) * between;
      // Where the nearest is the ground there is no line.
      const double beside = std::hypot(gradient.x(), gradient.y());
      const auto on_line =
          static_cast<float>(value > 0.25 * between && beside > 0.3
                                 ? std::clamp(1 - from_line * frame.scale / beside, 0.0, 1.0)
                                 : 0.0);
      const Color held = material >= 0 && material < std::ssize(colors)
                             ? colors[static_cast<std::size_t>(material)]
                             : Color(0.6f, 0.6f, 0.6f);
      const Color around = empty + (line - empty) * on_line;
      const Color color = around + (held - around) * inside;
      for (int channel = 0; channel < 3; ++channel) {
        picture.pixel(x, y)[channel] =
            static_cast<std::uint8_t>(std::lround(255 * to_display(color[channel])));
      }
    }
  }
  return picture;
}

}  // namespace

PlanScale fit_room(const Room& room, const CompiledRoom& compiled, const PlanPlaces& places,
                   Size size) {
  if (room.cells) {
    const CellMap& map = *room.cells;
    return fit({0, 0}, {map.width * map.cell_size, map.height * map.cell_size}, size);
  }
  const double infinite = std::numeric_limits<double>::infinity();
  Vec2d low(infinite, infinite);
  Vec2d high = -low;
  const auto hold = [&](double x, double y) {
    low = low.cwiseMin(Vec2d(x, y));
    high = high.cwiseMax(Vec2d(x, y));
  };
  const auto hold_bounds = [&](const Bounds& bounds) {
    if (!bounds.finite()) return;
    hold(bounds.low.x(), bounds.low.y());
    hold(bounds.high.x(), bounds.high.y());
  };
  for (const Vec2d& place : places) hold(place.x(), place.y());
  for (const Field& field : room.fields) {
    hold_bounds(field.bounds());
  }
  for (const std::shared_ptr<const Solid>& solid : compiled.parts()) hold_bounds(solid->bounds());
  if (compiled.portals) {
    for (const PortalFace& face : compiled.portals->faces()) {
      const double reach = std::max(face.radius, std::hypot(face.half_width, face.half_height));
      hold(face.middle.x() - reach, face.middle.y() - reach);
      hold(face.middle.x() + reach, face.middle.y() + reach);
    }
  }
  if (!(low.x() <= high.x())) hold(0, 0);
  const Vec2d margin = Vec2d::Constant(std::max(0.5, 0.05 * (high - low).maxCoeff()));
  return fit(low - margin, high - low + 2 * margin, size);
}

Picture paint_room(const Scene& scene, std::size_t room, const World& world, const PlanScale& frame,
                   double height, Size size) {
  const Room& plain = scene.rooms[room];
  const CompiledRoom& compiled = world.rooms()[room];
  if (plain.cells) {
    Picture picture = paint_cells(scene, *plain.cells, frame, size);
    if (!compiled.only_cells()) lay_solids(compiled, mean_colors(scene), frame, height, picture);
    return picture;
  }
  if (compiled.near_field) return paint_fields(scene, compiled, frame, height, size);
  Picture empty(size);
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      std::copy(floor_color.begin(), floor_color.end(), empty.pixel(x, y));
    }
  }
  return empty;
}

/// What a material looks like from far away: its base times the mean of its texture.
std::vector<Color> mean_colors(const Scene& scene) {
  std::array<float, 256> linear{};
  for (int i = 0; i < 256; ++i) linear[i] = from_display(static_cast<float>(i) / 255);
  std::vector<Color> means;
  for (const Texture& texture : scene.textures) {
    Eigen::Array3d sum(0, 0, 0);
    double weight = 1e-9;
    for (const std::uint32_t texel : texture.texels) {
      const double alpha = (texel >> 24) / 255.0;
      sum += alpha * Eigen::Array3d(linear[texel & 255], linear[texel >> 8 & 255],
                                    linear[texel >> 16 & 255]);
      weight += alpha;
    }
    means.push_back((sum / weight).cast<float>());
  }
  std::vector<Color> colors;
  for (const Material& material : scene.materials) {
    const Color mean = material.texture < 0 ? Color(1, 1, 1) : means[material.texture];
    colors.push_back(material.base * mean);
  }
  return colors;
}

Color linear(const Rgb& bytes) {
  return {from_display(bytes[0] / 255.0f), from_display(bytes[1] / 255.0f),
          from_display(bytes[2] / 255.0f)};
}

}  // namespace photonlane::io
