#pragma once

#include <cstddef>
#include <memory>
#include <utility>

namespace photonlane {

/// Bytes on a cache line's boundary whose memory is kept when they are asked for again. Contents
/// are not cleared: a frame is written once, not twice. Large buffers ask the system for large
/// pages, so that first use does not cost more than the picture.
class Buffer {
 public:
  Buffer() = default;
  Buffer(const Buffer& other);
  /// What was moved from is empty, and can be used again.
  Buffer(Buffer&& other) noexcept
      : bytes_(std::move(other.bytes_)),
        size_(std::exchange(other.size_, 0)),
        capacity_(std::exchange(other.capacity_, 0)) {}
  Buffer& operator=(const Buffer& other);
  Buffer& operator=(Buffer&& other) noexcept {
    bytes_ = std::move(other.bytes_);
    size_ = std::exchange(other.size_, 0);
    capacity_ = std::exchange(other.capacity_, 0);
    return *this;
  }

  /// Makes room for that many bytes; what was there is lost. Throws Error (memory).
  void resize(std::size_t bytes);

  std::size_t size() const { return size_; }
  template <class Value>
  Value* data() const {
    return reinterpret_cast<Value*>(bytes_.get());
  }

 private:
  struct Free {
    void operator()(std::byte* bytes) const;
  };
  std::unique_ptr<std::byte, Free> bytes_;
  std::size_t size_ = 0;
  std::size_t capacity_ = 0;
};

}  // namespace photonlane
