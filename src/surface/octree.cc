#include "src/surface/octree.h"

#include <algorithm>
#include <bit>

namespace icefield {
namespace {

constexpr std::size_t kGrain = 4096;  // octets

std::size_t at(int level) {
  return static_cast<std::size_t>(level);
}

}  // namespace

std::array<std::uint32_t, 64> Octree::block_around(int level, std::uint32_t octet) const {
  std::array<std::uint32_t, 64> block;
  const Level& here = levels_[at(level)];
  if (level == 0) {
    for (int z = -1; z < 3; ++z)
      for (int y = -1; y < 3; ++y)
        for (int x = -1; x < 3; ++x) {
          const bool inside = x >= 0 && x < 2 && y >= 0 && y < 2 && z >= 0 && z < 2;
          block[static_cast<std::size_t>((z + 1) * 16 + (y + 1) * 4 + x + 1)] =
              inside ? static_cast<std::uint32_t>(x | y << 1 | z << 2) : kNone;
        }
    return block;
  }
  const Level& coarser = levels_[at(level - 1)];
  const auto parents = neighbours(level - 1, here.parent[octet]);
  for (int z = -1; z < 3; ++z)
    for (int y = -1; y < 3; ++y)
      for (int x = -1; x < 3; ++x) {
        // Two cells to a parent: -1 is the upper cell of the parent before, 2 the lower one of the parent behind.
        const int px = (x + 2) / 2, py = (y + 2) / 2, pz = (z + 2) / 2;
        const std::uint32_t parent = parents[static_cast<std::size_t>(pz * 9 + py * 3 + px)];
        std::uint32_t cell = kNone;
        if (parent != kNone && coarser.child[parent] != kNone)
          cell = 8 * coarser.child[parent] + static_cast<std::uint32_t>((x & 1) | (y & 1) << 1 | (z & 1) << 2);
        block[static_cast<std::size_t>((z + 1) * 16 + (y + 1) * 4 + x + 1)] = cell;
      }
  return block;
}

std::array<std::uint32_t, 27> Octree::neighbours(int level, std::uint32_t cell) const {
  // From the coarsest level down, along the cells that hold this one.
  std::array<std::uint32_t, kMostLevels + 1> path;
  for (int l = level; l >= 0; --l) {
    path[at(l)] = cell;
    if (l > 0) cell = levels_[at(l)].parent[cell / 8];
  }
  std::array<std::uint32_t, 27> now;
  const auto root = path[0];
  for (int z = -1; z < 2; ++z)
    for (int y = -1; y < 2; ++y)
      for (int x = -1; x < 2; ++x) {
        const int cx = x + static_cast<int>(root & 1), cy = y + static_cast<int>(root >> 1 & 1),
                  cz = z + static_cast<int>(root >> 2 & 1);
        const bool inside = cx >= 0 && cx < 2 && cy >= 0 && cy < 2 && cz >= 0 && cz < 2;
        now[static_cast<std::size_t>((z + 1) * 9 + (y + 1) * 3 + x + 1)] =
            inside ? static_cast<std::uint32_t>(cx | cy << 1 | cz << 2) : kNone;
      }
  for (int l = 1; l <= level; ++l) {
    const Level& coarser = levels_[at(l - 1)];
    std::array<std::uint32_t, 27> next;
    const std::uint32_t k = path[at(l)] % 8;
    for (int z = -1; z < 2; ++z)
      for (int y = -1; y < 2; ++y)
        for (int x = -1; x < 2; ++x) {
          const int cx = x + static_cast<int>(k & 1) + 2, cy = y + static_cast<int>(k >> 1 & 1) + 2,
                    cz = z + static_cast<int>(k >> 2 & 1) + 2;  // 1 to 4; 2 and 3 are of the same parent
          const std::uint32_t parent = now[static_cast<std::size_t>(cz / 2 * 9 + cy / 2 * 3 + cx / 2)];
          std::uint32_t found = kNone;
          if (parent != kNone && coarser.child[parent] != kNone)
            found = 8 * coarser.child[parent] + static_cast<std::uint32_t>((cx & 1) | (cy & 1) << 1 | (cz & 1) << 2);
          next[static_cast<std::size_t>((z + 1) * 9 + (y + 1) * 3 + x + 1)] = found;
        }
    now = next;
  }
  return now;
}

void Octree::part(int level, const std::vector<std::uint8_t>& parted) {
  Level next;
  Level& here = levels_[at(level)];
  for (std::uint32_t c = 0; c < here.cells(); ++c) {
    if (!parted[c]) continue;
    here.child[c] = static_cast<std::uint32_t>(next.parent.size());
    next.parent.push_back(c);
    std::array<std::int32_t, 3> p = place(level, c);
    for (std::int32_t& coordinate : p) coordinate *= 2;
    next.place.push_back(p);
  }
  next.child.assign(8 * next.parent.size(), kNone);
  levels_.push_back(std::move(next));
}

// A vertex belongs to the first of the cells about it.
void Octree::number_vertices(int level, const Executor& executor) {
  Level& here = levels_[at(level)];
  const std::size_t octets = here.parent.size();
  std::vector<std::uint32_t> owned(octets), first(octets + 1, 0);
  const auto owner_at = [](const std::array<std::uint32_t, 64>& block, int x, int y, int z) {
    std::uint32_t least = kNone;
    for (int k = 0; k < 8; ++k)
      least =
          std::min(least, block[static_cast<std::size_t>((z + (k >> 2)) * 16 + (y + (k >> 1 & 1)) * 4 + x + (k & 1))]);
    return least;
  };
  executor.blocks(octets, kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t o = begin; o < end; ++o) {
      const auto block = block_around(level, static_cast<std::uint32_t>(o));
      std::uint32_t mask = 0;
      for (int v = 0; v < 27; ++v)
        if (owner_at(block, v % 3, v / 3 % 3, v / 9) / 8 == o) mask |= 1u << v;
      owned[o] = mask;
    }
  });
  for (std::size_t o = 0; o < octets; ++o)
    first[o + 1] = first[o] + static_cast<std::uint32_t>(std::popcount(owned[o]));
  here.corner.resize(here.cells());
  here.around.resize(first[octets]);
  executor.blocks(octets, kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t o = begin; o < end; ++o) {
      const auto block = block_around(level, static_cast<std::uint32_t>(o));
      std::array<std::uint32_t, 27> number;
      for (int v = 0; v < 27; ++v) {
        const int x = v % 3, y = v / 3 % 3, z = v / 9;
        const std::uint32_t by = owner_at(block, x, y, z) / 8;
        // Its place in the octet that it belongs to.
        const auto& mine = here.place[o];
        const auto& its = here.place[by];
        const int local = (x + mine[0] - its[0]) + 3 * (y + mine[1] - its[1]) + 9 * (z + mine[2] - its[2]);
        number[static_cast<std::size_t>(v)] =
            first[by] + static_cast<std::uint32_t>(std::popcount(owned[by] & ((1u << local) - 1)));
        if (by != o) continue;
        auto& around = here.around[number[static_cast<std::size_t>(v)]];
        for (int k = 0; k < 8; ++k)
          around[static_cast<std::size_t>(k)] =
              block[static_cast<std::size_t>((z + (k >> 2)) * 16 + (y + (k >> 1 & 1)) * 4 + x + (k & 1))];
      }
      for (std::size_t k = 0; k < 8; ++k)
        for (std::size_t c = 0; c < 8; ++c)
          here.corner[8 * o + k][c] =
              number[(k & 1) + (c & 1) + 3 * ((k >> 1 & 1) + (c >> 1 & 1)) + 9 * ((k >> 2) + (c >> 2))];
    }
  });
}

