#include "follow/look.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <memory>

#include "base/stage_clock.hpp"
#include "follow/bounce.hpp"
#include "follow/deep_recorder.hpp"
#include "follow/lane_recorder.hpp"
#include "follow/passing.hpp"
#include "room/portal_faces.hpp"
#include "shade/fog_light.hpp"
#include "shade/surface_colors.hpp"
#include "trace/surface_path.hpp"

namespace photonlane {
namespace {

constexpr float infinite = std::numeric_limits<float>::infinity();

/// Below this share of a pixel's light what is behind is invisible.
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

/// What fog takes the distance of each surface for, after so many meters before (null: none), and
/// the colors that no material has.
/// `hides`: whether a lane's backdrop is left out.
template <class Hides>
void finish(const RoomView& here, const Surfaces& surfaces, const float* before, const Hides& hides,
            Colors& colors, float* distance) {
  std::copy_n(surfaces.t, (surfaces.size + 15) / 16 * 16, distance);
  for (std::size_t i = 0; before != nullptr && i < surfaces.size; ++i) distance[i] += before[i];
  const std::optional<Sky>& sky = here.room.sky;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] == Ending::hit) {
      if (surfaces.picture(i)) distance[i] = before != nullptr ? before[i] : 0;
      continue;
    }
    if (surfaces.ending[i] == Ending::crossed) {
      colors.red[i] = colors.green[i] = colors.blue[i] = 0;
      continue;
    }
    const bool spent = surfaces.ending[i] == Ending::spent;
    const bool hidden = !spent && hides(i);
    // Fog goes on without end where no sky is before it; that is backdrop as well.
    distance[i] = !spent && !sky && !hidden ? infinite : before != nullptr ? before[i] : 0;
    if (hidden) {
      colors.red[i] = colors.green[i] = colors.blue[i] = 0;
    } else if (!spent && sky && sky->panorama < 0) {
      const Color color = sky_color(*sky, here.room.fog.color, surfaces.z[i]);
      colors.red[i] = color[0];
      colors.green[i] = color[1];
      colors.blue[i] = color[2];
    }
  }
}

/// Whether all lanes go through portals, with no fog before those.
bool nothing_here(const RoomView& here, const Surfaces& surfaces) {
  if (surfaces.all_hit) return false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] != Ending::crossed) return false;
    if (fog_share(here.room.fog, static_cast<double>(surfaces.t[i])) > 0) return false;
  }
  return true;
}

/// Keeps surfaces for the data layers, where lanes end.
class SolidKeeper {
 public:
  SolidKeeper(Seen* seen, const RoomView& here, const Leg& leg) : seen_(seen), here_(here) {
    if (seen_ == nullptr) return;
    std::fill_n(seen_->kept, Surfaces::capacity, false);
    lanes_ = leg.lanes;
  }

  bool wanted(std::size_t i) const {
    return seen_ != nullptr && !seen_->kept[i] && (lanes_ == nullptr || lanes_[i].settles);
  }

  void keep(const Surfaces& surfaces, const Colors* colors) {
    if (seen_ == nullptr) return;
    seen_->surfaces.size = surfaces.size;
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      if (seen_->kept[i] || (colors != nullptr && colors->alpha[i] < 0.5f)) continue;
      if (surfaces.ending[i] == Ending::crossed) continue;
      seen_->surfaces.copy(surfaces, i, i);
      seen_->surfaces.room[i] = here_.index;
      seen_->surfaces.crossings[i] = 0;
      seen_->kept[i] = true;
    }
  }

 private:
  Seen* seen_;
  const RoomView& here_;
  const Onward* lanes_ = nullptr;
};

