#include "src/adjust/normal_equations.h"

#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>
#include <limits>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "src/adjust/check_problem.h"
#include "src/adjust/loss.h"
#include "src/camera/formula.h"

namespace icefield {
namespace {

constexpr std::size_t kPointGrain = 256;
constexpr std::size_t kCameraGrain = 4096;

using Packet = Eigen::internal::packet_traits<double>::type;
constexpr int kLanes = Eigen::internal::packet_traits<double>::size;
static_assert(4 % kLanes == 0, "blocks are padded to four columns");

// block (rows x 4 N) += a^T (g b), where a is 2 x rows, b 2 x 4 N, and g 2 x 2 by rows.
template <int N>
void add_product(double* block, int rows, const double* a0, const double* a1, const double* g, const double* b0,
                 const double* b1) {
  using namespace Eigen::internal;
  constexpr int kPackets = 4 * N / kLanes;
  Packet first[kPackets], second[kPackets];
  for (int k = 0; k < kPackets; ++k) {
    const Packet u = ploadu<Packet>(b0 + k * kLanes), v = ploadu<Packet>(b1 + k * kLanes);
    first[k] = pmadd(pset1<Packet>(g[1]), v, pmul(pset1<Packet>(g[0]), u));
    second[k] = pmadd(pset1<Packet>(g[3]), v, pmul(pset1<Packet>(g[2]), u));
  }
  for (int r = 0; r < rows; ++r, block += 4 * N) {
    const Packet u = pset1<Packet>(a0[r]), v = pset1<Packet>(a1[r]);
    for (int k = 0; k < kPackets; ++k)
      pstoreu(block + k * kLanes, pmadd(v, second[k], pmadd(u, first[k], ploadu<Packet>(block + k * kLanes))));
  }
}

void add_product(double* block, int rows, int padded, const double* a0, const double* a1, const double* g,
                 const double* b0, const double* b1) {
  switch (padded / 4) {
    case 1:
      return add_product<1>(block, rows, a0, a1, g, b0, b1);
    case 2:
      return add_product<2>(block, rows, a0, a1, g, b0, b1);
    case 3:
      return add_product<3>(block, rows, a0, a1, g, b0, b1);
    case 4:
      return add_product<4>(block, rows, a0, a1, g, b0, b1);
    default:
      break;
  }
  static_assert(kMaxNodeUnknowns <= 20);
  add_product<5>(block, rows, a0, a1, g, b0, b1);
}

// Sums over the observations of a photo, for its own unknowns: what its gradient, right side and diagonal are made of.
struct PhotoSums {
  alignas(32) double gradient[20] = {}, right[20] = {}, direct[20] = {};
  void add(int padded, const double* a0, const double* a1, double r0, double r1, double t0, double t1) {
    using namespace Eigen::internal;
    const Packet pr0 = pset1<Packet>(r0), pr1 = pset1<Packet>(r1), pt0 = pset1<Packet>(t0), pt1 = pset1<Packet>(t1);
    for (int k = 0; k < padded; k += kLanes) {
      const Packet u = ploadu<Packet>(a0 + k), v = ploadu<Packet>(a1 + k);
      pstoreu(gradient + k, pmadd(u, pr0, pmadd(v, pr1, ploadu<Packet>(gradient + k))));
      pstoreu(right + k, pmadd(u, pt0, pmadd(v, pt1, ploadu<Packet>(right + k))));
      pstoreu(direct + k, pmadd(u, u, pmadd(v, v, ploadu<Packet>(direct + k))));
    }
  }
};

constexpr int kMaxPadded = (kMaxNodeUnknowns + 3) / 4 * 4;

Eigen::Vector3d floored_diagonal(const Eigen::Matrix3d& hessian) {
  const Eigen::Vector3d d = hessian.diagonal();
  return d.cwiseMax(1e-12 * d.maxCoeff() + 1e-30);
}

}  // namespace

struct NormalEquations::PhotoView {
  Eigen::Matrix3d rotation;
  Eigen::Vector3d centre;
  const Camera* camera;
};

NormalEquations::NormalEquations(const Block& block, const AdjustOptions& options, const Executor& executor)
    : block_(check_problem(block, options)),
      options_(options),
      executor_(executor),
      width2_(options.loss_width_px * options.loss_width_px),
      unknowns_(number_unknowns(block, options)) {
  lay_out_records();
  order_points();
  list_observations_by_photo();
  list_shared_cameras();
  find_what_is_known();
  if (options.loss_width_sigmas > 0) {
    const double sigma = residual_sigma(block);
    if (sigma > 0) width2_ = std::pow(options.loss_width_sigmas * sigma, 2);
  }
  matrix_ = BlockMatrix(unknowns_.graph);
  right_.setZero(matrix_.unknowns());
  gradient_ = diagonal_ = right_;
}

void NormalEquations::lay_out_records() {
  const auto size_of = [&](std::int32_t node) {
    return node < 0 ? std::size_t{0} : static_cast<std::size_t>(unknowns_.graph.sizes[static_cast<std::size_t>(node)]);
  };
  std::size_t largest = 0, largest_camera = 0;
  for (std::size_t i = 0; i < block_.photos.size(); ++i) {
    largest = std::max(largest, size_of(unknowns_.photo_node[i]));
    largest_camera = std::max(largest_camera, size_of(unknowns_.camera_node[block_.photos[i].camera.value]));
  }
  camera_at_.assign(block_.photos.size(), kA + 2 * largest);
  stride_ = kA + 2 * largest + 2 * largest_camera;
  const std::size_t slack = 4;  // rows are read in fours
  records_ = std::make_unique_for_overwrite<double[]>(stride_ * block_.observations.size() + slack);
  std::fill_n(records_.get() + stride_ * block_.observations.size(), slack, 0.0);
}

// Points stand by the node of theirs that is eliminated first, so that neighbours in the system are neighbours in
// memory.
void NormalEquations::order_points() {
  const auto first_node = [&](std::size_t point) {
    std::int32_t first = std::numeric_limits<std::int32_t>::max();
    for (const Observation& o : block_.of_point(point))
      if (unknowns_.photo_node[o.photo] >= 0) first = std::min(first, unknowns_.photo_node[o.photo]);
    return first;
  };
  std::vector<std::pair<std::int32_t, std::uint32_t>> keys(block_.points.size());
  for (std::size_t i = 0; i < keys.size(); ++i) keys[i] = {first_node(i), static_cast<std::uint32_t>(i)};
  std::sort(keys.begin(), keys.end());
  points_.resize(block_.points.size());
  point_steps_.resize(block_.points.size());
  starts_.push_back(0);
  for (const auto& [key, point] : keys) {
    place_of_point_.push_back(point);
    for (const Observation& o : block_.of_point(point)) {
      photo_of_.push_back(o.photo);
      pixel_of_.push_back(o.pixel);
      point_of_.push_back(static_cast<std::uint32_t>(starts_.size() - 1));
      if (o.sigma_px > 0) {
        weight_of_.resize(block_.observations.size(), 1.0);
        weight_of_[photo_of_.size() - 1] = options_.observation_sigma_px / static_cast<double>(o.sigma_px);
      }
    }
    starts_.push_back(photo_of_.size());
  }
}

void NormalEquations::list_observations_by_photo() {
  photo_starts_.assign(block_.photos.size() + 1, 0);
  for (const std::uint32_t photo : photo_of_) ++photo_starts_[photo + 1];
  for (std::size_t i = 0; i < block_.photos.size(); ++i) photo_starts_[i + 1] += photo_starts_[i];
  photo_observations_.resize(photo_of_.size());
  auto next = photo_starts_;
  for (std::uint64_t o = 0; o < photo_of_.size(); ++o) photo_observations_[next[photo_of_[o]]++] = o;
  for (std::size_t n = 0; n < unknowns_.node_item.size(); ++n)
    if (unknowns_.node_kind[n] == Unknowns::Kind::photo) photos_in_order_.push_back(unknowns_.node_item[n]);
}

// Which shared cameras see a point.
void NormalEquations::list_shared_cameras() {
  by_camera_.resize(block_.cameras.size());
  point_camera_starts_.push_back(0);
  std::uint64_t place = 0;
  for (std::size_t i = 0; i < points_.size(); ++i) {
    const std::size_t first = point_cameras_.size();
    for (std::uint64_t o = starts_[i]; o < starts_[i + 1]; ++o) {
      const std::uint32_t c = block_.photos[photo_of_[o]].camera.value;
      const std::int32_t node = unknowns_.camera_node[c];
      if (node < 0 || std::find(point_cameras_.begin() + static_cast<std::ptrdiff_t>(first), point_cameras_.end(),
                                static_cast<std::uint32_t>(node)) != point_cameras_.end())
        continue;
      by_camera_[c].push_back(point_cameras_.size());
      point_cameras_.push_back(static_cast<std::uint32_t>(node));
      camera_point_.push_back(static_cast<std::uint32_t>(i));
      point_camera_places_.push_back(place);
      place += 3 * static_cast<std::uint64_t>((unknowns_.graph.sizes[static_cast<std::size_t>(node)] + 3) / 4 * 4);
    }
    point_camera_starts_.push_back(point_cameras_.size());
  }
  point_camera_values_.assign(place, 0.0);
}

// Points with known places, and those that scale bars end at.
void NormalEquations::find_what_is_known() {
  if (!options_.point_priors.empty()) {
    known_points_.assign(points_.size(), -1);
    std::vector<std::int32_t> prior_of(points_.size(), -1);
    for (std::size_t k = 0; k < options_.point_priors.size(); ++k)
      prior_of[options_.point_priors[k].point] = static_cast<std::int32_t>(k);
    for (std::size_t i = 0; i < points_.size(); ++i) known_points_[i] = prior_of[place_of_point_[i]];
  }
  for (std::size_t i = 0; i < points_.size(); ++i)
    if (point_node(i) >= 0) kept_points_.push_back(static_cast<std::uint32_t>(i));
  if (options_.scale_bars.empty()) return;
  std::vector<std::uint32_t> at(points_.size());  // of each point of the block in the equations' order
  for (std::size_t i = 0; i < at.size(); ++i) at[place_of_point_[i]] = static_cast<std::uint32_t>(i);
  for (const ScaleBar& bar : options_.scale_bars) bar_ends_.emplace_back(at[bar.first], at[bar.second]);
}

AdjustState NormalEquations::start() const {
  AdjustState state{block_.cameras, {}, {}};
  for (const PosedPhoto& photo : block_.photos) state.poses.push_back(photo.pose);
  for (const std::uint32_t point : place_of_point_) state.points.push_back(block_.points[point]);
  return state;
}

Block NormalEquations::block_at(const AdjustState& state) const {
  Block block = block_;
  block.cameras = state.cameras;
  for (std::size_t i = 0; i < state.poses.size(); ++i) block.photos[i].pose = state.poses[i];
  for (std::size_t i = 0; i < state.points.size(); ++i) block.points[place_of_point_[i]] = state.points[i];
  return block;
}

std::vector<NormalEquations::PhotoView> NormalEquations::views(const AdjustState& state) const {
  std::vector<PhotoView> result;
  result.reserve(block_.photos.size());
  for (std::size_t i = 0; i < block_.photos.size(); ++i)
    result.push_back({state.poses[i].rotation(), state.poses[i].centre, &state.cameras[block_.photos[i].camera.value]});
  return result;
}

std::pair<double, double> NormalEquations::cost(const AdjustState& state) const {
  // A point that went behind a photo costs more than any that it could gain.
  constexpr double kBehind = 1e8;
  const std::vector<PhotoView> photos = views(state);
  std::vector<std::pair<double, double>> parts(block_count(points_.size(), kPointGrain));
  executor_.blocks(points_.size(), kPointGrain, [&](std::size_t part, std::size_t begin, std::size_t end) {
    double robust = 0, plain = 0;
    for (std::size_t i = begin; i < end; ++i)
      for (std::uint64_t o = starts_[i]; o < starts_[i + 1]; ++o) {
        const PhotoView& view = photos[photo_of_[o]];
        bool sound = false;
        const Eigen::Vector2d pixel =
            project_by_formula(*view.camera, view.rotation * (state.points[i] - view.centre), sound);
        const double e2 = sound || !options_.check_depth ? (pixel_of_[o] - pixel).squaredNorm() : kBehind;
        const double own = weight_of_.empty() ? 1.0 : weight_of_[o];
        robust += loss_value(options_.loss, width2_, own * own * e2);
        plain += e2;
      }
    parts[part] = {robust, plain};
  });
  double robust = 0, plain = 0;
  for (const auto& [a, b] : parts) robust += a, plain += b;
  const double variance = options_.observation_sigma_px * options_.observation_sigma_px;
  for (const CameraPriorTerm& prior : options_.priors) {
    const double d =
        (state.cameras[prior.camera.value].parameters[static_cast<std::size_t>(prior.parameter)] - prior.value) /
        prior.sigma;
    robust += d * d * variance;
  }
  for (const PositionPrior& prior : options_.position_priors) {
    const Eigen::Vector3d d = prior.position - state.poses[prior.photo].centre;
    robust += variance * d.dot(prior.covariance.llt().solve(d));
  }
  for (std::size_t i = 0; i < known_points_.size(); ++i)
    if (const PointPrior* prior = known_point(i)) {
      const Eigen::Vector3d d = prior->position - state.points[i];
      robust += variance * d.dot(prior->covariance.llt().solve(d));
    }
  for (std::size_t b = 0; b < bar_ends_.size(); ++b) {
    const ScaleBar& bar = options_.scale_bars[b];
    const double d =
        (bar.length - (state.points[bar_ends_[b].first] - state.points[bar_ends_[b].second]).norm()) / bar.sigma;
    robust += variance * d * d;
  }
  for (const DirectionPrior& prior : options_.direction_priors)
    robust += variance / (prior.sigma * prior.sigma) *
              (prior.seen - state.poses[prior.photo].orientation * prior.direction).squaredNorm();
  return {0.5 * robust, plain};
}

void NormalEquations::linearise(const AdjustState& state) {
  using Row3 = Eigen::Map<Eigen::Matrix<double, 2, 3, Eigen::RowMajor>>;
  const std::vector<PhotoView> photos = views(state);
  executor_.blocks(points_.size(), kPointGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    Eigen::Matrix<double, 2, 3> d_point;
    Matrix2xParameters d_camera = Matrix2xParameters::Zero();
    for (std::size_t i = begin; i < end; ++i) {
      PointSystem& system = points_[i];
      system.hessian.setZero();
      system.gradient.setZero();
      if (const PointPrior* prior = known_point(i)) {
        system.hessian = options_.observation_sigma_px * options_.observation_sigma_px * prior->covariance.inverse();
        system.gradient = system.hessian * (prior->position - state.points[i]);
      }
      for (std::uint64_t o = starts_[i]; o < starts_[i + 1]; ++o) {
        const std::uint32_t photo = photo_of_[o];
        const PhotoView& view = photos[photo];
        double* const out = record(o);
        const Eigen::Vector3d p = view.rotation * (state.points[i] - view.centre);
        bool sound = false;
        Eigen::Vector2d residual = pixel_of_[o] - project_by_formula(*view.camera, p, sound, d_point, d_camera);
        if (!sound && options_.check_depth) {
          std::fill(out, out + stride_, 0.0);
          continue;
        }
        const double own = weight_of_.empty() ? 1.0 : weight_of_[o];
        const double weight = own * std::sqrt(loss_weight(options_.loss, width2_, own * own * residual.squaredNorm()));
        if (weight != 1) {
          residual *= weight;
          d_point *= weight;
        }
        out[kResidual] = residual.x(), out[kResidual + 1] = residual.y();
        Row3 by_point(out + kB);
        by_point.noalias() = d_point * view.rotation;
        const Eigen::Matrix3d h = by_point.transpose() * by_point;
        system.hessian += h;
        system.gradient += by_point.transpose() * residual;

        const std::int32_t node = unknowns_.photo_node[photo];
        const std::uint32_t c = block_.photos[photo].camera.value;
        const std::vector<int>& free = unknowns_.free[c];
        if (node >= 0) {
          const int size = unknowns_.graph.sizes[static_cast<std::size_t>(node)];
          for (int r = 0; r < 2; ++r) {
            double* const a = out + kA + r * size;
            // By the rotation vector: d [w]x p = -d [p]x w, which is the row p x d.
            a[0] = d_point(r, 2) * p.y() - d_point(r, 1) * p.z();
            a[1] = d_point(r, 0) * p.z() - d_point(r, 2) * p.x();
            a[2] = d_point(r, 1) * p.x() - d_point(r, 0) * p.y();
            for (int k = 0; k < 3; ++k) a[3 + k] = -by_point(r, k);
            if (unknowns_.own_camera[photo])
              for (std::size_t k = 0; k < free.size(); ++k) a[6 + k] = weight * d_camera(r, free[k]);
          }
        }
        if (unknowns_.camera_node[c] >= 0)
          for (int r = 0; r < 2; ++r)
            for (std::size_t k = 0; k < free.size(); ++k)
              out[camera_at_[photo] + static_cast<std::size_t>(r) * free.size() + k] = weight * d_camera(r, free[k]);
      }
    }
  });
  add_priors(state);
}

