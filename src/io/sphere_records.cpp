#include <algorithm>
#include <bit>
#include <cstring>

#include "io/ply_head.hpp"
#include "io/sphere_input.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane::io {
namespace {

static_assert(std::endian::native == std::endian::little);

template <class Value>
double load(const char* at, bool turned) {
  char bytes[sizeof(Value)];
  std::memcpy(bytes, at, sizeof(Value));
  if (turned) std::reverse(bytes, bytes + sizeof(Value));
  Value value;
  std::memcpy(&value, bytes, sizeof(Value));
  return static_cast<double>(value);
}

double number_at(const char* at, SphereNumber type, bool turned) {
  switch (type) {
    case SphereNumber::float32:
      return load<float>(at, turned);
    case SphereNumber::float64:
      return load<double>(at, turned);
    case SphereNumber::uint8:
      return load<std::uint8_t>(at, turned);
    case SphereNumber::uint16:
      return load<std::uint16_t>(at, turned);
    case SphereNumber::uint32:
      return load<std::uint32_t>(at, turned);
    case SphereNumber::int8:
      return load<std::int8_t>(at, turned);
    case SphereNumber::int16:
      return load<std::int16_t>(at, turned);
    case SphereNumber::int32:
      return load<std::int32_t>(at, turned);
  }
  return 0;
}

/// Records of one length.
class RecordFile : public SphereInput {
 public:
  using SphereInput::SphereInput;
  std::size_t stretches() const override {
    return static_cast<std::size_t>(
        std::max<std::uint64_t>(1, (count_ + per_stretch - 1) / per_stretch));
  }
  std::string name(std::size_t stretch, std::uint64_t at) const override {
    return fmt::format("{}: sphere {}", place_text({path()}), stretch * per_stretch + at + 1);
  }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    const std::uint64_t first = stretch * per_stretch;
    const std::uint64_t last = std::min(count_, first + per_stretch);
    SphereRun run;
    run.count = 0;
    double numbers[sphere_quantities] = {};
    for (std::uint64_t i = first; i < last; ++i) {
      for (std::size_t q = 0; q < sphere_quantities; ++q) {
        if (!there_[q]) continue;
        numbers[q] = number_at(map_.data() + fields_[q].offset + i * fields_[q].stride,
                               fields_[q].type, turned_);
      }
      put(numbers, run, run.count);
      if (++run.count < SphereRun::capacity && i + 1 < last) continue;
      take(run);
      run.count = 0;
    }
    if (!fields_[0].stride) return;
    const std::uint64_t stride = fields_[0].stride;
    map_.done_with(fields_[0].offset + first * stride, fields_[0].offset + last * stride);
  }

 protected:
  static constexpr std::uint64_t per_stretch = std::uint64_t{1} << 22;
  std::uint64_t count_ = 0;
  std::array<SphereField, sphere_quantities> fields_{};
  bool turned_ = false;  ///< the byte order is the other one
};

/// Numbers that the caller knows the places of.
class RawFile final : public RecordFile {
 public:
  RawFile(const std::string& path, const SphereFiles& files) : RecordFile(path, files) {
    std::uint64_t fits = ~std::uint64_t{0};
    for (std::size_t q = 0; q < sphere_quantities; ++q) {
      there_[q] = files.fields[q].has_value();
      if (!there_[q]) continue;
      const SphereField& field = *files.fields[q];
      fields_[q] = field;
      const std::uint64_t bytes = bytes_of(field.type);
      const std::uint64_t here =
          map_.size() < field.offset || map_.size() - field.offset < bytes || field.stride == 0
              ? 0
              : (map_.size() - field.offset - bytes) / field.stride + 1;
      fits = std::min(fits, here);
    }
    for (std::size_t q = 0; q < 3; ++q) {
      if (!there_[q])
        refuse(fmt::format("no place for {} is given", name_of(static_cast<SphereQuantity>(q))));
    }
    for (std::size_t q = 0; q < sphere_quantities; ++q) scale_color(q, fields_[q].type);
    if (files.count > fits) {
      refuse(fmt::format("{} spheres in {} bytes, expected {}", fits, map_.size(), files.count));
    }
    count_ = files.count > 0 ? files.count : fits;
    if (count_ == 0) refuse(fmt::format("no sphere in {} bytes", map_.size()));
  }
};

class PlyBinary final : public RecordFile {
 public:
  PlyBinary(const std::string& path, const SphereFiles& files) : RecordFile(path, files) {
    const PlyHead head = read_ply_head(path, {map_.data(), map_.size()});
    const PlyHead::Element& vertices = vertices_of(path, head);
    find_columns(names_of(vertices), files, vertices.line);
    turned_ = head.format == "binary_big_endian";
    std::uint64_t first = head.end;
    for (const PlyHead::Element& element : head.elements) {
      const std::uint64_t bytes = element.bytes();
      const std::uint64_t fits = bytes == 0 ? element.count : (map_.size() - first) / bytes;
      if (element.count > fits) {
        refuse(fmt::format("ends after {} of {} of '{}'", fits, element.count,
                           element.name.substr(0, 60)));
      }
      if (&element == &vertices) break;
      first += element.count * bytes;
    }
    count_ = vertices.count;
    std::uint64_t offset = 0;
    for (std::size_t p = 0; p < vertices.properties.size(); ++p) {
      const SphereNumber type = vertices.properties[p].type;
      for (std::size_t q = 0; q < sphere_quantities; ++q) {
        if (!there_[q] || column_[q] != p) continue;
        fields_[q] = {first + offset, vertices.bytes(), type};
        scale_color(q, type);
      }
      offset += bytes_of(type);
    }
  }
};

}  // namespace

std::unique_ptr<SphereInput> open_numbers(const std::string& path, const SphereFiles& files) {
  return std::make_unique<RawFile>(path, files);
}

std::unique_ptr<SphereInput> open_ply_bytes(const std::string& path, const SphereFiles& files) {
  return std::make_unique<PlyBinary>(path, files);
}

}  // namespace photonlane::io
