#include "icefield/orient/orient.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <memory>
#include <utility>

#include "icefield/orient/join.h"
#include "src/orient/block_checks.h"
#include "src/orient/growing_block.h"
#include "src/orient/level.h"
#include "src/orient/positions.h"
#include "src/orient/progress.h"
#include "src/orient/seed_pairs.h"
#include "src/orient/twins.h"
#include "src/orient/unposed.h"
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
      o.photo = PosedIndex(place[o.photo]);
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

// A run from pairs to blocks. Its state is what a checkpoint holds, so that it goes on wherever it stopped.
class OrientRun {
 public:
  OrientRun(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors,
            std::span<const PairMatches> pairs, const OrientOptions& options, const Executor& executor,
            Monitor& monitor, OrientCheckpoint* checkpoint)
      : input_(prepare_input(photos, priors, pairs, options, executor, monitor)), checkpoint_(checkpoint) {}

  OrientResult run() {
    if (!go_on()) start();
    do {
      make_blocks();
      join_blocks(input_, tracks_, progress_);
    } while (input_.options.check_twins && !progress_.blocks.empty() && try_without_twins());
    return result();
  }

 private:
  std::size_t photos() const { return input_.photos.size(); }

  // From the checkpoint; false where there is none, or none that fits.
  bool go_on() {
    std::optional<Bytes> state;
    if (checkpoint_) state = checkpoint_->load();
    if (!state) return false;
    const auto cut = input_.cut;
    try {
      read(*state);
      return true;
    } catch (const Error& e) {
      input_.monitor.log(LogLevel::warning, fmt::format("the checkpoint {}; posing begins anew", e.fault()));
      input_.cut = cut, progress_ = Progress(), growing_.reset();
      return false;
    }
  }

  void read(const Bytes& state) {
    ByteReader in(state);
    const bool grows = from_bytes(in, input_.priors, progress_);
    if (progress_.cut.size() != input_.pairs.size())
      throw Error(ErrorKind::input, "checkpoint", "is of other pairs", "it is computed again");
    input_.cut = progress_.cut;
    tracks_ = tracks_of(input_);
    if (grows) {
      growing_ = std::make_unique<GrowingBlock>(input_, tracks_, progress_.cameras);
      growing_->read(in);
    }
    in.need_end();
  }

  void start() {
    tracks_ = tracks_of(input_);
    progress_.cameras = starting_cameras(input_, tracks_, progress_.summary);
    const ViewGraph graph = cut_contradictions();
    if (graph.cut_by_turn + graph.cut_by_direction > 0)
      input_.monitor.log(LogLevel::detail,
                         fmt::format("of {} pairs {} contradict the others in orientation and {} in direction: cut",
                                     graph.edges.size() + graph.cut_by_turn + graph.cut_by_direction, graph.cut_by_turn,
                                     graph.cut_by_direction));
    progress_.reasons.assign(photos(), {});
    save();
  }

  // Pairs that contradict the others are cut from here on.
  ViewGraph cut_contradictions() {
    progress_.cut_before_check = input_.cut;
    ViewGraph graph = check_view_graph(input_, *tracks_, progress_.cameras);
    progress_.summary.cut_by_turn += graph.cut_by_turn;
    progress_.summary.cut_by_direction += graph.cut_by_direction;
    if (graph.cut_by_turn + graph.cut_by_direction > 0) tracks_ = tracks_of(input_);
    return graph;
  }

  // Everything is kept at most every five seconds, and so seldom that keeping it takes one part in twenty of the time.
  void save() {
    if (!checkpoint_) return;
    const auto start = Clock::now();
    progress_.cut = input_.cut;
    checkpoint_->save(to_bytes(progress_, growing_.get()));
    saved_at_ = Clock::now();
    saving_takes_ = saved_at_ - start;
  }
  void save_if_due() {
    if (Clock::now() - saved_at_ >= std::max<Clock::duration>(std::chrono::seconds(5), 20 * saving_takes_)) save();
  }

