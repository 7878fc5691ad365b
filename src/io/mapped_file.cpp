#include "io/mapped_file.hpp"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "photonlane/base/error.hpp"

namespace photonlane::io {
namespace {

[[noreturn]] void refuse(const std::string& path, const std::string& what) {
  throw Error(ErrorKind::file, what, Place{path});
}

}  // namespace

MappedFile::MappedFile(const std::string& path) : path_(path) {
  const int file = open(path.c_str(), O_RDONLY | O_CLOEXEC);
  struct stat status {};
  if (file < 0 || fstat(file, &status) != 0) {
    const int problem = errno;
    if (file >= 0) close(file);
    refuse(path, fmt::format("cannot be read: {}", std::strerror(problem)));
  }
  if (!S_ISREG(status.st_mode)) {
    close(file);
    refuse(path, S_ISDIR(status.st_mode)
                     ? "is a folder, expected a file"
                     : "is a pipe or a device, expected a file that can be read twice");
  }
  size_ = static_cast<std::uint64_t>(status.st_size);
  if (size_ > 0) {
    void* const at = mmap(nullptr, size_, PROT_READ, MAP_SHARED, file, 0);
    const int problem = errno;
    close(file);
    if (at == MAP_FAILED) refuse(path, fmt::format("cannot be read: {}", std::strerror(problem)));
    data_ = static_cast<const char*>(at);
    madvise(at, size_, MADV_SEQUENTIAL);
  } else {
    close(file);
    data_ = "";
  }
}

MappedFile::~MappedFile() {
  if (size_ > 0) munmap(const_cast<char*>(data_), size_);
}

void MappedFile::done_with(std::uint64_t first, std::uint64_t last) const {
  constexpr std::uint64_t page = 4096;
  first = (first + page - 1) / page * page;
  last = std::min(last, size_) / page * page;
  if (last > first) madvise(const_cast<char*>(data_) + first, last - first, MADV_DONTNEED);
}

}  // namespace photonlane::io
