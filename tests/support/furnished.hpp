#pragma once

#include "support/scenes.hpp"

namespace photonlane::test {

/// A room with some of everything: textures, low blocks, doors, panes, mist, sprites, a wet floor,
/// a glass roof under a sky, sun and lamps.
inline Scene furnished_scene() {
  Scene scene;
  const int brick = scene.add(make_texture({.pattern = Pattern::brick, .width = 64, .height = 64}));
  const int roof = scene.add(make_texture(
      {.pattern = Pattern::glazing, .width = 64, .height = 64, .columns = 2, .rows = 2}));
  const int plant = scene.add(make_texture({.pattern = Pattern::plant, .width = 48, .height = 64}));
  const Cell wall = scene.wall({.base = {1, 1, 1}, .texture = brick, .tile = 1}, "wall");
  const Cell stone = scene.wall({.base = {0.5f, 0.45f, 0.4f}}, "stone");
  const Cell pane =
      scene.wall({.base = {0.5f, 0.4f, 0.2f}, .opacity = 0.3, .tint = {1, 0.8f, 0.5f}}, "pane");
  const Cell mist = scene.wall({.base = {0.8f, 0.7f, 0.6f}, .density = 0.7}, "mist");
  scene.wall({.base = {0.9f, 0.9f, 0.8f}, .wetness = 0.8}, "wet");
  scene.wall({.base = {1, 1, 1}, .texture = plant}, "plant");
  const CellForm door{.shape = CellShape::sliding, .along = PanelAxis::y, .opening = 0.4};
  const CellForm gate{.shape = CellShape::swinging, .along = PanelAxis::y, .opening = 0.3};
  const CellForm thin{.shape = CellShape::pane, .along = PanelAxis::y, .thickness = 0.05};
  const LegendLetter legend[] = {
      {U'#', wall},
      {U'b', stone, LegendLetter::Mark::none, CellForm{.height = 0.6}},
      {U'c', stone, LegendLetter::Mark::none, CellForm{.height = 1.2, .top = 0}},
      {U'd', stone, LegendLetter::Mark::none, door},
      {U'g', stone, LegendLetter::Mark::none, gate},
      {U'p', pane, LegendLetter::Mark::none, thin},
      {U'm', mist, LegendLetter::Mark::none, CellForm{.height = 1.5}},
      {U'w', empty_cell, LegendLetter::Mark::none, CellForm{.floor = 4}},
  };
  Room& room = scene.room();
  room.add(
      draw_cells("################\n"
                 "#......d.......#\n"
                 "#.bb...#..mm...#\n"
                 "#.bb...g..mm...#\n"
                 "#wwwwww#..c....#\n"
                 "#wwwwww.wwwwww.#\n"
                 "#......p...bb..#\n"
                 "#.c....p.......#\n"
                 "#......#...#...#\n"
                 "################\n",
                 legend));
  room.ceiling = {.base = {1, 1, 1}, .texture = roof, .tile = 2};
  room.sky = Sky{};
  room.light.ambient = {0.4f, 0.4f, 0.5f};
  room.light.sun = Sun{};
  room.light.lamps.push_back({.place = {5, 4.5, 2.2}});
  for (int i = 0; i < 6; ++i) {
    room.sprites.push_back(
        {.foot = {3.0 + 0.9 * i, 3.2 + 0.3 * i, 0}, .width = 0.8, .material = 5});
  }
  room.sprites.push_back(
      {.foot = {9, 4, 0.6}, .width = 1, .fixed = true, .heading = 2, .material = 5});
  return scene;
}

inline Camera furnished_eye() {
  return {.eye = {1.4, 4.6, 1.5}, .heading = -0.08, .field_of_view = 1.1};
}

}  // namespace photonlane::test
