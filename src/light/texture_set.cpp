#include "light/texture_set.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

namespace photonlane {
namespace {

/// Linear light times alpha, and alpha.
struct Texel {
  float value[4];
};

std::uint32_t pack(const Texel& texel) {
  std::uint32_t bits = 0;
  for (int channel = 0; channel < 4; ++channel) {
    const float value = std::clamp(texel.value[channel], 0.0f, 1.0f);
    const float level = channel < 3 ? std::sqrt(value) : value;
    bits |= static_cast<std::uint32_t>(255 * level + 0.5f) << 8 * channel;
  }
  return bits;
}

struct Level {
  int width, height;
  std::vector<Texel> texels;
};

/// Half the texels along one axis, each the mean of what it covers: of an odd number, one and parts
/// of both neighbors.
Level halved(const Level& from, bool across) {
  const int before = across ? from.width : from.height;
  if (before == 1) return from;
  const int after = before / 2;
  Level to{across ? after : from.width, across ? from.height : after, {}};
  to.texels.resize(static_cast<std::size_t>(to.width) * to.height);
  const std::size_t step = across ? 1 : static_cast<std::size_t>(from.width);
  if (before % 2 == 0) {
    for (std::size_t i = 0; i < to.texels.size(); ++i) {
      const std::size_t first = across ? 2 * i : i + i / step * step;
      for (int channel = 0; channel < 4; ++channel) {
        to.texels[i].value[channel] =
            0.5f * (from.texels[first].value[channel] + from.texels[first + step].value[channel]);
      }
    }
    return to;
  }
  const double ratio = static_cast<double>(before) / after;
  for (int y = 0; y < to.height; ++y) {
    for (int x = 0; x < to.width; ++x) {
      const int place = across ? x : y;
      const double low = place * ratio;
      const double high = (place + 1) * ratio;
      Texel sum{};
      for (int i = static_cast<int>(low); i < std::min<double>(before, high); ++i) {
        const auto share =
            static_cast<float>((std::min<double>(high, i + 1) - std::max<double>(low, i)) / ratio);
        const std::size_t other =
            across ? static_cast<std::size_t>(y) * from.width : static_cast<std::size_t>(x);
        const Texel& one = from.texels[other + step * static_cast<std::size_t>(i)];
        for (int channel = 0; channel < 4; ++channel) {
          sum.value[channel] += share * one.value[channel];
        }
      }
      to.texels[static_cast<std::size_t>(y) * to.width + x] = sum;
    }
  }
  return to;
}

Level unpacked(const Texture& texture) {
  std::array<float, 256> linear{};
  for (int i = 0; i < 256; ++i) linear[i] = from_display(static_cast<float>(i) / 255);
  Level level{texture.width, texture.height, {}};
  level.texels.reserve(texture.texels.size());
  for (const std::uint32_t texel : texture.texels) {
    const float alpha = static_cast<float>(texel >> 24) / 255;
    level.texels.push_back({{linear[texel & 255] * alpha, linear[texel >> 8 & 255] * alpha,
                             linear[texel >> 16 & 255] * alpha, alpha}});
  }
  return level;
}

/// Marks the squares of a texture, `side` along each edge, that anything is seen in or beside.
void mark_cover(const Texture& texture, int side, std::vector<std::uint8_t>& cover) {
  const auto square = [&](int place, int length) {
    return std::min(static_cast<int>(std::int64_t{place} * side / length), side - 1);
  };
  const auto at = [&](int x, int y) { return static_cast<std::size_t>(y) * side + x; };
  std::vector<std::uint8_t> seen(at(0, side), 0);
  for (int y = 0; y < texture.height; ++y) {
    for (int x = 0; x < texture.width; ++x) {
      if (texture.at(x, y) >> 24 == 0) continue;
      for (int sy = square(y, texture.height); sy <= square(y + 1, texture.height); ++sy) {
        for (int sx = square(x, texture.width); sx <= square(x + 1, texture.width); ++sx) {
          seen[at(sx, sy)] = 1;
        }
      }
    }
  }
  for (int y = 0; y < side; ++y) {
    for (int x = 0; x < side; ++x) {
      std::uint8_t any = 0;
      for (int sy = std::max(y - 1, 0); sy <= std::min(y + 1, side - 1); ++sy) {
        for (int sx = std::max(x - 1, 0); sx <= std::min(x + 1, side - 1); ++sx) {
          any |= seen[at(sx, sy)];
        }
      }
      cover.push_back(any);
    }
  }
}

}  // namespace

TextureSet::TextureSet(const std::vector<Texture>& textures) {
  std::size_t together = 0;
  for (const Texture& texture : textures) {
    validate(texture);
    together += texture.texels.size();
  }
  if (together > Texture::most_texels) {
    throw Error(ErrorKind::memory,
                fmt::format("textures of {} texels together, expected at most {}", together,
                            Texture::most_texels));
  }
  for (const Texture& texture : textures) {
    Level level = unpacked(texture);
    mark_cover(texture, cover_side, cover_);
    clear_.push_back(std::any_of(texture.texels.begin(), texture.texels.end(),
                                 [](std::uint32_t texel) { return texel >> 24 != 255; }));
    for (int i = 0; i < levels; ++i) {
      const bool same = i > 0 && level.width == width_.back() && level.height == height_.back();
      first_.push_back(same ? first_.back() : static_cast<std::int32_t>(texels_.size()));
      width_.push_back(level.width);
      height_.push_back(level.height);
      if (!same) {
        for (const Texel& texel : level.texels) texels_.push_back(pack(texel));
      }
      level = halved(halved(level, true), false);
    }
  }
  texels_.push_back(0xffffffff);
}

}  // namespace photonlane
