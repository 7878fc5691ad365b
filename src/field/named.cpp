#include "field/sources.hpp"
#include "photonlane/field/field.hpp"

namespace photonlane {
namespace {

std::vector<double> numbers_of(std::initializer_list<double> list) { return list; }

}  // namespace

namespace steps {

FoldStep mirror(SpaceAxis axis) { return {FoldKind::mirror, {static_cast<double>(axis)}}; }
FoldStep plane(const Vec3d& normal, double height) {
  return {FoldKind::fold, {normal.x(), normal.y(), normal.z(), height}};
}
FoldStep wedge(int count) { return {FoldKind::wedge, {static_cast<double>(count)}}; }
FoldStep place(const Vec3d& at, const Vec3d& turn, double scale) {
  return {FoldKind::place, {at.x(), at.y(), at.z(), turn.x(), turn.y(), turn.z(), scale}};
}
FoldStep box(double half) { return {FoldKind::box_fold, {half}}; }
FoldStep ball(double inner, double outer) { return {FoldKind::ball_fold, {inner, outer}}; }
FoldStep inversion(const Vec3d& at, double radius) {
  return {FoldKind::inversion, {at.x(), at.y(), at.z(), radius}};
}
FoldStep start(double share) { return {FoldKind::start, {share}}; }
FoldStep stretch(const Vec3d& factors) {
  return {FoldKind::stretch, {factors.x(), factors.y(), factors.z()}};
}

}  // namespace steps

namespace field {

Field sphere(double radius) { return {FieldKind::sphere, {radius}}; }
Field ellipsoid(const Vec3d& radii) {
  return {FieldKind::ellipsoid, {radii.x(), radii.y(), radii.z()}};
}
Field box(const Vec3d& size, double round) {
  return {FieldKind::box, {size.x(), size.y(), size.z(), round}};
}
Field frame(const Vec3d& size, double bar) {
  return {FieldKind::frame, {size.x(), size.y(), size.z(), bar}};
}
Field plane(const Vec3d& normal, double height) {
  return {FieldKind::plane, {normal.x(), normal.y(), normal.z(), height}};
}
Field cylinder(double radius, double height, double round) {
  return {FieldKind::cylinder, {radius, height, round}};
}
Field capsule(const Vec3d& from, const Vec3d& to, double radius) {
  return {FieldKind::capsule, {from.x(), from.y(), from.z(), to.x(), to.y(), to.z(), radius}};
}
Field cone(double radius, double top, double height) {
  return {FieldKind::cone, {radius, top, height}};
}
Field torus(double radius, double tube, double angle) {
  return {FieldKind::torus, {radius, tube, angle}};
}
Field disc(double radius, double round) { return {FieldKind::disc, {radius, round}}; }
Field prism(int sides, double radius, double height) {
  return {FieldKind::prism, numbers_of({static_cast<double>(sides), radius, height})};
}
Field pyramid(double size, double height) { return {FieldKind::pyramid, {size, height}}; }
Field tetrahedron(double radius) { return {FieldKind::tetrahedron, {radius}}; }
Field octahedron(double radius) { return {FieldKind::octahedron, {radius}}; }
Field sponge(double size, int times) {
  return {FieldKind::sponge, numbers_of({size, static_cast<double>(times), 0, 1})};
}
Field ball_sponge(double size, int times, double ball) {
  return {FieldKind::sponge, numbers_of({size, static_cast<double>(times), 1, ball})};
}
Field gasket(GasketForm form, double radius, int times) {
  return {FieldKind::gasket,
          numbers_of({static_cast<double>(form), radius, static_cast<double>(times)})};
}
Field bulb(int power, int times, FoldDerivative derivative) {
  return {FieldKind::bulb, numbers_of({static_cast<double>(power), static_cast<double>(times), 8,
                                       static_cast<double>(derivative), 0})};
}
Field julia(const std::array<double, 4>& c, int times, double slice, FoldDerivative derivative) {
  return {FieldKind::julia, numbers_of({c[0], c[1], c[2], c[3], slice, static_cast<double>(times),
                                        8, static_cast<double>(derivative), 0})};
}
Field iterate(int times, const std::vector<FoldStep>& steps, Field part, FoldKeep keep,
              FoldDerivative derivative, double reach) {
  std::vector<double> numbers{static_cast<double>(times), static_cast<double>(derivative), reach, 0,
                              static_cast<double>(keep)};
  for (const FoldStep& step : steps) {
    numbers.push_back(static_cast<double>(step.kind));
    numbers.insert(numbers.end(), step.numbers.begin(), step.numbers.end());
  }
  return {FieldKind::iterate, std::move(numbers), {std::move(part)}};
}
Field heights(const HeightMap& map, const Vec3d& size) {
  return {FieldKind::heights, {size.x(), size.y(), size.z()}, {}, make_height_source(map, size)};
}
Field volume(std::shared_ptr<const Volume> volume) {
  return {FieldKind::volume, {}, {}, make_volume_source(std::move(volume))};
}
Field function(FieldFunction function) {
  return {FieldKind::function, {}, {}, make_function_source(std::move(function))};
}
Field circle(double radius) { return {FieldKind::circle, {radius}}; }
Field rectangle(double width, double height, double round) {
  return {FieldKind::rectangle, {width, height, round}};
}
Field polygon(int sides, double radius) {
  return {FieldKind::polygon, numbers_of({static_cast<double>(sides), radius})};
}
Field star(int points, double radius, double inner) {
  return {FieldKind::star, numbers_of({static_cast<double>(points), radius, inner})};
}
Field outline(std::span<const Vec2d> corners) {
  std::vector<double> numbers;
  for (const Vec2d& corner : corners) numbers.insert(numbers.end(), {corner.x(), corner.y()});
  return {FieldKind::outline, std::move(numbers)};
}
Field arc(double radius, double width, double angle) {
  return {FieldKind::arc, {radius, width, angle}};
}
Field extrude(double height, Field figure, double round) {
  return {FieldKind::extrude, {height, round}, {std::move(figure)}};
}
Field revolve(double offset, Field figure) {
  return {FieldKind::revolve, {offset}, {std::move(figure)}};
}
Field join(double radius, std::vector<Field> parts, Profile profile) {
  return {FieldKind::join, {radius, static_cast<double>(profile)}, std::move(parts)};
}
Field meet(double radius, std::vector<Field> parts, Profile profile) {
  return {FieldKind::meet, {radius, static_cast<double>(profile)}, std::move(parts)};
}
Field carve(double radius, std::vector<Field> parts, Profile profile) {
  return {FieldKind::carve, {radius, static_cast<double>(profile)}, std::move(parts)};
}
Field invert(Field part) { return {FieldKind::invert, {}, {std::move(part)}}; }
Field offset(double distance, Field part) {
  return {FieldKind::offset, {distance}, {std::move(part)}};
}
Field shell(double thickness, Field part) {
  return {FieldKind::shell, {thickness}, {std::move(part)}};
}
Field elongate(const Vec3d& size, Field part) {
  return {FieldKind::elongate, {size.x(), size.y(), size.z()}, {std::move(part)}};
}
Field waves(double height, double length, Field part) {
  return {FieldKind::waves, {height, length}, {std::move(part)}};
}
Field noise(double height, double length, int octaves, Field part, NoiseForm form) {
  return {FieldKind::noise,
          numbers_of({height, length, static_cast<double>(octaves), static_cast<double>(form)}),
          {std::move(part)}};
}
Field damp(double factor, Field part) { return {FieldKind::damp, {factor}, {std::move(part)}}; }
Field place(const Vec3d& at, Field part, const Vec3d& turn, double scale) {
  return {FieldKind::place,
          {at.x(), at.y(), at.z(), turn.x(), turn.y(), turn.z(), scale},
          {std::move(part)}};
}
Field mirror(SpaceAxis axis, Field part) {
  return {FieldKind::mirror, {static_cast<double>(axis)}, {std::move(part)}};
}
Field fold(const Vec3d& normal, Field part) {
  return {FieldKind::fold, {normal.x(), normal.y(), normal.z()}, {std::move(part)}};
}
Field repeat(const Vec3d& spacing, const Vec3d& count, Field part) {
  return {FieldKind::repeat,
          {spacing.x(), spacing.y(), spacing.z(), count.x(), count.y(), count.z()},
          {std::move(part)}};
}
Field around(int count, Field part) {
  return {FieldKind::around, numbers_of({static_cast<double>(count)}), {std::move(part)}};
}
Field twist(double rate, Field part) { return {FieldKind::twist, {rate}, {std::move(part)}}; }
Field taper(double foot, double top, Field part) {
  return {FieldKind::taper, {foot, top}, {std::move(part)}};
}
Field bend(double rate, Field part) { return {FieldKind::bend, {rate}, {std::move(part)}}; }

}  // namespace field

}  // namespace photonlane
