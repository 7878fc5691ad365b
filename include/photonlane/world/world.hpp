#pragma once

///   const World world = compile(scene);
///   const Frame frame = render(world, camera, budget);
///   scene.room().light.ambient = {0.5f, 0.5f, 0.5f};
///   const World next = compile(scene, world);  // at the cost of what changed

#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string_view>
#include <utility>

#include <vector>

#include "photonlane/field/compiled_field.hpp"
#include "photonlane/grid/cell_solid.hpp"
#include "photonlane/world/camera.hpp"
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
  double face_shade = CellMap{}.face_shade;  ///< factor of faces toward north and south
  double cell_size = 1;
  /// All that lanes can meet, the cells first. Fields that do not bend light are joined to one, and
  /// so are those that do.
  std::vector<std::shared_ptr<const Solid>> solids;
  bool has_cells = false;
  /// All whose distances are known, but for what bends light, with values that are as near to
  /// distances as they get; or none. What bodies meet, and light that is guessed goes by.
  std::shared_ptr<const CompiledField> near_field;
  std::vector<Sprite> sprites;
  std::shared_ptr<const PortalFaces> portals;  ///< and the rims of swells; or none
  std::vector<Swell> swells;

  std::string name;

  /// Its cells, or null.
  const CellSolid* cells() const {
    return has_cells ? static_cast<const CellSolid*>(solids.front().get()) : nullptr;
  }
  std::size_t field_count = 0;  ///< of the solids: those behind the cells
  /// All but the cells: the fields, then the parts.
  std::span<const std::shared_ptr<const Solid>> others() const {
    return std::span(solids).subspan(has_cells ? 1 : 0);
  }
  /// Those that are CompiledFields.
  std::span<const std::shared_ptr<const Solid>> fields() const {
    return others().first(field_count);
  }
  /// Those that SolidParts were compiled to.
  std::span<const std::shared_ptr<const Solid>> parts() const {
    return others().subspan(field_count);
  }
  /// Lanes ask the cells and nothing else.
  bool only_cells() const { return has_cells && solids.size() == 1; }
};

/// What a room's solids were made of.
struct RoomSource {
  std::vector<Field> fields;
  std::vector<RoomBody> bodies;
  std::vector<std::shared_ptr<const SolidPart>> parts;
  std::vector<Field> measured;  ///< the fields, with what trying found of their estimates
  std::vector<Field> opaque;    ///< those of all that do not bend light
  std::uint32_t plain = 0;      ///< material of what has none
  std::vector<bool> bending;    ///< by material
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
    /// What of the scene its parts were made of, to know them again.
    std::vector<Texture> source_textures;
    std::vector<RoomSource> sources;

    double compile_ms = 0;
    std::size_t memory_bytes = 0;
    /// Whose surroundings are there: an eye in a room.
    std::optional<std::pair<std::size_t, Vec3d>> seen_from;
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
  /// How many pieces of what is made around an eye are not made yet; see seen_by().
  std::size_t missing() const;

 private:
  friend World edit(World world, std::span<const CellEdit> edits, std::size_t room);
  friend World compile(const Scene& scene, const World& before);
  friend World seen_by(const World& world, const Camera& camera, bool wait,
                       const std::function<bool()>& go_on);
  const Data& data() const {
    if (!data_) refuse_empty();
    return *data_;
  }
  [[noreturn]] static void refuse_empty();
  std::shared_ptr<const Data> data_;
};

/// Throws Error (input) for scenes that cannot be traced: no room, a room with nothing
/// in it, cells of materials that are not there, values out of range.
World compile(const Scene& scene);

/// The same world as compile(scene), made at the cost of what differs from one before: textures,
/// cell maps, fields and other solids that are as they were there are shared with it. Fields and
/// solids are known by their identity, texels too, so a scene that was copied and changed in places
/// shares all the rest; rooms and portals by their numbers. `before` stays as it is, and may be any
/// world. Throws as compile does.
World compile(const Scene& scene, const World& before);

/// The next world: cells of a room's map changed. A world that is moved in and has no other holder
/// is changed in place, at the cost of what changes; of any other a copy is made, and worlds held
/// elsewhere stay as they are. Throws Error (input) for cells outside
/// the map and materials that are not there, Error (usage) for a room that is not there and a world
/// that was moved from; worlds held elsewhere are as they were.
World edit(World world, std::span<const CellEdit> edits, std::size_t room = 0);

/// A world with what is made around a camera's eye (Voxels of a VoxelLand); in other rooms, around
/// the middle of their first portal. With `wait`, when all of it is made, else what there is by
/// now; `go_on` is asked while it waits. A world that was seen by the same eye is returned as it
/// is, if nothing is missing or nobody waits; so are worlds without such solids. render() and
/// walk() do this by themselves. Throws Error (input) for a room that is not there, Error
/// (cancelled) where `go_on` says false.
World seen_by(const World& world, const Camera& camera, bool wait,
              const std::function<bool()>& go_on = {});

}  // namespace photonlane
