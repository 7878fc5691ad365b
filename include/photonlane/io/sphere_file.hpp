#pragma once

/// Sets of spheres from files, and a file of their own that is used as it lies.
///
///   io::SphereFiles files{.paths = {"pollen-*.ply"}};
///   files.radius = 2e-3;
///   const auto pollen = io::read_spheres(files);
///   io::write_spheres("pollen.spheres", *pollen);

#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "photonlane/spheres/sphere_parts.hpp"
#include "photonlane/spheres/sphere_set.hpp"

namespace photonlane {
namespace io {

/// A number of each sphere.
enum class SphereQuantity { x, y, z, radius, red, green, blue, material };
inline constexpr std::size_t sphere_quantities = 8;

/// How a number lies in a file of numbers, little-endian.
enum class SphereNumber { float32, float64, uint8, uint16, uint32, int8, int16, int32 };

}  // namespace io

template <>
inline constexpr std::array<std::string_view, 8> choice_names<io::SphereQuantity>{
    "x", "y", "z", "radius", "red", "green", "blue", "material"};
template <>
inline constexpr std::array<std::string_view, 8> choice_names<io::SphereNumber>{
    "float32", "float64", "uint8", "uint16", "uint32", "int8", "int16", "int32"};

namespace io {

/// Where a quantity lies in such a file.
struct SphereField {
  std::uint64_t offset = 0;  ///< bytes from the file's start to the first
  std::uint64_t stride = 0;  ///< bytes from one to the next
  SphereNumber type = SphereNumber::float32;
};

struct SphereFiles {
  /// Names or patterns with * and ?, each of .ply, .csv, .spheres, or with `fields` of anything;
  /// those that a pattern fits are taken in order of their names.
  std::vector<std::string> paths;
  double radius = 0.05;  ///< of spheres that have none of their own, in meters
  double scale = 1;      ///< places and radii are times this
  /// What each quantity is called in a PLY's vertices or a CSV's head; empty: as it is here. Those
  /// named here must be there, others may be.
  std::array<std::string, sphere_quantities> columns;
  /// Of files of numbers: where quantities lie, and how many spheres; 0: as many as there are.
  std::array<std::optional<SphereField>, sphere_quantities> fields;
  std::uint64_t count = 0;
  bool raw() const;
};

/// Sets columns from "x=px,radius=size", or where numbers lie from
/// "stride=16,x=0,y=4,z=8,radius=12". Throws Error (input).
void set_columns(std::string_view text, SphereFiles& files);
void set_record(std::string_view text, SphereFiles& files);

/// Spheres of some files as one set, read as streams. A single .spheres file is mapped into memory
/// and used as it lies. Colors are 0 to 255, or 0 to 1 where a PLY has them as floats.
/// Throws Error (file, input) with file and record or line for files that are no such, for numbers
/// that are none, counts that lie and files that end early.
std::shared_ptr<const SphereSet> read_spheres(const SphereFiles& files,
                                              const SphereSetOptions& options = {});

/// The same, put in order anew, also where that was done before.
std::shared_ptr<const SphereSet> put_in_order(const SphereFiles& files,
                                              const SphereSetOptions& options = {});

/// Writes a set whole or not at all. Throws Error (file).
void write_spheres(const std::string& path, const SphereSet& set,
                   const std::function<bool(double)>& progress = {});

/// Maps a file of write_spheres. With `whole` all of it is read and held against its checksums.
/// Throws Error (file) where it is no such file, of another version, cut or damaged.
std::shared_ptr<const SphereSet> map_spheres(const std::string& path, bool whole = true);

/// Puts spheres in order in so many parts of space, each of which is a .spheres file beside `path`
/// (its name with -1of8 and so on), and writes `path`, a list of them in JSON with what is to know
/// of a part without opening it. As many go through memory at once as a part has. Throws Error
/// (file, input).
std::shared_ptr<const SphereParts> write_sphere_parts(const std::string& path,
                                                      const SphereSource& source, int parts,
                                                      const SphereSetOptions& options = {});
/// The same of files.
std::shared_ptr<const SphereParts> write_sphere_parts(const std::string& path,
                                                      const SphereFiles& files, int parts,
                                                      const SphereSetOptions& options = {});
/// Reads such a list; parts are opened by who holds them. Throws Error (file) where it is none.
std::shared_ptr<const SphereParts> open_sphere_parts(const std::string& path);
std::string sphere_parts_text(const SphereParts& all);
std::string sphere_parts_json(const SphereParts& all);

/// Writes what a source gives as a binary PLY, as a stream, whole or not at all. Throws Error
/// (file).
void write_ply(const std::string& path, const SphereSource& source,
               const std::function<bool(double)>& progress = {});

/// The descriptor of a new empty file without a name, beside a file of that name. Throws Error
/// (file).
int working_file(const std::string& beside);

/// A set in words: how many, in how many bytes, moved by how much, and what making it took.
std::string sphere_set_text(const SphereSet& set);
std::string sphere_set_json(const SphereSet& set);

}  // namespace io
}  // namespace photonlane
