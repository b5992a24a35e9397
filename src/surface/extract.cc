#include "src/surface/extract.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace icefield {
namespace {

using Eigen::Vector3f;

constexpr std::uint32_t kNone = Octree::kNone;
constexpr std::size_t kGrain = 8192;  // cells

std::size_t at(int level) {
  return static_cast<std::size_t>(level);
}

// A vertex of the surface: the edge of a tetrahedron that it lies on, told by the sum of its ends, and its place.
struct Crossing {
  std::uint64_t edge;
  Vector3f position;
  bool operator<(const Crossing& other) const { return edge < other.edge; }
};

// What one part of the leaves gives.
struct Piece {
  std::vector<Crossing> corners;     // three of a face
  std::vector<std::uint32_t> faces;  // once they are joined: three numbers of vertices each

  // Each crossing once, in the order of their edges: most faces' corners are those of others, too.
  void join() {
    std::vector<Crossing> once = corners;
    keep_unique(once);
    faces.reserve(corners.size());
    for (const Crossing& c : corners)
      faces.push_back(static_cast<std::uint32_t>(std::lower_bound(once.begin(), once.end(), c) - once.begin()));
    once.shrink_to_fit();
    corners = std::move(once);
  }
  static void keep_unique(std::vector<Crossing>& crossings) {
    std::stable_sort(crossings.begin(), crossings.end());
    crossings.erase(std::unique(crossings.begin(), crossings.end(),
                                [](const Crossing& a, const Crossing& b) { return a.edge == b.edge; }),
                    crossings.end());
  }
};

// A corner of a tetrahedron: its place in half cells of the leaf (0 to 2, even ones are the leaf's corners), the
// function there less the wanted value.
struct Corner {
  std::array<int, 3> place;
  float value;
};

// The points of a leaf's grid of 3 x 3 x 3.
constexpr int grid(int x, int y, int z) {
  return x + 3 * y + 9 * z;
}

class Leaf {
 public:
  Leaf(const Octree& octree, const ImplicitFunction& function, int level, std::uint32_t cell)
      : octree_(octree), function_(function), level_(level), cell_(cell) {}

  void add_to(Piece& piece) {
    const auto& levels = octree_.levels();
    const auto& corner = levels[at(level_)].corner[cell_];
    const auto& values = function_.values[at(level_)];
    bool below = false, above = false;
    for (std::size_t k = 0; k < 8; ++k) {
      const float v = values[corner[k]] - function_.surface;
      value_[static_cast<std::size_t>(grid(2 * (k & 1), 2 * (k >> 1 & 1), 2 * static_cast<int>(k >> 2)))] = v;
      (v < 0 ? below : above) = true;
    }
    const bool finer = level_ < octree_.finest() && look_at_neighbours(below, above);
    if (!(below && above)) return;
    place_ = octree_.place(level_, cell_);
    unit_ = 1 << (octree_.finest() - level_);
    low_ = octree_.corner_of(level_, cell_);
    half_ = 0.5f * octree_.cell_size(level_);
    piece_ = &piece;
    if (finer)
      fan();
    else
      six();
  }

 private:
  // Values at the middles of sides and edges where finer cells meet them; false where there are none.
  bool look_at_neighbours(bool& below, bool& above) {
    const auto& levels = octree_.levels();
    const auto& here = levels[at(level_)];
    const auto neighbours = octree_.neighbours(level_, cell_);
    bool any = false;
    for (int n = 0; n < 27; ++n) {
      const std::uint32_t other = neighbours[static_cast<std::size_t>(n)];
      if (n == 13 || other == kNone || here.child[other] == kNone) continue;
      const std::array<int, 3> step = {n % 3 - 1, n / 3 % 3 - 1, n / 9 - 1};
      if (std::abs(step[0]) + std::abs(step[1]) + std::abs(step[2]) == 3) continue;  // a corner is shared anyway
      any = true;
      for (int g = 0; g < 27; ++g) {
        const std::array<int, 3> p = {g % 3, g / 3 % 3, g / 9};
        if (p[0] % 2 == 0 && p[1] % 2 == 0 && p[2] % 2 == 0) continue;
        std::size_t child = 0, corner = 0;
        bool touches = true;
        for (std::size_t c = 0; c < 3; ++c) {
          const int q = p[c] - 2 * step[c];  // in the neighbour's own grid
          touches &= q >= 0 && q <= 2;
          if (!touches) break;
          child |= static_cast<std::size_t>(q == 2) << c;
          corner |= static_cast<std::size_t>(q > 0) << c;
        }
        if (!touches) continue;
        const std::uint32_t vertex = levels[at(level_ + 1)].corner[8 * std::size_t{here.child[other]} + child][corner];
        const float v = function_.values[at(level_ + 1)][vertex] - function_.surface;
        value_[static_cast<std::size_t>(g)] = v;
        known_ |= 1u << g;
        (v < 0 ? below : above) = true;
      }
    }
    return any;
  }