/// What is left for whatever lies behind; true where anything is. `fresh`: all was left so far.
bool dim(const SceneView& view, const Surfaces& surfaces, const Colors& colors, int pass,
         bool fresh, bool* wanted, Through& through) {
  bool any = false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const bool ended = surfaces.ending[i] != Ending::hit || (pass > 0 && !wanted[i]);
    const float left = ended ? 0 : 1 - colors.alpha[i];
    const Color& tint = view.world.materials()[surfaces.material[i]].tint;
    const auto pass_on = [&](float* rest, float factor) {
      rest[i] = (fresh ? 1 : rest[i]) * left * factor;
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

/// The eyes that sprites turn to, of lanes that do not come straight from the camera's.
EyesOf eyes_of(const RoomView& here, const Leg& leg) {
  if (leg.lanes == nullptr) return nullptr;
  return [&](LaneRays& rays, std::size_t size) {
    for (std::size_t i = 0; i < size; ++i) {
      rays.eye_x[i] = leg.lanes[i].eye.x() - static_cast<float>(here.origin.x());
      rays.eye_y[i] = leg.lanes[i].eye.y() - static_cast<float>(here.origin.y());
    }
    rays.many_eyes = true;
  };
}

/// What lanes carry that do not come straight from the eye, as their batch starts.
class Carried {
 public:
  Carried(const SceneView& view, const RoomView& here, const Leg& leg, std::size_t size,
          Through& through) {
    lanes_ = leg.lanes;
    if (lanes_ == nullptr) return;
    const std::size_t rooms = view.rooms.size();
    for (std::size_t i = 0; i < size; ++i) {
      // The fog of a room takes its share whenever lanes pass there: that of the others is gone.
      const float* travelled = leg.travelled + i * rooms;
      const float left = past_other_fog(view, travelled, here.index, 1);
      before_[i] = travelled[here.index];
      shown_[i] = fog_share(here.room.fog, static_cast<double>(before_[i]));
      any_shown_ = any_shown_ || shown_[i] > 0;
      others_[i] = left;
      through.red[i] = lanes_[i].red * left;
      through.green[i] = lanes_[i].green * left;
      through.blue[i] = lanes_[i].blue * left;
    }
    for (std::size_t i = size; i < Surfaces::capacity && i % 16 != 0; ++i) {
      through.red[i] = through.green[i] = through.blue[i] = 0;
    }
  }

  /// What the fog of other rooms leaves of each; null: all.
  const float* others() const { return lanes_ != nullptr ? others_ : nullptr; }
  /// Meters in this room so far; null: none.
  const float* before() const { return lanes_ != nullptr ? before_ : nullptr; }

  /// How far from the eye surfaces are, in this room's measure.
  Reach reach(const Surfaces& surfaces, LaneRays& rays) {
    if (lanes_ == nullptr) return {surfaces.t};
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      reach_[i] = static_cast<float>(lanes_[i].path) + lanes_[i].metric * surfaces.t[i];
    }
    for (std::size_t i = surfaces.size; i < Surfaces::capacity && i % 16 != 0; ++i) {
      reach_[i] = reach_[surfaces.size - 1];
      rays.x[i] = rays.y[i] = 0;
      rays.z[i] = 1;
    }
    return {reach_, rays.x, rays.y, rays.z};
  }

  /// Takes from the sums the fog that earlier legs in this room have shown.
  void take_shown(const RoomView& here, const Colors& colors, float share, const Through& through,
                  std::size_t size, Colors& sums) const {
    if (!any_shown_) return;
    for (std::size_t i = 0; i < size; ++i) {
      const float less = share * shown_[i] * colors.alpha[i];
      sums.red[i] -= less * here.fog.red * through.red[i];
      sums.green[i] -= less * here.fog.green * through.green[i];
      sums.blue[i] -= less * here.fog.blue * through.blue[i];
    }
  }

 private:
  const Onward* lanes_ = nullptr;
  bool any_shown_ = false;
  float others_[Surfaces::capacity];
  float before_[Surfaces::capacity];

  float shown_[Surfaces::capacity];
  alignas(64) float reach_[Surfaces::capacity];
};

/// Shows what wet floors mirror: by the rows of the mirrored eye, or by lanes that go on.
void show_wet_floors(const GoingOn& going, Sight& sight, const Surfaces& surfaces, Colors& colors) {
  WetFloors wet(going, sight, surfaces);
  if (!wet.any) return;
  const bool traced = going.view.budget.light.wet_floor == WetFloor::traced;
  const std::unique_ptr<Sight> mirror = traced ? nullptr : sight.mirrored(surfaces, wet.wanted);
  if (mirror == nullptr) return reflect_wet(going, sight, wet, surfaces, colors);
  Colors image;
  const Leg dark{.light = &rayless};
  look({.view = going.view,
        .here = going.here,
        .sight = *mirror,
        .place = going.place,
        .leg = &dark},
       true, image, going.tally);
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    colors.red[i] += (image.red[i] - colors.red[i]) * wet.share[i];
    colors.green[i] += (image.green[i] - colors.green[i]) * wet.share[i];
    colors.blue[i] += (image.blue[i] - colors.blue[i]) * wet.share[i];
  }
}

}  // namespace

