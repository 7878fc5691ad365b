#include "photonlane/io/frame_file.hpp"

#include <ImfChannelList.h>
#include <ImfCompression.h>
#include <ImfFrameBuffer.h>
#include <ImfHeader.h>
#include <ImfInputFile.h>
#include <ImfOutputFile.h>
#include <fmt/format.h>

#include <filesystem>

#include "base/stopwatch.hpp"
#include "io/files.hpp"
#include "photonlane/io/layer_picture.hpp"
#include "photonlane/io/picture.hpp"

namespace photonlane::io {
namespace {

struct Channel {
  Layer layer;
  int index;
  std::string name;
};

/// Every channel an EXR file of ours may have, by the conventional names where there are some.
std::vector<Channel> channels() {
  std::vector<Channel> all{{Layer::color, 0, "R"},
                           {Layer::color, 1, "G"},
                           {Layer::color, 2, "B"},
                           {Layer::depth, 0, "Z"}};
  for (int axis = 0; axis < 3; ++axis) {
    all.push_back({Layer::normal, axis, std::string("N.") + "XYZ"[axis]});
  }
  for (const Layer layer :
       {Layer::ray_distance, Layer::face, Layer::cell, Layer::steps, Layer::ending, Layer::material,
        Layer::evaluations, Layer::nearest, Layer::overstretched, Layer::crossings, Layer::room,
        Layer::smooth_count, Layer::edge_distance, Layer::trap}) {
    all.push_back({layer, 0, std::string(name_of(layer))});
  }
  return all;
}

/// Where OpenEXR finds the values of one channel.
Imf::Slice slice(Frame& frame, const Channel& channel) {
  const bool codes = layer_info(channel.layer).codes;
  const auto with = [&](auto plane) {
    return Imf::Slice(codes ? Imf::UINT : Imf::FLOAT, reinterpret_cast<char*>(plane.data), 4,
                      static_cast<std::size_t>(plane.stride) * 4);
  };
  return codes ? with(frame.codes(channel.layer))
               : with(frame.values(channel.layer, channel.index));
}

void write_exr(const std::string& path, Frame& frame) {
  Imf::Header header(frame.size().width, frame.size().height);
  header.compression() = Imf::ZIPS_COMPRESSION;
  Imf::FrameBuffer buffer;
  for (const Channel& channel : channels()) {
    if (!frame.has(channel.layer)) continue;
    const bool codes = layer_info(channel.layer).codes;
    header.channels().insert(channel.name, Imf::Channel(codes ? Imf::UINT : Imf::FLOAT));
    buffer.insert(channel.name, slice(frame, channel));
  }
  if (header.channels().begin() == header.channels().end()) {
    throw Error(ErrorKind::usage, "the frame has no layer that goes into EXR", Place{path});
  }
  write_whole(path, [&](const std::string& temporary) {
    try {
      Imf::OutputFile file(temporary.c_str(), header);
      file.setFrameBuffer(buffer);
      file.writePixels(frame.size().height);
    } catch (const std::exception& problem) {
      throw Error(ErrorKind::file, fmt::format("cannot be written as EXR: {}", problem.what()),
                  Place{path});
    }
  });
}

Frame read_exr(const std::string& path) {
  try {
    Imf::InputFile file(path.c_str());
    const auto window = file.header().dataWindow();
    const Size size{window.max.x - window.min.x + 1, window.max.y - window.min.y + 1};
    LayerSet layers;
    for (const Channel& channel : channels()) {
      if (file.header().channels().findChannel(channel.name) != nullptr) layers.add(channel.layer);
    }
    if (!layers.has(Layer::color)) {
      throw Error(ErrorKind::file, "has no channels R, G and B", Place{path});
    }
    Frame frame(size, layers);
    Imf::FrameBuffer buffer;
    for (const Channel& channel : channels()) {
      if (!layers.has(channel.layer)) continue;
      Imf::Slice at = slice(frame, channel);
      at.base -= window.min.x * 4 + static_cast<std::ptrdiff_t>(window.min.y * at.yStride);
      buffer.insert(channel.name, at);
    }
    file.setFrameBuffer(buffer);
    file.readPixels(window.min.y, window.max.y);
    return frame;
  } catch (const Error&) {
    throw;
  } catch (const std::exception& problem) {
    throw Error(ErrorKind::file, fmt::format("cannot be read as EXR: {}", problem.what()),
                Place{path});
  }
}

}  // namespace

bool is_exr(const std::string& path) { return ends_with(path, ".exr"); }

void write_frame(const std::string& path, Frame& frame) {
  const Stopwatch watch;
  if (is_exr(path)) {
    write_exr(path, frame);
  } else if (ends_with(path, ".png")) {
    Frame shown;
    if (!frame.has(Layer::display)) {
      shown = frame;
      encode_display(shown);
    }
    const Frame& source = frame.has(Layer::display) ? frame : shown;
    write_png(path, to_picture(source));
  } else {
    throw Error(ErrorKind::usage, "expected a name that ends in .png or .exr", Place{path});
  }
  frame.cost.encode_ms += watch.milliseconds();
}

void write_layer(const std::string& path, Frame& frame, Layer layer, bool legend) {
  const Stopwatch watch;
  if (!ends_with(path, ".png")) {
    throw Error(ErrorKind::usage, "expected a name that ends in .png for one layer", Place{path});
  }
  write_png(path, layer_picture(frame, layer, legend));
  frame.cost.encode_ms += watch.milliseconds();
}

OutputFolder::OutputFolder(std::string path)
    : path_(std::move(path)), is_new_(!std::filesystem::exists(path_)) {
  make_folder(path_);
}

OutputFolder::~OutputFolder() {
  std::error_code not_empty;
  if (is_new_) std::filesystem::remove(path_, not_empty);
}

Frame read_frame(const std::string& path) {
  if (is_exr(path)) {
    read_file(path);  // a missing file is named as such, not as a broken one
    return read_exr(path);
  }
  const Picture picture = read_png(path);
  Frame frame(picture.size, {Layer::display});
  const auto display = frame.codes(Layer::display);
  for (int y = 0; y < picture.size.height; ++y) {
    for (int x = 0; x < picture.size.width; ++x) {
      const std::uint8_t* pixel = picture.pixel(x, y);
      display(x, y) = pixel[0] | pixel[1] << 8 | pixel[2] << 16 | 0xff000000u;
    }
  }
  return frame;
}

}  // namespace photonlane::io
