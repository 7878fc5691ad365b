#pragma once

#include <string>
#include <string_view>

#include "io/json.hpp"
#include "photonlane/frame/frame.hpp"
#include "photonlane/many/company.hpp"

namespace photonlane::io {

/// A tile as its file has it: a line that says what it is, and its planes. `maker` is of all that
/// decides what is in it.
Company::Bytes tile_bytes(Frame& frame, const PixelPart& part, const Json& maker);

/// A folder with tiles of one frame, of this process alone.
class TileFolder {
 public:
  /// Throws Error (file) where it cannot be made or written to, Error (usage) where another process
  /// is at it.
  TileFolder(std::string path, const Json& maker, LayerSet layers);
  ~TileFolder();
  TileFolder(const TileFolder&) = delete;
  TileFolder& operator=(const TileFolder&) = delete;

  enum class Found { none, whole, damaged };
  /// Reads a tile into a frame of its size. Throws Error (usage) for one of something else.
  Found read(const PixelPart& part, Frame& frame) const;
  /// The same from the bytes of its file.
  Found take(std::string_view all, const PixelPart& part, Frame& frame) const;
  /// Whole or not at all, and synced. Throws Error (file).
  void write(const PixelPart& part, const Company::Bytes& bytes) const;

 private:
  std::string path_of(const PixelPart& part) const;

  std::string path_;
  const Json& maker_;
  LayerSet layers_;
  int lock_ = -1;
};

}  // namespace photonlane::io