void LaneMedium::absorb(const Surfaces& surfaces, const float* before, Colors& colors,
                        float* fogged) const {
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (!inside[i]) continue;
    fogged[i] = before[i];
    if (surfaces.ending[i] != Ending::hit) continue;
    colors.red[i] *= std::exp(-red[i] * surfaces.t[i]);
    colors.green[i] *= std::exp(-green[i] * surfaces.t[i]);
    colors.blue[i] *= std::exp(-blue[i] * surfaces.t[i]);
  }
}

namespace {

/// Tells a recorder what a batch sees of each distance.
class DeepNote {
 public:
  DeepNote(DeepRecorder& recorder, const Glance& glance, const Surfaces& surfaces)
      : recorder_(recorder), glance_(glance), surfaces_(surfaces) {}

  /// Before a pass: what was left of the lanes (null: all) and what their pixels have (null:
  /// nothing).
  void start(const Through* left, const Colors* sums) {
    for (std::size_t i = 0; i < surfaces_.size; ++i) {
      left_[i] = left == nullptr ? 1.0f : mean(*left, i);
      red_[i] = sums == nullptr ? 0.0f : sums->red[i];
      green_[i] = sums == nullptr ? 0.0f : sums->green[i];
      blue_[i] = sums == nullptr ? 0.0f : sums->blue[i];
      open_[i] = false;
    }
  }
  /// Which surfaces get more light from what goes on there.
  void opened(const Gloss* gloss, bool wet) {
    for (std::size_t i = 0; i < surfaces_.size; ++i) {
      open_[i] = wet || (gloss != nullptr && (gloss->glossy[i] || gloss->bends[i]));
    }
  }
  /// After it: what is left of them now (null: nothing), and what their pixels have. `there` is how
  /// much of what ended is no backdrop that is left out.
  template <class There>
  void end(const Through* left, const Colors& sums, const There& there) {
    for (std::size_t i = 0; i < surfaces_.size; ++i) {
      if (!(left_[i] > 0)) continue;
      const float now = left == nullptr ? 0.0f : mean(*left, i);
      recorder_
          .pixel(static_cast<int>(glance_.place.column(i)), static_cast<int>(glance_.place.row(i)))
          .push_back({recorder_.distance(surfaces_, i), sums.red[i] - red_[i],
                      sums.green[i] - green_[i], sums.blue[i] - blue_[i],
                      glance_.share * (left_[i] - now) * there(i),
                      open_[i] || surfaces_.ending[i] == Ending::crossed});
    }
  }

 private:
  static float mean(const Through& through, std::size_t i) {
    return (through.red[i] + through.green[i] + through.blue[i]) / 3;
  }

  DeepRecorder& recorder_;
  const Glance& glance_;
  const Surfaces& surfaces_;
  float left_[Surfaces::capacity];
  float red_[Surfaces::capacity], green_[Surfaces::capacity], blue_[Surfaces::capacity];
  bool open_[Surfaces::capacity];
};

/// One batch as it looks through one surface after the other.
class Looking {
 public:
  Looking(const Glance& glance, const Leg& leg, bool first, Colors& sums, Tally& tally)
      : glance_(glance),
        view_(glance.view),
        here_(glance.here),
        leg_(leg),
        fresh_(leg.lanes == nullptr),
        wet_(view_.wet &&
             (glance.leg == nullptr ||
              (leg.lanes != nullptr && leg.lanes[0].bounce == 0 && !leg.lanes[0].blind))),
        // Of what is seen in mirrors and through portals fog is of one color.
        shafts_(glance.leg == nullptr && glance.share > 0 && leg.light->fog == FogLight::sampled &&
                here_.room.light.sun.has_value()),
        medium_(leg.medium != nullptr && leg.medium->any() ? leg.medium : nullptr),
        first_(first),
        sums_(sums),
        tally_(tally),
        path_(here_, glance.sight, glance.seen != nullptr || wet_, eyes_of(here_, leg)),
        carried_(view_, here_, leg, path_.seen().size, through_),
        keeper_(glance.seen, here_, leg),
        record_(view_.log, here_, glance.place, leg, glance.sight, path_.seen().size, glance.share,
                first, view_.sample_share(), sums) {
    if (view_.deep == nullptr || glance.leg != nullptr || !(glance.share > 0)) return;
    deep_ = std::make_unique<DeepNote>(*view_.deep, glance, path_.seen());
  }