  Corner point(int x, int y, int z) const { return {{x, y, z}, value_[static_cast<std::size_t>(grid(x, y, z))]}; }

  void six() {
    constexpr std::array<std::array<int, 3>, 6> kOrders = {
        {{0, 1, 2}, {1, 2, 0}, {2, 0, 1}, {0, 2, 1}, {2, 1, 0}, {1, 0, 2}}};  // even ones first
    for (std::size_t k = 0; k < 6; ++k) {
      std::array<int, 3> p = {0, 0, 0};
      std::array<Corner, 4> t;
      t[0] = point(0, 0, 0);
      for (std::size_t s = 0; s < 3; ++s) {
        p[static_cast<std::size_t>(kOrders[k][s])] = 2;
        t[s + 1] = point(p[0], p[1], p[2]);
      }
      if (k >= 3) std::swap(t[2], t[3]);
      cut(t);
    }
  }

  // All sides in triangles, each with the middle as its fourth corner.
  void fan() {
    float middle = 0;
    for (int k = 0; k < 8; ++k)
      middle += 0.125f * value_[static_cast<std::size_t>(grid(2 * (k & 1), 2 * (k >> 1 & 1), 2 * (k >> 2)))];
    middle_ = {{1, 1, 1}, middle};
    for (int axis = 0; axis < 3; ++axis)
      for (int side = 0; side < 3; side += 2) fan_over_side(axis, side);
  }
  void fan_over_side(int axis, int side) {
    const int u = (axis + 1) % 3, v = (axis + 2) % 3;
    const auto place = [&](int a, int b) {
      std::array<int, 3> p;
      p[static_cast<std::size_t>(axis)] = side, p[static_cast<std::size_t>(u)] = a, p[static_cast<std::size_t>(v)] = b;
      return p;
    };
    const auto known = [&](int a, int b) {
      const auto p = place(a, b);
      return (known_ >> grid(p[0], p[1], p[2]) & 1) != 0;
    };
    const auto corner = [&](int a, int b) {
      const auto p = place(a, b);
      return point(p[0], p[1], p[2]);
    };
    // Seen from outside against the clock for the upper side, with it for the lower one.
    const auto over = [&](const Corner& a, const Corner& b, const Corner& c) {
      if (side == 2)
        cut({middle_, a, b, c});
      else
        cut({middle_, a, c, b});
    };
    // A square by the diagonal that all squares of this direction have, whatever their size.
    const auto square = [&](int a, int b, int size) {
      over(corner(a, b), corner(a + size, b), corner(a + size, b + size));
      over(corner(a, b), corner(a + size, b + size), corner(a, b + size));
    };
    if (known(1, 1)) {
      for (int a = 0; a < 2; ++a)
        for (int b = 0; b < 2; ++b) square(a, b, 1);
      return;
    }
    constexpr std::array<std::array<int, 2>, 8> kRim = {
        {{0, 0}, {1, 0}, {2, 0}, {2, 1}, {2, 2}, {1, 2}, {0, 2}, {0, 1}}};
    bool parted = false;
    for (std::size_t k = 1; k < 8; k += 2) parted |= known(kRim[k][0], kRim[k][1]);
    if (!parted) {
      square(0, 0, 2);
      return;
    }
    const auto p = place(1, 1);
    const Corner centre = {p,
                           0.25f * (corner(0, 0).value + corner(2, 0).value + corner(2, 2).value + corner(0, 2).value)};
    std::array<int, 2> last = kRim[0];
    for (std::size_t k = 1; k <= 8; ++k) {
      const auto& next = kRim[k % 8];
      if (k % 2 == 1 && !known(next[0], next[1])) continue;
      over(centre, corner(last[0], last[1]), corner(next[0], next[1]));
      last = next;
    }
  }

