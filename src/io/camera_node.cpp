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

void read_camera(const Node& node, Size size, Camera& camera) {
  read_plain(node, "camera", camera_knobs(), camera);
  if (const Node* target = node.find("look_at")) look_at(node, *target, camera);
  const Node* field = node.find("field_of_view");
  at_place(field != nullptr ? *field : node, [&] { viewing(camera, size); });
}

}  // namespace photonlane::io
