#include <Eigen/Core>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <numeric>
#include <tuple>

#include "icefield/feature/feature.h"
#include "icefield/base/error.h"
#include "src/feature/describe.h"
#include "src/feature/kinds.h"
#include "src/feature/scale_space.h"
#include "src/feature/spread.h"

namespace icefield {
namespace {

constexpr int kMoves = 4;  // rows and columns that a refined extremum may move

// To a fraction of a pixel and of a layer (Lowe 2004, section 4). False: too weak, on an edge, or it runs away.
bool refine(const Octave& octave, const FeatureOptions& options, float threshold, int layer, int x, int y,
            Candidate& out) {
  const int y0 = y;
  for (int attempt = 0; attempt < 5; ++attempt) {
    const auto at = [&](int dl, int dx, int dy) {
      return octave.difference[static_cast<std::size_t>(layer + dl)].row(y + dy)[x + dx];
    };
    const float v = at(0, 0, 0);
    const Eigen::Vector3f g(0.5f * (at(0, 1, 0) - at(0, -1, 0)), 0.5f * (at(0, 0, 1) - at(0, 0, -1)),
                            0.5f * (at(1, 0, 0) - at(-1, 0, 0)));
    const float xx = at(0, 1, 0) + at(0, -1, 0) - 2 * v, yy = at(0, 0, 1) + at(0, 0, -1) - 2 * v,
                ll = at(1, 0, 0) + at(-1, 0, 0) - 2 * v;
    const float xy = 0.25f * (at(0, 1, 1) - at(0, -1, 1) - at(0, 1, -1) + at(0, -1, -1));
    const float xl = 0.25f * (at(1, 1, 0) - at(1, -1, 0) - at(-1, 1, 0) + at(-1, -1, 0));
    const float yl = 0.25f * (at(1, 0, 1) - at(1, 0, -1) - at(-1, 0, 1) + at(-1, 0, -1));
    Eigen::Matrix3f h;
    h << xx, xy, xl, xy, yy, yl, xl, yl, ll;
    const float determinant = h.determinant();
    if (std::abs(determinant) < 1e-20f) return false;
    const Eigen::Vector3f offset = -(h.inverse() * g);
    if (!offset.allFinite()) return false;
    if (offset.cwiseAbs().maxCoeff() <= 0.6f) {
      const float value = v + 0.5f * g.dot(offset);
      if (std::abs(value) < threshold) return false;
      const float trace = xx + yy, det2 = xx * yy - xy * xy, r = options.max_edge_ratio;
      if (det2 <= 0 || trace * trace * r >= (r + 1) * (r + 1) * det2) return false;
      out.x = static_cast<float>(x) + offset[0];
      out.y = static_cast<float>(y) + offset[1];
      out.layer = static_cast<float>(layer) + offset[2];
      out.strength = std::abs(value);
      out.octave = octave.number;
      out.photo_x = octave.origin + out.x * octave.pixel_size;
      out.photo_y = octave.origin + out.y * octave.pixel_size;
      return true;
    }
    if (offset.cwiseAbs().maxCoeff() > 4) return false;
    x += static_cast<int>(std::lround(offset[0]));
    y += static_cast<int>(std::lround(offset[1]));
    layer += static_cast<int>(std::lround(offset[2]));
    if (layer < 1 || layer > options.layers || x < 2 || y < 2 || x >= octave.width - 2 || y >= octave.height - 2 ||
        std::abs(y - y0) > kMoves)
      return false;
  }
  return false;
}

std::vector<Candidate> find_candidates(const ImageF& grey, const FeatureOptions& options, ScaleSpaceOptions what,
                                       const RowKernels& kernels, const Executor& executor,
                                       std::vector<Octave>& octaves) {
  const float threshold = options.min_contrast * contrast_factor(grey, options) / static_cast<float>(options.layers),
              early = 0.5f * threshold;
  what.gaussian_layers = options.layers + 3;
  what.reach = kMoves + 2;
  std::vector<Candidate> candidates;
  octaves = stream_scale_space(grey, options, what, kernels, executor, [&](const Octave& octave, int begin, int end) {
    const int from = std::max(begin, 2), to = std::min(end, octave.height - 2);
    if (from >= to) return;
    constexpr std::size_t kRows = 4;
    std::vector<std::vector<Candidate>> parts(block_count(static_cast<std::size_t>(to - from), kRows));
    executor.blocks(
        static_cast<std::size_t>(to - from), kRows, [&](std::size_t part, std::size_t first, std::size_t last) {
          std::vector<std::int32_t> columns(static_cast<std::size_t>(octave.width));
          for (int y = from + static_cast<int>(first); y < from + static_cast<int>(last); ++y)
            for (int layer = 1; layer <= options.layers; ++layer) {
              const float* rows[9];
              for (int l = 0; l < 3; ++l)
                for (int dy = 0; dy < 3; ++dy)
                  rows[3 * l + dy] = octave.difference[static_cast<std::size_t>(layer - 1 + l)].row(y - 1 + dy);
              const int count = kernels.extrema(rows, octave.width, early, columns.data());
              for (int k = 0; k < count; ++k)
                if (Candidate candidate;
                    refine(octave, options, threshold, layer, columns[static_cast<std::size_t>(k)], y, candidate))
                  parts[part].push_back(candidate);
            }
        });
    for (const auto& part : parts) candidates.insert(candidates.end(), part.begin(), part.end());
  });
  return candidates;
}

// The features of one keypoint, one for each direction.
struct Described {
  int count = 0;
  float angles[kMaxAngles];
  std::array<std::uint8_t, kDescriptorSize> descriptors[kMaxAngles];
};

class Describer {
 public:
  Describer(const FeatureOptions& options, const std::vector<Candidate>& keypoints, const Executor& executor)
      : options_(options), keypoints_(keypoints), executor_(executor), described_(keypoints.size()) {}