void NormalEquations::add_priors(const AdjustState& state) {
  const double variance = options_.observation_sigma_px * options_.observation_sigma_px;
  prior_terms_.clear();
  prior_gradient_.clear();
  for (const CameraPriorTerm& prior : options_.priors) {
    const std::uint32_t c = prior.camera.value;
    const auto& free = unknowns_.free[c];
    const auto found = std::find(free.begin(), free.end(), prior.parameter);
    if (found == free.end()) continue;
    std::int32_t node = unknowns_.camera_node[c];
    int at = static_cast<int>(found - free.begin());
    if (node < 0) {  // the camera of one photo
      for (std::size_t i = 0; i < block_.photos.size(); ++i)
        if (block_.photos[i].camera.value == c) node = unknowns_.photo_node[i];
      at += 6;
    }
    const double weight = variance / (prior.sigma * prior.sigma);
    prior_terms_.push_back({static_cast<std::uint32_t>(node), at, at, weight});
    prior_gradient_.push_back(
        {static_cast<std::uint32_t>(node), at, at,
         weight * (prior.value - state.cameras[c].parameters[static_cast<std::size_t>(prior.parameter)])});
  }
  for (const PositionPrior& prior : options_.position_priors) {
    const std::int32_t node = unknowns_.photo_node[prior.photo];
    if (node < 0) continue;
    const Eigen::Matrix3d information = variance * prior.covariance.inverse();
    const Eigen::Vector3d pull = information * (prior.position - state.poses[prior.photo].centre);
    for (int r = 0; r < 3; ++r) {
      for (int c = 0; c < 3; ++c)
        prior_terms_.push_back({static_cast<std::uint32_t>(node), 3 + r, 3 + c, information(r, c)});
      prior_gradient_.push_back({static_cast<std::uint32_t>(node), 3 + r, 3 + r, pull[r]});
    }
  }
  for (const DirectionPrior& prior : options_.direction_priors) {
    const std::int32_t node = unknowns_.photo_node[prior.photo];
    if (node < 0) continue;
    const Eigen::Vector3d now = state.poses[prior.photo].orientation * prior.direction;
    const Eigen::Matrix3d slope = -skew(now);  // by the rotation vector
    const double weight = variance / (prior.sigma * prior.sigma);
    const Eigen::Matrix3d information = weight * slope.transpose() * slope;
    const Eigen::Vector3d pull = weight * slope.transpose() * (prior.seen - now);
    for (int r = 0; r < 3; ++r) {
      for (int c = 0; c < 3; ++c) prior_terms_.push_back({static_cast<std::uint32_t>(node), r, c, information(r, c)});
      prior_gradient_.push_back({static_cast<std::uint32_t>(node), r, r, pull[r]});
    }
  }
  bar_couplings_.clear();
  if (unknowns_.point_node.empty()) return;
  for (std::size_t b = 0; b < bar_ends_.size(); ++b) {
    const ScaleBar& bar = options_.scale_bars[b];
    const Eigen::Vector3d apart = state.points[bar_ends_[b].first] - state.points[bar_ends_[b].second];
    const double length = apart.norm(), weight = variance / (bar.sigma * bar.sigma);
    if (!(length > 0)) {
      bar_couplings_.push_back(Eigen::Matrix3d::Zero());
      continue;
    }
    const Eigen::Vector3d along = apart / length, pull = weight * (bar.length - length) * along;
    const Eigen::Matrix3d information = weight * along * along.transpose();
    bar_couplings_.push_back(-information);
    for (const double side : {1.0, -1.0}) {
      const auto node = static_cast<std::uint32_t>(unknowns_.point_node[side > 0 ? bar.first : bar.second]);
      for (int r = 0; r < 3; ++r) {
        for (int c = 0; c < 3; ++c) prior_terms_.push_back({node, r, c, information(r, c)});
        prior_gradient_.push_back({node, r, r, side * pull[r]});
      }
    }
  }
}

