#include "icefield/survey/settings.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <numeric>

#include "icefield/world/crs.h"

namespace icefield {
namespace {

// Settings of a section: visit(key, unit, meaning, field, lowest, highest) for each.
template <class S, class Visit>
void for_each_photo_setting(S& s, const Visit& visit) {
  visit("photo.max_megapixels", "megapixels", "Photos that state a larger size are left out before anything is decoded",
        s.photo.max_megapixels, 0.01, 4000);
}

template <class S, class Visit>
void for_each_feature_setting(S& s, const Visit& visit) {
  visit("feature.max_features", "",
        "Features kept in a photo, the strongest of each part of it; matching time grows with the square",
        s.feature.max_features, 50, 100000);
  visit("feature.gaussian", "",
        "Find features in the Gaussian scale space, with descriptors of gradients: the kind for nearly all photos",
        s.feature.gaussian, 0, 1);
  visit("feature.nonlinear", "",
        "Find features in a non-linear scale space as well, with binary descriptors: more where texture is weak, for "
        "twice the time",
        s.feature.nonlinear, 0, 1);
  visit("feature.min_blob_strength", "", "Least strength of a feature of the non-linear scale space",
        s.feature.min_blob_strength, 0, 1);
  visit("feature.min_contrast", "brightness 0 to 1", "Least contrast of a feature; lower it for dim or hazy photos",
        s.feature.min_contrast, 0, 1);
  visit("feature.layers", "per octave", "Scales in which an octave is searched: more find more, for more time",
        s.feature.layers, 2, 6);
  visit("feature.adapt_contrast", "", "Lower it by itself for photos that are dim or flat as a whole",
        s.feature.adapt_contrast, 0, 1);
  visit("feature.upright", "", "Take no direction from the gradients: for photos that are all held alike",
        s.feature.upright, 0, 1);
  visit("feature.max_edge_ratio", "",
        "Features on edges slide along them; above this ratio of curvatures they are dropped", s.feature.max_edge_ratio,
        1, 1000);
  visit("feature.double_below_megapixels", "megapixels",
        "Smaller photos are searched at twice their size as well: more and finer features for four times the time",
        s.feature.double_below_megapixels, 0, 10000);
}

template <class S, class Visit>
void for_each_match_setting(S& s, const Visit& visit) {
  visit("match.max_ratio", "",
        "Largest distance to the nearest descriptor, as a share of that to the second nearest; higher gives more and "
        "worse matches",
        s.descriptor.max_ratio, 0.1, 1);
  visit("match.mutual", "", "Two features match only if each is the other's nearest", s.descriptor.mutual, 0, 1);
  visit("match.max_error_px", "px",
        "Matches farther than this from the geometry of their pair are wrong; the noise is found within it",
        s.verify.max_error_px, 0.1, 50);
  visit("match.min_inliers", "", "Verified matches that a pair of photos needs", s.verify.min_inliers, 8, 100000);
  visit("match.min_inlier_share", "", "Share of a pair's matches that one geometry must explain",
        s.verify.min_inlier_share, 0, 1);
  visit("match.max_samples", "", "Most samples that the robust estimation of a pair draws", s.verify.max_samples, 10,
        1e7);
  visit("match.min_plane_share", "",
        "Share of a pair's verified matches that a plane, or a turn, must explain for the pair to count as one",
        s.verify.min_plane_share, 0.5, 1);
  visit("match.min_off_plane", "", "Verified matches off a plane, or a turn, that are too few to speak against it",
        s.verify.min_off_plane, 0, 10000);
  visit("match.fixed_pattern_px", "px",
        "Matches that stay within this of the same pixel are a fixed pattern (a date stamp, dust), unless most do; 0: "
        "not looked for",
        s.verify.fixed_pattern_px, 0, 100);
  visit("match.guided", "", "Match a second time along the geometry that was found: more matches where texture repeats",
        s.verify.guided, 0, 1);
  visit("match.max_guided_ratio", "",
        "Largest ratio of distances in the second pass, among the features within reach of the geometry",
        s.verify.max_guided_ratio, 0.1, 1);
  visit("match.max_focal_uncertainty_percent", "percent",
        "Focal lengths less certain than this are not used to verify pairs", s.verify.max_focal_uncertainty_percent, 0,
        100);
}

template <class S, class Visit>
void for_each_pairs_setting(S& s, const Visit& visit) {
  visit("pairs.all_up_to", "photos", "Sets up to this size are matched pair by pair without choosing",
        s.pairs.all_up_to, 2, 100000);
  visit("pairs.near_photos", "photos",
        "Photos from the nearest places that each is looked at with, where places are known", s.pairs.near_photos, 0,
        10000);
  visit("pairs.alike_photos", "photos", "Photos that look most alike that each is looked at with", s.pairs.alike_photos,
        0, 10000);
  visit("pairs.next_photos", "photos", "Photos taken next that each is looked at with", s.pairs.next_photos, 0, 1000);
  visit("pairs.probe_features", "", "Strongest features that a look at a pair matches", s.pairs.probe_features, 50,
        10000);
  visit("pairs.min_probe_matches", "",
        "Of them that must agree for the pair to be tried; 0 tries all that are looked at", s.pairs.min_probe_matches,
        0, 10000);
  visit("pairs.via_rounds", "",
        "Rounds in which photos that match a third one at the same spots are tried with each other", s.pairs.via_rounds,
        0, 100);
  visit("pairs.min_via_spots", "", "Such spots that two photos need", s.pairs.min_via_spots, 1, 100000);
  visit("pairs.words", "", "Words of the vocabulary that likeness is judged by, made from the photos themselves",
        s.pairs.words, 2, 4096);
}

template <class S, class Visit>
void for_each_growing_setting(S& s, const Visit& visit) {
  visit("pose.min_seed_angle_deg", "degrees", "Median angle between the rays of the pair that a block starts from",
        s.pose.min_seed_angle_deg, 0.1, 90);
  visit("pose.min_seed_points", "", "Tie points that this pair needs", s.pose.min_seed_points, 8, 100000);
  visit("pose.min_resection_points", "",
        "Tie points that must agree on the pose of a photo; fewer bring in more photos and wrong poses",
        s.pose.min_resection_points, 6, 100000);
  visit("pose.min_resection_share", "", "Share of the tie points in view that must agree", s.pose.min_resection_share,
        0, 1);
  visit("pose.resection_confidence", "",
        "Probability that a sample of three right points has come up before the search for a pose ends",
        s.pose.resection_confidence, 0.5, 0.9999999);
  visit("pose.max_resection_samples", "", "Most samples that the search for a pose draws", s.pose.max_resection_samples,
        10, 1e7);
  visit("pose.max_resection_error_px", "px", "Largest residual of a tie point that agrees, while poses are rough",
        s.pose.max_resection_error_px, 0.1, 100);
  visit("pose.min_growing_angle_deg", "degrees",
        "Smallest angle between the rays of a tie point that photos are posed from", s.pose.min_growing_angle_deg, 0.01,
        45);
  visit("pose.min_sure_points", "",
        "Tie points at that angle that a photo needs when it only comes in with smaller angles", s.pose.min_sure_points,
        0, 1000);
  visit("pose.min_point_angle_deg", "degrees",
        "Smallest angle in the finished block: far points, whose depth is not exact, still fix directions",
        s.pose.min_point_angle_deg, 0.001, 45);
}

template <class S, class Visit>
void for_each_block_setting(S& s, const Visit& visit) {
  visit("pose.max_growing_residual_px", "px", "Largest residual of an observation while a block grows",
        s.pose.max_growing_residual_px, 0.1, 100);
  visit("pose.max_residual_px", "px", "Largest residual of an observation in the finished block",
        s.pose.max_residual_px, 0.1, 100);
  visit("pose.max_residual_sigmas", "",
        "Largest residual in the finished block by its own noise: so many standard deviations of a coordinate",
        s.pose.max_residual_sigmas, 2, 1000);
  visit("pose.loss_width_sigmas", "", "Residuals beyond so many standard deviations weigh less",
        s.pose.loss_width_sigmas, 0.5, 1000);
  visit("pose.adjust_growth_share", "", "The block is adjusted each time its observations have grown by this share",
        s.pose.adjust_growth_share, 0.01, 10);
  visit("pose.min_block_photos", "photos", "A further block needs this many", s.pose.min_block_photos, 2, 1000);
  visit("pose.free_focal", "", "Adjust the focal length of each camera", s.pose.free_focal, 0, 1);
  visit("pose.free_distortion", "", "Adjust the radial distortion of each camera", s.pose.free_distortion, 0, 1);
  visit("pose.free_whole_lens", "",
        "Adjust principal point, third radial and tangential terms as well, as far as the photos determine them",
        s.pose.free_whole_lens, 0, 1);
  visit("pose.way", "",
        "growing: photo by photo from a pair; all-at-once: all orientations, then all places; automatic: the one that "
        "measured better",
        s.pose.way, 0, 0);
  visit("pose.check_twins", "",
        "Look for places that look alike and were laid on each other, and make the block again without the pairs that "
        "say so",
        s.pose.check_twins, 0, 1);
  visit("pose.doubtful_below", "", "Photos that hang on the rest by fewer common points are doubtful",
        s.pose.doubtful_below, 3, 100000);
  visit("pose.doubtful_sigma_gsd", "GSD",
        "Photos whose place has a larger standard deviation, and four times that of the others, are doubtful",
        s.pose.doubtful_sigma_gsd, 0.01, 10000);
  visit("pose.leave_out_doubtful", "", "Leave doubtful photos out of the block", s.pose.leave_out_doubtful, 0, 1);
}

template <class S, class Visit>
void for_each_georeference_setting(S& s, const Visit& visit) {
  visit("georeference.on", "",
        "Bring blocks to where control points, known lengths and photo positions say that they are", s.georeference.on,
        0, 1);
  visit("georeference.crs", "",
        "Coordinate reference system of the coordinates, by its code, as EPSG:25832 or with one for heights "
        "EPSG:25832+7837; "
        "empty: a local grid, or the zone of the photos where these alone have positions",
        s.georeference.crs, 0, 0);
  visit("georeference.photo_positions", "", "Positions of the photos take part", s.georeference.photo_positions, 0, 1);
  visit("georeference.gps_over_ellipsoid", "",
        "Heights of the photos' receivers count from the ellipsoid; false: from the sea",
        s.georeference.gps_over_ellipsoid, 0, 1);
  visit("georeference.position_sigma_m", "m", "Standard deviation of photo positions in plan, where none is stated",
        s.georeference.position_sigma_m, 0.001, 1000);
  visit("georeference.position_height_sigma_m", "m", "Standard deviation of their heights, where none is stated",
        s.georeference.position_height_sigma_m, 0.001, 1000);
  visit("georeference.photo_tilts", "",
        "What photos say of their own tilt and azimuth takes part: a weak hint, which levels what nothing else levels",
        s.georeference.photo_tilts, 0, 1);
  visit("georeference.tilt_sigma_deg", "degrees", "Standard deviation of the tilts of photos; all may share the error",
        s.georeference.tilt_sigma_deg, 0.001, 90);
  visit("georeference.azimuth_sigma_deg", "degrees", "Standard deviation of the azimuths of photos, the same",
        s.georeference.azimuth_sigma_deg, 0.001, 180);
  visit("georeference.antenna_right_m", "m",
        "Place of the receiver's antenna from the camera, to the right in the photo", s.georeference.antenna_right_m,
        -100, 100);
  visit("georeference.antenna_down_m", "m", "and of that antenna downwards in the photo", s.georeference.antenna_down_m,
        -100, 100);
  visit("georeference.antenna_forward_m", "m", "and of that antenna along the line of sight",
        s.georeference.antenna_forward_m, -100, 100);
  visit("georeference.point_sigma_m", "m", "Standard deviation of coordinates of control points, where none is given",
        s.georeference.point_sigma_m, 1e-6, 1000);
  visit("georeference.mark_sigma_px", "px", "Standard deviation of marks, where none is given",
        s.georeference.mark_sigma_px, 0.001, 100);
  visit("georeference.length_sigma_m", "m", "Standard deviation of known lengths, where none is given",
        s.georeference.length_sigma_m, 1e-6, 1000);
  visit("georeference.level_points", "",
        "Names of three marked points or more that are at one height, with commas; where no coordinates are known",
        s.georeference.level_points, 0, 0);
  visit("georeference.up_points", "", "Two marked points: up is from the first to the second", s.georeference.up_points,
        0, 0);
  visit("georeference.axis_points", "", "Two marked points: x goes, in plan, from the first to the second",
        s.georeference.axis_points, 0, 0);
  visit("georeference.zero_point", "", "The marked point where x, y and z are 0", s.georeference.zero_point, 0, 0);
  visit("georeference.adjust", "",
        "Adjust the block with everything that is known; false: move, turn and scale it as a whole",
        s.georeference.adjust, 0, 1);
  visit("georeference.false_alarm", "", "Probability that something is accused in a set without any fault",
        s.georeference.false_alarm, 1e-9, 0.5);
}

template <class S, class Visit>
void for_each_dense_setting(S& s, const Visit& visit) {
  visit("dense.shrink", "times", "Depth maps are computed on photos this much smaller: 1, 2 or 4", s.dense.shrink, 1,
        16);
  visit("dense.max_neighbours", "photos", "Photos that a depth map is matched against; more fill more and take longer",
        s.dense.max_neighbours, 1, 16);
  visit("dense.part_neighbours", "photos", "Of these, those that one part of the photo asks", s.dense.part_neighbours,
        1, 16);
  visit("dense.min_shared_points", "", "Tie points that a neighbour must share", s.dense.min_shared_points, 1, 100000);
  visit("dense.min_angle_deg", "degrees", "Smallest angle to a neighbour (median over tie points)",
        s.dense.min_angle_deg, 0, 90);
  visit("dense.max_angle_deg", "degrees", "Largest angle to a neighbour", s.dense.max_angle_deg, 0, 180);
  visit("dense.skip_repeats", "",
        "Make no depth map for a photo that shows what a sharper one shows from nearly the same place",
        s.dense.skip_repeats, 0, 1);
  visit("dense.patch_radius", "px", "Patches reach this far; larger ones bridge weak texture and lose detail",
        s.dense.patch_radius, 1, 15);
  visit("dense.patch_step", "px",
        "Distance of samples within a patch; larger by itself where they would be more than 128", s.dense.patch_step, 1,
        4);
  visit("dense.weak_contrast", "grey values",
        "Where a patch has less contrast than this (standard deviation) it is made wider; 0: nowhere",
        s.dense.weak_contrast, 0, 100);
  visit("dense.wide_patch", "times", "So much wider are patches where texture is weak", s.dense.wide_patch, 1, 5);
  visit("dense.plane_prior", "correlation",
        "What the plane of the surface around counts where texture is weak, or that none is known; 0: nothing",
        s.dense.plane_prior, 0, 1);
  visit("dense.coarse_iterations", "", "Rounds of search at half the size of the depth map", s.dense.coarse_iterations,
        1, 50);
  visit("dense.fine_iterations", "", "Rounds of search at its full size", s.dense.fine_iterations, 1, 50);
  visit(
      "dense.detail_contrast", "grey values",
      "Where a photo shows less than this (standard deviation) beyond what one of half the size shows, its depths are "
      "those found at half size; 0: searched for everywhere",
      s.dense.detail_contrast, 0, 100);
  visit("dense.consistency_rounds", "", "Further rounds in which maps must agree with each other",
        s.dense.consistency_rounds, 0, 5);
}

template <class S, class Visit>
void for_each_fuse_setting(S& s, const Visit& visit) {
  visit("fuse.return_px", "px", "Maps agree on a point if it comes back this close (pixels of the depth map)",
        s.dense.return_px, 0.1, 20);
  visit("fuse.depth_gap_percent", "percent", "and their depths differ by no more than this", s.dense.depth_gap_percent,
        0.01, 50);
  visit("fuse.facing_gap_deg", "degrees", "and their normals by no more than this", s.dense.facing_gap_deg, 1, 180);
  visit("fuse.min_views", "photos",
        "Photos that must agree on a point, its own included; more removes noise and thin detail", s.dense.min_views, 1,
        32);
  visit("fuse.max_cost", "", "1 minus correlation beyond which a depth is not believed", s.dense.max_cost, 0, 2);
  visit("fuse.keep_thin", "", "Keep as well what two photos agree on closely: thin detail that few see",
        s.dense.keep_thin, 0, 1);
  visit("fuse.spacing", "block units",
        "Distance of the cloud's points; 0: as the pixels of the depth maps lie on the surface", s.dense.spacing, 0,
        1e6);
  visit("fuse.level_exposure", "", "Take differences of exposure between photos out of the colours",
        s.dense.level_exposure, 0, 1);
  visit("clean.on", "", "Set aside what is likely no surface, by the three below", s.dense.clean, 0, 1);
  visit("clean.max_conflicts_per_view", "photos",
        "Photos that see past a point, for each that agrees on it, beyond which it is set aside; 0: not asked",
        s.dense.cleaning.max_conflicts_per_view, 0, 100);
  visit("clean.max_loneliness", "times",
        "Distance of a point to its neighbours, against theirs, beyond which it is set aside; 0: not asked",
        s.dense.cleaning.max_loneliness, 0, 1000);
  visit("clean.min_island_points", "points", "Smaller groups of connected points are set aside; 0: none",
        s.dense.cleaning.min_island_points, 0, 100000000);
  visit("clean.neighbours", "points", "Neighbours that both look at", s.dense.cleaning.neighbours, 2, 64);
  visit("clean.reach", "times", "Points this many times farther than their neighbours are still connected",
        s.dense.cleaning.reach, 1, 100);
}

template <class S, class Visit>
void for_each_mesh_setting(S& s, const Visit& visit) {
  visit("mesh.way", "",
        "closed: fitted to the cloud, then trimmed by what rests on points; open: from the depth maps' lines of sight, "
        "which lets less of what is not there stand and keeps rods and openings, and costs more time and memory",
        s.mesh.way, 0, 0);
  visit(
      "mesh.step_spacings", "spacings",
      "Of the open way: step of its grid, in spacings of the points; smaller keep thinner things and take more memory",
      s.mesh.open.step_spacings, 0.3, 100);
  visit("mesh.smoothness", "", "Of the open way: how smooth the surface is against what pixels say",
        s.mesh.open.smoothness, 1e-3, 100);
  visit("mesh.cell_spacings", "spacings",
        "Size of the finest cells that the surface is fitted in, in spacings of the points: smaller follow noise, "
        "larger round edges",
        s.mesh.fit.cell_spacings, 0.5, 100);
  visit("mesh.hold", "", "How strictly the surface keeps to the points against how smooth it is", s.mesh.fit.hold, 0,
        1000);
  visit("mesh.min_support", "",
        "Least density of points around a vertex, against the usual one: faces with less go, so that the surface ends "
        "where the points end; 0: it stays closed",
        s.mesh.fit.min_support, 0, 1);
  visit("mesh.small_patch", "square spacings",
        "Patches without support that are smaller stay, so that small gaps are closed; pieces that are smaller go",
        s.mesh.fit.small_patch_spacings2, 0, 1e9);
  visit("mesh.sharpen", "rounds",
        "The surface moves to where the photos agree, so often at full size; 0: it stays as the cloud has it",
        s.mesh.sharpen.rounds, 0, 50);
  visit("mesh.sharpen_partners", "photos", "Other photos that each photo is held against for that",
        s.mesh.sharpen.partners, 1, 50);
  visit("mesh.sharpen_window", "px", "Around a pixel, each way, whose contrast is compared", s.mesh.sharpen.window, 1,
        16);
  visit("mesh.sharpen_smoothness", "",
        "Against bending, where photos say as much as is usual: more keeps noise down and rounds detail",
        s.mesh.sharpen.smoothness, 0, 1000);
  visit("mesh.faces", "", "Faces that are left after lightening; 0: half as many as the cloud has points", s.mesh.faces,
        0, 2000000000);
  visit(
      "mesh.most_points", "",
      "Points that the surface is fitted to; a larger cloud is taken evenly thinner. Some 700 bytes of memory go with "
      "each",
      s.mesh.most_points, 1000, 2000000000);
}

template <class S, class Visit>
void for_each_texture_setting(S& s, const Visit& visit) {
  visit("texture.page_size", "texels", "Size of the pages each way, at the most; smaller where everything has room",
        s.texture.page_size, 64, 16384);
  visit("texture.pages", "", "How many pages, at the most", s.texture.max_pages, 1, 999);
  visit("texture.texel", "units",
        "Size of a texel on the surface; 0: that of the photos' pixels, or as small as the pages hold", s.texture.texel,
        0, 1e9);
  visit("texture.max_angle", "radians", "Photos that look at a face at more than this from its normal take no part",
        s.texture.max_angle, 0.1, 1.57);
  visit("texture.seam_cost", "",
        "What a seam between two photos costs beside detail: more makes fewer and larger patches", s.texture.seam_cost,
        0, 1000);
  visit("texture.colour_gap", "of 255",
        "A photo takes no part where its colour is this far from what most others say: what stood there for a moment",
        s.texture.colour_gap, 1, 255);
  visit("texture.level", "", "Level exposure between photos and steps at seams", s.texture.level, 0, 1);
  visit("texture.gutter", "texels", "Around each patch of a page, carrying its colours on", s.texture.gutter, 1, 64);
}

template <class S, class Visit>
void for_each_terrain_setting(S& s, const Visit& visit) {
  visit("terrain.widest", "units",
        "Of what stands on the ground: no place of it is farther than half of this from ground that is seen",
        s.terrain.ground.widest, 1e-6, 1e6);
  visit("terrain.bend", "degrees",
        "How sharply the ground may bend: what rises above its surroundings more steeply is none of it",
        s.terrain.ground.bend_deg, 1, 80);
  visit("terrain.step", "units",
        "Height above the surface of the ground up to which points are of it; 0: two spacings of the points",
        s.terrain.ground.step, 0, 1e6);
  visit("terrain.by_colour", "",
        "What has another colour than the ground around it must lie level with that ground to be of it",
        s.terrain.ground.by_colour, 0, 1);
  visit("terrain.ground_within", "x y, x y, x y; ...",
        "Outlines in plan within which the lowest points are ground; kept by `terrain --ground-within FILE`",
        s.terrain.ground_within, 0, 0);
  visit("terrain.other_within", "x y, x y, x y; ...",
        "Outlines in plan within which no point is ground; kept by `terrain --other-within FILE`",
        s.terrain.other_within, 0, 0);
  visit("terrain.cell", "units", "Size of the cells of both height models; 0: the photos' GSD", s.terrain.cell, 0, 1e6);
  visit("terrain.reach", "cells", "How far from a cell's middle points speak for it", s.terrain.heights.reach_cells,
        0.5, 100);
  visit("terrain.reach_spacings", "spacings", "And at least so far, in spacings of the points",
        s.terrain.heights.reach_spacings, 0.5, 100);
  visit("terrain.fill", "units", "How far from measured cells around them gaps of the surface are filled; 0: 30 cells",
        s.terrain.heights.fill, 0, 1e6);
  visit("terrain.ground_fill", "units",
        "How far from ground that was seen the height of the ground is given; 0: half of terrain.widest",
        s.terrain.ground_fill, 0, 1e6);
}

template <class S, class Visit>
void for_each_orthomosaic_setting(S& s, const Visit& visit) {
  visit("orthomosaic.over_ground", "", "Over the ground (DTM), not the surface: what stands on it leans",
        s.orthomosaic.over_ground, 0, 1);
  visit("orthomosaic.max_angle", "degrees", "Photos that see a cell at more than this from straight above take no part",
        s.orthomosaic.options.max_angle_deg, 1, 89);
  visit("orthomosaic.seam_cost", "",
        "What a seam between two photos costs beside detail: more makes fewer and larger patches",
        s.orthomosaic.options.seam_cost, 0, 1000);
  visit("orthomosaic.colour_gap", "of 255",
        "A photo takes no part where its colour is this far from what most others say: what stood there for a moment",
        s.orthomosaic.options.colour_gap, 1, 255);
  visit("orthomosaic.level", "", "Level exposure between photos and the loss of light towards their corners",
        s.orthomosaic.options.level, 0, 1);
  visit("orthomosaic.raised", "units", "Height above the ground from which seams keep off; 0: 15 cells",
        s.orthomosaic.options.raised, 0, 1e6);
  visit("orthomosaic.blend", "", "Steps at seams are spread over 2 to the power of so many cells; 0: not at all",
        s.orthomosaic.options.blend, 0, 8);
  visit("orthomosaic.lossy", "", "The picture as JPEG within its file, which takes a tenth of the room",
        s.orthomosaic.lossy, 0, 1);
}

template <class S, class Visit>
void for_each_given_setting(S& s, const Visit& visit) {
  visit("given.poses", "",
        "Poses of given_poses.json, which `poses` writes: fixed (they stay as they are), start (they are adjusted with "
        "all else), or empty: none",
        s.given.poses, 0, 0);
  visit("given.cameras", "", "The cameras of these photos come from that file too", s.given.cameras, 0, 1);
}

// All of them, in the order in which they are listed.
template <class S, class Visit>
void for_each_setting(S& s, const Visit& visit) {
  for_each_photo_setting(s, visit);
  for_each_feature_setting(s, visit);
  for_each_match_setting(s, visit);
  for_each_pairs_setting(s, visit);
  for_each_growing_setting(s, visit);
  for_each_block_setting(s, visit);
  for_each_given_setting(s, visit);
  for_each_georeference_setting(s, visit);
  for_each_dense_setting(s, visit);
  for_each_fuse_setting(s, visit);
  for_each_mesh_setting(s, visit);
  for_each_texture_setting(s, visit);
  for_each_terrain_setting(s, visit);
  for_each_orthomosaic_setting(s, visit);
}

constexpr OrientWay kWays[] = {OrientWay::automatic, OrientWay::growing, OrientWay::all_at_once};

constexpr MeshWay kMeshWays[] = {MeshWay::closed, MeshWay::open};

template <class T>
std::string to_text(const T& value) {
  if constexpr (std::is_same_v<T, bool>)
    return value ? "true" : "false";
  else if constexpr (std::is_same_v<T, OrientWay> || std::is_same_v<T, MeshWay>)
    return name_of(value);
  else if constexpr (std::is_same_v<T, std::string>)
    return value;
  else
    return fmt::format("{}", value);
}

// Edit distance (Levenshtein), to name the key that was probably meant.
std::size_t edits(const std::string& a, const std::string& b) {
  std::vector<std::size_t> row(b.size() + 1);
  std::iota(row.begin(), row.end(), std::size_t{0});
  for (std::size_t i = 1; i <= a.size(); ++i) {
    std::size_t diagonal = row[0];
    row[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t next = std::min({row[j] + 1, row[j - 1] + 1, diagonal + (a[i - 1] != b[j - 1])});
      diagonal = row[j];
      row[j] = next;
    }
  }
  return row[b.size()];
}

}  // namespace

const char* name_of(MeshWay way) {
  return way == MeshWay::closed ? "closed" : "open";
}

const char* effort_name(Effort effort) {
  return effort == Effort::draft ? "draft" : effort == Effort::standard ? "standard" : "fine";
}

Effort effort_by_name(const std::string& name) {
  for (const Effort e : {Effort::draft, Effort::standard, Effort::fine})
    if (name == effort_name(e)) return e;
  throw Error(ErrorKind::usage, "effort '" + name + "'", "does not exist", "choose draft, standard or fine");
}

Settings::Settings(Effort e, std::map<std::string, Effort> of_steps) : effort(e), step_effort(std::move(of_steps)) {
  const Effort matching = effort_of("match"), dense_effort = effort_of("densify");
  if (matching == Effort::draft) {
    feature.max_features = 3000;
    feature.double_below_megapixels = 0.5;
  } else if (matching == Effort::fine) {
    feature.double_below_megapixels = 1000;
    feature.max_features = 12000;
  }
  if (dense_effort == Effort::draft) {
    dense.shrink = 4;
    dense.max_neighbours = 7;
    dense.part_neighbours = 4;
    dense.skip_repeats = true;
    mesh.sharpen.rounds = 0;
  } else if (dense_effort == Effort::fine) {
    dense.shrink = 1;
    dense.max_neighbours = 12;
    dense.part_neighbours = 6;
    dense.coarse_iterations = 5;
    dense.fine_iterations = 3;
    dense.detail_contrast = 1.5;
  }
}

Effort Settings::effort_of(const std::string& step) const {
  const auto own = step_effort.find(step);
  return own == step_effort.end() ? effort : own->second;
}

void Settings::set(const std::string& key, const std::string& value) {
  bool found = false;
  std::string nearest;
  std::size_t nearest_edits = 1000;
  for_each_setting(*this, [&](const char* name, const char* unit, const char*, auto& field, double low, double high) {
    if (const std::size_t n = edits(key, name); n < nearest_edits) nearest_edits = n, nearest = name;
    if (key != name) return;
    found = true;
    using T = std::remove_reference_t<decltype(field)>;
    if constexpr (std::is_same_v<T, bool>) {
      if (value != "true" && value != "false")
        throw Error(ErrorKind::usage, key, "cannot be '" + value + "'", "give true or false");
      field = value == "true";
    } else if constexpr (std::is_same_v<T, std::string>) {
      if (key == "given.poses" && !value.empty() && value != "fixed" && value != "start")
        throw Error(ErrorKind::usage, key, "cannot be '" + value + "'", "give fixed or start, or nothing for none");
      if (key == "terrain.ground_within" || key == "terrain.other_within") outlines_of_text(value, key);
      field = value.empty() || key != "georeference.crs" ? value : crs_of(value).id;
    } else if constexpr (std::is_same_v<T, OrientWay>) {
      const auto way =
          std::find_if(std::begin(kWays), std::end(kWays), [&](OrientWay w) { return value == name_of(w); });
      if (way == std::end(kWays))
        throw Error(ErrorKind::usage, key, "cannot be '" + value + "'", "give automatic, growing or all-at-once");
      field = *way;
    } else if constexpr (std::is_same_v<T, MeshWay>) {
      const auto way =
          std::find_if(std::begin(kMeshWays), std::end(kMeshWays), [&](MeshWay w) { return value == name_of(w); });
      if (way == std::end(kMeshWays))
        throw Error(ErrorKind::usage, key, "cannot be '" + value + "'", "give closed or open");
      field = *way;
    } else {
      T parsed{};
      const auto [end, error] = std::from_chars(value.data(), value.data() + value.size(), parsed);
      if (error != std::errc() || end != value.data() + value.size() ||
          !(static_cast<double>(parsed) >= low && static_cast<double>(parsed) <= high))
        throw Error(ErrorKind::usage, key, "cannot be '" + value + "'",
                    fmt::format("give a {} from {} to {}{}", std::is_integral_v<T> ? "whole number" : "number", low,
                                high, *unit ? std::string(" ") + unit : ""));
      field = parsed;
    }
  });
  if (!found)
    throw Error(ErrorKind::usage, "setting '" + key + "'", "does not exist",
                "did you mean " + nearest + "? `icefield settings` lists all");
}

std::vector<SettingInfo> Settings::list() const {
  std::vector<SettingInfo> infos;
  for_each_setting(*this,
                   [&](const char* name, const char* unit, const char* meaning, const auto& field, double, double) {
                     infos.push_back({name, unit, meaning, "", to_text(field)});
                   });
  const Settings defaults(effort, step_effort);
  std::size_t i = 0;
  for_each_setting(defaults, [&](const char*, const char*, const char*, const auto& field, double, double) {
    infos[i++].default_value = to_text(field);
  });
  return infos;
}

std::vector<std::vector<Eigen::Vector2d>> outlines_of_text(const std::string& text, const std::string& what) {
  std::vector<std::vector<Eigen::Vector2d>> outlines;
  const auto fail = [&](const std::string& fault) -> Error {
    return Error(ErrorKind::usage, what, fault, "write three corners or more each, \"x y, x y, x y; x y, x y, x y\"");
  };
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find(';', at), text.size());
    std::vector<Eigen::Vector2d>& outline = outlines.emplace_back();
    for (std::size_t from = at; from < end;) {
      const std::size_t comma = std::min(text.find(',', from), end);
      std::istringstream words(text.substr(from, comma - from));
      Eigen::Vector2d corner;
      std::string rest;
      if (!(words >> corner.x() >> corner.y()) || !corner.allFinite() || words >> rest)
        throw fail("has a corner '" + text.substr(from, comma - from) + "'");
      outline.push_back(corner);
      from = comma + 1;
    }
    if (outline.size() < 3) throw fail(fmt::format("has an outline of {} corners", outline.size()));
    at = end + 1;
  }
  return outlines;
}

std::string text_of_outlines(const std::vector<std::vector<Eigen::Vector2d>>& outlines) {
  std::string text;
  for (const auto& outline : outlines) {
    text += text.empty() ? "" : "; ";
    for (std::size_t k = 0; k < outline.size(); ++k)
      text += fmt::format("{}{} {}", k > 0 ? ", " : "", outline[k].x(), outline[k].y());
  }
  return text;
}

std::string Settings::text(std::initializer_list<std::string_view> sections) const {
  std::string out;
  for_each_setting(*this, [&](const char* name, const char*, const char*, const auto& field, double, double) {
    const std::string_view key(name);
    for (const std::string_view section : sections)
      if (key.substr(0, key.find('.')) == section) out += fmt::format("{}={}\n", name, to_text(field));
  });
  return out;
}

}  // namespace icefield
