#include "photonlane/measure/named_setting.hpp"

#include <fmt/format.h>

namespace photonlane {
namespace {

constexpr std::string_view of_camera = "camera.";
constexpr std::string_view of_window = "window.";
constexpr std::string_view of_scene = "scene.";

/// Both sides of the frame as one: "640x400".
constexpr std::string_view frame_size = "frame.size";
constexpr KnobInfo size_of_frame{
    frame_size, KnobKind::text, "pixels", {}, {}, "columns and rows of the frame"};

constexpr KnobInfo scene_number{"scene", KnobKind::number, "", {}, {}, "a number of the scene"};

/// Calls work(table, owner, name without what is in front) for the table a name is of.
template <class Owner, class Work>
auto in_table(Owner& settings, std::string_view name, const Work& work) {
  if (name.starts_with(of_camera)) {
    return work(camera_knobs(), settings.camera, name.substr(of_camera.size()));
  }
  if (name.starts_with(of_window)) {
    return work(plane_window_knobs(), settings.camera.window, name.substr(of_window.size()));
  }
  return work(budget_knobs(), settings.budget, name);
}

/// The nearest right word may be one with something in front.
void refuse_bare(std::string_view name) {
  if (find_knob(budget_knobs(), name) != nullptr) return;
  for (const std::string_view front : {of_camera, of_window}) {
    const std::string whole = fmt::format("{}{}", front, name);
    if (const auto info = find_setting(whole)) {
      throw Error(ErrorKind::usage,
                  fmt::format("no such knob; did you mean {} ({})?", whole, info->expected()));
    }
  }
}

void set_size(Budget& budget, std::string_view value) {
  const auto cross = value.find('x');
  Budget sized = budget;
  try {
    if (cross == value.npos) throw Error(ErrorKind::input, "");
    set_knob(budget_knobs(), sized, "frame.width", value.substr(0, cross));
    set_knob(budget_knobs(), sized, "frame.height", value.substr(cross + 1));
  } catch (const Error&) {
    throw Error(ErrorKind::input,
                fmt::format("found '{}', expected WIDTHxHEIGHT in pixels, 1 to 1000000 each",
                            value.substr(0, 60)));
  }
  budget = sized;
}

void set_number(Settings& settings, std::string_view name, std::string_view value) {
  if (!settings.numbers.empty() && !settings.numbers.contains(name)) {
    std::vector<std::string_view> names;
    for (const auto& pair : settings.numbers) names.push_back(pair.first);
    throw Error(ErrorKind::usage,
                fmt::format("no such number of the scene{}", suggestion(name, names)));
  }
  double number = 0;
  detail::assign(number, scene_number, value);
  settings.numbers.insert_or_assign(std::string(name), detail::read(number, scene_number));
}

}  // namespace

void set_by_name(Settings& settings, std::string_view name, std::string_view value) {
  if (name.starts_with(of_scene)) return set_number(settings, name.substr(of_scene.size()), value);
  if (name == frame_size) return set_size(settings.budget, value);
  refuse_bare(name);
  in_table(settings, name, [&](auto table, auto& owner, std::string_view knob) {
    set_knob(table, owner, knob, value);
  });
}

std::optional<KnobInfo> find_setting(std::string_view name) {
  if (name.starts_with(of_scene) && name.size() > of_scene.size()) return scene_number;
  if (name == frame_size) return size_of_frame;
  Settings unused;
  return in_table(unused, name,
                  [](auto table, auto&, std::string_view knob) -> std::optional<KnobInfo> {
                    const auto* entry = find_knob(table, knob);
                    if (entry == nullptr) return std::nullopt;
                    return entry->info;
                  });
}

std::string setting_text(const Settings& settings, std::string_view name) {
  Settings scratch;
  if (!find_setting(name)) set_by_name(scratch, name, "");
  if (name.starts_with(of_scene)) {
    const auto found = settings.numbers.find(name.substr(of_scene.size()));
    return found == settings.numbers.end() ? "" : found->second;
  }
  if (name == frame_size) {
    return fmt::format("{}x{}", settings.budget.frame.width, settings.budget.frame.height);
  }
  return in_table(settings, name, [](auto table, const auto& owner, std::string_view knob) {
    return knob_text(*find_knob(table, knob), owner);
  });
}

bool setting_applies(const Settings& settings, std::string_view name) {
  if (name.starts_with(of_scene)) return true;
  return in_table(settings, name, [](auto table, const auto& owner, std::string_view knob) {
    const auto* entry = find_knob(table, knob);
    return entry == nullptr || knob_applies(table, *entry, owner);
  });
}

}  // namespace photonlane
