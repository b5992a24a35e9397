#include "src/orient/twins.h"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "icefield/orient/join.h"
#include "src/orient/block_checks.h"
#include "src/orient/seed_pairs.h"

namespace icefield {

std::vector<std::uint32_t> pairs_of_twins(const OrientInput& input, const std::shared_ptr<const TrackSet>& tracks,
                                          const ViewGraph& graph, const std::vector<Camera>& cameras) {
  constexpr double kUsual = 0.9;      // relative share of a pair that takes part in the first blocks
  constexpr double kTogether = 0.62;  // of photos of two blocks that truly are neighbours
  constexpr double kAlike = 0.7;      // mean relative share of pairs between two parts, above which they are neighbours
  constexpr double kUnlike = 0.4;     // below which little more is asked for
  constexpr double kEnough = 100, kFew = 30;  // points that should be common, to tell
  constexpr std::size_t kNearest = 6;         // photos of the other block that one is looked at with
  OrientInput strong = input;
  for (const ViewEdge& edge : graph.edges)
    if (edge.agreement < kUsual) strong.cut[edge.pair] = 1;
  const auto strong_tracks = tracks_of(strong);
  std::vector<bool> left(input.photos.size(), true);
  std::vector<Block> blocks;
  std::vector<SharedSight> inside;
  while (true) {
    std::string failure;
    auto block = start_block(strong, strong_tracks, cameras, left, failure);
    if (!block) break;
    block->grow(left, input.photos.size(), [] {});
    block->finish();
    blocks.push_back(block->to_block());
    for (const PosedPhoto& photo : blocks.back().photos) left[photo.photo.value] = false;
    const auto sights = shared_sights(strong, blocks.back());
    inside.insert(inside.end(), sights.begin(), sights.end());
  }
  const UsualShares usual(inside);
  std::vector<std::uint32_t> block_of(input.photos.size(), TrackSet::kNone);
  for (std::uint32_t b = 0; b < blocks.size(); ++b)
    for (const PosedPhoto& photo : blocks[b].photos) block_of[photo.photo.value] = b;
  // Photos that are in none belong to the one with which they, or those that came to it before them, agree best.
  std::vector<std::uint32_t> by_agreement(graph.edges.size());
  std::iota(by_agreement.begin(), by_agreement.end(), 0u);
  std::stable_sort(by_agreement.begin(), by_agreement.end(), [&](std::uint32_t a, std::uint32_t b) {
    return graph.edges[a].agreement > graph.edges[b].agreement;
  });
  for (bool more = !blocks.empty(); more;) {
    more = false;
    for (const std::uint32_t e : by_agreement) {
      std::uint32_t &first = block_of[graph.edges[e].first], &second = block_of[graph.edges[e].second];
      if ((first == TrackSet::kNone) == (second == TrackSet::kNone)) continue;
      (first == TrackSet::kNone ? first : second) = first == TrackSet::kNone ? second : first;
      more = true;
      break;
    }
  }
  std::vector<std::uint32_t> wrong;
  for (std::uint32_t a = 0; a < blocks.size(); ++a)
    for (std::uint32_t b = a + 1; b < blocks.size(); ++b) {
      std::vector<std::uint32_t> between;
      double agreement = 0;
      for (const ViewEdge& edge : graph.edges)
        if ((block_of[edge.first] == a && block_of[edge.second] == b) ||
            (block_of[edge.first] == b && block_of[edge.second] == a)) {
          between.push_back(edge.pair);
          agreement += edge.agreement;
        }
      if (between.empty()) continue;
      agreement /= static_cast<double>(between.size());
      JoinOptions options;
      options.adjusted = false;
      options.min_share = 0.2;
      const JoinResult joined = join(blocks[a], blocks[b], tracks->track_of, options, input.executor, input.monitor);
      if (!joined.joined) continue;
      // Photos of the one and of the other that look the same way from nearly the same place.
      const std::size_t of_first = blocks[a].photos.size(), all = joined.block.photos.size();
      std::vector<std::pair<std::uint32_t, std::uint32_t>> near;
      for (std::uint32_t i = 0; i < of_first; ++i) {
        std::vector<std::pair<double, std::uint32_t>> others;
        for (auto j = static_cast<std::uint32_t>(of_first); j < all; ++j)
          others.emplace_back((joined.block.photos[i].pose.centre - joined.block.photos[j].pose.centre).norm(), j);
        std::sort(others.begin(), others.end());
        for (std::size_t k = 0; k < std::min(kNearest, others.size()); ++k) near.emplace_back(i, others[k].second);
      }
      double common = 0, expected = 0;
      for (const SharedSight& s : sights_between(joined.block, near, kSideBySide, input.executor))
        if (s.expected >= 40 && usual.at(s.angle) > 0) common += s.common, expected += s.expected * usual.at(s.angle);
      // Around a corner two photos that truly stand side by side share little of what either sees, but their own pair's
      // matches then cover what they could.
      const bool twins =
          expected > (agreement < kUnlike ? kFew : kEnough) && common < kTogether * expected && agreement < kAlike;
      input.monitor.log(LogLevel::detail, fmt::format("parts of {} and {} photos: {}; laid together they share {:.0f} "
                                                      "percent of what neighbours do, pair by pair {:.0f}{}",
                                                      of_first, all - of_first, joined.outcome,
                                                      expected > 0 ? 100 * common / expected : 0, 100 * agreement,
                                                      twins ? ": they only look alike" : ""));
      if (twins) wrong.insert(wrong.end(), between.begin(), between.end());
    }
  return wrong;
}

}  // namespace icefield
