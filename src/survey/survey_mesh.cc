// The mesh of each block, and its texture.
#include <fmt/format.h>

#include <algorithm>

#include "icefield/io/mesh_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/survey/make_mesh.h"
#include "src/survey/block_products.h"
#include "src/survey/depth_files.h"

namespace icefield {
namespace fs = std::filesystem;

std::vector<MeshReport> Survey::mesh() {
  densify();
  State& state = *state_;
  BlockProduct<MeshReport> what;
  what.step = "mesh", what.files = {"mesh.ply"};
  what.key = [&](std::size_t b) { return state.mesh_key(settings_, b); };
  what.read = read_mesh_record, what.record = mesh_record;
  what.prepare = [&] {
    lock();
    densify();
  };
  what.inputs = [&] { return state.inputs_of_mesh(settings_); };
  what.make = [&](std::size_t b, const std::string& fingerprint, const std::vector<fs::path>& files,
                  MeshReport& report) {
    const auto photos = source();
    const WorldFrame frame = world_frame(b);
    PosedSource posed{block(b), *photos, frame};
    if (settings_.mesh.way == MeshWay::open) posed.maps = maps_of(b), posed.bounds = state.bounds_of(block(b));
    const Mesh mesh = make_mesh(cloud_for_mesh(cloud_file(b), settings_.mesh, report), settings_.mesh, &posed, report,
                                executor_, monitor_);
    for (const std::string& missing : report.sharpened.photos_missing)
      monitor_.log(LogLevel::warning, missing + "; the mesh is sharpened without it");
    if (mesh.empty())
      monitor_.log(LogLevel::warning, fmt::format("block {}: has no mesh: {}", b + 1,
                                                  report.fitted.outcome == "fitted"
                                                      ? "nothing has the support that mesh.min_support asks for"
                                                      : report.fitted.outcome));
    MeshFileOptions options;
    options.fingerprint = fingerprint;
    write_mesh(files.front(), mesh, MeshFormat::ply, options);
  };
  std::vector<MeshReport> reports = make_block_products(state, what, monitor_);
  if (std::all_of(reports.begin(), reports.end(), [](const MeshReport& r) { return r.check.faces == 0; }))
    throw Error(ErrorKind::computation, folder_.string(),
                "has no cloud that a surface can be fitted to" +
                    (reports.empty() ? std::string() : ": " + reports.front().fitted.outcome),
                "look at the cloud with `icefield view " + folder_.string() + " cloud`");
  return reports;
}

// Depth maps of a block, by its photos; those that a photo should have are there, or it is said how to get them.
std::function<std::optional<DepthMap>(std::size_t)> Survey::maps_of(std::size_t block) {
  auto files = std::make_shared<DepthFiles>(state_->depth_files(folder_, block, settings_, executor_, monitor_));
  return [this, files, block](std::size_t photo) -> std::optional<DepthMap> {
    const PhotoIndex index = state_->posed->blocks[block].photos[photo].photo;
    if (!files->wanted(index)) return std::nullopt;
    std::optional<DepthMap> map = files->get(index, settings_.dense.consistency_rounds);
    if (!map)
      throw Error(ErrorKind::resource, files->file(index, settings_.dense.consistency_rounds).string(),
                  "is missing, and the open way needs all depth maps",
                  fmt::format("remove {} and run the command again: the maps that are missing are then computed",
                              state_->products.file(block_file_name(block, "dense.ply")).string()));
    return map;
  };
}

std::vector<TextureReport> Survey::texture() {
  const std::vector<MeshReport> meshes = mesh();
  State& state = *state_;
  BlockProduct<TextureReport> what;
  what.step = "texture", what.files = {"textured.glb"};
  what.key = [&](std::size_t b) { return state.texture_key(settings_, b); };
  what.read = read_texture_record, what.record = texture_record;
  what.prepare = [&] {
    lock();
    mesh();
  };
  what.inputs = [&] { return state.inputs_of_texture(settings_); };
  what.make = [&](std::size_t b, const std::string& fingerprint, const std::vector<fs::path>& files,
                  TextureReport& report) {
    const Mesh mesh = read_mesh(mesh_file(b));
    TextureResult result;
    if (mesh.empty())
      result.summary.outcome = "the block has no mesh";
    else
      result = make_texture(mesh_in_frame(mesh, world_frame(b)), block(b), *source(), settings_.texture, executor_,
                            monitor_);
    for (const std::string& missing : result.summary.photos_missing)
      monitor_.log(LogLevel::warning, missing + "; the mesh is textured without it");
    report.summary = std::move(result.summary);
    MeshFileOptions options;
    options.fingerprint = fingerprint;
    write_mesh(files.front(), apply_split(mesh, result.split), MeshFormat::glb, options, &result.texture);
  };
  return make_block_products(state, what, monitor_);
}

std::filesystem::path Survey::mesh_file(std::size_t block) {
  this->block(block);
  return state_->current_file(settings_, folder_, block, "mesh", "mesh.ply", state_->mesh_key(settings_, block));
}

std::filesystem::path Survey::textured_file(std::size_t block) {
  this->block(block);
  return state_->current_file(settings_, folder_, block, "texture", "textured.glb",
                              state_->texture_key(settings_, block));
}

fs::path Survey::State::current_file(const Settings& settings, const fs::path& folder, std::size_t block,
                                     const std::string& step, const char* file_name, const Fingerprint& key) {
  const std::string name = block_file_name(block, file_name);
  const fs::path path = products.file(name);
  const std::string remedy = "run `icefield " + step + " " + folder.string() + "`";
  if (!holds_subject(posed->blocks[block]))
    throw Error(ErrorKind::usage, fmt::format("block {}", block + 1),
                "has no tie point within the bounds and so no " + step,
                "give other bounds to `icefield densify " + folder.string() + "`");
  const FileState found = products.state_of(name, key);
  if (found == FileState::current) return path;
  if (found == FileState::missing)
    throw Error(ErrorKind::usage, path.string(), "does not exist yet", remedy + " first");
  std::string why = describe(found);
  if (const auto of_last = last(step); of_last && found == FileState::other)
    for (const std::string& reason : differences(of_last->inputs, inputs_of(step, settings))) why += "; " + reason;
  throw Error(ErrorKind::usage, path.string(), why, remedy + " to make it anew, or take it as it is with --stale");
}

}  // namespace icefield
