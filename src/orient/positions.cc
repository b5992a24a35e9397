#include "src/orient/positions.h"

#include <Eigen/SparseCholesky>
#include <algorithm>
#include <cmath>
#include <numeric>

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector3d;

constexpr std::size_t kTracksAPhoto = 150;
constexpr int kLinearRounds = 60, kFineRounds = 40;

struct Sight {
  std::uint32_t photo = 0;
  Vector3d direction = Vector3d::Zero();  // in the world, unit
};

// Long tracks first, until each photo has enough.
std::vector<std::uint32_t> choose_tracks(const TrackSet& set, const std::vector<std::uint8_t>& taken) {
  std::vector<std::uint32_t> length(set.tracks.size(), 0), order;
  for (std::uint32_t t = 0; t < set.tracks.size(); ++t) {
    for (const Tracks::Element& e : set.tracks.track(TrackIndex(t))) length[t] += taken[e.photo.value];
    if (length[t] >= 2) order.push_back(t);
  }
  std::sort(order.begin(), order.end(),
            [&](std::uint32_t a, std::uint32_t b) { return length[a] != length[b] ? length[a] > length[b] : a < b; });
  std::vector<std::size_t> have(taken.size(), 0);
  std::vector<std::uint32_t> chosen;
  for (const std::uint32_t t : order) {
    std::size_t wanting = 0;
    for (const Tracks::Element& e : set.tracks.track(TrackIndex(t)))
      wanting += taken[e.photo.value] && have[e.photo.value] < kTracksAPhoto;
    if (wanting == 0) continue;
    chosen.push_back(t);
    for (const Tracks::Element& e : set.tracks.track(TrackIndex(t))) have[e.photo.value] += taken[e.photo.value];
  }
  std::sort(chosen.begin(), chosen.end());
  return chosen;
}

// The system of the centres after the points are eliminated: blocks of three, rows by photo.
struct CentreSystem {
  std::vector<std::vector<std::uint32_t>> columns;  // of each row, ascending, from the diagonal on
  std::vector<std::vector<Matrix3d>> blocks;
  Eigen::VectorXd right;
};

}  // namespace

