#include "io/plate_node.hpp"

#include <fmt/format.h>

#include "io/camera_node.hpp"
#include "io/plate_file.hpp"
#include "io/read_node.hpp"
#include "io/scene_names.hpp"
#include "io/yaml_text.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/world/camera_matrices.hpp"

namespace photonlane::io {
namespace {

/// Planes that images point into; their shared owner keeps them.
using Planes = std::shared_ptr<const PixelPlanes>;

PlateImage image(const Planes& planes, std::size_t which) {
  return {planes->size, planes->planes[which].data(), 1, planes->size.width, planes};
}

/// A file of a plate, with the names of its channels.
struct PlateFile {
  std::string name, path;
  std::vector<std::string> channels;
  const Node* node = nullptr;
};

std::string full_path(const std::string& folder, const std::string& name) {
  return name.starts_with('/') ? name : folder + name;
}

bool flag(const Node& node, std::string_view name) {
  KnobInfo info;
  info.name = name;
  info.kind = KnobKind::flag;
  bool value = false;
  at_place(node, [&] { detail::assign(value, info, node.text()); });
  return value;
}

class Reader {
 public:
  Reader(const Scene& scene, const std::string& folder) : scene_(scene), folder_(folder) {}

  std::shared_ptr<const SolidPart> read(const Node& node) {
    auto plate = std::make_shared<Plate>();
    const Node* color = nullptr;
    const Node* depth = nullptr;
    const Node* camera = nullptr;
    read_node(node, "plate", plate_knobs(), *plate, [&](const std::string& key, const Node& value) {
      if (key == "material") {
        plate->material = index_of(value, scene_.material_names, "material");
      }
      if (key == "color") color = &value;
      if (key == "depth") depth = &value;
      if (key == "camera") camera = &value;
      if (key == "marks") read_marks(value, *plate);
      if (key == "ground") plate->ground = number(value);
    });
    if (color == nullptr || depth == nullptr || camera == nullptr) {
      node.refuse("a plate without color, depth or camera, expected all three");
    }
    read_color(*color, *plate);
    read_depth(*depth, *plate);
    const Size size = plate->depth.size;
    read_camera(*camera, size, plate->camera);
    if (plate->means.kind == DepthKind::buffer && !said_ && camera->find("matrices") != nullptr) {
      take_buffer(*camera->find("matrices"), *plate);
    }
    plate->source_text = color_text_ + depth_text_ +
                         changed_lines(plate_depth_knobs(), plate->means, 2) + "camera:\n" +
                         changed_lines(camera_knobs(), plate->camera, 2) + known_text(*plate);
    // Everything that is wrong with it has a place in the file.
    at_place(node, [&] { plate->compile({.materials = scene_.materials.size()}); });
    return plate;
  }

 private:
  static double number(const Node& node) {
    const KnobInfo info{"a number", KnobKind::number, "", {-1e9, 1e9}, {}, ""};
    double value = 0;
    at_place(node, [&] { detail::assign(value, info, node.text()); });
    return value;
  }

  static void read_marks(const Node& node, Plate& plate) {
    for (const Node& one : node.list("marks [x, y, X, Y, Z]")) {
      const auto& numbers = one.list("a mark [x, y, X, Y, Z]");
      if (numbers.size() != 5) {
        one.refuse(fmt::format("a mark of {} numbers, expected a pixel x, y and a place X, Y, Z",
                               numbers.size()));
      }
      plate.marks.push_back({number(numbers[0]),
                             number(numbers[1]),
                             {number(numbers[2]), number(numbers[3]), number(numbers[4])}});
    }
  }

  static std::string known_text(const Plate& plate) {
    std::string text;
    if (plate.ground) text += fmt::format("ground: {}\n", *plate.ground);
    if (!plate.marks.empty()) text += "marks:\n";
    for (const PlateMark& mark : plate.marks) {
      text += fmt::format("  - [{}, {}, {}, {}, {}]\n", mark.x, mark.y, mark.place.x(),
                          mark.place.y(), mark.place.z());
    }
    return text;
  }

  void read_color(const Node& node, Plate& plate) {
    PlateFile file{.channels = {"R", "G", "B"}};
    std::string alpha;
    bool times_alpha = true;
    const auto name = [&](const Node& one) { file.name = one.text(); };
    if (node.kind() == Node::Kind::map) {
      int nothing = 0;
      read_node(node, "plate_color", std::span<const Knob<int>>(), nothing,
                [&](const std::string& key, const Node& value) {
                  if (key == "file") name(value);
                  if (key == "alpha") alpha = value.text();
                  if (key == "premultiplied") times_alpha = flag(value, key);
                  if (key != "channels") return;
                  file.channels.clear();
                  for (const Node& one : value.list("three channels, of red, green and blue")) {
                    file.channels.push_back(one.text());
                  }
                  if (file.channels.size() != 3) {
                    value.refuse("expected three channels, of red, green and blue");
                  }
                });
    } else {
      name(node);
    }
    if (file.name.empty()) node.refuse("a plate's color without a file");
    file.path = full_path(folder_, file.name);
    auto planes = at_place(node, [&]() -> PixelPlanes {
      if (!is_exr(file.path)) return read_png_light(file.path);
      std::vector<std::string> names = file.channels;
      if (!alpha.empty()) names.push_back(alpha);
      return read_exr_channels(file.path, names);
    });
    if (is_exr(file.path) ? !alpha.empty() && !times_alpha : true) {
      for (std::size_t channel = 0; channel < 3; ++channel) {
        for (std::size_t i = 0; i < planes.planes[channel].size(); ++i) {
          planes.planes[channel][i] *= planes.planes[3][i];
        }
      }
    }
    const auto kept = std::make_shared<const PixelPlanes>(std::move(planes));
    plate.red = image(kept, 0);
    plate.green = image(kept, 1);
    plate.blue = image(kept, 2);
    if (kept->planes.size() > 3) plate.alpha = image(kept, 3);
    color_text_ = fmt::format("color:\n  file: {}\n", yaml_quoted(file.name));
    if (is_exr(file.path)) {
      color_text_ += fmt::format("  channels: [{}, {}, {}]\n", yaml_quoted(file.channels[0]),
                                 yaml_quoted(file.channels[1]), yaml_quoted(file.channels[2]));
    }
    if (!alpha.empty()) color_text_ += fmt::format("  alpha: {}\n", yaml_quoted(alpha));
    if (!times_alpha) color_text_ += "  premultiplied: false\n";
  }

