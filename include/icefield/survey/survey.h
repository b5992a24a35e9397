// A survey on disk: photo list, settings, steps, what is fresh and what is stale.
#pragma once
#include <array>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "icefield/base/fingerprint.h"
#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/match/choose_pairs.h"
#include "icefield/photo/filter.h"
#include "icefield/photo/metadata.h"
#include "icefield/photo/photo_source.h"
#include "icefield/adjust/weak_points.h"
#include "icefield/control/georeference.h"
#include "icefield/control/join_by_marks.h"
#include "icefield/control/locate.h"
#include "icefield/control/targets.h"
#include "icefield/draw/draw.h"
#include "icefield/geometry/try_conventions.h"
#include "icefield/io/camera_file.h"
#include "icefield/orient/join.h"
#include "icefield/surface/check_mesh.h"
#include "icefield/surface/texture.h"
#include "icefield/surface/fit_surface.h"
#include "icefield/surface/simplify.h"
#include "icefield/survey/control_lists.h"
#include "icefield/survey/settings.h"
#include "icefield/terrain/overlap.h"
#include "icefield/world/world_frame.h"

namespace icefield {

struct SurveyPhoto {
  std::string name;  // the shortest end of its path that is unique in the survey
  std::filesystem::path file;
  Fingerprint content;
  PhotoMetadata metadata;
  PhotoScores scores;
  std::filesystem::path mask;  // empty: none
  Fingerprint mask_content;
  CameraIndex camera;
  std::string left_out;     // why the photo takes no part; empty: it does
  bool raw_beside = false;  // it is left out since the photo made of it takes part
};

struct SurveyCamera {
  std::string name;
  CameraPrior prior;  // focal length 0 when unknown
  FocalSource source = FocalSource::unknown;
  std::size_t photos = 0;
};

// What is given of a camera instead of what its photos' metadata say.
struct GivenCamera {
  double focal_px = 0, uncertainty_percent = 1;  // focal length 0: as the metadata say
  std::optional<CameraModel> model;              // nothing: radial, with further terms freed in the finished block
  std::map<std::string, double> parameters;      // others by their names in files, "radial_1"
};

struct PhotoList {
  std::vector<SurveyPhoto> photos;  // those that take part first, then those left out; each in natural order
  std::size_t used = 0;             // that take part
  std::vector<SurveyCamera> cameras;
  std::vector<ProposedPair> listed;  // pairs that pairs.txt asks for, among those that take part
};

enum class StepState { fresh, stale, missing };
const char* describe(StepState state);

// A file in results/ and whether it is what the present state of the survey would write.
enum class FileState {
  current,
  missing,
  other,    // written for other inputs
  changed,  // by something else than Icefield, after it was written
};
const char* describe(FileState state);

struct ProductFile {
  std::filesystem::path file;
  std::string step;  // that writes it
  FileState state = FileState::missing;
  std::uintmax_t bytes = 0;
};

struct StepStatus {
  std::string step;  // "match", "pose", "georeference" where it is wanted, "densify"
  StepState state = StepState::missing;
  std::string result;                // one line
  double seconds = 0;                // that it last took
  std::vector<std::string> reasons;  // why it is stale, in words: "pose.free_whole_lens was true, is false"
  std::vector<ProductFile> files;
  std::vector<std::string> history;  // of `pose`: "posed", then each adjustment that holds
};

// What a survey takes on disk.
struct DiskUse {
  struct Part {
    std::string what;                          // "features", "depth maps" ...
    std::uintmax_t bytes = 0, idle_bytes = 0;  // idle: no present result needs it
    std::size_t count = 0, idle = 0;
  };
  std::vector<Part> parts;
};

struct MatchReport {
  std::size_t photos = 0, features = 0, pairs = 0, verified = 0, matches = 0, guided = 0;
  std::size_t computed_photos = 0, computed_pairs = 0;  // the rest was fresh
  std::size_t looked_at = 0;                            // pairs that a quick look was taken at, tried or not
  std::size_t wide = 0;                                 // pairs matched anew with narrowed copies
  std::array<std::size_t, kPairSources> tried_by_source{},
      verified_by_source{};                                // a pair counts for each of its sources
  std::array<std::size_t, kPairGeometries> by_geometry{};  // pairs; without one: by what is in the way
  std::array<std::size_t, kPairFaults> by_fault{};
  std::vector<std::size_t> photo_features, photo_pairs, photo_matches;  // by photo; pairs are verified ones
  std::vector<std::string> weak;  // by photo: why it has few matches, likely; empty: it has enough
};

// What was found between the photos that take part, by the order of the photo list.
struct MatchedPhotos {
  std::vector<std::vector<Keypoint>> keypoints;  // by photo
  std::vector<ProposedPair> tried;
  std::vector<PairMatches> pairs;  // in the order of `tried`
};

struct TrackedPhotos {
  std::vector<OrientPhoto> photos;  // those that take part
  Tracks tracks;
};

// What `adjust` is to do with a block.
struct AdjustRequest {
  std::size_t block = 0;
  // Names of camera parameters as in files ("focal", "radial_1"). `free`: these and no others, where it is not empty;
  // `held`: stay as they are.
  std::vector<std::string> free, held;
  bool remove_weak = false;
  WeakPointOptions weak;  // its adjustment is made from the above
};

struct AdjustReport {
  std::string outcome;
  BlockStatistics before, after;
  std::vector<WeakPointPass> passes;
  std::vector<Crowding> crowding;
};

// What `georeference` found.
struct GeoreferenceReport {
  Datum datum;
  std::string crs_name;                              // empty: none
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();  // of the blocks' frame, in coordinates of the datum
  Control control;                                   // in that frame
  std::vector<Georeferenced> blocks;                 // by block; without the blocks themselves and their covariances
  std::vector<std::string> remarks;                  // of all of them
  bool fresh = false;                                // nothing had to be computed
};

// What became of the coded targets in the photos.
struct TargetReport {
  std::vector<std::vector<FoundTarget>> photos;  // by photo
  std::size_t computed = 0;                      // photos that were looked through now
  std::size_t marks = 0;                         // that were written; a target seen twice in a photo gets none
  struct Twice {
    PhotoIndex photo;
    int number = 0;
  };
  std::vector<Twice> twice;
};

struct DenseReport {
  std::size_t block = 0;
  DenseSummary summary;
  std::filesystem::path file;
  std::filesystem::path aside;  // what cleaning took out; not there when that was nothing
  bool fresh = false;           // nothing had to be computed
};

struct MeshReport {
  std::size_t block = 0;
  std::uint64_t cloud_points = 0;  // of the cloud, all of which may not have been taken
  FitSurfaceSummary fitted;
  SharpenSummary sharpened;
  SimplifySummary lighter;
  SurfaceDistance moved;  // by lightening, from the mesh as it was fitted and sharpened
  MeshCheck check;        // of the file
  std::filesystem::path file;
  bool fresh = false;  // nothing had to be computed
};

struct TextureReport {
  std::size_t block = 0;
  TextureSummary summary;
  std::filesystem::path file;
  bool fresh = false;  // nothing had to be computed
};

// A raster of heights in figures.
struct RasterReport {
  int columns = 0, rows = 0;
  std::uint64_t measured = 0, filled = 0;  // cells; the rest has no height
  double low = 0, high = 0;                // of all heights
  double sigma = 0;                        // expected error of measured cells, the middle one
  double share(std::uint64_t cells) const {
    const double all = static_cast<double>(columns) * rows;
    return all > 0 ? 100 * static_cast<double>(cells) / all : 0;
  }
};

struct ElevationOptions {
  std::vector<Eigen::Vector3d> corners;  // of the facade, in coordinates of the files: three, or the way around it
  double depth = 0;  // how far before and behind the plane points are of it; 0: a quarter of its longer side
  double cell = 0;   // 0: the photos' GSD
};
struct ElevationReport {
  std::string outcome = "nothing done yet";
  Eigen::Vector3d middle =
      Eigen::Vector3d::Zero();         // of the corners, in coordinates of the files: x, y 0 of the picture
  Eigen::Vector3d right, up, towards;  // ways of the picture's axes and to the photos, in the block's frame
  double plane_rms = 0;                // of the corners, from the plane
  double depth = 0, cell = 0;
  int columns = 0, rows = 0;
  std::uint64_t points = 0;    // of the cloud that lie near it
  std::size_t cells = 0;       // that have a surface
  std::uint64_t pictured = 0;  // that photos see
  OrthomosaicSummary summary;
};

// Poses from elsewhere.
struct GivenRequest {
  std::filesystem::path source;    // for errors
  std::vector<std::string> names;  // of photos: as the survey calls them, by the end of their paths, or without endings
  std::vector<WrittenPose> poses;
  PoseConvention convention;
  std::vector<Camera> cameras;         // of the file; empty: those of the survey
  std::vector<std::size_t> camera_of;  // by name, where there are cameras
  Datum datum;                         // of the places; a CRS is left out: the frame is taken as flat
  std::string use = "fixed";           // or "start"
  bool believe = false;                // whatever the matches say
  // The options of the command line that mean a convention.
  static std::string as_options(const PoseConvention& convention);
};
struct GivenReport {
  std::size_t given = 0;             // photos of the survey
  std::vector<std::string> unknown;  // names that mean none, or more than one
  PoseConvention convention;
  std::size_t matches = 0;  // that it was held against; with fewer than 30 it was not
  double distance_px = 0, front_percent = 0;
  std::optional<ConventionTrial> best;  // of all that the numbers may mean
  std::string crs_left_out;
  std::filesystem::path file;  // where they are kept
};

// How well the photos of a block cover the ground.
struct OverlapReport {
  std::size_t block = 0;
  OverlapMap map;
  OverlapSummary summary;
  Datum datum;                     // of the map
  std::vector<std::string> names;  // of the block's photos
};

struct TerrainReport {
  std::size_t block = 0;
  std::string outcome = "nothing done yet";
  double spacing = 0, cell = 0;  // of the points, of the height models
  GroundSummary ground;
  std::array<std::uint64_t, 16> classes{};  // points by PointClass
  RasterReport surface, terrain;            // DSM, DTM
  std::filesystem::path file;               // the DSM; the others lie beside it
  bool fresh = false;                       // nothing had to be computed
};

struct OrthomosaicReport {
  std::size_t block = 0;
  int columns = 0, rows = 0;
  double cell = 0;
  std::uint64_t cells = 0;  // that a photo sees
  bool over_ground = false;
  OrthomosaicSummary summary;
  std::filesystem::path file;  // the picture; photos and seams lie beside it
  bool fresh = false;          // nothing had to be computed
};

// A survey. Opening it takes no lock, so that it can be looked at while a run goes on; what has been read then stays as
// it was. The first call that writes results takes the lock, and throws Error(resource) where another run has it.
class Survey {
 public:
  // Makes the folder with its survey.toml, or adds sources to the one that is there.
  static void begin(const std::filesystem::path& folder, const std::vector<std::filesystem::path>& sources);
  // Throws Error(input) when the folder is no survey.
  Survey(std::filesystem::path folder, Executor executor, Monitor& monitor);
  ~Survey();

