// depth_study FOLDER: depth maps of a set that `icefield-simulate photos` made, with its true cameras, each held
// against the true depth at its pixels; and how long they take. Nothing of orientation is in it.
#include <fmt/format.h>

#include <chrono>
#include <ctime>

#include "app/arguments.h"
#include "icefield/base/nearest.h"
#include "icefield/base/statistics.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "icefield/judge/compare.h"
#include "simulate/render.h"
#include "tests/tools/dense.h"

using namespace icefield;
using Clock = std::chrono::steady_clock;

namespace {

struct Counts {
  std::size_t in_view = 0, filled = 0, within_1 = 0, within_2 = 0, beyond_10 = 0;
  void add(const Counts& o) {
    in_view += o.in_view, filled += o.filled, within_1 += o.within_1, within_2 += o.within_2, beyond_10 += o.beyond_10;
  }
};

// By pixel that looks at the subject: GSD is that of the full-size photo.
Counts count(const DepthMap& map, const simulate::TrueMaps& truth, const Bounds& subject, double full_focal,
             float max_cost) {
  Counts c;
  const Eigen::Matrix3d to_world = map.pose.rotation().transpose();
  const double f = map.camera.focal();
  for (int y = 0; y < map.camera.height; ++y)
    for (int x = 0; x < map.camera.width; ++x) {
      const double t = truth.depth.at(x, y), d = map.depth.at(x, y);
      const Eigen::Vector3d line((x + 0.5 - map.camera.principal_point().x()) / f,
                                 (y + 0.5 - map.camera.principal_point().y()) / f, 1);
      const bool subject_here = t > 0 && subject.contains(map.pose.centre + to_world * (t * line));
      c.in_view += subject_here;
      if (!(d > 0) || map.cost_at(x, y) > max_cost || !subject.contains(map.pose.centre + to_world * (d * line)))
        continue;
      ++c.filled;
      const double off = t > 0 ? std::abs(d - t) / (t / full_focal) : 1e9;
      c.within_1 += off < 1, c.within_2 += off<2, c.beyond_10 += off> 10;
    }
  return c;
}

// GSD at each point, and its distance in GSD to the plane of the nearest true point: the true points are samples
// themselves.
std::vector<std::pair<float, float>> to_planes(const PointCloud& cloud, const PointCloud& truth) {
  const NearestPoints tree(truth.positions);
  std::vector<std::pair<float, float>> result;
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    const Eigen::Vector3f p = (cloud.position(i) - truth.origin).cast<float>();
    const std::size_t at = tree.nearest(p).index;
    result.emplace_back(truth.gsd[at], std::abs(truth.normals[at].dot(p - truth.positions[at])) / truth.gsd[at]);
  }
  return result;
}

// In memory, and in a folder where one is given, so that only fusion need be done again.
class Kept : public DepthMapStore {
 public:
  explicit Kept(std::filesystem::path folder) : folder_(std::move(folder)) {
    if (!folder_.empty()) std::filesystem::create_directories(folder_);
  }
  std::optional<DepthMap> get(PhotoIndex photo, int round) override {
    if (auto map = maps_.get(photo, round); map || folder_.empty() || !std::filesystem::exists(file(photo, round)))
      return map;
    const std::string bytes = read_file(file(photo, round));
    DepthMap map = DepthMap::from_bytes(std::as_bytes(std::span(bytes)));
    maps_.put(photo, round, map);
    return map;
  }
  void put(PhotoIndex photo, int round, const DepthMap& map) override {
    last_ = Clock::now();
    maps_.put(photo, round, map);
    if (folder_.empty()) return;
    const Bytes bytes = map.to_bytes();
    write_file(file(photo, round), std::string(reinterpret_cast<const char*>(bytes.data()), bytes.size()));
  }
  // Until the last map came in.
  double seconds(Clock::time_point start) const {
    return last_ ? std::chrono::duration<double>(*last_ - start).count() : 0;
  }

 private:
  std::filesystem::path file(PhotoIndex photo, int round) const {
    return folder_ / fmt::format("{}-{}.depth", photo.value, round);
  }
  std::filesystem::path folder_;
  test::Maps maps_;
  std::optional<Clock::time_point> last_;
};

