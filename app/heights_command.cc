// `icefield heights`: what is read off rasters of heights.
#include <nlohmann/json.hpp>

#include <cmath>
#include <fstream>

#include "command.h"
#include "icefield/draw/draw_terrain.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/raster_file.h"
#include "icefield/io/text_file.h"
#include "icefield/io/vector_file.h"
#include "icefield/terrain/relief.h"
#include "icefield/terrain/volume.h"

using namespace icefield;
namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

struct Request {
  std::string quality, later, later_quality;  // beside the raster
  std::string hillshade, slope, contours, profile, profile_output, picture, difference;
  double sun_azimuth = 315, sun_elevation = 45, every = 0, step = 0, base_height = 0, level = 1.96;
  std::string volume, base = "rim", by = "height";
};

fs::path quality_beside(const fs::path& heights) {
  return heights.parent_path() / (heights.stem().string() + "_quality" + heights.extension().string());
}

// Its errors too, where the file of them lies beside it or is named.
HeightRaster read_heights(const fs::path& file, const std::string& quality, RasterContent* content = nullptr) {
  const RasterReader reader(file);
  if (reader.content().values == RasterValues::picture)
    throw Error(ErrorKind::input, file.string(), "is a picture", "give a raster of heights, as dsm.tif or dtm.tif");
  HeightRaster raster;
  raster.frame = reader.content().frame;
  raster.heights = reader.read();
  if (content) *content = reader.content();
  const fs::path beside = quality.empty() ? quality_beside(file) : fs::path(quality);
  std::error_code ignored;
  if (quality.empty() && !fs::exists(beside, ignored)) return raster;
  const RasterReader of(beside);
  const GridFrame& frame = of.content().frame;
  if (frame.columns != raster.frame.columns || frame.rows != raster.frame.rows ||
      (frame.corner - raster.frame.corner).norm() > 0.01 * frame.cell)
    throw Error(ErrorKind::input, beside.string(), "has other cells than " + file.string(),
                "give the file that was made with it");
  raster.sigma = of.read(0);
  return raster;
}

void write_raster(const std::string& file, const RasterContent& of, const ImageF& values,
                  std::vector<std::string> bands) {
  RasterContent content;
  content.frame = of.frame, content.datum = of.datum, content.bands = std::move(bands);
  RasterWriter out(file, content);
  out.write(0, 0, values);
  out.finish();
}

class Reading {
 public:
  Reading(const Common& common, const Request& request, Monitor& monitor)
      : common_(common), request_(request), executor_(executor_of(common)), monitor_(monitor) {}

  int run() {
    const fs::path file = common_.survey;
    raster_ = read_heights(file, request_.quality, &content_);
    units_ = content_.datum.units_name();
    if (units_ == "degree")
      throw Error(ErrorKind::input, file.string(), "has cells in degrees", "bring it into a projected system first");
    json_["raster"] = {{"file", file.string()},
                       {"columns", raster_.frame.columns},
                       {"rows", raster_.frame.rows},
                       {"cell", raster_.frame.cell},
                       {"with_errors", !raster_.sigma.empty()}};
    about();
    if (!request_.hillshade.empty()) {
      write_raster(
          request_.hillshade, content_,
          hillshade(raster_.heights, raster_.frame.cell, request_.sun_azimuth, request_.sun_elevation, executor_),
          {"light, 0 to 1"});
      wrote("hillshade", request_.hillshade);
    }
    if (!request_.slope.empty()) {
      write_raster(request_.slope, content_, slope_deg(raster_.heights, raster_.frame.cell, executor_),
                   {"slope, degrees"});
      wrote("slope", request_.slope);
    }
    if (!request_.contours.empty()) contours();
    if (!request_.profile.empty()) profile_of();
    if (!request_.volume.empty()) volumes();
    if (!request_.later.empty()) change();
    if (!request_.picture.empty()) picture();
    document_.json = json_.dump(1);
    show(document_, common_, monitor_);
    return 0;
  }

