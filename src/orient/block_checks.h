// What a finished block tells of itself: pairs of places that look alike, photos that hang by a thread.
#pragma once
#include <vector>

#include "src/orient/view_graph.h"

namespace icefield {

// Photos whose views differ by less see the same side of whatever they see.
inline constexpr double kSideBySide = 0.27;  // radians

// How far two photos that should see the same points do so.
struct SharedSight {
  std::uint32_t pair = 0;
  double angle = 0;            // between their views of these points, median, radians
  std::uint32_t expected = 0;  // points of either that the other should see
  std::uint32_t common = 0;    // that both see
  double share() const { return expected > 0 ? static_cast<double>(common) / expected : 0; }
};
// Before there is a block: of each pair, the features in the parts of both photos that its matches cover, as far as
// three photos have them; the angle is that of the pair.
std::vector<SharedSight> shared_sights(const OrientInput& input, const TrackSet& tracks,
                                       const std::vector<std::pair<std::uint32_t, double>>& pair_angles);
// Between photos of a block (indices into it), by its points and poses, as far as their views of a point differ by less
// than `widest`.
std::vector<SharedSight> sights_between(const Block& block,
                                        std::span<const std::pair<std::uint32_t, std::uint32_t>> photo_pairs,
                                        double widest, const Executor& executor);
// For the usable pairs of the block's photos.
std::vector<SharedSight> shared_sights(const OrientInput& input, const Block& block);

// What photos usually share, by the angle between their views: the upper fifth, since the lower may be of twins.
class UsualShares {
 public:
  explicit UsualShares(const std::vector<SharedSight>& sights);
  double at(double angle) const;  // 0: not known

 private:
  std::vector<double> usual_;
};
// By sight: its share over what others at its angle (and at wider ones) usually share; 1 where that is not known.
std::vector<double> relative_shares(const std::vector<SharedSight>& sights);
// Pairs side by side that share less than `share` of what others at the same angle do: two places that look alike and
// were laid on each other leave the points that only one of them has unseen by the photos of the other (after Heinly,
// Dunn and Frahm, "Correcting for duplicate scene structure in sparse 3D reconstruction", 2014, by counting instead of
// by image comparison).
std::vector<std::uint32_t> twin_pairs(const std::vector<SharedSight>& sights, double share);
// Share of common points over all pairs that stand close: what a better block raises.
double agreement(const std::vector<SharedSight>& sights);

// Photos that few common points, a single pair, or a few pairs as places that look alike have them connect with the
// rest, and those whose place is vague. `graph`: the pairs that the block was made from.
std::vector<DoubtfulPhoto> doubtful_photos(const OrientInput& input, const Block& block,
                                           const BlockPrecision& precision, const ViewGraph& graph);

}  // namespace icefield
