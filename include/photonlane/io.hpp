#pragma once

/// Files for Photon Lane: scenes, pictures, reports. Link PhotonLane::io.
///
///   io::SceneFile file = io::read_scene("glasshouse.yaml");
///   Frame frame = render(compile(file.scene), file.camera, file.budget);
///   io::write_frame("glasshouse.png", frame);

#include "photonlane/io/camera_pairs.hpp"
#include "photonlane/io/cost_text.hpp"
#include "photonlane/io/deep_file.hpp"
#include "photonlane/io/frame_file.hpp"
#include "photonlane/io/growing_run.hpp"
#include "photonlane/io/keep.hpp"
#include "photonlane/io/lane_text.hpp"
#include "photonlane/io/layer_picture.hpp"
#include "photonlane/io/machine.hpp"
#include "photonlane/io/matte_file.hpp"
#include "photonlane/io/output.hpp"
#include "photonlane/io/picture.hpp"
#include "photonlane/io/plan_picture.hpp"
#include "photonlane/io/report.hpp"
#include "photonlane/io/result_page.hpp"
#include "photonlane/io/runs.hpp"
#include "photonlane/io/scene_file.hpp"
#include "photonlane/io/scene_request.hpp"
#include "photonlane/io/sphere_file.hpp"
#include "photonlane/io/tune_run.hpp"
#include "photonlane/io/views_file.hpp"
#include "photonlane/io/volume_file.hpp"
#include "photonlane/io/voxel_file.hpp"
#include "photonlane/io/voxel_way.hpp"
#include "photonlane/io/walk_file.hpp"
