#include "render/look.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "render/lane_sight.hpp"

namespace photonlane {
namespace {

constexpr float infinite = std::numeric_limits<float>::infinity();

/// Below this share of a pixel's light nobody sees what is behind.
constexpr float least_through = 1.0f / 1024;

/// Lays a panorama on lanes that left the room.
void place_sky(const Sky& sky, Surfaces& surfaces) {
  if (sky.panorama < 0) return;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] != Ending::escaped) continue;
    const PanoramaPlace place = panorama_place(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
    surfaces.u[i] = place.u;
    surfaces.v[i] = place.v;
    surfaces.face[i] = Face::panel;
    surfaces.any_panel = true;
  }
}

/// Mixes in the base color of the second material where a field's seam has one.
void mix_materials(const PaintTable& paint, const Surfaces& surfaces, Colors& colors) {
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.face[i] != Face::curved || surfaces.share[i] == 0) continue;
    const PaintEntry& other = paint.at(surfaces.other[i], Face::curved);
    const auto mix = [&](float& color, float to) { color += (to - color) * surfaces.share[i]; };
    mix(colors.red[i], other.red);
    mix(colors.green[i], other.green);
    mix(colors.blue[i], other.blue);
  }
}

/// What fog takes the distance of each surface for, and the colors that no material has.
void finish(const RenderJob& job, const Surfaces& surfaces, Colors& colors, float* distance) {
  std::copy_n(surfaces.t, (surfaces.size + 15) / 16 * 16, distance);
  const std::optional<Sky>& sky = job.world.room().sky;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] == Ending::hit) continue;
    const bool spent = surfaces.ending[i] == Ending::spent;
    distance[i] = spent || sky ? 0 : infinite;
    if (!spent && sky && sky->panorama < 0) {
      const Color color = sky_color(*sky, surfaces.z[i]);
      colors.red[i] = color[0];
      colors.green[i] = color[1];
      colors.blue[i] = color[2];
    }
  }
}

/// Keeps surfaces for the data layers.
class SolidKeeper {
 public:
  explicit SolidKeeper(Surfaces* solid) : solid_(solid) {
    if (solid_ != nullptr) std::fill_n(kept_, Surfaces::capacity, false);
  }

  void keep(const Surfaces& surfaces, const Colors* colors) {
    if (solid_ == nullptr) return;
    solid_->size = surfaces.size;
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      if (kept_[i] || (colors != nullptr && colors->alpha[i] < 0.5f)) continue;
      solid_->copy(surfaces, i, i);
      kept_[i] = true;
    }
  }

 private:
  Surfaces* solid_;
  bool kept_[Surfaces::capacity];
};

/// Mixes in what wet floors show: `wet` of each surface.
void mix(const Colors& image, const float* wet, std::size_t size, Colors& colors) {
  for (std::size_t i = 0; i < size; ++i) {
    colors.red[i] += (image.red[i] - colors.red[i]) * wet[i];
    colors.green[i] += (image.green[i] - colors.green[i]) * wet[i];
    colors.blue[i] += (image.blue[i] - colors.blue[i]) * wet[i];
  }
}

