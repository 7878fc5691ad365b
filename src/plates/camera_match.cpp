#include "photonlane/plates/camera_match.hpp"

#include <fmt/format.h>

#include <Eigen/Dense>
#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>
#include <optional>

#include "base/median.hpp"
#include "photonlane/base/random.hpp"
#include "world/camera_axes.hpp"

namespace photonlane {
namespace {

using Mat34 = Eigen::Matrix<double, 3, 4>;
using MatX = Eigen::MatrixXd;
using VecX = Eigen::VectorXd;

/// A camera as it is fitted: rows of `turn` are to the right, down and ahead.
struct Pose {
  Vec3d eye{0, 0, 0};
  Mat3d turn = Mat3d::Identity();
  double focal = 1;
  double aspect = 1;   ///< of focal lengths, down over across
  Vec2d middle{0, 0};  ///< pixels
  double k1 = 0;       ///< as Camera::distortion_k1

  /// Pixels, or nothing for places behind it.
  std::optional<Vec2d> project(const Vec3d& place) const {
    const Vec3d at = turn * (place - eye);
    if (!(at.z() > 0)) return std::nullopt;
    const Vec2d tangent = at.head<2>() / at.z();
    const double focus = focal * (1 + k1 * tangent.squaredNorm());
    return Vec2d(middle.x() + focus * tangent.x(), middle.y() + focus * aspect * tangent.y());
  }
};

double error_of(const Pose& pose, const PlateMark& pair) {
  const std::optional<Vec2d> at = pose.project(pair.place);
  if (!at) return std::numeric_limits<double>::infinity();
  return (*at - Vec2d(pair.x, pair.y)).norm();
}

/// Moves and scales places so that they lie about the origin, about 1 apart from it.
struct Balance {
  Vec3d middle{0, 0, 0};
  double scale = 1;
  Mat3d axes = Mat3d::Identity();  ///< rows: along where they spread most, less, least
  Vec3d spread{0, 0, 0};           ///< along those

  explicit Balance(std::span<const PlateMark> pairs) {
    for (const PlateMark& pair : pairs) middle += pair.place / static_cast<double>(pairs.size());
    Mat3d sum = Mat3d::Zero();
    for (const PlateMark& pair : pairs) {
      const Vec3d off = pair.place - middle;
      sum += off * off.transpose() / static_cast<double>(pairs.size());
    }
    const Eigen::SelfAdjointEigenSolver<Mat3d> solver(sum);
    for (int k = 0; k < 3; ++k) {
      axes.row(k) = solver.eigenvectors().col(2 - k).transpose();
      spread[k] = std::sqrt(std::max(0.0, solver.eigenvalues()[2 - k]));
    }
    if (axes.determinant() < 0) axes.row(2) *= -1;
    scale = spread[0] > 0 ? spread[0] : 1;
  }
  Vec3d in(const Vec3d& place) const { return axes * (place - middle) / scale; }
};

/// Pixels about the picture's middle, half of its larger side a unit.
struct Screen {
  Vec2d middle;
  double scale;

