#include "photonlane/measure/check.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "measure/check_portals.hpp"
#include "photonlane/field/stretch.hpp"
#include "photonlane/frame/render.hpp"
#include "photonlane/grid/reach.hpp"
#include "plates/plate_solid.hpp"
#include "spheres/sphere_solid.hpp"
#include "voxels/voxel_solid.hpp"

namespace photonlane {
namespace {

void check_openings(const CellMap& map, const std::vector<std::uint8_t>& reached,
                    SceneReport& report) {
  std::int64_t unreachable = 0;
  int first_x = 0;
  int first_y = 0;
  for (int y = 0; y < map.height; ++y) {
    const bool edge_row = y == 0 || y == map.height - 1;
    for (int x = 0; x < map.width; x += edge_row ? 1 : std::max(1, map.width - 1)) {
      if (map.at(x, y) != empty_cell) continue;
      ++report.openings;
      if (reached[static_cast<std::size_t>(y) * map.width + x] == 0 && unreachable++ == 0) {
        first_x = x;
        first_y = y;
      }
    }
  }
  if (unreachable > 0) {
    report.warnings.push_back(
        fmt::format("{} openings in the map's edge cannot be reached from the eye, the first at "
                    "column {}, row {} from the south",
                    unreachable, first_x, first_y));
  }
}

template <class Use>
void use_materials(const Field& field, const Use& use) {
  use(field.material());
  for (const int material : field.tint().materials) use(material);
  for (const Field& part : field.parts()) use_materials(part, use);
}

void check_materials(const Scene& scene, SceneReport& report) {
  std::vector<bool> used(scene.materials.size() + 1, false);
  const auto use = [&](int material) {
    if (material >= 0) used[wall_of(static_cast<std::uint32_t>(material))] = true;
  };
  for (const Room& room : scene.rooms) {
    if (room.cells) {
      for (const Cell cell : room.cells->cells) used[cell] = true;
      for (const CellForm& form : room.cells->forms) {
        use(form.top);
        use(form.floor);
      }
    }
    for (const std::shared_ptr<const SolidPart>& part : room.parts) part->use_materials(use);
    for (const Field& field : room.fields) use_materials(field, use);
    for (const Sprite& sprite : room.sprites) use(static_cast<int>(sprite.material));
    for (const RoomBody& body : room.bodies) use(body.material);
  }
  for (std::size_t i = 0; i < scene.materials.size(); ++i) {
    if (used[i + 1]) continue;
    const bool named = i < scene.material_names.size() && !scene.material_names[i].empty();
    report.warnings.push_back(fmt::format("nothing is made of material {}",
                                          named ? scene.material_names[i] : std::to_string(i)));
  }
}

/// Fields that change by more than they say, through which lanes may step.
void check_stretch(const Room& room, SceneReport& report) {
  const auto& fields = room.fields;
  const std::string where = room.name.empty() ? "" : room.name + ", ";
  for (std::size_t i = 0; i < fields.size(); ++i) {
    const Field field = field::measured(fields[i]);
    for (const FieldEstimate& estimate : find_estimates(field)) {
      report.estimates.push_back(
          fmt::format("{}field {}: {} is an estimate of the distance; steps go by it over {:.3g}{}",
                      where, i + 1, estimate.part, estimate.safety,
                      fields[i].identity() == field.identity() ? "" : ", as trying found"));
    }
    for (const StretchFault& fault : find_stretch_faults(field)) {
      report.warnings.push_back(
          fmt::format("{}field {}: {} grows by {:.3g} for a meter near [{:.4g}, {:.4g}, {:.4g}] of "
                      "its own space "
                      "and says {:.3g}: lanes may step through it",
                      where, i + 1, fault.part, fault.found, fault.place.x(), fault.place.y(),
                      fault.place.z(), fault.said));
    }
  }
}

/// True where an eye over a cell is inside what stands there.
bool stands_around(const CellMap& map, int x, int y, const Vec3d& eye) {
  if (map.at(x, y) == empty_cell) return false;
  const CellForm* form = map.form(x, y);
  if (form == nullptr) return true;
  const double column = eye.x() / map.cell_size;
  const double row = eye.y() / map.cell_size;
  return !form->passable && (form->height == 0 || eye.z() < form->height) &&
         stands_at(*form, map.cell_size, column - std::floor(column), row - std::floor(row));
}

/// The cell an eye is over, or -1, -1 where it is outside the map.
std::pair<int, int> eye_cell(const CellMap& map, const Vec3d& eye) {
  const auto cell_of = [&](double position, int side) {
    const double cell = std::floor(position / map.cell_size);
    return map.repeat ? cell - side * std::floor(cell / side) : cell;
  };
  const double x = cell_of(eye.x(), map.width);
  const double y = cell_of(eye.y(), map.height);
  if (!(x >= 0 && y >= 0 && x < map.width && y < map.height)) return {-1, -1};
  return {static_cast<int>(x), static_cast<int>(y)};
}

void check_map(const CellMap& map, const Camera& camera, const Budget& budget,
               SceneReport& report) {
  report.map_width = map.width;
  report.map_height = map.height;
  report.cell_size = map.cell_size;
  report.repeat = map.repeat;
  const auto empty = std::count(map.cells.begin(), map.cells.end(), empty_cell);
  const auto cells = static_cast<double>(map.cells.size());
  report.wall_share = 1 - static_cast<double>(empty) / cells;

  const auto [x, y] = eye_cell(map, camera.eye);
  if (empty == static_cast<std::ptrdiff_t>(map.cells.size())) {
    report.warnings.emplace_back("the map has no walls: every lane escapes");
  }
  const auto reached = reachable_cells(map, x, y);
  // Of empty cells alone: what can be walked through, like an open door, is not one of them.
  std::int64_t count = 0;
  for (std::size_t i = 0; i < reached.size(); ++i) {
    count += reached[i] != 0 && map.cells[i] == empty_cell ? 1 : 0;
  }
  report.reachable_share = empty == 0 ? 0 : static_cast<double>(count) / static_cast<double>(empty);
  if (!map.repeat && count > 0) check_openings(map, reached, report);
  if (budget.cells.method == CellMethod::increment && budget.cells.increment > map.cell_size) {
    report.warnings.push_back(
        fmt::format("cells.increment of {} meters is longer than a cell of "
                    "{}: lanes tunnel through walls",
                    budget.cells.increment, map.cell_size));
  }
}

/// A tolerance that is large beside what the eye's room holds shows as swollen silhouettes.
void check_tolerance(const Scene& scene, const World& world, const Camera& camera,
                     const Budget& budget, SceneReport& report) {
  const std::size_t eye_room = world.room_index(camera.room);
  for (std::size_t i = 0; i < scene.rooms[eye_room].fields.size(); ++i) {
    const Bounds& bounds = scene.rooms[eye_room].fields[i].bounds();
    if (!bounds.finite()) continue;
    const double size = (bounds.high - bounds.low).maxCoeff();
    if (!(size > 0) || budget.field.tolerance < 0.002 * size) continue;
    report.warnings.push_back(fmt::format(
        "field {} is {:.3g} m large and field.tolerance is {:.3g} m, {:.2g} % of it: it "
        "is seen larger by so much; expected a tolerance of {:.1g} m",
        i + 1, size, budget.field.tolerance, 100 * budget.field.tolerance / size, 0.0005 * size));
    return;
  }
}

}  // namespace

std::vector<std::string> find_eye_faults(const Scene& scene, const World& world,
                                         const Camera& camera) {
  std::vector<std::string> faults;
  if (scene.plane) return faults;
  const std::size_t eye_room = world.room_index(camera.room);
  const Vec3d& eye = camera.eye;
  if (const std::optional<CellMap>& cells = scene.rooms[eye_room].cells) {
    const CellMap& map = *cells;
    const auto [x, y] = eye_cell(map, eye);
    if (x < 0) {
      faults.push_back(fmt::format("the eye at [{}, {}] is outside the map", eye.x(), eye.y()));
    } else if (stands_around(map, x, y, eye)) {
      faults.push_back(fmt::format(
          "the eye at [{}, {}] is inside a wall: every pixel shows that wall", eye.x(), eye.y()));
    }
  }
  // All fields together first: which one it is matters only where it is inside of some.
  const CompiledRoom& room = world.rooms()[eye_room];
  const auto inside = [&](const std::shared_ptr<const Solid>& solid) {
    double distance = 1;
    if (solid->knows_distances()) {
      solid->measure({.count = 1, .x = &eye.x(), .y = &eye.y(), .z = &eye.z(), .value = &distance});
    }
    return distance < 0;
  };
  for (const std::shared_ptr<const Solid>& solid : room.parts()) {
    if (!inside(solid)) continue;
    faults.push_back(fmt::format("the eye at [{}, {}, {}] is inside of {}: it is seen from inside",
                                 eye.x(), eye.y(), eye.z(), solid->summary()));
  }
  if (std::none_of(room.fields().begin(), room.fields().end(), inside)) return faults;
  int number = 0;
  for (const Field& field : scene.rooms[eye_room].fields) {
    ++number;
    if (CompiledField(field).distance(eye) < 0) {
      faults.push_back(
          fmt::format("the eye at [{}, {}, {}] is inside field {}: it is seen from inside", eye.x(),
                      eye.y(), eye.z(), number));
    }
  }
  return faults;
}

namespace {

/// What the middle of a plane's frame says of its numbers.
void check_plane(const World& world, const Camera& camera, const Budget& budget,
                 SceneReport& report) {
  // Of pixels as wide: fewer over all of the frame would ask less of its numbers.
  Budget once = budget;
  const Size size = budget.frame.size();
  once.frame = {std::min(size.width, 160), std::min(size.height, 100), 1};
  Camera middle = camera;
  middle.window = zoomed(camera.window, size, 0.5 * size.width, 0.5 * size.height,
                         static_cast<double>(size.width) / once.frame.width);
  report.plane =
      render(world, middle, once, {.layers = {Layer::steps}, .progress = {}, .recycle = {}})
          .plane_report;
  if (report.plane->past_limit) {
    report.warnings.push_back(fmt::format(
        "past what {} tells apart: {}, and {:.0f} % of the pixels are doubtful",
        name_of(report.plane->number), report.plane->why, 100 * report.plane->doubtful));
  }
  if (report.plane->undecided > 0) {
    report.warnings.push_back(
        fmt::format("{:.3g} % of the pixels in the middle are undecided after {} steps, more "
                    "would cost too much",
                    100 * report.plane->undecided, report.plane->limit));
  }
}

/// Lines and warnings of the solids of a room; `camera` is null where it stands in another.
void check_solids(const Room& source, const CompiledRoom& room, const Camera* camera,
                  const Budget& budget, SceneReport& report) {
  const std::string prefix = room.name.empty() ? "" : room.name + ": ";
  for (const std::shared_ptr<const Solid>& field : room.fields()) {
    report.field_operations += static_cast<const CompiledField&>(*field).instruction_count();
  }
  for (const std::shared_ptr<const Solid>& solid : room.parts()) {
    report.solids.push_back(prefix + solid->summary());
    if (const auto* const voxels = dynamic_cast<const VoxelSolid*>(solid.get())) {
      for (const std::string& fault : voxels->faults()) report.warnings.push_back(prefix + fault);
    }
    if (const auto* const plate = dynamic_cast<const PlateSolid*>(solid.get())) {
      for (const std::string& fault : find_plate_faults(plate->plate())) {
        report.warnings.push_back(prefix + fault);
      }
    }
    const auto* const spheres = dynamic_cast<const SphereSolid*>(solid.get());
    if (spheres == nullptr) continue;
    const double infinite = std::numeric_limits<double>::infinity();
    Bounds within{Vec3d::Constant(-infinite), Vec3d::Constant(infinite)};
    if (room.has_cells && !source.cells->repeat) {
      // In the plan: over the walls there may be no ceiling.
      const Bounds cells = room.cells()->bounds();
      within.low.head<2>() = cells.low.head<2>();
      within.high.head<2>() = cells.high.head<2>();
    }
    SphereSolid::Findings found =
        spheres->look_through(within, camera != nullptr ? camera->eye : spheres->bounds().low,
                              camera != nullptr ? budget.far_limit : infinite);
    if (found.within > 0) {
      report.solids.back() += fmt::format(", {:.2g} % of them within another", 100 * found.within);
    }
    for (const std::string& fault : found.faults) report.warnings.push_back(prefix + fault);
  }
}

}  // namespace

SceneReport check(const Scene& scene, const Camera& camera, const Budget& budget) {
  const World world = seen_by(compile(scene), camera, true);
  SceneReport report;
  report.rooms = static_cast<int>(scene.rooms.size());
  report.memory_bytes = world.memory_bytes();
  report.compile_ms = world.compile_ms();
  if (scene.plane) {
    check_plane(world, camera, budget, report);
    return report;
  }
  const std::size_t eye_room = world.room_index(camera.room);
  report.warnings = find_eye_faults(scene, world, camera);
  if (scene.rooms[eye_room].cells) check_map(*scene.rooms[eye_room].cells, camera, budget, report);
  for (std::size_t r = 0; r < scene.rooms.size(); ++r) {
    check_solids(scene.rooms[r], world.rooms()[r], r == eye_room ? &camera : nullptr, budget,
                 report);
    report.fields += static_cast<int>(scene.rooms[r].fields.size());
  }
  check_materials(scene, report);
  for (const Room& room : scene.rooms) check_stretch(room, report);
  check_portals(scene, world, camera, budget, report);
  check_tolerance(scene, world, camera, budget, report);

  try {
    Budget small = budget;
    small.frame = {16, 10, 1};
    render(world, camera, small, {.threads = 1, .progress = {}, .recycle = {}});
    viewing(camera, budget.frame.size());
  } catch (const Error& error) {
    report.warnings.push_back(error.message());
  }
  return report;
}

}  // namespace photonlane
