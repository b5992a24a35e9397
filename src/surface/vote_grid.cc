#include "src/surface/vote_grid.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <bit>
#include <cmath>

namespace icefield {

using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

constexpr std::size_t kGrain = 16;  // blocks of a piece of work
// Distances that classes stand for, of the reach; the last one is free space beyond.
float value_of(int c) {
  return -1 + 2 * static_cast<float>(c) / (VoteGrid::kClasses - 1);
}

}  // namespace

bool VoteGrid::believed(const DepthMap& map, int x, int y) const {
  return map.depth.at(x, y) > 0 && map.cost_at(x, y) <= options_.max_cost &&
         std::popcount(static_cast<unsigned>(map.support.at(x, y))) >= options_.min_support;
}

std::size_t VoteGrid::look(const DepthMap& map) {
  const int width = map.depth.width(), height = map.depth.height();
  const Eigen::Matrix3d to_world = map.pose.rotation().transpose();
  const double f = map.camera.focal();
  const Eigen::Vector2d centre = map.camera.principal_point();
  struct Part {
    std::unordered_map<std::uint64_t, std::uint32_t> seen;
    std::size_t pixels = 0;
  };
  constexpr std::size_t kRows = 32;
  std::vector<Part> parts(block_count(static_cast<std::size_t>(height), kRows));
  executor_.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t b, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < width; ++x) {
        if (!believed(map, x, y)) continue;
        ++parts[b].pixels;
        const double d = map.depth.at(x, y);
        const Vector3d p =
            map.pose.centre + to_world * (d * Vector3d((x + 0.5 - centre.x()) / f, (y + 0.5 - centre.y()) / f, 1));
        const Vector3d n = to_world * Vector3d(map.normal.at(x, y, 0), map.normal.at(x, y, 1), map.normal.at(x, y, 2));
        const Vector3d out = n.norm() > 0 ? Vector3d(n.normalized()) : Vector3d(Vector3d::Zero());
        std::uint64_t last = 0;
        for (int s = -2; s <= 2; ++s) {
          const Vector3d at = (p + 0.5 * s * options_.reach * step_ * out - low_) / step_;
          const auto part = [](double v) { return static_cast<int>(std::floor(v / kSide)); };
          const std::uint64_t key = key_of(part(at.x()), part(at.y()), part(at.z()));
          if (key != last) ++parts[b].seen[key];
          last = key;
        }
      }
  });
  std::size_t pixels = 0;
  for (const Part& part : parts) {
    pixels += part.pixels;
    for (const auto& [key, count] : part.seen) seen_[key] += count;
  }
  return pixels;
}

void VoteGrid::settle() {
  constexpr std::uint32_t kFew = 12;  // pixels of all maps together: a speck
  for (const auto& [key, count] : seen_)
    if (count >= kFew) keys_.push_back(key);
  seen_.clear();
  std::sort(keys_.begin(), keys_.end());
  for (std::uint32_t b = 0; b < keys_.size(); ++b) number_.emplace(keys_[b], b);
  counts_.assign(keys_.size() * kNodes * kClasses, 0);
}

std::uint32_t VoteGrid::block_at(int i, int j, int k) const {
  const auto found = number_.find(key_of(i >> 3, j >> 3, k >> 3));
  return found == number_.end() ? kNone : found->second;
}

int VoteGrid::votes(std::size_t block, std::size_t node) const {
  const std::uint8_t* counts = counts_.data() + (block * kNodes + node) * kClasses;
  int sum = 0;
  for (int c = 0; c < kClasses; ++c) sum += counts[c];
  return sum;
}

