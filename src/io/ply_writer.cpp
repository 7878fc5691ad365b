#include <cerrno>
#include <cstring>
#include <fstream>

#include "io/files.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/io/sphere_file.hpp"

namespace photonlane::io {

void write_ply(const std::string& path, const SphereSource& source,
               const std::function<bool(double)>& progress) {
  std::uint64_t count = 0;
  for (std::size_t stretch = 0; stretch < source.stretches(); ++stretch) {
    source.read(stretch, [&](const SphereRun& run) { count += run.count; });
  }
  write_whole(path, [&](const std::string& temporary) {
    std::ofstream out(temporary, std::ios::binary | std::ios::trunc);
    std::string head = fmt::format(
        "ply\nformat binary_little_endian 1.0\nelement vertex {}\nproperty float x\nproperty float "
        "y\nproperty float z\nproperty float radius\n",
        count);
    if (source.has_colors()) {
      head += "property uchar red\nproperty uchar green\nproperty uchar blue\n";
    }
    if (source.has_materials()) head += "property ushort material\n";
    out << head << "end_header\n";
    std::string bytes;
    const auto add = [&](const auto& value) {
      bytes.append(reinterpret_cast<const char*>(&value), sizeof(value));
    };
    std::uint64_t done = 0;
    for (std::size_t stretch = 0; stretch < source.stretches(); ++stretch) {
      source.read(stretch, [&](const SphereRun& run) {
        bytes.clear();
        for (std::size_t i = 0; i < run.count; ++i) {
          for (const double value : {run.x[i], run.y[i], run.z[i], run.radius[i]}) {
            add(static_cast<float>(value));
          }
          if (source.has_colors()) {
            for (const int shift : {16, 8, 0}) {
              add(static_cast<std::uint8_t>(run.color[i] >> shift));
            }
          }
          if (source.has_materials()) add(static_cast<std::uint16_t>(run.material[i]));
        }
        out.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
        done += run.count;
      });
      if (!out) break;
      if (progress && !progress(static_cast<double>(done) / static_cast<double>(count))) {
        throw Error(ErrorKind::cancelled, "stopped by the caller");
      }
    }
    out.close();
    if (!out) {
      throw Error(ErrorKind::file, fmt::format("cannot be written: {}", std::strerror(errno)),
                  Place{path});
    }
  });
}

}  // namespace photonlane::io
