#include "field/kind_switch.hpp"
#include "photonlane/field/field.hpp"

namespace photonlane::field {
namespace {

/// Whether an operation keeps its surface where its parts' values become others of the same sign.
bool by_sign(const Field& field) {
  switch (field.kind()) {
    case FieldKind::join:
    case FieldKind::meet:
    case FieldKind::carve:
      return field.numbers()[0] == 0;
    case FieldKind::invert:
    case FieldKind::revolve:
    case FieldKind::elongate:
    case FieldKind::damp:
    case FieldKind::place:
    case FieldKind::mirror:
    case FieldKind::fold:
    case FieldKind::repeat:
    case FieldKind::around:
    case FieldKind::twist:
    case FieldKind::taper:
    case FieldKind::bend:
      return true;
    case FieldKind::sphere:
    case FieldKind::ellipsoid:
    case FieldKind::box:
    case FieldKind::frame:
    case FieldKind::plane:
    case FieldKind::cylinder:
    case FieldKind::capsule:
    case FieldKind::cone:
    case FieldKind::torus:
    case FieldKind::disc:
    case FieldKind::prism:
    case FieldKind::pyramid:
    case FieldKind::tetrahedron:
    case FieldKind::octahedron:
    case FieldKind::sponge:
    case FieldKind::gasket:
    case FieldKind::bulb:
    case FieldKind::julia:
    case FieldKind::heights:
    case FieldKind::volume:
    case FieldKind::function:
    case FieldKind::circle:
    case FieldKind::rectangle:
    case FieldKind::polygon:
    case FieldKind::star:
    case FieldKind::outline:
    case FieldKind::arc:
    case FieldKind::extrude:
    case FieldKind::offset:
    case FieldKind::shell:
    case FieldKind::waves:
    case FieldKind::noise:
    case FieldKind::iterate:
      return false;
  }
  refuse_kind();
}

/// Damps what stretches as near to its cause as can be, so that the rest keeps its long steps.
Field damped_within(const Field& field) {
  if (field.stretch() <= 1) return field;
  if (!by_sign(field)) return damp(1 / field.stretch(), field);
  std::vector<Field> parts;
  for (const Field& part : field.parts()) parts.push_back(damped_within(part));
  const Field made(field.kind(), field.numbers(), std::move(parts));
  return field.material() >= 0 ? made.made_of(field.material()) : made;
}

}  // namespace

Field calm(const Field& field) {
  const Field within = damped_within(field);
  return within.stretch() > 1 ? damp(1 / within.stretch(), within) : within;
}

}  // namespace photonlane::field