  // Those of one octave, in parallel.
  void describe(const Octave& octave, const std::uint32_t* first, std::size_t count) {
    executor_.blocks(count, 16, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k) describe(octave, first[k]);
    });
  }
  const std::vector<Described>& described() const { return described_; }

 private:
  void describe(const Octave& octave, std::uint32_t keypoint) {
    const Candidate& c = keypoints_[keypoint];
    Described& out = described_[keypoint];
    const float sigma = layer_sigma(options_, c.layer);
    const auto nearest =
        static_cast<std::size_t>(std::clamp(static_cast<int>(std::lround(c.layer)), 0, options_.layers + 1));
    const LayerView& layer = octave.levels[nearest].view();
    if (options_.upright) {
      out.count = 1;
      out.angles[0] = 0;
    } else {
      out.count = kernels_.orientations(layer, c.x, c.y, sigma, out.angles);
    }
    for (int a = 0; a < out.count; ++a)
      kernels_.describe(layer, c.x, c.y, sigma, out.angles[a], out.descriptors[a].data());
  }

  const DescribeKernels kernels_ = best_describe_kernels();
  const FeatureOptions& options_;
  const std::vector<Candidate>& keypoints_;
  const Executor& executor_;
  std::vector<Described> described_;
};

// From the octaves as they are kept: the best first and no more than the budget needs, since one keypoint can give
// several features.
std::vector<Described> describe_kept(const std::vector<Octave>& octaves, const FeatureOptions& options,
                                     const std::vector<Candidate>& keypoints, const Executor& executor) {
  Describer describer(options, keypoints, executor);
  std::size_t done = 0, features = 0;
  const auto budget = static_cast<std::size_t>(options.max_features);
  while (done < keypoints.size() && features < budget) {
    const std::size_t end =
        std::min(keypoints.size(), done + (options.upright ? budget - features : (budget - features) * 4 / 5 + 1));
    // Neighbours after one another find their pixels in the cache.
    std::vector<std::uint32_t> order(end - done);
    std::iota(order.begin(), order.end(), static_cast<std::uint32_t>(done));
    const auto place = [&](std::uint32_t i) {
      const Candidate& c = keypoints[i];
      return std::make_tuple(c.octave, static_cast<int>(c.y) / 64, static_cast<int>(c.x) / 64, std::lround(c.layer), i);
    };
    std::sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) { return place(a) < place(b); });
    for (std::size_t first = 0, last = 0; first < order.size(); first = last) {
      const int octave = keypoints[order[first]].octave;
      while (last < order.size() && keypoints[order[last]].octave == octave) ++last;
      describer.describe(octaves[static_cast<std::size_t>(octave)], order.data() + first, last - first);
    }
    for (; done < end; ++done) features += static_cast<std::size_t>(describer.described()[done].count);
  }
  return describer.described();
}

