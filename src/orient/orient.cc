#include "icefield/orient/orient.h"

#include <fmt/format.h>

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <memory>
#include <numeric>
#include <utility>

#include "icefield/block/bounds.h"
#include "icefield/orient/join.h"
#include "src/orient/block_checks.h"
#include "src/orient/growing_block.h"
#include "src/orient/positions.h"
#include "src/orient/progress.h"
#include "src/orient/seed_pairs.h"
#include "src/orient/twins.h"
#include "src/orient/view_graph.h"

namespace icefield {
namespace {

// Cameras to start with: known ones as they are; unknown focal lengths from trial blocks.
std::vector<Camera> starting_cameras(const OrientInput& input, const std::shared_ptr<const TrackSet>& tracks,
                                     OrientSummary& summary) {
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
    const auto block = start_block(input, tracks, with_field_of_view(fields[i]), all, failure);
    if (!block) {
      summary.focal_search.push_back(fmt::format("{:.0f} degrees: {}", fields[i], failure));
      continue;
    }
    block->grow(all, static_cast<std::size_t>(input.options.search_photos), [] {});
    block->finish(true);
    const double score = block->robust_score();
    double refined = 0;
    for (std::size_t c = 0; c < cameras.size(); ++c)
      if (!(cameras[c].focal() > 0)) refined = field_of_view_deg(block->cameras()[c]);
    summary.focal_search.push_back(
        fmt::format("{:.0f} degrees: {} photos, {} observations, support {:.0f}, adjusted to {:.1f} degrees", fields[i],
                    block->posed_count(), block->observation_count(), score, refined));
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

// Up is where photos have no horizontal: the direction least covered by their x axes; its sign from their y axes, or,
// for photos that look down, from their line of sight.
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
    for (const Observation& o : block.of_point(i))
      distances.push_back((block.points[i] - block.photos[o.photo].pose.centre).norm());
  }
  if (distances.empty()) return;
  const auto median = [](std::vector<double>& values) {
    std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2), values.end());
    return values[values.size() / 2];
  };
  Similarity fit;
  fit.scale = 1 / median(distances);
  fit.translation =
      -fit.scale * Eigen::Vector3d(median(coordinates[0]), median(coordinates[1]), median(coordinates[2]));
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
  return fmt::format("no verified pair: the best, with {}, has {} matches ({})", input.photos[other.value].name,
                     best->candidates, describe(best->fault));
}

// Which photos a photo has verified pairs with, as far as it helps.
std::string partners(const OrientInput& input, PhotoIndex photo, const std::vector<bool>& posed) {
  std::vector<std::pair<std::size_t, std::uint32_t>> list;  // matches, other photo
  std::size_t cut = 0;
  for (const std::uint32_t p : input.photo_pairs[photo.value]) {
    const PairMatches& pair = input.pairs[p];
    cut += input.cut[p] != 0;
    if (!input.cut[p])
      list.emplace_back(pair.matches.size(), pair.first == photo ? pair.second.value : pair.first.value);
  }
  std::sort(list.rbegin(), list.rend());
  std::string text;
  if (cut > 0) text += fmt::format("; {} of its pairs contradict the others and were cut", cut);
  if (list.empty()) return text;
  const auto told = [&](std::uint32_t other, std::size_t matches) {
    const std::size_t features = input.photos[other].keypoints.size();
    return fmt::format("{} ({} matches{}{})", input.photos[other].name, matches,
                       features < 200 ? fmt::format(", has {} features", features) : "",
                       posed[other] ? "" : ", not posed itself");
  };
  if (list.size() <= 2) {
    text += "; overlaps only with " + told(list[0].second, list[0].first);
    if (list.size() == 2) text += " and " + told(list[1].second, list[1].first);
  } else {
    text += fmt::format("; overlaps with {} photos, most with {}", list.size(), told(list[0].second, list[0].first));
  }
  return text;
}

// The block without some of its photos, and without the points that only they held.
void leave_out(Block& block, const std::vector<DoubtfulPhoto>& doubtful) {
  std::vector<std::uint32_t> place(block.photos.size(), 0);
  Block kept;
  kept.cameras = block.cameras;
  kept.observations_dropped = block.observations_dropped;
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    if (std::any_of(doubtful.begin(), doubtful.end(),
                    [&](const DoubtfulPhoto& d) { return d.photo == block.photos[i].photo; })) {
      place[i] = TrackSet::kNone;
      continue;
    }
    place[i] = static_cast<std::uint32_t>(kept.photos.size());
    kept.photos.push_back(block.photos[i]);
  }
  std::vector<Observation> seen;
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    seen.clear();
    for (Observation o : block.of_point(p)) {
      o.photo = place[o.photo];
      if (o.photo != TrackSet::kNone) seen.push_back(o);
    }
    if (seen.size() < 2) continue;
    kept.add_point(block.points[p], seen);
    if (!block.tracks.empty()) kept.tracks.push_back(block.tracks[p]);
  }
  block = std::move(kept);
}

