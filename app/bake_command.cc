// `icefield bake`: what a fine mesh shows, as pictures on a light one.
#include <nlohmann/json.hpp>

#include "command.h"
#include "icefield/io/mesh_file.h"

using namespace icefield;
namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

struct Request {
  std::string light, fine, output;
  BakeOptions options;
  bool png = false, y_up = false, no_normals = false, no_occlusion = false;
  double scale = 1;
};

Document document_of(const BakeSummary& s, const Request& request, const std::string& units) {
  Json json = {{"outcome", s.outcome},
               {"charts", s.charts},
               {"pages", s.pages},
               {"page_size", s.page_size},
               {"texel", s.texel},
               {"used_percent", s.used_percent},
               {"reach", s.reach},
               {"missed_percent", s.missed_percent},
               {"stretch_mean", s.stretch_mean},
               {"stretch_largest", s.stretch_largest},
               {"colour_from", s.colour_from},
               {"file", request.output}};
  Document document;
  Table table({"baked", ""});
  table.add({"colours from", s.colour_from});
  table.add(
      {"pages", fmt::format("{} of {} texels each way, {:.0f} percent used", s.pages, s.page_size, s.used_percent)});
  table.add({"texel", fmt::format("{:.4g} {}", s.texel, units)});
  table.add(
      {"charts", fmt::format("{}, faces up to {:.2f} times as large as their texels", s.charts, s.stretch_largest)});
  table.add({"fine surface within", fmt::format("{:.4g} {} above or below; {:.1f} percent of texels took the nearest "
                                                "place",
                                                s.reach, units, s.missed_percent)});
  document.show(std::move(table));
  if (s.colour_from == "nothing")
    document.warnings.push_back("the fine mesh has neither a texture nor colours: pages are grey");
  document.say("Written: " + request.output);
  document.json = json.dump(1);
  return document;
}

int run(const Common& common, Request request, Monitor& monitor) {
  const MeshFormat format = mesh_format_of(request.output);
  if (format != MeshFormat::glb && format != MeshFormat::obj)
    throw Error(ErrorKind::usage, request.output, "is of a format that carries no texture", "write .glb or .obj");
  Mesh light = read_mesh(request.light);
  const TexturedMesh fine = read_textured_mesh(request.fine);
  const auto needs_faces = [](const std::string& name, const Mesh& mesh) {
    if (mesh.empty()) throw Error(ErrorKind::input, name, "has no face", "give a mesh");
  };
  needs_faces(request.light, light), needs_faces(request.fine, fine.mesh);
  if (light.normals.empty()) set_normals(light);
  request.options.normals = !request.no_normals, request.options.occlusion = !request.no_occlusion;
  const Baked baked = bake(light, fine.mesh, &fine.texture, request.options, executor_of(common), monitor);
  MeshFileOptions options;
  options.png_pages = request.png, options.y_up = request.y_up, options.scale = request.scale;
  write_baked_mesh(request.output, light, format, options, baked);
  show(document_of(baked.summary, request, light.datum.units_name()), common, monitor);
  return 0;
}

}  // namespace

Command bake_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options =
      tool.command("bake",
                   "What a fine mesh shows, as pictures on a light one: colours, normals, and the share "
                   "of the sky that is seen");
  options.option("light", request->light, "The light mesh, as `reshape --faces` makes it: .ply, .obj, .stl or .glb")
      .required();
  options.option("--from", request->fine, "The fine mesh, in the same coordinates; with a texture or colours")
      .required();
  options.option("--output", request->output, "File to write: .glb, or .obj with pages beside it").required();
  options.option("--page", request->options.page_size, "Texels each way of a page, at the most")
      .between(64, 16384)
      .with_default();
  options.option("--pages", request->options.max_pages, "Pages, at the most").between(1, 999).with_default();
  options.option("--texel", request->options.texel, "Size on the surface; without it as fine as the pages hold")
      .positive();
  options
      .option("--reach", request->options.reach,
              "How far above or below the fine surface is looked for; without it by how far both are apart")
      .positive();
  options.option("--rays", request->options.occlusion_rays, "Of the sky, from each vertex of the fine mesh")
      .between(1, 4096)
      .with_default();
  options.flag("--no-normals", request->no_normals, "Leave the normals out");
  options.flag("--no-sky", request->no_occlusion, "Leave the share of the sky out");
  options.flag("--png", request->png, "Colours as PNG, not JPEG");
  options.flag("--y-up", request->y_up, "Write it with y up (glTF always has)");
  options.option("--scale", request->scale, "Multiply coordinates by this, as 1000 for millimetres of metres")
      .positive();
  options.flag("--json", common.json, "Results as JSON on standard output");
  options.flag("--quiet", common.quiet, "Warnings and errors only on standard error");
  options.option("--threads", common.threads, "Threads; 0: as many as the machine has").between(0, 1024);
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
