#include <Eigen/SparseCholesky>
#include <Eigen/SparseCore>
#include <algorithm>
#include <cmath>

#include "icefield/base/statistics.h"
#include "src/terrain/seam_grid.h"

namespace icefield {

using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

constexpr double kUsual = 0.06;  // of the logarithm: differences above weigh less and less

// Two photos of one cell.
struct Pair {
  std::uint32_t a, b;  // photos
  std::uint32_t camera_a, camera_b;
  Vector3d radius_a, radius_b;    // r^2, r^4, r^6
  std::array<double, 3> differs;  // logarithms, a less b
};

Vector3d powers(double r) {
  const double r2 = r * r;
  return {r2, r2 * r2, r2 * r2 * r2};
}

// Each cell's photos in a ring, so that all are tied with few pairs.
std::vector<Pair> pairs_of(const SeamGrid& grid, const Block& block) {
  // Enough for a handful of unknowns, or for many photos.
  constexpr std::size_t kPairs = 60000, kPairsOfPhoto = 100;
  const std::size_t wanted = std::max(kPairs, kPairsOfPhoto * block.photos.size());
  const std::size_t every = std::max<std::size_t>(1, grid.views.size() / wanted), cells = grid.starts.size() - 1;
  const auto fit = [](const CellView& v) { return v.colour.minCoeff() > 6 && v.colour.maxCoeff() < 249; };
  std::vector<Pair> pairs;
  std::vector<const CellView*> taking;
  for (std::size_t c = 0; c < cells; c += every) {
    taking.clear();
    for (const CellView& v : grid.of(c))
      if (fit(v)) taking.push_back(&v);
    if (taking.size() < 2) continue;
    for (std::size_t i = 0; i < (taking.size() == 2 ? 1 : taking.size()); ++i) {
      const CellView &a = *taking[i], &b = *taking[(i + 1) % taking.size()];
      Pair pair{a.photo,
                b.photo,
                block.photos[a.photo].camera.value,
                block.photos[b.photo].camera.value,
                powers(a.radius),
                powers(b.radius),
                {}};
      for (int k = 0; k < 3; ++k)
        pair.differs[static_cast<std::size_t>(k)] = std::log(static_cast<double>(a.colour[k]) / b.colour[k]);
      pairs.push_back(pair);
    }
  }
  return pairs;
}

double brightness_difference(const Pair& pair) {
  return (pair.differs[0] + pair.differs[1] + pair.differs[2]) / 3;
}

// Sums of squares over pairs as a system for gains of photos and, behind them, three numbers for each camera.
class Levelling {
 public:
  Levelling(const std::vector<Pair>& pairs, std::size_t photos, std::size_t cameras)
      : pairs_(pairs), photos_(static_cast<Eigen::Index>(photos)), cameras_(static_cast<Eigen::Index>(cameras)) {}

  // `difference`: of a pair, that the unknowns are to undo.
  template <class Difference>
  Eigen::VectorXd solve(const Difference& difference, bool lenses) const {
    const Eigen::Index n = photos_ + (lenses ? 3 * cameras_ : 0);
    Eigen::VectorXd x = Eigen::VectorXd::Zero(n);
    constexpr int kRounds = 6;
    for (int round = 0; round < kRounds; ++round) {
      std::vector<Eigen::Triplet<double>> entries;
      Eigen::VectorXd right = Eigen::VectorXd::Zero(n);
      double weights = 0;
      for (const Pair& pair : pairs_) {
        Eigen::Index at[8];
        double slope[8];
        int count = 0;
        at[count] = pair.a, slope[count++] = 1;
        at[count] = pair.b, slope[count++] = -1;
        if (lenses)
          for (int k = 0; k < 3; ++k) {
            if (pair.camera_a == pair.camera_b) {
              at[count] = photos_ + 3 * pair.camera_a + k, slope[count++] = pair.radius_a[k] - pair.radius_b[k];
            } else {
              at[count] = photos_ + 3 * pair.camera_a + k, slope[count++] = pair.radius_a[k];
              at[count] = photos_ + 3 * pair.camera_b + k, slope[count++] = -pair.radius_b[k];
            }
          }
        const double wanted = -difference(pair);
        double now = 0;
        for (int i = 0; i < count; ++i) now += slope[i] * x[at[i]];
        const double off = (now - wanted) / kUsual, weight = 1 / (1 + off * off);
        weights += weight;
        for (int i = 0; i < count; ++i) {
          right[at[i]] += weight * slope[i] * wanted;
          for (int j = 0; j < count; ++j) entries.emplace_back(at[i], at[j], weight * slope[i] * slope[j]);
        }
      }
      // Photos of groups that share no cell keep to 1, lenses that nothing tells of to no loss.
      const double hold = 1e-3 * weights / static_cast<double>(std::max<Eigen::Index>(1, photos_)) + 1e-9;
      for (Eigen::Index i = 0; i < n; ++i) entries.emplace_back(i, i, hold);
      Eigen::SparseMatrix<double> normal(n, n);
      normal.setFromTriplets(entries.begin(), entries.end());
      const Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>> solver(normal);
      x = solver.solve(right);
    }
    x.head(photos_).array() -= x.head(photos_).mean();
    return x;
  }

