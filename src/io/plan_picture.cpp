#include "photonlane/io/plan_picture.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "io/cairo_canvas.hpp"
#include "io/files.hpp"
#include "io/map_marks.hpp"
#include "io/room_plan.hpp"
#include "photonlane/base/color.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/io/layer_picture.hpp"
#include "room/portal_faces.hpp"

namespace photonlane::io {
namespace {

using Rgb = std::array<std::uint8_t, 3>;

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

/// The part of a plan that shows one room; those that are not shown have no part.
struct Panel {
  std::size_t room;
  bool shown;
  PlanScale frame;
  double left, top;  ///< of the room's picture
  Size size;
};

/// Where panels of the rooms that are shown lie: side by side, in as many rows as make them
/// largest.
std::vector<Panel> lay_out(const std::vector<bool>& shown, Size size) {
  const auto rooms = static_cast<std::size_t>(std::count(shown.begin(), shown.end(), true));
  std::size_t across = 1;
  double best = 0;
  for (std::size_t columns = 1; columns <= rooms; ++columns) {
    const std::size_t rows = (rooms + columns - 1) / columns;
    const double least = std::min(size.width / static_cast<double>(columns),
                                  size.height / static_cast<double>(rows));
    if (least <= best) continue;
    best = least;
    across = columns;
  }
  const std::size_t rows = (rooms + across - 1) / across;
  const bool titles = rooms > 1;
  const int cell_width = std::max(1, size.width / static_cast<int>(across));
  const int cell_height = std::max(1, size.height / static_cast<int>(rows));
  const int gap = titles ? std::min({10, cell_width / 4, cell_height / 4}) : 0;
  const int title = titles ? std::min(22, cell_height / 4) : 0;
  const int width = cell_width - gap;
  const int height = cell_height - gap - title;

  std::vector<Panel> panels;
  std::size_t at = 0;
  for (std::size_t r = 0; r < shown.size(); ++r) {
    Panel& panel = panels.emplace_back();
    panel.room = r;
    panel.shown = shown[r];
    if (!shown[r]) continue;
    panel.left = static_cast<double>(at % across) * cell_width + gap / 2;
    panel.top = static_cast<double>(at / across) * cell_height + title + gap / 2;
    panel.size = {width, height};
    ++at;
  }
  return panels;
}

/// Keeps what is drawn within a panel, for as long as it lives.
class Within {
 public:
  Within(const Canvas& canvas, const Panel& panel) : context_(canvas.context()) {
    cairo_save(context_);
    cairo_rectangle(context_, panel.left, panel.top, panel.size.width, panel.size.height);
    cairo_clip(context_);
  }
  ~Within() { cairo_restore(context_); }
  Within(const Within&) = delete;
  Within& operator=(const Within&) = delete;