Octree::Octree(std::span<const Eigen::Vector3f> points, std::span<const std::uint8_t> levels,
               const Eigen::Vector3f& low, float side, int full, const Executor& executor)
    : low_(low), side_(side) {
  Level root;
  root.parent = {kNone};
  root.place = {{0, 0, 0}};
  root.child.assign(8, kNone);
  levels_.push_back(std::move(root));
  int finest = full;
  for (const std::uint8_t l : levels) finest = std::max(finest, static_cast<int>(l));
  finest = std::min(finest, kMostLevels - 1);
  leaf_of_.resize(points.size());
  leaf_level_.assign(points.size(), 0);
  std::vector<std::array<std::uint32_t, 3>> fine(points.size());  // in cells of the finest level
  const float per_cell = static_cast<float>(2u << finest) / side;
  const auto most = static_cast<float>((2u << finest) - 1);
  for (std::size_t i = 0; i < points.size(); ++i) {
    for (int c = 0; c < 3; ++c)
      fine[i][static_cast<std::size_t>(c)] =
          static_cast<std::uint32_t>(std::clamp((points[i][c] - low[c]) * per_cell, 0.0f, most));
    leaf_of_[i] = (fine[i][0] >> finest & 1) | (fine[i][1] >> finest & 1) << 1 | (fine[i][2] >> finest & 1) << 2;
  }
  number_vertices(0, executor);
  for (int level = 0; level < finest; ++level) {
    Level& here = levels_[at(level)];
    std::vector<std::uint8_t> wanted(here.cells(), 0), parted(here.cells(), level < full);
    if (level >= full) {
      for (std::size_t i = 0; i < points.size(); ++i)
        if (levels[i] > level && leaf_level_[i] == level) wanted[leaf_of_[i]] = 1;
      executor.blocks(here.parent.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
        for (std::size_t o = begin; o < end; ++o) {
          const auto block = block_around(level, static_cast<std::uint32_t>(o));
          std::array<std::uint8_t, 64> want;
          bool any = false;
          for (std::size_t k = 0; k < 64; ++k) {
            want[k] = block[k] != kNone && wanted[block[k]];
            any |= want[k] != 0;
          }
          if (!any) continue;
          for (std::size_t k = 0; k < 8; ++k)
            for (std::size_t n = 0; n < 27 && !parted[8 * o + k]; ++n)
              parted[8 * o + k] = want[((k >> 2) + n / 9) * 16 + ((k >> 1 & 1) + n / 3 % 3) * 4 + (k & 1) + n % 3];
        }
      });
    }
    part(level, parted);
    const Level& now = levels_[at(level)];
    const int shift = finest - level - 1;
    for (std::size_t i = 0; i < points.size(); ++i) {
      if (leaf_level_[i] != level || now.child[leaf_of_[i]] == kNone) continue;
      const std::uint32_t k =
          (fine[i][0] >> shift & 1) | (fine[i][1] >> shift & 1) << 1 | (fine[i][2] >> shift & 1) << 2;
      leaf_of_[i] = 8 * now.child[leaf_of_[i]] + k;
      leaf_level_[i] = static_cast<std::uint8_t>(level + 1);
    }
    number_vertices(level + 1, executor);
  }
}

}  // namespace icefield
