#include "src/orient/positions.h"

#include <algorithm>
#include <cmath>

#include "icefield/base/statistics.h"
#include "src/orient/sparse_solver.h"

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

// Alternates between depths and weights of the observations and a linear system for centres and points.
class PositionSolver {
 public:
  PositionSolver(const OrientInput& input, const TrackSet& set, const std::vector<Camera>& cameras,
                 const std::vector<Eigen::Quaterniond>& orientations, std::vector<std::uint8_t>& taken)
      : input_(input), taken_(taken), centres_(taken.size(), Vector3d::Zero()) {
    collect_sights(set, cameras, orientations);
    keep_largest_part();
    row_of_.assign(taken.size(), TrackSet::kNone);
    for (std::uint32_t i = 0; i < taken.size(); ++i)
      if (taken[i]) row_of_[i] = static_cast<std::uint32_t>(photo_of_.size()), photo_of_.push_back(i);
    lay_out_system();
  }

  std::vector<Vector3d> solve() {
    if (rows() < 2) return centres_;
    SparseSolver solver(3 * rows());
    for (int round = 0; round < kLinearRounds + kFineRounds; ++round) {
      input_.monitor.check();
      input_.monitor.progress("place photos", static_cast<std::size_t>(round), kLinearRounds + kFineRounds);
      fine_ = round >= kLinearRounds;
      width_ = fine_ ? std::max(0.004, 0.05 * std::pow(0.85, round - kLinearRounds)) : 0.25;
      weigh_observations(round > 0);
      eliminate_points();
      if (!solver.factorise(entries())) break;
      const Eigen::VectorXd step = solver.solve(right_);
      if (!step.allFinite()) break;
      const double largest = apply(step), scale = keep_middle_and_scale();
      if (fine_ && width_ <= 0.004 && scale * largest < 1e-5) break;
    }
    input_.monitor.progress("place photos", kLinearRounds + kFineRounds, kLinearRounds + kFineRounds);
    return std::move(centres_);
  }

 private:
  std::size_t rows() const { return photo_of_.size(); }