// From the scale space made once more, for photos whose octaves would take too much memory.
std::vector<Described> describe_streamed(const ImageF& grey, const FeatureOptions& options, ScaleSpaceOptions what,
                                         const std::vector<Candidate>& keypoints, const RowKernels& kernels,
                                         const Executor& executor) {
  Describer describer(options, keypoints, executor);
  // By octave and from the top, as the rows come.
  std::vector<std::vector<std::uint32_t>> order;
  for (std::size_t i = 0; i < keypoints.size(); ++i) {
    const auto octave = static_cast<std::size_t>(keypoints[i].octave);
    if (octave >= order.size()) order.resize(octave + 1);
    order[octave].push_back(static_cast<std::uint32_t>(i));
  }
  for (auto& list : order)
    std::sort(list.begin(), list.end(), [&](std::uint32_t a, std::uint32_t b) {
      return keypoints[a].y != keypoints[b].y ? keypoints[a].y < keypoints[b].y : a < b;
    });
  std::vector<std::size_t> next(order.size(), 0);
  what.differences = false;
  what.gaussian_layers = what.levels;
  what.reach =
      static_cast<int>(std::ceil(kPatchReach * layer_sigma(options, static_cast<float>(options.layers) + 0.6f))) + 2;
  stream_scale_space(grey, options, what, kernels, executor, [&](const Octave& octave, int, int end) {
    const auto number = static_cast<std::size_t>(octave.number);
    if (number >= order.size()) return;
    const auto& list = order[number];
    const std::size_t first = next[number];
    std::size_t last = first;
    // The last rows take all that is left.
    while (last < list.size() && (end == octave.height || keypoints[list[last]].y < static_cast<float>(end))) ++last;
    next[number] = last;
    describer.describe(octave, list.data() + first, last - first);
  });
  return describer.described();
}

}  // namespace

Features find_gaussian_features(const ImageF& grey, const FeatureOptions& options, const ImageU8* mask,
                                const Executor& executor, double keep_bytes) {
  const RowKernels kernels = best_row_kernels();
  ScaleSpaceOptions what;
  what.doubled = starts_doubled(grey, options);
  const int levels = options.layers + 2;
  const bool keep = whole_level_bytes(static_cast<double>(grey.pixels()), what.doubled, levels) <= keep_bytes;
  what.levels = keep ? levels : 0;
  what.whole_levels = keep;
  std::vector<Octave> octaves;
  std::vector<Candidate> keypoints = find_candidates(grey, options, what, kernels, executor, octaves);
  const auto scale_of = [&](const Candidate& c) {
    return layer_sigma(options, c.layer) * std::exp2(static_cast<float>(c.octave)) * (what.doubled ? 0.5f : 1.0f);
  };
  if (mask) {
    const MaskSums sums(*mask);
    std::erase_if(keypoints, [&](const Candidate& c) {
      return sums.touches(c.photo_x, c.photo_y, std::max(2.0f, 3 * scale_of(c)));
    });
  }
  spread(keypoints, grey.width(), grey.height(), options.max_features);
  what.levels = levels;
  const std::vector<Described> described = keep ? describe_kept(octaves, options, keypoints, executor)
                                                : describe_streamed(grey, options, what, keypoints, kernels, executor);

  Features features;
  for (std::size_t i = 0; i < keypoints.size(); ++i)
    for (int a = 0; a < described[i].count && static_cast<int>(features.size()) < options.max_features; ++a) {
      const Candidate& c = keypoints[i];
      features.keypoints.push_back({c.photo_x, c.photo_y, scale_of(c), described[i].angles[a]});
      features.descriptors.insert(features.descriptors.end(), described[i].descriptors[a].begin(),
                                  described[i].descriptors[a].end());
    }
  return features;
}

Features find_features(const ImageF& grey, const FeatureOptions& options, const ImageU8* mask, const Executor& given,
                       Monitor& monitor) {
  if (!options.gaussian && !options.nonlinear)
    throw Error(ErrorKind::usage, "features", "of neither kind are asked for",
                "set feature.gaussian or feature.nonlinear to true");
  const Executor executor = given.watching(monitor);
  const std::size_t kinds = static_cast<std::size_t>(options.gaussian) + static_cast<std::size_t>(options.nonlinear);
  constexpr const char* kWhat = "find features of a photo";
  monitor.progress(kWhat, 0, kinds);
  Features features;
  if (options.gaussian) {
    features = find_gaussian_features(grey, options, mask, executor);
    monitor.progress(kWhat, 1, kinds);
  }
  if (options.nonlinear) {
    const Features more = find_nonlinear_features(grey, options, mask, executor);
    monitor.progress(kWhat, kinds, kinds);
    features.keypoints.insert(features.keypoints.end(), more.keypoints.begin(), more.keypoints.end());
    features.bits = more.bits;
  }
  return features;
}

}  // namespace icefield