/// A lane from every wet place, thrown back by a mirror, or by a surface as `rough` as its material
/// says.
void reflect_traced(const RenderJob& job, const Sight& sight, const PixelPlace& place,
                    const Surfaces& surfaces, const bool* wanted, bool rough, Colors& image,
                    Tally& tally) {
  // A mirror has no rays for light of its own.
  const LightBudget& light = rough ? job.budget.light : rayless;
  LaneRays rays;
  sight.rays(surfaces, rays);
  LaneBatch<float> lanes;
  lanes.far_limit = static_cast<float>(job.budget.far_limit);
  std::size_t of[Surfaces::capacity];
  const Vec3d& eye = job.camera.eye;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (!wanted[i]) continue;
    const double full = job.world.materials()[surfaces.material[i]].roughness;
    const auto roughness = rough ? 0.25f * static_cast<float>(full) : 0.0f;
    float x = rays.x[i];
    float y = rays.y[i];
    float z = -rays.z[i];
    if (roughness > 0) {
      // A normal turned a little, evenly over a disk.
      const RandomKey key{
          .pixel = place.pixel(i), .sample = static_cast<std::uint32_t>(place.sample), .bounce = 1};
      const float radius = roughness * std::sqrt(random_uniform(key, 0));
      const auto [sine, cosine] = sine_cosine(2 * pi * random_uniform(key, 1));
      const float nx = radius * static_cast<float>(cosine);
      const float ny = radius * static_cast<float>(sine);
      const float scale = 2 * (rays.x[i] * nx + rays.y[i] * ny + rays.z[i]) / (1 + radius * radius);
      x -= scale * nx;
      y -= scale * ny;
      z = std::max(rays.z[i] - scale, 1e-3f);
      const float length = 1 / std::sqrt(x * x + y * y + z * z);
      x *= length;
      y *= length;
      z *= length;
    }
    const std::size_t k = lanes.size++;
    of[k] = i;
    lanes.x[k] = static_cast<float>(eye.x() + surfaces.x[i]);
    lanes.y[k] = static_cast<float>(eye.y() + surfaces.y[i]);
    lanes.z[k] = static_cast<float>(eye.z() + surfaces.z[i]) + 1e-3f;
    lanes.direction_x[k] = x;
    lanes.direction_y[k] = y;
    lanes.direction_z[k] = z;
  }
  tally.bounces += lanes.size;
  LaneSight<float> bounce(job, lanes, tally);
  Colors seen;
  look(job, bounce, place, 1, true, seen, nullptr, tally, &light);
  for (std::size_t k = 0; k < lanes.size; ++k) {
    image.red[of[k]] = seen.red[k];
    image.green[of[k]] = seen.green[k];
    image.blue[of[k]] = seen.blue[k];
  }
}

/// What wet floors throw back.
void reflect(const RenderJob& job, Sight& sight, const PixelPlace& place, const Surfaces& surfaces,
             Colors& colors, Tally& tally) {
  const bool traced = job.budget.light.wet_floor == WetFloor::traced;
  bool wanted[Surfaces::capacity];
  alignas(64) float wet[Surfaces::capacity];
  bool any = false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const Material& material = job.world.materials()[surfaces.material[i]];
    wanted[i] = surfaces.face[i] == Face::floor && surfaces.ending[i] == Ending::hit &&
                material.wetness > 0 && (traced || surfaces.item[i] == no_item);
    const auto wetness = static_cast<float>(material.wetness);
    const float cosine = -surfaces.z[i] / std::max(surfaces.t[i], 1e-6f);
    wet[i] = wanted[i] ? wetness * water_reflectance(cosine) : 0;
    any = any || wanted[i];
  }
  if (!any) return;
  Colors image;
  const std::unique_ptr<Sight> mirror = traced ? nullptr : sight.mirrored(surfaces, wanted);
  if (mirror != nullptr) {
    look(job, *mirror, place, 1, true, image, nullptr, tally, &rayless);
  } else {
    std::fill_n(image.red, surfaces.size, 0.0f);
    std::fill_n(image.green, surfaces.size, 0.0f);
    std::fill_n(image.blue, surfaces.size, 0.0f);
    reflect_traced(job, sight, place, surfaces, wanted, traced, image, tally);
  }
  mix(image, wet, surfaces.size, colors);
}

