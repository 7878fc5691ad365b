#include "io/kept_references.hpp"

#include <fmt/format.h>

#include <filesystem>
#include <set>
#include <string_view>

#include "photonlane/io/frame_file.hpp"

namespace photonlane::io {
namespace {

constexpr std::string_view prefix = "reference-";
constexpr std::string_view suffix = ".exr";
constexpr std::size_t digits = 32;

}  // namespace

std::string KeptReferences::name_of(const Digest& what) {
  return fmt::format("{}{:016x}{:016x}{}", prefix, what.high, what.low, suffix);
}

std::optional<Frame> KeptReferences::read(const Digest& what) const {
  const std::string path = folder_ + "/" + name_of(what);
  if (!std::filesystem::exists(path)) return std::nullopt;
  try {
    return read_frame(path);
  } catch (const Error&) {
    return std::nullopt;  // it is made anew
  }
}

void KeptReferences::write(const Digest& what, Frame& frame) const {
  write_frame(folder_ + "/" + name_of(what), frame);
}

void KeptReferences::remove_all_but(const std::vector<Digest>& own) const {
  std::set<std::string> names;
  for (const Digest& what : own) names.insert(name_of(what));
  for (const auto& entry : std::filesystem::directory_iterator(folder_)) {
    const std::string name = entry.path().filename().string();
    if (name.size() != prefix.size() + digits + suffix.size() || names.contains(name)) continue;
    if (!name.starts_with(prefix) || !name.ends_with(suffix)) continue;
    std::error_code ignored;
    std::filesystem::remove(entry.path(), ignored);
  }
}

}  // namespace photonlane::io
