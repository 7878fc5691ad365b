#pragma once

///   const io::SceneFile file = io::read_scene("evening.yaml");
///   const Frame frame = render(compile(file.scene), file.camera, file.budget);

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "photonlane/field/fractal_generator.hpp"
#include "photonlane/frame/views.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/measure/named_setting.hpp"
#include "photonlane/world/camera.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane::io {

/// Something in a file that is allowed but looks like a mistake.
struct Note {
  Place place;
  std::string text;
};

/// Where a texture of a scene file came from.
struct TextureSource {
  std::string file;  ///< as it stands in the scene file; empty: drawn by the recipe
  std::string sign;  ///< the text of a sign; empty: none
  TextureRecipe recipe;
};

struct KeptParts;

/// All that a scene file says.
struct SceneFile {
  std::string path;
  Scene scene;
  std::vector<TextureSource> texture_sources;  ///< one a texture of the scene
  Camera camera;
  std::vector<View> views;  ///< several eyes in one frame; empty: the camera alone
  Budget budget;
  SceneNumbers numbers;                   ///< that the file names, as they were when it was read
  std::string text;                       ///< of the file
  std::vector<std::string> opened;        ///< doors, as open_door_by_text() was told
  std::map<std::string, Place> places;    ///< of what the camera, the views and the budget say
  std::vector<Note> notes;                ///< such as legend entries that no cell uses
  std::shared_ptr<const KeptParts> kept;  ///< for scene_with: what its nodes were made into
};

/// Reads a scene file (YAML; docs/scene-reference.md lists every key). Throws Error with file, line
/// and column, what was found and what was expected: for text that is not YAML, unknown or repeated
/// keys, values out of range, maps that do not fit their legend, files that cannot be read.
///
/// A file may name numbers, {numbers: {lean: 20}}, and have "$lean" wherever that number shall
/// stand. `numbers` are those that shall be others than the file says; Error (usage) for names it
/// does not have.
SceneFile read_scene(const std::string& path, const SceneNumbers& numbers = {});

/// The same from text; `path` stands in messages, and files are looked for beside it.
SceneFile parse_scene(const std::string& text, const std::string& path,
                      const SceneNumbers& numbers = {});

/// The scene of the same file with some of its numbers others, its doors open as in this one. What
/// the numbers do not change is shared with this one, so that compile(scene, world) knows it again.
Scene scene_with(const SceneFile& file, const SceneNumbers& numbers);

/// The scene as text that parse_scene reads back to the same scene, camera and budget: what is not
/// as it would be without being said; maps are drawn. Throws Error (usage) for maps of more than 60
/// materials.
std::string scene_text(const SceneFile& file);

/// Puts another budget into a scene's file: values where they stand, others beside those of their
/// kind; comments and all else stay, and so does the size of the frame. Throws Error (usage) where
/// the file's budget is written in a way that this does not know, Error (file) where it cannot be
/// written; the file is then as it was.
void write_budget(const SceneFile& file, const Budget& budget);

/// The same with another camera, and of planes another window: `look_at` is moved to where the
/// camera looks. Throws as write_budget(), also for cameras that are matrices, and those that other
/// places of the file take over by an alias.
void write_camera(const SceneFile& file, const Camera& camera);

/// Sets a budget knob, or a camera's by "camera.NAME", from text: what options do. A number of the
/// scene, "scene.NAME", reads the file again; what was set before it is lost. Throws Error
/// (usage) for unknown names, with the nearest right word, Error (input) for values that do not
/// fit.
void set_by_name(SceneFile& file, std::string_view name, std::string_view value);

/// An error that knows no place, as render() throws it, at the place in the file of the value that
/// its message begins with; at the file alone where the file does not say that value. Other errors
/// as they are.
Error placed(const SceneFile& file, const Error& error);

/// Opens a door of the scene: "COLUMN,ROW=OPENING". Throws Error (usage) for other text, Error
/// (input) where no door is or for an opening that is not 0 to 1.
void open_door_by_text(SceneFile& file, const std::string& text);

/// Writes a scene of an invented fractal, lit and looked at from one side.
void write_fractal(const std::string& path, const Field& fractal, const FractalRecipe& recipe);

/// Every key of a scene file, for people (Markdown) and for editors (JSON Schema).
std::string scene_reference();
std::string scene_schema();

/// The knobs that options set, a line each: name, what may be written, default, meaning.
std::string knob_list();

}  // namespace photonlane::io