  Crossing crossing(const Corner& a, const Corner& b) const {
    Crossing c{0, {}};
    const float t = a.value / (a.value - b.value);
    for (std::size_t k = 0; k < 3; ++k) {
      const auto low = static_cast<std::uint64_t>(2 * place_[k]);
      c.edge = c.edge << 21 |
               ((2 * low + static_cast<std::uint64_t>(a.place[k] + b.place[k])) * static_cast<std::uint64_t>(unit_));
    }
    // From the end with the smaller place, so that all who share the edge find the same.
    const bool turned = b.place < a.place;
    const Corner &from = turned ? b : a, &to = turned ? a : b;
    // Not at its very ends, where faces would lose their area.
    constexpr float kEnd = 0.02f;
    const float s = std::clamp(turned ? 1 - t : t, kEnd, 1 - kEnd);
    for (int k = 0; k < 3; ++k) {
      const auto p = static_cast<float>(from.place[static_cast<std::size_t>(k)]),
                 q = static_cast<float>(to.place[static_cast<std::size_t>(k)]);
      c.position[k] = low_[k] + half_ * (p + s * (q - p));
    }
    return c;
  }
  void face(const Crossing& a, const Crossing& b, const Crossing& c) {
    piece_->corners.push_back(a);
    piece_->corners.push_back(b);
    piece_->corners.push_back(c);
  }
  // Of positive volume: (t1 - t0) x (t2 - t0) . (t3 - t0) > 0.
  void cut(const std::array<Corner, 4>& t) {
    int inside = 0;
    for (std::size_t k = 0; k < 4; ++k) inside |= (t[k].value < 0) << k;
    if (inside == 0 || inside == 15) return;
    const int count = (inside & 1) + (inside >> 1 & 1) + (inside >> 2 & 1) + (inside >> 3);
    if (count == 2) {
      // Even permutations that bring the two inside to the front.
      static constexpr std::array<std::array<std::size_t, 5>, 6> kPairs = {
          {{3, 0, 1, 2, 3}, {5, 0, 2, 3, 1}, {9, 0, 3, 1, 2}, {6, 1, 2, 0, 3}, {10, 1, 3, 2, 0}, {12, 2, 3, 0, 1}}};
      for (const auto& pair : kPairs) {
        if (pair[0] != static_cast<std::size_t>(inside)) continue;
        const Corner &a = t[pair[1]], &b = t[pair[2]], &c = t[pair[3]], &d = t[pair[4]];
        const Crossing ac = crossing(a, c), ad = crossing(a, d), bd = crossing(b, d), bc = crossing(b, c);
        face(ac, ad, bd);
        face(ac, bd, bc);
      }
      return;
    }
    const int alone = count == 1 ? inside : 15 - inside;
    static constexpr std::array<std::array<std::size_t, 4>, 4> kFirst = {
        {{0, 1, 2, 3}, {1, 0, 3, 2}, {2, 0, 1, 3}, {3, 0, 2, 1}}};
    for (std::size_t k = 0; k < 4; ++k) {
      if (alone != 1 << k) continue;
      const Corner &a = t[k], &b = t[kFirst[k][1]], &c = t[kFirst[k][2]], &d = t[kFirst[k][3]];
      if (count == 1)
        face(crossing(a, b), crossing(a, c), crossing(a, d));
      else
        face(crossing(a, b), crossing(a, d), crossing(a, c));
    }
  }

  const Octree& octree_;
  const ImplicitFunction& function_;
  int level_;
  std::uint32_t cell_;
  std::array<float, 27> value_{};
  std::uint32_t known_ = 0;  // middles of sides and edges that finer cells have
  std::array<std::int32_t, 3> place_{};
  std::int32_t unit_ = 1;
  Vector3f low_;
  float half_ = 0;
  Corner middle_{};
  Piece* piece_ = nullptr;
};

}  // namespace

Mesh extract_surface(const Octree& octree, const ImplicitFunction& function, const Executor& executor) {
  std::vector<std::vector<Piece>> pieces(octree.levels().size());
  for (std::size_t l = 0; l < pieces.size(); ++l) {
    const Octree::Level& here = octree.levels()[l];
    pieces[l].resize(block_count(here.cells(), kGrain));
    executor.blocks(here.cells(), kGrain, [&](std::size_t block, std::size_t begin, std::size_t end) {
      for (std::size_t c = begin; c < end; ++c)
        if (here.child[c] == kNone)
          Leaf(octree, function, static_cast<int>(l), static_cast<std::uint32_t>(c)).add_to(pieces[l][block]);
      pieces[l][block].join();
    });
  }
  std::size_t corners = 0, vertices = 0;
  for (const auto& level : pieces)
    for (const Piece& piece : level) corners += piece.faces.size(), vertices += piece.corners.size();
  // Each vertex once, in the order of the edges that they lie on.
  std::vector<Crossing> unique;
  unique.reserve(vertices);
  for (const auto& level : pieces)
    for (const Piece& piece : level) unique.insert(unique.end(), piece.corners.begin(), piece.corners.end());
  Piece::keep_unique(unique);
  Mesh mesh;
  mesh.positions.reserve(unique.size());
  for (const Crossing& c : unique) mesh.positions.push_back(c.position);
  mesh.faces.reserve(corners / 3);
  for (auto& level : pieces)
    for (Piece& piece : level) {
      std::vector<std::uint32_t> number;
      number.reserve(piece.corners.size());
      for (const Crossing& c : piece.corners)
        number.push_back(
            static_cast<std::uint32_t>(std::lower_bound(unique.begin(), unique.end(), c) - unique.begin()));
      for (std::size_t i = 0; i < piece.faces.size(); i += 3)
        mesh.faces.push_back({number[piece.faces[i]], number[piece.faces[i + 1]], number[piece.faces[i + 2]]});
      piece = {};
    }
  return mesh;
}

}  // namespace icefield
