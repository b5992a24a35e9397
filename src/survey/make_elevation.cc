#include "icefield/survey/make_elevation.h"

#include <fmt/format.h>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "icefield/io/raster_file.h"
#include "icefield/survey/make_orthomosaic.h"
#include "icefield/terrain/height_model.h"
#include "icefield/terrain/volume.h"
#include "src/survey/cloud_frames.h"
#include "src/survey/raster_windows.h"

namespace icefield {
namespace fs = std::filesystem;

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

// Removed when it goes.
struct Scratch {
  fs::path file;
  ~Scratch() {
    std::error_code ignored;
    fs::remove(file, ignored);
  }
};

// Into the plane's frame: x to the right, y up, z towards the photos.
struct PlaneFrame {
  Matrix3d turn = Matrix3d::Identity();  // rows
  Vector3d middle = Vector3d::Zero();
  double off = 0;  // RMS of the corners' distances
  Vector3d operator()(const Vector3d& p) const { return turn * (p - middle); }
};

PlaneFrame frame_through(const std::vector<Vector3d>& corners, const Block& block) {
  PlaneFrame frame;
  for (const Vector3d& c : corners) frame.middle += c / static_cast<double>(corners.size());
  Matrix3d spread = Matrix3d::Zero();
  for (const Vector3d& c : corners) spread += (c - frame.middle) * (c - frame.middle).transpose();
  const Eigen::SelfAdjointEigenSolver<Matrix3d> solved(spread);
  constexpr double kThin = 1e-6;
  if (!(solved.eigenvalues()[1] > kThin * solved.eigenvalues()[2]))
    throw Error(ErrorKind::usage, "the plane's corners", "lie on one line", "give three that span the facade");
  frame.off = std::sqrt(std::max(0.0, solved.eigenvalues()[0]) / static_cast<double>(corners.size()));
  Vector3d normal = solved.eigenvectors().col(0);
  double side = 0;
  for (const PosedPhoto& photo : block.photos) side += normal.dot(photo.pose.centre - frame.middle) > 0 ? 1 : -1;
  if (side < 0) normal = -normal;
  // Level planes have no up of their own.
  const Vector3d up = std::abs(normal.z()) < 0.98 ? Vector3d::UnitZ() : Vector3d::UnitY();
  const Vector3d y = (up - normal.dot(up) * normal).normalized();
  frame.turn.row(0) = y.cross(normal), frame.turn.row(1) = y, frame.turn.row(2) = normal;
  return frame;
}

}  // namespace

