#include "icefield/block/block.h"

#include <algorithm>
#include <cmath>

#include "icefield/base/statistics.h"

namespace icefield {
namespace {

constexpr std::uint32_t kMagic = 0x32424349;  // "ICB2"

void put(ByteWriter& out, const Camera& camera) {
  out.put(camera.model).put(camera.width).put(camera.height).put(camera.parameters);
}

}  // namespace

void Block::add_point(const Eigen::Vector3d& position, std::span<const Observation> seen) {
  points.push_back(position);
  observations.insert(observations.end(), seen.begin(), seen.end());
  starts.push_back(observations.size());
}

Block Block::without_points() const {
  Block bare;
  bare.cameras = cameras;
  bare.photos = photos;
  bare.datum = datum;
  bare.origin = origin;
  return bare;
}

void check_block(const Block& block) {
  const auto bad = [](const std::string& what, const char* fault, const char* remedy) {
    throw Error(ErrorKind::usage, what, fault, remedy);
  };
  for (std::size_t i = 0; i < block.photos.size(); ++i)
    if (block.photos[i].camera.value >= block.cameras.size())
      bad("photo " + std::to_string(i) + " of the block", "has a camera that the block does not have",
          "give an index into the block's cameras");
  if (block.starts.size() != block.points.size() + 1 || block.starts.front() != 0 ||
      block.starts.back() != block.observations.size() || !std::is_sorted(block.starts.begin(), block.starts.end()))
    bad("the observations of the block", "are not grouped by its points", "add points with add_point");
  if (!block.tracks.empty() && block.tracks.size() != block.points.size())
    bad("the tracks of the block", "are not as many as its points", "give one for each point, or none at all");
  for (std::size_t o = 0; o < block.observations.size(); ++o) {
    if (block.observations[o].photo >= block.photos.size())
      bad("observation " + std::to_string(o) + " of the block", "is of a photo that the block does not have",
          "give an index into the block's photos");
    if (!(block.observations[o].sigma_px >= 0))
      bad("observation " + std::to_string(o) + " of the block", "has a standard deviation below 0",
          "give it in pixels, or 0 for that of features");
  }
}

std::optional<Eigen::Vector2d> residual_px(const Block& block, const Eigen::Vector3d& point,
                                           const Observation& observation) {
  const PosedPhoto& photo = block.photos[observation.photo];
  const auto projected = project(block.camera_of(photo), photo.pose.to_camera(point));
  if (!projected) return std::nullopt;
  return observation.pixel - *projected;
}

BlockStatistics block_statistics(const Block& block) {
  BlockStatistics s;
  s.photos = block.photos.size();
  s.points = block.points.size();
  s.observations = block.observations.size();
  s.photo_rms_px.assign(s.photos, 0);
  s.photo_observations.assign(s.photos, 0);
  double sum2 = 0;
  std::vector<double> gsd;
  std::vector<std::size_t> lengths;
  gsd.reserve(s.observations);
  std::vector<std::vector<double>> photo_gsd(s.photos);
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    lengths.push_back(block.of_point(i).size());
    for (const Observation& o : block.of_point(i)) {
      const auto r = residual_px(block, block.points[i], o);
      const double r2 = r ? r->squaredNorm() : 0;
      sum2 += r2;
      s.photo_rms_px[o.photo] += r2;
      ++s.photo_observations[o.photo];
      const PosedPhoto& photo = block.photos[o.photo];
      gsd.push_back(photo.pose.to_camera(block.points[i]).z() / block.camera_of(photo).focal());
      photo_gsd[o.photo].push_back(gsd.back());
    }
  }
  for (std::size_t i = 0; i < s.photos; ++i)
    if (s.photo_observations[i] > 0) s.photo_rms_px[i] = std::sqrt(s.photo_rms_px[i] / s.photo_observations[i]);
  for (std::vector<double>& list : photo_gsd) s.photo_gsd.push_back(median(list));
  if (s.observations > 0) {
    s.rms_px = std::sqrt(sum2 / static_cast<double>(s.observations));
    s.kept_percent =
        100.0 * static_cast<double>(s.observations) / static_cast<double>(s.observations + block.observations_dropped);
    s.median_gsd = median(gsd);
    s.median_track_length = static_cast<double>(median(lengths));
  }
  return s;
}

void transform(Block& block, const Similarity& similarity) {
  for (PosedPhoto& photo : block.photos) photo.pose = similarity * photo.pose;
  for (Eigen::Vector3d& point : block.points) point = similarity * point;
}

