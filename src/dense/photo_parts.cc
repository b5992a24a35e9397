#include "src/dense/photo_parts.h"

#include <cmath>
#include <numbers>

#include "icefield/base/statistics.h"

namespace icefield {

namespace {

constexpr int kParts = 16;        // along the longer side of a photo
constexpr double kHidden = 0.85;  // of a depth: where the surface of the other photo is nearer, it hides the place
constexpr double kHiddenCounts = 0.25;
constexpr std::size_t kSurelySeen = 2;  // common tie points in a part that leave no doubt

// How well depth is told at this angle, and how alike the surface looks: a bell around 12 degrees, wider on the far
// side.
double angle_worth(double degrees) {
  const double off = (degrees - 12) / (degrees < 12 ? 6 : 14);
  return std::exp(-0.5 * off * off);
}

// Parts without tie points of their own take the middle of those nearest to them.
void fill_from_around(Parts& parts) {
  const std::vector<float> known = parts.depth;
  for (int row = 0; row < parts.rows; ++row)
    for (int column = 0; column < parts.columns; ++column) {
      float& depth = parts.depth[static_cast<std::size_t>(row * parts.columns + column)];
      std::vector<float> around;
      for (int r = 1; depth == 0 && around.size() < 2 && r < std::max(parts.columns, parts.rows); ++r)
        for (int y = std::max(0, row - r); y <= std::min(parts.rows - 1, row + r); ++y)
          for (int x = std::max(0, column - r); x <= std::min(parts.columns - 1, column + r); ++x)
            if (std::max(std::abs(y - row), std::abs(x - column)) == r)
              if (const float there = known[static_cast<std::size_t>(y * parts.columns + x)]; there > 0)
                around.push_back(there);
      if (!around.empty()) depth = median(around);
    }
}

}  // namespace

double degrees_between(const Eigen::Vector3d& a, const Eigen::Vector3d& b) {
  return std::atan2(a.cross(b).norm(), a.dot(b)) * 180 / std::numbers::pi;
}

CommonPoints common_points(const Block& block, const Bounds& bounds) {
  CommonPoints common(block.photos.size());
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!bounds.contains(block.points[i])) continue;
    const auto seen = block.of_point(i);
    for (const Observation& a : seen)
      for (const Observation& b : seen)
        if (a.photo != b.photo) common[a.photo][b.photo].push_back(static_cast<std::uint32_t>(i));
  }
  return common;
}

std::vector<Parts> parts_of_photos(const Block& block, const Bounds& bounds) {
  std::vector<Parts> all(block.photos.size());
  std::vector<std::vector<std::vector<float>>> depths(block.photos.size());
  for (std::size_t i = 0; i < all.size(); ++i) {
    const Camera& camera = block.camera_of(block.photos[i]);
    Parts& parts = all[i];
    parts.width = camera.width, parts.height = camera.height, parts.focal = camera.focal();
    const int longer = std::max(camera.width, camera.height);
    parts.columns = std::max(1, (kParts * camera.width + longer / 2) / longer);
    parts.rows = std::max(1, (kParts * camera.height + longer / 2) / longer);
    depths[i].resize(parts.size());
  }
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    if (!bounds.contains(block.points[p])) continue;
    for (const Observation& o : block.of_point(p)) {
      const Eigen::Vector3d q = block.photos[o.photo].pose.to_camera(block.points[p]);
      const Parts& parts = all[o.photo];
      if (q.z() > 0)
        depths[o.photo]
              [static_cast<std::size_t>(parts.part_at(q.x() / q.z() * parts.focal, q.y() / q.z() * parts.focal))]
                  .push_back(static_cast<float>(q.z()));
    }
  }
  for (std::size_t i = 0; i < all.size(); ++i) {
    Parts& parts = all[i];
    parts.depth.assign(parts.size(), 0), parts.points.assign(parts.size(), 0);
    for (std::size_t k = 0; k < parts.size(); ++k)
      if (!depths[i][k].empty()) parts.depth[k] = median(depths[i][k]), parts.points[k] = 1;
    fill_from_around(parts);
  }
  return all;
}

