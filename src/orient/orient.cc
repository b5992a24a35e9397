#include "icefield/orient/orient.h"

#include <fmt/format.h>

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <memory>

#include "icefield/block/bounds.h"
#include "src/orient/growing_block.h"
#include "src/orient/seed_pairs.h"

namespace icefield {
namespace {

constexpr std::size_t kSeedsTried = 8;

// A block started from the best seed that holds.
std::unique_ptr<GrowingBlock> start_block(const OrientInput& input, const std::vector<Camera>& cameras, const std::vector<bool>& allowed, std::string& failure) {
  double widest = 0;
  const std::vector<Seed> seeds = find_seeds(input, cameras, allowed, widest);
  if (seeds.empty())
    failure = widest >= input.options.min_seed_angle_deg
                  ? fmt::format("no pair to start from: the rays of the best one meet at {:.1f} degrees, but it has fewer than {} points at a useful angle", widest, input.options.min_seed_points)
              : widest > 0 ? fmt::format("no pair to start from: rays of matches meet at {:.1f} degrees at most, {:.1f} needed (photos turned about one spot show no depth)",
                                       widest, input.options.min_seed_angle_deg)
                         : fmt::format("no pair to start from: no pair has {} matches that meet in space", input.options.min_seed_points);
  for (std::size_t i = 0; i < std::min(seeds.size(), kSeedsTried); ++i) {
    auto block = std::make_unique<GrowingBlock>(input, cameras);
    if (block->start(seeds[i].first, seeds[i].second, seeds[i].second_in_first)) {
      input.monitor.log(LogLevel::detail, fmt::format("block starts from {} and {}: {} points at {:.1f} degrees", input.photos[seeds[i].first.value].name,
                                                      input.photos[seeds[i].second.value].name, seeds[i].points, seeds[i].angle_deg));
      return block;
    }
    failure = "no pair to start from: the points of the best pairs do not hold in an adjustment";
  }
  return nullptr;
}

// Cameras to start with: known ones as they are; unknown focal lengths from trial blocks.
std::vector<Camera> starting_cameras(const OrientInput& input, OrientSummary& summary) {
  std::vector<Camera> cameras;
  bool unknown = false;
  for (const CameraPrior& prior : input.priors) {
    cameras.push_back(prior.camera);
    unknown = unknown || !(prior.camera.focal() > 0);
  }
  if (!unknown) return cameras;

  const auto with_field_of_view = [&](double degrees) {
    std::vector<Camera> tried = cameras;
    for (Camera& camera : tried)
      if (!(camera.focal() > 0)) camera.parameters[0] = focal_from_field_of_view(camera.width, camera.height, degrees);
    return tried;
  };
  std::vector<bool> all(input.photos.size(), true);
  double best_score = -1;
  std::vector<Camera> best = with_field_of_view(60);
  const auto& fields = input.options.searched_fields_of_view_deg;
  for (std::size_t i = 0; i < fields.size(); ++i) {
    input.monitor.progress("search focal length", i, fields.size());
    std::string failure;
    const auto block = start_block(input, with_field_of_view(fields[i]), all, failure);
    if (!block) {
      summary.focal_search.push_back(fmt::format("{:.0f} degrees: {}", fields[i], failure));
      continue;
    }
    block->grow(all, static_cast<std::size_t>(input.options.search_photos), [] {});
    block->finish();
    const double score = block->robust_score();
    double refined = 0;
    for (std::size_t c = 0; c < cameras.size(); ++c)
      if (!(cameras[c].focal() > 0)) refined = field_of_view_deg(block->cameras()[c]);
    summary.focal_search.push_back(fmt::format("{:.0f} degrees: {} photos, {} observations, support {:.0f}, adjusted to {:.1f} degrees", fields[i], block->posed_count(),
                                               block->observation_count(), score, refined));
    if (score > best_score) {
      best_score = score;
      best = block->cameras();
      // Known cameras start from what is known of them, and distortion afresh.
      for (std::size_t c = 0; c < cameras.size(); ++c)
        if (cameras[c].focal() > 0) best[c] = cameras[c];
    }
  }
  input.monitor.progress("search focal length", fields.size(), fields.size());
  for (const std::string& line : summary.focal_search) input.monitor.log(LogLevel::detail, "focal length: " + line);
  return best;
}

// Up is where photos have no horizontal: the direction least covered by their x axes; its sign from their y axes, or, for
// photos that look down, from their line of sight.
void make_level(Block& block) {
  Eigen::Matrix3d spread = Eigen::Matrix3d::Zero();
  Eigen::Vector3d down = Eigen::Vector3d::Zero();
  for (const PosedPhoto& photo : block.photos) {
    const Eigen::Vector3d x = photo.pose.orientation.conjugate() * Eigen::Vector3d::UnitX();
    spread += x * x.transpose();
    down += photo.pose.orientation.conjugate() * (Eigen::Vector3d::UnitY() + Eigen::Vector3d::UnitZ());
  }
  const Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d> spectrum(spread);
  Eigen::Vector3d up = spectrum.eigenvectors().col(0);
  // Photos side by side with parallel x axes leave two directions open: then the mean of y and line of sight decides.
  if (spectrum.eigenvalues()[1] < 0.1 * spectrum.eigenvalues()[2]) {
    const Eigen::Vector3d x = spectrum.eigenvectors().col(2);
    up = -(down - x * x.dot(down)).normalized();
  }
  if (up.dot(down) > 0) up = -up;

  Similarity turn;
  turn.rotation = Eigen::Quaterniond::FromTwoVectors(up, Eigen::Vector3d::UnitZ());
  transform(block, turn);

  // Origin and scale from the subject; a horizon behind it does not count.
  const Bounds subject = automatic_bounds(block);
  std::vector<double> distances;
  std::array<std::vector<double>, 3> coordinates;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!subject.contains(block.points[i])) continue;
    for (int c = 0; c < 3; ++c) coordinates[static_cast<std::size_t>(c)].push_back(block.points[i][c]);
    for (const Observation& o : block.of_point(i)) distances.push_back((block.points[i] - block.photos[o.photo].pose.centre).norm());
  }
  if (distances.empty()) return;
  const auto median = [](std::vector<double>& values) {
    std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2), values.end());
    return values[values.size() / 2];
  };
  Similarity fit;
  fit.scale = 1 / median(distances);
  fit.translation = -fit.scale * Eigen::Vector3d(median(coordinates[0]), median(coordinates[1]), median(coordinates[2]));
  transform(block, fit);
}