  void run() {
    if (fresh_ && glance_.outbox != nullptr && !shafts_ && view_.budget.crossings.limit > 0 &&
        nothing_here(here_, path_.seen())) {
      cross_at_once();
    } else {
      for (int pass = 0; go_on(pass); ++pass) path_.go_on(wanted_);
    }
    record_.end(sums_);
  }

 private:
  GoingOn going(const Through* left) const {
    return {view_,          here_,  glance_.place, leg_, left, carried_.others(),
            glance_.outbox, tally_, &record_};
  }

  void cross_portals(const GoingOn& going) {
    Surfaces& surfaces = path_.seen();
    bool settles[Surfaces::capacity];
    for (std::size_t i = 0; i < surfaces.size; ++i) settles[i] = keeper_.wanted(i);
    cross(going, glance_.sight, settles, glance_.share == 0, gone_, surfaces, colors_);
  }

  /// All lanes cross portals and nothing is seen before those.
  void cross_at_once() {
    GoingOn all = going(nullptr);
    all.others = nullptr;
    cross_portals(all);
    if (first_) {
      std::fill_n(sums_.red, Colors::padded, 0.0f);
      std::fill_n(sums_.green, Colors::padded, 0.0f);
      std::fill_n(sums_.blue, Colors::padded, 0.0f);
      std::fill_n(sums_.alpha, Colors::padded, 0.0f);
    }
    if (deep_ != nullptr) {
      deep_->start(nullptr, first_ ? nullptr : &sums_);
      deep_->end(nullptr, sums_, [](std::size_t) { return 1.0f; });
    }
    keeper_.keep(path_.seen(), nullptr);
    record_.meet(here_, path_.seen(), colors_, nullptr);
  }

  /// The colors of the surfaces that are seen now, lit, and what goes on from there. True where
  /// some are looked through.
  bool color(LaneRays& rays, const Through* left) {
    Surfaces& surfaces = path_.seen();
    bool clear = paint_all(view_, here_, surfaces, carried_.reach(surfaces, rays), colors_);
    if (!here_.paint.density.empty() && soften(here_.paint, surfaces, colors_)) clear = true;
    Gloss gloss;
    LookedAt looked{surfaces, rays, nullptr};
    if (view_.glossy) {
      float cosine[Surfaces::capacity];
      for (std::size_t i = 0; i < surfaces.size; ++i) {
        const Normal normal = normal_of(surfaces, i);
        cosine[i] = -(normal.x * rays.x[i] + normal.y * rays.y[i] + normal.z * rays.z[i]);
      }
      find_gloss(surfaces, view_.world.materials(), cosine,
                 medium_ != nullptr ? medium_->inside : nullptr, gloss, colors_);
      if (gloss.any) looked.gloss = &gloss;
    }
    const StageScope stage(Work::light, surfaces.size);
    const GoingOn on = going(left);
    illuminate(view_, here_, *leg_.light, glance_.place, looked, colors_, tally_);
    if (wet_) show_wet_floors(on, glance_.sight, surfaces, colors_);
    if (deep_ != nullptr) deep_->opened(looked.gloss, wet_);
    // Frames without colors ask for nothing but surfaces.
    if (looked.gloss != nullptr) {
      if (glance_.share > 0) {
        bounce(on, looked, colors_);
      } else {
        shade_behind(gloss, surfaces.size, colors_);
      }
    }
    if (!surfaces.all_hit && here_.room.portals != nullptr && glance_.outbox != nullptr) {
      cross_portals(on);
    }
    return clear;
  }

  /// Adds what the surfaces and the fog before them show.
  void add(int pass, LaneRays& rays, const Through* left) {
    const StageScope stage(Work::light);
    Surfaces& surfaces = path_.seen();
    const float* fogged = surfaces.t;
    if (!surfaces.all_hit || !fresh_ || view_.before != nullptr) {
      const bool backdrop = view_.budget.frame.backdrop;
      finish(
          here_, surfaces, carried_.before(),
          [&](std::size_t i) { return !backdrop && straight(i); }, colors_, distance_);
      fogged = distance_;
    }
    if (medium_ != nullptr) medium_->absorb(surfaces, carried_.before(), colors_, distance_);
    if (!here_.paint.clear) keeper_.keep(surfaces, nullptr);
    add_faded(colors_, fogged, here_.fog, glance_.share, left, surfaces.size, first_ && pass == 0,
              sums_);
    if (view_.uncovers) uncover(pass, fogged, left);
    if (!fresh_) {
      carried_.take_shown(here_, colors_, glance_.share, through_, surfaces.size, sums_);
    }
    if (!shafts_) return;
    if (fresh_ && !view_.glossy) glance_.sight.rays(surfaces, rays);
    float lit[Surfaces::capacity];
    {
      const StageScope fog(LaneKind::fog, Work::light, surfaces.size);
      light_fog(view_, here_, glance_.place, rays, fogged, lit, tally_);
    }
    shade_fog(here_, fogged, lit, glance_.share, left, surfaces.size, sums_);
  }

