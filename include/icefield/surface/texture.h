// Pictures on a mesh, made of the photos that see it.
#pragma once
#include <Eigen/Core>
#include <array>
#include <string>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/photo/photo_source.h"
#include "icefield/surface/mesh.h"
#include "icefield/surface/split_edges.h"

namespace icefield {

// Where a texel's colour comes from.
enum class TexelOrigin : std::uint8_t {
  none,    // outside of every face: filled up so that shrunk pages do not darken at borders of charts
  photo,   // a photo
  filled,  // no photo sees the place: a smooth colour from around it
};

struct Texture {
  std::vector<ImageU8> pages;    // RGB; those that make_texture gives are square and of one size
  std::vector<ImageU8> origins;  // by page: TexelOrigin of each texel
  // By face: the page, and its corners there in texels, x to the right and y down from the page's upper left corner.
  std::vector<std::uint16_t> page;
  std::vector<std::array<Eigen::Vector2f, 3>> corners;

  bool empty() const { return pages.empty(); }
};

// Throws Error(usage) where it does not have one entry for each face of the mesh, or a face lies on a page that there
// is not.
void check_texture(const Mesh& mesh, const Texture& texture);

struct TextureOptions {
  int page_size = 4096;  // texels each way, at the most: 64 to 16384; smaller where everything has room
  int max_pages = 1;
  // On the surface, its units. 0: that of the photos' own pixels; larger where the pages would not hold it.
  double texel = 0;
  double max_angle = 1.309;  // radians, between a face's normal and the way to a photo (75 degrees)
  // What a seam costs beside detail: more makes fewer and longer patches of one photo.
  double seam_cost = 1;
  // A photo takes no part at a face where its colour is farther from what most others say than this, of 255, and than
  // three times their spread.
  double colour_gap = 20;
  bool level = true;  // exposure between photos, and steps at seams
  int gutter = 3;     // texels around each chart that carry its colours on
};

struct TextureSummary {
  std::string outcome = "nothing done yet";
  std::size_t faces = 0;                    // large ones parted
  std::size_t faces_filled = 0;             // that no photo sees, or that close a hole
  double filled_percent = 0;                // of the area
  std::size_t photos = 0;                   // that colours come from
  std::vector<std::string> photos_missing;  // that could not be read: which, and why
  std::size_t views = 0;                    // pairs of a face and a photo that sees it
  std::size_t views_apart = 0;              // of these, left out because others agree on another colour
  std::size_t charts = 0;
  std::size_t pages = 0;
  int page_size = 0;
  double texel = 0;         // on the surface, in the middle (median over charts by area)
  double used_percent = 0;  // of the pages' texels that lie on faces
  // Steps of brightness between photos where they see the same faces, percent: before and after levelling.
  double exposure_before_percent = 0, exposure_after_percent = 0;
  // Mean step across seams, of 255: as the photos have it, and after levelling.
  double seam_before = 0, seam_after = 0;
};

struct TextureResult {
  Texture texture;  // of the mesh, or of `apply_split(mesh, split)`
  // Faces so large that no photo may see them whole are parted: edges end up no longer than a twelfth of a photo.
  MeshSplit split;
  TextureSummary summary;
};

// The mesh in the frame of the block (its origin and the block's aside, coordinates are one and the same): which photo
// each face takes its colours from is chosen by resolution, sharpness and agreement with the other photos, with long
// seams kept cheap (alpha expansion: Boykov, Veksler and Zabih, "Fast approximate energy minimization via graph cuts",
// 2001; the costs after Lempitsky and Ivanov, "Seamless mosaicing of image-based texture maps", 2007). What a photo
// sees is found by rays. Charts are pieces of the photos; their exposures are levelled by a gain for each photo and
// channel, and steps at seams spread over the charts. The same for any number of threads. Photos that cannot be read
// are named in the summary and left out. Throws Error(usage) for options out of range, for a mesh without faces and a
// block without photos, Error(computation) where no photo can be read, Error(interrupted).
TextureResult make_texture(const Mesh& mesh, const Block& block, PhotoSource& photos, const TextureOptions& options,
                           const Executor& executor = Executor(), Monitor& monitor = silent_monitor());

// Steps of colour from one texel to the next over an edge, of 255 (mean over channels and edges that photos see on both
// sides): across borders of charts, and inside of them.
struct TextureSteps {
  std::size_t across = 0, inside = 0;  // edges looked at
  double across_mean = 0, inside_mean = 0;
};
// `texel`: on the surface, its units, as the summary has it.
TextureSteps measure_steps(const Mesh& mesh, const Texture& texture, double texel);

}  // namespace icefield
