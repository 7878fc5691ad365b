#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>

#include "photonlane/lane/budget.hpp"
#include "photonlane/world/camera.hpp"

namespace photonlane {

/// Numbers of a scene by name, as they are written.
using SceneNumbers = std::map<std::string, std::string, std::less<>>;

/// What may be set beside a scene by one name: knobs of the budget, of the camera with "camera." in
/// front, of a plane's window with "window."; and numbers of the scene itself with "scene.".
struct Settings {
  Budget budget;
  Camera camera;
  SceneNumbers numbers{};  ///< all there are; none: any may be set
};

/// Sets one. Throws Error (usage) for names that are none, with the nearest right word, and Error
/// (input) for values that do not fit.
void set_by_name(Settings& settings, std::string_view name, std::string_view value);

/// What a name stands for, or nothing.
std::optional<KnobInfo> find_setting(std::string_view name);

/// Its value, as set_by_name reads it. Throws as that does.
std::string setting_text(const Settings& settings, std::string_view name);

/// Whether it has any effect, as the others stand.
bool setting_applies(const Settings& settings, std::string_view name);

}  // namespace photonlane
