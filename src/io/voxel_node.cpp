#include "io/voxel_node.hpp"

#include <cmath>
#include <limits>

#include "io/field_node.hpp"
#include "io/files.hpp"
#include "io/read_node.hpp"
#include "io/scene_names.hpp"
#include "io/sphere_node.hpp"
#include "io/yaml_text.hpp"
#include "photonlane/base/color.hpp"
#include "photonlane/io/voxel_file.hpp"
#include "photonlane/voxels/field_voxels.hpp"
#include "photonlane/voxels/land_sources.hpp"
#include "photonlane/voxels/terrace_generator.hpp"
#include "photonlane/voxels/voxels.hpp"

namespace photonlane::io {
namespace {

// A file of a few letters must not keep a machine busy for minutes.
constexpr std::int64_t most_garden_side = 1024;
constexpr std::int64_t most_points = 2048;
// Of fields whose values are estimates every cell is sampled.
constexpr std::int64_t most_estimated_points = 256;

/// A whole number within bounds.
std::int64_t read_count(const Node& node, std::string_view name, std::int64_t low,
                        std::int64_t high) {
  KnobInfo info;
  info.name = name;
  info.kind = KnobKind::integer;
  info.range = {static_cast<double>(low), static_cast<double>(high), false};
  std::int64_t value = 0;
  at_place(node, [&] { detail::assign(value, info, node.text()); });
  return value;
}

std::uint32_t read_color_code(const Node& node) {
  return color_code(at_place(node, [&] { return color_from_hex(node.text()); }));
}

std::string color_text(std::uint32_t color) { return fmt::format("\"#{:06x}\"", color); }

/// A map of keys that are all structure, each read by `take`.
template <class Take>
void read_keys(const Node& node, std::string_view kind, const Take& take) {
  int nothing = 0;
  read_node(node, kind, std::span<const Knob<int>>(), nothing, take);
}

VoxelKind read_kind(const Node& node, const Scene& scene) {
  VoxelKind kind;
  read_keys(node, "voxel_kind", [&](const std::string& key, const Node& value) {
    if (key == "material") kind.material = index_of(value, scene.material_names, "material");
    if (key == "color") kind.color = read_color_code(value);
  });
  return kind;
}

std::string kind_text(const VoxelKind& kind, const Scene& scene) {
  std::string text;
  if (kind.material >= 0) {
    text += "material: " +
            yaml_quoted(name_of_material(scene, static_cast<std::size_t>(kind.material)));
  }
  if (kind.color != VoxelKind::no_color) {
    text += (text.empty() ? "" : ", ") + fmt::format("color: {}", color_text(kind.color));
  }
  return text;
}

/// Makes a grid and gives what is wrong with its source the place of a node.
std::shared_ptr<const VoxelGrid> make_grid(
    const Node& node, const VoxelGridOptions& options,
    const std::function<std::unique_ptr<VoxelSource>()>& open) {
  try {
    return VoxelGrid::make(*open(), options);
  } catch (const Error& error) {
    if (!error.place().file.empty() && error.place().file == node.place().file) throw;
    const std::string where = place_text(error.place());
    node.refuse(where.empty() ? error.message() : where + ": " + error.message());
  }
}

/// What a part is made from, as it is read.
class Reader {
 public:
  Reader(const Scene& scene, const std::string& folder, Voxels& part, bool cell_given)
      : scene_(scene), folder_(folder), part_(part), cell_given_(cell_given) {}

  VoxelGridOptions options;

  void file(const Node& node) {
    const std::string path = path_from(folder_, node.text());
    try {
      part_.grid = map_voxels(path);
    } catch (const Error& error) {
      const std::string where = place_text(error.place());
      node.refuse(where.empty() ? error.message() : where + ": " + error.message());
    }
    part_.source_text = fmt::format("file: {}\n", yaml_quoted(node.text()));
  }

