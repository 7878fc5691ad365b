// Draws a court of the Glasshouse the other way round: triangles to pixels, with a depth buffer in
// reversed z, as programs on graphics cards do. What it writes is a plate for a scene of rays:
//
//   draw_court court.exr [WIDTHxHEIGHT]
//
// R, G, B are linear light; Z is the depth buffer: nearest / distance, 0 at infinity. Its world has
// y up; its two matrices are printed, column after column, as a scene file has them.

#include <fmt/format.h>

#include <ImfChannelList.h>
#include <ImfFrameBuffer.h>
#include <ImfHeader.h>
#include <ImfOutputFile.h>
#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <exception>
#include <vector>

#include <Eigen/Geometry>

#include "photonlane/photonlane.hpp"

namespace {

using photonlane::Vec3d;
using Vec4d = Eigen::Vector4d;
using Mat4d = Eigen::Matrix4d;

constexpr double nearest = 0.1;
constexpr int fine = 4;  // samples a pixel, across and down
const Vec3d sun = Vec3d(-0.60, 0.42, 0.55).normalized();

struct Corner {
  Vec3d place;
  Vec3d normal;
};

/// Light of stone, tiles and sky at a place of a surface.
Vec3d color_of(const Vec3d& stone, const Vec3d& place, const Vec3d& normal) {
  Vec3d own = stone;
  if (normal.y() > 0.9) {
    // Tiles, 0.75 m wide, with dark joints.
    const double u = place.x() / 0.75 - std::floor(place.x() / 0.75);
    const double v = place.z() / 0.75 - std::floor(place.z() / 0.75);
    const bool odd = (static_cast<int>(std::floor(place.x() / 0.75)) +
                      static_cast<int>(std::floor(place.z() / 0.75))) &
                     1;
    own *= std::min({u, v, 1 - u, 1 - v}) < 0.02 ? 0.5 : odd ? 0.82 : 1.0;
  } else {
    // Courses of stone, 0.4 m high.
    const double course = place.y() / 0.4 - std::floor(place.y() / 0.4);
    own *= course < 0.04 ? 0.72 : 1.0;
  }
  const Vec3d sky(0.16, 0.19, 0.28);
  const Vec3d sunlight(0.95, 0.66, 0.40);
  return own.cwiseProduct(sky + sunlight * std::max(0.0, normal.dot(sun)));
}

class Court {
 public:
  Court(int width, int height)
      : width_(width * fine),
        height_(height * fine),
        light_(static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_)),
        depth_(light_.size(), 0.0) {
    const double tall = 1 / std::tan(0.5 * photonlane::degrees(52));
    projection << tall * height / width, 0, 0, 0, 0, tall, 0, 0, 0, 0, 0, nearest, 0, 0, -1, 0;
    const Vec3d eye(-3.6, 2.3, 7.6);
    const Vec3d back = (eye - Vec3d(0.4, 1.0, 0)).normalized();
    const Vec3d right = Vec3d(0, 1, 0).cross(back).normalized();
    const Vec3d up = back.cross(right);
    view.setIdentity();
    view.row(0) << right.transpose(), -right.dot(eye);
    view.row(1) << up.transpose(), -up.dot(eye);
    view.row(2) << back.transpose(), -back.dot(eye);
    for (int y = 0; y < height_; ++y) {
      // Dusk, where nothing is drawn.
      const double t = std::clamp(1.6 * (0.62 - (y + 0.5) / height_), 0.0, 1.0);
      const Vec3d sky = (1 - t) * Vec3d(0.78, 0.46, 0.26) + t * Vec3d(0.13, 0.19, 0.36);
      std::fill_n(light_.begin() + static_cast<std::ptrdiff_t>(y) * width_, width_, sky);
    }
  }

  void quad(const Vec3d& a, const Vec3d& b, const Vec3d& c, const Vec3d& d, const Vec3d& stone) {
    const Vec3d normal = (b - a).cross(d - a).normalized();
    triangle({a, normal}, {b, normal}, {c, normal}, stone);
    triangle({a, normal}, {c, normal}, {d, normal}, stone);
  }

  void box(const Vec3d& low, const Vec3d& high, const Vec3d& stone) {
    const auto at = [&](int x, int y, int z) {
      return Vec3d(x ? high.x() : low.x(), y ? high.y() : low.y(), z ? high.z() : low.z());
    };
    quad(at(0, 0, 1), at(1, 0, 1), at(1, 1, 1), at(0, 1, 1), stone);
    quad(at(1, 0, 0), at(0, 0, 0), at(0, 1, 0), at(1, 1, 0), stone);
    quad(at(1, 0, 1), at(1, 0, 0), at(1, 1, 0), at(1, 1, 1), stone);
    quad(at(0, 0, 0), at(0, 0, 1), at(0, 1, 1), at(0, 1, 0), stone);
    quad(at(0, 1, 1), at(1, 1, 1), at(1, 1, 0), at(0, 1, 0), stone);
  }

