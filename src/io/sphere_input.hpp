#pragma once

#include <functional>
#include <memory>

#include "io/mapped_file.hpp"
#include "photonlane/io/sphere_file.hpp"

namespace photonlane::io {

/// A file and the spheres in it.
class SphereInput {
 public:
  SphereInput(const std::string& path, const SphereFiles& files)
      : map_(path), radius_(files.radius), scale_(files.scale) {}
  virtual ~SphereInput() = default;
  virtual std::size_t stretches() const = 0;
  virtual void read(std::size_t stretch,
                    const std::function<void(const SphereRun&)>& take) const = 0;
  virtual std::string name(std::size_t stretch, std::uint64_t index) const = 0;
  bool has(SphereQuantity quantity) const { return there_[static_cast<std::size_t>(quantity)]; }
  const std::string& path() const { return map_.path(); }

 protected:
  static constexpr std::size_t color_first = static_cast<std::size_t>(SphereQuantity::red);
  static constexpr std::size_t material_index = static_cast<std::size_t>(SphereQuantity::material);

  /// Puts a sphere's numbers into place i of a run.
  void put(const double* numbers, SphereRun& run, std::size_t i) const;
  /// Which columns the quantities are in; refuses what is asked for and not there.
  void find_columns(const std::vector<std::string>& names, const SphereFiles& files, int line);
  /// A color is told by numbers of this type.
  void scale_color(std::size_t quantity, SphereNumber type);
  [[noreturn]] void refuse(const std::string& what, int line = 0) const;

  MappedFile map_;
  double radius_;
  double scale_;
  std::array<bool, sphere_quantities> there_{};
  std::array<std::size_t, sphere_quantities> column_{};
  std::array<double, 3> color_scale_{1, 1, 1};
};

/// Records of one length: what the caller knows the places in, or a PLY of bytes.
std::unique_ptr<SphereInput> open_numbers(const std::string& path, const SphereFiles& files);
std::unique_ptr<SphereInput> open_ply_bytes(const std::string& path, const SphereFiles& files);
/// Lines of numbers: a table whose first line names its columns, or a PLY of text.
std::unique_ptr<SphereInput> open_table(const std::string& path, const SphereFiles& files);
std::unique_ptr<SphereInput> open_ply_text(const std::string& path, const SphereFiles& files);

}  // namespace photonlane::io
