#include "photonlane/io/deep_file.hpp"

#include <ImfChannelList.h>
#include <ImfCompression.h>
#include <ImfDeepFrameBuffer.h>
#include <ImfDeepScanLineOutputFile.h>
#include <ImfHeader.h>
#include <ImfPartType.h>
#include <fmt/format.h>

#include <cerrno>
#include <cstddef>
#include <cstring>
#include <vector>

#include "io/files.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/io/frame_file.hpp"

namespace photonlane::io {

void write_deep(const std::string& path, const DeepPicture& deep) {
  if (!is_exr(path)) {
    throw Error(ErrorKind::usage,
                "several distances a pixel are an EXR file, expected a name that ends in .exr",
                Place{path});
  }
  const auto width = static_cast<std::size_t>(deep.size.width);
  const std::size_t pixels = width * static_cast<std::size_t>(deep.size.height);
  struct Kind {
    const char* name;
    std::size_t offset;
  };
  const Kind kinds[] = {{"R", offsetof(DeepSample, red)},
                        {"G", offsetof(DeepSample, green)},
                        {"B", offsetof(DeepSample, blue)},
                        {"A", offsetof(DeepSample, alpha)},
                        {"Z", offsetof(DeepSample, z)}};
  Imf::Header header(deep.size.width, deep.size.height);
  header.setType(Imf::DEEPSCANLINE);
  header.compression() = Imf::ZIPS_COMPRESSION;
  // Where OpenEXR finds how many samples each pixel has, and each pixel's first.
  std::vector<std::uint32_t> counts(pixels);
  for (std::size_t i = 0; i < pixels; ++i) {
    counts[i] = static_cast<std::uint32_t>(deep.first[i + 1] - deep.first[i]);
  }
  Imf::DeepFrameBuffer buffer;
  buffer.insertSampleCountSlice(Imf::Slice(Imf::UINT, reinterpret_cast<char*>(counts.data()),
                                           sizeof(std::uint32_t), sizeof(std::uint32_t) * width));
  std::vector<std::vector<const char*>> starts;
  for (const Kind& kind : kinds) {
    header.channels().insert(kind.name, Imf::Channel(Imf::FLOAT));
    std::vector<const char*>& start = starts.emplace_back(pixels, nullptr);
    for (std::size_t i = 0; i < pixels; ++i) {
      if (counts[i] == 0) continue;
      start[i] = reinterpret_cast<const char*>(&deep.samples[deep.first[i]]) + kind.offset;
    }
    buffer.insert(kind.name,
                  Imf::DeepSlice(Imf::FLOAT, reinterpret_cast<char*>(start.data()), sizeof(char*),
                                 sizeof(char*) * width, sizeof(DeepSample)));
  }
  write_whole(path, [&](const std::string& temporary) {
    errno = 0;
    try {
      Imf::DeepScanLineOutputFile file(temporary.c_str(), header);
      file.setFrameBuffer(buffer);
      file.writePixels(deep.size.height);
    } catch (const std::exception&) {
      throw Error(ErrorKind::file,
                  fmt::format("cannot be written: {}",
                              errno == 0 ? "the file could not be made" : std::strerror(errno)),
                  Place{path});
    }
  });
}

}  // namespace photonlane::io
