#include "src/dense/surface_elements.h"

#include <algorithm>
#include <cmath>

namespace icefield {
namespace {

constexpr float kAlong = 0.75f, kAcross = 1.0f;   // footprints of the sample
constexpr float kFacing = 0.4f;                   // cosine of normals that agree: the two sides of a thin wall do not
constexpr float kCell = 2.2f;                     // footprints of the level
constexpr int kMiddle = 4;                        // level of the middle footprint
constexpr float kFiner = 0.5f;                    // footprints of a coarser level: finer elements closer than this stand for each other there
constexpr std::uint64_t kFree = ~std::uint64_t{0};

std::uint64_t mixed(std::uint64_t k) {
  k ^= k >> 31, k *= 0x9e3779b97f4a7c15u;
  k ^= k >> 29, k *= 0xbf58476d1ce4e5b9u;
  return k ^ (k >> 32);
}

}  // namespace

SurfaceElements::SurfaceElements(float footprint) : base_(footprint), cells_(1 << 12, Cell{kFree, -1}) {}

int SurfaceElements::level_of(float footprint) const {
  return std::clamp(kMiddle + static_cast<int>(std::lround(std::log2(std::max(footprint / base_, 1e-6f)))), 0, kLevels - 1);
}

std::uint64_t SurfaceElements::key(int level, int x, int y, int z) const {
  constexpr std::uint64_t kMask = (1u << 20) - 1;
  return (static_cast<std::uint64_t>(level) << 60) | ((static_cast<std::uint64_t>(x) & kMask) << 40) | ((static_cast<std::uint64_t>(y) & kMask) << 20) |
         (static_cast<std::uint64_t>(z) & kMask);
}

std::size_t SurfaceElements::slot_of(std::uint64_t key) const {
  const std::size_t mask = cells_.size() - 1;
  std::size_t slot = mixed(key) & mask;
  while (cells_[slot].key != kFree && cells_[slot].key != key) slot = (slot + 1) & mask;
  return slot;
}

void SurfaceElements::grow() {
  std::vector<Cell> old(2 * cells_.size(), Cell{kFree, -1});
  old.swap(cells_);
  for (const Cell& cell : old)
    if (cell.key != kFree) cells_[slot_of(cell.key)] = cell;
}

// The element that the sample belongs to: of those in reach the one nearest along the surface; -1: none.
std::int64_t SurfaceElements::find(const SurfaceSample& s, int level) const {
  const float along = kAlong * s.footprint, across = kAcross * s.footprint, reach = std::sqrt(along * along + across * across);
  float nearest = along * along;
  std::int64_t found = -1;
  for (int l = level; l <= std::min(kLevels - 1, level + 1); ++l) {   // finer ones stand in coarser grids too
    const float inverse = 1 / (kCell * base_ * std::exp2(static_cast<float>(l - kMiddle)));
    int low[3], high[3];
    for (int c = 0; c < 3; ++c) {
      low[c] = static_cast<int>(std::floor((s.position[c] - reach) * inverse));
      high[c] = static_cast<int>(std::floor((s.position[c] + reach) * inverse));
    }
    for (int z = low[2]; z <= high[2]; ++z)
      for (int y = low[1]; y <= high[1]; ++y)
        for (int x = low[0]; x <= high[0]; ++x)
          for (std::int32_t at = cells_[slot_of(key(l, x, y, z))].first; at >= 0; at = links_[static_cast<std::size_t>(at)].next) {
            const std::uint32_t index = links_[static_cast<std::size_t>(at)].element;
            const Element& e = elements_[index];
            const Eigen::Vector3f d = s.position - e.anchor;
            const float off = d.dot(e.first_normal), side2 = d.squaredNorm() - off * off;
            if (std::abs(off) > across || !(side2 < nearest || (side2 == nearest && found > index)) || s.normal.dot(e.first_normal) < kFacing) continue;
            nearest = side2, found = index;
          }
  }
  return found;
}

void SurfaceElements::enter(std::uint32_t element, int level) {
  const Element& e = elements_[element];
  for (int l = level; l < kLevels; ++l) {
    if (4 * used_ > 3 * cells_.size()) grow();
    const float footprint = base_ * std::exp2(static_cast<float>(l - kMiddle)), inverse = 1 / (kCell * footprint);
    const std::uint64_t k = key(l, static_cast<int>(std::floor(e.anchor.x() * inverse)), static_cast<int>(std::floor(e.anchor.y() * inverse)), static_cast<int>(std::floor(e.anchor.z() * inverse)));
    Cell& cell = cells_[slot_of(k)];
    if (cell.key == kFree) cell = {k, -1}, ++used_;
    bool stood_for = false;
    for (std::int32_t at = cell.first; l > level + 1 && at >= 0 && !stood_for; at = links_[static_cast<std::size_t>(at)].next) {
      const Element& other = elements_[links_[static_cast<std::size_t>(at)].element];
      stood_for = (other.anchor - e.anchor).squaredNorm() < kFiner * kFiner * footprint * footprint && other.first_normal.dot(e.first_normal) > kFacing;
    }
    if (stood_for) continue;
    links_.push_back({element, cell.first});
    cell.first = static_cast<std::int32_t>(links_.size() - 1);
  }
}

void SurfaceElements::insert(const SurfaceSample& s, std::uint32_t photo, bool foreign, int level) {
  const float weight = 1 / std::max(s.variance, 1e-30f);
  Element e{s.position, s.normal, s.normal, s.footprint, s.colour_weight, weight, 0, 0, s.colour, 1, 1, photo, s.views, foreign};
  for (float& c : e.colour) c *= s.colour_weight;
  elements_.push_back(e);
  enter(static_cast<std::uint32_t>(elements_.size() - 1), level);
}

void SurfaceElements::add_foreign(const SurfaceSample& sample) { insert(sample, ~std::uint32_t{0}, true, level_of(sample.footprint)); }

void SurfaceElements::add(const SurfaceSample& s, std::uint32_t photo) {
  const int level = level_of(s.footprint);
  const std::int64_t found = find(s, level);
  if (found < 0) return insert(s, photo, false, level);
  Element& e = elements_[static_cast<std::size_t>(found)];
  const float weight = 1 / std::max(s.variance, 1e-30f), off = (s.position - e.anchor).dot(e.first_normal);
  e.weight += weight, e.offset += weight * off, e.offset2 += weight * off * off;
  e.normal += s.normal;
  for (std::size_t c = 0; c < 3; ++c) e.colour[c] += s.colour_weight * s.colour[c];
  e.colour_weight += s.colour_weight;
  ++e.samples;
  if (e.last_photo != photo) e.last_photo = photo, ++e.photos;
  e.views = std::max(e.views, s.views);
}

PointCloud SurfaceElements::points(std::vector<float>& footprints, const std::function<bool(const Eigen::Vector3f&)>& wanted) {
  std::vector<Link>().swap(links_);
  std::vector<Cell>().swap(cells_);
  PointCloud cloud;
  footprints.clear();
  const std::size_t own = static_cast<std::size_t>(std::count_if(elements_.begin(), elements_.end(), [](const Element& e) { return !e.foreign; }));
  cloud.positions.reserve(own), cloud.normals.reserve(own), cloud.colours.reserve(own), cloud.views.reserve(own), cloud.errors.reserve(own), footprints.reserve(own);
  for (const Element& e : elements_) {
    if (e.foreign) continue;
    const float mean = e.offset / e.weight, scatter = std::max(0.0f, e.offset2 / e.weight - mean * mean);
    const Eigen::Vector3f place = e.anchor + mean * e.first_normal;
    if (wanted && !wanted(place)) continue;
    cloud.positions.push_back(place);
    cloud.normals.push_back(e.normal.squaredNorm() > 0 ? e.normal.normalized() : e.first_normal);
    std::array<std::uint8_t, 3> colour;
    for (std::size_t c = 0; c < 3; ++c) colour[c] = static_cast<std::uint8_t>(std::clamp(e.colour[c] / std::max(e.colour_weight, 1e-30f) + 0.5f, 0.0f, 255.0f));
    cloud.colours.push_back(colour);
    cloud.views.push_back(static_cast<std::uint16_t>(std::min<std::uint32_t>(std::max<std::uint32_t>(e.views, e.photos), 65535)));
    // Maps of neighbouring photos err together: the mean of their variances, not that of their mean; what they differ by
    // averages out.
    cloud.errors.push_back(std::sqrt(static_cast<float>(e.samples) / e.weight + scatter / static_cast<float>(e.samples)));
    footprints.push_back(e.footprint);
  }
  return cloud;
}

}  // namespace icefield