double residual_sigma(const Block& block) {
  std::vector<double> sizes;
  sizes.reserve(2 * block.observations.size());
  for (std::size_t i = 0; i < block.points.size(); ++i)
    for (const Observation& o : block.of_point(i))
      if (const auto r = residual_px(block, block.points[i], o); r && o.kind == ObservationKind::feature)
        sizes.push_back(std::abs(r->x())), sizes.push_back(std::abs(r->y()));
  return 1.4826 * median(sizes);
}

void NormalEquations::reduce(double damping) {
  eliminate_points(damping);
  Monitor silent;
  executor_.run("", photos_in_order_.size(), silent, [&](std::size_t i) {
    thread_local std::vector<std::int64_t> slots;
    fill_photo_row(photos_in_order_[i], damping, slots);
  });
  fill_camera_rows(damping);
  fill_bar_rows(damping);
  // Priors belong to the undamped system, so that their diagonal is damped as well.
  for (const PriorTerm& term : prior_terms_) {
    double& value = matrix_.diagonal(term.node)[term.row * matrix_.padded[term.node] + term.column];
    value += term.value;
    if (term.row == term.column) {
      value += damping * term.value;
      diagonal_[matrix_.offsets[term.node] + term.row] += term.value;
    }
  }
  for (const PriorTerm& term : prior_gradient_) {
    gradient_[matrix_.offsets[term.node] + term.row] += term.value;
    right_[matrix_.offsets[term.node] + term.row] += term.value;
  }
}

