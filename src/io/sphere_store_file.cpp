#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <bit>
#include <cerrno>
#include <cstring>

#include "base/parallel.hpp"
#include "io/files.hpp"
#include "io/mapped_file.hpp"
#include "io/sphere_sources.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/io/sphere_file.hpp"
#include "spheres/sphere_store.hpp"

namespace photonlane::io {
namespace {

static_assert(std::endian::native == std::endian::little, "sets are written as they are kept");

constexpr char magic[24] = "photonlane spheres\n\x1a\r\n";
constexpr std::uint32_t version = 1;
constexpr std::uint64_t head_bytes = 4096;
constexpr std::uint64_t block_bytes = std::uint64_t{1} << 20;

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

std::uint64_t checksum_of(const std::byte* bytes, std::uint64_t count) {
  // Four rows, so that one word need not wait for the one before.
  std::uint64_t rows[4] = {1, 2, 3, 4};
  std::uint64_t at = 0;
  const auto word = [&](std::uint64_t where) {
    std::uint64_t value = 0;
    std::memcpy(&value, bytes + where, std::min<std::uint64_t>(8, count - where));
    return value;
  };
  for (; at + 32 <= count; at += 32) {
    for (std::uint64_t row = 0; row < 4; ++row) {
      rows[row] = std::rotl((rows[row] ^ word(at + 8 * row)) * 0x9e3779b97f4a7c15u, 29);
    }
  }
  for (; at < count; at += 8) rows[0] = std::rotl((rows[0] ^ word(at)) * 0x9e3779b97f4a7c15u, 29);
  return mix(mix(rows[0] + mix(rows[1])) + mix(rows[2] + mix(rows[3])) + count);
}

[[noreturn]] void refuse(const std::string& path, const std::string& what) {
  throw Error(ErrorKind::file, what, Place{path});
}

std::uint64_t blocks_of(std::uint64_t bytes) { return (bytes + block_bytes - 1) / block_bytes; }

void put(int file, const void* bytes, std::uint64_t count, const std::string& path) {
  const auto* at = static_cast<const std::byte*>(bytes);
  while (count > 0) {
    const ssize_t done = ::write(file, at, std::min<std::uint64_t>(count, std::uint64_t{1} << 24));
    if (done < 0 && errno == EINTR) continue;
    if (done < 0) refuse(path, fmt::format("cannot be written: {}", std::strerror(errno)));
    at += done;
    count -= static_cast<std::uint64_t>(done);
  }
}

}  // namespace

void write_spheres(const std::string& path, const SphereSet& set,
                   const std::function<bool(double)>& progress) {
  const SphereStore& store = set.store();
  StoredHead head{};
  std::memcpy(head.word, magic, sizeof(magic));
  head.version = version;
  head.bytes = sizeof(head);
  head.set = store.head();
  head.array_bytes = store.arrays().bytes;
  head.blocks = blocks_of(head.array_bytes);
  std::vector<std::uint64_t> sums(head.blocks);
  write_whole(path, [&](const std::string& temporary) {
    const int file = open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
    if (file < 0) refuse(path, fmt::format("cannot be written: {}", std::strerror(errno)));
    try {
      // The head comes last: a file that was left half written has none.
      const std::vector<std::byte> none(head_bytes);
      put(file, none.data(), head_bytes, path);
      for (std::uint64_t block = 0; block < head.blocks; ++block) {
        const std::uint64_t first = block * block_bytes;
        const std::uint64_t count = std::min(block_bytes, head.array_bytes - first);
        sums[block] = checksum_of(store.bytes() + first, count);
        put(file, store.bytes() + first, count, path);
        if (progress && block % 16 == 0 &&
            !progress(static_cast<double>(block) / static_cast<double>(head.blocks))) {
          throw Error(ErrorKind::cancelled, "stopped by the caller");
        }
      }
      put(file, sums.data(), sums.size() * sizeof(sums[0]), path);
      head.checksums = checksum_of(reinterpret_cast<const std::byte*>(sums.data()),
                                   sums.size() * sizeof(sums[0]));
      head.checksum =
          checksum_of(reinterpret_cast<const std::byte*>(&head), offsetof(StoredHead, checksum));
      if (lseek(file, 0, SEEK_SET) != 0) {
        refuse(path, fmt::format("cannot be written: {}", std::strerror(errno)));
      }
      put(file, &head, sizeof(head), path);
    } catch (...) {
      close(file);
      throw;
    }
    if (close(file) != 0) refuse(path, fmt::format("cannot be written: {}", std::strerror(errno)));
  });
}

std::shared_ptr<const SphereSet> map_spheres(const std::string& path, bool whole) {
  auto map = std::make_shared<MappedFile>(path);
  StoredHead head;
  if (map->size() < head_bytes) refuse(path, "no file of spheres: too short for its head");
  std::memcpy(&head, map->data(), sizeof(head));
  if (std::memcmp(head.word, magic, sizeof(magic)) != 0) {
    refuse(path, "no file of spheres, or one that was left half written");
  }
  if (head.version != version || head.bytes != sizeof(head)) {
    refuse(path, fmt::format("spheres of version {}, expected {}", head.version, version));
  }
  const auto* const bytes = reinterpret_cast<const std::byte*>(map->data());
  if (checksum_of(bytes, offsetof(StoredHead, checksum)) != head.checksum) {
    refuse(path, "its head is damaged");
  }
  std::uint64_t needed = 0;
  try {
    needed = arrays_of(head.set).bytes;
  } catch (const Error& error) {
    refuse(path, error.message());
  }
  if (needed != head.array_bytes || head.blocks != blocks_of(needed)) {
    refuse(path, "its head does not fit together");
  }
  const std::uint64_t size = head_bytes + needed + head.blocks * sizeof(std::uint64_t);
  if (map->size() != size) {
    refuse(path, fmt::format("{} bytes, expected {}", map->size(), size));
  }
  const std::byte* const arrays = bytes + head_bytes;
  std::vector<std::uint64_t> sums(head.blocks);
  std::memcpy(sums.data(), arrays + needed, sums.size() * sizeof(sums[0]));
  if (checksum_of(arrays + needed, sums.size() * sizeof(sums[0])) != head.checksums) {
    refuse(path, "its checksums are damaged");
  }
  if (whole) {
    std::vector<std::uint8_t> damaged(head.blocks, 0);
    parallel_for(0, head.blocks, [&](std::size_t block) {
      const std::uint64_t first = block * block_bytes;
      damaged[block] =
          checksum_of(arrays + first, std::min(block_bytes, needed - first)) != sums[block];
    });
    const auto found = std::find(damaged.begin(), damaged.end(), 1);
    if (found != damaged.end()) {
      const auto first =
          head_bytes + static_cast<std::uint64_t>(found - damaged.begin()) * block_bytes;
      refuse(path, fmt::format("damaged between bytes {} and {}", first,
                               std::min(first + block_bytes, size)));
    }
  }
  madvise(const_cast<char*>(map->data()), map->size(), MADV_RANDOM);
  // It is only read: nothing of a set is written to.
  std::shared_ptr<std::byte> kept(map, const_cast<std::byte*>(arrays));
  auto store = std::make_shared<SphereStore>(head.set, std::move(kept), sizeof(SphereStore));
  try {
    store->check();
  } catch (const Error& error) {
    refuse(path, error.message());
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
