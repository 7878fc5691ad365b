#include "photonlane/io/frame_file.hpp"

#include <ImfChannelList.h>
#include <ImfCompression.h>
#include <ImfFrameBuffer.h>
#include <ImfHeader.h>
#include <ImfInputFile.h>
#include <ImfOutputFile.h>
#include <ImfStringAttribute.h>
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <bit>
#include <cerrno>
#include <cstring>
#include <new>

#include "base/stopwatch.hpp"
#include "io/files.hpp"
#include "io/json.hpp"
#include "io/plate_file.hpp"
#include "io/png_rows.hpp"
#include "io/run_parts.hpp"
#include "photonlane/io/layer_picture.hpp"
#include "photonlane/io/matte_file.hpp"
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
  std::vector<Channel> all{{Layer::color, 0, "R"},        {Layer::color, 1, "G"},
                           {Layer::color, 2, "B"},        {Layer::alpha, 0, "A"},
                           {Layer::depth, 0, "Z"},        {Layer::motion, 0, "motion.X"},
                           {Layer::motion, 1, "motion.Y"}};
  for (int axis = 0; axis < 3; ++axis) {
    all.push_back({Layer::normal, axis, std::string("N.") + "XYZ"[axis]});
  }
  for (const Layer layer :
       {Layer::ray_distance, Layer::face, Layer::cell, Layer::steps, Layer::ending, Layer::material,
        Layer::evaluations, Layer::nearest, Layer::overstretched, Layer::crossings, Layer::room,
        Layer::smooth_count, Layer::edge_distance, Layer::trap}) {
    all.push_back({layer, 0, std::string(name_of(layer))});
  }
  for (const Layer layer : LayerSet::of_paths().list()) {
    const std::string name(name_of(layer));
    const int count = layer_info(layer).channels;
    for (int channel = 0; channel < count; ++channel) {
      all.push_back({layer, channel, count == 1 ? name : name + "." + "RGB"[channel]});
    }
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

/// Adds the channels of mattes, and their names.
void add_mattes(std::span<const NamedMatte> mattes, Size size, const std::string& path,
                Imf::Header& header, Imf::FrameBuffer& buffer) {
  for (const NamedMatte& one : mattes) {
    const Matte& matte = one.matte;
    const std::string kind(name_of(matte.of));
    if (matte.size != size) {
      throw Error(ErrorKind::usage,
                  fmt::format("a matte of {}x{} pixels for a frame of {}x{}", matte.size.width,
                              matte.size.height, size.width, size.height),
                  Place{path});
    }
    const auto add = [&](const std::string& name, Imf::PixelType type, const void* values) {
      if (header.channels().findChannel(name) != nullptr) {
        throw Error(ErrorKind::usage, fmt::format("two mattes of one kind, {}", kind), Place{path});
      }
      header.channels().insert(name, Imf::Channel(type));
      // OpenEXR has one kind of buffer for reading and writing.
      char* const base = const_cast<char*>(static_cast<const char*>(values));
      buffer.insert(name,
                    Imf::Slice(type, base, 4, static_cast<std::size_t>(matte.size.width) * 4));
    };
    for (std::size_t rank = 0; rank < matte.things.size(); ++rank) {
      add(fmt::format("matte.{}.{}.id", kind, rank), Imf::UINT, matte.things[rank].data());
      add(fmt::format("matte.{}.{}.share", kind, rank), Imf::FLOAT, matte.shares[rank].data());
    }
    Json names = Json::object();
    for (const auto& [thing, name] : one.names) names[std::to_string(thing)] = name;
    header.insert("photonlane.matte." + kind, Imf::StringAttribute(json_text(names)));
  }
}

void write_exr(const std::string& path, Frame& frame, std::span<const NamedMatte> mattes) {
  Imf::Header header(frame.size().width, frame.size().height);
  header.compression() = Imf::ZIPS_COMPRESSION;
  // What it was made with and what that took, but for times: equal frames are equal files.
  std::string budget;
  for (const Knob<Budget>& entry : budget_knobs()) {
    budget += fmt::format("{}={}\n", entry.info.name, knob_text(entry, frame.budget));
  }
  std::string counts;
  for (const auto& [name, member] : tally_counts()) {
    counts += fmt::format("{}={}\n", name, frame.tally.*member);
  }
  header.insert("photonlane.budget", Imf::StringAttribute(budget));
  header.insert("photonlane.counts", Imf::StringAttribute(counts));
  if (frame.path_report) {
    const PathReport& report = *frame.path_report;
    header.insert("photonlane.paths",
                  Imf::StringAttribute(fmt::format("samples={}\nexposure={}\nrmse={}\n",
                                                   report.samples, report.exposure, report.rmse)));
  }
  Imf::FrameBuffer buffer;
  for (const Channel& channel : channels()) {
    if (!frame.has(channel.layer)) continue;
    const bool codes = layer_info(channel.layer).codes;
    header.channels().insert(channel.name, Imf::Channel(codes ? Imf::UINT : Imf::FLOAT));
    buffer.insert(channel.name, slice(frame, channel));
  }
  add_mattes(mattes, frame.size(), path, header, buffer);
  if (header.channels().begin() == header.channels().end()) {
    throw Error(ErrorKind::usage, "the frame has no layer that goes into EXR", Place{path});
  }
  write_whole(path, [&](const std::string& temporary) {
    errno = 0;
    try {
      Imf::OutputFile file(temporary.c_str(), header);
      file.setFrameBuffer(buffer);
      file.writePixels(frame.size().height);
    } catch (const std::exception&) {
      throw Error(ErrorKind::file,
                  fmt::format("cannot be written: {}",
                              errno == 0 ? "the file could not be made" : std::strerror(errno)),
                  Place{path});
    }
  });
}

/// What of an EXR file's head decides how much memory reading it takes.
struct ExrWindows {
  Imath::Box2i data, display;
};

/// Reads the head by itself, since the library makes tables of the data window's height before it
/// can be asked. The form is that of the OpenEXR file layout: attributes of name, type, length and
/// value, until an empty name.
ExrWindows exr_windows(std::string_view bytes, const std::string& path) {
  const auto refuse = [&](const std::string& what) {
    throw Error(ErrorKind::file, what, Place{path});
  };
  constexpr std::string_view magic("\x76\x2f\x31\x01", 4);
  if (!bytes.starts_with(magic) || bytes.size() < 8) refuse("is not an EXR file");
  const auto number = [&](std::size_t at) {
    std::int32_t value = 0;
    if (at > bytes.size() || bytes.size() - at < 4) refuse("ends in its header");
    std::memcpy(&value, bytes.data() + at, 4);
    return value;
  };
  const std::int32_t version = number(4);
  constexpr std::int32_t not_an_image = 0x800;
  constexpr std::int32_t several_parts = 0x1000;
  if ((version & (not_an_image | several_parts)) != 0) {
    refuse("has several parts or depths a pixel, expected one flat picture");
  }
  ExrWindows windows;
  bool has_data = false;
  bool has_display = false;
  std::size_t at = 8;
  const auto word = [&] {
    const auto end = bytes.find('\0', at);
    if (end == bytes.npos) refuse("ends in its header");
    const std::string_view text = bytes.substr(at, end - at);
    at = end + 1;
    return text;
  };
  for (;;) {
    const std::string_view name = word();
    if (name.empty()) break;
    const std::string_view type = word();
    const std::int32_t length = number(at);
    at += 4;
    if (length < 0 || static_cast<std::size_t>(length) > bytes.size() - at) {
      refuse("ends in its header");
    }
    if (name == "dataWindow" || name == "displayWindow") {
      if (type != "box2i" || length != 16) refuse(fmt::format("has a {} that is no box2i", name));
      Imath::Box2i& box = name == "dataWindow" ? windows.data : windows.display;
      box = {{number(at), number(at + 4)}, {number(at + 8), number(at + 12)}};
      (name == "dataWindow" ? has_data : has_display) = true;
    }
    at += static_cast<std::size_t>(length);
  }
  if (!has_data || !has_display) refuse("has no data window or no display window");
  return windows;
}

/// Refuses files that claim more than any compression of so many bytes can hold.
void refuse_claims(Size size, std::size_t bytes, const std::string& path) {
  constexpr std::size_t most_to_one = 4096;
  const std::size_t pixels =
      static_cast<std::size_t>(size.width) * static_cast<std::size_t>(size.height);
  if (pixels / most_to_one <= bytes) return;
  throw Error(ErrorKind::file,
              fmt::format("is damaged or incomplete: {}x{} pixels in {} bytes", size.width,
                          size.height, bytes),
              Place{path});
}

/// The size of a window, where that is one a picture may have.
Size size_of(const Imath::Box2i& box, std::string_view which, const std::string& path) {
  const std::int64_t width = std::int64_t{box.max.x} - box.min.x + 1;
  const std::int64_t height = std::int64_t{box.max.y} - box.min.y + 1;
  constexpr std::int64_t most = std::int64_t{1} << 27;
  if (width < 1 || height < 1 || width > most || height > most || width * height > most) {
    throw Error(
        ErrorKind::file,
        fmt::format("{} of {}x{} pixels, expected 1 to {} pixels", which, width, height, most),
        Place{path});
  }
  return {static_cast<int>(width), static_cast<int>(height)};
}

void refuse_subsampled(const Imf::Channel& channel, const std::string& name,
                       const std::string& path) {
  if (channel.xSampling == 1 && channel.ySampling == 1) return;
  throw Error(ErrorKind::file,
              fmt::format("channel {} is subsampled, expected a value a pixel", one_line(name)),
              Place{path});
}

/// The layers of which the file has all channels. A picture has R, G and B.
LayerSet layers_of(const Imf::ChannelList& list, const std::string& path) {
  LayerSet layers;
  std::string missing;
  for (const Channel& channel : channels()) {
    const Imf::Channel* found = list.findChannel(channel.name);
    if (found == nullptr) {
      if (channel.layer == Layer::color) missing += (missing.empty() ? "" : ", ") + channel.name;
      continue;
    }
    refuse_subsampled(*found, channel.name, path);
    layers.add(channel.layer);
  }
  if (!missing.empty()) {
    throw Error(ErrorKind::file, fmt::format("has no channel {}, expected R, G and B", missing),
                Place{path});
  }
  LayerSet whole;
  for (const Layer layer : layers.list()) {
    bool all = true;
    for (const Channel& channel : channels()) {
      all = all && (channel.layer != layer || list.findChannel(channel.name) != nullptr);
    }
    if (all) whole.add(layer);
  }
  return whole;
}

/// The frame as large as the display window: what the file has no pixels for is 0, pixels outside
/// are left out.
Frame placed(const Frame& data, const ExrWindows& windows, Size size) {
  Frame frame(size, data.layers());
  const std::int64_t dx = std::int64_t{windows.data.min.x} - windows.display.min.x;
  const std::int64_t dy = std::int64_t{windows.data.min.y} - windows.display.min.y;
  // The columns and rows there are pixels for.
  const std::int64_t left = std::clamp<std::int64_t>(dx, 0, size.width);
  const std::int64_t right = std::clamp<std::int64_t>(dx + data.size().width, left, size.width);
  const auto copy = [&](const auto& from, const auto& to) {
    for (int y = 0; y < size.height; ++y) {
      const auto row = to.row(y);
      std::fill(row.begin(), row.end(), 0);
      const std::int64_t sy = y - dy;
      if (sy < 0 || sy >= from.height || left == right) continue;
      std::copy_n(from.row(static_cast<int>(sy)).data() + (left - dx), right - left,
                  row.data() + left);
    }
  };
  for (const Channel& channel : channels()) {
    if (!data.has(channel.layer)) continue;
    if (layer_info(channel.layer).codes) {
      copy(data.codes(channel.layer), frame.codes(channel.layer));
    } else {
      copy(data.values(channel.layer, channel.index), frame.values(channel.layer, channel.index));
    }
  }
  return frame;
}

/// Refuses what takes too much memory.
void refuse_memory(Size size, std::size_t bytes, std::size_t planes, std::string_view what,
                   const std::string& path) {
  constexpr std::size_t most_bytes = std::size_t{1} << 32;
  if (bytes <= most_bytes) return;
  throw Error(ErrorKind::memory,
              fmt::format("{}x{} pixels in {} {} take more than {} bytes", size.width, size.height,
                          planes, what, most_bytes),
              Place{path});
}

/// An EXR file whose head has been looked at.
struct ExrHead {
  std::size_t bytes;  ///< of the file
  ExrWindows windows;
  Size size, shown;  ///< of the data window and the display window
};

/// Reads the head of an EXR file, then calls `read` with the file opened; what goes wrong there is
/// told as damage.
template <class Read>
auto with_exr(const std::string& path, const Read& read) {
  ExrHead head;
  {
    const std::string bytes = read_file(path, most_picture_bytes);
    head.bytes = bytes.size();
    head.windows = exr_windows(bytes, path);
  }
  head.size = size_of(head.windows.data, "a data window", path);
  head.shown = size_of(head.windows.display, "a display window", path);
  refuse_claims(head.size, head.bytes, path);
  try {
    Imf::InputFile file(path.c_str());
    // The rows are read into memory of the windows found above, so both readings must agree.
    if (file.header().dataWindow() != head.windows.data ||
        file.header().displayWindow() != head.windows.display) {
      throw Error(ErrorKind::file, "has windows given more than once", Place{path});
    }
    return read(file, head);
  } catch (const Error&) {
    throw;
  } catch (const std::bad_alloc&) {
    throw;
  } catch (const std::exception&) {
    throw Error(ErrorKind::file, "is a damaged or incomplete EXR file", Place{path});
  }
}

Frame read_exr(const std::string& path) {
  return with_exr(path, [&](Imf::InputFile& file, const ExrHead& head) {
    const LayerSet layers = layers_of(file.header().channels(), path);
    for (const Size each : {head.size, head.shown}) {
      refuse_memory(each, Frame::memory_bytes(each, layers), layers.list().size(), "layers", path);
    }
    // A small part of a large picture has few bytes.
    constexpr std::size_t large = std::size_t{1} << 28;
    if (Frame::memory_bytes(head.shown, layers) > large) {
      refuse_claims(head.shown, head.bytes, path);
    }
    const Imath::Box2i& data = head.windows.data;
    Frame frame(head.size, layers);
    Imf::FrameBuffer buffer;
    for (const Channel& channel : channels()) {
      if (!layers.has(channel.layer)) continue;
      const Imf::Slice at = slice(frame, channel);
      buffer.insert(channel.name, Imf::Slice::Make(at.type, at.base, data, at.xStride, at.yStride));
    }
    file.setFrameBuffer(buffer);
    file.readPixels(data.min.y, data.max.y);
    return data == head.windows.display ? std::move(frame)
                                        : placed(frame, head.windows, head.shown);
  });
}

}  // namespace