Bytes block_to_bytes(const Block& block) {
  ByteWriter out;
  out.put(kMagic);
  out.put(static_cast<std::uint64_t>(block.cameras.size()));
  for (const Camera& camera : block.cameras) put(out, camera);
  out.put(static_cast<std::uint64_t>(block.photos.size()));
  for (const PosedPhoto& p : block.photos) {
    const Eigen::Quaterniond& q = p.pose.orientation;
    out.put(p.photo.value).put(p.camera.value);
    for (const double v : {q.w(), q.x(), q.y(), q.z(), p.pose.centre.x(), p.pose.centre.y(), p.pose.centre.z()})
      out.put(v);
  }
  out.put(static_cast<std::uint64_t>(block.points.size()));
  for (const Eigen::Vector3d& p : block.points) out.put(p.x()).put(p.y()).put(p.z());
  out.put(static_cast<std::uint64_t>(block.tracks.size()));
  for (const TrackIndex t : block.tracks) out.put(t.value);
  out.put(block.starts);
  for (const Observation& o : block.observations)
    out.put(o.photo.value).put(o.feature.value).put(o.pixel.x()).put(o.pixel.y()).put(o.sigma_px).put(o.kind);
  out.put(block.observations_dropped);
  out.put(block.datum.crs).put(block.datum.vertical_crs).put(block.datum.units).put(block.datum.axes);
  out.put(block.origin.x()).put(block.origin.y()).put(block.origin.z());
  return out.take();
}

Block block_from_bytes(std::span<const std::byte> bytes) {
  ByteReader in(bytes);
  const auto broken = [] { throw Error(ErrorKind::input, "block", "is damaged", "run `icefield pose` again"); };
  if (in.get<std::uint32_t>() != kMagic) broken();
  Block block;
  block.cameras.resize(std::min<std::uint64_t>(in.get<std::uint64_t>(), 1u << 20));
  for (Camera& camera : block.cameras) {
    camera.model = in.get<CameraModel>();
    if (camera.model > CameraModel::fisheye) broken();
    camera.width = in.get<int>();
    camera.height = in.get<int>();
    camera.parameters = in.get<std::array<double, kMaxCameraParameters>>();
  }
  for (std::uint64_t count = in.get<std::uint64_t>(); count > 0; --count) {
    PosedPhoto p;
    p.photo.value = in.get<std::uint32_t>();
    p.camera.value = in.get<std::uint32_t>();
    if (p.camera.value >= block.cameras.size()) broken();
    double v[7];
    for (double& x : v) x = in.get<double>();
    p.pose.orientation = Eigen::Quaterniond(v[0], v[1], v[2], v[3]);
    p.pose.centre = {v[4], v[5], v[6]};
    block.photos.push_back(p);
  }
  for (std::uint64_t count = in.get<std::uint64_t>(); count > 0; --count) {
    const auto x = in.get<double>(), y = in.get<double>(), z = in.get<double>();
    block.points.emplace_back(x, y, z);
  }
  for (std::uint64_t count = in.get<std::uint64_t>(); count > 0; --count) {
    TrackIndex t;
    t.value = in.get<std::uint32_t>();
    block.tracks.push_back(t);
  }
  block.starts = in.get_array<std::uint64_t>();
  if (block.starts.size() != block.points.size() + 1 || block.starts[0] != 0 ||
      !std::is_sorted(block.starts.begin(), block.starts.end()))
    broken();
  for (std::uint64_t i = 0; i < block.starts.back(); ++i) {
    Observation o;
    o.photo.value = in.get<std::uint32_t>();
    o.feature.value = in.get<std::uint32_t>();
    if (o.photo >= block.photos.size()) broken();
    o.pixel.x() = in.get<double>();
    o.pixel.y() = in.get<double>();
    o.sigma_px = in.get<float>();
    o.kind = in.get<ObservationKind>();
    if (!(o.sigma_px >= 0) || o.kind > ObservationKind::target) broken();
    block.observations.push_back(o);
  }
  block.observations_dropped = in.get<std::uint64_t>();
  block.datum.crs = in.get_string();
  block.datum.vertical_crs = in.get_string();
  block.datum.units = in.get_string();
  block.datum.axes = in.get<Axes>();
  if (block.datum.axes > Axes::east_north_up) broken();
  for (int c = 0; c < 3; ++c) block.origin[c] = in.get<double>();
  return block;
}

}  // namespace icefield