  /// A round wall about the y axis through `middle`, from inner to outer radius.
  void ring(const Vec3d& middle, double inner, double outer, double high, const Vec3d& stone) {
    constexpr int sides = 96;
    const auto at = [&](int k, double radius, double y) {
      const double angle = 2 * photonlane::pi * k / sides;
      return Vec3d(middle + Vec3d(radius * std::cos(angle), y, -radius * std::sin(angle)));
    };
    const auto out = [&](int k) { return (at(k, 1, 0) - middle).normalized(); };
    for (int k = 0; k < sides; ++k) {
      const auto wall = [&](double radius, double sign) {
        const Corner a{at(k, radius, 0), sign * out(k)};
        const Corner b{at(k + 1, radius, 0), sign * out(k + 1)};
        const Corner c{at(k + 1, radius, high), sign * out(k + 1)};
        const Corner d{at(k, radius, high), sign * out(k)};
        // Each seen from its own side.
        triangle(sign > 0 ? a : b, sign > 0 ? b : a, sign > 0 ? c : d, stone);
        triangle(sign > 0 ? a : b, sign > 0 ? c : d, sign > 0 ? d : c, stone);
      };
      wall(outer, 1);
      wall(inner, -1);
      quad(at(k, outer, high), at(k + 1, outer, high), at(k + 1, inner, high), at(k, inner, high),
           stone);
    }
  }

  /// The picture, and of the depth the sample in the middle of each pixel.
  void write(const char* path) const {
    const int width = width_ / fine;
    const int height = height_ / fine;
    std::vector<float> planes[4];
    for (auto& plane : planes) plane.resize(static_cast<std::size_t>(width) * height);
    for (int y = 0; y < height; ++y) {
      for (int x = 0; x < width; ++x) {
        Vec3d sum(0, 0, 0);
        for (int k = 0; k < fine * fine; ++k) sum += light_[index(x, y, k % fine, k / fine)];
        sum /= fine * fine;
        const std::size_t i = static_cast<std::size_t>(y) * width + x;
        for (int c = 0; c < 3; ++c) planes[c][i] = static_cast<float>(sum[c]);
        // Four samples lie around the middle; 1 / distance is linear between them.
        double middle = 0;
        for (int k = 0; k < 4; ++k) {
          middle += 0.25 * depth_[index(x, y, fine / 2 - k % 2, fine / 2 - k / 2)];
        }
        const double one = depth_[index(x, y, fine / 2, fine / 2)];
        planes[3][i] = static_cast<float>(std::abs(middle - one) < 0.02 * one ? middle : one);
      }
    }
    std::vector<half> colors[3];
    for (int c = 0; c < 3; ++c) colors[c].assign(planes[c].begin(), planes[c].end());
    Imf::Header header(width, height);
    header.compression() = Imf::ZIP_COMPRESSION;
    Imf::FrameBuffer buffer;
    const char* const names[] = {"R", "G", "B", "Z"};
    for (int c = 0; c < 4; ++c) {
      header.channels().insert(names[c], Imf::Channel(c < 3 ? Imf::HALF : Imf::FLOAT));
      const std::size_t each = c < 3 ? sizeof(half) : sizeof(float);
      char* const from = c < 3 ? reinterpret_cast<char*>(colors[c].data())
                               : reinterpret_cast<char*>(planes[c].data());
      buffer.insert(names[c], Imf::Slice(c < 3 ? Imf::HALF : Imf::FLOAT, from, each,
                                         each * static_cast<std::size_t>(width)));
    }
    Imf::OutputFile file(path, header);
    file.setFrameBuffer(buffer);
    file.writePixels(height);
  }

  Mat4d projection, view;

 private:
  std::size_t index(int x, int y, int dx, int dy) const {
    return static_cast<std::size_t>(y * fine + dy) * static_cast<std::size_t>(width_) +
           static_cast<std::size_t>(x * fine + dx);
  }

  /// Cut off before the near plane, then pixel by pixel, with what is linear over 1 / w.
  void triangle(const Corner& a, const Corner& b, const Corner& c, const Vec3d& stone) {
    std::vector<Corner> whole{a, b, c};
    std::vector<Corner> kept;
    const auto before = [&](const Corner& one) {
      return -(view.row(2).head<3>().dot(one.place) + view(2, 3)) - nearest;
    };
    for (std::size_t k = 0; k < whole.size(); ++k) {
      const Corner& from = whole[k];
      const Corner& to = whole[(k + 1) % whole.size()];
      const double one = before(from);
      const double two = before(to);
      if (one > 0) kept.push_back(from);
      if ((one > 0) == (two > 0)) continue;
      const double t = one / (one - two);
      kept.push_back(
          {from.place + t * (to.place - from.place), from.normal + t * (to.normal - from.normal)});
    }
    for (std::size_t k = 2; k < kept.size(); ++k) fill({kept[0], kept[k - 1], kept[k]}, stone);
  }

