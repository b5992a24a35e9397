#include "src/adjust/unknowns.h"

#include <algorithm>
#include <numeric>

namespace icefield {

std::size_t Unknowns::count() const {
  return static_cast<std::size_t>(std::accumulate(graph.sizes.begin(), graph.sizes.end(), 0));
}

namespace {

using Kind = Unknowns::Kind;

// Nodes as they come (photos, then shared cameras, then ends of scale bars), which of them meet, and the order in which
// they are eliminated.
class Numbering {
 public:
  Numbering(const Block& block, const AdjustOptions& options)
      : block_(block), options_(options), users_(block.cameras.size(), 0) {
    for (const PosedPhoto& photo : block.photos) ++users_[photo.camera.value];
  }

  Unknowns run() {
    find_free();
    add_photos();
    add_cameras();
    add_ends();
    graph_.neighbours.resize(graph_.sizes.size());
    meet_of_photos();
    meet_of_ends();
    meet_of_cameras();
    put_in_order();
    return std::move(unknowns_);
  }

 private:
  void find_free() {
    unknowns_.free.resize(block_.cameras.size());
    for (std::size_t c = 0; c < block_.cameras.size(); ++c) {
      if (users_[c] == 0) continue;
      const std::size_t count = camera_parameters(block_.cameras[c].model).size();
      const std::vector<bool>& wanted =
          options_.free_by_camera.empty() ? options_.free_parameters : options_.free_by_camera[c];
      for (std::size_t p = 0; p < std::min(count, wanted.size()); ++p)
        if (wanted[p]) unknowns_.free[c].push_back(static_cast<int>(p));
    }
  }

  std::int32_t add(std::size_t size, std::size_t index, Kind of) {
    graph_.sizes.push_back(static_cast<int>(size));
    item_.push_back(static_cast<std::uint32_t>(index));
    kind_.push_back(of);
    last_.push_back(of != Kind::photo);
    return static_cast<std::int32_t>(graph_.sizes.size() - 1);
  }

  void add_photos() {
    const std::size_t photos = block_.photos.size();
    std::vector<bool> fixed(photos, options_.fix_poses);
    for (const std::uint32_t i : options_.fixed_photos) fixed[i] = true;
    unknowns_.photo_node.assign(photos, -1);
    unknowns_.own_camera.assign(photos, 0);
    for (std::size_t i = 0; i < photos; ++i) {
      const std::uint32_t c = block_.photos[i].camera.value;
      if (fixed[i]) continue;
      unknowns_.own_camera[i] = users_[c] == 1 && !unknowns_.free[c].empty();
      unknowns_.photo_node[i] = add(6 + (unknowns_.own_camera[i] ? unknowns_.free[c].size() : 0), i, Kind::photo);
    }
  }

  void add_cameras() {
    const std::size_t cameras = block_.cameras.size();
    unknowns_.camera_node.assign(cameras, -1);
    std::vector<std::uint8_t> merged(cameras, 0);  // into the node of its photo
    for (std::size_t i = 0; i < block_.photos.size(); ++i)
      if (unknowns_.own_camera[i]) merged[block_.photos[i].camera.value] = 1;
    for (std::size_t c = 0; c < cameras; ++c)
      if (!unknowns_.free[c].empty() && !merged[c])
        unknowns_.camera_node[c] = add(unknowns_.free[c].size(), c, Kind::camera);
  }

  void add_ends() {
    if (options_.scale_bars.empty() || options_.fix_points) return;
    unknowns_.point_node.assign(block_.points.size(), -1);
    for (const ScaleBar& bar : options_.scale_bars)
      for (const std::uint32_t end : {bar.first, bar.second})
        if (unknowns_.point_node[end] < 0) unknowns_.point_node[end] = add(3, end, Kind::point);
  }

  std::int32_t camera_node_of(const Observation& o) const {
    return unknowns_.camera_node[block_.photos[o.photo].camera.value];
  }

