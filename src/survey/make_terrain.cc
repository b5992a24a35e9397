#include "icefield/survey/make_terrain.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "icefield/base/statistics.h"
#include "icefield/io/raster_file.h"
#include "icefield/terrain/ground.h"
#include "icefield/terrain/height_model.h"
#include "icefield/terrain/volume.h"
#include "src/survey/raster_windows.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

double spacing_of(const TiledCloud& cloud) {
  std::vector<double> known;
  for (const TiledCloud::Tile& tile : cloud.tiles())
    if (tile.spacing > 0) known.push_back(tile.spacing);
  for (std::size_t t = 0; known.empty() && t < cloud.tiles().size(); ++t)
    if (const double s = typical_spacing(cloud.read(t)); s > 0) known.push_back(s);
  return known.empty() ? 0 : median(known);
}

// Two significant digits: a size that can be said.
double round_size(double size) {
  const double unit = std::pow(10, std::floor(std::log10(size)) - 1);
  return std::round(size / unit) * unit;
}

// A hint that cannot be meant is no hint.
void check_hint(const std::vector<Vector2d>& outline, const Vector3d& low, const Vector3d& high, const char* name,
                std::size_t number) {
  const auto fail = [&](const char* fault, const char* remedy) {
    throw Error(ErrorKind::usage, fmt::format("{}, outline {}", name, number), fault, remedy);
  };
  if (crosses_itself(outline)) fail("crosses itself", "draw it around one area");
  Vector2d from = outline[0], to = from;
  for (const Vector2d& corner : outline) from = from.cwiseMin(corner), to = to.cwiseMax(corner);
  if ((from - high.head<2>()).maxCoeff() > 0 || (low.head<2>() - to).maxCoeff() > 0)
    fail("lies outside of the cloud", "give it in the coordinates of the cloud");
}

// Running figures of a raster.
class Counting {
 public:
  explicit Counting(RasterReport& report) : report_(report) {}
  void add(const HeightModel& model) {
    for (std::size_t i = 0; i < model.heights.data().size(); ++i) {
      const float z = model.heights.data()[i];
      if (!std::isfinite(z)) continue;
      ++(model.distance.data()[i] > 0 ? report_.filled : report_.measured);
      low_ = std::min<double>(low_, z), high_ = std::max<double>(high_, z);
      if (model.distance.data()[i] > 0) continue;
      // A histogram of errors in steps of a fiftieth.
      const int bin = static_cast<int>(std::lround(50 * std::log(std::max(1e-12, 1.0 * model.sigma.data()[i]))));
      ++errors_[bin];
    }
  }
  const RasterReport& report() const { return report_; }
  void finish(const GridFrame& frame) {
    report_.columns = frame.columns, report_.rows = frame.rows;
    report_.low = report_.measured + report_.filled > 0 ? low_ : 0;
    report_.high = report_.measured + report_.filled > 0 ? high_ : 0;
    std::uint64_t sum = 0;
    for (const auto& [bin, count] : errors_) {
      sum += count;
      if (2 * sum >= report_.measured) {
        report_.sigma = std::exp(bin / 50.0);
        break;
      }
    }
  }

 private:
  RasterReport& report_;
  double low_ = std::numeric_limits<double>::infinity(), high_ = -low_;
  std::map<int, std::uint64_t> errors_;
};

// A height model as it is written: heights, and beside them what they are worth.
class ModelWriter {
 public:
  ModelWriter(const std::filesystem::path& heights, const std::filesystem::path& quality, const GridFrame& frame,
              const Datum& datum, const std::string& what, const std::string& fingerprint, RasterReport& report)
      : frame_(frame),
        counting_(report),
        heights_(heights, content(frame, datum, {what}, fingerprint)),
        quality_(quality, content(frame, datum,
                                  {"expected error of the height (one standard deviation)", "points used",
                                   "distance that the height is filled over; 0: measured"},
                                  fingerprint)) {}
  void write(const Window& window, const HeightModel& model) {
    counting_.add(model);
    heights_.write(window.column, window.row, model.heights);
    ImageF quality(window.width, window.height, 3);
    for (std::size_t i = 0; i < model.heights.data().size(); ++i) {
      const bool there = std::isfinite(model.heights.data()[i]);
      float* q = quality.values().data() + 3 * i;
      q[0] = there ? model.sigma.data()[i] : std::numeric_limits<float>::quiet_NaN();
      q[1] = model.points.data()[i];
      q[2] = there ? model.distance.data()[i] : std::numeric_limits<float>::quiet_NaN();
    }
    quality_.write(window.column, window.row, quality);
  }
  // `spacing`: of the points.
  void finish(double spacing) {
    counting_.finish(frame_);
    const RasterReport& r = counting_.report();
    heights_.note("ICEFIELD_EXPECTED_ERROR", fmt::format("{:.3g}", r.sigma));
    heights_.note("ICEFIELD_MEASURED_PERCENT", fmt::format("{:.2f}", r.share(r.measured)));
    heights_.note("ICEFIELD_POINT_SPACING", fmt::format("{:.3g}", spacing));
    heights_.finish();
    quality_.finish();
  }