  explicit Screen(Size size)
      : middle(0.5 * size.width, 0.5 * size.height),
        scale(0.5 * std::max(size.width, size.height)) {}
  Vec2d in(const PlateMark& pair) const { return (Vec2d(pair.x, pair.y) - middle) / scale; }
};

/// The matrix that projects places, of `columns` numbers and 1 each, to the screen, row after row;
/// none where several do.
template <int columns>
std::optional<Eigen::Matrix<double, 3, columns + 1>> projection_of(std::span<const PlateMark> pairs,
                                                                   const Balance& balance,
                                                                   const Screen& screen) {
  constexpr int numbers = columns + 1;
  MatX rows = MatX::Zero(2 * static_cast<Eigen::Index>(pairs.size()), 3 * numbers);
  for (std::size_t k = 0; k < pairs.size(); ++k) {
    Eigen::Matrix<double, 1, numbers> place;
    place << balance.in(pairs[k].place).transpose().head<columns>(), 1;
    const Vec2d at = screen.in(pairs[k]);
    const auto i = 2 * static_cast<Eigen::Index>(k);
    rows.row(i).segment<numbers>(0) = rows.row(i + 1).segment<numbers>(numbers) = place;
    rows.row(i).segment<numbers>(2 * numbers) = -at.x() * place;
    rows.row(i + 1).segment<numbers>(2 * numbers) = -at.y() * place;
  }
  const Eigen::JacobiSVD<MatX> solver(rows, Eigen::ComputeFullV);
  const auto& values = solver.singularValues();
  constexpr Eigen::Index last = 3 * numbers - 1;
  if (values.size() < last || !(values[last - 1] > 1e-9 * values[0])) return std::nullopt;
  const VecX found = solver.matrixV().col(last);
  using Rows = Eigen::Matrix<double, 3, numbers, Eigen::RowMajor>;
  return Eigen::Map<const Rows>(found.data());
}

/// By a turn and focal length in balanced places, back to the world.
std::optional<Pose> placed(const Balance& balance, const Screen& screen, const Mat3d& turn,
                           const Vec3d& shift, double focal, double aspect, const Vec2d& middle) {
  if (!(focal > 1e-6) || !std::isfinite(focal)) return std::nullopt;
  Pose pose;
  pose.turn = turn * balance.axes;
  pose.eye = balance.middle - balance.scale * (balance.axes.transpose() * turn.transpose() * shift);
  pose.focal = focal * screen.scale;
  pose.aspect = aspect;
  pose.middle = screen.middle + screen.scale * middle;
  return pose;
}

Mat3d nearest_turn(const Mat3d& matrix) {
  const Eigen::JacobiSVD<Mat3d> solver(matrix, Eigen::ComputeFullU | Eigen::ComputeFullV);
  Mat3d turn = solver.matrixU() * solver.matrixV().transpose();
  if (turn.determinant() < 0)
    turn = solver.matrixU() * Vec3d(1, 1, -1).asDiagonal() * solver.matrixV().transpose();
  return turn;
}

/// From places all over space: the matrix that projects them, taken apart.
std::optional<Pose> start_in_space(std::span<const PlateMark> pairs, const Balance& balance,
                                   const Screen& screen) {
  const auto found = projection_of<3>(pairs, balance, screen);
  if (!found) return std::nullopt;
  Mat34 matrix = *found;
  Mat3d left = matrix.leftCols<3>();
  if (left.determinant() < 0) matrix = -matrix;
  left = matrix.leftCols<3>();
  const double unit = left.row(2).norm();
  if (!(unit > 1e-12)) return std::nullopt;
  matrix /= unit;
  left = matrix.leftCols<3>();
  const Vec3d ahead = left.row(2);
  const Vec2d middle(left.row(0).dot(ahead), left.row(1).dot(ahead));
  const Vec3d across = left.row(0).transpose() - middle.x() * ahead;
  const Vec3d down = left.row(1).transpose() - middle.y() * ahead;
  const double focal = across.norm();
  if (!(focal > 1e-9) || !(down.norm() > 1e-9)) return std::nullopt;
  Mat3d turn;
  turn << across.normalized().transpose(), down.normalized().transpose(), ahead.transpose();
  // How far the origin is, by what projects it.
  const Vec3d column = matrix.col(3);
  const double z = column.z();
  const Vec3d shift((column.x() - middle.x() * z) / focal,
                    (column.y() - middle.y() * z) / down.norm(), z);
  return placed(balance, screen, nearest_turn(turn), shift, focal, down.norm() / focal, middle);
}

/// From places in a plane: the matrix that maps it to the picture, for square pixels about the
/// picture's middle.
std::optional<Pose> start_in_plane(std::span<const PlateMark> pairs, const Balance& balance,
                                   const Screen& screen) {
  const auto found = projection_of<2>(pairs, balance, screen);
  if (!found) return std::nullopt;
  Mat3d h = *found;
  if (h(2, 2) < 0) h = -h;
  // The first two columns are axes of the plane: across one another, and as long.
  const double top = -(h(0, 0) * h(0, 1) + h(1, 0) * h(1, 1));
  const double bottom = h(2, 0) * h(2, 1);
  const double top_too = h.col(1).head<2>().squaredNorm() - h.col(0).head<2>().squaredNorm();
  const double bottom_too = h(2, 0) * h(2, 0) - h(2, 1) * h(2, 1);
  const double square =
      std::abs(bottom) > std::abs(bottom_too) ? top / bottom : top_too / bottom_too;
  if (!(square > 0) || !std::isfinite(square)) return std::nullopt;
  const double focal = std::sqrt(square);
  Mat3d columns = h;
  columns.topRows<2>() /= focal;
  const double unit = 0.5 * (columns.col(0).norm() + columns.col(1).norm());
  columns /= unit;
  Mat3d turn;
  turn.col(0) = columns.col(0);
  turn.col(1) = columns.col(1);
  turn.col(2) = turn.col(0).cross(turn.col(1));
  return placed(balance, screen, nearest_turn(turn), columns.col(2), focal, 1, {0, 0});
}

/// Least squares over what is sought.
class Fit {
 public:
  Fit(std::span<const PlateMark> pairs, const Screen& screen, const MatchOptions& options,
      double reach)
      : pairs_(pairs), screen_(screen), options_(options), reach_(reach) {}