  const std::filesystem::path& folder() const { return folder_; }
  const Settings& settings() const { return settings_; }
  // From here on changes to settings, bounds, photos and cameras hold for this object only and survey.toml stays as it
  // is.
  void try_out();
  // Changes a setting in survey.toml, leaving the rest of the file as it is.
  void set(const std::string& key, const std::string& value);
  // The effort of all steps (`step` empty; what steps had of their own is forgotten), or of one step alone.
  void set_effort(const std::string& effort, const std::string& step = "");
  void switch_photos(const std::vector<std::string>& names, bool on);

  // Folder of masks, kept in survey.toml: for photo NAME.jpg the file NAME.png or NAME.jpg.png of the photo's size as
  // stored, 0 where pixels take no part; in subfolders as the photos are, where names alone are not unique. Empty:
  // none. Throws Error(input) when there is no such folder.
  void set_masks(const std::filesystem::path& folder);

  // What is known of a camera, by its name in the photo list, kept in survey.toml. Throws Error(usage) for a name that
  // does not exist, and for a parameter that the model does not have.
  void set_camera(const std::string& name, const GivenCamera& given);

  // The box outside which nothing is kept, with its outline if it has one, in coordinates of the blocks' files,
  // kept in survey.toml; nothing: automatic. An outline alone reaches as high as the tie points within it. Each takes
  // the place of what was given before.
  void set_bounds(const std::optional<Bounds>& bounds);
  void set_outline(
      const std::vector<Eigen::Vector2d>& outline);  // throws Error(usage) for fewer than three corners, or on one line

