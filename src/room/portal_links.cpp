#include <fmt/format.h>

#include <Eigen/Geometry>

#include <algorithm>

#include "room/portal_faces.hpp"

namespace photonlane {
namespace {

/// A portal of a scene and where it stands.
struct Entry {
  const Portal* portal;
  std::uint32_t room;
  const Entry* from = nullptr;  ///< without a target of its own: what leads to it
  std::size_t first = 0;        ///< its first face in its room, once placed
  std::size_t count = 0;
};

/// An opening somewhere: its size, its frame, and by how much it is longer along its axes.
struct Site {
  const Opening* opening;
  Similarity frame;  ///< its scale multiplies the opening's sizes
  Vec3d longer{1, 1, 1};
};

/// The shapes of a site's faces, always in the same order.
std::vector<PortalFace> shapes(const Site& site) {
  const Opening& opening = *site.opening;
  const double scale = site.frame.scale;
  const auto face = [&](const Vec3d& middle, const Vec3d& normal, const Vec3d& across,
                        const Vec3d& up) {
    PortalFace result;
    result.shape = opening.shape;
    result.middle = site.frame.place(middle);
    result.normal = site.frame.turn * normal;
    result.across = site.frame.turn * across;
    result.up = site.frame.turn * up;
    return result;
  };
  const Vec3d x = Vec3d::UnitX();
  const Vec3d y = Vec3d::UnitY();
  const Vec3d z = Vec3d::UnitZ();
  if (opening.shape == OpeningShape::box) {
    std::vector<PortalFace> result;
    const Vec3d half = 0.5 * opening.size.cwiseProduct(site.longer);
    static const std::vector<BoxSide> every{BoxSide::front, BoxSide::back, BoxSide::left,
                                            BoxSide::right, BoxSide::top,  BoxSide::bottom};
    for (const BoxSide side : opening.sides.empty() ? every : opening.sides) {
      const int axis = static_cast<int>(side) / 2;
      // Left is +y: front, left and top face along their axes.
      const double sign = static_cast<int>(side) % 2 == 0 ? 1 : -1;
      const Vec3d normal = sign * Vec3d::Unit(axis);
      const Vec3d up = axis == 2 ? x : z;
      const Vec3d across = up.cross(normal);
      PortalFace one = face(normal.cwiseProduct(half), normal, across, up);
      one.shape = OpeningShape::rectangle;
      one.half_width = scale * across.cwiseAbs().dot(half);
      one.half_height = scale * up.cwiseAbs().dot(half);
      result.push_back(std::move(one));
    }
    return result;
  }
  PortalFace one = face(Vec3d::Zero(), x, y, z);
  one.half_width = 0.5 * scale * opening.width;
  one.half_height = 0.5 * scale * opening.height;
  one.radius = scale * opening.radius;
  if (opening.shape == OpeningShape::polygon) {
    one.radius = 0;
    for (const Vec2d& corner : opening.corners) {
      one.corners.push_back(scale * corner);
      one.radius = std::max(one.radius, scale * corner.norm());
    }
  }
  return {one};
}

/// What tells how large an opening is.
double measure(const Opening& opening) {
  switch (opening.shape) {
    case OpeningShape::rectangle:
      return opening.width;
    case OpeningShape::polygon: {
      double low = 0;
      double high = 0;
      for (const Vec2d& corner : opening.corners) {
        low = std::min(low, corner.x());
        high = std::max(high, corner.x());
      }
      return high - low;
    }
    case OpeningShape::box:
      return opening.size.x();
    default:
      return 2 * opening.radius;
  }
}

/// Thrown inside only.
struct Refused {
  const Portal* portal;
  std::string what;
};
[[noreturn]] void refuse(const Portal& portal, const std::string& what) {
  throw Refused{&portal, what};
}

/// Puts faces of portals into rooms.
class Linker {
 public:
  explicit Linker(std::span<const RoomOpenings> rooms) : rooms_(rooms) {
    result_.faces.resize(rooms.size());
    for (std::size_t r = 0; r < rooms.size(); ++r) {
      for (const Portal& portal : rooms[r].portals) {
        entries_.push_back({&portal, static_cast<std::uint32_t>(r)});
      }
    }
  }