// What is hard for dense stereo, each by itself; a pixel counts for the first that it meets.
enum class Case : std::uint8_t { sky, thinnest, thin, border, weak, wet, slanted, steep, plain };
constexpr const char* kCaseNames[] = {"sky",
                                      "thinner than 2 px",
                                      "2 to 6 px thick",
                                      "within 3 px of a border",
                                      "next to no texture",
                                      "wet ice",
                                      "slanted, 60 to 75 degrees",
                                      "slanted, over 75 degrees",
                                      "the rest"};
constexpr std::size_t kCases = std::size(kCaseNames);

struct CaseCounts {
  std::size_t pixels = 0, in_cloud = 0, right = 0, wrong = 0;
};

// Pixels of the map by case: how many stand in the cloud, and how far these points of it are from the true surface
// (`distance_gsd`).
std::array<CaseCounts, kCases> count_cases(const DepthMap& map, const simulate::Scene& scene, const Bounds& subject,
                                           float max_cost, const NearestPoints& cloud,
                                           const std::vector<float>& distance_gsd, const Eigen::Vector3d& origin,
                                           const Executor& executor) {
  const int width = map.camera.width, height = map.camera.height;
  const double f = map.camera.focal();
  const Eigen::Matrix3d to_world = map.pose.rotation().transpose();
  const auto line = [&](int x, int y) {
    return Eigen::Vector3d((x + 0.5 - map.camera.principal_point().x()) / f,
                           (y + 0.5 - map.camera.principal_point().y()) / f, 1);
  };
  std::vector<std::optional<simulate::Hit>> hits(static_cast<std::size_t>(width) * static_cast<std::size_t>(height));
  const auto hit_at = [&](int x, int y) -> std::optional<simulate::Hit>& {
    return hits[static_cast<std::size_t>(y) * static_cast<std::size_t>(width) + static_cast<std::size_t>(x)];
  };
  Monitor silent;
  executor.run("", static_cast<std::size_t>(height), silent, [&](std::size_t row) {
    for (int x = 0; x < width; ++x)
      hit_at(x, static_cast<int>(row)) =
          scene.trace(map.pose.centre.cast<float>(), (to_world * line(x, static_cast<int>(row))).cast<float>());
  });
  const auto case_of = [&](int x, int y) {
    const auto& hit = hit_at(x, y);
    if (!hit) return Case::sky;
    if (hit->material == simulate::Material::pole) {
      // Its run of pixels, the shorter way across.
      int runs[2] = {1, 1};
      for (int axis = 0; axis < 2; ++axis)
        for (const int side : {-1, 1})
          for (int k = 1; k < 40; ++k, ++runs[axis]) {
            const int u = axis == 0 ? x + side * k : x, v = axis == 0 ? y : y + side * k;
            if (u < 0 || v < 0 || u >= width || v >= height || !hit_at(u, v) || hit_at(u, v)->object != hit->object)
              break;
          }
      const int thick = std::min(runs[0], runs[1]);
      if (thick < 2) return Case::thinnest;
      if (thick <= 6) return Case::thin;
    }
    for (int dy = -3; dy <= 3; ++dy)
      for (int dx = -3; dx <= 3; ++dx) {
        const int u = std::clamp(x + dx, 0, width - 1), v = std::clamp(y + dy, 0, height - 1);
        if (!hit_at(u, v) || std::abs(hit_at(u, v)->distance / hit->distance - 1) > 0.04f) return Case::border;
      }
    if (hit->material == simulate::Material::snow) return Case::weak;
    if (hit->material == simulate::Material::clear_ice) return Case::wet;
    const double facing = std::abs((to_world * line(x, y)).normalized().dot(hit->geometric_normal.cast<double>()));
    return facing < std::cos(75 * 3.14159265 / 180) ? Case::steep : facing < 0.5 ? Case::slanted : Case::plain;
  };
  std::vector<std::array<CaseCounts, kCases>> rows(static_cast<std::size_t>(height));
  executor.run("", rows.size(), silent, [&](std::size_t row) {
    for (int x = 0, y = static_cast<int>(row); x < width; ++x) {
      const auto& hit = hit_at(x, y);
      const Eigen::Vector3d ray = to_world * line(x, y);
      if (hit && !subject.contains(map.pose.centre + hit->distance * ray)) continue;
      CaseCounts& c = rows[row][static_cast<std::size_t>(case_of(x, y))];
      ++c.pixels;
      const double d = map.depth.at(x, y);
      if (!(d > 0) || map.cost_at(x, y) > max_cost) continue;
      const Eigen::Vector3d p = map.pose.centre + d * ray;
      if (!subject.contains(p)) continue;
      const double pixel = d / f;
      const auto nearest = cloud.nearest((p - origin).cast<float>());
      if (std::sqrt(nearest.distance2) > 1.5 * pixel) continue;
      ++c.in_cloud;
      c.right += distance_gsd[nearest.index] <= 2, c.wrong += distance_gsd[nearest.index] > 10;
    }
  });
  std::array<CaseCounts, kCases> all{};
  for (const auto& row : rows)
    for (std::size_t k = 0; k < kCases; ++k)
      all[k].pixels += row[k].pixels, all[k].in_cloud += row[k].in_cloud, all[k].right += row[k].right,
          all[k].wrong += row[k].wrong;
  return all;
}

