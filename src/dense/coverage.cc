#include "icefield/dense/coverage.h"

#include <algorithm>

#include "src/dense/photo_parts.h"
#include "src/dense/plan_dense.h"

namespace icefield {

namespace {

constexpr double kSeesIt = 0.5;  // of a part

// What keeps this photo from helping; the later in the list of reasons, the nearer it is to helping.
ThinReason reason_of(const Look& look, const DenseOptions& options) {
  if (look.shown < kSeesIt) return ThinReason::nobody_shows;
  if (look.degrees < options.min_angle_deg) return ThinReason::same_place;
  if (look.degrees > options.max_angle_deg) return ThinReason::far_aside;
  return look.seen < kSeesIt ? ThinReason::hidden : ThinReason::few_ties;
}

}  // namespace

const char* describe(ThinReason reason) {
  switch (reason) {
    case ThinReason::none:
      break;
    case ThinReason::nobody_shows:
      return "no other photo shows it";
    case ThinReason::same_place:
      return "others look from nearly the same place";
    case ThinReason::far_aside:
      return "others look at it from too far aside";
    case ThinReason::hidden:
      return "something nearer hides it from others";
    case ThinReason::few_ties:
      return "others that show it share too few tie points";
  }
  return "";
}

double PhotoCoverage::thin_percent() const {
  return looking() > 0 ? 100.0 * static_cast<double>(parts[0] + parts[1]) / static_cast<double>(looking()) : 0;
}

ThinReason PhotoCoverage::main_reason() const {
  std::array<std::size_t, 6> count{};
  for (const ThinReason reason : reasons) ++count[static_cast<std::size_t>(reason)];
  std::size_t most = 0;
  for (std::size_t k = 1; k < count.size(); ++k)
    if (count[k] > (most == 0 ? 0 : count[most])) most = k;
  return static_cast<ThinReason>(most);
}

std::vector<PhotoCoverage> coverage_of_photos(const Block& block, const Bounds& bounds, const DenseOptions& options,
                                              std::span<const double> sharpness, const Executor& executor) {
  return coverage_of_photos(block, plan_views(block, bounds, options, sharpness, executor), options, executor);
}

std::vector<PhotoCoverage> coverage_of_photos(const Block& block, const DenseJob& job, const DenseOptions& options,
                                              const Executor& executor) {
  const CommonPoints common = common_points(block, job.bounds);
  const std::vector<Parts> parts = parts_of_photos(block, job.bounds);
  const std::vector<MatchViews>& views = job.views;
  std::vector<PhotoCoverage> all(block.photos.size());
  executor.run("", all.size(), silent_monitor(), [&](std::size_t i) {
    const Beholder beholder(block, job.bounds, options, parts, i);
    PhotoCoverage& own = all[i];
    own.photo = block.photos[i].photo;
    own.columns = views[i].columns, own.rows = views[i].rows;
    own.views.assign(parts[i].size(), PhotoCoverage::kOutside);
    own.reasons.assign(parts[i].size(), ThinReason::none);
    // Tie points that the photo has in common with those that it is matched against, by part.
    std::vector<std::vector<std::size_t>> ties;
    for (const std::uint32_t other : views[i].photos)
      ties.push_back(ties_by_part(block, parts[i], i, common[i].at(other)));
    for (std::size_t k = 0; k < parts[i].size(); ++k) {
      if (!beholder.is_wanted(k) || job.repeated[i]) continue;
      std::vector<std::uint32_t> helping;
      for (std::size_t v = 0; v < views[i].photos.size(); ++v)
        if (views[i].asked[k] >> v & 1 && beholder.look(k, views[i].photos[v], ties[v][k]).seen >= kSeesIt)
          helping.push_back(views[i].photos[v]);
      own.views[k] = static_cast<std::uint8_t>(helping.size());
      ++own.parts[std::min<std::size_t>(own.views[k], 4)];
      if (own.views[k] > 1) continue;
      own.reasons[k] = ThinReason::nobody_shows;
      for (const auto& [other, points] : common[i])
        if (std::find(helping.begin(), helping.end(), other) == helping.end())
          own.reasons[k] = std::max(own.reasons[k], reason_of(beholder.look(k, other, 0), options));
    }
  });
  return all;
}

}  // namespace icefield