void NormalEquations::eliminate_points(double damping) {
  using Row3 = Eigen::Map<const Eigen::Matrix<double, 2, 3, Eigen::RowMajor>>;
  executor_.blocks(points_.size(), kPointGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      PointSystem& system = points_[i];
      // Columns of L^-T: the inverse of a lower triangle of three.
      Eigen::Matrix3d inverse = Eigen::Matrix3d::Zero();
      if (!options_.fix_points && point_node(i) < 0 && (starts_[i + 1] - starts_[i] >= 2 || known_point(i))) {
        Eigen::Matrix3d h = system.hessian;
        h.diagonal() += damping * floored_diagonal(system.hessian);
        const double a = std::sqrt(h(0, 0)), b = h(1, 0) / a, c = h(2, 0) / a;
        const double d = std::sqrt(h(1, 1) - b * b), e = (h(2, 1) - b * c) / d, f = std::sqrt(h(2, 2) - c * c - e * e);
        inverse(0, 0) = 1 / a, inverse(1, 1) = 1 / d, inverse(2, 2) = 1 / f;
        inverse(1, 0) = -b / (a * d);
        inverse(2, 1) = -e / (d * f);
        inverse(2, 0) = (b * e - c * d) / (a * d * f);
        if (!inverse.allFinite()) inverse.setZero();  // held by too little: the point stays for this step
      }
      system.inverse = inverse;
      system.reduced = inverse * system.gradient;
      for (std::uint64_t o = starts_[i]; o < starts_[i + 1]; ++o)
        Eigen::Map<Eigen::Matrix<double, 2, 3, Eigen::RowMajor>>(record(o) + kM).noalias() =
            Row3(record(o) + kB) * inverse.transpose();
      for (std::uint64_t k = point_camera_starts_[i]; k < point_camera_starts_[i + 1]; ++k) {
        const std::uint32_t node = point_cameras_[k];
        const int size = matrix_.sizes[node], padded = matrix_.padded[node];
        double* const z = point_camera_values_.data() + point_camera_places_[k];
        std::fill(z, z + 3 * padded, 0.0);
        for (std::uint64_t o = starts_[i]; o < starts_[i + 1]; ++o) {
          const std::uint32_t photo = photo_of_[o];
          if (unknowns_.camera_node[block_.photos[photo].camera.value] != static_cast<std::int32_t>(node)) continue;
          const double *m = record(o) + kM, *a = record(o) + camera_at_[photo];
          for (int r = 0; r < 3; ++r)
            for (int s = 0; s < size; ++s) z[r * padded + s] += m[r] * a[s] + m[3 + r] * a[size + s];
        }
      }
    }
  });
}