void VoteGrid::vote(const DepthMap& map) {
  const int width = map.depth.width(), height = map.depth.height();
  const Eigen::Matrix3d to_camera = map.pose.rotation();
  const double f = map.camera.focal();
  const Eigen::Vector2d centre = map.camera.principal_point();
  const double block_radius = 0.5 * std::sqrt(3.0) * kSide * step_;
  const double reach = options_.reach * step_;
  executor_.blocks(keys_.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t b = begin; b < end; ++b) {
      const auto from = corner(b);
      const Vector3d middle =
          to_camera *
          (low_ + step_ * (Vector3d(from[0], from[1], from[2]).array() + 0.5 * (kSide - 1)).matrix() - map.pose.centre);
      if (middle.z() < -block_radius) continue;
      if (middle.z() > block_radius) {
        // Outside of the picture with all of it.
        const double x = f * middle.x() / middle.z() + centre.x(), y = f * middle.y() / middle.z() + centre.y(),
                     r = 1.5 * f * block_radius / (middle.z() - block_radius);
        if (x < -r || y < -r || x > width + r || y > height + r) continue;
      }
      std::uint8_t* counts = counts_.data() + b * kNodes * kClasses;
      for (int k = 0; k < kSide; ++k)
        for (int j = 0; j < kSide; ++j)
          for (int i = 0; i < kSide; ++i, counts += kClasses) {
            const Vector3d p =
                to_camera * (low_ + step_ * Vector3d(from[0] + i, from[1] + j, from[2] + k) - map.pose.centre);
            if (!(p.z() > 0)) continue;
            const double u = f * p.x() / p.z() + centre.x(), v = f * p.y() / p.z() + centre.y();
            if (!(u >= 0 && v >= 0 && u < width && v < height)) continue;
            const int x = static_cast<int>(u), y = static_cast<int>(v);
            if (!believed(map, x, y)) continue;
            const double d = map.depth.at(x, y);
            const Vector3d seen = d * Vector3d((x + 0.5 - centre.x()) / f, (y + 0.5 - centre.y()) / f, 1);
            // To the plane that the pixel shows; along the line of sight where it has none.
            Vector3d n(map.normal.at(x, y, 0), map.normal.at(x, y, 1), map.normal.at(x, y, 2));
            double away = n.norm() > 0 ? n.normalized().dot(p - seen) : d - p.z();
            // Far before or behind, across a step of depth, the plane says nothing: the line of sight does.
            const double along = d - p.z();
            if (std::abs(along) > 4 * reach) away = along;
            if (away < -reach) continue;
            const int c =
                away > reach ? kClasses - 1 : static_cast<int>(std::lround((away / reach + 1) * 0.5 * (kClasses - 1)));
            if (counts[c] < 255) ++counts[c];
          }
    }
  });
}