PixelPlanes read_exr_channels(const std::string& path, const std::vector<std::string>& names) {
  return with_exr(path, [&](Imf::InputFile& file, const ExrHead& head) {
    const std::size_t count =
        static_cast<std::size_t>(head.size.width) * static_cast<std::size_t>(head.size.height);
    refuse_memory(head.size, count * sizeof(float) * names.size(), names.size(), "channels", path);
    const Imath::Box2i& data = head.windows.data;
    const Imath::Box2i& display = head.windows.display;
    if (!data.intersects(display.min) || !data.intersects(display.max)) {
      throw Error(ErrorKind::file, "has no pixels for a part of its display window", Place{path});
    }
    PixelPlanes result{head.size, std::vector<std::vector<float>>(names.size()), head.shown,
                       data.min.x - display.min.x, data.min.y - display.min.y};
    const Imf::ChannelList& list = file.header().channels();
    Imf::FrameBuffer buffer;
    for (std::size_t k = 0; k < names.size(); ++k) {
      const Imf::Channel* const channel = list.findChannel(names[k]);
      if (channel == nullptr) {
        std::vector<std::string> has;
        for (auto it = list.begin(); it != list.end(); ++it) has.push_back(one_line(it.name()));
        throw Error(
            ErrorKind::file,
            fmt::format("has no channel {}, only {}", one_line(names[k]), fmt::join(has, ", ")),
            Place{path});
      }
      refuse_subsampled(*channel, names[k], path);
      result.planes[k].resize(count);
      buffer.insert(names[k],
                    Imf::Slice::Make(Imf::FLOAT, result.planes[k].data(), data, sizeof(float),
                                     sizeof(float) * static_cast<std::size_t>(head.size.width)));
    }
    file.setFrameBuffer(buffer);
    file.readPixels(data.min.y, data.max.y);
    return result;
  });
}