void NormalEquations::fill_photo_row(std::size_t photo, double damping, std::vector<std::int64_t>& slots) {
  const auto node = static_cast<std::uint32_t>(unknowns_.photo_node[photo]);
  const int size = matrix_.sizes[node], padded = matrix_.padded[node];
  const std::int32_t own_camera = unknowns_.camera_node[block_.photos[photo].camera.value];
  std::fill_n(matrix_.row(node), matrix_.row_values(node), 0.0);
  slots.resize(matrix_.nodes());
  for (std::uint64_t k = matrix_.starts[node]; k < matrix_.starts[node + 1]; ++k)
    slots[matrix_.columns[k]] = static_cast<std::int64_t>(matrix_.places[k]);
  double* const values = matrix_.values.data();
  double* const own = matrix_.diagonal(node);

  PhotoSums sums;
  alignas(32) double first[kMaxPadded], second[kMaxPadded];
  constexpr double kUnit[] = {1, 0, 0, 1};
  for (std::uint64_t k = photo_starts_[photo]; k < photo_starts_[photo + 1]; ++k) {
    const std::uint64_t o = photo_observations_[k];
    const std::uint32_t point = point_of_[o];
    const double* const mine = record(o);
    const double *m = mine + kM, *a0 = mine + kA, *a1 = a0 + size;
    const double r0 = mine[kResidual], r1 = mine[kResidual + 1];
    const Eigen::Vector3d& y = points_[point].reduced;
    sums.add(padded, a0, a1, r0, r1, r0 - (m[0] * y[0] + m[1] * y[1] + m[2] * y[2]),
             r1 - (m[3] * y[0] + m[4] * y[1] + m[5] * y[2]));
    for (std::uint64_t other = starts_[point]; other < starts_[point + 1]; ++other) {
      const std::int32_t partner = unknowns_.photo_node[photo_of_[other]];
      if (partner < static_cast<std::int32_t>(node)) continue;
      const auto p = static_cast<std::size_t>(partner);
      const double* const theirs = record(other);
      const double* n = theirs + kM;
      double g[] = {-(m[0] * n[0] + m[1] * n[1] + m[2] * n[2]), -(m[0] * n[3] + m[1] * n[4] + m[2] * n[5]),
                    -(m[3] * n[0] + m[4] * n[1] + m[5] * n[2]), -(m[3] * n[3] + m[4] * n[4] + m[5] * n[5])};
      if (other == o) g[0] += 1, g[3] += 1;
      const double* const b0 = theirs + kA;
      add_product(values + slots[p], size, matrix_.padded[p], a0, a1, g, b0, b0 + matrix_.sizes[p]);
    }
    if (const std::int32_t end = point_node(point); end >= 0)
      add_product(values + slots[static_cast<std::size_t>(end)], size, matrix_.padded[static_cast<std::size_t>(end)],
                  a0, a1, kUnit, mine + kB, mine + kB + 3);
    for (std::uint64_t e = point_camera_starts_[point]; e < point_camera_starts_[point + 1]; ++e) {
      const std::uint32_t camera = point_cameras_[e];
      const double* const z = point_camera_values_.data() + point_camera_places_[e];
      const int columns = matrix_.sizes[camera], width = matrix_.padded[camera];
      const double* const direct = static_cast<std::int32_t>(camera) == own_camera ? mine + camera_at_[photo] : nullptr;
      for (int s = 0; s < columns; ++s) {
        const double z0 = z[s], z1 = z[width + s], z2 = z[2 * width + s];
        first[s] = (direct ? direct[s] : 0.0) - (m[0] * z0 + m[1] * z1 + m[2] * z2);
        second[s] = (direct ? direct[columns + s] : 0.0) - (m[3] * z0 + m[4] * z1 + m[5] * z2);
      }
      for (int s = columns; s < width; ++s) first[s] = second[s] = 0;
      add_product(values + slots[camera], size, width, a0, a1, kUnit, first, second);
    }
  }
  const int at = matrix_.offsets[node];
  for (int s = 0; s < size; ++s) {
    gradient_[at + s] = sums.gradient[s];
    right_[at + s] = sums.right[s];
    diagonal_[at + s] = std::max(sums.direct[s], 1e-30);
    own[s * padded + s] += damping * diagonal_[at + s];
  }
}