// Blocks that share enough points become one; those that were apart because no single photo saw enough of the other.
void join_blocks(const OrientInput& input, const std::shared_ptr<const TrackSet>& tracks, Progress& progress) {
  for (bool again = true; again;) {
    again = false;
    for (std::size_t a = 0; a < progress.blocks.size() && !again; ++a)
      for (std::size_t b = a + 1; b < progress.blocks.size() && !again; ++b) {
        JoinOptions options;
        options.min_agreeing = input.options.min_resection_points;
        options.adjusted = false;
        const JoinResult joined =
            join(progress.blocks[a], progress.blocks[b], tracks->track_of, options, input.executor, input.monitor);
        if (joined.common_points > 0)
          input.monitor.log(LogLevel::detail,
                            fmt::format("blocks of {} and {} photos: {}", progress.blocks[a].photos.size(),
                                        progress.blocks[b].photos.size(), joined.outcome));
        if (!joined.joined) continue;
        GrowingBlock together(input, tracks, progress.cameras);
        together.take(joined.block);
        together.finish();
        progress.summary.adjustments += together.adjustments();
        if (together.posed_count() < joined.block.photos.size()) continue;
        progress.blocks[a] = together.to_block();
        make_level(progress.blocks[a]);
        progress.blocks.erase(progress.blocks.begin() + static_cast<std::ptrdiff_t>(b));
        ++progress.summary.blocks_joined;
        again = true;
      }
  }
}

// The graph that the last check made, from the pairs that were cut before it: the same whether a run came here at once
// or went on from a checkpoint.
ViewGraph graph_of(OrientInput input, const Progress& progress) {
  input.cut = progress.cut_before_check;
  return check_view_graph(input, *tracks_of(input), progress.cameras);
}

bool all_at_once(const OrientInput& input) {
  return input.options.way == OrientWay::all_at_once;
}

// A block of the photos that are left, all at once: the largest part of the view graph, orientations averaged, then
// places.
std::unique_ptr<GrowingBlock> place_block(const OrientInput& input, const std::shared_ptr<const TrackSet>& tracks,
                                          const ViewGraph& graph, const std::vector<Camera>& cameras,
                                          const std::vector<bool>& left) {
  std::vector<std::size_t> sizes(graph.part_sizes.size(), 0);
  for (std::size_t i = 0; i < left.size(); ++i)
    if (left[i]) ++sizes[graph.part[i]];
  const auto part = static_cast<std::uint32_t>(std::max_element(sizes.begin(), sizes.end()) - sizes.begin());
  if (sizes.empty() || sizes[part] < 4) return nullptr;
  std::vector<std::uint8_t> taken(left.size(), 0);
  for (std::size_t i = 0; i < left.size(); ++i) taken[i] = left[i] && graph.part[i] == part;
  const std::vector<Eigen::Vector3d> centres = solve_positions(input, *tracks, cameras, graph.orientations, taken);
  std::vector<Pose> poses(left.size());
  for (std::size_t i = 0; i < poses.size(); ++i) poses[i] = {graph.orientations[i], centres[i]};
  auto block = std::make_unique<GrowingBlock>(input, tracks, cameras);
  block->adopt(poses, taken);
  return block->posed_count() >= 4 && block->point_count() > 0 ? std::move(block) : nullptr;
}

}  // namespace

const char* name_of(OrientWay way) {
  return way == OrientWay::automatic ? "automatic" : way == OrientWay::growing ? "growing" : "all-at-once";
}

