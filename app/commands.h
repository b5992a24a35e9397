// One function for each command. Each prints its result and returns the exit status.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "icefield/survey/survey.h"

struct Common {
  std::string survey;
  int threads = 0;
  bool json = false, quiet = false, verbose = false;
  std::string effort, instructions;
  std::vector<std::string> set;
};

struct ExportRequest {
  std::size_t block = 1;
  std::string cameras, tie_points, cloud, undistorted, depth_maps, depth_format = "tif", depth_points, photo;
  bool ascii = false, stale = false;
};

struct DensifyRequest {
  std::vector<double> bounds;
  std::string outline;
  bool automatic_bounds = false, dry_run = false;
};

struct CloudRequest {
  std::vector<std::string> inputs;
  std::string output, outline, aside;
  std::vector<double> box;
  bool outside = false, clean = false, normals = false, ascii = false, json = false;
  double spacing = 0, tiles = 0;
  icefield::CleanOptions cleaning;
  int threads = 0;
};

struct CompareRequest {
  std::size_t block = 1;
  std::string cameras, surface, overlap;
  bool stale = false;
};

struct PairRequest {
  std::string first, second, points;
};

struct PhotosRequest {
  std::vector<std::string> on, off, parameters;
  std::string masks, model;
  std::size_t camera = 0;
  double focal_px = 0, uncertainty_percent = 0;  // 0: not given
};

struct AdjustCommandRequest {
  std::size_t block = 1;
  std::vector<std::string> free, held;
  bool remove_weak = false, undo = false;
  double level = 3.29, sigma = 100, angle = 0.15, share_percent = 5;
  int passes = 10;
};

struct JoinCommandRequest {
  std::size_t first = 1, second = 2;
  int least = 12;
};

struct ViewRequest {
  std::size_t block = 1, camera = 1;
  std::string what = "block", photo, other, output, file, from = "perspective", by = "colour";
  bool no_names = false, cloud = false, stale = false;
  double enlarged = 0;
  double azimuth_deg = 35, elevation_deg = 28;
};

int begin_command(const Common& common, const std::vector<std::string>& sources, const std::string& masks,
                  icefield::Monitor& monitor);
int photos_command(const Common& common, const PhotosRequest& request, icefield::Monitor& monitor);
int match_command(const Common& common, const std::string& pairs_file, icefield::Monitor& monitor);
int pose_command(const Common& common, icefield::Monitor& monitor);
int adjust_command(const Common& common, const AdjustCommandRequest& request, icefield::Monitor& monitor);
int join_command(const Common& common, const JoinCommandRequest& request, icefield::Monitor& monitor);
int densify_command(const Common& common, const DensifyRequest& request, icefield::Monitor& monitor);
int cloud_command(const CloudRequest& request, icefield::Monitor& monitor);
int export_command(const Common& common, const ExportRequest& request, icefield::Monitor& monitor);
int compare_command(const Common& common, const CompareRequest& request, icefield::Monitor& monitor);
int pair_command(const Common& common, const PairRequest& request, icefield::Monitor& monitor);
int view_command(const Common& common, const ViewRequest& request, icefield::Monitor& monitor);
int run_command(const Common& common, const std::string& to, icefield::Monitor& monitor);
int tidy_command(const Common& common, bool dry_run, icefield::Monitor& monitor);
int status_command(const Common& common, icefield::Monitor& monitor);
int settings_command(const Common& common, icefield::Monitor& monitor);
int demo_command(const Common& common, icefield::Monitor& monitor);
std::string error_json(const icefield::Error& error);