ElevationReport make_elevation(const ElevationSource& source, const ElevationOptions& options,
                               const OrthomosaicSettings& settings, const ElevationFiles& files,
                               const Executor& executor, Monitor& monitor) {
  if (options.corners.size() < 3)
    throw Error(ErrorKind::usage, "the plane", fmt::format("has {} corners", options.corners.size()),
                "give three or more, X Y Z each");
  const Executor watched = executor.watching(monitor);
  std::vector<Vector3d> corners;
  for (const Vector3d& c : options.corners) corners.push_back(source.frame.to_local(c));
  const PlaneFrame plane = frame_through(corners, source.block);
  std::vector<Vector2d> outline;
  Vector2d low = Vector2d::Constant(std::numeric_limits<double>::infinity()), high = -low;
  for (const Vector3d& c : corners) {
    outline.push_back(plane(c).head<2>());
    low = low.cwiseMin(outline.back()), high = high.cwiseMax(outline.back());
  }
  const bool clipped = outline.size() > 3;
  if (clipped && crosses_itself(outline))
    throw Error(ErrorKind::usage, "the plane's corners", "make an outline that crosses itself",
                "give them in the order of the way around");
  const double longer = (high - low).maxCoeff(), depth = options.depth > 0 ? options.depth : 0.25 * longer;
  ElevationReport report;
  report.right = plane.turn.row(0), report.up = plane.turn.row(1), report.towards = plane.turn.row(2);
  report.middle = source.frame.to_world(plane.middle), report.plane_rms = plane.off, report.depth = depth;
  // The part of the cloud that is drawn, in the plane's frame.
  const Scratch part_file{files.picture.string() + ".points"};
  std::vector<double> spacings;
  Vector2d seen_low = Vector2d::Constant(std::numeric_limits<double>::infinity()), seen_high = -seen_low;
  {
    CloudContent content = source.cloud.content();
    content.origin = Vector3d::Zero(), content.datum = {}, content.tiled = true, content.fingerprint = "";
    CloudWriter out(part_file.file, CloudFormat::ply, content);
    const std::size_t tiles = source.cloud.tiles().size();
    for (std::size_t t = 0; t < tiles; ++t) {
      monitor.progress("points of the facade", t, tiles);
      monitor.check();
      PointCloud cloud = source.cloud.read(t);
      if (source.frame.curved()) {
        cloud = cloud_in_block(std::move(cloud), source.frame);
      } else {
        cloud.origin -= source.frame.origin();
      }
      std::vector<std::uint32_t> near;
      for (std::size_t i = 0; i < cloud.size(); ++i) {
        const Vector3d p = plane(cloud.position(i));
        if (std::abs(p.z()) > depth) continue;
        const double rim = clipped ? 0.02 * longer : longer;
        if ((p.head<2>() - low).minCoeff() < -rim || (high - p.head<2>()).minCoeff() < -rim) continue;
        cloud.positions[i] = p.cast<float>();
        if (!cloud.normals.empty()) cloud.normals[i] = (plane.turn * cloud.normals[i].cast<double>()).cast<float>();
        seen_low = seen_low.cwiseMin(p.head<2>()), seen_high = seen_high.cwiseMax(p.head<2>());
        near.push_back(static_cast<std::uint32_t>(i));
      }
      if (near.empty()) continue;
      PointCloud some = pick(cloud, near);
      some.origin = Vector3d::Zero(), some.datum = {};
      report.points += some.size();
      const double spacing =
          source.cloud.tiles()[t].spacing > 0 ? source.cloud.tiles()[t].spacing : typical_spacing(some);
      if (spacing > 0) spacings.push_back(spacing);
      out.add_tile(some, spacing);
    }
    monitor.progress("points of the facade", tiles, tiles);
    if (report.points < 3 || spacings.empty())
      throw Error(ErrorKind::computation, "the plane", fmt::format("has {} points of the cloud near it", report.points),
                  "give corners on the facade, in the coordinates of the cloud");
    out.finish();
  }
  if (!clipped) low = seen_low, high = seen_high;
  const double spacing = median(spacings);
  double cell = options.cell > 0 ? options.cell : source.gsd > 0 ? source.gsd : spacing;
  if (!(options.cell > 0)) {
    const double unit = std::pow(10, std::floor(std::log10(cell)) - 1);
    cell = std::round(cell / unit) * unit;
  }
  report.cell = cell;
  const GridFrame frame = grid_over(low, high, cell);
  report.columns = frame.columns, report.rows = frame.rows;
  // Its surface over the plane.
  RasterContent content;
  content.frame = frame;
  content.datum.units = source.block.datum.units;
  content.bands = {"how far the surface stands out of the plane"};
  const auto text = [](const Vector3d& v) { return fmt::format("{:.9g} {:.9g} {:.9g}", v.x(), v.y(), v.z()); };
  content.notes["ICEFIELD_PLANE_MIDDLE"] =
      fmt::format("{:.6f} {:.6f} {:.6f}", report.middle.x(), report.middle.y(), report.middle.z());
  content.notes["ICEFIELD_PLANE_RIGHT"] = text(report.right);
  content.notes["ICEFIELD_PLANE_UP"] = text(report.up);
  const Scratch relief_file{files.relief.empty() ? fs::path(files.picture.string() + ".relief.tif") : fs::path()};
  const fs::path relief = files.relief.empty() ? relief_file.file : files.relief;
  {
    const TiledCloud points(part_file.file);
    RasterWriter out(relief, content);
    const HeightOptions how;
    const double margin = height_margin(cell, spacing, how);
    const int side = window_side(400, 0.5 * static_cast<double>(executor.memory_bytes()), 256);
    each_window(frame, side, "surface", monitor, [&](const Window& window) {
      const Vector2d corner = frame.corner + cell * Vector2d(window.column, -window.row),
                     far = corner + cell * Vector2d(window.width, -window.height),
                     half = 0.5 * (corner - far).cwiseAbs();
      Bounds box;
      box.centre << 0.5 * (corner + far), 0;
      box.half_size = Vector3d(half.x() + margin + cell, half.y() + margin + cell, 2 * depth);
      HeightModel model = surface_heights(points.read(box), frame, window, spacing, how, watched);
      for (int y = 0; y < window.height; ++y)
        for (int x = 0; x < window.width; ++x) {
          float& z = model.heights.at(x, y);
          if (clipped && !within_outline(frame.middle(window.column + x, window.row + y), outline))
            z = std::numeric_limits<float>::quiet_NaN();
          report.cells += std::isfinite(z);
        }
      out.write(window.column, window.row, model.heights);
    });
    if (report.cells == 0)
      throw Error(ErrorKind::computation, "the plane", "has no surface near it",
                  "give corners on the facade, or a larger depth");
    out.finish();
  }
  // And the photos on it.
  Block turned = source.block.without_points();
  Similarity onto;
  onto.rotation = Eigen::Quaterniond(plane.turn);
  onto.translation = -(plane.turn * plane.middle);
  transform(turned, onto);
  turned.datum = content.datum, turned.origin = Vector3d::Zero();
  const WorldFrame flat(content.datum, Vector3d::Zero());
  const OrthomosaicSource over{relief, {}, turned, source.photos, flat, source.names};
  const OrthomosaicReport made = make_orthomosaic(over, settings, {files.picture, {}, {}}, "", executor, monitor);
  report.summary = made.summary, report.pictured = made.cells;
  report.outcome = "made";
  return report;
}

}  // namespace icefield
