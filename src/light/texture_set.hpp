#pragma once

#include <algorithm>
#include <cstdint>
#include <vector>

#include "photonlane/light/texture.hpp"

namespace photonlane {

/// Textures ready for looking up: every texture with its halves, quarters and so on (Williams,
/// "Pyramidal Parametrics", 1983), each texel of a smaller level the mean of what it covers.
///
/// A texel holds red, green and blue times alpha as bytes of their square roots, so that one
/// multiplication gives linear light, and alpha as it is.
class TextureSet {
 public:
  static constexpr int levels = 16;

  explicit TextureSet(const std::vector<Texture>& textures = {});

  /// Of level `level` of a texture: index texture * levels + level. Levels past the smallest are
  /// the smallest.
  const std::int32_t* first() const { return first_.data(); }
  const std::int32_t* width() const { return width_.data(); }
  const std::int32_t* height() const { return height_.data(); }
  const std::uint32_t* texels() const { return texels_.data(); }

  /// One white texel, for what has no texture.
  std::int32_t white() const { return static_cast<std::int32_t>(texels_.size()) - 1; }

  std::size_t size() const { return first_.size() / levels; }
  std::size_t memory_bytes() const { return texels_.size() * sizeof(std::uint32_t); }

  bool any_clear(std::size_t texture) const { return clear_[texture]; }

  /// 0 where nothing of a texture is seen at a place or beside it, whatever the sampling; u from
  /// the left, v from below, both in [0, 1).
  std::uint8_t covered(std::size_t texture, float u, float v) const {
    const auto x = static_cast<std::size_t>(u * cover_side);
    const auto y = static_cast<std::size_t>((1 - v) * cover_side);
    return cover_[(texture * cover_side + std::min<std::size_t>(y, cover_side - 1)) * cover_side +
                  std::min<std::size_t>(x, cover_side - 1)];
  }

 private:
  std::vector<std::uint32_t> texels_;
  /// Every texture seen in squares of 64 a side: 0 for those in which, and around which, all is
  /// clear.
  static constexpr std::size_t cover_side = 64;
  std::vector<std::uint8_t> cover_;
  std::vector<bool> clear_;  ///< some texel's alpha is below 1
  std::vector<std::int32_t> first_, width_, height_;
};

}  // namespace photonlane
