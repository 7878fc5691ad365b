#pragma once

/// Photon Lane: describe a scene, get a picture, and find the cheapest budget that is good enough.
///
///   Scene scene;
///   const Cell brick = scene.wall({.base = {0.55f, 0.25f, 0.18f}});
///   const LegendLetter legend[] = {{U'#', brick}};
///   scene.room().add(draw_cells("#######\n#..#..#\n#.....#\n#######", legend));
///   const World world = compile(scene);
///   const Camera camera{.eye = {1.5, 1.5, 1.6}, .heading = degrees(20)};
///   const Frame exact = render(world, camera, Budget{});
///   const Frame cheap = render(world, camera, Budget{.cells = {.method = CellMethod::increment}});
///   const double error = compare(cheap, exact).rmse;

#include "photonlane/base/error.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/field/compiled_field.hpp"
#include "photonlane/field/field.hpp"
#include "photonlane/field/field_body.hpp"
#include "photonlane/field/fractal_generator.hpp"
#include "photonlane/field/rolling.hpp"
#include "photonlane/field/sample.hpp"
#include "photonlane/field/stretch.hpp"
#include "photonlane/follow/lane_log.hpp"
#include "photonlane/fractal/escape_plane.hpp"
#include "photonlane/fractal/landmark.hpp"
#include "photonlane/frame/accumulator.hpp"
#include "photonlane/frame/deep.hpp"
#include "photonlane/frame/frame.hpp"
#include "photonlane/frame/growing_frame.hpp"
#include "photonlane/frame/matte.hpp"
#include "photonlane/frame/motion.hpp"
#include "photonlane/frame/render.hpp"
#include "photonlane/frame/views.hpp"
#include "photonlane/grid/body.hpp"
#include "photonlane/grid/cell_map.hpp"
#include "photonlane/grid/cell_solid.hpp"
#include "photonlane/grid/map_generator.hpp"
#include "photonlane/grid/reach.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/light/scatter.hpp"
#include "photonlane/light/texture.hpp"
#include "photonlane/measure/check.hpp"
#include "photonlane/measure/difference.hpp"
#include "photonlane/measure/predict.hpp"
#include "photonlane/measure/profile.hpp"
#include "photonlane/measure/sweep.hpp"
#include "photonlane/measure/tune.hpp"
#include "photonlane/plates/camera_match.hpp"
#include "photonlane/plates/plate.hpp"
#include "photonlane/plates/plate_field.hpp"
#include "photonlane/spheres/moving_spheres.hpp"
#include "photonlane/spheres/pollen_generator.hpp"
#include "photonlane/spheres/sphere_set.hpp"
#include "photonlane/spheres/spheres.hpp"
#include "photonlane/voxels/field_voxels.hpp"
#include "photonlane/voxels/land_sources.hpp"
#include "photonlane/voxels/terrace_generator.hpp"
#include "photonlane/voxels/voxel_editor.hpp"
#include "photonlane/voxels/voxel_grid.hpp"
#include "photonlane/voxels/voxel_land.hpp"
#include "photonlane/voxels/voxel_visits.hpp"
#include "photonlane/voxels/voxels.hpp"
#include "photonlane/walk/walk.hpp"
#include "photonlane/world/camera.hpp"
#include "photonlane/world/camera_matrices.hpp"
#include "photonlane/world/scene.hpp"
#include "photonlane/world/world.hpp"