 private:
  void about() {
    std::size_t known = 0;
    double low = 1e300, high = -1e300;
    for (const float z : raster_.heights.data())
      if (std::isfinite(z)) ++known, low = std::min<double>(low, z), high = std::max<double>(high, z);
    if (known == 0)
      throw Error(ErrorKind::input, common_.survey, "has no height in any cell", "give a raster of heights");
    document_.say(fmt::format("{} x {} cells of {:.3g} {}; {:.1f} % have a height, from {:.3f} to {:.3f}.{}",
                              raster_.frame.columns, raster_.frame.rows, raster_.frame.cell, units_,
                              100.0 * static_cast<double>(known) / static_cast<double>(raster_.heights.data().size()),
                              low, high,
                              raster_.sigma.empty() ? " No file says how good they are: no errors are given." : ""));
    json_["raster"]["lowest"] = low, json_["raster"]["highest"] = high;
  }
  void wrote(const char* what, const std::string& file) {
    document_.say(fmt::format("{} in {}", what, file));
    json_["files"][what] = file;
  }
  double every() const { return request_.every > 0 ? request_.every : contour_step(raster_.heights); }
  std::vector<ContourLine> lines() {
    ContourOptions options;
    options.every = every();
    return contour_lines(raster_.heights, raster_.frame, options, executor_, monitor_);
  }
  void contours() {
    const std::vector<ContourLine> all = lines();
    ShapeLayer layer;
    layer.name = "contours", layer.datum = content_.datum;
    double length = 0;
    for (const ContourLine& line : all) {
      Shape shape;
      shape.places = line.places, shape.closed = line.closed;
      shape.numbers["height"] = line.height;
      shape.texts["label"] = fmt::format("{:g}", line.height);
      for (std::size_t i = 1; i < line.places.size(); ++i) length += (line.places[i] - line.places[i - 1]).norm();
      layer.shapes.push_back(std::move(shape));
    }
    write_shapes(request_.contours, layer);
    document_.say(fmt::format("{} contour lines every {:g} {}, {:.0f} {} long together", all.size(), every(), units_,
                              length, units_));
    json_["contours"] = {{"lines", all.size()}, {"every", every()}, {"length", length}};
    wrote("contours", request_.contours);
  }
  void profile_of() {
    if (request_.profile_output.empty())
      throw Error(ErrorKind::usage, "--profile", "says nothing of where its table goes",
                  "name a .csv with --profile-output");
    const double step = request_.step > 0 ? request_.step : raster_.frame.cell;
    std::string text = "line,along,x,y,height\n";
    std::size_t number = 0, places = 0;
    for (const auto& line : read_plan_shapes(request_.profile, content_.datum, ShapeKind::lines)) {
      ++number;
      for (const ProfilePlace& p : icefield::profile(raster_.heights, raster_.frame, line, step)) {
        text += fmt::format("{},{:.4f},{:.4f},{:.4f},{}\n", number, p.along, p.place.x(), p.place.y(),
                            std::isfinite(p.height) ? fmt::format("{:.4f}", p.height) : "");
        ++places;
      }
    }
    write_file(request_.profile_output, text);
    json_["profile"] = {{"lines", number}, {"places", places}};
    wrote("profile", request_.profile_output);
  }
  VolumeBase base() const {
    return request_.base == "rim"      ? VolumeBase::rim
           : request_.base == "plane"  ? VolumeBase::plane
           : request_.base == "lowest" ? VolumeBase::lowest
                                       : VolumeBase::height;
  }
  void volumes() {
    Table table({"area", "above", "below", "net", "+- (1 sd)", "plan area", "surface", "perimeter", "no height %"});
    json_["volumes"] = Json::array();
    std::size_t number = 0;
    for (const auto& outline : read_plan_shapes(request_.volume, content_.datum, ShapeKind::areas)) {
      VolumeOptions options;
      options.base = base(), options.height = request_.base_height;
      const Volume v = volume_in(raster_, outline, options);
      table.add({fmt::format("{}", ++number), fmt::format("{:.3f}", v.above), fmt::format("{:.3f}", v.below),
                 fmt::format("{:.3f}", v.net()), raster_.sigma.empty() ? "-" : fmt::format("{:.3f}", v.sigma),
                 fmt::format("{:.2f}", v.area), fmt::format("{:.2f}", v.surface_area),
                 fmt::format("{:.2f}", v.perimeter), fmt::format("{:.1f}", v.missing_percent)});
      json_["volumes"].push_back({{"above", v.above},
                                  {"below", v.below},
                                  {"net", v.net()},
                                  {"sigma", raster_.sigma.empty() ? Json(nullptr) : Json(v.sigma)},
                                  {"area", v.area},
                                  {"surface_area", v.surface_area},
                                  {"perimeter", v.perimeter},
                                  {"missing_percent", v.missing_percent},
                                  {"lowest", v.lowest},
                                  {"highest", v.highest},
                                  {"base_lowest", v.base_lowest},
                                  {"base_highest", v.base_highest}});
      if (v.missing_percent > 1)
        document_.warnings.push_back(
            fmt::format("area {}: {:.1f} % of it has no height and is not counted", number, v.missing_percent));
    }
    document_.show(std::move(table), fmt::format("Volumes over the {} in cubic {}", request_.base, units_));
  }
  void change() {
    const HeightRaster later = read_heights(request_.later, request_.later_quality);
    change_ = change_between(raster_, later, request_.level);
    const HeightChange& c = *change_;
    Table table({"", "gained", "lost", "net", "+- (1 sd)", "plan area"});
    table.add({"all cells", fmt::format("{:.3f}", c.gained), fmt::format("{:.3f}", c.lost),
               fmt::format("{:.3f}", c.gained - c.lost), fmt::format("{:.3f}", c.sigma),
               fmt::format("{:.2f}", c.area)});
    table.add({fmt::format("beyond {:g} of their errors", request_.level), fmt::format("{:.3f}", c.gained_surely),
               fmt::format("{:.3f}", c.lost_surely), fmt::format("{:.3f}", c.gained_surely - c.lost_surely), "",
               fmt::format("{:.2f}", c.sure_area)});
    document_.show(std::move(table), fmt::format("Change to {} in cubic {}", request_.later, units_));
    json_["change"] = {{"gained", c.gained},
                       {"lost", c.lost},
                       {"sigma", c.sigma},
                       {"area", c.area},
                       {"gained_surely", c.gained_surely},
                       {"lost_surely", c.lost_surely},
                       {"sure_area", c.sure_area}};
    if (raster_.sigma.empty() || later.sigma.empty())
      document_.warnings.push_back("one of the two has no errors beside it: nothing is told significant");
    if (request_.difference.empty()) return;
    ImageF both(c.frame.columns, c.frame.rows, 2);
    for (std::size_t i = 0; i < c.difference.data().size(); ++i) {
      both.values()[2 * i] = c.difference.data()[i];
      both.values()[2 * i + 1] = c.significance.data()[i];
    }
    write_raster(request_.difference, content_, both,
                 {"height of the later less the earlier", "difference over its expected error"});
    wrote("difference", request_.difference);
  }
  void picture() {
    DrawOptions options;
    options.title = fs::path(common_.survey).filename().string();
    DrawTerrainOptions how;
    std::vector<ContourLine> contour;
    how.meaning = "height, " + units_;
    if (request_.by == "slope") {
      how.values = slope_deg(raster_.heights, raster_.frame.cell, executor_);
      how.meaning = "slope, degrees", how.shaded = false;
    } else if (request_.by == "error") {
      if (raster_.sigma.empty())
        throw Error(ErrorKind::usage, "--by error", "has no file of errors beside the heights",
                    "name it with --quality");
      how.values = raster_.sigma, how.meaning = "error, " + units_, how.logarithmic = true, how.shaded = false;
    } else if (request_.by == "change") {
      if (!change_) throw Error(ErrorKind::usage, "--by change", "needs a later raster", "name it with --later");
      how.values = change_->difference, how.meaning = "change, " + units_, how.symmetric = true;
    } else if (request_.by == "contours") {
      contour = lines();
      how.contours = contour;
    }
    options.title += ": " + request_.by;
    write_photo(request_.picture, draw_terrain(raster_.heights, raster_.frame, content_.datum, options, how));
    wrote("picture", request_.picture);
  }