OrientResult orient(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors,
                    std::span<const PairMatches> pairs, const OrientOptions& options, const Executor& executor,
                    Monitor& monitor, OrientCheckpoint* checkpoint) {
  OrientResult result;
  OrientInput input = prepare_input(photos, priors, pairs, options, executor, monitor);
  Progress progress;
  std::shared_ptr<const TrackSet> tracks;
  std::unique_ptr<GrowingBlock> growing;
  std::optional<Bytes> state;
  if (checkpoint) state = checkpoint->load();
  if (state) {
    ByteReader in(*state);
    const bool grows = from_bytes(in, priors, progress);
    if (progress.cut.size() != pairs.size())
      throw Error(ErrorKind::input, "checkpoint", "does not fit", "it is computed again");
    input.cut = progress.cut;
    tracks = tracks_of(input);
    if (grows) {
      growing = std::make_unique<GrowingBlock>(input, tracks, progress.cameras);
      growing->read(in);
    }
  }
  using Clock = std::chrono::steady_clock;
  auto saved_at = Clock::now();
  const auto save = [&](bool now) {
    if (!checkpoint || (!now && Clock::now() - saved_at < std::chrono::seconds(5))) return;
    saved_at = Clock::now();
    progress.cut = input.cut;
    checkpoint->save(to_bytes(progress, growing.get()));
  };

  if (!state) {
    tracks = tracks_of(input);
    progress.cameras = starting_cameras(input, tracks, progress.summary);
    progress.cut_before_check = input.cut;
    const ViewGraph graph = check_view_graph(input, *tracks, progress.cameras);
    progress.summary.cut_by_turn = graph.cut_by_turn;
    progress.summary.cut_by_direction = graph.cut_by_direction;
    if (graph.cut_by_turn + graph.cut_by_direction > 0) {
      monitor.log(LogLevel::detail,
                  fmt::format("of {} pairs {} contradict the others in orientation and {} in direction: cut",
                              graph.edges.size() + graph.cut_by_turn + graph.cut_by_direction, graph.cut_by_turn,
                              graph.cut_by_direction));
      tracks = tracks_of(input);
    }
    progress.reasons.assign(photos.size(), {});
    save(true);
  }

  constexpr double kSuspicious = 0.5;  // relative share of a pair, and so many of them, that ask for a closer look
  constexpr std::size_t kSuspects = 5;
  constexpr int kAttempts = 3;
  while (true) {
    std::vector<bool> left(photos.size(), true);
    for (const Block& block : progress.blocks)
      for (const PosedPhoto& photo : block.photos) left[photo.photo.value] = false;
    for (std::size_t i = 0; i < photos.size(); ++i)
      left[i] = left[i] && progress.reasons[i].rfind("in a separate group", 0) != 0;
    while (true) {
      if (!growing) {
        std::string failure;
        if (all_at_once(input)) growing = place_block(input, tracks, graph_of(input, progress), progress.cameras, left);
        if (!growing) growing = start_block(input, tracks, progress.cameras, left, failure);
        if (!growing) {
          for (std::size_t i = 0; i < photos.size(); ++i)
            if (left[i] && progress.reasons[i].empty()) progress.reasons[i] = failure;
          break;
        }
      }
      growing->grow(left, photos.size(), [&] { save(false); });
      growing->finish();
      if (growing->drop_weak_photos(static_cast<std::size_t>(options.min_resection_points) / 2,
                                    "in the finished block") > 0)
        growing->finish();
      progress.summary.adjustments += growing->adjustments();
      progress.summary.loops_closed += growing->loops_closed();
      const bool keep =
          growing->posed_count() >= static_cast<std::size_t>(options.min_block_photos) || progress.blocks.empty();
      for (std::size_t i = 0; i < photos.size(); ++i) {
        if (!left[i]) continue;
        if (growing->posed(PhotoIndex(i))) {
          left[i] = false;
          if (!keep)
            progress.reasons[i] = fmt::format("in a separate group of {} photos, {} needed for a block",
                                              growing->posed_count(), options.min_block_photos);
        } else if (progress.blocks.empty()) {
          progress.reasons[i] = growing->failure(PhotoIndex(i)).empty() ? "shares no tie points with the block"
                                                                        : growing->failure(PhotoIndex(i));
        }
      }
      if (keep && growing->point_count() > 0) {
        if (progress.blocks.empty()) progress.summary.held = growing->held();
        progress.blocks.push_back(growing->to_block());
        make_level(progress.blocks.back());
      }
      growing.reset();
      save(true);
    }
    join_blocks(input, tracks, progress);
    if (!options.check_twins || progress.blocks.empty()) break;

    // Places that look alike, laid on each other? Then once more without the pairs that say so, if that agrees better.
    std::vector<SharedSight> sights;
    std::size_t posed = 0;
    for (const Block& block : progress.blocks) {
      posed += block.photos.size();
      const auto of_block = shared_sights(input, block);
      sights.insert(sights.end(), of_block.begin(), of_block.end());
    }
    const double agreed = agreement(sights);
    std::size_t posed_before = 0;
    for (const Block& block : progress.blocks_before) posed_before += block.photos.size();
    if (progress.attempts > 0 && !(agreed > (progress.attempts == 1 ? 1.1 : 1.0) * progress.agreed &&
                                   static_cast<double>(posed) > 0.9 * static_cast<double>(posed_before))) {
      monitor.log(LogLevel::detail, fmt::format("without them the photos agree no better ({:.0f} percent of the points "
                                                "in view are common, {:.0f} before): kept as before",
                                                100 * agreed, 100 * progress.agreed));
      progress.blocks = std::move(progress.blocks_before);
      progress.reasons = std::move(progress.reasons_before);
      progress.summary = std::move(progress.summary_before);
      input.cut = std::move(progress.cut_before);
      break;
    }
    if (progress.attempts >= kAttempts) break;
    const std::vector<std::uint32_t> suspects = twin_pairs(sights, kSuspicious);
    if (suspects.size() < kSuspects) break;
    monitor.log(LogLevel::detail, fmt::format("{} of {} pairs share far fewer points than others at their angle",
                                              suspects.size(), sights.size()));
    const std::vector<std::uint32_t> twins = pairs_of_twins(input, tracks, graph_of(input, progress), progress.cameras);
    if (twins.empty()) break;
    progress.blocks_before = std::exchange(progress.blocks, {});
    progress.reasons_before = std::exchange(progress.reasons, std::vector<std::string>(photos.size()));
    progress.summary_before = progress.summary;
    progress.cut_before = input.cut;
    progress.agreed = agreed;
    ++progress.attempts;
    for (const std::uint32_t p : twins) input.cut[p] = 1;
    tracks = tracks_of(input);
    progress.summary.cut_as_twins += twins.size();
    progress.cut_before_check = input.cut;
    const ViewGraph graph = check_view_graph(input, *tracks, progress.cameras);  // what they backed falls with them
    progress.summary.cut_by_turn += graph.cut_by_turn;
    progress.summary.cut_by_direction += graph.cut_by_direction;
    tracks = tracks_of(input);
    save(true);
  }

  result.blocks = std::move(progress.blocks);
  result.summary = std::move(progress.summary);
  result.summary.photos = photos.size();
  for (const PairMatches& pair : pairs) result.summary.pairs += pair.verified();
  std::stable_sort(result.blocks.begin(), result.blocks.end(),
                   [](const Block& a, const Block& b) { return a.photos.size() > b.photos.size(); });
  const ViewGraph graph = graph_of(input, progress);
  for (Block& block : result.blocks) {
    const AdjustOptions adjusting = final_adjust_options(block, priors, options, result.summary.held);
    BlockPrecision precision = precision_of(block, adjusting, executor, monitor);
    std::vector<DoubtfulPhoto> doubtful = doubtful_photos(input, block, precision, graph);
    if (options.leave_out_doubtful && !doubtful.empty() && doubtful.size() + 2 <= block.photos.size()) {
      for (const DoubtfulPhoto& d : doubtful) progress.reasons[d.photo.value] = "doubtful: " + d.reason;
      Block sure = block;
      leave_out(sure, doubtful);
      block = std::move(sure);
      precision = precision_of(block, adjusting, executor, monitor);
    } else {
      result.doubtful.insert(result.doubtful.end(), doubtful.begin(), doubtful.end());
    }
    result.precision.push_back(std::move(precision));
  }
  std::vector<bool> posed(photos.size(), false);
  for (const Block& block : result.blocks)
    for (const PosedPhoto& photo : block.photos) posed[photo.photo.value] = true;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (posed[i]) {
      ++result.summary.posed;
      continue;
    }
    std::string reason = reason_without_pairs(input, PhotoIndex(i));
    if (reason.empty())
      reason = progress.reasons[i] + (result.blocks.empty() ? std::string() : partners(input, PhotoIndex(i), posed));
    result.unposed.push_back({PhotoIndex(i), std::move(reason)});
  }
  result.summary.blocks = result.blocks.size();
  result.summary.outcome = result.blocks.empty()
                               ? "no block could be made"
                               : fmt::format("{} of {} photos posed in {} block{}", result.summary.posed, photos.size(),
                                             result.blocks.size(), result.blocks.size() == 1 ? "" : "s");
  return result;
}

}  // namespace icefield
