#pragma once

#include <memory>
#include <optional>
#include <span>
#include <string_view>

#include <vector>

#include "photonlane/field/compiled_field.hpp"
#include "photonlane/grid/cell_solid.hpp"
#include "photonlane/world/scene.hpp"

namespace photonlane {

class TextureSet;
class PortalFaces;

/// A room compiled for tracing.
struct CompiledRoom {
  Fog fog;
  Lighting light;
  std::uint32_t floor = 0;    ///< index of its material
  std::uint32_t ceiling = 0;  ///< index of its material
  std::uint32_t open = 0;     ///< index of the material that lanes see which leave
  bool has_ceiling = true;
  std::optional<Sky> sky;
  double ceiling_height = 0;
  double face_shade = 1;  ///< factor of faces toward north and south
  double cell_size = 1;
  std::shared_ptr<const CellSolid> cells;
  bool fields_only = false;  ///< cells are of an empty map that lanes do not ask
  std::shared_ptr<const CompiledField>
      field;  ///< those of its fields that do not bend light, joined to march through, or none
  std::shared_ptr<const CompiledField> near_field;   ///< the same with the fields' own values
  std::shared_ptr<const CompiledField> clear_field;  ///< those that bend light, joined, or none
  std::vector<Sprite> sprites;
  std::shared_ptr<const PortalFaces> portals;  ///< and the rims of swells; or none
  std::vector<Swell> swells;

  std::string name;

  bool has_fields() const { return field != nullptr || clear_field != nullptr; }
};

/// A scene compiled for tracing: immutable, cheap to copy, shared by all threads.
class World {
 public:
  struct Data {
    std::vector<Material> materials;
    std::size_t scene_materials = 0;
    std::uint32_t spent = 0;
    std::shared_ptr<const TextureSet> textures;
    std::vector<CompiledRoom> rooms;
    std::vector<PortalInfo> portals;
    std::optional<EscapePlane> plane;

    double compile_ms = 0;
    std::size_t memory_bytes = 0;
  };
  explicit World(std::shared_ptr<const Data> data) : data_(std::move(data)) {}

  // All of these throw Error (usage) for a world that was moved from.

  /// The scene's materials, then those of floors, ceilings and of what is not there.
  const std::vector<Material>& materials() const { return data().materials; }
  /// The index of the material that lanes show which ran out of budget.
  std::uint32_t spent_material() const { return data().spent; }
  const TextureSet& textures() const { return *data().textures; }
  /// The first room: the only one of a plain scene.
  const CompiledRoom& room() const { return data().rooms.front(); }
  std::span<const CompiledRoom> rooms() const { return data().rooms; }
  /// Which room has a name; empty: the first. Throws Error (input) where none has.
  std::size_t room_index(std::string_view name) const;
  std::span<const PortalInfo> portals() const { return data().portals; }
  /// What the world is instead of rooms, or null; its one room is empty then.
  const EscapePlane* plane() const { return data().plane ? &*data().plane : nullptr; }

  /// Milliseconds that compiling took, or the edit since.
  double compile_ms() const { return data().compile_ms; }
  /// Bytes held for tracing.
  std::size_t memory_bytes() const { return data().memory_bytes; }

 private:
  friend World edit(World world, std::span<const CellEdit> edits, std::size_t room);
  const Data& data() const {
    if (!data_) refuse_empty();
    return *data_;
  }
  [[noreturn]] static void refuse_empty();
  std::shared_ptr<const Data> data_;
};

/// Throws Error (input) for scenes that cannot be traced: no room, a room without a cell map or a
/// field, or with more than one map, cells of materials that are not there, values out of range.
World compile(const Scene& scene);

/// The next world: cells of a room's map changed. A world that is given up to it (std::move) and
/// that nobody else holds is changed where it stands, at the cost of what changes; of any other a
/// copy is made, and worlds held elsewhere stay as they are. Throws Error (input) for cells outside
/// the map and materials that are not there, Error (usage) for a room that is not there and a world
/// that was moved from; worlds held elsewhere are as they were.
World edit(World world, std::span<const CellEdit> edits, std::size_t room = 0);

}  // namespace photonlane
