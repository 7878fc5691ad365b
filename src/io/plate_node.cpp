#include "io/plate_node.hpp"

#include <fmt/format.h>

#include "io/camera_node.hpp"
#include "io/files.hpp"
#include "io/plate_file.hpp"
#include "io/read_node.hpp"
#include "io/scene_names.hpp"
#include "io/yaml_text.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/world/camera_matrices.hpp"

namespace photonlane::io {
namespace {

/// What files have of a plate, which images point into.
using Planes = std::shared_ptr<const PixelPlanes>;

/// The pixels of a frame that all of them have.
PixelPart common_part(std::span<const Planes> all) {
  PixelPart part{all[0]->left, all[0]->top, all[0]->size};
  for (const Planes& one : all) {
    part = overlap(part, {one->left, one->top, one->size});
  }
  return part;
}

PlateImage image(const Planes& planes, std::size_t which, const PixelPart& part) {
  const std::ptrdiff_t down = planes->size.width;
  const std::ptrdiff_t first = (part.y - planes->top) * down + (part.x - planes->left);
  return {part.size, planes->planes[which].data() + first, 1, down, planes};
}

/// Reads a map that has no knobs.
template <class Structure>
void read_structure(const Node& node, std::string_view kind, const Structure& structure) {
  int nothing = 0;
  read_node(node, kind, std::span<const Knob<int>>(), nothing, structure);
}

constexpr double farthest_out = 1e9;

class Reader {
 public:
  Reader(const Scene& scene, const std::string& folder) : scene_(scene), folder_(folder) {}

  std::shared_ptr<const SolidPart> read(const Node& node) {
    auto plate = std::make_shared<Plate>();
    const Node* color = nullptr;
    const Node* depth = nullptr;
    const Node* camera = nullptr;
    const Node* mask = nullptr;
    const Node* normals = nullptr;
    read_node(node, "plate", plate_knobs(), *plate, [&](const std::string& key, const Node& value) {
      if (key == "material") {
        plate->material = index_of(value, scene_.material_names, "material");
      }
      if (key == "color") color = &value;
      if (key == "depth") depth = &value;
      if (key == "mask") mask = &value;
      if (key == "normals") normals = &value;
      if (key == "camera") camera = &value;
      if (key == "marks") read_marks(value, *plate);
      if (key == "ground") plate->ground = number(value);
    });
    if (color == nullptr || depth == nullptr || camera == nullptr) {
      node.refuse("a plate without color, depth or camera, expected all three");
    }
    read_color(*color);
    read_depth(*depth, plate->means);
    if (mask != nullptr) read_mask(*mask);
    if (normals != nullptr) read_normals(*normals);
    const Size frame = all_.front()->frame;
    for (std::size_t k = 1; k < all_.size(); ++k) {
      const Size other = all_[k]->frame;
      if (other == frame) continue;
      node.refuse(
          fmt::format("a plate with color of {}x{} pixels and {} of {}x{}, expected the same",
                      frame.width, frame.height, names_[k], other.width, other.height));
    }
    read_camera(*camera, frame, plate->camera);
    if (plate->means.kind == DepthKind::buffer && !said_ && camera->find("matrices") != nullptr) {
      take_buffer(*camera->find("matrices"), *plate);
    }
    plate->source_text = files_text_ + depth_text_ +
                         changed_lines(plate_depth_knobs(), plate->means, 2) + "camera:\n" +
                         changed_lines(camera_knobs(), plate->camera, 2) + known_text(*plate);
    // Everything that is wrong with it has a place in the file.
    at_place(node, [&] {
      point(frame, *plate);
      plate->validate(scene_.materials.size());
    });
    return plate;
  }

 private:
  static double number(const Node& node) { return read_number(node, -farthest_out, farthest_out); }

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

  /// Points the plate's images to what the files have, all of what lies around the frame as well.
  void point(Size frame, Plate& plate) const {
    const PixelPart part = common_part(all_);
    plate.frame = frame;
    plate.camera = part_camera(plate.camera, frame, part);
    for (PlateMark& mark : plate.marks) {
      mark.x -= part.x;
      mark.y -= part.y;
    }
    plate.red = image(color_, 0, part);
    plate.green = image(color_, 1, part);
    plate.blue = image(color_, 2, part);
    if (color_->planes.size() > 3) plate.alpha = image(color_, 3, part);
    plate.depth = image(depth_, 0, part);
    if (normals_ == nullptr) return;
    const Planes kept =
        view_space_ ? turned(*normals_, viewing(plate.camera, part.size)) : normals_;
    for (std::size_t axis = 0; axis < 3; ++axis) plate.normal[axis] = image(kept, axis, part);
  }