 private:
  cairo_t* context_;
};

void draw_sprites(const Canvas& canvas, const PlanScale& frame, const Scene& scene,
                  std::size_t room) {
  const std::vector<Color> colors = mean_colors(scene);
  for (const Sprite& sprite : scene.rooms[room].sprites) {
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

/// A portal and its way back have one color.
Rgb portal_color(const World& world, std::uint32_t portal) {
  const std::uint32_t pair = world.portals()[portal].returns ? portal - 1 : portal;
  const RandomKey key{.seed = 5, .pixel = pair, .sample = 0, .bounce = 0};
  const Color color = color_from_lightness(0.72f, 0.13f, 360 * random_uniform(key, 0));
  Rgb bytes{};
  for (int i = 0; i < 3; ++i) {
    bytes[static_cast<std::size_t>(i)] =
        static_cast<std::uint8_t>(std::lround(255 * to_display(color[i])));
  }
  return bytes;
}

constexpr Rgb swell_color{150, 170, 190};

/// The outline of a face from above, and a short stroke to its front.
void draw_face(const Canvas& canvas, const PlanScale& frame, const World& world,
               const PortalFace& face) {
  cairo_t* context = canvas.context();
  const auto to = [&](const Vec3d& place) {
    cairo_line_to(context, frame.x(place.x()), frame.y(place.y()));
  };
  canvas.set_color(face.swell >= 0 ? swell_color : portal_color(world, face.portal));
  cairo_set_line_width(context, face.swell >= 0 ? 1.5 : 3);
  if (face.shape == OpeningShape::sphere) {
    cairo_arc(context, frame.x(face.middle.x()), frame.y(face.middle.y()),
              face.radius * frame.scale, 0, 2 * pi);
    cairo_stroke(context);
    return;
  }
  cairo_new_path(context);
  std::vector<Vec2d> corners = face.corners;
  if (face.shape == OpeningShape::rectangle) {
    corners = {{-face.half_width, -face.half_height},
               {face.half_width, -face.half_height},
               {face.half_width, face.half_height},
               {-face.half_width, face.half_height}};
  }
  for (int k = 0; face.shape == OpeningShape::disc && k < 48; ++k) {
    corners.emplace_back(face.radius * std::cos(2 * pi * k / 48),
                         face.radius * std::sin(2 * pi * k / 48));
  }
  for (const Vec2d& corner : corners) {
    to(face.middle + corner.x() * face.across + corner.y() * face.up);
  }
  cairo_close_path(context);
  cairo_stroke(context);
  to(face.middle);
  to(face.middle + 8 / frame.scale * face.normal);
  cairo_set_line_width(context, 1.5);
  cairo_stroke(context);
}

void draw_portals(const Canvas& canvas, const Panel& panel, const World& world) {
  const CompiledRoom& room = world.rooms()[panel.room];
  if (!room.portals || !panel.shown) return;
  const Within within(canvas, panel);
  canvas.set_font(11);
  std::set<std::uint32_t> named;
  for (const PortalFace& face : room.portals->faces()) {
    draw_face(canvas, panel.frame, world, face);
    if (face.swell >= 0) continue;
    const std::string& name = world.portals()[face.portal].name;
    if (name.empty() || !named.insert(face.portal).second) continue;
    // Beside the opening, on the side it is gone into from, within the panel.
    const double width = canvas.text_width(name);
    if (width > panel.size.width) continue;
    const double x = panel.frame.x(face.middle.x()) + (12 + 0.5 * width) * face.normal.x();
    const double y = panel.frame.y(face.middle.y()) - 16 * face.normal.y();
    canvas.set_color(portal_color(world, face.portal));
    canvas.text(std::clamp(x - 0.5 * width, panel.left, panel.left + panel.size.width - width),
                std::clamp(y + 4, panel.top + 11, panel.top + panel.size.height - 3), name);
  }
}

/// A line of a round number of meters, at the panel's lower left.
void draw_scale(const Canvas& canvas, const Panel& panel) {
  constexpr double least_width = 120;
  if (!panel.shown || panel.size.width < least_width || panel.size.height < 60) return;
  const double most = panel.size.width / (4 * panel.frame.scale);
  const double power = std::pow(10, std::floor(std::log10(most)));
  const double meters = power * (most >= 5 * power ? 5 : most >= 2 * power ? 2 : 1);
  const double length = meters * panel.frame.scale;
  const double left = panel.left + 10;
  const double bottom = panel.top + panel.size.height - 10;
  canvas.set_font(11);
  const std::string label = fmt::format("{:.6g} m", meters);
  canvas.set_color({17, 20, 23}, 0.6);
  canvas.rectangle(left - 6, bottom - 9, length + canvas.text_width(label) + 18, 15);
  canvas.set_color({226, 226, 220});
  canvas.rectangle(left, bottom - 2, length, 2);
  canvas.rectangle(left, bottom - 6, 1, 6);
  canvas.rectangle(left + length - 1, bottom - 6, 1, 6);
  canvas.text(left + length + 6, bottom + 1, label);
}

/// From every portal to where it comes out.
void draw_links(const Canvas& canvas, const std::vector<Panel>& panels, const World& world) {
  cairo_t* context = canvas.context();
  std::vector<bool> done(world.portals().size());
  for (const Panel& panel : panels) {
    const CompiledRoom& room = world.rooms()[panel.room];
    if (!room.portals || !panel.shown) continue;
    for (const PortalFace& face : room.portals->faces()) {
      if (face.swell >= 0 || world.portals()[face.portal].returns || done[face.portal]) continue;
      done[face.portal] = true;
      if (!panels[face.room].shown) continue;
      const Panel& other = panels[face.room];
      const Vec3d there = face.beyond(face.middle);
      const double x = panel.frame.x(face.middle.x());
      const double y = panel.frame.y(face.middle.y());
      const double to_x = other.frame.x(there.x());
      const double to_y = other.frame.y(there.y());
      const double bow_x = 0.15 * (to_y - y);
      const double bow_y = -0.15 * (to_x - x);
      canvas.set_color(portal_color(world, face.portal), 0.75);
      cairo_set_line_width(context, 1.5);
      cairo_move_to(context, x, y);
      cairo_curve_to(context, x + (to_x - x) / 3 + bow_x, y + (to_y - y) / 3 + bow_y,
                     x + 2 * (to_x - x) / 3 + bow_x, y + 2 * (to_y - y) / 3 + bow_y, to_x, to_y);
      cairo_stroke(context);
      cairo_arc(context, to_x, to_y, 3, 0, 2 * pi);
      cairo_fill(context);
    }
  }
}

/// A leg in its room's panel.
void draw_leg(const Canvas& canvas, const std::vector<Panel>& panels, const LaneLeg& leg,
              const Rgb& color, double width, double opacity, double far_limit) {
  const Panel& panel = panels[leg.room];
  if (!panel.shown) return;
  const Within within(canvas, panel);
  const bool open = leg.meetings.empty() || leg.meetings.back().ending == Ending::escaped;
  // No farther than the picture: cairo's coordinates are limited.
  const double past = 2 * (panel.size.width + panel.size.height) / panel.frame.scale;
  const Vec3d end = leg.place + std::min(open ? far_limit : leg.length, past) * leg.way;
  canvas.set_color(color, opacity);
  cairo_set_line_width(canvas.context(), width);
  cairo_move_to(canvas.context(), panel.frame.x(leg.place.x()), panel.frame.y(leg.place.y()));
  cairo_line_to(canvas.context(), panel.frame.x(end.x()), panel.frame.y(end.y()));
  cairo_stroke(canvas.context());
}

/// Level rays of the frame, through portals, each as far as it got.
void draw_rays(const Canvas& canvas, const std::vector<Panel>& panels, const World& world,
               Camera camera, Budget budget, int rays) {
  const Size size = budget.frame.size();
  const Viewing whole = viewing(camera, size);
  const CompiledRoom& room = world.rooms()[world.room_index(camera.room)];
  camera.pitch = camera.roll = 0;
  if (room.has_cells) camera.eye.z() = std::min(camera.eye.z(), 0.5 * room.ceiling_height);
  // The same field of view across, whatever the height.
  const bool planar = camera.projection == Projection::planar;
  camera.field_axis = FieldAxis::horizontal;
  const double half = 0.5 * size.width / whole.focal;
  camera.field_of_view = 2 * (planar ? std::atan(half) : half);
  budget.frame = {rays, 1, 1};
  budget.bounces.limit = 0;
  budget.passes.limit = 0;
  for (int i = 0; i < rays; ++i) {
    const LaneLog log = log_lane(world, camera, budget, i, 0);
    for (const LaneLeg& leg : log.legs) {
      draw_leg(canvas, panels, leg, ray_color(log.ending), 1, 0.55, budget.far_limit);
    }
  }
}

void draw_lane(const Canvas& canvas, const std::vector<Panel>& panels, const LaneLog& log,
               double far_limit) {
  for (const LaneLeg& leg : log.legs) {
    if (leg.layers) continue;
    draw_leg(canvas, panels, leg, path_color, 2, 0.95, far_limit);
    if (leg.meetings.empty()) continue;
    const LaneMeeting& met = leg.meetings.back();
    if (met.ending == Ending::escaped || met.swell) continue;
    const Panel& panel = panels[leg.room];
    if (!panel.shown) continue;
    const Within within(canvas, panel);
    canvas.set_color(ray_color(met.ending));
    cairo_arc(canvas.context(), panel.frame.x(met.place.x()), panel.frame.y(met.place.y()), 4, 0,
              2 * pi);
    cairo_fill(canvas.context());
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

void draw_path(const Canvas& canvas, const std::vector<Panel>& panels,
               const std::vector<PlanStep>& path) {
  canvas.set_color(path_color, 0.9);
  cairo_set_line_width(canvas.context(), 2.5);
  for (std::size_t first = 0; first < path.size();) {
    const Panel& panel = panels[path[first].room];
    const Within within(canvas, panel);
    std::size_t i = first;
    // A way ends where it goes on in another room, or elsewhere in this one.
    while (i < path.size() && path[i].room == path[first].room && (i == first || !path[i].anew)) {
      cairo_line_to(canvas.context(), panel.frame.x(path[i].place.x()),
                    panel.frame.y(path[i].place.y()));
      ++i;
    }
    cairo_stroke(canvas.context());
    first = i;
  }
}

/// A lane's plan has the rooms on its way, any other all.
std::vector<bool> shown_rooms(std::size_t rooms, std::size_t eye_room, const PlanOptions& options) {
  std::vector<bool> shown(rooms, options.lane == nullptr);
  shown[eye_room] = true;
  if (options.lane != nullptr) {
    for (const LaneLeg& leg : options.lane->legs) shown[leg.room] = true;
  }
  for (const PlanStep& step : options.path) shown[step.room] = true;
  return shown;
}

void draw_titles(const Canvas& canvas, const std::vector<Panel>& panels, const World& world) {
  if (panels.size() == 1) return;
  canvas.set_font(14);
  canvas.set_color({226, 226, 220});
  for (const Panel& panel : panels) {
    if (!panel.shown) continue;
    canvas.text(panel.left + 2, panel.top - 7, world.rooms()[panel.room].name);
  }
}

}  // namespace

Picture plan_picture(const Scene& scene, const World& given, const Camera& camera,
                     const Budget& budget, Size size, const PlanOptions& options) {
  const World world = seen_by(given, camera, budget.voxels.wait);
  const std::size_t eye_room = world.room_index(camera.room);
  std::vector<Panel> panels = lay_out(shown_rooms(scene.rooms.size(), eye_room, options), size);
  Picture whole(size);
  const double cut = std::min(camera.eye.z(), 1.0);
  bool level_cut = false;
  for (Panel& panel : panels) {
    if (!panel.shown) continue;
    const Room& room = scene.rooms[panel.room];
    PlanPlaces places;
    if (panel.room == eye_room) places.emplace_back(camera.eye.x(), camera.eye.y());
    for (const PlanStep& step : options.path) {
      if (step.room == panel.room) places.push_back(step.place);
    }
    panel.frame = fit_room(room, world.rooms()[panel.room], places, panel.size);
    level_cut = level_cut || !room.cells;
    const Picture one = paint_room(scene, panel.room, world, panel.frame, cut, panel.size);
    // A picture of fewer pixels than rooms shows some of them.
    if (panel.left + panel.size.width > size.width || panel.top + panel.size.height > size.height) {
      continue;
    }
    for (int y = 0; y < panel.size.height; ++y) {
      std::copy_n(one.pixel(0, y), 3 * panel.size.width,
                  whole.pixel(static_cast<int>(panel.left), y + static_cast<int>(panel.top)));
    }
    panel.frame.left += panel.left;
    panel.frame.top += panel.top;
  }
  const Canvas canvas(whole);
  for (const Panel& panel : panels) {
    if (!panel.shown) continue;
    const Within within(canvas, panel);
    draw_sprites(canvas, panel.frame, scene, panel.room);
    if (const std::optional<CellMap>& map = scene.rooms[panel.room].cells) {
      if (map->start) draw_mark(canvas, panel.frame, *map, *map->start, start_color);
      if (map->goal) draw_mark(canvas, panel.frame, *map, *map->goal, goal_color);
    }
  }
  if (options.rays > 0) draw_rays(canvas, panels, world, camera, budget, options.rays);
  for (const Panel& panel : panels) draw_portals(canvas, panel, world);
  draw_links(canvas, panels, world);
  draw_path(canvas, panels, options.path);
  if (options.lane != nullptr) draw_lane(canvas, panels, *options.lane, budget.far_limit);
  draw_eye(canvas, panels[eye_room].frame, camera, budget.frame.size());
  draw_titles(canvas, panels, world);
  for (const Panel& panel : panels) draw_scale(canvas, panel);
  const Picture picture = canvas.picture();
  if (!options.legend) return picture;
  Legend legend;
  legend.has_ramp = false;
  legend.title = scene.rooms.size() > 1 ? "rooms, north on top" : "plan, north on top";
  if (level_cut) legend.title += fmt::format(", cut at {:.2g} m, lines 0.5 m apart", cut);
  if (options.rays > 0) legend.title += "; rays by what they met";
  legend.swatches.push_back({eye_color, "eye"});
  if (options.rays > 0) {
    for (const Ending ending : {Ending::hit, Ending::escaped, Ending::spent}) {
      legend.swatches.push_back({ray_color(ending), std::string(name_of(ending))});
    }
  }
  if (options.lane != nullptr) legend.swatches.push_back({path_color, "lane"});
  if (!options.path.empty()) legend.swatches.push_back({path_color, "way"});
  for (const Room& room : scene.rooms) {
    if (!room.cells) continue;
    if (room.cells->start) legend.swatches.push_back({start_color, "start"});
    if (room.cells->goal) legend.swatches.push_back({goal_color, "goal"});
  }
  return with_legend(picture, legend);
}

void write_plan(const std::string& path, const SceneFile& file, const PlanOptions& options) {
  if (file.scene.plane) throw Error(ErrorKind::usage, "a plane has no plan of rooms");
  if (!ends_with(path, ".png")) {
    throw Error(ErrorKind::usage, "expected a name that ends in .png for a plan", Place{path});
  }
  write_png(path, plan_picture(file.scene, compile(file.scene), file.camera, file.budget,
                               file.budget.frame.size(), options));
}

}  // namespace photonlane::io