  // One block after the other of the photos that are left, until no two of them start one.
  void make_blocks() {
    std::vector<bool> left(photos(), true);
    for (const Block& block : progress_.blocks)
      for (const PosedPhoto& photo : block.photos) left[photo.photo.value] = false;
    for (std::size_t i = 0; i < photos(); ++i)
      left[i] = left[i] && progress_.reasons[i].rfind("in a separate group", 0) != 0;
    while (growing_ || start_growing(left)) {
      growing_->grow(left, photos(), [&] { save_if_due(); });
      growing_->finish();
      if (growing_->drop_weak_photos(static_cast<std::size_t>(input_.options.min_resection_points) / 2,
                                     "in the finished block") > 0)
        growing_->finish();
      take_grown(left);
      growing_.reset();
      save();
    }
  }

  bool start_growing(const std::vector<bool>& left) {
    std::string failure;
    if (input_.options.way == OrientWay::all_at_once)
      growing_ = place_block(input_, tracks_, graph_of(input_, progress_), progress_.cameras, left);
    if (!growing_) growing_ = start_block(input_, tracks_, progress_.cameras, left, failure);
    if (growing_) return true;
    for (std::size_t i = 0; i < photos(); ++i)
      if (left[i] && progress_.reasons[i].empty()) progress_.reasons[i] = failure;
    return false;
  }

  void take_grown(std::vector<bool>& left) {
    progress_.summary.adjustments += growing_->adjustments();
    progress_.summary.loops_closed += growing_->loops_closed();
    const bool keep = growing_->posed_count() >= static_cast<std::size_t>(input_.options.min_block_photos) ||
                      progress_.blocks.empty();
    for (std::size_t i = 0; i < photos(); ++i) {
      if (!left[i]) continue;
      const std::string& failure = growing_->failure(PhotoIndex(i));
      if (growing_->posed(PhotoIndex(i))) {
        left[i] = false;
        if (!keep)
          progress_.reasons[i] = fmt::format("in a separate group of {} photos, {} needed for a block",
                                             growing_->posed_count(), input_.options.min_block_photos);
      } else if (progress_.blocks.empty()) {
        progress_.reasons[i] = failure.empty() ? "shares no tie points with the block" : failure;
      }
    }
    if (!keep || growing_->point_count() == 0) return;
    if (progress_.blocks.empty()) progress_.summary.held = growing_->held();
    progress_.blocks.push_back(growing_->to_block());
    make_level(progress_.blocks.back());
  }

  // Places that look alike, laid on each other? Then once more without the pairs that say so, if that agrees better.
  // False where the blocks stand as they are.
  bool try_without_twins() {
    constexpr double kSuspicious = 0.5;  // relative share of a pair, and so many of them, that ask for a closer look
    constexpr std::size_t kSuspects = 5;
    constexpr int kAttempts = 3;
    std::vector<SharedSight> sights;
    for (const Block& block : progress_.blocks) {
      const auto of_block = shared_sights(input_, block);
      sights.insert(sights.end(), of_block.begin(), of_block.end());
    }
    const double agreed = agreement(sights);
    if (progress_.attempts > 0 && !is_better_than_before(agreed)) {
      input_.monitor.log(LogLevel::detail,
                         fmt::format("without them the photos agree no better ({:.0f} percent of the points in view "
                                     "are common, {:.0f} before): kept as before",
                                     100 * agreed, 100 * progress_.agreed));
      go_back();
      return false;
    }
    if (progress_.attempts >= kAttempts) return false;
    const std::vector<std::uint32_t> suspects = twin_pairs(sights, kSuspicious);
    if (suspects.size() < kSuspects) return false;
    input_.monitor.log(LogLevel::detail, fmt::format("{} of {} pairs share far fewer points than others at their angle",
                                                     suspects.size(), sights.size()));
    const std::vector<std::uint32_t> twins =
        pairs_of_twins(input_, tracks_, graph_of(input_, progress_), progress_.cameras);
    if (twins.empty()) return false;
    begin_without(twins, agreed);
    return true;
  }

  bool is_better_than_before(double agreed) const {
    const auto count = [](const std::vector<Block>& blocks) {
      std::size_t posed = 0;
      for (const Block& block : blocks) posed += block.photos.size();
      return static_cast<double>(posed);
    };
    return agreed > (progress_.attempts == 1 ? 1.1 : 1.0) * progress_.agreed &&
           count(progress_.blocks) > 0.9 * count(progress_.blocks_before);
  }