  /// Normals along the world's axes, from those along a camera's: right, up, and toward the eye.
  static Planes turned(PixelPlanes planes, const Viewing& view) {
    for (std::size_t i = 0; i < planes.planes[0].size(); ++i) {
      const Vec3d own(planes.planes[0][i], planes.planes[1][i], planes.planes[2][i]);
      const Vec3d way = own.x() * view.right + own.y() * view.up - own.z() * view.forward;
      for (std::size_t axis = 0; axis < 3; ++axis) {
        planes.planes[axis][i] = static_cast<float>(way[static_cast<Eigen::Index>(axis)]);
      }
    }
    return std::make_shared<const PixelPlanes>(std::move(planes));
  }

  /// The channels of a file, and of a PNG what `read_png` gives.
  template <class ReadPng>
  Planes read_file(const Node& node, std::string_view what, const std::string& name,
                   const std::vector<std::string>& channels, const ReadPng& read_png) {
    if (name.empty()) node.refuse(fmt::format("a plate's {} without a file", what));
    const std::string path = path_from(folder_, name);
    PixelPlanes planes = at_place(
        node, [&] { return is_exr(path) ? read_exr_channels(path, channels) : read_png(path); });
    all_.push_back(std::make_shared<const PixelPlanes>(std::move(planes)));
    names_.emplace_back(what);
    return all_.back();
  }

  static std::vector<std::string> three_names(const Node& node, std::string_view which) {
    std::vector<std::string> names;
    const std::string expected = fmt::format("three channels, {}", which);
    for (const Node& one : node.list(expected)) names.push_back(one.text());
    if (names.size() != 3) node.refuse("expected " + expected);
    return names;
  }

  static std::string three_text(const std::vector<std::string>& names) {
    return fmt::format("  channels: [{}, {}, {}]\n", yaml_quoted(names[0]), yaml_quoted(names[1]),
                       yaml_quoted(names[2]));
  }

  void read_color(const Node& node) {
    std::string name;
    std::vector<std::string> channels{"R", "G", "B"};
    std::string alpha;
    bool times_alpha = true;
    if (node.kind() == Node::Kind::map) {
      read_structure(node, "plate_color", [&](const std::string& key, const Node& value) {
        if (key == "file") name = value.text();
        if (key == "alpha") alpha = value.text();
        if (key == "premultiplied") times_alpha = read_flag(value, key);
        if (key == "channels") channels = three_names(value, "of red, green and blue");
      });
    } else {
      name = node.text();
    }
    const bool exr = is_exr(name);
    files_text_ = fmt::format("color:\n  file: {}\n", yaml_quoted(name));
    if (exr) files_text_ += three_text(channels);
    if (!alpha.empty()) {
      files_text_ += fmt::format("  alpha: {}\n", yaml_quoted(alpha));
      channels.push_back(alpha);
    }
    if (!times_alpha) files_text_ += "  premultiplied: false\n";
    color_ = read_file(node, "color", name, channels, read_png_light);
    // A PNG's colors are never times its alpha.
    if (color_->planes.size() > 3 && !(exr && times_alpha)) {
      PixelPlanes planes = *color_;
      dim(planes, planes.planes[3]);
      replace_color(std::move(planes));
    }
  }

  /// Multiplies colors.
  static void dim(PixelPlanes& planes, const std::vector<float>& by) {
    for (std::size_t channel = 0; channel < 3; ++channel) {
      for (std::size_t i = 0; i < by.size(); ++i) planes.planes[channel][i] *= by[i];
    }
  }

  void replace_color(PixelPlanes planes) {
    all_.front() = color_ = std::make_shared<const PixelPlanes>(std::move(planes));
  }

  void read_depth(const Node& node, PlateDepth& means) {
    std::string name;
    std::string channel = "Z";
    read_node(node, "plate_depth", plate_depth_knobs(), means,
              [&](const std::string& key, const Node& value) {
                (key == "file" ? name : channel) = value.text();
              });
    for (const char* key : {"nearest", "farthest", "range"}) {
      said_ = said_ || node.find(key) != nullptr;
    }
    depth_ = read_file(node, "depth", name, {channel}, read_png_numbers);
    depth_text_ = fmt::format("depth:\n  file: {}\n", yaml_quoted(name));
    if (is_exr(name)) depth_text_ += fmt::format("  channel: {}\n", yaml_quoted(channel));
  }

