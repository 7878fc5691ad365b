#include "grid/spanning_tree.hpp"

#include <numeric>

namespace photonlane {
namespace {

struct Node {
  int x, y;
};

/// The neighbor of a node in direction 0 to 3 (east, north, west, south), if there is one.
bool neighbor(const Lattice& lattice, Node node, std::uint32_t direction, Node& next) {
  constexpr int dx[] = {1, 0, -1, 0};
  constexpr int dy[] = {0, 1, 0, -1};
  next = {node.x + dx[direction], node.y + dy[direction]};
  return next.x >= 0 && next.y >= 0 && next.x < lattice.width && next.y < lattice.height;
}

void join(Lattice& lattice, Node node, std::uint32_t direction) {
  switch (direction) {
    case 0:
      lattice.east[lattice.index(node.x, node.y)] = 1;
      break;
    case 1:
      lattice.north[lattice.index(node.x, node.y)] = 1;
      break;
    case 2:
      lattice.east[lattice.index(node.x - 1, node.y)] = 1;
      break;
    default:
      lattice.north[lattice.index(node.x, node.y - 1)] = 1;
  }
}

void grow_by_depth(Lattice& lattice, RandomStream& random) {
  std::vector<std::uint8_t> seen(lattice.size(), 0);
  std::vector<Node> path{{0, 0}};
  seen[0] = 1;
  while (!path.empty()) {
    const Node node = path.back();
    std::uint32_t open[4];
    std::uint32_t count = 0;
    Node next{};
    for (std::uint32_t direction = 0; direction < 4; ++direction) {
      if (neighbor(lattice, node, direction, next) && seen[lattice.index(next.x, next.y)] == 0) {
        open[count++] = direction;
      }
    }
    if (count == 0) {
      path.pop_back();
      continue;
    }
    const std::uint32_t chosen = open[random.below(count)];
    neighbor(lattice, node, chosen, next);
    join(lattice, node, chosen);
    seen[lattice.index(next.x, next.y)] = 1;
    path.push_back(next);
  }
}

/// From each node not yet in the tree, wander until the tree is met; the last direction taken from
/// each node is the way without its loops.
void grow_uniformly(Lattice& lattice, RandomStream& random) {
  std::vector<std::uint8_t> in_tree(lattice.size(), 0);
  std::vector<std::uint8_t> last(lattice.size(), 0);
  in_tree[lattice.size() / 2] = 1;
  for (int y = 0; y < lattice.height; ++y) {
    for (int x = 0; x < lattice.width; ++x) {
      Node next{};
      for (Node node{x, y}; in_tree[lattice.index(node.x, node.y)] == 0; node = next) {
        std::uint32_t direction = 0;
        do {
          direction = random.below(4);
        } while (!neighbor(lattice, node, direction, next));
        last[lattice.index(node.x, node.y)] = static_cast<std::uint8_t>(direction);
      }
      for (Node node{x, y}; in_tree[lattice.index(node.x, node.y)] == 0; node = next) {
        const std::uint32_t direction = last[lattice.index(node.x, node.y)];
        neighbor(lattice, node, direction, next);
        join(lattice, node, direction);
        in_tree[lattice.index(node.x, node.y)] = 1;
      }
    }
  }
}

/// Edges in random order, each taken that joins two parts.
void grow_by_edges(Lattice& lattice, RandomStream& random) {
  std::vector<std::uint32_t> part(lattice.size());
  std::iota(part.begin(), part.end(), 0u);
  const auto root = [&](std::uint32_t node) {
    while (part[node] != node) {
      part[node] = part[part[node]];
      node = part[node];
    }
    return node;
  };
  std::vector<std::uint32_t> edges;  // node * 2, + 1 for the edge to the north
  for (std::uint32_t node = 0; node < lattice.size(); ++node) {
    if (static_cast<int>(node % lattice.width) + 1 < lattice.width) edges.push_back(2 * node);
    if (static_cast<int>(node / lattice.width) + 1 < lattice.height) edges.push_back(2 * node + 1);
  }
  for (std::size_t i = edges.size(); i > 1; --i) {
    std::swap(edges[i - 1], edges[random.below(static_cast<std::uint32_t>(i))]);
  }
  for (const std::uint32_t edge : edges) {
    const std::uint32_t node = edge / 2;
    const std::uint32_t other = edge % 2 == 0 ? node + 1 : node + lattice.width;
    const std::uint32_t a = root(node);
    const std::uint32_t b = root(other);
    if (a == b) continue;
    part[a] = b;
    (edge % 2 == 0 ? lattice.east : lattice.north)[node] = 1;
  }
}

}  // namespace

Lattice spanning_tree(int width, int height, TreeMethod method, double loops,
                      RandomStream& random) {
  Lattice lattice(width, height);
  switch (method) {
    case TreeMethod::depth:
      grow_by_depth(lattice, random);
      break;
    case TreeMethod::uniform:
      grow_uniformly(lattice, random);
      break;
    case TreeMethod::edges:
      grow_by_edges(lattice, random);
      break;
  }
  if (loops <= 0) return lattice;
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      const std::size_t node = lattice.index(x, y);
      if (x + 1 < width && lattice.east[node] == 0 && random.chance(loops)) lattice.east[node] = 1;
      if (y + 1 < height && lattice.north[node] == 0 && random.chance(loops)) {
        lattice.north[node] = 1;
      }
    }
  }
  return lattice;
}

}  // namespace photonlane
