#include "field/kind_traits.hpp"
#include "photonlane/field/field.hpp"

namespace photonlane::field {
namespace {

/// Whether an operation keeps its surface where its parts' values become others of the same sign.
bool keeps_surface(const Field& field) {
  const FieldKind kind = field.kind();
  const bool smooth =
      kind == FieldKind::join || kind == FieldKind::meet || kind == FieldKind::carve;
  return has_trait(kind, by_sign) && !(smooth && field.numbers()[0] > 0);
}

/// Damps what stretches as near to its cause as can be, so that the rest keeps its long steps.
Field damped_within(const Field& field) {
  if (field.stretch() <= 1) return field;
  if (!keeps_surface(field)) return damp(1 / field.stretch(), field);
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