  CompiledPortals link() {
    for (Entry& entry : entries_) {
      const Portal& portal = *entry.portal;
      const auto twice = std::count_if(entries_.begin(), entries_.end(), [&](const Entry& other) {
        return !portal.name.empty() && other.portal->name == portal.name;
      });
      if (twice > 1) refuse(portal, "a second one of that name");
      if (!portal.to || portal.to->portal.empty()) continue;
      Entry& target = find(portal, portal.to->portal);
      if (target.portal->to) continue;
      if (target.from != nullptr) {
        refuse(*target.portal, fmt::format("'{}' and '{}' lead to it, expected a target 'to' of "
                                           "its own",
                                           target.from->portal->name, portal.name));
      }
      target.from = &entry;
    }
    for (Entry& entry : entries_) place(entry);
    // Lanes come out of portals that lead on by themselves as well.
    for (const Entry& entry : entries_) {
      if (!entry.portal->to || entry.portal->to->portal.empty()) continue;
      const Entry& target = find(*entry.portal, entry.portal->to->portal);
      if (!target.portal->to || target.count != entry.count) continue;
      for (std::size_t f = 0; f < entry.count; ++f) {
        result_.faces[entry.room][entry.first + f].twin =
            static_cast<std::int32_t>(target.first + f);
      }
    }

    return std::move(result_);
  }

 private:
  Entry& find(const Portal& portal, const std::string& name) {
    std::vector<std::string_view> names;
    for (Entry& entry : entries_) {
      if (entry.portal->name == name) return entry;
      if (!entry.portal->name.empty()) names.push_back(entry.portal->name);
    }
    refuse(portal, fmt::format("no portal '{}'{}", name, suggestion(name, names)));
  }

  std::uint32_t room_named(const Portal& portal, const std::string& name, std::uint32_t own) const {
    if (name.empty()) return own;
    std::vector<std::string_view> names;
    for (std::size_t r = 0; r < rooms_.size(); ++r) {
      if (rooms_[r].name == name) return static_cast<std::uint32_t>(r);
      if (!rooms_[r].name.empty()) names.push_back(rooms_[r].name);
    }
    refuse(portal, fmt::format("no room '{}'{}", name, suggestion(name, names)));
  }

  std::uint32_t announce(const Portal& portal, std::uint32_t room, std::uint32_t to, bool returns) {
    result_.portals.push_back({portal.name, room, to, returns});
    return static_cast<std::uint32_t>(result_.portals.size() - 1);
  }

  void place(Entry& entry) {
    const Portal& portal = *entry.portal;
    if (!portal.to) {
      // The way back is put where the way there is.
      if (entry.from == nullptr) refuse(portal, "leads nowhere, expected a target 'to'");
      return;
    }
    const Site here{&portal.opening, portal.stance.frame()};
    const PortalTarget& to = *portal.to;
    if (to.portal.empty()) {
      Site there{&portal.opening, to.stance.frame(), portal.stretch};
      there.frame.scale = to.scale;
      connect(entry, here, room_named(portal, to.room, entry.room), there, portal, !portal.one_way);
      return;
    }
    const Entry& target = find(portal, to.portal);
    const Opening& opening = target.portal->opening;
    const bool alike =
        portal.opening.flat() ? opening.flat() : opening.shape == portal.opening.shape;
    if (!alike) {
      refuse(portal, fmt::format("a {} that leads to '{}', a {}", name_of(portal.opening.shape),
                                 target.portal->name, name_of(opening.shape)));
    }
    Site there{&opening, target.portal->stance.frame()};
    there.frame.scale = measure(opening) / (measure(portal.opening) * portal.stretch.x());
    Site exit = there;
    exit.frame.scale = 1;
    connect(entry, here, target.room, there, *target.portal, !portal.one_way && !target.portal->to,
            &exit);
  }

