#pragma once

#include "commands.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

namespace photonlane::tool {

/// A frame in tiles, which are kept; alone or with the processes it was started with.
int run_tiles(const RenderCommand& command, const io::SceneFile& file, LayerSet layers);

}  // namespace photonlane::tool