  void terraces(const Node& node) {
    TerraceRecipe recipe;
    read_plain(node, "terraces", terrace_recipe_knobs(), recipe);
    if (recipe.side > most_garden_side) {
      node.refuse(
          fmt::format("{} cells a side, expected {} at most; for more: photonlane make "
                      "terraces -o FILE, and file: FILE",
                      recipe.side, most_garden_side));
    }
    part_.grid = make_grid(node, options, [&] {
      return std::make_unique<TerraceSource>(recipe, material(0), material(1));
    });
    part_.source_text = "terraces:\n" + changed_lines(terrace_recipe_knobs(), recipe, 2);
    if (part_.source_text == "terraces:\n") part_.source_text = "terraces: {}\n";
  }

  void raw(const Node& node) {
    RawVoxels raw;
    const Node* size = nullptr;
    std::string name;
    std::string kinds;
    read_keys(node, "raw_voxels", [&](const std::string& key, const Node& value) {
      if (key == "file") {
        name = value.text();
      } else if (key == "size") {
        size = &value;
      } else if (key == "bytes") {
        raw.bytes = static_cast<int>(read_count(value, "bytes", 1, 2));
      } else if (key == "offset") {
        raw.offset =
            static_cast<std::uint64_t>(read_count(value, "offset", 0, std::int64_t{1} << 50));
      } else {
        for (const Node& one : value.list("a list of kinds")) {
          raw.kinds.push_back(read_kind(one, scene_));
          kinds += fmt::format("    - {{{}}}\n", kind_text(raw.kinds.back(), scene_));
        }
      }
    });
    if (name.empty()) node.refuse("raw voxels without a file");
    if (size == nullptr) node.refuse("raw voxels without a size [x, y, z]");
    const auto& sides = size->list("a size [x, y, z]");
    if (sides.size() != 3) {
      size->refuse(fmt::format("{} numbers, expected [x, y, z]", sides.size()));
    }
    for (std::size_t k = 0; k < 3; ++k) {
      raw.size[k] = static_cast<std::int32_t>(read_count(sides[k], "size", 1, 65536));
    }
    raw.path = path_from(folder_, name);
    part_.grid = make_grid(node, options, [&] { return open_raw_voxels(raw); });
    part_.source_text = fmt::format("raw:\n  file: {}\n  size: [{}, {}, {}]\n", yaml_quoted(name),
                                    raw.size[0], raw.size[1], raw.size[2]);
    if (raw.bytes != 1) part_.source_text += fmt::format("  bytes: {}\n", raw.bytes);
    if (raw.offset != 0) part_.source_text += fmt::format("  offset: {}\n", raw.offset);
    if (!kinds.empty()) part_.source_text += "  kinds:\n" + kinds;
  }

  void slices(const Node& node) {
    VoxelSlices slices;
    std::string names;
    const auto take = [&](const Node& one) {
      slices.paths.push_back(path_from(folder_, one.text()));
      names += (names.empty() ? "" : ", ") + yaml_quoted(one.text());
    };
    if (node.kind() == Node::Kind::list) {
      for (const Node& one : node.list("files")) take(one);
    } else {
      take(node);
    }
    part_.grid = make_grid(node, options, [&] { return open_voxel_slices(slices); });
    part_.source_text = fmt::format("slices: [{}]\n", names);
  }

