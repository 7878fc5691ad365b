// "NAME=VALUE" as options have them, a line each, for every table of knobs, and the other texts of
// options.

#include "input.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
  using namespace photonlane;
  static const io::SceneFile scene = io::parse_scene(
      "numbers: {lean: 20}\ncamera: {eye: [0, -5, 1]}\nroom: {solids: [{field: {sphere: }}]}\n",
      "ball.yaml");
  io::SceneFile file = scene;
  std::string_view rest = fuzz::text_of(bytes, size);
  // A number of the scene reads its file again: a few lines an input, and more inputs.
  for (int lines = 0; lines < 6 && !rest.empty(); ++lines) {
    const auto end = std::min(rest.find('\n'), rest.size());
    const std::string_view line = rest.substr(0, end);
    rest.remove_prefix(std::min(end + 1, rest.size()));
    const auto equals = line.find('=');
    if (equals != line.npos) {
      const auto name = line.substr(0, equals);
      const auto value = line.substr(equals + 1);
      fuzz::try_out([&] { io::set_by_name(file, name, value); });
      MapRecipe map;
      fuzz::try_out([&] { set_knob(map_recipe_knobs(), map, name, value); });
      PlaneWindow window;
      fuzz::try_out([&] { set_knob(plane_window_knobs(), window, name, value); });
      fuzz::try_out([&] { validate(window); });
    }
    fuzz::try_out([&] { parse_vary(std::string(line)); });
    fuzz::try_out([&] { parse_limit(line); });
    fuzz::try_out([&] { io::open_door_by_text(file, std::string(line)); });
  }
  return 0;
}
