#include "many/tile_folder.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>

#include "frame/parts.hpp"
#include "io/files.hpp"
#include "io/run_parts.hpp"
#include "io/stored_blocks.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/base/words.hpp"

namespace photonlane::io {
namespace {

constexpr std::string_view file_kind = "photonlane tile 1";
constexpr std::size_t most_head_bytes = std::size_t{1} << 18;
constexpr std::size_t most_tile_bytes = std::size_t{1} << 31;

Json layer_names(LayerSet layers) {
  Json names = Json::array();
  for (const Layer layer : layers.list()) names.push_back(std::string(name_of(layer)));
  return names;
}

/// Calls with(address of a row, its bytes) for all rows of all planes.
template <class With>
void each_row(Frame& frame, const With& with) {
  const Size size = frame.size();
  const auto rows = [&](auto plane) {
    for (int y = 0; y < size.height; ++y) {
      with(reinterpret_cast<std::byte*>(&plane(0, y)), 4 * static_cast<std::size_t>(size.width));
    }
  };
  each_plane(
      frame, [&](Layer layer, int channel) { rows(frame.values(layer, channel)); },
      [&](Layer layer) { rows(frame.codes(layer)); });
}

Json part_json(const PixelPart& part) {
  return {part.x, part.y, part.size.width, part.size.height};
}

[[noreturn]] void refuse_writing(const std::string& path) {
  throw Error(ErrorKind::file, fmt::format("cannot be written: {}", std::strerror(errno)),
              Place{path});
}

/// Of what a head says but for this, and of the planes.
std::uint64_t checksum_of_tile(const Json& head, std::string_view planes) {
  Json rest = head;
  rest.erase("checksum");
  const std::string text = rest.dump(-1, ' ', false, Json::error_handler_t::replace);
  return mix(checksum_of(text.data(), text.size()) ^ checksum_of(planes.data(), planes.size()));
}

}  // namespace

Company::Bytes tile_bytes(Frame& frame, const PixelPart& part, const Json& maker) {
  Company::Bytes planes;
  each_row(frame, [&](const std::byte* row, std::size_t count) {
    planes.insert(planes.end(), row, row + count);
  });
  Json head{{"kind", file_kind},
            {"maker", maker},
            {"part", part_json(part)},
            {"layers", layer_names(frame.layers())},
            {"tally", to_json(frame.tally)},
            {"bytes", planes.size()}};
  if (frame.plane_report) head["plane"] = to_json(*frame.plane_report);
  head["checksum"] =
      checksum_of_tile(head, {reinterpret_cast<const char*>(planes.data()), planes.size()});
  const std::string line = head.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n";
  Company::Bytes all(line.size() + planes.size());
  std::memcpy(all.data(), line.data(), line.size());
  std::memcpy(all.data() + line.size(), planes.data(), planes.size());
  return all;
}

TileFolder::TileFolder(std::string path, const Json& maker, LayerSet layers)
    : path_(std::move(path)), maker_(maker), layers_(layers) {
  make_folder(path_);
  lock_ = open((path_ + "/lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666);
  if (lock_ < 0) refuse_writing(path_ + "/lock");
  if (flock(lock_, LOCK_EX | LOCK_NB) != 0) {
    const int problem = errno;
    close(lock_);
    if (problem != EWOULDBLOCK) {
      throw Error(ErrorKind::file, std::strerror(problem), Place{path_ + "/lock"});
    }
    throw Error(ErrorKind::usage,
                fmt::format("another process is at the tiles in {}", one_line(path_)));
  }
}

TileFolder::~TileFolder() { close(lock_); }

TileFolder::Found TileFolder::read(const PixelPart& part, Frame& frame) const {
  const std::string path = path_of(part);
  if (!std::filesystem::exists(path)) return Found::none;
  const std::string all = read_file(path, most_tile_bytes);
  return take(all, part, frame);
}

TileFolder::Found TileFolder::take(std::string_view all, const PixelPart& part,
                                   Frame& frame) const {
  const std::size_t end = all.substr(0, most_head_bytes).find('\n');
  if (end == all.npos) return Found::damaged;
  try {
    const Json head = parse_json(std::string(all.substr(0, end)));
    if (head.at("kind") != file_kind) return Found::damaged;
    const std::string differs = difference_of(head.at("maker"), maker_);
    if (!differs.empty()) {
      throw Error(ErrorKind::usage, fmt::format("the tiles in {} are {}; expected another folder",
                                                one_line(path_), differs));
    }
    if (head.at("part") != part_json(part) || head.at("layers") != layer_names(layers_)) {
      return Found::none;
    }
    const std::string_view planes = all.substr(end + 1);
    if (head.at("bytes") != planes.size()) return Found::damaged;
    if (head.at("checksum") != checksum_of_tile(head, planes)) return Found::damaged;
    frame = Frame(part.size, layers_, std::move(frame));
    std::size_t at = 0;
    bool fits = true;
    each_row(frame, [&](std::byte* row, std::size_t count) {
      fits = fits && at + count <= planes.size();
      if (fits) std::memcpy(row, planes.data() + at, count);
      at += count;
    });
    if (!fits || at != planes.size()) return Found::damaged;
    frame.tally = tally_from(head.at("tally"));
    frame.plane_report.reset();
    if (head.contains("plane")) frame.plane_report = plane_report_from(head.at("plane"));
  } catch (const Json::exception&) {
    return Found::damaged;
  }
  return Found::whole;
}

void TileFolder::write(const PixelPart& part, const Company::Bytes& bytes) const {
  const std::string path = path_of(part);
  write_whole(path, [&](const std::string& to) {
    const int file = open(to.c_str(), O_WRONLY | O_TRUNC | O_CLOEXEC);
    if (file < 0) refuse_writing(path);
    std::size_t at = 0;
    while (at < bytes.size()) {
      const ssize_t count = ::write(file, bytes.data() + at, bytes.size() - at);
      if (count < 0 && errno == EINTR) continue;
      if (count <= 0) break;
      at += static_cast<std::size_t>(count);
    }
    const bool whole = at == bytes.size() && fsync(file) == 0;
    const int problem = errno;
    close(file);
    errno = problem;
    if (!whole) refuse_writing(path);
  });
  const int folder = open(path_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  const bool synced = folder >= 0 && fsync(folder) == 0;
  const int problem = errno;
  if (folder >= 0) close(folder);
  errno = problem;
  if (!synced) refuse_writing(path_);
}

std::string TileFolder::path_of(const PixelPart& part) const {
  return fmt::format("{}/{}-{}-{}x{}.tile", path_, part.x, part.y, part.size.width,
                     part.size.height);
}

}  // namespace photonlane::io