  Eigen::Index count() const {
    return 7 + (options_.aspect ? 1 : 0) + (options_.shift ? 2 : 0) + (options_.distortion ? 1 : 0);
  }

  /// Steps are in shares: of the reach of the places, of radians, of the focal length.
  Pose moved(const Pose& pose, const VecX& step) const {
    Pose result = pose;
    result.eye += reach_ * step.head<3>();
    const Vec3d turn = step.segment<3>(3);
    if (turn.norm() > 0) {
      result.turn =
          Eigen::AngleAxisd(turn.norm(), turn.normalized()).toRotationMatrix() * pose.turn;
    }
    result.focal *= std::exp(step[6]);
    Eigen::Index at = 7;
    if (options_.aspect) result.aspect *= std::exp(step[at++]);
    if (options_.shift) {
      result.middle += screen_.scale * step.segment<2>(at);
      at += 2;
    }
    if (options_.distortion) result.k1 += step[at];
    return result;
  }

  /// What pixels are off, and how that changes by each step.
  bool look(const Pose& pose, VecX& off, MatX* slope) const {
    const auto size = 2 * static_cast<Eigen::Index>(pairs_.size());
    off.resize(size);
    if (slope != nullptr) slope->resize(size, count());
    for (std::size_t k = 0; k < pairs_.size(); ++k) {
      const Vec3d at = pose.turn * (pairs_[k].place - pose.eye);
      if (!(at.z() > 1e-9)) return false;
      const Vec2d tangent = at.head<2>() / at.z();
      const double square = tangent.squaredNorm();
      const double bend = 1 + pose.k1 * square;
      const Vec2d focal(pose.focal, pose.focal * pose.aspect);
      const Vec2d seen = pose.middle + bend * focal.cwiseProduct(tangent);
      const auto i = 2 * static_cast<Eigen::Index>(k);
      off.segment<2>(i) = seen - Vec2d(pairs_[k].x, pairs_[k].y);
      if (slope == nullptr) continue;
      Eigen::Matrix<double, 2, 3> tangent_by_place;
      tangent_by_place << 1, 0, -tangent.x(), 0, 1, -tangent.y();
      tangent_by_place /= at.z();
      const Eigen::Matrix2d bent =
          bend * Eigen::Matrix2d::Identity() + 2 * pose.k1 * tangent * tangent.transpose();
      const Eigen::Matrix<double, 2, 3> by_place = focal.asDiagonal() * bent * tangent_by_place;
      Mat3d cross;
      cross << 0, at.z(), -at.y(), -at.z(), 0, at.x(), at.y(), -at.x(), 0;
      slope->block<2, 3>(i, 0) = -reach_ * by_place * pose.turn;
      slope->block<2, 3>(i, 3) = by_place * cross;
      slope->block<2, 1>(i, 6) = seen - pose.middle;
      Eigen::Index column = 7;
      if (options_.aspect) {
        slope->block<2, 1>(i, column++) = Vec2d(0, seen.y() - pose.middle.y());
      }
      if (options_.shift) {
        slope->block<2, 2>(i, column) = screen_.scale * Eigen::Matrix2d::Identity();
        column += 2;
      }
      if (options_.distortion) {
        slope->block<2, 1>(i, column) = square * focal.cwiseProduct(tangent);
      }
    }
    return true;
  }

  /// False where a start shows some places behind the eye.
  bool improve(Pose& pose) const {
    VecX off;
    MatX slope;
    if (!look(pose, off, &slope)) return false;
    double damping = 1e-3;
    for (int round = 0; round < 200; ++round) {
      const MatX square = slope.transpose() * slope;
      const VecX down = slope.transpose() * off;
      MatX damped = square;
      damped.diagonal() += damping * (square.diagonal().array() + 1e-12).matrix();
      const VecX step = -damped.ldlt().solve(down);
      if (!step.allFinite()) return false;
      const Pose next = moved(pose, step);
      VecX next_off;
      if (look(next, next_off, nullptr) && next_off.squaredNorm() < off.squaredNorm()) {
        const double gain = off.squaredNorm() - next_off.squaredNorm();
        pose = next;
        damping = std::max(1e-12, 0.2 * damping);
        look(pose, off, &slope);
        if (gain <= 1e-14 * (off.squaredNorm() + 1e-20)) return true;
      } else {
        damping *= 8;
        if (damping > 1e12) return true;
      }
    }
    return true;
  }

