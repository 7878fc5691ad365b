#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "io/files.hpp"
#include "io/mapped_file.hpp"
#include "io/sphere_sources.hpp"
#include "io/sphere_store_file.hpp"
#include "io/stored_blocks.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/io/sphere_file.hpp"
#include "spheres/sphere_store.hpp"

namespace photonlane::io {
namespace {

constexpr char magic[24] = "photonlane spheres\n\x1a\r\n";
constexpr std::uint32_t version = 1;

/// What stands at a file's beginning.
struct StoredHead {
  char word[24];
  std::uint32_t version;
  std::uint32_t bytes;  ///< of this
  SphereHead set;
  std::uint64_t array_bytes;
  std::uint64_t blocks;     ///< of arrays, each with a checksum at the end of the file
  std::uint64_t checksums;  ///< checksum of those
  std::uint64_t checksum;   ///< of all above
};

}  // namespace

void write_spheres(const std::string& path, const SphereSet& set,
                   const std::function<bool(double)>& progress) {
  const SphereStore& store = set.store();
  auto head = new_stored_head<StoredHead>(magic, version);
  head.set = store.head();
  head.array_bytes = store.arrays().bytes;
  head.blocks = stored_blocks(head.array_bytes);
  write_whole(path, [&](const std::string& temporary) {
    StoreWriter writer(temporary, path);
    constexpr std::uint64_t part = 16 * stored_block_bytes;
    for (std::uint64_t first = 0; first < head.array_bytes; first += part) {
      writer.append(store.bytes() + first, std::min(part, head.array_bytes - first));
      if (progress &&
          !progress(static_cast<double>(first) / static_cast<double>(head.array_bytes))) {
        throw Error(ErrorKind::cancelled, "stopped by the caller");
      }
    }
    writer.finish(head);
  });
}

std::uint64_t stored_spheres_checksum(const std::string& path) {
  const MappedFile map(path);
  return read_stored_head<StoredHead>(map, magic, version, "spheres").checksum;
}

std::shared_ptr<const SphereSet> map_spheres(const std::string& path, bool whole) {
  auto map = std::make_shared<MappedFile>(path);
  const auto head = read_stored_head<StoredHead>(*map, magic, version, "spheres");
  std::uint64_t needed = 0;
  try {
    needed = arrays_of(head.set).bytes;
  } catch (const Error& error) {
    refuse_file(path, error.message());
  }
  if (needed != head.array_bytes || head.blocks != stored_blocks(needed)) {
    refuse_file(path, "its head does not fit together");
  }
  const std::uint64_t size = stored_head_bytes + needed + head.blocks * sizeof(std::uint64_t);
  if (map->size() != size) {
    refuse_file(path, fmt::format("{} bytes, expected {}", map->size(), size));
  }
  const auto* const arrays = reinterpret_cast<const std::byte*>(map->data()) + stored_head_bytes;
  check_blocks(path, arrays, needed, head.checksums, whole);
  madvise(const_cast<char*>(map->data()), map->size(), MADV_RANDOM);
  // It is only read: nothing of a set is written to.
  std::shared_ptr<std::byte> kept(map, const_cast<std::byte*>(arrays));
  auto store = std::make_shared<SphereStore>(head.set, std::move(kept), sizeof(SphereStore));
  try {
    store->check();
  } catch (const Error& error) {
    refuse_file(path, error.message());
  }
  return std::make_shared<const SphereSet>(std::move(store));
}

int working_file(const std::string& beside) {
  std::string folder = folder_of(beside);
  if (folder.empty()) folder = ".";
  int file = open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
  if (file < 0) {
    // Not every file system has files without a name.
    std::string name = folder + "/.photonlane-XXXXXX";
    file = mkostemp(name.data(), O_CLOEXEC);
    if (file >= 0) unlink(name.c_str());
  }
  if (file < 0) {
    throw Error(ErrorKind::file,
                fmt::format("no working file can be made there: {}", std::strerror(errno)),
                Place{folder});
  }
  return file;
}

std::shared_ptr<const SphereSet> read_spheres(const SphereFiles& files,
                                              const SphereSetOptions& options) {
  const std::vector<std::string> paths = fitting_files(files.paths);
  if (paths.size() == 1 && ends_with(paths[0], ".spheres") && !files.raw() && files.scale == 1) {
    return map_spheres(paths[0]);
  }
  return put_in_order(files, options);
}

std::shared_ptr<const SphereSet> put_in_order(const SphereFiles& files,
                                              const SphereSetOptions& options) {
  return SphereSet::make(*open_spheres(files), options);
}

}  // namespace photonlane::io