bool is_exr(const std::string& path) { return ends_with(path, ".exr"); }

void write_frame(const std::string& path, Frame& frame) { write_frame(path, frame, {}); }

void write_frame(const std::string& path, Frame& frame, std::span<const NamedMatte> mattes) {
  const Stopwatch watch;
  if (!is_exr(path) && !mattes.empty()) {
    throw Error(ErrorKind::usage,
                "mattes are channels of an EXR file, expected a name that ends in "
                "\".exr\"",
                Place{path});
  }
  if (is_exr(path)) {
    write_exr(path, frame, mattes);
  } else if (ends_with(path, ".png")) {
    Frame shown;
    if (!frame.has(Layer::display)) {
      shown = frame;
      encode_display(shown);
    }
    const Frame& source = frame.has(Layer::display) ? frame : shown;
    // The layer's numbers lie in memory as red, green, blue and a byte that is left out.
    static_assert(std::endian::native == std::endian::little);
    const auto display = source.codes(Layer::display);
    write_png_rows(path, {source.size(), [&](int y, std::uint8_t* row) noexcept {
                            const auto from = display.row(y);
                            std::memcpy(row, from.data(), 4 * from.size());
                          }});
  } else {
    throw Error(ErrorKind::usage, "expected a name that ends in .png or .exr", Place{path});
  }
  frame.cost.encode_ms += watch.milliseconds();
}

void write_layer(const std::string& path, Frame& frame, Layer layer,
                 const LayerPictureOptions& options) {
  const Stopwatch watch;
  if (!ends_with(path, ".png")) {
    throw Error(ErrorKind::usage, "expected a name that ends in .png for one layer", Place{path});
  }
  write_png(path, layer_picture(frame, layer, options));
  frame.cost.encode_ms += watch.milliseconds();
}

Frame read_frame(const std::string& path) {
  if (is_exr(path)) {
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
