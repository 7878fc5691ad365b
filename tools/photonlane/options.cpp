#include "options.hpp"

namespace photonlane::tool {

void add_size(CLI::App& app, std::string& size) {
  app.add_option("--size", size, "size of the frame in pixels")->type_name("WIDTHxHEIGHT");
}

void add_scene(CLI::App& app, SceneOptions& options) {
  app.add_option("scene", options.scene, "scene file (YAML)")->required()->type_name("SCENE");
  add_settings(app, options);
}

void add_turned(CLI::App& app, SceneOptions& options) {
  app.add_option("--set", options.sets,
                 "turn a knob: any budget value, or a camera value as camera.NAME; may be given "
                 "again (photonlane describe lists them)")
      ->type_name("KEY=VALUE")
      ->allow_extra_args(false);
  app.add_option("--open", options.doors,
                 "open a door: its cell, counted from the south-west, and 0 closed to 1 open; may "
                 "be given again")
      ->type_name("COLUMN,ROW=OPENING")
      ->allow_extra_args(false);
}

void add_settings(CLI::App& app, SceneOptions& options) {
  add_size(app, options.size);
  add_turned(app, options);
  app.add_flag("--quiet", options.quiet, "print nothing but errors");
  app.add_flag("--json", options.json, "print JSON instead of text");
}

void add_threads(CLI::App& app, int& threads) {
  app.add_option("--threads", threads, "threads to use; 0, the default, takes all there are")
      ->check(CLI::Range(0, 1024))
      ->type_name("N");
}

void add_resume(CLI::App& app, bool& resume) {
  app.add_flag("--resume", resume,
               "go on with a run of the same scene and options that was stopped or killed, in its "
               "folder");
}

void add_limits(CLI::App& app, std::vector<std::string>& limits, const std::string& help) {
  app.add_option("--limit", limits, help)->type_name("METRIC=VALUE")->allow_extra_args(false);
}

}  // namespace photonlane::tool
