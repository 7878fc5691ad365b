#pragma once

/// The one description of everything a user can set: name, type, unit, range, default, help.
/// Options, scene files, sweeps, messages and the reference in docs/ are made from these tables.
///
///   struct Oven { double heat = 180; };
///   inline const Knob<Oven> oven_knobs[] = {
///       knob<&Oven::heat>("heat", "degrees C", {0, 300}, "how hot the oven is"),
///   };
///   Oven oven;
///   set_knob<Oven>(oven_knobs, oven, "heat", "220");  // throws Error for "hot", "400" or "heta"

#include <array>
#include <cstdint>
#include <limits>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <type_traits>
#include <vector>

#include "photonlane/base/color.hpp"
#include "photonlane/base/decimal.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/base/words.hpp"

namespace photonlane {

enum class KnobKind { integer, number, flag, choice, text, point, color, decimal, place };

/// The values a number may take; `open` ends are not part of it.
struct Range {
  double low = -std::numeric_limits<double>::infinity();
  double high = std::numeric_limits<double>::infinity();
  bool open_low = false;
  bool open_high = false;
};

/// The part of a knob that does not depend on what it turns.
struct KnobInfo {
  std::string_view name;
  KnobKind kind = KnobKind::number;
  std::string_view unit;
  Range range;
  std::span<const std::string_view> choices;
  std::string_view help;
  double factor = 1;           ///< value in memory = value in files and options * factor
  std::string_view only_with;  ///< "other.knob=value": where it has any effect; empty: everywhere

