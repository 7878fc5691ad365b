#include "io/sphere_sources.hpp"

#include <fmt/format.h>
#include <glob.h>

#include <algorithm>

#include "io/files.hpp"
#include "io/ply_head.hpp"
#include "io/sphere_input.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane::io {
namespace {

[[noreturn]] void refuse(const std::string& path, const std::string& what) {
  throw Error(ErrorKind::file, what, Place{path});
}

/// Spheres of a set that was put in order before.
class StoredFile final : public SphereInput {
 public:
  StoredFile(const std::string& path, const SphereFiles& files)
      : SphereInput(path, files), set_(map_spheres(path)) {
    there_.fill(false);
    for (std::size_t q = 0; q < 4; ++q) there_[q] = true;
    for (std::size_t q = color_first; q < material_index; ++q) there_[q] = set_->has_colors();
    there_[material_index] = set_->has_materials();
  }
  std::size_t stretches() const override {
    return static_cast<std::size_t>((set_->items() + per_stretch - 1) / per_stretch);
  }
  std::string name(std::size_t stretch, std::uint64_t at) const override {
    return fmt::format("{}: sphere {}", place_text({path()}), stretch * per_stretch + at);
  }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    const std::uint64_t first = stretch * per_stretch;
    const std::uint64_t last = std::min(set_->items(), first + per_stretch);
    SphereRun run;
    run.count = 0;
    for (std::uint64_t item = first; item < last; ++item) {
      if (!set_->is_item(item)) continue;
      const Sphere sphere = set_->sphere(item);
      double numbers[sphere_quantities] = {sphere.center.x(), sphere.center.y(), sphere.center.z(),
                                           sphere.radius};
      if (set_->has_colors()) {
        const std::uint32_t color = set_->color(item);
        numbers[4] = color >> 16;
        numbers[5] = color >> 8 & 255;
        numbers[6] = color & 255;
      }
      numbers[7] = sphere.material >= 0 ? sphere.material : 65535;
      put(numbers, run, run.count);
      if (++run.count < SphereRun::capacity) continue;
      take(run);
      run.count = 0;
    }
    if (run.count > 0) take(run);
  }

 private:
  static constexpr std::uint64_t per_stretch = std::uint64_t{1} << 22;
  std::shared_ptr<const SphereSet> set_;
};

std::unique_ptr<SphereInput> open_one(const std::string& path, const SphereFiles& files) {
  if (files.raw()) return open_numbers(path, files);
  if (ends_with(path, ".csv")) return open_table(path, files);
  if (ends_with(path, ".spheres")) return std::make_unique<StoredFile>(path, files);
  if (!ends_with(path, ".ply")) {
    refuse(path, "expected .ply, .csv or .spheres, or where its numbers lie");
  }
  const MappedFile map(path);
  const PlyHead head = read_ply_head(path, {map.data(), map.size()});
  if (head.format == "ascii") return open_ply_text(path, files);
  if (head.format != "binary_little_endian" && head.format != "binary_big_endian") {
    refuse(path, fmt::format("a PLY of format '{}', expected ascii, binary_little_endian or "
                             "binary_big_endian",
                             head.format.substr(0, 60)));
  }
  return open_ply_bytes(path, files);
}

class SeveralFiles final : public SphereSource {
 public:
  explicit SeveralFiles(const SphereFiles& files) {
    for (const std::string& path : fitting_files(files.paths)) {
      files_.push_back(open_one(path, files));
      for (std::size_t i = 0; i < files_.back()->stretches(); ++i) {
        stretches_.push_back({files_.back().get(), i});
      }
    }
    for (const auto& file : files_) {
      const SphereInput& first = *files_.front();
      const auto differs = [&](SphereQuantity quantity) {
        return file->has(quantity) != first.has(quantity);
      };
      if (differs(SphereQuantity::red) || differs(SphereQuantity::material)) {
        refuse(file->path(),
               fmt::format("colors or materials that {} has not, or the other way round",
                           first.path()));
      }
    }
  }
  std::size_t stretches() const override { return stretches_.size(); }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    stretches_[stretch].file->read(stretches_[stretch].own, take);
  }
  bool has_materials() const override { return files_.front()->has(SphereQuantity::material); }
  bool has_colors() const override { return files_.front()->has(SphereQuantity::red); }
  std::string name(std::size_t stretch, std::uint64_t at) const override {
    return stretches_[stretch].file->name(stretches_[stretch].own, at);
  }

 private:
  struct Stretch {
    const SphereInput* file;
    std::size_t own;
  };
  std::vector<std::unique_ptr<SphereInput>> files_;
  std::vector<Stretch> stretches_;
};

}  // namespace

bool SphereFiles::raw() const {
  return std::any_of(fields.begin(), fields.end(), [](const auto& one) { return one.has_value(); });
}

std::vector<std::string> fitting_files(const std::vector<std::string>& patterns) {
  std::vector<std::string> result;
  for (const std::string& pattern : patterns) {
    if (pattern.find_first_of("*?") == pattern.npos) {
      result.push_back(pattern);
      continue;
    }
    // Brackets are no part of our patterns.
    std::string plain;
    for (const char one : pattern) {
      if (one == '[' || one == '\\') plain += '\\';
      plain += one;
    }
    glob_t found{};
    const int problem = glob(plain.c_str(), 0, nullptr, &found);
    for (std::size_t i = 0; problem == 0 && i < found.gl_pathc; ++i) {
      result.emplace_back(found.gl_pathv[i]);
    }
    globfree(&found);
    if (problem != 0) refuse(pattern, "no file fits");
  }
  if (result.empty()) throw Error(ErrorKind::input, "no files of spheres, expected one at least");
  return result;
}

std::unique_ptr<SphereSource> open_spheres(const SphereFiles& files) {
  return std::make_unique<SeveralFiles>(files);
}

}  // namespace photonlane::io
