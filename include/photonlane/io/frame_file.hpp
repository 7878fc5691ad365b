#pragma once

///   io::write_frame("picture.png", frame);
///   io::write_layer("steps.png", frame, Layer::steps);

#include <string>

#include "photonlane/frame/frame.hpp"
#include "photonlane/io/layer_picture.hpp"
#include "photonlane/io/output.hpp"

namespace photonlane::io {

/// Writes a frame to a file and adds the time to its encode stage: ".png" takes the display values
/// (made from color where the frame has none), ".exr" every layer but display. EXR channels are
/// R, G, B, A for alpha, Z for depth, and the layers' names; floats stay as they are, codes are
/// whole numbers. Throws Error (usage) for other endings and for an EXR of a frame with nothing but
/// display, Error (file) where it cannot be written.
void write_frame(const std::string& path, Frame& frame);

/// True for names that write_frame makes an EXR file of.
bool is_exr(const std::string& path);

/// Writes one layer as a PNG (see layer_picture) and adds the time to the frame's encode stage.
void write_layer(const std::string& path, Frame& frame, Layer layer,
                 const LayerPictureOptions& options = {});

/// Reads what write_frame wrote, or any PNG, or any EXR with R, G and B. Layers that the file does
/// not have are not in the frame. Throws Error (file).
Frame read_frame(const std::string& path);

}  // namespace photonlane::io
