#include "icefield/survey/make_orthomosaic.h"

#include <fmt/format.h>

#include <algorithm>

#include "icefield/io/raster_file.h"
#include "icefield/io/vector_file.h"
#include "icefield/world/local_lattice.h"
#include "src/survey/raster_windows.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;

OrthomosaicReport make_orthomosaic(const OrthomosaicSource& source, const OrthomosaicSettings& settings,
                                   const OrthomosaicFiles& files, const std::string& fingerprint,
                                   const Executor& executor, Monitor& monitor) {
  const RasterReader heights(source.heights);
  std::optional<RasterReader> ground;
  if (!source.ground.empty()) ground.emplace(source.ground);
  const RasterContent& content = heights.content();
  if (content.values != RasterValues::heights)
    throw Error(ErrorKind::input, source.heights.string(), "has no heights", "give a surface or terrain model");
  const auto same_place = [&](const GridFrame& other) {
    return other.columns == content.frame.columns && other.rows == content.frame.rows &&
           other.cell == content.frame.cell && other.corner == content.frame.corner;
  };
  if (ground && !same_place(ground->content().frame))
    throw Error(ErrorKind::usage, source.ground.string(), "has other cells than " + source.heights.string(),
                "give models of the same cells, as `terrain` makes them");
  OrthomosaicReport report;
  report.columns = content.frame.columns, report.rows = content.frame.rows, report.cell = content.frame.cell;
  report.over_ground = settings.over_ground;
  const Vector2d low(content.frame.corner.x(), content.frame.corner.y() - content.frame.cell * content.frame.rows),
      high(content.frame.corner.x() + content.frame.cell * content.frame.columns, content.frame.corner.y());
  const LocalLattice lattice(source.frame, low, high);
  OrthomosaicScene scene;
  scene.frame = content.frame;
  scene.heights = [&](const Window& w) { return heights.read(w.column, w.row, w.width, w.height); };
  if (ground) scene.ground = [&](const Window& w) { return ground->read(w.column, w.row, w.width, w.height); };
  scene.to_block = [&](std::span<Vector3d> places) { lattice.to_local(places); };
  for (const PosedPhoto& photo : source.block.photos) scene.eyes.push_back(source.frame.to_world(photo.pose.centre));
  const OrthomosaicMaker maker(scene, source.block, source.photos, settings.options, executor, monitor);
  report.summary = maker.summary();
  const auto raster = [&](RasterValues values, std::vector<std::string> bands) {
    RasterContent c;
    c.frame = content.frame, c.datum = content.datum, c.values = values, c.bands = std::move(bands);
    c.fingerprint = fingerprint;
    c.notes["ICEFIELD_OVER"] = settings.over_ground ? "ground (DTM): what stands on it leans" : "surface (DSM)";
    return c;
  };
  RasterContent of_photos = raster(RasterValues::numbers, {"photo of the cell, its number in the block"});
  for (std::size_t p = 0; p < source.names.size(); ++p)
    of_photos.notes[fmt::format("ICEFIELD_PHOTO_{}", p + 1)] = source.names[p];
  RasterWriter picture(files.picture, raster(RasterValues::picture, {"red", "green", "blue", "alpha"}),
                       settings.lossy ? RasterPacking::lossy : RasterPacking::whole);
  std::optional<RasterWriter> photos;
  if (!files.photos.empty()) photos.emplace(files.photos, of_photos);
  // Some 150 bytes a cell.
  const int side = window_side(300, 0.4 * static_cast<double>(executor.memory_bytes()), 512);
  each_window(content.frame, side, "orthomosaic", monitor, [&](const Window& window) {
    const OrthomosaicPart part = maker.part(window, monitor);
    picture.write(window.column, window.row, part.picture);
    if (photos) photos->write(window.column, window.row, part.photo);
    for (const std::uint16_t p : part.photo.data()) report.cells += p != 0;
  });
  picture.finish();
  if (photos) photos->finish();
  if (!files.seams.empty()) {
    ShapeLayer layer;
    layer.name = "seams", layer.datum = content.datum, layer.fingerprint = fingerprint;
    for (const SeamLine& seam : maker.seams()) {
      Shape shape;
      shape.places = seam.places, shape.closed = seam.closed;
      const auto name = [&](std::uint32_t p) {
        return p < source.names.size() ? source.names[p] : fmt::format("photo {}", p + 1);
      };
      shape.texts = {{"left", name(seam.left)}, {"right", name(seam.right)}};
      layer.shapes.push_back(std::move(shape));
    }
    write_shapes(files.seams, layer);
  }
  return report;
}

}  // namespace icefield
