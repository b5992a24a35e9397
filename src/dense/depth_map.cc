#include "icefield/dense/depth_map.h"

namespace icefield {
namespace {
constexpr std::uint32_t kMagic = 0x32444349;  // "ICD2"
}

Bytes DepthMap::to_bytes() const {
  ByteWriter out;
  out.put(kMagic).put(camera.width).put(camera.height).put(camera.parameters);
  const Eigen::Quaterniond& q = pose.orientation;
  for (const double v : {q.w(), q.x(), q.y(), q.z(), pose.centre.x(), pose.centre.y(), pose.centre.z()}) out.put(v);
  out.put(static_cast<std::uint8_t>(colour.empty() ? 0 : colour.channels()));
  out.put(depth.values()).put(normal.values()).put(cost.values()).put(support.values()).put(colour.values());
  return out.take();
}

DepthMap DepthMap::from_bytes(std::span<const std::byte> bytes) {
  ByteReader in(bytes);
  const auto broken = [] { throw Error(ErrorKind::input, "depth map", "is damaged", "it is computed again"); };
  if (in.get<std::uint32_t>() != kMagic) broken();
  DepthMap map;
  map.camera.model = CameraModel::pinhole;
  map.camera.width = in.get<int>();
  map.camera.height = in.get<int>();
  map.camera.parameters = in.get<decltype(map.camera.parameters)>();
  if (map.camera.width < 1 || map.camera.height < 1 || map.camera.width > 100000 || map.camera.height > 100000)
    broken();
  double v[7];
  for (double& x : v) x = in.get<double>();
  map.pose.orientation = Eigen::Quaterniond(v[0], v[1], v[2], v[3]);
  map.pose.centre = {v[4], v[5], v[6]};
  const int colours = in.get<std::uint8_t>();
  if (colours > 3) broken();
  const auto fill = [&](auto& image, int channels) {
    using Pixel = std::remove_reference_t<decltype(image.values()[0])>;
    auto values = in.get_array<Pixel>();
    if (values.size() != static_cast<std::size_t>(map.camera.width) * map.camera.height * channels) broken();
    image = std::remove_reference_t<decltype(image)>(map.camera.width, map.camera.height, channels);
    image.values() = std::move(values);
  };
  fill(map.depth, 1);
  fill(map.normal, 3);
  fill(map.cost, 1);
  fill(map.support, 1);
  if (colours > 0)
    fill(map.colour, colours);
  else if (!in.get_array<std::uint8_t>().empty())
    broken();
  return map;
}

PointCloud points_of(const DepthMap& map, float max_cost) {
  PointCloud cloud;
  const Eigen::Matrix3d to_world = map.pose.rotation().transpose();
  for (int y = 0; y < map.depth.height(); ++y)
    for (int x = 0; x < map.depth.width(); ++x) {
      const double depth = map.depth.at(x, y);
      if (!(depth > 0) || map.cost_at(x, y) > max_cost) continue;
      const auto direction = unproject(map.camera, {x + 0.5, y + 0.5});
      cloud.positions.push_back((map.pose.centre + to_world * (depth * direction->homogeneous())).cast<float>());
      const Eigen::Vector3d normal =
          to_world * Eigen::Vector3d(map.normal.at(x, y, 0), map.normal.at(x, y, 1), map.normal.at(x, y, 2));
      cloud.normals.push_back(normal.normalized().cast<float>());
      if (map.colour.empty()) continue;
      const bool three = map.colour.channels() == 3;
      cloud.colours.push_back(
          {map.colour.at(x, y, 0), map.colour.at(x, y, three ? 1 : 0), map.colour.at(x, y, three ? 2 : 0)});
    }
  return cloud;
}

}  // namespace icefield