double percent(std::size_t part, std::size_t whole) {
  return whole > 0 ? 100.0 * static_cast<double>(part) / static_cast<double>(whole) : 0;
}

// The cloud as it is, and what cleaning did to it as it was.
void judge_cloud(const DenseResult& result, const CloudComparison& kept, const PointCloud& truth, const Bounds& box,
                 const Executor& executor, Monitor& monitor) {
  for (const CloudScore& s : kept.scores)
    fmt::print("at {:g} GSD: accuracy {:.1f}, completeness {:.1f}, F1 {:.3f}\n", s.at_gsd, s.accuracy_percent,
               s.completeness_percent, s.f1);
  for (const CloudComparison::SeenBy& seen : kept.seen_by)
    fmt::print(
        "  of what {} or more photos see (up to the next line), {:.1f} percent of the surface: {:.1f} complete\n",
        seen.photos, percent(seen.points, kept.counted_points), percent(seen.found, seen.points));
  std::size_t good = 0, far = 0, good_out = 0, far_out = 0;
  for (const float d : kept.distance_gsd) good += d <= 2, far += d > 10;
  std::array<std::array<std::size_t, 3>, kFaults> by_fault{};
  if (result.aside.size() > 0) {
    const CloudComparison aside = compare_clouds(result.aside, truth, box, executor, monitor);
    for (std::size_t i = 0; i < aside.distance_gsd.size(); ++i) {
      const float d = aside.distance_gsd[i];
      good_out += d <= 2, far_out += d > 10;
      auto& counts = by_fault[result.aside.faults[i]];
      ++counts[0], counts[1] += d <= 2, counts[2] += d > 10;
    }
  }
  fmt::print("of the points as merged {} within 2 GSD, {} over 10: cleaning took {:.2f} and {:.1f} percent of them\n",
             good + good_out, far + far_out, percent(good_out, good + good_out), percent(far_out, far + far_out));
  for (std::size_t f = 1; f < kFaults; ++f)
    fmt::print("  {}: {} points, {} of them within 2 GSD, {} over 10\n", describe(static_cast<Fault>(f)),
               by_fault[f][0], by_fault[f][1], by_fault[f][2]);
  if (result.cloud.errors.size() != kept.distance_gsd.size()) return;
  // Expected errors against true distances, by fifths of the former.
  std::vector<std::pair<float, float>> pairs;
  const auto planes = to_planes(result.cloud, truth);
  for (std::size_t i = 0; i < planes.size(); ++i)
    if (kept.distance_gsd[i] <= 10) pairs.emplace_back(result.cloud.errors[i] / planes[i].first, planes[i].second);
  std::sort(pairs.begin(), pairs.end());
  for (std::size_t k = 0; k < 5 && !pairs.empty(); ++k) {
    double expected = 0;
    std::vector<float> off;
    for (std::size_t i = k * pairs.size() / 5; i < (k + 1) * pairs.size() / 5; ++i)
      expected += pairs[i].first, off.push_back(pairs[i].second);
    const float middle = median(off);
    fmt::print("expected error {:.3f} GSD: true distance, middle, {:.3f}, times {:.2f} of what a normal error has\n",
               expected / static_cast<double>(off.size()), middle,
               middle / (0.6745 * expected / static_cast<double>(off.size())));
  }
}

