#pragma once

#include <cstddef>
#include <memory>

namespace photonlane {

/// Memory of whole pages, empty until it is written to, whose parts can be given back. With a file
/// (a descriptor, which it closes in the end) they are that file's. Throws Error (memory) where the
/// system has none, and (file) where the disk is full.
class Pages {
 public:
  Pages(std::size_t bytes, bool large, int file = -1);
  Pages(const Pages&) = delete;
  Pages& operator=(const Pages&) = delete;
  ~Pages();

  std::byte* data() const { return bytes_; }
  std::size_t size() const { return size_; }
  /// Keeps what is there; it may lie elsewhere afterwards.
  void grow(std::size_t bytes);
  /// Whole pages within: empty again, and not held any longer.
  void give_back(std::size_t first, std::size_t bytes);

  /// What a file has of these pages need not be in memory too.
  void put_aside(std::size_t first, std::size_t bytes);

  static std::shared_ptr<std::byte> shared(std::unique_ptr<Pages> pages);

 private:
  /// Closed in the end, also where nothing came of its pages.
  struct File {
    int number;
    ~File();
  };

  std::byte* bytes_ = nullptr;
  std::size_t size_ = 0;
  File file_;
};

}  // namespace photonlane