  /// What of the plate is taken: the colors and the alpha times it.
  void read_mask(const Node& node) {
    std::string name;
    std::string channel = "R";
    bool inverted = false;
    if (node.kind() == Node::Kind::map) {
      read_structure(node, "plate_mask", [&](const std::string& key, const Node& value) {
        if (key == "file") name = value.text();
        if (key == "channel") channel = value.text();
        if (key == "inverted") inverted = read_flag(value, key);
      });
    } else {
      name = node.text();
    }
    const Planes mask = read_file(node, "mask", name, {channel}, read_png_numbers);
    files_text_ += fmt::format("mask:\n  file: {}\n", yaml_quoted(name));
    if (is_exr(name)) files_text_ += fmt::format("  channel: {}\n", yaml_quoted(channel));
    if (inverted) files_text_ += "  inverted: true\n";
    PixelPlanes planes = *color_;
    if (planes.planes.size() < 4) {
      planes.planes.emplace_back(planes.planes[0].size(), 1.0f);
    }
    // Both may have pixels around the frame; outside of the mask nothing is taken.
    std::vector<float> share(planes.planes[0].size(), 0.0f);
    const PixelPart part =
        overlap({planes.left, planes.top, planes.size}, {mask->left, mask->top, mask->size});
    for (int y = part.y; y < part.y + part.size.height; ++y) {
      for (int x = part.x; x < part.x + part.size.width; ++x) {
        const auto at = [&](const PixelPlanes& of) {
          return static_cast<std::size_t>(y - of.top) * static_cast<std::size_t>(of.size.width) +
                 static_cast<std::size_t>(x - of.left);
        };
        const float value = std::clamp(mask->planes[0][at(*mask)], 0.0f, 1.0f);
        const float taken = inverted ? 1 - value : value;
        // What is no number takes nothing.
        share[at(planes)] = taken >= 0 ? taken : 0;
      }
    }
    dim(planes, share);
    for (std::size_t i = 0; i < share.size(); ++i) planes.planes[3][i] *= share[i];
    replace_color(std::move(planes));
  }

  void read_normals(const Node& node) {
    std::string name;
    std::vector<std::string> channels{"N.X", "N.Y", "N.Z"};
    if (node.kind() == Node::Kind::map) {
      read_structure(node, "plate_normals", [&](const std::string& key, const Node& value) {
        if (key == "file") name = value.text();
        if (key == "channels") channels = three_names(value, "of x, y and z");
        if (key == "of_view") view_space_ = read_flag(value, key);
      });
    } else {
      name = node.text();
    }
    if (!name.empty() && !is_exr(name)) node.refuse("normals of no EXR file, expected .exr");
    normals_ = read_file(node, "normals", name, channels, read_png_light);
    files_text_ += fmt::format("normals:\n  file: {}\n", yaml_quoted(name)) + three_text(channels);
    if (view_space_) files_text_ += "  of_view: true\n";
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
  std::vector<Planes> all_;         ///< the color first
  std::vector<std::string> names_;  ///< of all, in words
  Planes color_, depth_, normals_;
  bool view_space_ = false;  ///< normals are along the camera's axes
  std::string files_text_, depth_text_;
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
        {"mask", "a file name or a map",
         "how much of each pixel is taken from the plate: 1 all, 0 nothing, as if it were not "
         "there",
         "plate_mask"},
        {"normals", "a file name or a map",
         "which way its surfaces face; without them, as its depth says", "plate_normals"},
        {"marks", "a list of [x, y, X, Y, Z]",
         "pixels and the places they show, in meters, for `check`", ""},
        {"ground", "a number, in meters",
         "height of a level floor of which some is seen, for `check`", ""}}},
      {"plate_color",
       "a plate's colors",
       {},
       {{"file", "a file name", ".png (sRGB) or .exr (linear)", ""},
        {"channels", "three names", "channels of an EXR file; [R, G, B] unless given", ""},
        {"alpha", "a name", "channel of an EXR file: how much of a pixel it covers", ""},
        {"premultiplied", "true or false",
         "whether colors of an EXR file are times its alpha; true unless given", ""}}},
      {"plate_depth",
       "a plate's depth",
       infos(plate_depth_knobs()),
       {{"file", "a file name",
         ".exr, or a gray .png of 8 or 16 bits, whose numbers go from 0 to 1", ""},
        {"channel", "a name", "channel of an EXR file; Z unless given", ""}}},
      {"plate_mask",
       "which part of a plate is taken",
       {},
       {{"file", "a file name",
         ".exr, or a gray .png of 8 or 16 bits, whose numbers go from 0 to 1", ""},
        {"channel", "a name", "channel of an EXR file; R unless given", ""},
        {"inverted", "true or false", "1 leaves out and 0 takes; false unless given", ""}}},
      {"plate_normals",
       "which way a plate's surfaces face",
       {},
       {{"file", "a file name", ".exr", ""},
        {"channels", "three names", "channels of x, y and z; [N.X, N.Y, N.Z] unless given", ""},
        {"of_view", "true or false",
         "numbers are along the camera's axes: x to the right, y up, z toward the eye; false "
         "unless "
         "given: along the world's",
         ""}}},
      {"matrices",
       "the two matrices of another program's camera",
       infos(camera_matrices_knobs()),
       {{"projection", "16 numbers", "from its view space to the picture", ""},
        {"view", "16 numbers", "from its world to its view space", ""}}},
  };
}

}  // namespace photonlane::io