/// What is left for whatever lies behind; true where anything is.
bool dim(const RenderJob& job, const Surfaces& surfaces, const Colors& colors, int pass,
         bool* wanted, Through& through) {
  bool any = false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const bool ended = surfaces.ending[i] != Ending::hit || (pass > 0 && !wanted[i]);
    const float left = ended ? 0 : 1 - colors.alpha[i];
    const Color& tint = job.world.materials()[surfaces.material[i]].tint;
    const auto pass_on = [&](float* rest, float factor) {
      rest[i] = (pass == 0 ? 1 : rest[i]) * left * factor;
      return rest[i];
    };
    const float most = std::max({pass_on(through.red, tint[0]), pass_on(through.green, tint[1]),
                                 pass_on(through.blue, tint[2])});
    wanted[i] = most > least_through;
    any = any || wanted[i];
    if (!wanted[i]) through.red[i] = through.green[i] = through.blue[i] = 0;
  }
  for (std::size_t i = surfaces.size; i < Surfaces::capacity && i % 16 != 0; ++i) {
    through.red[i] = through.green[i] = through.blue[i] = 0;
  }
  return any;
}

/// Shows what is left of the lanes that are still wanted as spent; `counts` where they are the
/// frame's own, one a pixel.
void spend(float share, const bool* wanted, const Through& through, Surfaces& surfaces,
           Colors& sums, bool counts, Tally& tally) {
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (!wanted[i]) continue;
    sums.red[i] += share * through.red[i] * spent_color[0];
    sums.green[i] += share * through.green[i] * spent_color[1];
    sums.blue[i] += share * through.blue[i] * spent_color[2];
    surfaces.ending[i] = Ending::spent;
    surfaces.face[i] = Face::none;
    surfaces.item[i] = no_item;
    if (!counts) continue;
    ++tally.spent;
    --tally.hits;
  }
}

/// What the lanes of some pixels see, one surface after the other: what stands in the map, and the
/// panels before it.
class Path {
 public:
  Path(const RenderJob& job, Sight& sight, bool wants_data) : job_(job), sight_(sight) {
    solids_.wants_data = wants_data;
    sight_.nearest(solids_);
    if (job.panels.empty()) return;
    sight_.rays(solids_, rays_);
    std::fill_n(starts_.t, solids_.size, 0.0f);
    std::fill_n(starts_.panel, solids_.size, -1);
    cover();
  }

  Surfaces& seen() { return job_.panels.empty() ? solids_ : seen_; }

  /// What is behind, where it is wanted.
  void go_on(const bool* wanted) {
    if (job_.panels.empty()) {
      sight_.behind(wanted, solids_);
      return;
    }
    bool behind[Surfaces::capacity];
    bool any = false;
    for (std::size_t i = 0; i < solids_.size; ++i) {
      const bool panel = nearest_[i] >= 0;
      behind[i] = wanted[i] && !panel;
      any = any || behind[i];
      if (wanted[i]) {
        starts_.t[i] = seen_.t[i];
        starts_.panel[i] = panel ? nearest_[i] : -1;
      }
    }
    if (any) sight_.behind(behind, solids_);
    cover();
  }

 private:
  void cover() {
    seen_ = solids_;
    job_.panels.cover(rays_, starts_, seen_, nearest_);
  }

  const RenderJob& job_;
  Sight& sight_;
  Surfaces solids_;
  Surfaces seen_;
  LaneRays rays_;
  PanelStarts starts_;
  std::int32_t nearest_[Surfaces::capacity];
};

}  // namespace

bool soften(const PaintTable& paint, const Surfaces& surfaces, Colors& colors) {
  bool any = false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const float density = paint.density[surfaces.material[i]];
    if (density == 0 || surfaces.ending[i] != Ending::hit) continue;
    const float hidden = 1 - std::exp(-density * surfaces.thickness[i]);
    colors.red[i] *= hidden;
    colors.green[i] *= hidden;
    colors.blue[i] *= hidden;
    colors.alpha[i] *= hidden;
    any = true;
  }
  return any;
}