struct Request {
  std::string folder, folder_of_maps, cloud, surface;
  DenseOptions options;
  int threads = 2, points = 600;
  std::size_t photos = 0;
  bool each = false, cases = false, time_only = false;
};

void ask(Arguments& app, Request& r) {
  DenseOptions& options = r.options;
  app.option("folder", r.folder).required();
  app.option("--photos", r.photos, "the first of them only; 0: all");
  app.option("--shrink", options.shrink).with_default();
  app.option("--neighbours", options.max_neighbours).with_default();
  app.option("--coarse", options.coarse_iterations).with_default();
  app.option("--fine", options.fine_iterations).with_default();
  app.option("--consistency", options.consistency_rounds).with_default();
  app.option("--radius", options.patch_radius).with_default();
  app.option("--step", options.patch_step).with_default();
  app.option("--weak", options.weak_contrast).with_default();
  app.option("--detail", options.detail_contrast).with_default();
  app.option("--wide", options.wide_patch).with_default();
  app.option("--prior", options.plane_prior).with_default();
  app.option("--points", r.points, "tie points that each photo starts").with_default();
  app.option("--threads", r.threads).with_default();
  app.option("--maps", r.folder_of_maps, "folder that depth maps are kept in and taken from");
  app.option("--cloud", r.cloud, "PLY that the cloud goes to");
  app.option("--surface", r.surface, "PLY that the true surface goes to");
  app.option("--conflicts", options.cleaning.max_conflicts_per_view).with_default();
  app.option("--loneliness", options.cleaning.max_loneliness).with_default();
  app.option("--island", options.cleaning.min_island_points).with_default();
  app.option("--reach", options.cleaning.reach).with_default();
  app.option("--min-views", options.min_views).with_default();
  app.option("--spacing", options.spacing).with_default();
  app.option("--tile", options.tile_samples).with_default();
  app.flag("--thin", options.keep_thin);
  app.flag("--time-only", r.time_only, "no comparison with the truth");
  app.flag("--each", r.each, "a line for each photo");
  app.flag("--cases", r.cases, "thin things, borders, slant, weak texture, gloss and sky by themselves: a table");
}

// The set, its truth and the maps of it.
struct Study {
  const Request& request;
  const Executor& executor;
  simulate::PlanOptions plan = simulate::read_plan(request.folder);
  simulate::Scene scene{plan.scene};
  std::vector<simulate::PlannedPhoto> planned = simulate::plan_photos(plan);
  Bounds box = scene.subject();
  Kept maps{request.folder_of_maps};
  Monitor monitor;
  DenseResult result;

  Study(const Request& r, const Executor& e) : request(r), executor(e) {
    if (r.photos > 0) planned.resize(std::min(r.photos, planned.size()));
  }

  void densify() {
    const Block block = test::true_block(scene, planned, request.points);
    test::Photos photos(std::filesystem::path(request.folder) / "photos");
    const auto start = Clock::now();
    const std::clock_t cpu_start = std::clock();
    result = icefield::densify(block, photos, maps, box, request.options, executor, monitor);
    const double seconds = std::chrono::duration<double>(Clock::now() - start).count(),
                 cpu = static_cast<double>(std::clock() - cpu_start) / CLOCKS_PER_SEC;
    const double maps_made = static_cast<double>(std::max<std::size_t>(1, result.summary.maps));
    fmt::print(
        "{} maps in {:.1f} s: {:.2f} s each, {:.2f} s of all cores, fusion included ({:.1f} s without maps); {} "
        "points in {} tiles\n",
        result.summary.maps, seconds, seconds / maps_made, cpu / maps_made, seconds - maps.seconds(start),
        result.cloud.size(), result.summary.tiles);
  }