 private:
  static RasterContent content(const GridFrame& frame, const Datum& datum, std::vector<std::string> bands,
                               const std::string& fingerprint) {
    RasterContent c;
    c.frame = frame, c.datum = datum, c.bands = std::move(bands), c.fingerprint = fingerprint;
    return c;
  }
  GridFrame frame_;
  Counting counting_;
  RasterWriter heights_, quality_;
};

}  // namespace

TerrainReport make_terrain(const TiledCloud& cloud, double gsd, const TerrainSettings& settings,
                           const TerrainFiles& files, const std::string& fingerprint, const Executor& executor,
                           Monitor& monitor) {
  TerrainReport report;
  const Datum& datum = cloud.content().datum;
  if (datum.units == "degree")
    throw Error(ErrorKind::usage, cloud.file().string(), "has coordinates in degrees",
                "bring it into a projected coordinate system first");
  const Executor watched = executor.watching(monitor);
  const double spacing = spacing_of(cloud);
  if (!(spacing > 0))
    throw Error(ErrorKind::computation, cloud.file().string(), "has too few points for terrain",
                "give a cloud with more points");
  report.spacing = spacing;
  Vector3d low = Vector3d::Constant(std::numeric_limits<double>::infinity()), high = -low;
  for (const TiledCloud::Tile& tile : cloud.tiles())
    if (tile.points() > 0) low = low.cwiseMin(tile.low), high = high.cwiseMax(tile.high);
  // Where the cells of both models lie is settled before anything is worked out.
  const double cell = settings.cell > 0 ? settings.cell : round_size(gsd > 0 ? gsd : spacing);
  report.cell = cell;
  const GridFrame frame = grid_over(low.head<2>(), high.head<2>(), cell);
  GroundOptions how = settings.ground;
  how.ground_within = outlines_of_text(settings.ground_within, "terrain.ground_within");
  how.other_within = outlines_of_text(settings.other_within, "terrain.other_within");
  for (const auto& [outlines, name] :
       {std::pair(&how.ground_within, "terrain.ground_within"), {&how.other_within, "terrain.other_within"}})
    for (std::size_t k = 0; k < outlines->size(); ++k) check_hint((*outlines)[k], low, high, name, k + 1);
  GroundFinder ground(low, high, spacing, how);
  const std::size_t tiles = cloud.tiles().size();
  for (std::size_t t = 0; t < tiles; ++t) {
    monitor.progress("ground points", t, tiles);
    monitor.check();
    ground.add(cloud.read(t));
  }
  monitor.progress("ground points", tiles, tiles);
  ground.solve(watched, monitor);
  report.ground = ground.summary();
  {
    CloudContent content = cloud.content();
    content.classes = content.class_confidence = true;
    content.spacing = spacing, content.tiled = true, content.fingerprint = fingerprint;
    CloudWriter out(files.classes, CloudFormat::ply, content);
    for (std::size_t t = 0; t < tiles; ++t) {
      monitor.progress("classes", t, tiles);
      monitor.check();
      PointCloud part = cloud.read(t);
      if (part.size() == 0) continue;
      ground.classify(part, watched);
      for (const std::uint8_t c : part.classes) ++report.classes[std::min<std::size_t>(c, report.classes.size() - 1)];
      out.add_tile(part, cloud.tiles()[t].spacing > 0 ? cloud.tiles()[t].spacing : spacing);
    }
    monitor.progress("classes", tiles, tiles);
    out.finish();
  }
  const TiledCloud classed(files.classes);
  HeightOptions heights = settings.heights;
  const double margin = height_margin(cell, spacing, heights);
  HeightOptions below = heights;
  below.fill = settings.ground_fill > 0 ? settings.ground_fill : 0.5 * settings.ground.widest;
  GroundBelow from;
  from.height = [&](const Vector2d& place) { return ground.height_at(place); };
  from.distance = [&](const Vector2d& place) { return ground.distance_at(place); };
  ModelWriter surface(files.surface, files.surface_quality, frame, datum, "height of the surface", fingerprint,
                      report.surface),
      terrain(files.ground, files.ground_quality, frame, datum, "height of the ground", fingerprint, report.terrain);
  // Some 160 bytes for each point and 60 for each cell.
  const int side = window_side(400, 0.5 * static_cast<double>(executor.memory_bytes()), 256);
  each_window(frame, side, "heights", monitor, [&](const Window& window) {
    Bounds box;
    const Vector2d corner = frame.corner + cell * Vector2d(window.column, -window.row),
                   far = corner + cell * Vector2d(window.width, -window.height);
    const Vector2d middle = 0.5 * (corner + far), half = 0.5 * (corner - far).cwiseAbs();
    box.centre = Vector3d(middle.x(), middle.y(), 0.5 * (low.z() + high.z()));
    box.half_size = Vector3d(half.x() + margin + cell, half.y() + margin + cell, 0.5 * (high.z() - low.z()) + cell);
    const PointCloud points = classed.read(box);
    surface.write(window, surface_heights(points, frame, window, spacing, heights, watched));
    terrain.write(window, ground_heights(points, from, frame, window, spacing, below, watched));
  });
  surface.finish(spacing);
  terrain.finish(spacing);
  report.outcome = "made";
  return report;
}

}  // namespace icefield