void look(const RenderJob& job, Sight& sight, const PixelPlace& place, float share, bool first,
          Colors& sums, Surfaces* solid, Tally& tally, const LightBudget* image) {
  const bool wet = image == nullptr && job.wet;
  const LightBudget& light = image != nullptr ? *image : job.budget.light;
  Path path(job, sight, solid != nullptr || wet);
  Colors colors;
  Through through;
  alignas(64) float distance[Surfaces::capacity];
  bool wanted[Surfaces::capacity];
  SolidKeeper keeper(solid);
  for (int pass = 0;; ++pass) {
    Surfaces& surfaces = path.seen();
    surfaces.pad();
    const bool may_end = !job.paint.clear;
    if (may_end) keeper.keep(surfaces, nullptr);
    if (!surfaces.all_hit && job.world.room().sky) place_sky(*job.world.room().sky, surfaces);
    bool clear = paint_surfaces(surfaces, job.paint, colors);
    if (surfaces.any_curved) mix_materials(job.paint, surfaces, colors);
    if (!job.paint.density.empty() && soften(job.paint, surfaces, colors)) clear = true;
    illuminate(job, light, place, surfaces, colors, tally);
    if (wet) reflect(job, sight, place, surfaces, colors, tally);
    const float* fogged = surfaces.t;
    if (!surfaces.all_hit) {
      finish(job, surfaces, colors, distance);
      fogged = distance;
    }
    add_faded(colors, fogged, job.fog, share, pass == 0 ? nullptr : &through, surfaces.size,
              first && pass == 0, sums);
    if (may_end) return;
    keeper.keep(surfaces, clear ? &colors : nullptr);
    if (!clear) return;
    const bool any = dim(job, surfaces, colors, pass, wanted, through);
    if (!any || pass == job.budget.passes.limit) {
      if (any)
        spend(share, wanted, through, surfaces, sums, image == nullptr && tally.lanes > 0, tally);
      keeper.keep(surfaces, nullptr);
      return;
    }
    path.go_on(wanted);
  }
}

void write_data(const RenderJob& job, int x, int y, int width, const Surfaces& surfaces) {
  Frame& frame = job.frame;
  const auto each = [&](Layer layer, const auto& value) {
    if (!frame.has(layer)) return;
    for (std::size_t first = 0; first < surfaces.size; first += width) {
      const int row = y + static_cast<int>(first / width);
      const auto put = [&](auto* pixels) {
        for (int i = 0; i < width; ++i) {
          pixels[x + i] = static_cast<std::remove_reference_t<decltype(*pixels)>>(value(first + i));
        }
      };
      if constexpr (std::is_same_v<decltype(value(std::size_t{0})), float>) {
        put(frame.values(layer).row(row).data());
      } else {
        put(frame.codes(layer).row(row).data());
      }
    }
  };
  const auto met = [&](std::size_t i) { return surfaces.ending[i] == Ending::hit; };
  const Vec3d& forward = job.view.forward;
  each(Layer::depth, [&](std::size_t i) {
    const double axis =
        forward.x() * surfaces.x[i] + forward.y() * surfaces.y[i] + forward.z() * surfaces.z[i];
    return met(i) ? static_cast<float>(axis) : infinite;
  });
  each(Layer::ray_distance, [&](std::size_t i) { return met(i) ? surfaces.t[i] : infinite; });
  each(Layer::face, [&](std::size_t i) { return met(i) ? surfaces.face[i] : Face::none; });
  each(Layer::cell, [&](std::size_t i) { return met(i) ? surfaces.item[i] : no_item; });
  each(Layer::steps, [&](std::size_t i) { return surfaces.steps[i]; });
  each(Layer::ending, [&](std::size_t i) { return surfaces.ending[i]; });
}

void write_colors(const RenderJob& job, int x, int y, int count, const Colors& colors,
                  std::size_t first) {
  write_row(colors.red + first, colors.green + first, colors.blue + first,
            static_cast<std::size_t>(count), x, y, job.target(x, y));
}

}  // namespace photonlane