  void meet_of_photos() {
    const std::size_t photos = block_.photos.size();
    std::vector<std::vector<std::uint32_t>> points_of(photos);
    for (std::size_t i = 0; i < block_.points.size(); ++i)
      for (const Observation& o : block_.of_point(i))
        if (unknowns_.photo_node[o.photo] >= 0) points_of[o.photo].push_back(static_cast<std::uint32_t>(i));
    std::vector<std::uint32_t> seen(graph_.sizes.size(), 0xffffffffu);
    for (std::size_t photo = 0; photo < photos; ++photo) {
      const std::int32_t node = unknowns_.photo_node[photo];
      if (node < 0) continue;
      auto& around = graph_.neighbours[static_cast<std::size_t>(node)];
      seen[static_cast<std::size_t>(node)] = static_cast<std::uint32_t>(node);
      const auto meet = [&](std::int32_t other) {
        if (other < 0 || seen[static_cast<std::size_t>(other)] == static_cast<std::uint32_t>(node)) return;
        seen[static_cast<std::size_t>(other)] = static_cast<std::uint32_t>(node);
        around.push_back(static_cast<std::uint32_t>(other));
      };
      for (const std::uint32_t point : points_of[photo]) {
        for (const Observation& o : block_.of_point(point))
          meet(unknowns_.photo_node[o.photo]), meet(camera_node_of(o));
        if (!unknowns_.point_node.empty()) meet(unknowns_.point_node[point]);
      }
      std::sort(around.begin(), around.end());
    }
  }

  void meet_of_ends() {
    for (std::size_t n = 0; n < kind_.size(); ++n) {
      if (kind_[n] != Kind::point) continue;
      auto& around = graph_.neighbours[n];
      for (const Observation& o : block_.of_point(item_[n]))
        for (const std::int32_t node : {unknowns_.photo_node[o.photo], camera_node_of(o)})
          if (node >= 0) around.push_back(static_cast<std::uint32_t>(node));
      for (const ScaleBar& bar : options_.scale_bars) {
        if (bar.first == item_[n]) around.push_back(static_cast<std::uint32_t>(unknowns_.point_node[bar.second]));
        if (bar.second == item_[n]) around.push_back(static_cast<std::uint32_t>(unknowns_.point_node[bar.first]));
      }
      std::sort(around.begin(), around.end());
      around.erase(std::unique(around.begin(), around.end()), around.end());
    }
  }

  // A shared camera meets everything: its photos' points, and through them the photos of others.
  void meet_of_cameras() {
    for (const std::int32_t node : unknowns_.camera_node) {
      if (node < 0) continue;
      auto& around = graph_.neighbours[static_cast<std::size_t>(node)];
      for (std::size_t n = 0; n < kind_.size(); ++n)
        if (kind_[n] == Kind::camera ? static_cast<std::int32_t>(n) != node
                                     : std::binary_search(graph_.neighbours[n].begin(), graph_.neighbours[n].end(),
                                                          static_cast<std::uint32_t>(node)))
          around.push_back(static_cast<std::uint32_t>(n));
    }
  }

  void put_in_order() {
    const std::vector<std::uint32_t> order = elimination_order(graph_, last_);
    std::vector<std::int32_t> place(order.size());
    for (std::size_t k = 0; k < order.size(); ++k) place[order[k]] = static_cast<std::int32_t>(k);
    for (auto* nodes : {&unknowns_.photo_node, &unknowns_.camera_node, &unknowns_.point_node})
      for (std::int32_t& node : *nodes)
        if (node >= 0) node = place[static_cast<std::size_t>(node)];
    for (const std::uint32_t node : order) {
      unknowns_.node_item.push_back(item_[node]);
      unknowns_.node_kind.push_back(kind_[node]);
    }
    unknowns_.graph = reordered(graph_, order);
  }

  const Block& block_;
  const AdjustOptions& options_;
  std::vector<std::uint32_t> users_;  // photos by camera
  Unknowns unknowns_;
  BlockGraph graph_;
  std::vector<bool> last_;
  std::vector<std::uint32_t> item_;
  std::vector<Kind> kind_;
};

}  // namespace

Unknowns number_unknowns(const Block& block, const AdjustOptions& options) {
  return Numbering(block, options).run();
}

}  // namespace icefield