  std::optional<DepthMap> map(std::size_t i) { return maps.get(PhotoIndex(i), request.options.consistency_rounds); }

  void judge_maps() {
    Counts all;
    for (std::size_t i = 0; i < planned.size(); ++i) {
      const auto depths = map(i);
      if (!depths) continue;
      const Counts c = count(*depths, simulate::true_maps(scene, depths->camera, depths->pose, executor), box,
                             planned[i].shot.camera.focal(), request.options.max_cost);
      all.add(c);
      if (request.each)
        fmt::print("{} filled {:.1f} percent, within 2 GSD {:.1f}, over 10 {:.2f}\n", planned[i].name,
                   100.0 * c.filled / c.in_view, 100.0 * c.within_2 / c.filled, 100.0 * c.beyond_10 / c.filled);
    }
    const double filled = static_cast<double>(all.filled);
    fmt::print(
        "of the pixels at the subject {:.1f} percent filled; of these within 1 GSD {:.1f}, within 2 GSD {:.1f}, over "
        "10 GSD {:.2f} percent\n",
        100 * filled / static_cast<double>(all.in_view), 100 * static_cast<double>(all.within_1) / filled,
        100 * static_cast<double>(all.within_2) / filled, 100 * static_cast<double>(all.beyond_10) / filled);
  }

  void judge_cloud_and_cases() {
    // As compare_clouds does: a mean may end up just outside.
    for (PointCloud* cloud : {&result.cloud, &result.aside}) {
      PointCloud inside;
      inside.origin = cloud->origin;
      for (std::size_t i = 0; i < cloud->size(); ++i)
        if (box.contains(cloud->position(i))) inside.append(*cloud, i);
      *cloud = std::move(inside);
    }
    const PointCloud truth = simulate::true_surface(scene, planned, box, executor, monitor);
    if (!request.cloud.empty()) write_ply(request.cloud, result.cloud);
    if (!request.surface.empty()) write_ply(request.surface, truth);
    const CloudComparison kept = compare_clouds(result.cloud, truth, box, executor, monitor);
    judge_cloud(result, kept, truth, box, executor, monitor);
    if (request.cases && result.cloud.size() > 0) judge_cases(kept);
  }

  void judge_cases(const CloudComparison& kept) {
    const NearestPoints tree(result.cloud.positions);
    std::array<CaseCounts, kCases> sums{};
    for (std::size_t i = 0; i < planned.size(); ++i) {
      const auto depths = map(i);
      if (!depths) continue;
      const auto counts = count_cases(*depths, scene, box, request.options.max_cost, tree, kept.distance_gsd,
                                      result.cloud.origin, executor);
      for (std::size_t k = 0; k < kCases; ++k)
        sums[k].pixels += counts[k].pixels, sums[k].in_cloud += counts[k].in_cloud, sums[k].right += counts[k].right,
            sums[k].wrong += counts[k].wrong;
    }
    fmt::print("{:<27} {:>9} {:>11} {:>13} {:>14}\n", "pixels that show", "pixels", "in cloud %", "of it right %",
               "over 10 GSD %");
    for (std::size_t k = 0; k < kCases; ++k)
      fmt::print("{:<27} {:>9} {:>11.1f} {:>13.1f} {:>14.2f}\n", kCaseNames[k], sums[k].pixels,
                 percent(sums[k].in_cloud, sums[k].pixels), percent(sums[k].right, sums[k].in_cloud),
                 percent(sums[k].wrong, sums[k].in_cloud));
  }
};

}  // namespace

int main(int argc, char** argv) {
  Arguments app("Depth maps of a made-up set against truth");
  Request request;
  ask(app, request);
  if (!app.parse(argc, argv)) return app.status();
  try {
    const Executor executor(request.threads);
    Study study(request, executor);
    study.densify();
    if (request.time_only) return 0;
    study.judge_maps();
    study.judge_cloud_and_cases();
  } catch (const Error& error) {
    fmt::print(stderr, "depth_study: {}\n", error.what());
    return 3;
  }
}
