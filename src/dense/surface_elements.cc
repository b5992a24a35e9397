#include "src/dense/surface_elements.h"

#include <algorithm>
#include <cmath>

namespace icefield {
namespace {

constexpr float kAlong = 0.75f, kAcross = 1.0f;  // footprints of the sample
constexpr float kFacing = 0.4f;                  // cosine of normals that agree: the two sides of a thin wall do not
constexpr float kCell = 2.2f;                    // footprints of the level
constexpr int kMiddle = 4;                       // level of the middle footprint
constexpr float kFiner = 0.3f;  // footprints of a coarser level: finer elements closer than this stand for each other
                                // there, and no spot falls between them
constexpr std::uint64_t kFree = ~std::uint64_t{0};

std::uint64_t mixed(std::uint64_t k) {
  k ^= k >> 31, k *= 0x9e3779b97f4a7c15u;
  k ^= k >> 29, k *= 0xbf58476d1ce4e5b9u;
  return k ^ (k >> 32);
}

}  // namespace

SurfaceElements::SurfaceElements(float footprint) : base_(footprint), slots_(1 << 10, Slot{kFree, -1}) {
  for (int l = 0; l < kLevels; ++l)
    inverse_cell_[static_cast<std::size_t>(l)] = 1 / (kCell * base_ * std::exp2(static_cast<float>(l - kMiddle)));
}

int SurfaceElements::level_of(float footprint) const {
  return std::clamp(kMiddle + static_cast<int>(std::lround(std::log2(std::max(footprint / base_, 1e-6f)))), 0,
                    kLevels - 1);
}

SurfaceElements::Cell SurfaceElements::cell_of(const Eigen::Vector3f& place, int level) const {
  const float inverse = inverse_cell_[static_cast<std::size_t>(level)];
  return {static_cast<int>(std::floor(place.x() * inverse)), static_cast<int>(std::floor(place.y() * inverse)),
          static_cast<int>(std::floor(place.z() * inverse))};
}

std::uint64_t SurfaceElements::key(Grid grid, int level, int x, int y, int z) {
  constexpr std::uint64_t kMask = (1u << 19) - 1;
  return (static_cast<std::uint64_t>(level) << 60) | (static_cast<std::uint64_t>(grid) << 57) |
         ((static_cast<std::uint64_t>(x) & kMask) << 38) | ((static_cast<std::uint64_t>(y) & kMask) << 19) |
         (static_cast<std::uint64_t>(z) & kMask);
}

std::size_t SurfaceElements::slot_of(std::uint64_t key) const {
  const std::size_t mask = slots_.size() - 1;
  std::size_t slot = mixed(key) & mask;
  while (slots_[slot].key != kFree && slots_[slot].key != key) slot = (slot + 1) & mask;
  return slot;
}

std::int32_t& SurfaceElements::head(Grid grid, int level, const Cell& cell) {
  if (2 * cubes_.size() > slots_.size()) {
    std::vector<Slot> old(2 * slots_.size(), Slot{kFree, -1});
    old.swap(slots_);
    for (const Slot& slot : old)
      if (slot.key != kFree) slots_[slot_of(slot.key)] = slot;
  }
  const std::uint64_t k = key(grid, level, cell.x >> kCubeShift, cell.y >> kCubeShift, cell.z >> kCubeShift);
  Slot& slot = slots_[slot_of(k)];
  if (slot.key == kFree) {
    slot = {k, static_cast<std::int32_t>(cubes_.size())};
    cubes_.emplace_back().fill(-1);
    in_use_[static_cast<std::size_t>(level)][static_cast<std::size_t>(grid)] = true;
  }
  return cubes_[static_cast<std::size_t>(slot.cube)][within(cell.x, cell.y, cell.z)];
}

// The element that the sample belongs to, of those from `first` on: of those in reach the one nearest along the
// surface; -1: none. Chains begin with the newest.
std::int32_t SurfaceElements::find(const SurfaceSample& s, int level, std::int32_t first) const {
  const float along = kAlong * s.footprint, across = kAcross * s.footprint,
              reach = std::sqrt(along * along + across * across);
  float nearest = along * along;
  std::int32_t found = -1;
  const auto consider = [&](std::int32_t index) {
    const Place& e = places_[static_cast<std::size_t>(index)];
    const Eigen::Vector3f d = s.position - e.anchor;
    const float off = d.dot(e.normal), side2 = d.squaredNorm() - off * off;
    if (std::abs(off) > across || !(side2 < nearest || (side2 == nearest && found > index)) ||
        s.normal.dot(e.normal) < kFacing)
      return;
    nearest = side2, found = index;
  };
  const Eigen::Vector3f around = Eigen::Vector3f::Constant(reach);
  const auto search = [&](Grid grid, int l) {
    if (!in_use_[static_cast<std::size_t>(l)][static_cast<std::size_t>(grid)]) return;
    const Cell low = cell_of(s.position - around, l), high = cell_of(s.position + around, l);
    // Cube by cube.
    for (int cz = low.z >> kCubeShift; cz <= high.z >> kCubeShift; ++cz)
      for (int cy = low.y >> kCubeShift; cy <= high.y >> kCubeShift; ++cy)
        for (int cx = low.x >> kCubeShift; cx <= high.x >> kCubeShift; ++cx) {
          const Slot& slot = slots_[slot_of(key(grid, l, cx, cy, cz))];
          if (slot.key == kFree) continue;
          const Heads& heads = cubes_[static_cast<std::size_t>(slot.cube)];
          const auto range = [](int c, int a, int b) {
            return std::pair(std::max(a, c << kCubeShift), std::min(b, ((c + 1) << kCubeShift) - 1));
          };
          const auto [z0, z1] = range(cz, low.z, high.z);
          const auto [y0, y1] = range(cy, low.y, high.y);
          const auto [x0, x1] = range(cx, low.x, high.x);
          for (int z = z0; z <= z1; ++z)
            for (int y = y0; y <= y1; ++y)
              for (int x = x0; x <= x1; ++x) {
                std::int32_t at = heads[within(x, y, z)];
                if (grid == Grid::own) {
                  for (; at >= first; at = places_[static_cast<std::size_t>(at)].next) consider(at);
                } else {
                  for (; at >= 0; at = links_[static_cast<std::size_t>(at)].next) {
                    const auto element = static_cast<std::int32_t>(links_[static_cast<std::size_t>(at)].element);
                    if (element < first) break;
                    consider(element);
                  }
                }
              }
        }
  };
  // Finer ones stand in coarser grids too.
  search(Grid::own, level);
  search(Grid::finer, level);
  if (level + 1 < kLevels) search(Grid::own, level + 1);
  return found;
}

void SurfaceElements::enter(std::uint32_t element, int level) {
  const Eigen::Vector3f anchor = places_[element].anchor, normal = places_[element].normal;
  std::int32_t& own = head(Grid::own, level, cell_of(anchor, level));
  places_[element].next = own;
  own = static_cast<std::int32_t>(element);
  for (int l = level + 1; l < kLevels; ++l) {
    const float footprint = base_ * std::exp2(static_cast<float>(l - kMiddle));
    std::int32_t& first = head(Grid::finer, l, cell_of(anchor, l));
    bool stood_for = false;
    for (std::int32_t at = first; l > level + 1 && at >= 0 && !stood_for;
         at = links_[static_cast<std::size_t>(at)].next) {
      const Place& other = places_[links_[static_cast<std::size_t>(at)].element];
      stood_for = (other.anchor - anchor).squaredNorm() < kFiner * kFiner * footprint * footprint &&
                  other.normal.dot(normal) > kFacing;
    }
    if (stood_for) continue;
    links_.push_back({element, first});
    first = static_cast<std::int32_t>(links_.size() - 1);
  }
}

void SurfaceElements::insert(const SurfaceSample& s, std::uint32_t photo, bool foreign, int level) {
  const float weight = 1 / std::max(s.variance, 1e-30f);
  places_.push_back({s.position, s.normal, -1, s.footprint});
  Sums sums{s.normal, s.colour_weight, weight, 0, 0, s.colour, 1, 1, photo, s.views, foreign};
  for (float& c : sums.colour) c *= s.colour_weight;
  sums_.push_back(sums);
  enter(static_cast<std::uint32_t>(places_.size() - 1), level);
}

void SurfaceElements::take_in(std::size_t element, const SurfaceSample& s, std::uint32_t photo) {
  const Place& place = places_[element];
  Sums& e = sums_[element];
  const float weight = 1 / std::max(s.variance, 1e-30f), off = (s.position - place.anchor).dot(place.normal);
  e.weight += weight, e.offset += weight * off, e.offset2 += weight * off * off;
  e.normal += s.normal;
  for (std::size_t c = 0; c < 3; ++c) e.colour[c] += s.colour_weight * s.colour[c];
  e.colour_weight += s.colour_weight;
  ++e.samples;
  if (e.last_photo != photo) e.last_photo = photo, ++e.photos;
  e.views = std::max(e.views, s.views);
}

void SurfaceElements::add_foreign(const SurfaceSample& sample) {
  insert(sample, ~std::uint32_t{0}, true, level_of(sample.footprint));
}

void SurfaceElements::add(std::span<const SurfaceSample> samples, std::uint32_t photo, const Executor& executor) {
  // Searching takes the time, and what is there does not change meanwhile.
  const auto there = static_cast<std::int32_t>(places_.size());
  std::vector<std::int32_t> found(samples.size(), -1);
  if (there > 0)
    executor.blocks(samples.size(), 2048, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) found[i] = find(samples[i], level_of(samples[i].footprint), 0);
    });
  constexpr std::size_t kAhead = 12;
  for (std::size_t i = 0; i < samples.size(); ++i) {
    if (i + kAhead < samples.size() && found[i + kAhead] >= 0)
      __builtin_prefetch(&sums_[static_cast<std::size_t>(found[i + kAhead])]);
    if (found[i] >= 0) {
      take_in(static_cast<std::size_t>(found[i]), samples[i], photo);
      continue;
    }
    const int level = level_of(samples[i].footprint);
    if (const std::int32_t fresh = find(samples[i], level, there); fresh >= 0)
      take_in(static_cast<std::size_t>(fresh), samples[i], photo);
    else
      insert(samples[i], photo, false, level);
  }
}

