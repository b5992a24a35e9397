// Every setting of the chain, with its meaning.
#pragma once
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "icefield/dense/dense.h"
#include "icefield/feature/feature.h"
#include "icefield/io/photo_file.h"
#include "icefield/match/choose_pairs.h"
#include "icefield/match/match.h"
#include "icefield/orient/orient.h"
#include "icefield/surface/fit_open.h"
#include "icefield/surface/fit_surface.h"
#include "icefield/surface/sharpen.h"
#include "icefield/surface/texture.h"
#include "icefield/terrain/ground.h"
#include "icefield/terrain/height_model.h"
#include "icefield/terrain/orthomosaic.h"

namespace icefield {

// One word that sets every speed-for-quality setting; what is set by hand wins over it.
enum class Effort { draft, standard, fine };
const char* effort_name(Effort effort);
Effort effort_by_name(const std::string& name);  // throws Error(usage)

// Where a block is in the world (`georeference`).
struct GeoreferenceSettings {
  bool on = false;
  std::string crs;              // its id; empty: none, or the zone of the photos where these alone have positions
  bool photo_positions = true;  // take part
  bool gps_over_ellipsoid = false;
  double position_sigma_m = 3, position_height_sigma_m = 5;
  bool photo_tilts = true;  // and azimuths take part
  double tilt_sigma_deg = 2, azimuth_sigma_deg = 10;
  double antenna_right_m = 0, antenna_down_m = 0, antenna_forward_m = 0;
  double point_sigma_m = 0.02, mark_sigma_px = 0.5, length_sigma_m = 0.002;
  std::string level_points, up_points, axis_points, zero_point;  // names with commas between; empty: none
  bool adjust = true;
  double false_alarm = 0.001;
};

// How the surface comes about.
enum class MeshWay : std::uint8_t {
  closed,  // fitted to the cloud as a closed one, then trimmed by what rests on points
  open,    // from the depth maps' lines of sight
};
const char* name_of(MeshWay way);

struct MeshSettings {
  MeshWay way = MeshWay::closed;
  FitSurfaceOptions fit;
  FitOpenOptions open;
  SharpenOptions sharpen;  // `rounds` of 0: not at all
  int faces = 0;           // 0: half as many as the cloud has points
  // Of a cloud with more points evenly so many are taken. What the surface takes of memory follows from it.
  int most_points = 16000000;
};

struct TerrainSettings {
  GroundOptions ground;
  HeightOptions heights;
  double cell = 0;  // of both height models, units of the coordinates; 0: the photos' GSD
  // How far from ground that was seen the ground is given, units of the coordinates; 0: half of ground.widest.
  double ground_fill = 0;
  // Outlines in plan in the coordinates of the cloud, "x y, x y, x y; x y, ...": there the lowest points are ground, or
  // none is.
  std::string ground_within, other_within;
};

// Outlines of such a text; throws Error(usage) naming `what` for another one.
std::vector<std::vector<Eigen::Vector2d>> outlines_of_text(const std::string& text, const std::string& what);
std::string text_of_outlines(const std::vector<std::vector<Eigen::Vector2d>>& outlines);

// Poses from elsewhere, in SURVEY/given_poses.json.
struct GivenSettings {
  std::string poses;    // "fixed" or "start" (orient/given.h); empty: none
  bool cameras = true;  // the cameras come from that file too
};

struct OrthomosaicSettings {
  OrthomosaicOptions options;
  bool over_ground = false;  // over the DTM: what stands on the ground leans
  bool lossy = false;        // the picture as JPEG within its file
};

struct SettingInfo {
  std::string key;   // section.name
  std::string unit;  // empty for a plain number or a switch
  std::string meaning;
  std::string default_value;  // at the present effort
  std::string value;
};

struct Settings {
  Effort effort = Effort::standard;
  std::map<std::string, Effort> step_effort;  // of steps ("match", "pose", "densify") that have one of their own
  PhotoReadLimits photo;
  FeatureOptions feature;
  DescriptorMatchOptions descriptor;
  VerifyOptions verify;
  PairChoiceOptions pairs;
  OrientOptions pose;
  GivenSettings given;
  GeoreferenceSettings georeference;
  DenseOptions dense;
  MeshSettings mesh;
  TextureOptions texture;
  TerrainSettings terrain;
  OrthomosaicSettings orthomosaic;

  explicit Settings(Effort effort = Effort::standard, std::map<std::string, Effort> step_effort = {});

  Effort effort_of(const std::string& step) const;

  // Throws Error(usage) for a key that does not exist (naming the nearest that does) or a value of the wrong kind or
  // out of range.
  void set(const std::string& key, const std::string& value);
  std::vector<SettingInfo> list() const;
  // All values of the given sections as text, for fingerprints.
  std::string text(std::initializer_list<std::string_view> sections) const;
};

}  // namespace icefield
