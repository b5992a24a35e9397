// `icefield page`: a mesh as one self-contained page.
#include <Eigen/Geometry>
#include <nlohmann/json.hpp>

#include "command.h"
#include "icefield/draw/draw_mesh.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "icefield/report/mesh_page.h"
#include "icefield/surface/repaint.h"
#include "icefield/surface/simplify.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::string output, title;
  std::uint64_t faces = 0;
  std::size_t block = 1;
};

// What the page shows, as a glTF file: lighter where that was asked for, its picture painted anew.
std::string glb_of(const TexturedMesh& read, Mesh& mesh, const Request& request, const Executor& executor,
                   Monitor& monitor) {
  const fs::path part = request.output + ".part.glb";
  Texture texture = read.texture;
  if (request.faces > 0 && request.faces < mesh.faces.size()) {
    SimplifyOptions options;
    options.faces = request.faces;
    simplify(mesh, options, monitor, executor);
    if (!texture.empty()) texture = repaint(mesh, read.mesh, read.texture, executor, monitor).texture;
  }
  write_mesh(part, mesh, MeshFormat::glb, {}, texture.empty() ? nullptr : &texture);
  const std::string bytes = read_file(part, std::size_t{1} << 32);
  std::error_code ignored;
  fs::remove(part, ignored);
  return bytes;
}

std::string still_of(const TexturedMesh& read, const Mesh& mesh, const std::string& output) {
  DrawMeshOptions wanted;
  const bool whole = mesh.faces.size() == read.mesh.faces.size();
  if (whole && !read.texture.empty()) wanted.paint = MeshPaint::texture, wanted.texture = &read.texture;
  const fs::path part = output + ".part.png";
  // Without the line below it: the page says that itself.
  constexpr int kLine = 44;
  const ImageU8 drawn = draw_mesh(mesh, {}, wanted);
  ImageU8 still(drawn.width(), drawn.height() - kLine, 3);
  std::copy_n(drawn.row(0), still.data().size(), still.row(0));
  write_photo(part, still);
  const std::string bytes = read_file(part);
  std::error_code ignored;
  fs::remove(part, ignored);
  return bytes;
}

// Of a survey the mesh with its pictures where it has them; else the file itself.
fs::path file_of(const Common& common, const Request& request, Monitor& monitor) {
  std::error_code ignored;
  if (fs::is_regular_file(common.survey, ignored)) return common.survey;
  Survey survey = open_survey(common, monitor);
  try {
    return survey.textured_file(request.block - 1);
  } catch (const Error&) {
    return survey.mesh_file(request.block - 1);
  }
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  if (fs::path(request.output).extension() != ".html")
    throw Error(ErrorKind::usage, request.output, "is no name of a page", "name a file that ends in .html");
  const fs::path file = file_of(common, request, monitor);
  const TexturedMesh read = read_textured_mesh(file);
  if (read.mesh.empty()) throw Error(ErrorKind::input, file.string(), "has no face", "give a mesh");
  Mesh mesh = read.mesh;
  MeshPage page;
  page.title = request.title.empty() ? fs::path(common.survey).filename().string() : request.title;
  if (page.title.empty()) page.title = fs::path(common.survey).parent_path().filename().string();
  page.units = mesh.datum.units_name();
  page.origin = mesh.origin;
  page.glb = glb_of(read, mesh, request, executor_of(common), monitor);
  page.still = still_of(read, mesh, request.output);
  Eigen::AlignedBox3d box;
  for (std::size_t v = 0; v < mesh.positions.size(); ++v) box.extend(mesh.position(v));
  const Eigen::Vector3d size = box.sizes();
  page.facts = {{"faces", fmt::format("{}", mesh.faces.size())},
                {"size", fmt::format("{:.4g} x {:.4g} x {:.4g} {}", size.x(), size.y(), size.z(), page.units)},
                {"surface", fmt::format("{:.4g} square {}", area(mesh), page.units)}};
  if (!mesh.datum.crs.empty()) page.facts.emplace_back("CRS", mesh.datum.crs);
  const std::string html = mesh_page(page);
  write_file(request.output, html);
  Document document;
  document.say(fmt::format("Written: {} ({}, {} faces)", request.output, size_text(static_cast<double>(html.size())),
                           mesh.faces.size()));
  constexpr double kLarge = 80e6;
  if (static_cast<double>(html.size()) > kLarge)
    document.warnings.push_back(
        "the page is so large that browsers may take long to open it: make it lighter with "
        "--faces 300k");
  document.json =
      nlohmann::ordered_json{{"file", request.output}, {"bytes", html.size()}, {"faces", mesh.faces.size()}}.dump(1);
  show(document, common, monitor, "open it in a browser");
  return 0;
}

}  // namespace

Command page_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(tool, common, "page",
                                     "A mesh as one page for any browser, that needs nothing else: of a survey, or a "
                                     "file in its place (.ply, .obj, .stl, .glb)");
  options.option("--output", request->output, "File to write: .html").required();
  options.option("--title", request->title, "Line above it; without it the survey's or file's name");
  options.option("--faces", request->faces, "Lighten it to so many faces, as 300k; its texture is painted anew")
      .count();
  with_block(options, request->block);
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