void NormalEquations::fill_camera_rows(double damping) {
  // A camera sees many points: their sums are made in parts of fixed size, and the parts added in order.
  struct Part {
    std::size_t camera, begin, end;
    std::vector<double> row;
    Eigen::VectorXd gradient, right, direct;
  };
  std::vector<Part> parts;
  for (std::size_t c = 0; c < by_camera_.size(); ++c) {
    if (unknowns_.camera_node[c] < 0) continue;
    const auto node = static_cast<std::size_t>(unknowns_.camera_node[c]);
    std::fill_n(matrix_.row(node), matrix_.row_values(node), 0.0);
    const int at = matrix_.offsets[node], size = matrix_.sizes[node];
    for (Eigen::VectorXd* v : {&gradient_, &right_, &diagonal_}) v->segment(at, size).setZero();
    for (std::size_t begin = 0; begin < by_camera_[c].size(); begin += kCameraGrain)
      parts.push_back({c, begin, std::min(begin + kCameraGrain, by_camera_[c].size()), {}, {}, {}, {}});
  }
  executor_.blocks(parts.size(), 1, [&](std::size_t index, std::size_t, std::size_t) {
    Part& part = parts[index];
    const auto node = static_cast<std::uint32_t>(unknowns_.camera_node[part.camera]);
    const int size = matrix_.sizes[node], padded = matrix_.padded[node];
    part.row.assign(matrix_.row_values(node), 0.0);
    part.gradient = part.right = part.direct = Eigen::VectorXd::Zero(size);
    const std::uint64_t base = matrix_.places[matrix_.starts[node]];
    for (std::size_t k = part.begin; k < part.end; ++k) {
      const std::uint64_t entry = by_camera_[part.camera][k];
      const std::uint32_t point = camera_point_[entry];
      const double* const z = point_camera_values_.data() + point_camera_places_[entry];
      for (std::uint64_t o = starts_[point]; o < starts_[point + 1]; ++o) {
        const std::uint32_t photo = photo_of_[o];
        if (block_.photos[photo].camera.value != part.camera) continue;
        const double *mine = record(o), *a0 = mine + camera_at_[photo], *a1 = a0 + size;
        for (int r = 0; r < size; ++r) {
          for (int s = 0; s < size; ++s)
            part.row[static_cast<std::size_t>(r * padded + s)] += a0[r] * a0[s] + a1[r] * a1[s];
          part.direct[r] += a0[r] * a0[r] + a1[r] * a1[r];
          part.gradient[r] += a0[r] * mine[kResidual] + a1[r] * mine[kResidual + 1];
        }
      }
      const Eigen::Vector3d& y = points_[point].reduced;
      for (int r = 0; r < size; ++r) part.right[r] -= z[r] * y[0] + z[padded + r] * y[1] + z[2 * padded + r] * y[2];
      for (std::uint64_t e = point_camera_starts_[point]; e < point_camera_starts_[point + 1]; ++e) {
        const std::uint32_t other = point_cameras_[e];
        if (other < node) continue;
        double* const block = part.row.data() + (matrix_.place_of(node, other) - base);
        const double* const w = point_camera_values_.data() + point_camera_places_[e];
        const int columns = matrix_.sizes[other], width = matrix_.padded[other];
        for (int r = 0; r < size; ++r)
          for (int s = 0; s < columns; ++s)
            block[r * width + s] -= z[r] * w[s] + z[padded + r] * w[width + s] + z[2 * padded + r] * w[2 * width + s];
      }
    }
  });
  for (const Part& part : parts) {
    const auto node = static_cast<std::size_t>(unknowns_.camera_node[part.camera]);
    double* const row = matrix_.row(node);
    for (std::size_t k = 0; k < part.row.size(); ++k) row[k] += part.row[k];
    const int at = matrix_.offsets[node], size = matrix_.sizes[node];
    gradient_.segment(at, size) += part.gradient;
    right_.segment(at, size) += part.gradient + part.right;
    diagonal_.segment(at, size) += part.direct;
  }
  for (std::size_t c = 0; c < by_camera_.size(); ++c) {
    if (unknowns_.camera_node[c] < 0) continue;
    const auto node = static_cast<std::size_t>(unknowns_.camera_node[c]);
    for (int s = 0; s < matrix_.sizes[node]; ++s) {
      double& d = diagonal_[matrix_.offsets[node] + s];
      d = std::max(d, 1e-30);
      matrix_.diagonal(node)[s * matrix_.padded[node] + s] += damping * d;
    }
  }
}

