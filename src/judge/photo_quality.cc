#include "icefield/judge/photo_quality.h"

#include <algorithm>
#include <numbers>

#include "icefield/base/statistics.h"

namespace icefield {

std::vector<PhotoQuality> photos_by_quality(const BlockStatistics& statistics, const BlockPrecision& precision) {
  const bool known = precision.known && precision.place_sigma.size() == statistics.photos;
  std::vector<PhotoQuality> photos(statistics.photos);
  std::vector<double> places;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const double gsd = statistics.photo_gsd[i];
    photos[i] = {PosedIndex(i), statistics.photo_rms_px[i], known && gsd > 0 ? precision.place_sigma[i] / gsd : 0,
                 known ? precision.turn_sigma[i] * 180 / std::numbers::pi : 0};
    places.push_back(photos[i].place_gsd);
  }
  const auto middle = [](std::vector<double> values) { return std::max(1e-12, median(std::move(values))); };
  const double usual_rms = middle(statistics.photo_rms_px), usual_place = middle(std::move(places));
  const auto badness = [&](const PhotoQuality& q) {
    return std::max(q.rms_px / usual_rms, known ? q.place_gsd / usual_place : 0.0);
  };
  std::stable_sort(photos.begin(), photos.end(),
                   [&](const PhotoQuality& a, const PhotoQuality& b) { return badness(a) > badness(b); });
  return photos;
}

}  // namespace icefield