 private:
  const std::vector<Pair>& pairs_;
  Eigen::Index photos_, cameras_;
};

}  // namespace

PhotoLevels no_levels(const Block& block) {
  return {std::vector<Vector3f>(block.photos.size(), Vector3f::Ones()),
          std::vector<Vector3d>(block.cameras.size(), Vector3d::Zero())};
}

PhotoLevels level_photos(const SeamGrid& grid, const Block& block, OrthomosaicSummary& summary) {
  PhotoLevels levels = no_levels(block);
  const std::vector<Pair> pairs = pairs_of(grid, block);
  if (pairs.empty()) return levels;
  const auto photos = static_cast<Eigen::Index>(block.photos.size());
  const Levelling levelling(pairs, block.photos.size(), block.cameras.size());
  const Eigen::VectorXd both = levelling.solve(brightness_difference, true);
  for (std::size_t c = 0; c < block.cameras.size(); ++c)
    levels.loss[c] = both.segment<3>(photos + 3 * static_cast<Eigen::Index>(c));
  const auto lens = [&](const Pair& pair) {
    return pair.radius_a.dot(levels.loss[pair.camera_a]) - pair.radius_b.dot(levels.loss[pair.camera_b]);
  };
  constexpr double kMost = 1.5;  // exposures apart by more than 4.5 times are no longer a matter of levels
  for (std::size_t k = 0; k < 3; ++k) {
    const Eigen::VectorXd x = levelling.solve([&](const Pair& pair) { return pair.differs[k] + lens(pair); }, false);
    for (std::size_t p = 0; p < block.photos.size(); ++p)
      levels.gains[p][static_cast<Eigen::Index>(k)] =
          static_cast<float>(std::exp(std::clamp(x[static_cast<Eigen::Index>(p)], -kMost, kMost)));
  }
  // Single photos about what two agree on: the spread of differences by the root of two.
  std::vector<double> before, after, corner;
  for (const Pair& pair : pairs) {
    const auto gain = [&](std::uint32_t p) {
      return (std::log(levels.gains[p].x()) + std::log(levels.gains[p].y()) + std::log(levels.gains[p].z())) / 3;
    };
    before.push_back(std::abs(brightness_difference(pair)));
    after.push_back(std::abs(brightness_difference(pair) + lens(pair) + gain(pair.a) - gain(pair.b)));
  }
  constexpr double kSpread = 100 * 1.4826 * 0.7071;
  summary.exposure_before_percent = kSpread * median(std::move(before));
  summary.exposure_after_percent = kSpread * median(std::move(after));
  for (const Vector3d& loss : levels.loss) corner.push_back(100 * (1 - std::exp(-loss.sum())));
  summary.corner_loss_percent = median(std::move(corner));
  return levels;
}

void find_views_apart(SeamGrid& grid, const PhotoLevels& levels, const Block& block, double gap,
                      OrthomosaicSummary& summary, const Executor& executor) {
  constexpr std::size_t kGrain = 4096, kFew = 3;
  const std::size_t cells = grid.starts.size() - 1;
  std::vector<std::size_t> apart(block_count(cells, kGrain), 0);
  executor.blocks(cells, kGrain, [&](std::size_t b, std::size_t begin, std::size_t end) {
    std::vector<Vector3f> colours;
    std::vector<float> values, distances;
    for (std::size_t c = begin; c < end; ++c) {
      const std::size_t count = grid.starts[c + 1] - grid.starts[c];
      if (count < kFew) continue;
      colours.clear(), distances.clear();
      for (const CellView& v : std::as_const(grid).of(c))
        colours.push_back(v.colour.cwiseProduct(
            levels.factor(v.photo, block.photos[v.photo].camera.value, static_cast<double>(v.radius))));
      Vector3f middle;
      for (int k = 0; k < 3; ++k) {
        values.clear();
        for (const Vector3f& colour : colours) values.push_back(colour[k]);
        middle[k] = median(values);
      }
      for (const Vector3f& colour : colours) distances.push_back((colour - middle).cwiseAbs().mean());
      const float spread = 1.4826f * median(distances);
      const float limit = std::max(static_cast<float>(gap), 3 * spread);
      for (std::size_t i = 0; i < count; ++i) {
        grid.views[grid.starts[c] + i].apart = distances[i] > limit;
        apart[b] += distances[i] > limit;
      }
    }
  });
  summary.views = grid.views.size();
  summary.views_apart = 0;
  for (const std::size_t n : apart) summary.views_apart += n;
}

}  // namespace icefield
