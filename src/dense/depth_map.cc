#include "icefield/dense/dense.h"

namespace icefield {
namespace {
constexpr std::uint32_t kMagic = 0x31444349;  // "ICD1"
}

Bytes DepthMap::to_bytes() const {
  ByteWriter out;
  out.put(kMagic).put(camera.width).put(camera.height).put(camera.parameters);
  const Eigen::Quaterniond& q = pose.orientation;
  for (const double v : {q.w(), q.x(), q.y(), q.z(), pose.centre.x(), pose.centre.y(), pose.centre.z()}) out.put(v);
  out.put(depth.values()).put(normal.values()).put(cost.values());
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
  if (map.camera.width < 1 || map.camera.height < 1 || map.camera.width > 100000 || map.camera.height > 100000) broken();
  double v[7];
  for (double& x : v) x = in.get<double>();
  map.pose.orientation = Eigen::Quaterniond(v[0], v[1], v[2], v[3]);
  map.pose.centre = {v[4], v[5], v[6]};
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
  return map;
}

}  // namespace icefield
