#include "photonlane/io/plan_picture.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "io/cairo_canvas.hpp"
#include "io/files.hpp"
#include "io/map_marks.hpp"
#include "photonlane/io/layer_picture.hpp"

namespace photonlane::io {
namespace {

using Rgb = std::array<std::uint8_t, 3>;

constexpr Rgb ground{17, 20, 23};  // outside the map
constexpr Rgb floor_color{38, 44, 46};
constexpr Rgb eye_color{255, 240, 214};
constexpr Rgb path_color{255, 196, 120};

Rgb ray_color(Ending ending) {
  switch (ending) {
    case Ending::hit:
      return {236, 205, 140};
    case Ending::escaped:
      return {120, 190, 225};
    case Ending::spent:
      return {184, 60, 240};
    case Ending::crossed:
      return {150, 200, 150};
  }
  return {};
}

/// From meters to pixels of the plan, north up.
struct PlanScale {
  double scale, left, top, height;
  Vec2d corner{0, 0};  ///< the south-western one
  double x(double meters) const { return left + (meters - corner.x()) * scale; }
  double y(double meters) const { return top + (height - (meters - corner.y())) * scale; }
  Vec2d place(double x, double y) const {
    return corner + Vec2d((x - left) / scale, height - (y - top) / scale);
  }
};

PlanScale fit(const Vec2d& low, const Vec2d& extent, Size size) {
  const double wide = extent.x();
  const double high = extent.y();
  const double margin = 0.02 * std::min(size.width, size.height);
  const double scale =
      std::min((size.width - 2 * margin) / wide, (size.height - 2 * margin) / high);
  return {scale, (size.width - wide * scale) / 2, (size.height - high * scale) / 2, high, low};
}

/// What a plan shows of a room of fields: those that end, the eye, the way.
PlanScale fit_fields(const Scene& scene, const Camera& camera, const std::vector<Vec2d>& path,
                     Size size) {
  Vec2d low(camera.eye.x(), camera.eye.y());
  Vec2d high = low;
  const auto hold = [&](double x, double y) {
    low = low.cwiseMin(Vec2d(x, y));
    high = high.cwiseMax(Vec2d(x, y));
  };
  for (const Vec2d& place : path) hold(place.x(), place.y());
  for (const Field& field : scene.room().fields) {
    const Bounds& bounds = field.bounds();
    if (!bounds.finite()) continue;
    hold(bounds.low.x(), bounds.low.y());
    hold(bounds.high.x(), bounds.high.y());
  }
  const Vec2d margin = Vec2d::Constant(std::max(0.5, 0.05 * (high - low).maxCoeff()));
  return fit(low - margin, high - low + 2 * margin, size);
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

/// The cells, each pixel the mean of up to 4x4 places in it, so that maps with more cells than
/// pixels do not shimmer. Low blocks and floors of their own are darker than walls.
Picture paint_cells(const Scene& scene, const PlanScale& frame, Size size) {
  const CellMap& map = scene.room().cell_map();
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

/// A level cut through fields, what they hold in the colors of their materials, and around them a
/// line every half meter away.
Picture paint_fields(const Scene& scene, const World& world, const PlanScale& frame, double height,
                     Size size) {
  const CompiledField& field = *world.room().near_field;
  const std::vector<Color> colors = mean_colors(scene);
  constexpr double between = 0.5;
  Picture picture(size);
  const Color empty = linear(floor_color);
  const Color line = linear({64, 74, 78});
  std::vector<Vec3d> places(static_cast<std::size_t>(size.width));
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      const Vec2d place = frame.place(x + 0.5, y + 0.5);
      places[static_cast<std::size_t>(x)] = {place.x(), place.y(), height};
    }
    const std::vector<FieldSlope> slopes = field.slopes(places);
    const std::vector<SurfaceMaterial> made = field.materials(places);
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
      const Color held =
          material >= 0 ? colors[static_cast<std::size_t>(material)] : Color(0.6f, 0.6f, 0.6f);
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

void draw_sprites(const Canvas& canvas, const PlanScale& frame, const Scene& scene) {
  const std::vector<Color> colors = mean_colors(scene);
  for (const Sprite& sprite : scene.room().sprites) {
    const std::uint32_t texel = pack_texel(colors[sprite.material]);
    canvas.set_color({static_cast<std::uint8_t>(texel), static_cast<std::uint8_t>(texel >> 8),
                      static_cast<std::uint8_t>(texel >> 16)},
                     0.8);
    cairo_arc(canvas.context(), frame.x(sprite.foot.x()), frame.y(sprite.foot.y()),
              std::max(2.0, 0.3 * sprite.width * frame.scale), 0, 2 * pi);
    cairo_fill(canvas.context());
  }
}

void draw_mark(const Canvas& canvas, const PlanScale& frame, const CellMap& map, CellPlace place,
               const Rgb& color) {
  const double radius = std::max(4.0, 0.36 * map.cell_size * frame.scale);
  canvas.set_color(color);
  cairo_arc(canvas.context(), frame.x((place.x + 0.5) * map.cell_size),
            frame.y((place.y + 0.5) * map.cell_size), radius, 0, 2 * pi);
  cairo_fill(canvas.context());
}

/// Level rays of the frame: a frame one pixel high looks along them.
void draw_rays(const Canvas& canvas, const PlanScale& frame, const World& world, Camera camera,
               Budget budget, int rays) {
  const Size size = budget.frame.size();
  const Viewing whole = viewing(camera, size);
  camera.pitch = camera.roll = 0;
  camera.eye.z() = std::min(camera.eye.z(), 0.5 * world.room().ceiling_height);
  // The same field of view across, whatever the height.
  const bool planar = camera.projection == Projection::planar;
  camera.field_axis = FieldAxis::horizontal;
  const double half = 0.5 * size.width / whole.focal;
  camera.field_of_view = 2 * (planar ? std::atan(half) : half);
  budget.frame = {rays, 1, 1};
  budget.rays = world.room().has_fields() ? Rays::pixels : Rays::columns;
  RenderOptions options;
  options.layers = {Layer::ray_distance, Layer::ending};
  const Frame met = render(world, camera, budget, std::move(options));
  const Viewing view = viewing(camera, budget.frame.size());
  for (int i = 0; i < rays; ++i) {
    const Viewing::Direction direction = view.direction(view.u(i + 0.5));
    const float distance = met.values(Layer::ray_distance)(i, 0);
    const auto ending = static_cast<Ending>(met.codes(Layer::ending)(i, 0));
    const double length = std::isfinite(distance) ? distance : budget.far_limit;
    canvas.set_color(ray_color(ending), 0.55);
    cairo_set_line_width(canvas.context(), 1);
    cairo_move_to(canvas.context(), frame.x(camera.eye.x()), frame.y(camera.eye.y()));
    cairo_line_to(canvas.context(), frame.x(camera.eye.x() + direction.x * length),
                  frame.y(camera.eye.y() + direction.y * length));
    cairo_stroke(canvas.context());
  }
}

void draw_eye(const Canvas& canvas, const PlanScale& frame, const Camera& camera, Size size) {
  const Viewing view = viewing(camera, size);
  const double x = frame.x(camera.eye.x());
  const double y = frame.y(camera.eye.y());
  const double half = 0.5 * size.width / view.focal;
  const double angle = std::min(pi, view.planar ? std::atan(half) : half);
  canvas.set_color(eye_color, 0.30);
  cairo_move_to(canvas.context(), x, y);
  // Screens count angles clockwise.
  cairo_arc(canvas.context(), x, y, 46, -camera.heading - angle, -camera.heading + angle);
  cairo_close_path(canvas.context());
  cairo_fill(canvas.context());
  canvas.set_color(eye_color);
  cairo_arc(canvas.context(), x, y, 5, 0, 2 * pi);
  cairo_fill(canvas.context());
}

void draw_path(const Canvas& canvas, const PlanScale& frame, const std::vector<Vec2d>& path) {
  canvas.set_color(path_color, 0.9);
  cairo_set_line_width(canvas.context(), 2.5);
  for (const Vec2d& place : path) {
    cairo_line_to(canvas.context(), frame.x(place.x()), frame.y(place.y()));
  }
  cairo_stroke(canvas.context());
}

}  // namespace

Picture plan_picture(const Scene& scene, const World& world, const Camera& camera,
                     const Budget& budget, Size size, const PlanOptions& options) {
  const bool cells = !scene.room().solids.empty();
  if (!cells && !world.room().near_field) {
    throw Error(ErrorKind::input, "a plan of a room of nothing but bodies that bend light");
  }
  static const CellMap nothing;
  const CellMap& map = cells ? scene.room().cell_map() : nothing;
  const PlanScale frame =
      cells ? fit({0, 0}, {map.width * map.cell_size, map.height * map.cell_size}, size)
            : fit_fields(scene, camera, options.path, size);
  const double cut = std::min(camera.eye.z(), 1.0);
  const Canvas canvas(cells ? paint_cells(scene, frame, size)
                            : paint_fields(scene, world, frame, cut, size));
  draw_sprites(canvas, frame, scene);
  if (map.start) draw_mark(canvas, frame, map, *map.start, start_color);
  if (map.goal) draw_mark(canvas, frame, map, *map.goal, goal_color);
  if (options.rays > 0) draw_rays(canvas, frame, world, camera, budget, options.rays);
  draw_path(canvas, frame, options.path);
  draw_eye(canvas, frame, camera, budget.frame.size());
  const Picture picture = canvas.picture();
  if (!options.legend) return picture;
  Legend legend;
  legend.has_ramp = false;
  legend.title = "plan, north on top";
  if (!cells) legend.title += fmt::format(", cut at {:.2g} m, lines 0.5 m apart", cut);
  if (options.rays > 0) legend.title += "; rays by what they met";
  legend.swatches.push_back({eye_color, "eye"});
  if (options.rays > 0) {
    for (const Ending ending : {Ending::hit, Ending::escaped, Ending::spent}) {
      legend.swatches.push_back({ray_color(ending), std::string(name_of(ending))});
    }
  }
  if (!options.path.empty()) legend.swatches.push_back({path_color, "way"});
  if (map.start) legend.swatches.push_back({start_color, "start"});
  if (map.goal) legend.swatches.push_back({goal_color, "goal"});
  return with_legend(picture, legend);
}

void write_plan(const std::string& path, const SceneFile& file, const PlanOptions& options) {
  if (!ends_with(path, ".png")) {
    throw Error(ErrorKind::usage, "expected a name that ends in .png for a plan", Place{path});
  }
  write_png(path, plan_picture(file.scene, compile(file.scene), file.camera, file.budget,
                               file.budget.frame.size(), options));
}

}  // namespace photonlane::io