  // Scans the photos; only new or changed files are read. A list that was handed out stays as it was for as long as
  // this object lives, whatever settings change. Throws Error(input) when there are fewer than two that can be used.
  const PhotoList& photos();
  // Their pictures and masks, by their place in the list. What the survey is made of must not change while it is used.
  std::unique_ptr<PhotoSource> source();
  // By its name, or by an end of its path that no other photo has. Throws Error(usage) naming the photos that fit.
  const SurveyPhoto& photo(const std::string& name);
  // The same among those that take part.
  PhotoIndex photo_index(const std::string& name);
  // Its place in a block, index from 0. Throws Error(usage) where it has no pose there.
  std::size_t photo_of_block(const Block& block, const std::string& name);

  MatchReport match();
  bool is_matched();           // `match` would compute nothing
  Fingerprint key_of_match();  // of all that `match` rests on
  void need_matches();         // throws Error(usage) that says why there are none that are fresh, and what to run
  const OrientResult& pose();  // runs match as needed
  // Adjusts a block again; later steps take the result. The block before is kept: `undo_adjust` brings it back, one
  // adjustment at a time, and is false when there is none. Adjustments belong to the settings and photos that were
  // posed: posing with others leaves them out, and going back brings them back. Runs pose as needed. Throws
  // Error(usage) for a block or parameter that does not exist, Error(computation) when the adjustment fails.
  AdjustReport adjust(const AdjustRequest& request);
  bool undo_adjust();
  // Lays the second block into the first by their common tracks and adjusts; like `adjust` it can be undone. Where the
  // blocks do not agree, nothing changes and the result says why.
  JoinResult join(std::size_t first, std::size_t second, const JoinOptions& options);
  // The same by spots that are marked in two photos or more of each. `names`: of these spots, in the order of the
  // result.
  MarkJoinResult join_by_marks(std::size_t first, std::size_t second, std::vector<std::string>& names);
  // What is known of places, as the tables in SURVEY/control have it.
  ControlLists control_lists();
  // In their place. `sources`: what each of the four tables is called in errors; marks of photos, and of points, that
  // there are not, and those outside of their photo, throw Error(input) and leave what was there.
  struct ControlSources {
    std::string points = "points", marks = "marks", lengths = "lengths", positions = "positions";
  };
  void set_control_lists(ControlLists lists, const ControlSources& sources);
  // Pixels of photos as they are shown become pixels of the photos as they are stored.
  void take_marks_as_shown(std::vector<MarkRow>& marks);
  // Marked points by their names, in a fresh block and its frame. Throws Error(usage) for a block that there is not and
  // for a name that has no mark at all.
  std::vector<LocatedSpot> locate_spots(std::size_t block, const std::vector<std::string>& names);
  // Looks for coded targets in all photos that take part and marks them: target 17 as point T17, a spot where no table
  // has coordinates for it. Other marks stay. What was found is kept.
  TargetReport mark_targets();
  // Brings the blocks to where control points, known lengths and photo positions say that they are. Runs pose as
  // needed. What `pose`, `adjust` and `join` left stays beside it: they go on from that, and when it changes this step
  // is stale. Throws Error(input) where coordinates do not go with the CRS, Error(computation) where no block can be
  // placed.
  GeoreferenceReport georeference();
  // The same where it is fresh; computes nothing.
  std::optional<GeoreferenceReport> georeferenced();
  // What became of the features of a photo of a block.
  std::vector<FeatureUse> feature_uses(std::size_t block, std::size_t photo);
  std::vector<DenseReport> densify();  // within the bounds; runs pose as needed
  // A surface of the dense cloud of each block, lightened; runs densify as needed. Blocks whose cloud is too small for
  // one are named in the log and have no file. Throws Error(computation) where none is left.
  std::vector<MeshReport> mesh();
  // The mesh of each block with a texture from its photos; runs mesh as needed.
  std::vector<TextureReport> texture();
  // Classes of the points of each block's cloud, its DSM and its DTM; runs densify as needed.
  std::vector<TerrainReport> terrain();
  // A picture in plan of each block over its DSM, or its DTM by the settings; runs terrain as needed.
  std::vector<OrthomosaicReport> orthomosaic();
  // One photo of a block laid out in plan over the same heights, into a file (GeoTIFF) anywhere.
  OrthomosaicReport lay_out_photo(std::size_t block, std::uint32_t photo, const std::filesystem::path& file);
  // Keeps poses from elsewhere for `pose`, in SURVEY/given_poses.json and the settings given.*; runs match as needed.
  // Throws Error(input) for numbers that are no rotations, names of which fewer than two are photos of the survey, and
  // poses that the matches say are written in another convention (naming it), unless `believe`; Error(usage) for photos
  // whose focal length is not known. What was given before then stays.
  GivenReport give_poses(const GivenRequest& request);
  void forget_given_poses();
  // A facade of a block on a plane, from its fresh cloud and its photos (make_elevation.h): `picture` and, where it is
  // named, `relief`, anywhere.
  ElevationReport elevation(std::size_t block, const ElevationOptions& options, const std::filesystem::path& picture,
                            const std::filesystem::path& relief = {});
  // By block; 0 maps where the bounds hold nothing of it. Computes nothing but its own short trials: throws
  // Error(usage) where there is no fresh block.
  std::vector<DenseEstimate> estimate_densify();
  // Of one photo: as `match` left it, or found now and not kept.
  Features features(PhotoIndex photo);
  // What matches of the photo name: keypoints of its features, then those of its narrowed copies where such were made.
  std::vector<Keypoint> keypoints(PhotoIndex photo);
  // Of two photos, the first before the second in the list: as `match` left them, if it tried them.
  std::optional<PairMatches> pair(PhotoIndex first, PhotoIndex second);
  MatchedPhotos matched();  // runs match as needed
  // Pairs to be tried whatever else is chosen, kept in pairs.txt: lines PHOTO | PHOTO. Throws Error(input) naming the
  // line that names no photo; the file that was there then stays.
  void list_pairs(const std::filesystem::path& file);
  // The tracks that `pose` starts from; runs match as needed.
  TrackedPhotos tracks();

