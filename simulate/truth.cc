#include <algorithm>
#include <cmath>
#include <vector>

#include "icefield/base/statistics.h"
#include "simulate/plan.h"

namespace icefield::simulate {

PointCloud true_surface(const Scene& scene, const std::vector<PlannedPhoto>& photos, const Bounds& bounds,
                        const Executor& executor, Monitor& monitor) {
  // Candidates: what each photo sees, one sample a pixel.
  std::vector<PointCloud> seen(photos.size());
  double finest_gsd = 1e30;
  std::vector<double> finest(photos.size(), 1e30);
  executor.run("truth: surface", photos.size(), monitor, [&](std::size_t i) {
    const Camera& camera = photos[i].shot.camera;
    const Pose& pose = photos[i].shot.pose;
    PointCloud points;
    points.origin = bounds.centre;
    for (int y = 0; y < camera.height; ++y)
      for (int x = 0; x < camera.width; ++x) {
        const auto direction = unproject(camera, {x + 0.5, y + 0.5});
        if (!direction) continue;
        const Eigen::Vector3d d = pose.orientation.conjugate() * direction->homogeneous();
        const auto hit = scene.trace(pose.centre.cast<float>(), d.cast<float>());
        if (!hit || !bounds.contains(hit->position.cast<double>())) continue;
        points.positions.push_back((hit->position.cast<double>() - bounds.centre).cast<float>());
        points.normals.push_back(hit->geometric_normal);
        finest[i] = std::min(finest[i], hit->distance / camera.focal());
      }
    seen[i] = std::move(points);
  });
  for (double g : finest) finest_gsd = std::min(finest_gsd, g);
  PointCloud all;
  all.origin = bounds.centre;
  for (PointCloud& part : seen) {
    for (std::size_t i = 0; i < part.size(); ++i) all.append(part, i);
    part = {};
  }
  if (all.size() == 0) return all;
  PointCloud surface = thin(all, 0.7 * finest_gsd);

  surface.gsd.resize(surface.size());
  surface.counted.resize(surface.size());
  surface.views.resize(surface.size());
  constexpr std::size_t kGrain = 4096;
  executor.run("truth: visibility", block_count(surface.size(), kGrain), monitor, [&](std::size_t block) {
    std::vector<float> gsd;
    for (std::size_t i = block * kGrain; i < std::min(surface.size(), (block + 1) * kGrain); ++i) {
      const Eigen::Vector3d p = surface.position(i);
      const Eigen::Vector3f n = surface.normals[i];
      gsd.clear();
      int steep = 0;
      for (const PlannedPhoto& photo : photos) {
        const Eigen::Vector3d in_camera = photo.shot.pose.to_camera(p);
        const auto pixel = project(photo.shot.camera, in_camera);
        if (!pixel || pixel->x() < 0 || pixel->y() < 0 || pixel->x() >= photo.shot.camera.width ||
            pixel->y() >= photo.shot.camera.height)
          continue;
        const Eigen::Vector3f to_photo = (photo.shot.pose.centre - p).cast<float>();
        const float cosine = n.dot(to_photo.normalized());
        if (cosine <= 0) continue;
        const float distance = to_photo.norm();
        const float lift = 3e-4f * distance;
        if (scene.blocked(p.cast<float>() + lift * n, to_photo, 1.0f)) continue;
        gsd.push_back(static_cast<float>(in_camera.z() / photo.shot.camera.focal()));
        steep += cosine > 0.34202f;  // 70 degrees
      }
      std::sort(gsd.begin(), gsd.end());
      surface.gsd[i] = gsd.empty() ? static_cast<float>(finest_gsd) : gsd.size() >= 3 ? gsd[2] : gsd[0];
      surface.counted[i] = steep >= 3;
      surface.views[i] = static_cast<std::uint16_t>(steep);
    }
  });
  return surface;
}

std::vector<PhotoOverlap> true_overlaps(const Scene& scene, const std::vector<PlannedPhoto>& photos,
                                        const Executor& executor, Monitor& monitor) {
  constexpr int kColumns = 24, kRows = 16;
  struct Seen {
    Eigen::Vector3d point;
    Eigen::Vector3f normal;
  };
  std::vector<std::vector<Seen>> seen(photos.size());
  executor.run("truth: rays", photos.size(), monitor, [&](std::size_t i) {
    const Shot& shot = photos[i].shot;
    for (int y = 0; y < kRows; ++y)
      for (int x = 0; x < kColumns; ++x) {
        const auto direction =
            unproject(shot.camera, {(x + 0.5) * shot.camera.width / kColumns, (y + 0.5) * shot.camera.height / kRows});
        if (!direction) continue;
        const Eigen::Vector3d d = shot.pose.orientation.conjugate() * direction->homogeneous();
        if (const auto hit = scene.trace(shot.pose.centre.cast<float>(), d.cast<float>()))
          seen[i].push_back({hit->position.cast<double>(), hit->geometric_normal});
      }
  });
  // shares[i][j]: of the rays of i that hit something, those whose place j sees; angles: at which the two rays meet,
  // the middle.
  std::vector<std::vector<float>> shares(photos.size(), std::vector<float>(photos.size(), 0)), angles = shares;
  executor.run("truth: overlap", photos.size(), monitor, [&](std::size_t i) {
    for (std::size_t j = 0; j < photos.size(); ++j) {
      if (i == j) continue;
      const Shot& shot = photos[j].shot;
      std::vector<float> met;
      for (const Seen& s : seen[i]) {
        const auto pixel = project(shot.camera, shot.pose.to_camera(s.point));
        if (!pixel || pixel->x() < 0 || pixel->y() < 0 || pixel->x() >= shot.camera.width ||
            pixel->y() >= shot.camera.height)
          continue;
        const Eigen::Vector3f to_photo = (shot.pose.centre - s.point).cast<float>();
        if (s.normal.dot(to_photo) <= 0) continue;
        if (scene.blocked(s.point.cast<float>() + 3e-4f * to_photo.norm() * s.normal, to_photo, 1.0f)) continue;
        const Eigen::Vector3f own = (photos[i].shot.pose.centre - s.point).cast<float>();
        met.push_back(std::atan2(own.cross(to_photo).norm(), own.dot(to_photo)));
      }
      if (met.empty()) continue;
      shares[i][j] = static_cast<float>(met.size()) / static_cast<float>(seen[i].size());
      angles[i][j] = median(met);
    }
  });
  std::vector<PhotoOverlap> overlaps;
  for (std::size_t i = 0; i < photos.size(); ++i)
    for (std::size_t j = i + 1; j < photos.size(); ++j)
      if (const float share = std::min(shares[i][j], shares[j][i]); share > 0)
        overlaps.push_back({photos[i].name, photos[j].name, share, 57.29578 * 0.5 * (angles[i][j] + angles[j][i])});
  return overlaps;
}

}  // namespace icefield::simulate
