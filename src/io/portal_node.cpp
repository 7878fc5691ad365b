#include "io/portal_node.hpp"

#include "io/read_node.hpp"
#include "io/yaml_text.hpp"

namespace photonlane::io {
namespace {

constexpr auto& shape_names = choice_names<OpeningShape>;

BoxSide read_side(const Node& node) {
  const auto& names = choice_names<BoxSide>;
  const auto found = std::find(names.begin(), names.end(), node.text());
  if (found == names.end()) {
    node.refuse(fmt::format("no such side '{}'{}", node.text().substr(0, 60),
                            suggestion(node.text(), {names.begin(), names.end()})));
  }
  return static_cast<BoxSide>(found - names.begin());
}

Vec2d read_corner(const Node& node) {
  const std::string expected = "a corner [right, up] in meters";
  const std::vector<Node>& parts = node.list(expected);
  if (parts.size() != 2) {
    node.refuse(fmt::format("a corner of {} numbers, expected two, [right, up]", parts.size()));
  }
  const KnobInfo number{"corner", KnobKind::number, "meters", {-1e6, 1e6}, {}, ""};
  Vec2d corner(0, 0);
  for (int i = 0; i < 2; ++i) {
    const Node& part = parts[static_cast<std::size_t>(i)];
    at_place(part, [&] { detail::assign(corner[i], number, part.text()); });
  }
  return corner;
}

Opening read_opening(OpeningShape shape, const Node& node) {
  Opening opening{.shape = shape};
  if (node.is_null()) return opening;
  read_node(node, name_of(shape), opening_knobs(shape), opening,
            [&](const std::string& key, const Node& value) {
              if (key == "corners") {
                for (const Node& one : value.list("a list of corners [right, up]")) {
                  opening.corners.push_back(read_corner(one));
                }
              } else {
                for (const Node& one : value.list("a list of sides")) {
                  opening.sides.push_back(read_side(one));
                }
              }
            });
  return opening;
}

PortalTarget read_target(const Node& node) {
  PortalTarget target;
  const Node* portal = nullptr;
  read_node(node, "to", portal_target_knobs(), target,
            [&](const std::string& key, const Node& value) {
              (key == "portal" ? target.portal : target.room) = value.text();
              if (key == "portal") portal = &value;
            });
  if (portal != nullptr && node.map("a target").size() > 1) {
    portal->refuse("a portal beside other keys, expected it alone");
  }
  return target;
}

}  // namespace

Portal read_portal(const Node& node) {
  Portal portal;
  const Node* shape_node = nullptr;
  read_node(node, "portal", portal_knobs(), portal, [&](const std::string& key, const Node& value) {
    if (key == "name") {
      portal.name = value.text();
    } else if (key == "to") {
      portal.to = read_target(value);
    } else if (key == "fallback") {
      const KnobInfo color{"fallback", KnobKind::color, "", {0, 1}, {}, ""};
      at_place(value,
               [&] { detail::assign(portal.fallback.emplace(), color, value.value_text()); });
    } else {
      if (shape_node != nullptr) value.refuse("a second shape, expected one");
      shape_node = &value;
      const auto shape = std::find(shape_names.begin(), shape_names.end(), key);
      portal.opening = read_opening(static_cast<OpeningShape>(shape - shape_names.begin()), value);
    }
  });
  if (shape_node == nullptr) {
    node.refuse("a portal without a shape, expected rectangle, polygon, disc, sphere or box");
  }
  at_place(node, [&] { validate(portal); });
  return portal;
}

std::string portal_text(const Portal& portal, int indent) {
  const auto line = [&](int deeper, const std::string& text) {
    return fmt::format("{:{}}{}\n", "", indent + deeper, text);
  };
  const Opening& opening = portal.opening;
  std::string text = line(0, fmt::format("- {}:", name_of(opening.shape)));
  for (const Knob<Opening>& entry : opening_knobs(opening.shape)) {
    text += line(4, fmt::format("{}: {}", entry.info.name, knob_text(entry, opening)));
  }
  if (!opening.corners.empty()) {
    std::string list;
    for (const Vec2d& corner : opening.corners) {
      list += fmt::format("{}[{}, {}]", list.empty() ? "" : ", ", corner.x(), corner.y());
    }
    text += line(4, fmt::format("corners: [{}]", list));
  }
  if (!opening.sides.empty()) {
    std::string list;
    for (const BoxSide side : opening.sides) {
      list += fmt::format("{}{}", list.empty() ? "" : ", ", name_of(side));
    }
    text += line(4, fmt::format("sides: [{}]", list));
  }
  if (!portal.name.empty()) text += line(2, "name: " + yaml_quoted(portal.name));
  text += changed_lines(portal_knobs(), portal, indent + 2);
  if (portal.fallback) {
    text += line(2, fmt::format("fallback: {}", detail::read(*portal.fallback, {})));
  }
  if (!portal.to) return text;
  if (!portal.to->portal.empty()) {
    return text + line(2, fmt::format("to: {{portal: {}}}", yaml_quoted(portal.to->portal)));
  }
  const std::string lines = changed_lines(portal_target_knobs(), *portal.to, indent + 4);
  if (portal.to->room.empty() && lines.empty()) return text + line(2, "to: {}");
  text += line(2, "to:");
  if (!portal.to->room.empty()) text += line(4, "room: " + yaml_quoted(portal.to->room));
  return text + lines;
}

}  // namespace photonlane::io