  void read_depth(const Node& node, Plate& plate) {
    std::string name;
    std::string channel = "Z";
    read_node(node, "plate_depth", plate_depth_knobs(), plate.means,
              [&](const std::string& key, const Node& value) {
                (key == "file" ? name : channel) = value.text();
              });
    for (const char* key : {"nearest", "farthest", "range"}) {
      said_ = said_ || node.find(key) != nullptr;
    }
    if (name.empty()) node.refuse("a plate's depth without a file");
    const std::string path = full_path(folder_, name);
    const auto kept = std::make_shared<const PixelPlanes>(at_place(node, [&] {
      return is_exr(path) ? read_exr_channels(path, {channel}) : read_png_numbers(path);
    }));
    plate.depth = image(kept, 0);
    depth_text_ = fmt::format("depth:\n  file: {}\n", yaml_quoted(name));
    if (is_exr(path)) depth_text_ += fmt::format("  channel: {}\n", yaml_quoted(channel));
  }

  /// What a depth buffer's values mean, by the projection that made them.
  void take_buffer(const Node& node, Plate& plate) {
    CameraMatrices theirs;
    read_matrices(node, theirs);
    const BufferDepth buffer = at_place(node, [&] { return buffer_depth(theirs); });
    // Distances at which values are 0 and 1; none for what is at infinity or behind the eye.
    const double at_zero = -buffer.b / buffer.a;
    const double at_one = buffer.b / (1 - buffer.a);
    const bool falls = buffer.b > 0;
    const double near = falls ? at_one : at_zero;
    const double far = falls ? at_zero : at_one;
    if (!(near > 0)) node.refuse("a projection without a near plane before the eye");
    plate.means.nearest = near;
    plate.means.farthest = far > near && far < 1e12 ? far : 0;
    plate.means.range = falls ? BufferRange::one_to_zero : BufferRange::zero_to_one;
  }

  const Scene& scene_;
  const std::string& folder_;
  std::string color_text_, depth_text_;
  bool said_ = false;
};

}  // namespace

std::shared_ptr<const SolidPart> read_plate(const Node& node, const Scene& scene,
                                            const std::string& folder) {
  return Reader(scene, folder).read(node);
}

std::string plate_text(const SolidPart& part, const Scene& scene, int indent) {
  const auto& plate = dynamic_cast<const Plate&>(part);
  if (plate.source_text.empty()) {
    throw Error(ErrorKind::input, "a plate from no file that a scene could name");
  }
  std::string text;
  if (plate.material >= 0) {
    text +=
        fmt::format("{:{}}material: {}\n", "", indent,
                    yaml_quoted(name_of_material(scene, static_cast<std::size_t>(plate.material))));
  }
  text += changed_lines(plate_knobs(), plate, indent);
  return text + indented(plate.source_text, indent);
}

std::vector<SceneNode> plate_nodes() {
  return {
      {"plate",
       "a picture that was made elsewhere, with its depth: lanes end where that says something "
       "stands",
       infos(plate_knobs()),
       {{"color", "a file name or a map", "its colors: a PNG or EXR file", "plate_color"},
        {"depth", "a map", "how far what it shows is", "plate_depth"},
        {"camera", "a camera", "the camera it was made with", "camera"},
        {"material", "a material name", "material of its surfaces, but for their color", ""},
        {"marks", "a list of [x, y, X, Y, Z]",
         "pixels and the places they show, in meters, for `check`", ""},
        {"ground", "a number, in meters",
         "height of a level floor of which some is seen, for `check`", ""}}},
      {"plate_color",
       "a plate's colors",
       {},
       {{"file", "a file name", ".png (sRGB) or .exr (linear)", ""},
        {"channels", "three names", "channels of an EXR file; [R, G, B] unless given", ""},
        {"alpha", "a name", "channel of an EXR file; where it is below 0.5 nothing stands", ""},
        {"premultiplied", "true or false",
         "whether colors of an EXR file are times its alpha; true unless given", ""}}},
      {"plate_depth",
       "a plate's depth",
       infos(plate_depth_knobs()),
       {{"file", "a file name",
         ".exr, or a gray .png of 8 or 16 bits, whose numbers go from 0 to 1", ""},
        {"channel", "a name", "channel of an EXR file; Z unless given", ""}}},
      {"matrices",
       "the two matrices of another program's camera",
       infos(camera_matrices_knobs()),
       {{"projection", "16 numbers", "from its view space to the picture", ""},
        {"view", "16 numbers", "from its world to its view space", ""}}},
  };
}

}  // namespace photonlane::io