  void fill(const std::array<Corner, 3>& corners, const Vec3d& stone) {
    double x[3], y[3], over_w[3];
    for (std::size_t k = 0; k < 3; ++k) {
      const Vec3d& p = corners[k].place;
      const Vec4d clip = projection * view * Vec4d(p.x(), p.y(), p.z(), 1);
      over_w[k] = 1 / clip.w();
      x[k] = 0.5 * (1 + clip.x() * over_w[k]) * width_;
      y[k] = 0.5 * (1 - clip.y() * over_w[k]) * height_;
    }
    const double area = (x[1] - x[0]) * (y[2] - y[0]) - (x[2] - x[0]) * (y[1] - y[0]);
    if (area >= 0) return;  // seen from behind
    const auto low = [](const double* v, int most) {
      return std::clamp(static_cast<int>(std::floor(*std::min_element(v, v + 3))), 0, most);
    };
    const auto high = [](const double* v, int most) {
      return std::clamp(static_cast<int>(std::ceil(*std::max_element(v, v + 3))), 0, most);
    };
    for (int row = low(y, height_); row < high(y, height_); ++row) {
      for (int column = low(x, width_); column < high(x, width_); ++column) {
        const double px = column + 0.5;
        const double py = row + 0.5;
        double share[3];
        for (int k = 0; k < 3; ++k) {
          const int i = (k + 1) % 3;
          const int j = (k + 2) % 3;
          share[k] = ((x[i] - px) * (y[j] - py) - (x[j] - px) * (y[i] - py)) / area;
        }
        if (share[0] < 0 || share[1] < 0 || share[2] < 0) continue;
        const double w = share[0] * over_w[0] + share[1] * over_w[1] + share[2] * over_w[2];
        const std::size_t at = static_cast<std::size_t>(row) * width_ + column;
        if (nearest * w <= depth_[at]) continue;
        depth_[at] = nearest * w;
        Vec3d place(0, 0, 0);
        Vec3d normal(0, 0, 0);
        for (std::size_t k = 0; k < 3; ++k) {
          place += share[k] * over_w[k] / w * corners[k].place;
          normal += share[k] * over_w[k] / w * corners[k].normal;
        }
        light_[at] = color_of(stone, place, normal.normalized());
      }
    }
  }

  int width_, height_;
  std::vector<Vec3d> light_;
  std::vector<double> depth_;
};

std::string numbers(const Mat4d& matrix) {
  std::string text;
  for (Eigen::Index i = 0; i < 16; ++i) {
    text += fmt::format("{}{:.9g}", i == 0 ? "" : ", ", matrix.data()[i] + 0.0);
  }
  return "[" + text + "]";
}

}  // namespace

int main(int count, char** words) try {
  int width = 960;
  int height = 600;
  const bool sized = count == 3 && std::sscanf(words[2], "%dx%d", &width, &height) == 2;
  if (!(count == 2 || sized) || width < 1 || height < 1 || width > 4096 || height > 4096) {
    fmt::print(stderr, "usage: draw_court NAME.exr [WIDTHxHEIGHT]\n");
    return 2;
  }
  Court court(width, height);
  const Vec3d stone(0.62, 0.56, 0.47);
  const Vec3d brick(0.55, 0.33, 0.24);
  const Vec3d tile(0.58, 0.54, 0.48);
  court.quad({-20, 0, 12}, {20, 0, 12}, {20, 0, -20}, {-20, 0, -20}, tile);
  // A wall with four arches that are square, and a ledge.
  for (int k = 0; k < 5; ++k) {
    const double x = -7.5 + 3.5 * k;
    court.box({x, 0, -4.4}, {x + 1.1, 2.7, -3.6}, stone);
  }
  court.box({-7.5, 2.7, -4.4}, {7.6, 3.5, -3.6}, stone);
  court.box({-7.6, 3.5, -4.5}, {7.7, 3.65, -3.45}, Vec3d(0.7, 0.66, 0.58));
  court.box({-8, 0, -7.4}, {8, 4.4, -7}, brick);
  // The wall on the right, with pillars, for a vine to climb.
  court.box({5.2, 0, -3.6}, {5.8, 3.1, 6}, brick);
  for (int k = 0; k < 4; ++k) {
    court.box({4.9, 0, -3.0 + 2.4 * k}, {5.3, 3.3, -2.4 + 2.4 * k}, stone);
  }
  court.ring({0.6, 0, 0}, 1.5, 1.8, 0.55, Vec3d(0.66, 0.63, 0.58));
  court.ring({0.6, 0, 0}, 0.28, 0.42, 1.05, Vec3d(0.66, 0.63, 0.58));
  court.box({-4.6, 0, -2.4}, {-2.9, 0.45, -1.8}, stone);
  court.box({2.7, 0, 3.0}, {3.3, 0.6, 3.6}, brick);
  court.write(words[1]);
  fmt::print("camera:\n  matrices:\n    order: columns\n    world: y_up\n");
  fmt::print("    projection: {}\n    view: {}\n", numbers(court.projection), numbers(court.view));
  return 0;
} catch (const std::exception& error) {
  fmt::print(stderr, "draw_court: {}\n", error.what());
  return 1;
}
