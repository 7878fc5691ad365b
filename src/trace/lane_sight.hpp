#pragma once

#include "trace/batches.hpp"
#include "trace/room_trace.hpp"
#include "trace/scene_view.hpp"
#include "trace/sight.hpp"

namespace photonlane {

/// Whose lanes they are, for the tally.
enum class Counted {
  first,  ///< the frame's, from the eye on
  later,  ///< the same, which have crossed portals
  aside   ///< for light: of shadows, bounces
};

/// Lanes that are traced one by one: of pixels, shadows, bounces.
template <class Number>
class LaneSight final : public Sight {
 public:
  LaneSight(const SceneView& view, const RoomView& here, const LaneBatch<Number>& lanes,
            Tally& tally, Counted counted = Counted::aside, const HitBatch<Number>* known = nullptr)
      : view_(view), here_(here), lanes_(lanes), tally_(tally), counted_(counted), known_(known) {}

  void nearest(Surfaces& surfaces) override {
    if (known_ != nullptr) return take_over(*known_, surfaces);
    const HitBatch<Number> hits = trace_room(here_.room, lanes_, view_.budget, tally_);
    if (counted_ == Counted::aside) {
      for (std::size_t i = 0; i < lanes_.size; ++i) tally_.secondary_steps += hits.steps[i];
    } else {
      count(hits, lanes_.size, counted_ == Counted::first ? lanes_.size : 0, tally_);
    }

    take_over(hits, surfaces);
  }

  void behind(const bool* wanted, Surfaces& surfaces) override {
    LaneBatch<Number> rest;
    rest.far_limit = lanes_.far_limit;
    rest.spread = lanes_.spread;
    rest.any_start = true;
    rest.any_limit = lanes_.any_limit;
    rest.any_face = lanes_.any_face;
    rest.any_scale = lanes_.any_scale;
    std::int32_t bent[LaneBatch<Number>::capacity];
    if (lanes_.bent != nullptr) rest.bent = bent;

    rest.ending_only = lanes_.ending_only;
    std::size_t place[LaneBatch<Number>::capacity];
    for (std::size_t i = 0; i < lanes_.size; ++i) {
      if (!wanted[i]) continue;
      place[rest.size] = i;
      if (lanes_.bent != nullptr) bent[rest.size] = lanes_.bent[i];

      rest.take(lanes_, i);
      rest.start[rest.size - 1] = met_at_[i];
    }
    const StageScope stage(counted_ == Counted::first ? LaneKind::behind : stage_now().lanes);
    const HitBatch<Number> hits = trace_room(here_.room, rest, view_.budget, tally_);
    for (std::size_t k = 0; k < rest.size; ++k) {
      (counted_ != Counted::aside ? tally_.steps : tally_.secondary_steps) += hits.steps[k];
      put(hits, k, place[k], surfaces);
    }
  }

  void rays(const Surfaces&, LaneRays& rays) const override {
    const Vec3d& eye = here_.origin;
    rays.size = lanes_.size;
    for (std::size_t i = 0; i < lanes_.size; ++i) {
      rays.x[i] = static_cast<float>(lanes_.direction_x[i]);
      rays.y[i] = static_cast<float>(lanes_.direction_y[i]);
      rays.z[i] = static_cast<float>(lanes_.direction_z[i]);
      rays.from_x[i] = static_cast<float>(lanes_.x[i] - eye.x());
      rays.from_y[i] = static_cast<float>(lanes_.y[i] - eye.y());
      rays.from_z[i] = static_cast<float>(lanes_.z[i] - eye.z());
    }
  }

  std::optional<Exact> exact(std::size_t i) const override {
    const Vec3d way(lanes_.direction_x[i], lanes_.direction_y[i], lanes_.direction_z[i]);
    const Vec3d start(lanes_.x[i], lanes_.y[i], lanes_.z[i]);
    return Exact{start + static_cast<double>(met_at_[i]) * way, way};
  }

 private:
  void take_over(const HitBatch<Number>& hits, Surfaces& surfaces) {
    surfaces.size = lanes_.size;
    surfaces.any_panel = false;
    surfaces.any_curved = false;
    surfaces.all_hit = true;
    surfaces.any_scale = lanes_.any_scale;
    if (lanes_.any_scale) {
      for (std::size_t i = 0; i < lanes_.size; ++i) {
        surfaces.scale[i] = static_cast<float>(lanes_.scale[i]);
      }
    }
    put_all(hits, surfaces);
  }

  /// to = start - eye + t * way, in a loop of few arrays that the compiler turns into vectors.
  static void put_places(std::size_t size, const Number* __restrict start, double of_eye,
                         const Number* __restrict t, const Number* __restrict way,
                         float* __restrict to) {
    const auto eye = static_cast<Number>(of_eye);
    for (std::size_t i = 0; i < size; ++i)
      to[i] = static_cast<float>(start[i] - eye + t[i] * way[i]);
  }

