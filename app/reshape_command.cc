// `icefield reshape`: meshes as files, of a survey or from elsewhere: checked, mended, trimmed, lightened.
#include <nlohmann/json.hpp>
#include <numbers>

#include "command.h"
#include "icefield/io/cloud_work.h"
#include "icefield/draw/draw_mesh.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/selection_file.h"
#include "icefield/report/documents.h"
#include "icefield/surface/close_holes.h"
#include "icefield/surface/flat_cut.h"
#include "icefield/surface/hollow.h"
#include "icefield/surface/remesh.h"
#include "icefield/surface/repaint.h"
#include "icefield/surface/smooth.h"
#include "icefield/surface/trim.h"

using namespace icefield;
namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

namespace {

struct Request {
  std::string input, output, selection, picture;
  bool crossings = false, dry_run = false, as_it_is = false, largest = false, outside = false, stand = false,
       y_up = false, holes = false, smooth = false;
  double close_holes = 0, edge_angle_deg = 20;
  double support = 0, longest_edge = 0, error = 0, scale = 1, edge = 0, hollow = 0, drain = 0;
  std::uint64_t least_faces = 0, faces = 0, region_faces = 0;
  std::vector<double> box, cut, region, drain_through;
  bool base = false;
};

// Step by step, each with what goes.
class Reshaping {
 public:
  Reshaping(const Request& request, const Executor& executor, Monitor& monitor)
      : request_(request),
        executor_(executor),
        monitor_(monitor),
        input_(read_textured_mesh(request.input)),
        mesh_(input_.mesh) {}

  Document run() {
    const MeshCheck before = check_mesh(mesh_, request_.crossings, executor_);
    Document document = check_document(before, fs::path(request_.input).filename().string());
    json_ = {{"before", Json::parse(document.json)}, {"steps", Json::array()}};
    if (!request_.as_it_is) mend();
    if (!request_.picture.empty()) whole_ = mesh_;
    if (request_.support > 0) {
      if (mesh_.support.empty())
        throw Error(ErrorKind::usage, "--support", "needs the support of vertices, which the mesh does not carry",
                    "trim by --longest-edge, --least-faces, --largest or --box");
      const double area_before = area(mesh_);
      const std::size_t faces = mesh_.faces.size();
      TrimBySupport wanted;
      wanted.min_support = request_.support;
      mesh_ = trim_by_support(mesh_, wanted);
      note("support", faces - std::min(faces, mesh_.faces.size()), area_before);
    }
    if (request_.longest_edge > 0) take("longest edge", faces_with_edges_up_to(mesh_, request_.longest_edge));
    if (!request_.box.empty()) take("box", in_box());
    if (!request_.selection.empty()) take("selection", faces_selected(mesh_, read_selection_file(request_.selection)));
    if (request_.stand) take_off_stand(document);
    if (request_.least_faces > 0 || request_.largest)
      take("pieces", faces_of_pieces(mesh_, request_.least_faces, request_.largest));
    if (!request_.picture.empty()) draw(document);
    if (request_.holes) list_holes(document);
    if (request_.close_holes > 0) close();
    if (request_.smooth) make_smooth();
    if (!request_.cut.empty()) cut(document);
    if (request_.edge > 0) make_even();
    if (request_.faces > 0 || request_.error > 0 || request_.region_faces > 0) lighten();
    if (request_.hollow > 0) make_hollow(document);
    document.show(std::move(steps_), request_.dry_run ? "What would go" : "What went");
    if (mesh_.empty()) document.warnings.push_back("nothing is left of the mesh");
    const MeshCheck after = check_mesh(mesh_, request_.crossings, executor_);
    json_["after"] = Json::parse(check_document(after, "").json);
    document.say("Left: " + after.in_a_line());
    if (!request_.dry_run && !request_.output.empty()) {
      write(document);
      json_["file"] = request_.output;
      document.say("Written: " + request_.output);
    }
    document.json = json_.dump(1);
    return document;
  }