void VoteGrid::minimise(Monitor& monitor) {
  const std::size_t nodes = keys_.size() * kNodes;
  // Begins with the middle of the votes.
  distance_.assign(nodes, 0);
  executor_.blocks(keys_.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t n = begin * kNodes; n < end * kNodes; ++n) {
      const std::uint8_t* counts = counts_.data() + n * kClasses;
      int all = 0, below = 0;
      for (int c = 0; c < kClasses; ++c) all += counts[c];
      for (int c = 0; c < kClasses && all > 0; ++c) {
        below += counts[c];
        if (2 * below >= all) {
          distance_[n] = value_of(c);
          break;
        }
      }
    }
  });
  // Neighbours of blocks, one after and one before along each axis.
  std::vector<std::array<std::uint32_t, 3>> after(keys_.size()), before(keys_.size());
  for (std::size_t b = 0; b < keys_.size(); ++b) {
    const auto at = corner(b);
    for (std::size_t axis = 0; axis < 3; ++axis) {
      auto next = at, last = at;
      next[axis] += kSide, last[axis] -= kSide;
      after[b][axis] = block_at(next[0], next[1], next[2]);
      before[b][axis] = block_at(last[0], last[1], last[2]);
    }
  }
  constexpr int kStride[3] = {1, kSide, kSide * kSide};
  // u, its extrapolation, and the dual of its gradient, forward differences; none across the rim of the blocks.
  std::vector<float> ahead = distance_;
  std::vector<Vector3f> dual(nodes, Vector3f::Zero());
  const float sigma = 0.288f, tau = 0.288f;  // product times 12, the squared norm of the gradient, is at most 1
  const auto weight = static_cast<float>(1 / options_.smoothness);
  const float data_step = tau * weight / 8;
  for (int round = 0; round < options_.rounds; ++round) {
    monitor.progress("surface", static_cast<std::size_t>(round), static_cast<std::size_t>(options_.rounds));
    monitor.check();
    executor_.blocks(keys_.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t b = begin; b < end; ++b)
        for (int n = 0; n < kNodes; ++n) {
          const std::size_t at = b * kNodes + static_cast<std::size_t>(n);
          Vector3f& p = dual[at];
          for (std::size_t axis = 0; axis < 3; ++axis) {
            const int place = n / kStride[axis] % kSide;
            float slope = 0;
            if (place + 1 < kSide)
              slope = ahead[at + static_cast<std::size_t>(kStride[axis])] - ahead[at];
            else if (after[b][axis] != kNone)
              slope = ahead[after[b][axis] * std::size_t{kNodes} +
                            static_cast<std::size_t>(n - (kSide - 1) * kStride[axis])] -
                      ahead[at];
            p[static_cast<int>(axis)] += sigma * slope;
          }
          const float norm = p.norm();
          if (norm > 1) p /= norm;
        }
    });
    executor_.blocks(keys_.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t b = begin; b < end; ++b)
        for (int n = 0; n < kNodes; ++n) {
          const std::size_t at = b * kNodes + static_cast<std::size_t>(n);
          float divergence = 0;
          for (std::size_t axis = 0; axis < 3; ++axis) {
            const int place = n / kStride[axis] % kSide, a = static_cast<int>(axis);
            if (place + 1 < kSide || after[b][axis] != kNone) divergence += dual[at][a];
            if (place > 0)
              divergence -= dual[at - static_cast<std::size_t>(kStride[axis])][a];
            else if (before[b][axis] != kNone)
              divergence -= dual[before[b][axis] * std::size_t{kNodes} +
                                 static_cast<std::size_t>(n + (kSide - 1) * kStride[axis])][a];
          }
          const float old = distance_[at], wanted = old + tau * divergence;
          // The middle of the votes' values and of where it would go with so many votes on either side (Li and Osher,
          // "A new median formula with applications to PDE based denoising", 2009).
          const std::uint8_t* counts = counts_.data() + at * kClasses;
          float moved = wanted;
          int all = 0;
          for (int c = 0; c < kClasses; ++c) all += counts[c];
          if (all > 0) {
            std::array<float, kClasses> values;
            std::array<float, kClasses + 1> places;
            int below = 0;
            places[0] = wanted + data_step * static_cast<float>(all);
            for (int c = 0; c < kClasses; ++c) {
              values[static_cast<std::size_t>(c)] = value_of(c);
              below += counts[c];
              places[static_cast<std::size_t>(c) + 1] = wanted + data_step * static_cast<float>(all - 2 * below);
            }
            // places fall, values rise: the middle of all 2 kClasses + 1 numbers.
            moved = places[kClasses];
            for (int c = 0; c < kClasses; ++c) {
              // Between values c - 1 and c the answer is places[c].
              if (places[static_cast<std::size_t>(c)] <= values[static_cast<std::size_t>(c)]) {
                moved = c == 0 ? places[0]
                               : std::max(places[static_cast<std::size_t>(c)], values[static_cast<std::size_t>(c) - 1]);
                break;
              }
              if (places[static_cast<std::size_t>(c) + 1] < values[static_cast<std::size_t>(c)]) {
                moved = values[static_cast<std::size_t>(c)];
                break;
              }
            }
          }
          distance_[at] = std::clamp(moved, -1.0f, 1.0f);
          ahead[at] = 2 * distance_[at] - old;
        }
    });
  }
  monitor.progress("surface", static_cast<std::size_t>(options_.rounds), static_cast<std::size_t>(options_.rounds));
}

}  // namespace icefield