  /// What may be written, in words: "integer, 1 to 100000".
  std::string expected() const;
};

/// The names of an enumeration's values, in their order; specialized beside each enumeration.
template <class Enumeration>
inline constexpr std::array<std::string_view, 0> choice_names{};

template <class Enumeration>
requires std::is_enum_v<Enumeration>
constexpr std::string_view name_of(Enumeration value) {
  const auto index = static_cast<std::size_t>(value);
  // A number that was cast to the enumeration may be none of its values.
  return index < choice_names<Enumeration>.size() ? choice_names<Enumeration>[index] : "(no value)";
}

template <class Owner>
struct Knob {
  KnobInfo info;
  void (*assign)(Owner&, const KnobInfo&, std::string_view text) = nullptr;
  std::string (*read)(const Owner&, const KnobInfo&) = nullptr;
  /// Quickly: true where the value is in its range for sure.
  bool (*surely_fits)(const Owner&, const KnobInfo&) = nullptr;
};

namespace detail {

void assign(double& value, const KnobInfo& info, std::string_view text);
void assign(float& value, const KnobInfo& info, std::string_view text);
void assign(int& value, const KnobInfo& info, std::string_view text);
void assign(std::int64_t& value, const KnobInfo& info, std::string_view text);
void assign(bool& value, const KnobInfo& info, std::string_view text);
void assign(std::string& value, const KnobInfo& info, std::string_view text);
void assign(Vec3d& value, const KnobInfo& info, std::string_view text);
void assign(Color& value, const KnobInfo& info, std::string_view text);
std::size_t choice_index(const KnobInfo& info, std::string_view text);

std::string read(double value, const KnobInfo& info);
std::string read(float value, const KnobInfo& info);
std::string read(int value, const KnobInfo& info);
std::string read(std::int64_t value, const KnobInfo& info);
std::string read(bool value, const KnobInfo& info);
std::string read(const std::string& value, const KnobInfo& info);
std::string read(const Vec3d& value, const KnobInfo& info);
std::string read(const Color& value, const KnobInfo& info);

/// Numbers that are compared with their range in a unit of another size may be rounded over its
/// end: those at the end are not sure.
constexpr bool surely_in(double value, const KnobInfo& info) {
  const Range& range = info.range;
  const bool exact = info.factor == 1;
  const double scaled = exact ? value : value / info.factor;
  return (scaled > range.low || (exact && !range.open_low && scaled == range.low)) &&
         (scaled < range.high || (exact && !range.open_high && scaled == range.high));
}

template <class Value>
bool surely_fits(const Value& value, const KnobInfo& info) {
  if constexpr (std::is_enum_v<Value>) {
    return static_cast<std::size_t>(value) < info.choices.size();
  } else if constexpr (std::is_same_v<Value, bool>) {
    return true;
  } else if constexpr (std::is_arithmetic_v<Value>) {
    return surely_in(static_cast<double>(value), info);
  } else if constexpr (std::is_same_v<Value, Vec3d> || std::is_same_v<Value, Color>) {
    return surely_in(static_cast<double>(value[0]), info) &&
           surely_in(static_cast<double>(value[1]), info) &&
           surely_in(static_cast<double>(value[2]), info);
  } else {
    return false;
  }
}

template <class Member>
struct OwnerOf;
template <class Owner_, class Value_>
struct OwnerOf<Value_ Owner_::*> {
  using Owner = Owner_;
  using Value = Value_;
};
template <auto First, auto... Rest>
struct Path {
  using Owner = typename OwnerOf<decltype(First)>::Owner;
  static auto& follow(Owner& owner) { return ((owner.*First).*....*Rest); }
  static const auto& follow(const Owner& owner) { return ((owner.*First).*....*Rest); }
};
template <auto Only>
struct Path<Only> {
  using Owner = typename OwnerOf<decltype(Only)>::Owner;
  static auto& follow(Owner& owner) { return owner.*Only; }
  static const auto& follow(const Owner& owner) { return owner.*Only; }
};

template <class Value>
constexpr KnobKind kind_of() {
  if constexpr (std::is_enum_v<Value>) return KnobKind::choice;
  if constexpr (std::is_same_v<Value, bool>) return KnobKind::flag;
  if constexpr (std::is_integral_v<Value>) return KnobKind::integer;
  if constexpr (std::is_floating_point_v<Value>) return KnobKind::number;
  if constexpr (std::is_same_v<Value, Vec3d>) return KnobKind::point;
  if constexpr (std::is_same_v<Value, Color>) return KnobKind::color;
  if constexpr (std::is_same_v<Value, Decimal>) return KnobKind::decimal;
  if constexpr (std::is_same_v<Value, DecimalPoint>) return KnobKind::place;
  if constexpr (std::is_same_v<Value, std::optional<DecimalPoint>>) return KnobKind::place;
  return KnobKind::text;
}

}  // namespace detail

/// Describes the member found by following `Members` from its owner: knob<&Budget::cells,
/// &CellBudget::steps>("cells.steps", ...). `factor` and `only_with` as in KnobInfo.
template <auto... Members>
auto knob(std::string_view name, std::string_view unit, Range range, std::string_view help,
          double factor = 1, std::string_view only_with = "") {
  using Path = detail::Path<Members...>;
  using Owner = typename Path::Owner;
  using Value = std::remove_cvref_t<decltype(Path::follow(std::declval<Owner&>()))>;
  KnobInfo info{name, detail::kind_of<Value>(), unit, range, {}, help, factor, only_with};
  if constexpr (std::is_enum_v<Value>) info.choices = choice_names<Value>;
  Knob<Owner> result;
  result.info = info;
  result.assign = [](Owner& owner, const KnobInfo& about, std::string_view text) {
    if constexpr (std::is_enum_v<Value>) {
      Path::follow(owner) = static_cast<Value>(detail::choice_index(about, text));
    } else {
      detail::assign(Path::follow(owner), about, text);
    }
  };
  result.read = [](const Owner& owner, const KnobInfo& about) {
    if constexpr (std::is_enum_v<Value>) {
      return std::string(name_of(Path::follow(owner)));
    } else {
      return detail::read(Path::follow(owner), about);
    }
  };
  result.surely_fits = [](const Owner& owner, const KnobInfo& about) {
    return detail::surely_fits(Path::follow(owner), about);
  };
  return result;
}

template <class Owner>
std::vector<std::string_view> knob_names(std::span<const Knob<Owner>> table) {
  std::vector<std::string_view> names;
  for (const Knob<Owner>& entry : table) names.push_back(entry.info.name);
  return names;
}

/// The knob of that name, or null.
template <class Owner>
const Knob<Owner>* find_knob(std::span<const Knob<Owner>> table, std::string_view name) {
  for (const Knob<Owner>& entry : table) {
    if (entry.info.name == name) return &entry;
  }
  return nullptr;
}

/// Sets one value from text. Throws Error (usage) for an unknown name, with the nearest right
/// word, and Error (input) for a value that does not fit.
template <class Owner>
void set_knob(std::span<const Knob<Owner>> table, Owner& owner, std::string_view name,
              std::string_view text) {
  const Knob<Owner>* entry = find_knob(table, name);
  if (entry == nullptr) {
    const auto names = knob_names(table);
    std::string message = "no such knob" + suggestion(name, names);
    if (const auto near = nearest_word(name, names)) {
      message = "no such knob; did you mean " + *near + " (" +
                find_knob(table, *near)->info.expected() + ")?";
    }
    throw Error(ErrorKind::usage, message);
  }
  entry->assign(owner, entry->info, text);
}

/// Throws Error (input) when a value set in C++ is out of its range.
template <class Owner>
void validate_knobs(std::span<const Knob<Owner>> table, const Owner& owner) {
  std::optional<Owner> checked;
  for (const Knob<Owner>& entry : table) {
    if (entry.surely_fits != nullptr && entry.surely_fits(owner, entry.info)) continue;
    Owner& copy = checked ? *checked : checked.emplace();
    try {
      entry.assign(copy, entry.info, entry.read(owner, entry.info));
    } catch (const Error& error) {
      throw Error(ErrorKind::input, std::string(entry.info.name) + ": " + error.message());
    }
  }
}

/// The value of one knob as text that set_knob reads back to the same value.
template <class Owner>
std::string knob_text(const Knob<Owner>& entry, const Owner& owner) {
  return entry.read(owner, entry.info);
}

/// True where turning a knob changes anything, as the others stand.
template <class Owner>
bool knob_applies(std::span<const Knob<Owner>> table, const Knob<Owner>& entry,
                  const Owner& owner) {
  const auto equals = entry.info.only_with.find('=');
  if (equals == std::string_view::npos) return true;
  const Knob<Owner>* other = find_knob(table, entry.info.only_with.substr(0, equals));
  return other == nullptr || knob_text(*other, owner) == entry.info.only_with.substr(equals + 1);
}

}  // namespace photonlane