std::string reason_without_pairs(const OrientInput& input, PhotoIndex photo) {
  const std::size_t features = input.photos[photo.value].keypoints.size();
  if (features < 50) return fmt::format("{} features: blurred, plain or dark", features);
  const PairMatches* best = nullptr;
  std::size_t verified = 0;
  for (const PairMatches& pair : input.pairs) {
    if (pair.first != photo && pair.second != photo) continue;
    verified += pair.verified();
    if (!best || pair.candidates > best->candidates) best = &pair;
  }
  if (verified > 0 || !best) return {};
  const PhotoIndex other = best->first == photo ? best->second : best->first;
  return fmt::format("no verified pair: the best, with {}, has {} matches ({})", input.photos[other.value].name, best->candidates, describe(best->state));
}

}  // namespace

OrientResult orient(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors, std::span<const PairMatches> pairs, const Tracks& tracks,
                    const OrientOptions& options, const Executor& executor, Monitor& monitor, OrientCheckpoint* checkpoint) {
  OrientResult result;
  result.summary.photos = photos.size();
  const OrientInput input = prepare_input(photos, priors, pairs, tracks, options, executor, monitor);
  std::vector<bool> left(photos.size(), true);
  std::vector<std::string> reasons(photos.size());

  // What a checkpoint holds: the cameras at the start, the finished blocks, and the one that grows.
  std::vector<Camera> cameras;
  std::unique_ptr<GrowingBlock> growing;
  if (checkpoint) {
    if (const auto state = checkpoint->load()) {
      ByteReader in(*state);
      cameras.resize(in.get<std::uint32_t>());
      for (std::size_t c = 0; c < cameras.size() && c < priors.size(); ++c) {
        cameras[c] = priors[c].camera;
        cameras[c].parameters = in.get<decltype(cameras[c].parameters)>();
      }
      for (auto count = in.get<std::uint32_t>(); count > 0; --count) result.summary.focal_search.push_back(in.get_string());
      result.summary.adjustments = in.get<int>();
      for (auto count = in.get<std::uint32_t>(); count > 0; --count) {
        result.blocks.push_back(block_from_bytes(in.get_array<std::byte>()));
        for (const PosedPhoto& photo : result.blocks.back().photos) left[photo.photo.value] = false;
      }
      for (std::string& reason : reasons) reason = in.get_string();
      if (in.get<std::uint8_t>()) {
        growing = std::make_unique<GrowingBlock>(input, cameras);
        growing->read(in);
      }
    }
  }
  using Clock = std::chrono::steady_clock;
  auto saved_at = Clock::now();
  const auto save = [&](bool now) {
    if (!checkpoint || (!now && Clock::now() - saved_at < std::chrono::seconds(5))) return;
    saved_at = Clock::now();
    ByteWriter out;
    out.put(static_cast<std::uint32_t>(cameras.size()));
    for (const Camera& camera : cameras) out.put(camera.parameters);
    out.put(static_cast<std::uint32_t>(result.summary.focal_search.size()));
    for (const std::string& line : result.summary.focal_search) out.put(line);
    out.put(result.summary.adjustments);
    out.put(static_cast<std::uint32_t>(result.blocks.size()));
    for (const Block& block : result.blocks) out.put(block_to_bytes(block));
    for (const std::string& reason : reasons) out.put(reason);
    out.put(static_cast<std::uint8_t>(growing != nullptr));
    if (growing) growing->write(out);
    checkpoint->save(out.take());
  };

  if (cameras.empty()) {
    cameras = starting_cameras(input, result.summary);
    save(true);
  }
  while (true) {
    if (!growing) {
      std::string failure;
      growing = start_block(input, cameras, left, failure);
      if (!growing) {
        for (std::size_t i = 0; i < photos.size(); ++i)
          if (left[i] && reasons[i].empty()) reasons[i] = failure;
        break;
      }
    }
    growing->grow(left, photos.size(), [&] { save(false); });
    growing->finish();
    result.summary.adjustments += growing->adjustments();
    const bool keep = growing->posed_count() >= static_cast<std::size_t>(options.min_block_photos) || result.blocks.empty();
    for (std::size_t i = 0; i < photos.size(); ++i) {
      if (!left[i]) continue;
      if (growing->posed(PhotoIndex(i))) {
        left[i] = false;
        if (!keep) reasons[i] = fmt::format("in a separate group of {} photos, {} needed for a block", growing->posed_count(), options.min_block_photos);
      } else if (result.blocks.empty()) {
        reasons[i] = growing->failure(PhotoIndex(i)).empty() ? "shares no tie points with the block" : growing->failure(PhotoIndex(i));
      }
    }
    if (keep && growing->point_count() > 0) {
      result.blocks.push_back(growing->to_block());
      make_level(result.blocks.back());
    }
    growing.reset();
    save(true);
  }

  std::stable_sort(result.blocks.begin(), result.blocks.end(), [](const Block& a, const Block& b) { return a.photos.size() > b.photos.size(); });
  std::vector<bool> posed(photos.size(), false);
  for (const Block& block : result.blocks)
    for (const PosedPhoto& photo : block.photos) posed[photo.photo.value] = true;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (posed[i]) {
      ++result.summary.posed;
      continue;
    }
    const std::string specific = reason_without_pairs(input, PhotoIndex(i));
    result.unposed.push_back({PhotoIndex(i), specific.empty() ? reasons[i] : specific});
  }
  result.summary.blocks = result.blocks.size();
  result.summary.outcome = result.blocks.empty() ? "no block could be made" : fmt::format("{} of {} photos posed in {} block{}", result.summary.posed, photos.size(),
                                                                                          result.blocks.size(), result.blocks.size() == 1 ? "" : "s");
  return result;
}

}  // namespace icefield