 private:
  void note(const char* step, std::size_t faces, double area_before) {
    const double gone = area_before - area(mesh_);
    steps_.add({step, fmt::format("{}", faces), fmt::format("{:.4g}", gone), fmt::format("{}", mesh_.faces.size())});
    json_["steps"].push_back(
        {{"step", step}, {"faces_gone", faces}, {"area_gone", gone}, {"faces", mesh_.faces.size()}});
  }
  void take(const char* step, const std::vector<std::uint8_t>& keep) {
    const double before = area(mesh_);
    const std::size_t faces = mesh_.faces.size();
    mesh_ = pick_faces(mesh_, keep);
    note(step, faces - mesh_.faces.size(), before);
  }
  void mend() {
    const double before = area(mesh_);
    const MeshRepair repair = repair_mesh(mesh_);
    json_["mended"] = {{"faces_removed", repair.faces_removed},
                       {"vertices_merged", repair.vertices_merged},
                       {"vertices_removed", repair.vertices_removed},
                       {"faces_turned", repair.faces_turned},
                       {"vertices_parted", repair.vertices_parted}};
    if (!repair.nothing()) note("mended", repair.faces_removed, before);
  }
  std::vector<std::uint8_t> in_box() const {
    std::vector<std::uint8_t> keep = faces_within(mesh_, upright_box(request_.box));
    if (request_.outside)
      for (std::uint8_t& k : keep) k = 1 - k;
    return keep;
  }
  void take_off_stand(Document& document) {
    // The plane is as thick as the faces are large.
    const double size = std::sqrt(area(mesh_) / static_cast<double>(std::max<std::size_t>(1, mesh_.faces.size())));
    const auto stand = find_support_plane(mesh_, 2 * size);
    if (!stand) {
      document.warnings.push_back("no plane was found that the subject stands on");
      return;
    }
    json_["stand"] = {{"normal", {stand->plane.normal.x(), stand->plane.normal.y(), stand->plane.normal.z()}},
                      {"distance", stand->plane.distance},
                      {"area_percent", stand->area_percent}};
    document.say(fmt::format("The subject stands on a plane with {:.0f} percent of the area", stand->area_percent));
    Plane above = stand->plane;
    above.distance += 3 * size;
    take("stand", faces_over(mesh_, above));
  }
  void list_holes(Document& document) {
    Table table({"hole", "perimeter", "area", "x", "y", "z"});
    json_["holes"] = Json::array();
    std::size_t number = 0;
    for (const MeshHole& hole : holes_of(mesh_)) {
      const Eigen::Vector3d at = mesh_.origin + hole.middle;
      table.add({fmt::format("{}", number++), fmt::format("{:.4g}", hole.perimeter), fmt::format("{:.4g}", hole.area),
                 fmt::format("{:.3f}", at.x()), fmt::format("{:.3f}", at.y()), fmt::format("{:.3f}", at.z())});
      json_["holes"].push_back(
          {{"perimeter", hole.perimeter}, {"area", hole.area}, {"middle", {at.x(), at.y(), at.z()}}});
    }
    document.show(std::move(table), "Holes, the longest first");
  }
  void close() {
    CloseHolesOptions options;
    options.max_perimeter = request_.close_holes;
    const CloseHolesSummary done = close_holes(mesh_, options, monitor_);
    json_["closed_holes"] = {{"holes", done.holes},
                             {"closed", done.closed},
                             {"not_closed", done.not_closed},
                             {"faces", done.faces},
                             {"area", done.area}};
    steps_.add({fmt::format("{} of {} holes closed", done.closed, done.holes), fmt::format("-{}", done.faces),
                fmt::format("{:.4g}", -done.area), fmt::format("{}", mesh_.faces.size())});
  }
  void make_smooth() {
    const Mesh whole = mesh_;
    SmoothOptions options;
    options.edge_angle = request_.edge_angle_deg * std::numbers::pi / 180;
    smooth(mesh_, options, region(), executor_, monitor_);
    note("smoothed", 0, area(whole));
    say_moved(whole);
  }
  void cut(Document& document) {
    Plane plane;
    if (request_.cut.size() == 1)
      plane.distance = request_.cut[0];
    else
      plane.normal = {request_.cut[0], request_.cut[1], request_.cut[2]}, plane.distance = request_.cut[3];
    const double before = area(mesh_);
    const std::size_t rims = request_.base ? check_mesh(mesh_, false, executor_).holes : 0;
    const FlatCutSummary done = cut_flat(mesh_, plane, request_.base);
    json_["cut"] = {{"outcome", done.outcome},           {"faces_gone", done.faces_gone},
                    {"faces_parted", done.faces_parted}, {"rings", done.rings},
                    {"faces_wall", done.faces_wall},     {"rings_outside", done.rings_outside},
                    {"faces_base", done.faces_base},     {"base_area", done.base_area}};
    note("cut flat", done.faces_gone, before + done.base_area);
    if (done.outcome != "cut") document.warnings.push_back("flat cut: " + done.outcome);
    if (done.faces_wall > 0 && rims > 1)
      document.warnings.push_back(
          fmt::format("the mesh has {} open rings: those over the cut become shafts down to the "
                      "base; close holes first with --close-holes",
                      rims));
    if (done.faces_base > 0)
      steps_.add({fmt::format("  base of {} faces, walls of {}", done.faces_base, done.faces_wall), "",
                  fmt::format("{:.4g}", -done.base_area), ""});
  }
  // By vertex: 1 inside of --region; empty without one.
  std::vector<std::uint8_t> region() const {
    std::vector<std::uint8_t> inside;
    if (request_.region.empty()) return inside;
    const Bounds box = upright_box(request_.region);
    for (std::size_t v = 0; v < mesh_.positions.size(); ++v) inside.push_back(box.contains(mesh_.position(v)));
    return inside;
  }
  void make_even() {
    const Mesh whole = mesh_;
    RemeshOptions options;
    options.edge = request_.edge;
    const RemeshSummary done = remesh(mesh_, options, executor_, monitor_);
    json_["even"] = {{"faces_before", done.faces_before},
                     {"faces", done.faces_after},
                     {"edge_mean", done.edge_mean},
                     {"edges_near_percent", done.edges_near_percent}};
    steps_.add(
        {fmt::format("even faces, edges of {:.4g}", done.edge_mean), "", "", fmt::format("{}", done.faces_after)});
    say_moved(whole);
  }
  void make_hollow(Document& document) {
    HollowOptions options;
    options.wall = request_.hollow, options.drain = request_.drain;
    if (!request_.drain_through.empty())
      options.drain_through =
          Eigen::Vector3d(request_.drain_through[0], request_.drain_through[1], request_.drain_through[2]);
    const HollowSummary done = hollow(mesh_, options, executor_, monitor_);
    json_["hollow"] = {{"outcome", done.outcome},
                       {"rooms", done.hollows},
                       {"wall_least", done.wall_least},
                       {"wall_largest", done.wall_largest},
                       {"volume_before", done.volume_before},
                       {"volume", done.volume_after},
                       {"drained", done.drained}};
    if (done.faces == 0 || (request_.drain > 0 && !done.drained)) document.warnings.push_back(done.outcome);
    if (done.faces == 0) return;
    steps_.add({fmt::format("hollow, walls from {:.3g} to {:.3g}", done.wall_least, done.wall_largest),
                fmt::format("-{}", done.faces), "", fmt::format("{}", mesh_.faces.size())});
    document.say(fmt::format("Material left: {:.4g} of {:.4g} cubic units", done.volume_after, done.volume_before));
    if (done.hollows > 1)
      document.warnings.push_back(fmt::format("{} rooms inside are not connected with each other: {} have no drain",
                                              done.hollows, done.hollows - (done.drained ? 1 : 0)));
  }
  // What has gone so far, on the whole of it.
  void draw(Document& document) {
    DrawMeshOptions wanted;
    wanted.paint = MeshPaint::shape;
    wanted.marked = faces_gone(whole_, mesh_, executor_);
    DrawOptions options;
    options.title = fs::path(request_.input).filename().string() + ": what goes";
    write_photo(request_.picture, draw_mesh(whole_, options, wanted));
    json_["picture"] = request_.picture;
    document.say("Drawn: " + request_.picture);
  }
  void write(Document& document) {
    MeshFileOptions options;
    options.y_up = request_.y_up, options.scale = request_.scale;
    const MeshFormat format = mesh_format_of(request_.output);
    const bool takes_one = format == MeshFormat::glb || format == MeshFormat::obj;
    if (input_.texture.empty() || !takes_one || mesh_.empty()) {
      if (!input_.texture.empty() && !takes_one)
        document.warnings.push_back("the texture is left out: " + fs::path(request_.output).extension().string() +
                                    " has none; write .glb or .obj");
      write_mesh(request_.output, mesh_, format, options);
      return;
    }
    // Painted anew, since faces are others than before.
    const Baked baked = repaint(mesh_, input_.mesh, input_.texture, executor_, monitor_);
    write_mesh(request_.output, mesh_, format, options, &baked.texture);
    json_["texture"] = {{"pages", baked.summary.pages},
                        {"page_size", baked.summary.page_size},
                        {"texel", baked.summary.texel},
                        {"used_percent", baked.summary.used_percent}};
    document.say(fmt::format("Its texture was painted anew: {} page(s) of {} texels each way", baked.summary.pages,
                             baked.summary.page_size));
  }
  // How far the surface has moved from what it was.
  void say_moved(const Mesh& whole) {
    const SurfaceDistance moved = distance_to(mesh_, whole, 50000, executor_);
    json_["moved"] = {{"mean", moved.mean}, {"q95", moved.q95}, {"largest", moved.largest}};
    steps_.add(
        {fmt::format("  moved by {:.3g} (mean), {:.3g} (95 %), {:.3g} (largest)", moved.mean, moved.q95, moved.largest),
         "", "", ""});
  }
  void lighten() {
    const Mesh whole = mesh_;
    SimplifyOptions options;
    options.faces = request_.faces, options.error = request_.error;
    if (request_.region_faces > 0) {
      options.regions = region();
      for (std::uint8_t& r : options.regions) r = 1 - r;  // the lower number has the faces on the border
      options.region_faces = {request_.region_faces, request_.faces};
    }
    const double before = area(mesh_);
    const SimplifySummary done = simplify(mesh_, options, monitor_, executor_);
    note("lightened", done.faces_before - done.faces_after, before);
    if (done.faces_after == done.faces_before) return;
    say_moved(whole);
  }