  void go_back() {
    progress_.blocks = std::move(progress_.blocks_before);
    progress_.reasons = std::move(progress_.reasons_before);
    progress_.summary = std::move(progress_.summary_before);
    input_.cut = std::move(progress_.cut_before);
  }

  void begin_without(const std::vector<std::uint32_t>& twins, double agreed) {
    progress_.blocks_before = std::exchange(progress_.blocks, {});
    progress_.reasons_before = std::exchange(progress_.reasons, std::vector<std::string>(photos()));
    progress_.summary_before = progress_.summary;
    progress_.cut_before = input_.cut;
    progress_.agreed = agreed;
    ++progress_.attempts;
    for (const std::uint32_t p : twins) input_.cut[p] = 1;
    tracks_ = tracks_of(input_);
    progress_.summary.cut_as_twins += twins.size();
    cut_contradictions();  // what they backed falls with them
    save();
  }

  OrientResult result() {
    OrientResult result;
    result.blocks = std::move(progress_.blocks);
    result.summary = std::move(progress_.summary);
    result.summary.photos = photos();
    for (const PairMatches& pair : input_.pairs) result.summary.pairs += pair.verified();
    std::stable_sort(result.blocks.begin(), result.blocks.end(),
                     [](const Block& a, const Block& b) { return a.photos.size() > b.photos.size(); });
    look_for_doubts(result);
    give_reasons(result);
    result.summary.blocks = result.blocks.size();
    result.summary.outcome = result.blocks.empty()
                                 ? "no block could be made"
                                 : fmt::format("{} of {} photos posed in {} block{}", result.summary.posed, photos(),
                                               result.blocks.size(), result.blocks.size() == 1 ? "" : "s");
    return result;
  }

  void look_for_doubts(OrientResult& result) {
    const ViewGraph graph = graph_of(input_, progress_);
    for (Block& block : result.blocks) {
      const AdjustOptions adjusting = final_adjust_options(block, input_.priors, input_.options, result.summary.held);
      BlockPrecision precision = precision_of(block, adjusting, input_.executor, input_.monitor);
      std::vector<DoubtfulPhoto> doubtful = doubtful_photos(input_, block, precision, graph);
      if (input_.options.leave_out_doubtful && !doubtful.empty() && doubtful.size() + 2 <= block.photos.size()) {
        for (const DoubtfulPhoto& d : doubtful) progress_.reasons[d.photo.value] = "doubtful: " + d.reason;
        leave_out(block, doubtful);
        precision = precision_of(block, adjusting, input_.executor, input_.monitor);
      } else {
        result.doubtful.insert(result.doubtful.end(), doubtful.begin(), doubtful.end());
      }
      result.precision.push_back(std::move(precision));
    }
  }

  void give_reasons(OrientResult& result) {
    std::vector<bool> posed(photos(), false);
    for (const Block& block : result.blocks)
      for (const PosedPhoto& photo : block.photos) posed[photo.photo.value] = true;
    for (std::size_t i = 0; i < photos(); ++i) {
      if (posed[i]) {
        ++result.summary.posed;
        continue;
      }
      std::string reason = reason_without_pairs(input_, PhotoIndex(i));
      if (reason.empty())
        reason =
            progress_.reasons[i] + (result.blocks.empty() ? std::string() : partners(input_, PhotoIndex(i), posed));
      result.unposed.push_back({PhotoIndex(i), std::move(reason)});
    }
  }

  using Clock = std::chrono::steady_clock;
  OrientInput input_;
  OrientCheckpoint* checkpoint_;
  Progress progress_;
  std::shared_ptr<const TrackSet> tracks_;
  std::unique_ptr<GrowingBlock> growing_;
  Clock::time_point saved_at_ = Clock::now();
  Clock::duration saving_takes_{};
};

}  // namespace

const char* name_of(OrientWay way) {
  return way == OrientWay::automatic ? "automatic" : way == OrientWay::growing ? "growing" : "all-at-once";
}

OrientResult orient(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors,
                    std::span<const PairMatches> pairs, const OrientOptions& options, const Executor& executor,
                    Monitor& monitor, OrientCheckpoint* checkpoint) {
  return OrientRun(photos, priors, pairs, options, executor, monitor, checkpoint).run();
}

}  // namespace icefield