void NormalEquations::fill_bar_rows(double damping) {
  using Row = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
  for (const std::uint32_t i : kept_points_) {
    const auto node = static_cast<std::size_t>(point_node(i));
    std::fill_n(matrix_.row(node), matrix_.row_values(node), 0.0);
    const int at = matrix_.offsets[node], padded = matrix_.padded[node];
    const PointSystem& system = points_[i];
    gradient_.segment<3>(at) = right_.segment<3>(at) = system.gradient;
    diagonal_.segment<3>(at) = floored_diagonal(system.hessian);
    for (int r = 0; r < 3; ++r) {
      for (int c = 0; c < 3; ++c) matrix_.diagonal(node)[r * padded + c] = system.hessian(r, c);
      matrix_.diagonal(node)[r * padded + r] += damping * diagonal_[at + r];
    }
    // With shared cameras, whose rows stand before these; photos have added theirs.
    for (std::uint64_t o = starts_[i]; o < starts_[i + 1]; ++o) {
      const std::uint32_t photo = photo_of_[o];
      const std::int32_t camera = unknowns_.camera_node[block_.photos[photo].camera.value];
      if (camera < 0) continue;
      const int size = matrix_.sizes[static_cast<std::size_t>(camera)];
      double* const block = matrix_.values.data() + matrix_.place_of(static_cast<std::size_t>(camera), node);
      const Eigen::MatrixXd product =
          Row::Map(record(o) + camera_at_[photo], 2, size).transpose() * Row::Map(record(o) + kB, 2, 3);
      for (int r = 0; r < size; ++r)
        for (int c = 0; c < 3; ++c) block[r * padded + c] += product(r, c);
    }
  }
  for (std::size_t b = 0; b < bar_couplings_.size(); ++b) {
    const auto ends = std::minmax(unknowns_.point_node[options_.scale_bars[b].first],
                                  unknowns_.point_node[options_.scale_bars[b].second]);
    double* const block = matrix_.values.data() +
                          matrix_.place_of(static_cast<std::size_t>(ends.first), static_cast<std::size_t>(ends.second));
    const int padded = matrix_.padded[static_cast<std::size_t>(ends.second)];
    for (int r = 0; r < 3; ++r)
      for (int c = 0; c < 3; ++c) block[r * padded + c] += bar_couplings_[b](r, c);
  }
}