Beholder::Beholder(const Block& block, const Bounds& bounds, const DenseOptions& options,
                   const std::vector<Parts>& parts, std::size_t photo)
    : block_(block), options_(options), parts_(parts), own_(parts[photo]), pose_(block.photos[photo].pose) {
  static constexpr double kPlaces[5][2] = {{0.5, 0.5}, {0.15, 0.15}, {0.85, 0.15}, {0.15, 0.85}, {0.85, 0.85}};
  const Eigen::Matrix3d to_world = pose_.rotation().transpose();
  places_.resize(own_.size());
  for (std::size_t k = 0; k < own_.size(); ++k) {
    bool meets = false;
    for (const auto& [u, v] : kPlaces) {
      const Eigen::Vector2d at = own_.place(k, u, v) / own_.focal;
      const Eigen::Vector3d line = to_world * at.homogeneous();
      meets = meets || bounds.meets(pose_.centre, line);
      places_[k].push_back(pose_.centre + static_cast<double>(own_.depth[k]) * line);
    }
    if (!meets || !(own_.depth[k] > 0)) places_[k].clear();
  }
}

Look Beholder::look(std::size_t part, std::uint32_t other, std::size_t common) const {
  const PosedPhoto& photo = block_.photos[other];
  const Parts& there = parts_[other];
  const Eigen::Vector3d& middle = places_[part][0];
  Look look;
  look.degrees = degrees_between(pose_.centre - middle, photo.pose.centre - middle);
  for (const Eigen::Vector3d& place : places_[part]) {
    const Eigen::Vector3d q = photo.pose.to_camera(place);
    if (!(q.z() > 0)) continue;
    const double x = q.x() / q.z() * there.focal, y = q.y() / q.z() * there.focal;
    if (std::abs(x) > 0.49 * there.width || std::abs(y) > 0.49 * there.height) continue;
    const auto at = static_cast<std::size_t>(there.part_at(x, y));
    const bool hidden = there.points[at] && static_cast<double>(there.depth[at]) < kHidden * q.z();
    look.shown += 1;
    look.seen += hidden ? kHiddenCounts : 1;
  }
  const auto count = static_cast<double>(places_[part].size());
  look.shown /= count, look.seen /= count;
  if (common >= kSurelySeen) look.shown = std::max(look.shown, 0.6), look.seen = std::max(look.seen, 0.6);
  const double size = (pose_.centre - middle).norm() / own_.focal,
               size_there = (photo.pose.centre - middle).norm() / there.focal;
  look.fineness = size / size_there;
  return look;
}

double Beholder::worth(std::size_t part, std::uint32_t other, std::size_t common) const {
  const Eigen::Vector3d& middle = places_[part][0];
  const double degrees = degrees_between(pose_.centre - middle, block_.photos[other].pose.centre - middle);
  if (degrees < options_.min_angle_deg || degrees > options_.max_angle_deg) return 0;
  const Look it = look(part, other, common);
  if (it.seen < kLeastSeen) return 0;
  return it.seen * angle_worth(it.degrees) * std::min(it.fineness, 1.0);  // one that sees coarser helps less
}

Eigen::Vector3d Beholder::side(std::size_t part, std::uint32_t other) const {
  const Eigen::Vector3d& middle = places_[part][0];
  const Eigen::Vector3d sight = (pose_.centre - middle).normalized(),
                        to_other = (block_.photos[other].pose.centre - middle).normalized();
  return (to_other - to_other.dot(sight) * sight).normalized();
}

std::vector<std::size_t> ties_by_part(const Block& block, const Parts& parts, std::size_t photo,
                                      const std::vector<std::uint32_t>& common) {
  std::vector<std::size_t> ties(parts.size(), 0);
  for (const std::uint32_t p : common) {
    const Eigen::Vector3d q = block.photos[photo].pose.to_camera(block.points[p]);
    ++ties[static_cast<std::size_t>(parts.part_at(q.x() / q.z() * parts.focal, q.y() / q.z() * parts.focal))];
  }
  return ties;
}

}  // namespace icefield
