#pragma once

#include <cstdint>
#include <string>

namespace photonlane::io {

/// A file that is mapped into memory to be read from front to back. Throws Error (file) where it
/// cannot be read, or not twice.
class MappedFile {
 public:
  explicit MappedFile(const std::string& path);
  MappedFile(const MappedFile&) = delete;
  MappedFile& operator=(const MappedFile&) = delete;
  ~MappedFile();

  const std::string& path() const { return path_; }
  const char* data() const { return data_; }
  const char* end() const { return data_ + size_; }
  std::uint64_t size() const { return size_; }
  /// What lies between is not needed for now.
  void done_with(std::uint64_t first, std::uint64_t last) const;

 private:
  std::string path_;
  const char* data_ = nullptr;
  std::uint64_t size_ = 0;
};

}  // namespace photonlane::io