  void heights(const Node& node) {
    VoxelHeights heights;
    std::string name;
    std::string layers;
    read_keys(node, "voxel_heights", [&](const std::string& key, const Node& value) {
      if (key == "file") {
        name = value.text();
      } else if (key == "height") {
        heights.height = read_count(value, "height", 1, 65536);
      } else {
        for (const Node& one : value.list("a list of layers")) {
          VoxelHeights::Layer layer;
          read_keys(one, "soil", [&](const std::string& word, const Node& of) {
            if (word == "material") {
              layer.kind.material = index_of(of, scene_.material_names, "material");
            } else if (word == "color") {
              layer.kind.color = read_color_code(of);
            } else {
              layer.depth = read_count(of, "depth", 1, 65536);
            }
          });
          heights.layers.push_back(layer);
          std::string own = kind_text(layer.kind, scene_);
          if (layer.depth > 0) {
            own += (own.empty() ? "" : ", ") + fmt::format("depth: {}", layer.depth);
          }
          layers += fmt::format("    - {{{}}}\n", own);
        }
      }
    });
    if (name.empty()) node.refuse("heights without a file");
    if (heights.layers.empty()) heights.layers.push_back({});
    heights.path = path_from(folder_, name);
    part_.grid = make_grid(node, options, [&] { return open_voxel_heights(heights); });
    part_.source_text =
        fmt::format("heights:\n  file: {}\n  height: {}\n", yaml_quoted(name), heights.height);
    if (!layers.empty()) part_.source_text += "  layers:\n" + layers;
  }

  void points(const Node& node) {
    if (!cell_given_) node.refuse("points need cells of a size: cell: METERS");
    SphereFiles files;
    std::vector<std::string> names;
    read_keys(node, "voxel_points", [&](const std::string& key, const Node& value) {
      if (key == "files") {
        read_file_names(value, folder_, names, files);
      } else {
        read_file_key(key, value, files);
      }
    });
    if (names.empty()) node.refuse("points without files");
    Vec3d corner;
    part_.grid = make_grid(node, options, [&] {
      auto source = std::make_unique<VoxelPoints>(files, part_.cell);
      corner = source->corner();
      return source;
    });
    part_.at = corner;
    placed_ = true;
    part_.source_text = "points:\n" + file_lines(names, files, 2);
  }

  void field(const Node& node) {
    if (cell_given_)
      node.refuse("a field's cells are as large as its points say, expected no cell");
    FieldVoxelRecipe recipe;
    const Node* of = nullptr;
    read_node(node, "field_voxels", field_voxel_recipe_knobs(), recipe,
              [&](const std::string&, const Node& value) { of = &value; });
    if (of == nullptr) node.refuse("a field's voxels without `of`, the field");
    std::map<const void*, Field> read;
    const Field field = read_field(*of, {scene_, folder_, read});
    const std::int64_t most = field.estimates() ? most_estimated_points : most_points;
    if (recipe.points > most) {
      node.refuse(
          fmt::format("{} points, expected {} at most{}; for more: photonlane make voxels "
                      "-o FILE, and file: FILE",
                      recipe.points, most, field.estimates() ? " for estimated distances" : ""));
    }
    const std::vector<std::uint32_t> colors(scene_.materials.size(), VoxelKind::no_color);
    part_.grid = make_grid(node, options, [&] {
      auto source = std::make_unique<FieldVoxels>(field, recipe, colors);
      part_.cell = source->cell();
      part_.at = source->corner();
      return source;
    });
    placed_ = true;
    part_.source_text = fmt::format("field:\n  points: {}\n  of:\n    {}", recipe.points,
                                    field_text(field, scene_, 4));
    if (!part_.source_text.ends_with('\n')) part_.source_text += '\n';
    sized_ = true;
  }

  void land(const Node& node) {
    LandOptions land;
    std::shared_ptr<const LandSource> source;
    std::string text;
    int sources = 0;
    read_node(node, "voxel_land", land_options_knobs(), land,
              [&](const std::string& key, const Node& value) {
                ++sources;
                source = key == "garden" ? garden(value, text) : field_land(value, text);
              });
    if (sources != 1) node.refuse("expected what the land is once: garden or field");
    part_.land = at_place(
        node, [&] { return std::make_shared<VoxelLand>(std::move(source), std::move(land)); });
    part_.source_text =
        "land:\n" + changed_lines(land_options_knobs(), part_.land->options(), 2) + text;
  }

  bool placed() const { return placed_; }
  bool sized() const { return sized_; }

