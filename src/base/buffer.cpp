#include "photonlane/base/buffer.hpp"

#include <fmt/format.h>
#include <sys/mman.h>

#include <cstdlib>
#include <cstring>
#include <utility>

#include "photonlane/base/error.hpp"

namespace photonlane {

void Buffer::Free::operator()(std::byte* bytes) const { std::free(bytes); }

Buffer::Buffer(const Buffer& other) {
  resize(other.size_);
  if (size_ != 0) std::memcpy(bytes_.get(), other.bytes_.get(), size_);
}

Buffer& Buffer::operator=(const Buffer& other) {
  if (this != &other) *this = Buffer(other);
  return *this;
}

void Buffer::resize(std::size_t bytes) {
  if (bytes > capacity_) {
    constexpr std::size_t large_page = std::size_t{2} << 20;
    const std::size_t unit = bytes >= 2 * large_page ? large_page : 64;
    const std::size_t rounded = (bytes + unit - 1) / unit * unit;
    bytes_.reset();
    capacity_ = size_ = 0;
    bytes_.reset(static_cast<std::byte*>(std::aligned_alloc(unit, rounded)));
    if (!bytes_) throw Error(ErrorKind::memory, fmt::format("no memory for {} bytes", bytes));
    if (unit == large_page) madvise(bytes_.get(), rounded, MADV_HUGEPAGE);
    capacity_ = rounded;
  }
  size_ = bytes;
}

}  // namespace photonlane