  const Common& common_;
  const Request& request_;
  const Executor executor_;
  Monitor& monitor_;
  HeightRaster raster_;
  RasterContent content_;
  std::optional<HeightChange> change_;
  std::string units_;
  Document document_;
  Json json_;
};

}  // namespace

Command heights_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "heights",
      "What is read off a raster of heights, named in place of a survey: light and slope, contour lines, profiles, "
      "volumes, changes to a later one. Errors are taken from the file beside it that ends in _quality.tif");
  options.option("--quality", request->quality, "The raster with the expected errors, if it lies elsewhere");
  options.option("--hillshade", request->hillshade, "Write the light on it, 0 to 1, as GeoTIFF");
  options.option("--sun", request->sun_azimuth, "Where the light comes from, degrees from north over east")
      .with_default();
  options.option("--sun-height", request->sun_elevation, "and above the horizon").with_default();
  options.option("--slope", request->slope, "Write the slope in degrees, as GeoTIFF");
  options.option("--contours", request->contours, "Write contour lines, .gpkg or .geojson");
  options.option("--every", request->every,
                 "Heights apart of contour lines (default: a round number, some twelve levels)");
  options.option("--profile", request->profile,
                 "Heights along the lines in this file: .geojson, .gpkg, or text with X Y in each line");
  options.option("--profile-output", request->profile_output, "The table of them, .csv");
  options.option("--step", request->step, "Distance from place to place along a line (default: a cell)");
  options.option("--volume", request->volume,
                 "Volumes within the areas in this file: .geojson, .gpkg, or corners as text");
  options
      .option("--base", request->base,
              "What volumes count from: the surface through the heights along the outline (rim), a plane through "
              "them, the lowest of them, or a height")
      .one_of({"rim", "plane", "lowest", "height"})
      .with_default();
  options.option("--base-height", request->base_height, "The height of --base height").with_default();
  options.option("--later", request->later, "A later raster: what was gained and lost");
  options.option("--later-quality", request->later_quality, "Its errors, if they lie elsewhere");
  options.option("--level", request->level, "Changes of so many of their expected errors count as sure").with_default();
  options.option("--difference", request->difference, "Write the change and its significance, as GeoTIFF");
  options.option("--picture", request->picture, "Draw a map, PNG");
  options.option("--by", request->by, "What its colours say: height, slope, error, change or contours")
      .one_of({"height", "slope", "error", "change", "contours"})
      .with_default();
  return {options, [request, &common](Monitor& monitor) { return Reading(common, *request, monitor).run(); }};
}