  // The steps in their order. Computes nothing and writes nothing.
  std::vector<StepStatus> status();
  StepStatus status_of(const std::string& step);
  // Another run holds the lock now.
  bool is_in_use() const;
  DiskUse disk_use();
  // Frees what no present result needs: intermediates of other settings and photos, what was left half-written. What
  // the last finished run of each step and the present settings need stays, and so does every file in results/ of a
  // block that there is.
  DiskUse tidy();

  // The depth map of one photo of a block, if it is fresh.
  std::optional<DepthMap> depth_map(std::size_t block, std::size_t photo);
  // How well others see each photo of a block, by the settings; throws as `block` does.
  std::vector<PhotoCoverage> coverage(std::size_t block);
  // How the photos of a block cover the ground, in coordinates of its files where it is placed, else in those that
  // `pose` gave it. Computes nothing else; throws as `need_free_blocks` does.
  OverlapReport overlap(std::size_t block, const OverlapOptions& options = {});
  // What later steps take, if it is fresh: the blocks as `georeference` placed them where that is wanted, else as
  // `pose`, `adjust` and `join` left them.
  const OrientResult* posed();
  // The same where it must be there: throw Error(usage) that says what to run.
  const OrientResult& need_posed();
  // As `pose`, `adjust` and `join` left them, wherever georeferencing puts them.
  const OrientResult* free_blocks();
  const OrientResult& need_free_blocks();
  // Between the frame of a fresh block and the coordinates of its files.
  WorldFrame world_frame(std::size_t block);
  // A cloud in the frame of a block, in coordinates of its files.
  PointCloud in_world(std::size_t block, PointCloud cloud);
  const Block& block(std::size_t block);
  DepthMap need_depth_map(std::size_t block, std::size_t photo);
  // Of a fresh block: cameras and poses in coordinates of its files; tie points with their colours, in the frame of the
  // block as all clouds here. They come from the block itself wherever its files are not current. Throws Error(usage)
  // where there is no fresh block, or none of this number.
  CameraFile cameras(std::size_t block);
  PointCloud tie_points(std::size_t block);
  // The dense cloud of a block, if its file is the one that the present state would make. Otherwise throws Error(usage)
  // that says why it is not and what to run.
  std::filesystem::path cloud_file(std::size_t block);
  // The same for its mesh, alone and with its texture.
  std::filesystem::path mesh_file(std::size_t block);
  std::filesystem::path textured_file(std::size_t block);
  // And for what `terrain` made, by its name: "dsm.tif", "dtm.tif", "classes.ply" ...
  std::filesystem::path terrain_file(std::size_t block, const std::string& name);
  // And for what `orthomosaic` made: "orthomosaic.tif", "photo_of_cell.tif", "seams.gpkg".
  std::filesystem::path orthomosaic_file(std::size_t block, const std::string& name);
  // A file of a block as it lies in results/, current or not; a warning says what it is not. Throws Error(usage) where
  // there is none.
  std::filesystem::path file_as_it_is(std::size_t block, const std::string& name);
  // No more than so many points: coarser where it has more.
  PointCloud cloud(std::size_t block, std::uint64_t most = ~std::uint64_t{0});
  // Writes the files of the fresh blocks that are not current again from their record. False where another run holds
  // the lock, and then nothing is written.
  bool mend_files();
  std::filesystem::path block_folder(std::size_t block) const;
  // Photos as `pose` knows them, by index.
  std::string photo_name(PhotoIndex photo);

 private:
  std::function<std::optional<DepthMap>(std::size_t)> maps_of(std::size_t block);
  void lock();
  void take_settings();  // as survey.toml has them now
  CameraFile cameras_of(std::size_t block);
  PointCloud tie_points_of(std::size_t block);
  using Colours = std::vector<std::array<std::uint8_t, 3>>;
  Colours keypoint_colours(PhotoIndex photo);
  WideFeatures wide_features(PhotoIndex photo);
  bool blocks_are_written() const;
  void warn_once(const std::string& message);
  void write_blocks();                                   // their files in results/ that are not current
  void keep(OrientResult next, const std::string& how);  // in place of the free blocks, which can be brought back
  JoinOptions join_options(std::size_t first, std::size_t second, JoinOptions options);
  void keep_joined(std::size_t first, std::size_t second, const JoinResult& result, const AdjustOptions& adjusting);
  void settle();  // the blocks as later steps take them
  MatchReport write_match_report(const PairChoice& choice);
  std::optional<MatchReport> kept_match_report();
  struct State;
  std::filesystem::path folder_;
  Executor executor_;
  Monitor& monitor_;
  Settings settings_;
  std::unique_ptr<State> state_;
};

}  // namespace icefield