std::vector<Vector3d> solve_positions(const OrientInput& input, const TrackSet& set, const std::vector<Camera>& cameras,
                                      const std::vector<Eigen::Quaterniond>& orientations,
                                      std::vector<std::uint8_t>& taken) {
  const std::size_t photos = taken.size();
  const std::vector<std::uint32_t> chosen = choose_tracks(set, taken);
  std::vector<std::vector<Sight>> sights(chosen.size());
  input.executor.blocks(chosen.size(), 256, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t k = begin; k < end; ++k)
      for (const Tracks::Element& e : set.tracks.track(TrackIndex(chosen[k]))) {
        if (!taken[e.photo.value]) continue;
        const auto d = unproject(cameras[input.photos[e.photo.value].camera.value], input.pixel(e.photo, e.feature));
        if (d)
          sights[k].push_back({e.photo.value, orientations[e.photo.value].conjugate() * d->homogeneous().normalized()});
      }
  });
  std::erase_if(sights, [](const auto& s) { return s.size() < 2; });

  // One connected part only: without common points two parts have no common scale.
  {
    std::vector<std::uint32_t> parent(photos);
    std::iota(parent.begin(), parent.end(), 0u);
    const auto root = [&](std::uint32_t i) {
      while (parent[i] != i) i = parent[i] = parent[parent[i]];
      return i;
    };
    for (const auto& s : sights)
      for (const Sight& o : s) parent[root(o.photo)] = root(s.front().photo);
    std::vector<std::size_t> size(photos, 0);
    for (std::uint32_t i = 0; i < photos; ++i)
      if (taken[i]) ++size[root(i)];
    const auto largest = static_cast<std::uint32_t>(std::max_element(size.begin(), size.end()) - size.begin());
    for (std::uint32_t i = 0; i < photos; ++i) taken[i] = taken[i] && root(i) == largest;
    std::erase_if(sights, [&](const auto& s) { return !taken[s.front().photo]; });
  }

  // Pattern of the system.
  std::vector<std::uint32_t> row_of(photos, TrackSet::kNone), photo_of;
  for (std::uint32_t i = 0; i < photos; ++i)
    if (taken[i]) row_of[i] = static_cast<std::uint32_t>(photo_of.size()), photo_of.push_back(i);
  const std::size_t rows = photo_of.size();
  std::vector<Vector3d> centres(photos, Vector3d::Zero());
  if (rows < 2) return centres;
  std::vector<std::vector<std::uint32_t>> tracks_of_row(rows);
  for (std::uint32_t k = 0; k < sights.size(); ++k)
    for (const Sight& s : sights[k]) tracks_of_row[row_of[s.photo]].push_back(k);
  CentreSystem system;
  system.columns.resize(rows);
  system.blocks.resize(rows);
  input.executor.blocks(rows, 16, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t r = begin; r < end; ++r) {
      auto& columns = system.columns[r];
      columns.push_back(static_cast<std::uint32_t>(r));
      for (const std::uint32_t k : tracks_of_row[r])
        for (const Sight& s : sights[k])
          if (row_of[s.photo] > r) columns.push_back(row_of[s.photo]);
      std::sort(columns.begin(), columns.end());
      columns.erase(std::unique(columns.begin(), columns.end()), columns.end());
      system.blocks[r].resize(columns.size());
    }
  });

  std::vector<Vector3d> points(sights.size(), Vector3d::Zero());
  std::vector<std::vector<double>> depth(sights.size()), weight(sights.size());  // inverse distances
  for (std::size_t k = 0; k < sights.size(); ++k)
    depth[k].assign(sights[k].size(), 1.0), weight[k].assign(sights[k].size(), 1.0);
  Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>> solver;
  bool analysed = false;
  std::vector<Matrix3d> point_inverse(points.size());
  std::vector<Vector3d> point_right(points.size());

  for (int round = 0; round < kLinearRounds + kFineRounds; ++round) {
    input.monitor.check();
    input.monitor.progress("place photos", static_cast<std::size_t>(round), kLinearRounds + kFineRounds);
    const bool fine = round >= kLinearRounds;
    // Depths and weights as they are now.
    const double width = fine ? std::max(0.004, 0.05 * std::pow(0.85, round - kLinearRounds))
                              : 0.25;  // sine at which an observation counts half
    // What an observation asks of the difference u of point and centre: weight A, towards b.
    const auto wanted = [&](std::size_t k, std::size_t o, Matrix3d& a, Vector3d& b) {
      const Sight& s = sights[k][o];
      const Vector3d u = points[k] - centres[s.photo];
      const double d = depth[k][o], w = weight[k][o];
      if (!fine) {
        a = w * d * d * Matrix3d::Identity();
        b = w * d * s.direction - a * u;
        return;
      }
      const Vector3d along = u.normalized();
      const Matrix3d across = Matrix3d::Identity() - along * along.transpose();
      a = w * d * d * across;
      b = w * d * (across * s.direction);
    };
    input.executor.blocks(points.size(), 256, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k) {
        Matrix3d sum = Matrix3d::Zero();
        point_right[k].setZero();
        for (std::size_t o = 0; o < sights[k].size(); ++o) {
          const Vector3d u = points[k] - centres[sights[k][o].photo];
          const double length2 = u.squaredNorm(), towards = sights[k][o].direction.dot(u);
          if (round > 0) {
            // Not behind the photo, not at its centre, and no farther than a few times the rest.
            depth[k][o] = std::clamp(towards / std::max(length2, 1e-12), 0.05, 20.0);
            const double error2 = (sights[k][o].direction - depth[k][o] * u).squaredNorm();
            weight[k][o] = 1 / (1 + error2 / (width * width));
          }
          Matrix3d a;
          Vector3d b;
          wanted(k, o, a, b);
          sum += a;
          point_right[k] += b;
        }
        sum.diagonal().array() += 1e-6 * sum.trace() + 1e-12;
        point_inverse[k] = sum.inverse();
      }
    });
    system.right = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(3 * rows));
    input.executor.blocks(rows, 8, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t r = begin; r < end; ++r) {
        for (Matrix3d& m : system.blocks[r]) m.setZero();
        Vector3d right = Vector3d::Zero();
        for (const std::uint32_t k : tracks_of_row[r]) {
          Matrix3d own = Matrix3d::Zero(), a;
          Vector3d b;
          for (std::size_t o = 0; o < sights[k].size(); ++o) {
            if (row_of[sights[k][o].photo] != r) continue;
            wanted(k, o, a, b);
            own += a;
            right -= b;
          }
          const Matrix3d left = own * point_inverse[k];
          right += left * point_right[k];
          system.blocks[r][0] += own;
          for (std::size_t o = 0; o < sights[k].size(); ++o) {
            const std::uint32_t c = row_of[sights[k][o].photo];
            if (c < r) continue;
            wanted(k, o, a, b);
            const auto at =
                std::lower_bound(system.columns[r].begin(), system.columns[r].end(), c) - system.columns[r].begin();
            system.blocks[r][static_cast<std::size_t>(at)] -= left * a;
          }
        }
        system.right.segment<3>(static_cast<Eigen::Index>(3 * r)) = right;
      }
    });
    std::vector<Eigen::Triplet<double>> entries;
    for (std::size_t r = 0; r < rows; ++r)
      for (std::size_t k = 0; k < system.columns[r].size(); ++k)
        for (int i = 0; i < 3; ++i)
          for (int j = 0; j < 3; ++j) {
            const auto row = static_cast<int>(3 * r) + i, column = static_cast<int>(3 * system.columns[r][k]) + j;
            if (column < row) continue;
            double value = system.blocks[r][k](i, j);
            if (row == column) value += (fine ? 1e-3 : 1e-6) * std::abs(value) + 1e-9;
            entries.emplace_back(column, row, value);
          }
    Eigen::SparseMatrix<double> matrix(static_cast<Eigen::Index>(3 * rows), static_cast<Eigen::Index>(3 * rows));
    matrix.setFromTriplets(entries.begin(), entries.end());
    if (!analysed) solver.analyzePattern(matrix);
    analysed = true;
    solver.factorize(matrix);
    if (solver.info() != Eigen::Success) break;
    const Eigen::VectorXd step = solver.solve(system.right);
    if (!step.allFinite()) break;
    std::vector<Vector3d> moved(photos, Vector3d::Zero());
    for (std::size_t r = 0; r < rows; ++r) moved[photo_of[r]] = step.segment<3>(static_cast<Eigen::Index>(3 * r));
    input.executor.blocks(points.size(), 256, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k) {
        Vector3d right = point_right[k];
        Matrix3d a;
        Vector3d b;
        for (std::size_t o = 0; o < sights[k].size(); ++o) {
          wanted(k, o, a, b);
          right += a * moved[sights[k][o].photo];
        }
        points[k] += point_inverse[k] * right;  // reads the old centres only
      }
    });
    for (std::size_t i = 0; i < photos; ++i) centres[i] += moved[i];
    // Middle and scale stay where they are.
    Vector3d middle = Vector3d::Zero();
    for (const std::uint32_t i : photo_of) middle += centres[i];
    middle /= static_cast<double>(rows);
    double distance = 0;
    std::size_t count = 0;
    for (std::size_t k = 0; k < points.size(); ++k)
      for (const Sight& s : sights[k])
        distance += std::log(std::max(1e-9, (points[k] - centres[s.photo]).norm())), ++count;
    const double scale = std::exp(-distance / static_cast<double>(count));
    for (const std::uint32_t i : photo_of) centres[i] = scale * (centres[i] - middle);
    for (Vector3d& p : points) p = scale * (p - middle);
    double largest = 0;
    for (const Vector3d& m : moved) largest = std::max(largest, m.norm());
    if (fine && width <= 0.004 && scale * largest < 1e-5) break;
  }
  input.monitor.progress("place photos", kLinearRounds + kFineRounds, kLinearRounds + kFineRounds);
  return centres;
}

}  // namespace icefield