  /// Whether a lane comes from the eye by portals alone.
  bool straight(std::size_t i) const { return fresh_ || leg_.lanes[i].bounce == 0; }

  /// Adds up how much of the pixels is backdrop.
  void uncover(int pass, const float* fogged, const Through* left) {
    const Surfaces& surfaces = path_.seen();
    if (first_ && pass == 0) std::fill_n(sums_.alpha, Colors::padded, 0.0f);
    for (std::size_t i = 0; i < surfaces.size; ++i) {
      if (surfaces.ending[i] != Ending::escaped || !straight(i)) continue;
      const float through =
          left != nullptr ? (left->red[i] + left->green[i] + left->blue[i]) / 3 : 1.0f;
      const float clear = 1 - fog_share(here_.room.fog, static_cast<double>(fogged[i]));
      sums_.alpha[i] += glance_.share * through * clear;
    }
  }

  /// Looks at the surfaces of one pass; true where what is behind them is wanted.
  bool go_on(int pass) {
    if (deep_ == nullptr) return look_once(pass);
    deep_->start(pass == 0 ? nullptr : &through_, first_ && pass == 0 ? nullptr : &sums_);
    const bool more = look_once(pass);
    const Surfaces& surfaces = path_.seen();
    deep_->end(more ? &through_ : nullptr, sums_, [&](std::size_t i) {
      if (surfaces.ending[i] != Ending::escaped || view_.budget.frame.backdrop) return 1.0f;
      return fog_share(here_.room.fog, static_cast<double>(distance_[i]));
    });
    return more;
  }

  bool look_once(int pass) {
    Surfaces& surfaces = path_.seen();
    surfaces.pad();
    if (!surfaces.all_hit && here_.room.sky) place_sky(*here_.room.sky, surfaces);
    LaneRays rays;
    if (!fresh_ || view_.glossy) glance_.sight.rays(surfaces, rays);
    const Through* left = pass == 0 && fresh_ ? nullptr : &through_;
    const bool clear = color(rays, left);
    add(pass, rays, left);
    if (view_.log != nullptr) {
      record_.meet(here_, surfaces, colors_, pass == 0 ? nullptr : wanted_);
    }
    if (!here_.paint.clear) return false;
    keeper_.keep(surfaces, clear ? &colors_ : nullptr);
    if (!clear) return false;
    const bool any = dim(view_, surfaces, colors_, pass, pass == 0 && fresh_, wanted_, through_);
    if (any && pass < view_.budget.passes.limit) return true;
    if (any) {
      spend(glance_.share, wanted_, through_, surfaces, sums_,
            glance_.leg == nullptr && tally_.lanes > 0, tally_);
    }
    keeper_.keep(surfaces, nullptr);
    return false;
  }

  const Glance& glance_;
  const SceneView& view_;
  const RoomView& here_;
  const Leg& leg_;
  const bool fresh_;   ///< straight from the eye: all of their light is left
  const bool wet_;     ///< what is seen in mirrors shows no wet floors
  const bool shafts_;  ///< shadows lie in fog
  const LaneMedium* const medium_;
  const bool first_;
  Colors& sums_;
  Tally& tally_;
  Through through_;
  SurfacePath path_;
  Colors colors_;
  Carried carried_;
  alignas(64) float distance_[Surfaces::capacity];
  bool wanted_[Surfaces::capacity];
  bool gone_[Surfaces::capacity] = {};
  SolidKeeper keeper_;
  BatchRecord record_;
  std::unique_ptr<DeepNote> deep_;
};

}  // namespace

void look(const Glance& glance, bool first, Colors& sums, Tally& tally) {
  const Leg own{.light = &glance.view.budget.light};
  Looking(glance, glance.leg != nullptr ? *glance.leg : own, first, sums, tally).run();
}

}  // namespace photonlane
