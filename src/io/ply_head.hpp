#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "photonlane/io/sphere_file.hpp"

namespace photonlane::io {

/// Bytes of a number in a file.
std::size_t bytes_of(SphereNumber type);

/// What stands before a PLY's numbers.
struct PlyHead {
  struct Property {
    std::string name;
    SphereNumber type;
  };
  struct Element {
    std::string name;
    std::uint64_t count = 0;
    std::vector<Property> properties;
    bool lists = false;
    int line = 0;
    std::uint64_t bytes() const {
      std::uint64_t sum = 0;
      for (const Property& property : properties) sum += bytes_of(property.type);
      return sum;
    }
  };
  std::string format;
  std::vector<Element> elements;
  std::uint64_t end = 0;  ///< bytes of the head
  int lines = 0;
};

/// The head of a file's text. Throws Error (file) with the line of what is none.
PlyHead read_ply_head(const std::string& path, std::string_view text);

/// The element of spheres; refuses heads without one, and lists in it or before it.
const PlyHead::Element& vertices_of(const std::string& path, const PlyHead& head);

std::vector<std::string> names_of(const PlyHead::Element& element);

}  // namespace photonlane::io