  /// What is not simply hit is put anew, one by one.
  void put_all(const HitBatch<Number>& hits, Surfaces& surfaces) {
    const Vec3d& eye = here_.origin;
    const std::size_t size = lanes_.size;
    std::copy_n(hits.t, size, met_at_);
    std::copy_n(hits.t, size, surfaces.t);
    put_places(size, lanes_.x, eye.x(), hits.t, lanes_.direction_x, surfaces.x);
    put_places(size, lanes_.y, eye.y(), hits.t, lanes_.direction_y, surfaces.y);
    put_places(size, lanes_.z, eye.z(), hits.t, lanes_.direction_z, surfaces.z);
    std::uint32_t unusual = 0;
    for (std::size_t i = 0; i < size; ++i) {
      surfaces.thickness[i] = static_cast<float>(hits.exit[i] - hits.t[i]);
    }
    for (std::size_t i = 0; i < size; ++i) {
      unusual |= static_cast<std::uint32_t>(hits.ending[i] != Ending::hit) |
                 static_cast<std::uint32_t>(hits.face[i] >= Face::panel);
    }
    std::copy_n(hits.face, size, surfaces.face);
    std::copy_n(hits.ending, size, surfaces.ending);
    std::copy_n(hits.material, size, surfaces.material);
    std::copy_n(hits.item, size, surfaces.item);
    std::copy_n(hits.steps, size, surfaces.steps);
    if (!here_.room.only_cells()) {
      std::copy_n(hits.evaluations, size, surfaces.evaluations);
      std::copy_n(hits.nearest, size, surfaces.nearest);
      std::copy_n(hits.overstretched, size, surfaces.overstretched);
    } else if (view_.portals) {
      std::fill_n(surfaces.evaluations, size, 0u);
      std::fill_n(surfaces.nearest, size, std::numeric_limits<float>::infinity());
      std::fill_n(surfaces.overstretched, size, 0u);
    }
    if (unusual == 0) return;
    for (std::size_t i = 0; i < size; ++i) {
      if (hits.ending[i] != Ending::hit || hits.face[i] >= Face::panel) put(hits, i, i, surfaces);
    }
  }

  void put(const HitBatch<Number>& hits, std::size_t from, std::size_t i, Surfaces& surfaces) {
    const bool escaped = hits.ending[from] == Ending::escaped;
    const Number t = escaped ? Number(1) : hits.t[from];
    const Vec3d& eye = here_.origin;
    // Directions stand for what is not met.
    const auto place = [&](Number start, double of_eye, Number direction) {
      const Number offset = escaped ? Number(0) : start - static_cast<Number>(of_eye);
      return static_cast<float>(offset + t * direction);
    };
    met_at_[i] = hits.t[from];
    surfaces.t[i] = static_cast<float>(t);
    surfaces.x[i] = place(lanes_.x[i], eye.x(), lanes_.direction_x[i]);
    surfaces.y[i] = place(lanes_.y[i], eye.y(), lanes_.direction_y[i]);
    surfaces.z[i] = place(lanes_.z[i], eye.z(), lanes_.direction_z[i]);
    surfaces.thickness[i] = static_cast<float>(hits.exit[from] - hits.t[from]);
    if (hits.face[from] == Face::panel) {
      surfaces.u[i] = hits.panel_u[from];
      surfaces.v[i] = hits.panel_v[from];
      surfaces.normal_x[i] = hits.normal_x[from];
      surfaces.normal_y[i] = hits.normal_y[from];
      surfaces.any_panel = true;
    }
    if (hits.face[from] == Face::curved) {
      surfaces.normal_x[i] = hits.normal_x[from];
      surfaces.normal_y[i] = hits.normal_y[from];
      surfaces.normal_z[i] = hits.normal_z[from];
      surfaces.other[i] = hits.other[from];
      surfaces.share[i] = hits.share[from];
      surfaces.any_curved = true;
    }
    surfaces.face[i] = hits.face[from];
    surfaces.ending[i] = hits.ending[from];
    surfaces.material[i] = here_.open.of(hits.ending[from], hits.material[from]);
    surfaces.item[i] = hits.item[from];
    surfaces.steps[i] = hits.steps[from];
    surfaces.all_hit = surfaces.all_hit && hits.ending[from] == Ending::hit;
  }

  const SceneView& view_;
  const RoomView& here_;
  const LaneBatch<Number>& lanes_;
  Tally& tally_;
  Counted counted_;
  const HitBatch<Number>* known_;  ///< what they meet, where that was traced before

  Number met_at_[LaneBatch<Number>::capacity];
};

}  // namespace photonlane
