#include "photonlane/io/plan_picture.hpp"

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
  }
  return {};
}

/// From meters to pixels of the plan, north up.
struct PlanScale {
  double scale, left, top, height;
  double x(double meters) const { return left + meters * scale; }
  double y(double meters) const { return top + (height - meters) * scale; }
};

PlanScale fit(const CellMap& map, Size size) {
  const double wide = map.width * map.cell_size;
  const double high = map.height * map.cell_size;
  const double margin = 0.02 * std::min(size.width, size.height);
  const double scale =
      std::min((size.width - 2 * margin) / wide, (size.height - 2 * margin) / high);
  return {scale, (size.width - wide * scale) / 2, (size.height - high * scale) / 2, high};
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

/// The cells, each pixel the mean of up to 4x4 places in it, so that maps with more cells than
/// pixels do not shimmer. Low blocks and floors of their own are darker than walls.
Picture paint_cells(const Scene& scene, const PlanScale& frame, Size size) {
  const CellMap& map = scene.room().cell_map();
  const std::vector<Color> colors = mean_colors(scene);
  const auto linear = [](const Rgb& bytes) {
    return Color(from_display(bytes[0] / 255.0f), from_display(bytes[1] / 255.0f),
                 from_display(bytes[2] / 255.0f));
  };
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
  budget.rays = Rays::columns;
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
  const CellMap& map = scene.room().cell_map();
  const PlanScale frame = fit(map, size);
  const Canvas canvas(paint_cells(scene, frame, size));
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