AdjustState NormalEquations::stepped(const AdjustState& state, const Eigen::VectorXd& step) {
  AdjustState next = state;
  for (std::size_t i = 0; i < next.poses.size(); ++i) {
    const std::int32_t node = unknowns_.photo_node[i];
    if (node < 0) continue;
    const int at = matrix_.offsets[static_cast<std::size_t>(node)];
    Pose& pose = next.poses[i];
    pose.orientation = (rotation_from_vector(step.segment<3>(at)) * pose.orientation).normalized();
    pose.centre += step.segment<3>(at + 3);
    if (!unknowns_.own_camera[i]) continue;
    const std::uint32_t c = block_.photos[i].camera.value;
    for (std::size_t k = 0; k < unknowns_.free[c].size(); ++k)
      next.cameras[c].parameters[static_cast<std::size_t>(unknowns_.free[c][k])] += step[at + 6 + static_cast<int>(k)];
  }
  for (std::size_t c = 0; c < next.cameras.size(); ++c) {
    if (unknowns_.camera_node[c] < 0) continue;
    const int at = matrix_.offsets[static_cast<std::size_t>(unknowns_.camera_node[c])];
    for (std::size_t k = 0; k < unknowns_.free[c].size(); ++k)
      next.cameras[c].parameters[static_cast<std::size_t>(unknowns_.free[c][k])] += step[at + static_cast<int>(k)];
  }
  if (options_.fix_points) {
    std::fill(point_steps_.begin(), point_steps_.end(), Eigen::Vector3d::Zero());
    return next;
  }
  executor_.blocks(points_.size(), kPointGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      Eigen::Vector3d y = points_[i].reduced;
      for (std::uint64_t o = starts_[i]; o < starts_[i + 1]; ++o) {
        const std::uint32_t photo = photo_of_[o];
        const double* const mine = record(o);
        const double* const m = mine + kM;
        double d0 = 0, d1 = 0;
        const auto along = [&](std::int32_t node, const double* a) {
          const int size = matrix_.sizes[static_cast<std::size_t>(node)];
          const double* const s = step.data() + matrix_.offsets[static_cast<std::size_t>(node)];
          for (int k = 0; k < size; ++k) d0 += a[k] * s[k], d1 += a[size + k] * s[k];
        };
        if (unknowns_.photo_node[photo] >= 0) along(unknowns_.photo_node[photo], mine + kA);
        const std::int32_t camera = unknowns_.camera_node[block_.photos[photo].camera.value];
        if (camera >= 0) along(camera, mine + camera_at_[photo]);
        for (int k = 0; k < 3; ++k) y[k] -= m[k] * d0 + m[3 + k] * d1;
      }
      point_steps_[i] = points_[i].inverse.transpose() * y;
      next.points[i] += point_steps_[i];
    }
  });
  for (const std::uint32_t i : kept_points_)
    next.points[i] += step.segment<3>(matrix_.offsets[static_cast<std::size_t>(point_node(i))]);
  return next;
}

double NormalEquations::predicted_decrease(const Eigen::VectorXd& step, double damping) const {
  double sum = step.dot(gradient_) + damping * step.dot(diagonal_.cwiseProduct(step));
  if (!options_.fix_points)
    for (std::size_t i = 0; i < points_.size(); ++i)
      sum += point_steps_[i].dot(points_[i].gradient) +
             damping * point_steps_[i].dot(floored_diagonal(points_[i].hessian).cwiseProduct(point_steps_[i]));
  return 0.5 * sum;
}

}  // namespace icefield
