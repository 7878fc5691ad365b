#include "photonlane/world/scene.hpp"

namespace photonlane {

const CellMap& Room::cell_map() const {
  if (!cells) throw Error(ErrorKind::input, "the room has no cell map, expected one");
  return *cells;
}
CellMap& Room::cell_map() {
  return const_cast<CellMap&>(static_cast<const Room&>(*this).cell_map());
}

void Room::add(CellMap map) {
  if (cells) throw Error(ErrorKind::input, "a second cell map in a room, expected one");
  cells = std::move(map);
}

Cell Scene::wall(const Material& material, std::string name) {
  if (materials.size() >= 65535) {
    throw Error(ErrorKind::input, "more than 65535 materials");
  }
  material_names.resize(materials.size());
  materials.push_back(material);
  material_names.push_back(std::move(name));
  return wall_of(static_cast<std::uint32_t>(materials.size() - 1));
}

Room& Scene::add_room(std::string name) {
  rooms.emplace_back();
  rooms.back().name = std::move(name);
  return rooms.back();
}

int Scene::add(Texture texture, std::string name) {
  texture_names.resize(textures.size());
  textures.push_back(std::move(texture));
  texture_names.push_back(std::move(name));
  return static_cast<int>(textures.size() - 1);
}

}  // namespace photonlane