 private:
  std::span<const PlateMark> pairs_;
  const Screen& screen_;
  const MatchOptions& options_;
  double reach_;
};

Camera camera_of(const Pose& pose, Size size) {
  Camera camera{.eye = pose.eye};
  turn_camera(pose.turn.row(2), -pose.turn.row(1).transpose(), camera);
  const double focal_y = pose.focal * pose.aspect;
  camera.field_of_view = 2 * std::atan2(0.5 * size.height, focal_y);
  camera.pixel_aspect = pose.aspect;
  camera.shift_x = pose.middle.x() / size.width - 0.5;
  camera.shift_y = 0.5 - pose.middle.y() / size.height;
  camera.distortion_k1 = pose.k1;
  return camera;
}

/// So many pairs a camera takes.
std::size_t pairs_needed(const MatchOptions& options) {
  return (options.shift ? 8u : options.aspect ? 7u : 6u) + (options.distortion ? 1u : 0u);
}

void check_pairs(std::span<const PlateMark> pairs, Size size, const MatchOptions& options) {
  const std::size_t least = pairs_needed(options);
  if (pairs.size() < least) {
    throw Error(ErrorKind::input,
                fmt::format("{} pairs, expected at least {}", pairs.size(), least));
  }
  if (size.width < 1 || size.height < 1) {
    throw Error(ErrorKind::usage, "a picture without pixels");
  }
  for (std::size_t k = 0; k < pairs.size(); ++k) {
    if (std::isfinite(pairs[k].x) && std::isfinite(pairs[k].y) && pairs[k].place.allFinite()) {
      continue;
    }
    throw Error(ErrorKind::input, fmt::format("pair {}: a number that is not finite", k + 1));
  }
}

/// The start that most pairs fit: from six of them at a time, and from all.
std::optional<Pose> seek_start(std::span<const PlateMark> pairs, const Screen& screen,
                               const MatchOptions& options) {
  std::optional<Pose> best;
  double least = std::numeric_limits<double>::infinity();
  const auto look = [&](const std::vector<PlateMark>& some) {
    const Balance balance(some);
    if (!(balance.spread[1] > 1e-6 * balance.spread[0])) return;
    std::vector<std::optional<Pose>> starts;
    if (balance.spread[2] > 1e-3 * balance.spread[0]) {
      starts.push_back(start_in_space(some, balance, screen));
    }
    starts.push_back(start_in_plane(some, balance, screen));
    for (std::optional<Pose>& start : starts) {
      if (!start) continue;
      if (!options.aspect) start->aspect = 1;
      if (!options.shift) start->middle = screen.middle;
      // A plain camera is not what the linear start was: a few steps bring it there.
      const Fit fit(some, screen, options, balance.spread[0]);
      if (!fit.improve(*start)) continue;
      std::vector<double> errors;
      for (const PlateMark& pair : pairs) errors.push_back(error_of(*start, pair));
      const double error = median(std::move(errors));
      if (error < least) {
        least = error;
        best = start;
      }
    }
  };
  look({pairs.begin(), pairs.end()});
  std::vector<std::size_t> order(pairs.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  const std::size_t few = pairs_needed(options);
  if (pairs.size() == few) return best;
  constexpr std::uint64_t tries = 300;
  for (std::uint64_t n = 0; n < tries; ++n) {
    std::vector<PlateMark> some;
    for (std::size_t k = 0; k < few; ++k) {
      const double chance = random_uniform({.seed = 29, .pixel = n}, k);
      const std::size_t other =
          k + static_cast<std::size_t>(chance * static_cast<double>(order.size() - k));
      std::swap(order[k], order[std::min(other, order.size() - 1)]);
      some.push_back(pairs[order[k]]);
    }
    look(some);
  }
  return best;
}

/// How sure a match is, by the spread of what is left and how steeply that grows.
void tell_spread(const Fit& fit, const Pose& pose, std::span<const PlateMark> kept, double reach,
                 Size size, const MatchOptions& options, CameraMatch& match) {
  VecX off;
  MatX slope;
  fit.look(pose, off, &slope);
  match.rms = std::sqrt(off.squaredNorm() / static_cast<double>(kept.size()));
  // Of so many numbers, those that the camera took are not free.
  const Eigen::Index free = off.size() - fit.count();
  const double variance = free > 0 ? off.squaredNorm() / static_cast<double>(free) : 0;
  const MatX square = slope.transpose() * slope;
  const Eigen::SelfAdjointEigenSolver<MatX> solver(square);
  const double weakest = solver.eigenvalues()[0];
  const double strongest = solver.eigenvalues()[fit.count() - 1];
  if (!(weakest > 1e-13 * strongest)) {
    match.unsure.push_back(
        "some of the eye, the direction and the field of view: other cameras "
        "show these places at the same pixels");
    return;
  }
  const MatX covariance = variance * square.inverse();
  for (int axis = 0; axis < 3; ++axis) {
    match.eye_spread[static_cast<std::size_t>(axis)] = reach * std::sqrt(covariance(axis, axis));
  }
  match.turn_spread = std::sqrt(covariance.block<3, 3>(3, 3).trace() / 3) / degrees(1);
  const double focal_spread = std::sqrt(covariance(6, 6));
  // Of 2 atan(h / 2 f), by the focal length.
  match.field_spread = std::sin(match.camera.field_of_view) * focal_spread / degrees(1);
  if (options.distortion) {
    const Eigen::Index last = fit.count() - 1;
    match.distortion_spread = std::sqrt(covariance(last, last));
    try {
      viewing(match.camera, size);
    } catch (const Error&) {
      match.unsure.push_back(fmt::format(
          "the distortion: {:.3g} +- {:.2g} shows no direction at the picture's corners", pose.k1,
          match.distortion_spread));
    }
  }
  if (free < 2)
    match.unsure.push_back("how good the match is: there are no more pairs than it takes");
  if (focal_spread > 0.1) {
    match.unsure.push_back(fmt::format("the field of view: {:.3g} +- {:.2g} degrees",
                                       match.camera.field_of_view / degrees(1),
                                       match.field_spread));
  }
  double nearest = std::numeric_limits<double>::infinity();
  for (const PlateMark& pair : kept) nearest = std::min(nearest, (pair.place - pose.eye).norm());
  const double apart = *std::max_element(match.eye_spread.begin(), match.eye_spread.end());
  if (apart > 0.1 * nearest) {
    match.unsure.push_back(fmt::format("where the eye is: {:.2g} m to either side", apart));
  }
}

}  // namespace

CameraMatch match_camera(std::span<const PlateMark> pairs, Size size, const MatchOptions& options) {
  check_pairs(pairs, size, options);
  const Balance balance(pairs);
  if (!(balance.spread[1] > 1e-6 * balance.spread[0])) {
    throw Error(ErrorKind::input, "pairs of which all places lie on one line");
  }
  const Screen screen(size);
  std::optional<Pose> pose = seek_start(pairs, screen, options);
  if (!pose) throw Error(ErrorKind::input, "no camera shows these places at these pixels");
  CameraMatch match;
  std::vector<PlateMark> kept;
  // Who is an outlier is settled in a few rounds, as the camera gets better.
  for (int round = 0; round < 8; ++round) {
    match.errors.clear();
    for (const PlateMark& pair : pairs) match.errors.push_back(error_of(*pose, pair));
    const double spread = 1.4826 * median(match.errors);
    const double most = std::max(options.least_outlier, 4 * spread);
    std::vector<std::size_t> outliers;
    kept.clear();
    for (std::size_t k = 0; k < pairs.size(); ++k) {
      if (match.errors[k] <= most) {
        kept.push_back(pairs[k]);
      } else {
        outliers.push_back(k);
      }
    }
    const bool settled = round > 0 && outliers == match.outliers;
    match.outliers = std::move(outliers);
    if (settled) break;
    if (2 * static_cast<Eigen::Index>(kept.size()) <
        Fit(kept, screen, options, balance.spread[0]).count()) {
      throw Error(ErrorKind::input, "no camera shows these places at these pixels");
    }
    Fit(kept, screen, options, balance.spread[0]).improve(*pose);
  }
  match.errors.clear();
  for (const PlateMark& pair : pairs) match.errors.push_back(error_of(*pose, pair));
  match.camera = camera_of(*pose, size);
  tell_spread(Fit(kept, screen, options, balance.spread[0]), *pose, kept, balance.spread[0], size,
              options, match);
  return match;
}

}  // namespace photonlane
