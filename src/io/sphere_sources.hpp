#pragma once

#include <memory>
#include <vector>

#include "photonlane/io/sphere_file.hpp"

namespace photonlane::io {

/// A file that is mapped into memory to be read from front to back.
class MappedFile {
 public:
  explicit MappedFile(const std::string& path);
  MappedFile(const MappedFile&) = delete;
  MappedFile& operator=(const MappedFile&) = delete;
  ~MappedFile();

  const std::string& path() const { return path_; }
  const char* data() const { return data_; }
  std::uint64_t size() const { return size_; }
  /// What lies between is not needed for now.
  void done_with(std::uint64_t first, std::uint64_t last) const;

 private:
  std::string path_;
  const char* data_ = nullptr;
  std::uint64_t size_ = 0;
};

/// The spheres of some files, one behind the other.
std::unique_ptr<SphereSource> open_spheres(const SphereFiles& files);

/// Names that fit patterns, in order; a name without a pattern stays as it is. Throws Error (file)
/// where nothing fits.
std::vector<std::string> fitting_files(const std::vector<std::string>& patterns);

}  // namespace photonlane::io
