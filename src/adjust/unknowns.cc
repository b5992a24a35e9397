#include "src/adjust/unknowns.h"

#include <algorithm>
#include <numeric>

namespace icefield {

std::size_t Unknowns::count() const {
  return static_cast<std::size_t>(std::accumulate(graph.sizes.begin(), graph.sizes.end(), 0));
}

Unknowns number_unknowns(const Block& block, const AdjustOptions& options) {
  Unknowns unknowns;
  const std::size_t photos = block.photos.size(), cameras = block.cameras.size();
  std::vector<bool> fixed(photos, options.fix_poses);
  for (const std::uint32_t i : options.fixed_photos) fixed[i] = true;
  std::vector<std::uint32_t> users(cameras, 0);
  for (const PosedPhoto& photo : block.photos) ++users[photo.camera.value];

  unknowns.free.resize(cameras);
  for (std::size_t c = 0; c < cameras; ++c) {
    if (users[c] == 0) continue;
    const std::size_t count = camera_parameters(block.cameras[c].model).size();
    const std::vector<bool>& wanted =
        options.free_by_camera.empty() ? options.free_parameters : options.free_by_camera[c];
    for (std::size_t p = 0; p < std::min(count, wanted.size()); ++p)
      if (wanted[p]) unknowns.free[c].push_back(static_cast<int>(p));
  }

  // Nodes as they come: photos, then shared cameras, then ends of scale bars.
  using Kind = Unknowns::Kind;
  BlockGraph graph;
  std::vector<bool> last;
  unknowns.photo_node.assign(photos, -1);
  unknowns.camera_node.assign(cameras, -1);
  unknowns.own_camera.assign(photos, 0);
  std::vector<std::uint32_t> item;
  std::vector<Kind> kind;
  const auto add = [&](int size, std::size_t index, Kind of) {
    graph.sizes.push_back(size);
    item.push_back(static_cast<std::uint32_t>(index));
    kind.push_back(of);
    last.push_back(of != Kind::photo);
    return static_cast<std::int32_t>(graph.sizes.size() - 1);
  };
  for (std::size_t i = 0; i < photos; ++i) {
    const std::uint32_t c = block.photos[i].camera.value;
    if (fixed[i]) continue;
    unknowns.own_camera[i] = users[c] == 1 && !unknowns.free[c].empty();
    unknowns.photo_node[i] =
        add(6 + (unknowns.own_camera[i] ? static_cast<int>(unknowns.free[c].size()) : 0), i, Kind::photo);
  }
  std::vector<std::uint8_t> merged(cameras, 0);
  for (std::size_t i = 0; i < photos; ++i)
    if (unknowns.own_camera[i]) merged[block.photos[i].camera.value] = 1;
  for (std::size_t c = 0; c < cameras; ++c)
    if (!unknowns.free[c].empty() && !merged[c])
      unknowns.camera_node[c] = add(static_cast<int>(unknowns.free[c].size()), c, Kind::camera);
  if (!options.scale_bars.empty() && !options.fix_points) {
    unknowns.point_node.assign(block.points.size(), -1);
    for (const ScaleBar& bar : options.scale_bars)
      for (const std::uint32_t end : {bar.first, bar.second})
        if (unknowns.point_node[end] < 0) unknowns.point_node[end] = add(3, end, Kind::point);
  }

  // Which nodes meet. A shared camera meets everything: its photos' points, and through them the photos of others.
  const std::size_t nodes = graph.sizes.size();
  graph.neighbours.resize(nodes);
  std::vector<std::vector<std::uint32_t>> points_of(photos);
  for (std::size_t i = 0; i < block.points.size(); ++i)
    for (const Observation& o : block.of_point(i))
      if (unknowns.photo_node[o.photo] >= 0) points_of[o.photo].push_back(static_cast<std::uint32_t>(i));
  std::vector<std::uint32_t> seen(nodes, 0xffffffffu);
  for (std::size_t photo = 0; photo < photos; ++photo) {
    const std::int32_t node = unknowns.photo_node[photo];
    if (node < 0) continue;
    auto& around = graph.neighbours[static_cast<std::size_t>(node)];
    seen[static_cast<std::size_t>(node)] = static_cast<std::uint32_t>(node);
    const auto meet = [&](std::int32_t other) {
      if (other < 0 || seen[static_cast<std::size_t>(other)] == static_cast<std::uint32_t>(node)) return;
      seen[static_cast<std::size_t>(other)] = static_cast<std::uint32_t>(node);
      around.push_back(static_cast<std::uint32_t>(other));
    };
    for (const std::uint32_t point : points_of[photo]) {
      for (const Observation& o : block.of_point(point)) {
        meet(unknowns.photo_node[o.photo]);
        meet(unknowns.camera_node[block.photos[o.photo].camera.value]);
      }
      if (!unknowns.point_node.empty()) meet(unknowns.point_node[point]);
    }
    std::sort(around.begin(), around.end());
  }
  for (std::size_t n = 0; n < nodes; ++n) {
    if (kind[n] != Kind::point) continue;
    auto& around = graph.neighbours[n];
    for (const Observation& o : block.of_point(item[n]))
      for (const std::int32_t node :
           {unknowns.photo_node[o.photo], unknowns.camera_node[block.photos[o.photo].camera.value]})
        if (node >= 0) around.push_back(static_cast<std::uint32_t>(node));
    for (const ScaleBar& bar : options.scale_bars) {
      if (bar.first == item[n]) around.push_back(static_cast<std::uint32_t>(unknowns.point_node[bar.second]));
      if (bar.second == item[n]) around.push_back(static_cast<std::uint32_t>(unknowns.point_node[bar.first]));
    }
    std::sort(around.begin(), around.end());
    around.erase(std::unique(around.begin(), around.end()), around.end());
  }
  for (std::size_t c = 0; c < cameras; ++c) {
    const std::int32_t node = unknowns.camera_node[c];
    if (node < 0) continue;
    auto& around = graph.neighbours[static_cast<std::size_t>(node)];
    for (std::size_t n = 0; n < nodes; ++n)
      if (kind[n] == Kind::camera ? static_cast<std::int32_t>(n) != node
                                  : std::binary_search(graph.neighbours[n].begin(), graph.neighbours[n].end(),
                                                       static_cast<std::uint32_t>(node)))
        around.push_back(static_cast<std::uint32_t>(n));
  }

  const std::vector<std::uint32_t> order = elimination_order(graph, last);
  std::vector<std::int32_t> place(nodes);
  for (std::size_t k = 0; k < nodes; ++k) place[order[k]] = static_cast<std::int32_t>(k);
  for (std::int32_t& node : unknowns.photo_node)
    if (node >= 0) node = place[static_cast<std::size_t>(node)];
  for (std::int32_t& node : unknowns.camera_node)
    if (node >= 0) node = place[static_cast<std::size_t>(node)];
  for (std::int32_t& node : unknowns.point_node)
    if (node >= 0) node = place[static_cast<std::size_t>(node)];
  for (const std::uint32_t node : order) {
    unknowns.node_item.push_back(item[node]);
    unknowns.node_kind.push_back(kind[node]);
  }
  unknowns.graph = reordered(graph, order);
  return unknowns;
}

}  // namespace icefield