  const Request& request_;
  const Executor executor_;
  Monitor& monitor_;
  TexturedMesh input_;  // as it was
  Mesh mesh_, whole_;
  Json json_;
  Table steps_{{"step ", "faces gone", "area gone", "faces left"}};
};

int run(const Common& common, const Request& request, Monitor& monitor) {
  if (!request.output.empty()) mesh_format_of(request.output);  // before anything is done
  if (request.cut.size() == 2 || request.cut.size() == 3)
    throw Error(ErrorKind::usage, "--cut", "has neither one number nor four",
                "give a height, or a normal and a distance");
  if (request.base && request.cut.empty())
    throw Error(ErrorKind::usage, "--base", "is for a flat cut alone", "give --cut as well");
  if (request.region_faces > 0 && request.region.empty())
    throw Error(ErrorKind::usage, "--region-faces", "is for a part of the mesh that is not named",
                "give the part with --region");
  if (request.drain > 0 && !(request.hollow > 0))
    throw Error(ErrorKind::usage, "--drain", "is for a hollow mesh alone", "give --hollow as well");
  const Document document = Reshaping(request, executor_of(common), monitor).run();
  show(document, common, monitor);
  return 0;
}

}  // namespace

Command reshape_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = tool.command("reshape",
                                   "Work on a mesh as a file: check, mend, trim by support, edges, box, selection, "
                                   "stand and pieces, close holes, smooth, cut flat, make faces even, lighten, hollow; "
                                   "in this order. A texture is painted anew on what is left");
  options.option("input", request->input, "Mesh: .ply, .obj, .stl or .glb").required();
  options.option("--output", request->output,
                 "File to write: .ply, .obj, .stl or .glb; without it the mesh is checked");
  options.flag("--dry-run", request->dry_run, "Only say what would go");
  options.flag("--crossings", request->crossings, "Also look for faces that cross each other");
  options.flag("--as-it-is", request->as_it_is, "Mend nothing");
  options.option("--support", request->support, "Faces whose vertices have less support go: 0 to 1").between(0.0, 1.0);
  options.option("--longest-edge", request->longest_edge, "Faces with a longer edge go").positive();
  options
      .option("--box", request->box,
              "Keep what is in this box: centre x y z, size x y z, and its turn about the vertical in degrees")
      .values(6, 7);
  options.flag("--outside", request->outside, "Keep what is outside of the box instead");
  options.option("--selection", request->selection,
                 "Keep what this file says: boxes, outlines and planes to keep and to drop (docs/formats.md)");
  options.option("--picture", request->picture, "PNG of the mesh with what goes painted red; with --dry-run too");
  options.option("--region", request->region, "A part of the mesh for --smooth and --region-faces: a box as for --box")
      .values(6, 7);
  options.flag("--off-stand", request->stand, "What the subject stands on goes, and all beneath it");
  options.option("--least-faces", request->least_faces, "Pieces with fewer faces go").count();
  options.flag("--largest", request->largest, "All but the largest piece goes");
  options.flag("--holes", request->holes, "List the holes: rings of open edges");
  options.option("--close-holes", request->close_holes, "Close holes whose ring is no longer than this").positive();
  options.flag("--smooth", request->smooth, "Take the roughness off, edges stay");
  options
      .option("--edge-angle", request->edge_angle_deg, "For --smooth: what turns by more than this is an edge, degrees")
      .between(0.1, 90)
      .with_default();
  options
      .option("--cut", request->cut,
              "Cut it flat: keep what lies above this height; or the normal x y z of a plane and its distance from the "
              "origin along it")
      .values(1, 4);
  options.flag("--base", request->base, "For --cut: walls from open rims down to it, and a flat base");
  options.option("--edge", request->edge, "Faces of one size: edges about this long").positive();
  options.option("--faces", request->faces, "Lighten it to so many faces, as 20000, 500k or 2M").count();
  options
      .option("--region-faces", request->region_faces,
              "Lighten what lies in --region to so many faces; --faces is then for the rest")
      .count();
  options.option("--error", request->error, "Lighten it as far as no vertex moves farther than this off the surface")
      .positive();
  options.option("--hollow", request->hollow, "Make it hollow, with walls of this thickness; a closed mesh").positive();
  options.option("--drain", request->drain, "For --hollow: diameter of a round hole straight down from the hollow")
      .positive();
  options.option("--drain-through", request->drain_through, "For --drain: a place x y z that its axis goes through")
      .values(3, 3);
  options.flag("--y-up", request->y_up, "Write it with y up (glTF always has)");
  options.option("--scale", request->scale, "Multiply coordinates by this, as 1000 for millimetres of metres")
      .positive();
  options.flag("--json", common.json, "Results as JSON on standard output");
  options.flag("--quiet", common.quiet, "Warnings and errors only on standard error");
  options.option("--threads", common.threads, "Threads; 0: as many as the machine has").between(0, 1024);
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