  /// Puts the faces of a portal, and those of the way back where there is one. Lanes come out of
  /// `exit`, which is `there` unless sizes are its own.
  void connect(Entry& entry, const Site& here, std::uint32_t room, const Site& there,
               const Portal& back, bool returns, const Site* exit = nullptr) {
    const Portal& portal = *entry.portal;
    Similarity turn;
    if (portal.opening.flat()) turn.turn = Vec3d(-1, -1, 1).asDiagonal();
    const Similarity map = there.frame.after(turn).after(here.frame.inverse());
    std::vector<PortalFace> front = shapes(here);
    std::vector<PortalFace> behind = shapes(exit != nullptr ? *exit : there);
    const std::uint32_t index = announce(portal, entry.room, room, false);
    const std::uint32_t back_index = returns ? announce(back, room, entry.room, true) : 0;
    std::vector<PortalFace>& ours = result_.faces[entry.room];
    std::vector<PortalFace>& theirs = result_.faces[room];
    const auto first = static_cast<std::int32_t>(ours.size());
    entry.first = ours.size();
    entry.count = front.size();

    // Where both are in one room, the faces of the way back come after.
    const auto first_there =
        static_cast<std::int32_t>(theirs.size() + (room == entry.room ? front.size() : 0));
    const bool paired = front.size() == behind.size();
    for (std::size_t f = 0; f < front.size(); ++f) {
      finish(front[f], portal, index, room, map);
      front[f].stretch = portal.stretch;
      front[f].frame = here.frame;
      if (returns && paired) front[f].twin = first_there + static_cast<std::int32_t>(f);
      ours.push_back(std::move(front[f]));
    }
    if (!returns) return;
    for (std::size_t f = 0; f < behind.size(); ++f) {
      finish(behind[f], back, back_index, entry.room, map.inverse());
      // The rim of the same portal is as large as its opening is there.
      if (&back == &portal) behind[f].rim = portal.rim * there.frame.scale;
      behind[f].stretch = portal.stretch.cwiseInverse();
      behind[f].frame = there.frame;
      behind[f].frame.scale = 1;
      if (paired) behind[f].twin = first + static_cast<std::int32_t>(f);
      result_.faces[room].push_back(std::move(behind[f]));
    }
  }

  static void finish(PortalFace& face, const Portal& portal, std::uint32_t index,
                     std::uint32_t room, const Similarity& map) {
    face.portal = index;
    face.room = room;
    face.map = map;
    face.rim = portal.rim;
    face.rim_color = portal.rim_color;

    face.fallback = portal.fallback;
    face.back = portal.behind == Behind::same;
    face.shut = portal.behind == Behind::shut;
  }

  std::span<const RoomOpenings> rooms_;
  std::vector<Entry> entries_;
  CompiledPortals result_;
};

}  // namespace

CompiledPortals compile_portals(std::span<const RoomOpenings> rooms) {
  for (const RoomOpenings& room : rooms) {
    for (const Portal& portal : room.portals) validate(portal);
  }
  try {
    return Linker(rooms).link();
  } catch (const Refused& refused) {
    throw Error(ErrorKind::input,
                fmt::format("portal '{}': {}", refused.portal->name, refused.what));
  }
}

std::optional<PortalFault> find_portal_fault(std::span<const RoomOpenings> rooms) {
  for (std::size_t r = 0; r < rooms.size(); ++r) {
    for (std::size_t p = 0; p < rooms[r].portals.size(); ++p) {
      try {
        validate(rooms[r].portals[p]);
      } catch (const Error& error) {
        return PortalFault{r, p, error.message()};
      }
    }
  }
  try {
    Linker(rooms).link();
  } catch (const Refused& refused) {
    for (std::size_t r = 0; r < rooms.size(); ++r) {
      for (std::size_t p = 0; p < rooms[r].portals.size(); ++p) {
        if (&rooms[r].portals[p] != refused.portal) continue;
        return PortalFault{r, p,
                           fmt::format("portal '{}': {}", refused.portal->name, refused.what)};
      }
    }
  }
  return std::nullopt;
}

}  // namespace photonlane