 private:
  std::shared_ptr<const LandSource> garden(const Node& node, std::string& text) {
    GardenRecipe recipe;
    read_plain(node, "garden", garden_recipe_knobs(), recipe);
    const std::string lines = changed_lines(garden_recipe_knobs(), recipe, 4);
    text = lines.empty() ? "  garden: {}\n" : "  garden:\n" + lines;
    return std::make_shared<GardenLand>(recipe, material(0), material(1));
  }

  std::shared_ptr<const LandSource> field_land(const Node& node, std::string& text) {
    std::map<const void*, Field> read;
    const Field field = read_field(node, {scene_, folder_, read});
    text = "  field:\n    " + field_text(field, scene_, 4);
    if (!text.ends_with('\n')) text += '\n';
    const std::vector<std::uint32_t> colors(scene_.materials.size(), VoxelKind::no_color);
    return std::make_shared<FieldLand>(field, part_.cell, colors);
  }

  int material(int number) const { return number < std::ssize(part_.materials) ? number : -1; }

  const Scene& scene_;
  const std::string& folder_;
  Voxels& part_;
  bool cell_given_;
  bool placed_ = false;
  bool sized_ = false;
};

}  // namespace

std::shared_ptr<const SolidPart> read_voxels(const Node& node, const Scene& scene,
                                             const std::string& folder) {
  auto part = std::make_shared<Voxels>();
  const Node* source = nullptr;
  std::string source_key;
  int sources = 0;
  bool shared = false;
  read_node(node, "voxels", voxels_knobs(), *part, [&](const std::string& key, const Node& value) {
    if (key == "material") {
      part->material = index_of(value, scene.material_names, "material");
    } else if (key == "materials") {
      for (const Node& one : value.list("a list of materials")) {
        part->materials.push_back(index_of(one, scene.material_names, "material"));
      }
    } else if (key == "shared") {
      shared = read_flag(value, key);
    } else {
      source = &value;
      source_key = key;
      ++sources;
    }
  });
  if (sources != 1) {
    node.refuse(
        "expected where voxels are from once: file, terraces, raw, slices, heights, points, field "
        "or land");
  }
  const Node* const placed = node.find("place");
  Reader reader(scene, folder, *part, node.find("cell") != nullptr);
  reader.options.shared = shared;
  if (source_key == "file") reader.file(*source);
  if (source_key == "terraces") reader.terraces(*source);
  if (source_key == "raw") reader.raw(*source);
  if (source_key == "slices") reader.slices(*source);
  if (source_key == "heights") reader.heights(*source);
  if (source_key == "points") reader.points(*source);
  if (source_key == "field") reader.field(*source);
  if (source_key == "land") reader.land(*source);
  if (reader.placed() && placed != nullptr) {
    placed->refuse(fmt::format("a place for voxels of {}, which stand where those are",
                               source_key == "field" ? "a field" : "points"));
  }
  if (shared && part->land != nullptr) node.refuse("shared cubes of a land, which has none");
  if (shared) part->source_text += "shared: true\n";
  part->own_place = reader.placed();
  part->own_cell = reader.sized();
  return part;
}

std::string voxels_text(const SolidPart& part, const Scene& scene, int indent) {
  const auto& voxels = dynamic_cast<const Voxels&>(part);
  if (voxels.source_text.empty()) {
    throw Error(ErrorKind::input, "voxels from no file that a scene could name");
  }
  std::string text;
  const auto material = [&](int index) {
    return index < 0 ? std::string("null")
                     : yaml_quoted(name_of_material(scene, static_cast<std::size_t>(index)));
  };
  if (voxels.material >= 0) {
    text += fmt::format("{:{}}material: {}\n", "", indent, material(voxels.material));
  }
  if (!voxels.materials.empty()) {
    text += fmt::format("{:{}}materials: [", "", indent);
    for (const int& one : voxels.materials) {
      text += (&one == voxels.materials.data() ? "" : ", ") + material(one);
    }
    text += "]\n";
  }
  Voxels said = voxels;
  // What the source says is not said again.
  if (said.own_place) said.at = Voxels().at;
  if (said.own_cell) said.cell = Voxels().cell;
  return text + changed_lines(voxels_knobs(), said, indent) + indented(voxels.source_text, indent);
}

std::vector<SceneNode> voxel_nodes() {
  const std::string_view names = "a name or a list of names";
  return {
      {"voxels",
       "small cubes in a grid, most of them empty or buried; made from one of: file, terraces, "
       "raw, slices, heights, points, field, land",
       infos(voxels_knobs()),
       {{"material", "a material name", "material of voxels that have none of their own", ""},
        {"materials", "a list of material names", "what the numbers of materials in grids mean",
         ""},
        {"shared", "true or false", "keep equal cubes of 16 and 64 cells once", ""},
        {"file", "a file name", "made by `photonlane make voxels` or `make terraces`", ""},
        {"terraces", "a map",
         "a terraced garden that is made up; of `materials`, the first are its lanterns, the "
         "second "
         "its water",
         "terraces"},
        {"raw", "a map", "numbers of a box of cells, and nothing else in the file", "raw_voxels"},
        {"slices", names,
         "pictures of layers, the lowest first: cells of their pixels' colors, clear and black "
         "ones "
         "empty",
         ""},
        {"heights", "a map", "heights by a picture's brightness", "voxel_heights"},
        {"points", "a map", "cells that points lie in; `cell` is their size", "voxel_points"},
        {"field", "a map", "cells whose middles lie in a field", "field_voxels"},
        {"land", "a map", "cells without end, made around the eye", "voxel_land"}}},
      {"voxel_land",
       "cells without end, made around the eye from one of: garden, field. Lanterns and water of "
       "gardens are of the first two of `materials`",
       infos(land_options_knobs()),
       {{"garden", "a map", "hills with terraces that are made up", "garden"},
        {"field", "a field, see Fields", "cells whose middles lie in it; it may be without end",
         ""}}},
      {"garden", "a garden without end, always the same", infos(garden_recipe_knobs()), {}},
      {"terraces",
       "a terraced garden on a hillside, always the same",
       infos(terrace_recipe_knobs()),
       {}},
      {"raw_voxels",
       "numbers of cells, x fastest, then y, then z; 0 is empty",
       {},
       {{"file", "a file name", "where they are", ""},
        {"size", "three integers [x, y, z]", "how many cells along each axis", ""},
        {"bytes", "integer, 1 to 2", "of a number, little-endian; 1 unless given", ""},
        {"offset", "integer, 0 or more", "bytes before the first; 0 unless given", ""},
        {"kinds", "a list of voxel_kinds", "what the numbers from 1 on are; grays unless given",
         "voxel_kind", Holds::list}}},
      {"voxel_kind",
       "what voxels of one number are",
       {},
       {{"material", "a material name", "their material", ""},
        {"color", "\"#rrggbb\"", "their color instead of the material's", ""}}},
      {"voxel_heights",
       "ground as high as a picture is bright",
       {},
       {{"file", "a file name", "the picture", ""},
        {"height", "integer, 1 to 65536", "cells, of white; 256 unless given", ""},
        {"layers", "a list of soils", "from the ground down", "soil", Holds::list}}},
      {"soil",
       "a layer of ground",
       {},
       {{"material", "a material name", "its material", ""},
        {"color", "\"#rrggbb\"", "its color instead of the material's", ""},
        {"depth", "integer, 1 to 65536", "cells; the last layer goes on to the bottom", ""}}},
      {"voxel_points",
       "points in files, as spheres have them",
       {},
       {{"files", names, ".ply, .csv or .spheres; * and ? stand for any letters", ""},
        {"scale", "number, more than 0", "places are times this; 1 unless given", ""},
        {"columns", "a map", "what quantities are called", "sphere_columns"},
        {"record", "a map", "where numbers lie in files that are nothing else", "sphere_record"}}},
      {"field_voxels",
       "a field as voxels",
       infos(field_voxel_recipe_knobs()),
       {{"of", "a field, see Fields", "the field", ""}}},
  };
}

}  // namespace photonlane::io