PointCloud SurfaceElements::points(std::vector<float>& footprints,
                                   const std::function<bool(const Eigen::Vector3f&)>& wanted) {
  std::vector<Link>().swap(links_);
  std::vector<Slot>().swap(slots_);
  std::vector<Heads>().swap(cubes_);
  PointCloud cloud;
  footprints.clear();
  const std::size_t own =
      static_cast<std::size_t>(std::count_if(sums_.begin(), sums_.end(), [](const Sums& e) { return !e.foreign; }));
  cloud.positions.reserve(own), cloud.normals.reserve(own), cloud.colours.reserve(own), cloud.views.reserve(own),
      cloud.errors.reserve(own), footprints.reserve(own);
  for (std::size_t i = 0; i < sums_.size(); ++i) {
    const Sums& e = sums_[i];
    if (e.foreign) continue;
    const float mean = e.offset / e.weight, scatter = std::max(0.0f, e.offset2 / e.weight - mean * mean);
    const Eigen::Vector3f place = places_[i].anchor + mean * places_[i].normal;
    if (wanted && !wanted(place)) continue;
    cloud.positions.push_back(place);
    cloud.normals.push_back(e.normal.squaredNorm() > 0 ? e.normal.normalized() : places_[i].normal);
    std::array<std::uint8_t, 3> colour;
    for (std::size_t c = 0; c < 3; ++c)
      colour[c] =
          static_cast<std::uint8_t>(std::clamp(e.colour[c] / std::max(e.colour_weight, 1e-30f) + 0.5f, 0.0f, 255.0f));
    cloud.colours.push_back(colour);
    cloud.views.push_back(
        static_cast<std::uint16_t>(std::min<std::uint32_t>(std::max<std::uint32_t>(e.views, e.photos), 65535)));
    // Maps of neighbouring photos err together: the mean of their variances, not that of their mean; what they differ
    // by averages out.
    cloud.errors.push_back(
        std::sqrt(static_cast<float>(e.samples) / e.weight + scatter / static_cast<float>(e.samples)));
    footprints.push_back(places_[i].footprint);
  }
  return cloud;
}

}  // namespace icefield
