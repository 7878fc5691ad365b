#include "io/camera_node.hpp"

#include "io/read_node.hpp"

namespace photonlane::io {

void look_at(const Node& node, const Node& target, Camera& camera) {
  for (const char* other : {"heading", "pitch"}) {
    if (const Node* given = node.find(other)) {
      given->refuse(fmt::format("{} beside look_at, expected one of them", other));
    }
  }
  // A point is read as an eye's place is.
  Camera scratch;
  const Knob<Camera>& place = *find_knob(camera_knobs(), "eye");
  at_place(target, [&] { place.assign(scratch, place.info, target.value_text()); });
  if (scratch.eye == camera.eye) target.refuse("look_at is the eye itself, expected another point");
  const Camera turned = Camera::look_at(camera.eye, scratch.eye, camera.field_of_view);
  camera.heading = turned.heading;
  camera.pitch = turned.pitch;
}

void read_matrices(const Node& node, CameraMatrices& theirs) {
  bool given[2] = {};
  read_node(node, "matrices", camera_matrices_knobs(), theirs,
            [&](const std::string& key, const Node& value) {
              const bool view = key == "view";
              given[view] = true;
              const auto& numbers = value.list("16 numbers");
              if (numbers.size() != 16) {
                value.refuse(fmt::format("{} numbers, expected 16", numbers.size()));
              }
              for (std::size_t i = 0; i < 16; ++i) {
                (view ? theirs.view : theirs.projection)[i] = read_number(numbers[i], -1e30, 1e30);
              }
            });
  if (!given[0] || !given[1]) node.refuse("expected both a projection and a view");
}

void finish_camera(const Node& node, Size size, Camera& camera) {
  if (const Node* matrices = node.find("matrices")) {
    for (const auto& [key, value] : node.map("a camera")) {
      if (key.text() == "matrices" || key.text() == "room") continue;
      key.refuse(
          fmt::format("{} beside matrices, which say all but the room", key.text().substr(0, 60)));
    }
    CameraMatrices theirs;
    read_matrices(*matrices, theirs);
    Camera made = at_place(*matrices, [&] { return camera_of(theirs, size); });
    made.room = camera.room;
    made.window = camera.window;
    camera = made;
  }
  if (const Node* target = node.find("look_at")) look_at(node, *target, camera);
  const Node* field = node.find("field_of_view");
  at_place(field != nullptr ? *field : node, [&] { viewing(camera, size); });
}

void read_camera(const Node& node, Size size, Camera& camera) {
  read_plain(node, "camera", camera_knobs(), camera);
  finish_camera(node, size, camera);
}

}  // namespace photonlane::io
