#include "spheres/pages.hpp"

#include <fcntl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cstring>

#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

/// Room on the disk for all of a file: a full disk is told now, not by a signal later.
void lengthen(int file, std::size_t bytes) {
  const int problem = posix_fallocate(file, 0, static_cast<off_t>(bytes));
  if (problem == 0) return;
  throw Error(ErrorKind::file, fmt::format("a working file of {:.1f} GiB cannot be made: {}",
                                           std::ldexp(bytes, -30), std::strerror(problem)));
}

[[noreturn]] void refuse(std::size_t bytes) {
  throw Error(ErrorKind::memory,
              fmt::format("the system has no {:.1f} GiB of memory left", std::ldexp(bytes, -30)));
}

}  // namespace

Pages::Pages(std::size_t bytes, bool large, int file)
    : size_(std::max<std::size_t>(bytes, 1)), file_{file} {
  const bool in_file = file_.number >= 0;
  if (in_file) lengthen(file_.number, size_);
  const int flags = in_file ? MAP_SHARED : MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE;
  void* const at = mmap(nullptr, size_, PROT_READ | PROT_WRITE, flags, file_.number, 0);
  if (at == MAP_FAILED) refuse(size_);
  bytes_ = static_cast<std::byte*>(at);
  if (large && !in_file) madvise(bytes_, size_, MADV_HUGEPAGE);
}

Pages::~Pages() {
  if (bytes_ != nullptr) munmap(bytes_, size_);
}

Pages::File::~File() {
  if (number >= 0) close(number);
}

void Pages::grow(std::size_t bytes) {
  if (bytes <= size_) return;
  if (file_.number >= 0) lengthen(file_.number, bytes);
  void* const at = mremap(bytes_, size_, bytes, MREMAP_MAYMOVE);
  if (at == MAP_FAILED) refuse(bytes);
  bytes_ = static_cast<std::byte*>(at);
  size_ = bytes;
}

void Pages::give_back(std::size_t first, std::size_t bytes) {
  madvise(bytes_ + first, bytes, file_.number >= 0 ? MADV_REMOVE : MADV_DONTNEED);
}

void Pages::put_aside(std::size_t first, std::size_t bytes) {
  if (file_.number < 0) return;
  constexpr std::size_t page = 4096;
  const std::size_t low = (first + page - 1) / page * page;
  const std::size_t high = (first + bytes) / page * page;
  if (high <= low) return;
  msync(bytes_ + low, high - low, MS_ASYNC);
  madvise(bytes_ + low, high - low, MADV_DONTNEED);
}

std::shared_ptr<std::byte> Pages::shared(std::unique_ptr<Pages> pages) {
  std::shared_ptr<Pages> kept = std::move(pages);
  return {kept, kept->data()};
}

}  // namespace photonlane
