// `icefield masks`: what photos see of a mesh, as masks for another survey.
#include <nlohmann/json.hpp>
#include <set>

#include "command.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/surface/mesh_masks.h"
#include "icefield/survey/make_mesh.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::string mesh, output;
  std::size_t block = 1;
  MeshMaskOptions options;
};

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  const std::size_t b = request.block - 1;
  const Block& block = survey.block(b);
  const Mesh mesh = read_mesh(request.mesh.empty() ? survey.mesh_file(b) : fs::path(request.mesh));
  if (mesh.empty()) throw Error(ErrorKind::input, request.mesh, "has no face", "give a mesh");
  // Photos below a folder that all share, as masks are looked for.
  const PhotoList& list = survey.photos();
  std::set<std::string> files;
  double shown = 0;
  mesh_masks(
      mesh_in_frame(mesh, survey.world_frame(b)), block, request.options,
      [&](std::size_t i, const ImageU8& mask) {
        const std::string name = list.photos[block.photos[i].photo.value].name;
        const fs::path file = fs::path(request.output) / (name + ".png");
        std::error_code error;
        fs::create_directories(file.parent_path(), error);
        if (error)
          throw Error(ErrorKind::resource, file.parent_path().string(), "cannot be made (" + error.message() + ")",
                      "name another folder with --output");
        write_photo(file, mask);
        files.insert(file.string());
        const auto lit = std::count(mask.values().begin(), mask.values().end(), std::uint8_t{255});
        shown += static_cast<double>(lit) / static_cast<double>(mask.pixels());
      },
      executor_of(common), monitor);
  const double percent = 100 * shown / static_cast<double>(std::max<std::size_t>(1, block.photos.size()));
  if (common.json) {
    fmt::print("{}\n",
               nlohmann::ordered_json{{"masks", files.size()}, {"shown_percent", percent}, {"files", files}}.dump(1));
    return 0;
  }
  fmt::print("{} masks in {}; the mesh covers {:.1f} percent of the photos\n", files.size(), request.output, percent);
  next("icefield begin OTHER photos --masks " + request.output);
  return 0;
}

}  // namespace

Command masks_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(tool, common, "masks",
                                     "Masks of the photos of a block: white where they see the mesh, which may have "
                                     "been cropped by hand. Another survey takes them with --masks");
  options.option("--output", request->output, "Folder for the masks").required();
  options.option("--mesh", request->mesh, "A mesh file in the block's coordinates, instead of the block's own");
  with_block(options, request->block);
  options.option("--close", request->options.close_px, "Gaps up to twice this are closed, px")
      .between(0, 1000)
      .with_default();
  options.option("--grow", request->options.grow_px, "Then all of it grows by this, px")
      .between(0, 1000)
      .with_default();
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