  void collect_sights(const TrackSet& set, const std::vector<Camera>& cameras,
                      const std::vector<Eigen::Quaterniond>& orientations) {
    const std::vector<std::uint32_t> chosen = choose_tracks(set, taken_);
    sights_.resize(chosen.size());
    input_.executor.blocks(chosen.size(), 256, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k)
        for (const Tracks::Element& e : set.tracks.track(TrackIndex(chosen[k]))) {
          if (!taken_[e.photo.value]) continue;
          const auto d =
              unproject(cameras[input_.photos[e.photo.value].camera.value], input_.pixel(e.photo, e.feature));
          if (d)
            sights_[k].push_back(
                {e.photo.value, orientations[e.photo.value].conjugate() * d->homogeneous().normalized()});
        }
    });
    std::erase_if(sights_, [](const auto& s) { return s.size() < 2; });
  }

  // Without common points two parts have no common scale.
  void keep_largest_part() {
    UnionFind parts(taken_.size());
    for (const auto& s : sights_)
      for (const Sight& o : s) parts.join(o.photo, s.front().photo);
    std::vector<std::size_t> size(taken_.size(), 0);
    for (std::uint32_t i = 0; i < taken_.size(); ++i)
      if (taken_[i]) ++size[parts.find(i)];
    const auto largest = static_cast<std::uint32_t>(std::max_element(size.begin(), size.end()) - size.begin());
    for (std::uint32_t i = 0; i < taken_.size(); ++i) taken_[i] = taken_[i] && parts.find(i) == largest;
    std::erase_if(sights_, [&](const auto& s) { return !taken_[s.front().photo]; });
  }

  // The pattern of the system of the centres, and room for what is alternated.
  void lay_out_system() {
    tracks_of_row_.resize(rows());
    for (std::uint32_t k = 0; k < sights_.size(); ++k)
      for (const Sight& s : sights_[k]) tracks_of_row_[row_of_[s.photo]].push_back(k);
    columns_.resize(rows());
    blocks_.resize(rows());
    input_.executor.blocks(rows(), 16, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t r = begin; r < end; ++r) {
        auto& columns = columns_[r];
        columns.push_back(static_cast<std::uint32_t>(r));
        for (const std::uint32_t k : tracks_of_row_[r])
          for (const Sight& s : sights_[k])
            if (row_of_[s.photo] > r) columns.push_back(row_of_[s.photo]);
        std::sort(columns.begin(), columns.end());
        columns.erase(std::unique(columns.begin(), columns.end()), columns.end());
        blocks_[r].resize(columns.size());
      }
    });
    points_.assign(sights_.size(), Vector3d::Zero());
    depth_.resize(sights_.size());
    weight_.resize(sights_.size());
    for (std::size_t k = 0; k < sights_.size(); ++k)
      depth_[k].assign(sights_[k].size(), 1.0), weight_[k].assign(sights_[k].size(), 1.0);
    point_inverse_.resize(points_.size());
    point_right_.resize(points_.size());
  }

  // What an observation asks of the difference u of point and centre: weight A, towards b.
  void wanted(std::size_t k, std::size_t o, Matrix3d& a, Vector3d& b) const {
    const Sight& s = sights_[k][o];
    const Vector3d u = points_[k] - centres_[s.photo];
    const double d = depth_[k][o], w = weight_[k][o];
    if (!fine_) {
      a = w * d * d * Matrix3d::Identity();
      b = w * d * s.direction - a * u;
      return;
    }
    const Vector3d along = u.normalized();
    const Matrix3d across = Matrix3d::Identity() - along * along.transpose();
    a = w * d * d * across;
    b = w * d * (across * s.direction);
  }

  // Depths (where there are places to take them from) and weights as they are now; the points' own part of the system.
  void weigh_observations(bool placed) {
    input_.executor.blocks(points_.size(), 256, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k) {
        Matrix3d sum = Matrix3d::Zero();
        point_right_[k].setZero();
        for (std::size_t o = 0; o < sights_[k].size(); ++o) {
          const Vector3d u = points_[k] - centres_[sights_[k][o].photo];
          const double length2 = u.squaredNorm(), towards = sights_[k][o].direction.dot(u);
          if (placed) {
            // Not behind the photo, not at its centre, and no farther than a few times the rest.
            depth_[k][o] = std::clamp(towards / std::max(length2, 1e-12), 0.05, 20.0);
            const double error2 = (sights_[k][o].direction - depth_[k][o] * u).squaredNorm();
            weight_[k][o] = 1 / (1 + error2 / (width_ * width_));
          }
          Matrix3d a;
          Vector3d b;
          wanted(k, o, a, b);
          sum += a;
          point_right_[k] += b;
        }
        sum.diagonal().array() += 1e-6 * sum.trace() + 1e-12;
        point_inverse_[k] = sum.inverse();
      }
    });
  }

  void eliminate_points() {
    right_ = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(3 * rows()));
    input_.executor.blocks(rows(), 8, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t r = begin; r < end; ++r) {
        for (Matrix3d& m : blocks_[r]) m.setZero();
        Vector3d right = Vector3d::Zero();
        for (const std::uint32_t k : tracks_of_row_[r]) {
          Matrix3d own = Matrix3d::Zero(), a;
          Vector3d b;
          for (std::size_t o = 0; o < sights_[k].size(); ++o) {
            if (row_of_[sights_[k][o].photo] != r) continue;
            wanted(k, o, a, b);
            own += a;
            right -= b;
          }
          const Matrix3d left = own * point_inverse_[k];
          right += left * point_right_[k];
          blocks_[r][0] += own;
          for (std::size_t o = 0; o < sights_[k].size(); ++o) {
            const std::uint32_t c = row_of_[sights_[k][o].photo];
            if (c < r) continue;
            wanted(k, o, a, b);
            const auto at = std::lower_bound(columns_[r].begin(), columns_[r].end(), c) - columns_[r].begin();
            blocks_[r][static_cast<std::size_t>(at)] -= left * a;
          }
        }
        right_.segment<3>(static_cast<Eigen::Index>(3 * r)) = right;
      }
    });
  }

  std::vector<Eigen::Triplet<double>> entries() const {
    std::vector<Eigen::Triplet<double>> entries;
    for (std::size_t r = 0; r < rows(); ++r)
      for (std::size_t k = 0; k < columns_[r].size(); ++k)
        for (int i = 0; i < 3; ++i)
          for (int j = 0; j < 3; ++j) {
            const auto row = static_cast<int>(3 * r) + i, column = static_cast<int>(3 * columns_[r][k]) + j;
            if (column < row) continue;
            double value = blocks_[r][k](i, j);
            if (row == column) value += (fine_ ? 1e-3 : 1e-6) * std::abs(value) + 1e-9;
            entries.emplace_back(column, row, value);
          }
    return entries;
  }

  // Returns the longest way that a photo went.
  double apply(const Eigen::VectorXd& step) {
    std::vector<Vector3d> moved(centres_.size(), Vector3d::Zero());
    for (std::size_t r = 0; r < rows(); ++r) moved[photo_of_[r]] = step.segment<3>(static_cast<Eigen::Index>(3 * r));
    input_.executor.blocks(points_.size(), 256, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k) {
        Vector3d right = point_right_[k];
        Matrix3d a;
        Vector3d b;
        for (std::size_t o = 0; o < sights_[k].size(); ++o) {
          wanted(k, o, a, b);
          right += a * moved[sights_[k][o].photo];
        }
        points_[k] += point_inverse_[k] * right;  // reads the old centres only
      }
    });
    double largest = 0;
    for (std::size_t i = 0; i < centres_.size(); ++i)
      centres_[i] += moved[i], largest = std::max(largest, moved[i].norm());
    return largest;
  }

  // Middle and scale stay where they are. Returns what all was multiplied by.
  double keep_middle_and_scale() {
    Vector3d middle = Vector3d::Zero();
    for (const std::uint32_t i : photo_of_) middle += centres_[i];
    middle /= static_cast<double>(rows());
    double distance = 0;
    std::size_t count = 0;
    for (std::size_t k = 0; k < points_.size(); ++k)
      for (const Sight& s : sights_[k])
        distance += std::log(std::max(1e-9, (points_[k] - centres_[s.photo]).norm())), ++count;
    const double scale = std::exp(-distance / static_cast<double>(count));
    for (const std::uint32_t i : photo_of_) centres_[i] = scale * (centres_[i] - middle);
    for (Vector3d& p : points_) p = scale * (p - middle);
    return scale;
  }

  const OrientInput& input_;
  std::vector<std::uint8_t>& taken_;
  std::vector<Vector3d> centres_;                    // by photo
  std::vector<std::vector<Sight>> sights_;           // by chosen track
  std::vector<Vector3d> points_;                     // the same
  std::vector<std::vector<double>> depth_, weight_;  // of each observation; depth: inverse distance
  std::vector<Matrix3d> point_inverse_;
  std::vector<Vector3d> point_right_;
  bool fine_ = false;
  double width_ = 0.25;  // sine at which an observation counts half

  // The system of the centres after the points are eliminated: rows by photo that takes part, in blocks of three.
  std::vector<std::uint32_t> row_of_, photo_of_;
  std::vector<std::vector<std::uint32_t>> tracks_of_row_;
  std::vector<std::vector<std::uint32_t>> columns_;  // of each row, ascending, from the diagonal on
  std::vector<std::vector<Matrix3d>> blocks_;
  Eigen::VectorXd right_;
};

}  // namespace

std::vector<Vector3d> solve_positions(const OrientInput& input, const TrackSet& set, const std::vector<Camera>& cameras,
                                      const std::vector<Eigen::Quaterniond>& orientations,
                                      std::vector<std::uint8_t>& taken) {
  return PositionSolver(input, set, cameras, orientations, taken).solve();
}

}  // namespace icefield
