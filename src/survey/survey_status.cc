// What is fresh, stale and missing, and why; what is on disk and what of it is needed.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "src/survey/depth_files.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;

const char* describe(StepState state) {
  return state == StepState::fresh ? "fresh" : state == StepState::stale ? "stale" : "missing";
}

const char* describe(FileState state) {
  switch (state) {
    case FileState::current:
      return "current";
    case FileState::missing:
      return "is missing";
    case FileState::other:
      return "was written for another state of the survey";
    case FileState::changed:
      break;
  }
  return "was changed by another program after it was written";
}

void Survey::State::remember(const std::string& step, const StepInputs& inputs, double seconds) {
  // What is brought back took its time when it was made.
  const Fingerprint key = key_of(inputs);
  if (seconds > 0)
    store.put("took", key, ByteWriter().put(seconds).take());
  else if (const auto before = store.read("took", key, [](const Bytes& b) { return ByteReader(b).get<double>(); }))
    seconds = *before;
  ByteWriter out;
  const Bytes record = inputs_record(inputs);
  out.put(key).put(seconds).put(record);
  store.put("step", named_key(step), out.take());
}

std::optional<Survey::State::Done> Survey::State::last(const std::string& step) {
  return store.read("step", named_key(step), [](const Bytes& bytes) {
    ByteReader in(bytes);
    Done done;
    done.key = in.get<Fingerprint>();
    done.seconds = in.get<double>();
    const auto record = in.get_array<std::byte>();
    ByteReader inputs(record);
    done.inputs = read_inputs_record(inputs);
    return done;
  });
}

void Survey::State::remember_needs(const std::string& step, const RecordNames& needs) {
  ByteWriter out;
  out.put(static_cast<std::uint64_t>(needs.size()));
  for (const auto& [kind, key] : needs) out.put(kind).put(key.hex());
  store.put("needs", named_key(step), out.take());
}

std::vector<StepStatus> Survey::status() {
  photos();
  State& state = *state_;
  const OrientResult* result = posed();
  std::vector<StepStatus> all;
  const auto file_of = [&](const std::string& step, const std::string& name, const Fingerprint& wanted) {
    ProductFile file{state.products.file(name), step, state.products.state_of(name, wanted)};
    std::error_code ignored;
    if (fs::exists(file.file, ignored)) file.bytes = fs::file_size(file.file, ignored);
    return file;
  };
  const OrientResult* free = free_blocks();
  const auto add_block_files = [&](StepStatus& status) {
    for (std::size_t b = 0; b < result->blocks.size(); ++b) {
      status.files.push_back(file_of(status.step, block_file_name(b, "cameras.json"), state.cameras_key(b)));
      status.files.push_back(file_of(status.step, block_file_name(b, "tie_points.ply"), state.tie_points_key(b)));
    }
  };
  const StepRow* before = nullptr;
  for (const StepRow& row : step_table()) {
    if (row.name == "georeference" && !settings_.georeference.on) continue;
    // Nobody asked for one.
    if ((row.name == "mesh" || row.name == "texture" || row.name == "terrain" || row.name == "orthomosaic") &&
        !state.last(std::string(row.name)))
      continue;
    StepStatus status;
    status.step = row.name;
    const auto last = state.last(status.step);
    if (last) status.seconds = last->seconds;
    bool known = false;
    StepInputs inputs;
    if (status.step == "match") {
      inputs = state.inputs_of_match(settings_);
      const auto line = state.store.read("match report", state.match_key(settings_),
                                         [](const Bytes& b) { return ByteReader(b).get_string(); });
      known = line.has_value();
      if (known) status.result = *line;
    } else if (status.step == "pose") {
      inputs = state.inputs_of_pose(settings_);
      known = free != nullptr;
      if (known) {
        const auto revisions = state.history(settings_);
        status.result = free->summary.outcome;
        for (const State::Revision& revision : revisions) status.history.push_back(revision.how);
        if (revisions.size() > 1)
          status.result +=
              fmt::format(", then {}", revisions.size() == 2 ? revisions.back().how
                                                             : fmt::format("changed {} times", revisions.size() - 1));
        if (!settings_.georeference.on) add_block_files(status);
      }
    } else if (status.step == "georeference") {
      if (free) inputs = state.inputs_of_georeference(settings_);
      known = result != nullptr;
      if (known) {
        if (const auto report = georeferenced())
          for (const Georeferenced& block : report->blocks)
            status.result += (status.result.empty() ? "" : "; ") + block.outcome;
        add_block_files(status);
      }
    } else if (status.step == "mesh") {
      if (result) inputs = state.inputs_of_mesh(settings_);
      std::size_t faces = 0;
      known = !inputs.empty();
      for (std::size_t b = 0; result && b < result->blocks.size(); ++b) {
        if (!state.holds_subject(result->blocks[b])) continue;
        const Fingerprint key = state.mesh_key(settings_, b);
        const auto report = state.store.read("mesh", key, read_mesh_record);
        known = known && report;
        if (report) faces += report->check.faces;
        status.files.push_back(file_of(status.step, block_file_name(b, "mesh.ply"), key));
      }
      status.result = fmt::format("{} faces", faces);
    } else if (status.step == "terrain") {
      if (result) inputs = state.inputs_of_terrain(settings_);
      std::vector<std::string> sizes;
      known = !inputs.empty();
      for (std::size_t b = 0; result && b < result->blocks.size(); ++b) {
        if (!state.holds_subject(result->blocks[b])) continue;
        const Fingerprint key = state.terrain_key(settings_, b);
        const auto report = state.store.read("terrain", key, read_terrain_record);
        known = known && report;
        if (report)
          sizes.push_back(
              fmt::format("{}x{} cells of {:.3g}", report->surface.columns, report->surface.rows, report->cell));
        for (const std::string_view name : row.files)
          status.files.push_back(file_of(status.step, block_file_name(b, std::string(name)), key));
      }
      status.result = fmt::format("{}", fmt::join(sizes, ", "));
    } else if (status.step == "orthomosaic") {
      if (result) inputs = state.inputs_of_orthomosaic(settings_);
      std::vector<std::string> sizes;
      known = !inputs.empty();
      for (std::size_t b = 0; result && b < result->blocks.size(); ++b) {
        if (!state.holds_subject(result->blocks[b])) continue;
        const Fingerprint key = state.orthomosaic_key(settings_, b);
        const auto report = state.store.read("orthomosaic", key, read_orthomosaic_record);
        known = known && report;
        if (report) sizes.push_back(fmt::format("{}x{} cells of {:.3g}", report->columns, report->rows, report->cell));
        for (const std::string_view name : row.files)
          status.files.push_back(file_of(status.step, block_file_name(b, std::string(name)), key));
      }
      status.result = fmt::format("{}", fmt::join(sizes, ", "));
    } else if (status.step == "texture") {
      if (result) inputs = state.inputs_of_texture(settings_);
      std::size_t pages = 0;
      known = !inputs.empty();
      for (std::size_t b = 0; result && b < result->blocks.size(); ++b) {
        if (!state.holds_subject(result->blocks[b])) continue;
        const Fingerprint key = state.texture_key(settings_, b);
        const auto report = state.store.read("texture", key, read_texture_record);
        known = known && report;
        if (report) pages += report->summary.pages;
        status.files.push_back(file_of(status.step, block_file_name(b, "textured.glb"), key));
      }
      status.result = fmt::format("{} page{}", pages, pages == 1 ? "" : "s");
    } else if (result) {
      inputs = state.inputs_of_densify(settings_);
      std::size_t points = 0;
      known = !inputs.empty();
      for (std::size_t b = 0; b < result->blocks.size(); ++b) {
        if (!state.holds_subject(result->blocks[b])) continue;
        const Fingerprint key = state.cloud_key(settings_, b);
        const auto summary = state.store.read("dense", key, read_dense_record);
        known = known && summary;
        if (summary) points += summary->points;
        for (const char* name : {"dense.ply", "set_aside.ply"}) {
          ProductFile file = file_of(status.step, block_file_name(b, name), key);
          if (std::string_view(name) == "dense.ply" || file.state != FileState::current || file.bytes > 0)
            status.files.push_back(std::move(file));
        }
      }
      status.result = fmt::format("{} points", points);
    }
    const bool files = std::all_of(status.files.begin(), status.files.end(),
                                   [](const ProductFile& f) { return f.state == FileState::current; });
    status.state = known && files ? StepState::fresh : last || known ? StepState::stale : StepState::missing;
    if (status.state != StepState::fresh) status.result.clear();
    if (status.state == StepState::stale) {
      if (!known && before && !all.empty() && all.back().state != StepState::fresh &&
          (status.step == "densify" || status.step == "mesh" || status.step == "texture" || status.step == "terrain" ||
                   status.step == "orthomosaic"
               ? !result
               : status.step == "georeference" && !free))
        status.reasons.push_back(fmt::format("{} is {}", before->name, describe(all.back().state)));
      else if (!known && last)
        status.reasons = differences(last->inputs, inputs);
      if (known)
        for (const ProductFile& file : status.files)
          if (file.state != FileState::current)
            status.reasons.push_back(fs::path(file.file).lexically_relative(folder_).string() + " " +
                                     describe(file.state));
      if (status.reasons.empty()) status.reasons.push_back("its records are gone");
    }
    all.push_back(std::move(status));
    before = &row;
  }
  return all;
}

StepStatus Survey::status_of(const std::string& step) {
  for (StepStatus& status : this->status())
    if (status.step == step) return status;
  return {};
}

namespace {

// What records of a kind are called, and in which order they are listed.
const char* part_of(const std::string& kind) {
  static const std::map<std::string, const char*> parts = {
      {"features", "features"},   {"narrowed", "features"}, {"colours", "features"},     {"pair", "pairs"},
      {"wide pair", "pairs"},     {"pairs", "pairs"},       {"match report", "pairs"},   {"pose history", "blocks"},
      {"pose result", "blocks"},  {"pose state", "blocks"}, {"placed result", "blocks"}, {"georeference", "blocks"},
      {"dense", "clouds"},        {"mesh", "meshes"},       {"texture", "meshes"},       {"terrain", "rasters"},
      {"orthomosaic", "rasters"}, {"photo", "photos"},      {"file", "photos"},          {"targets", "photos"}};
  const auto found = parts.find(kind);
  return found == parts.end() ? "notes" : found->second;
}

}  // namespace

// Records that the present state rests on, or would ask for.
Survey::State::Needs Survey::State::needs_of_present(const Settings& settings, const fs::path& folder,
                                                     const std::vector<Store::Record>& records,
                                                     const Executor& executor, Monitor& monitor) {
  Needs needed;
  const auto need = [&](const char* kind, const Fingerprint& key) { needed.records.emplace(kind, key.hex()); };
  const MatchRecords& matches = *match_records;
  for (std::size_t i = 0; i < list->used; ++i) {
    need("features", matches.feature_key(PhotoIndex(i)));
    need("targets", target_key(list->photos[i]));
    for (const bool with_narrowed : {false, true}) need("colours", matches.colours_key(PhotoIndex(i), with_narrowed));
  }
  for (const Fingerprint& key : photo_records) need("photo", key);
  for (const Fingerprint& key : file_records) need("file", key);
  if (const auto chosen = choice(settings)) {
    for (ProposedPair tried : chosen->pairs) {
      if (tried.wide) {
        need("wide pair", matches.key_of(tried));
        for (const PhotoIndex photo : {tried.first, tried.second}) need("narrowed", matches.narrowed_key(photo));
      }
      tried.wide = false;
      need("pair", matches.key_of(tried));
    }
  } else {
    // `match` has not ended with these settings: whatever it has matched so far it may ask for.
    for (const Store::Record& record : records)
      if (record.kind == "pair") needed.records.emplace(record.kind, record.key);
  }
  for (const char* kind : {"pairs", "match report"}) need(kind, match_key(settings));
  std::vector<Fingerprint> poses = {pose_key(settings)};
  if (const auto before = last("pose")) poses.push_back(before->key);
  for (const Fingerprint& pose : poses) {
    need("pose history", pose);
    need("pose state", pose);
    for (const Revision& revision : history_of(pose)) need("pose result", revision.result);
  }
  if (settings.georeference.on && free)
    for (const char* kind : {"placed result", "georeference"}) need(kind, key_of(inputs_of_georeference(settings)));
  needed.maps = wanted_depth_maps(folder, settings, executor, monitor);
  if (posed)
    for (std::size_t b = 0; b < posed->blocks.size(); ++b)
      if (holds_subject(posed->blocks[b])) {
        need("dense", cloud_key(settings, b));
        need("mesh", mesh_key(settings, b));
        need("texture", texture_key(settings, b));
        need("terrain", terrain_key(settings, b));
        need("orthomosaic", orthomosaic_key(settings, b));
      }
  return needed;
}

// And those of the last finished run of each step.
void Survey::State::add_needs_of_last_runs(Needs& needed) {
  for (const StepRow& row : step_table()) {
    const auto names = store.read("needs", named_key(std::string(row.name)), [](const Bytes& bytes) {
      ByteReader in(bytes);
      std::vector<std::pair<std::string, std::string>> all;
      for (std::uint64_t k = in.get<std::uint64_t>(); k > 0; --k) {
        std::string kind = in.get_string();
        all.emplace_back(std::move(kind), in.get_string());
      }
      return all;
    });
    if (!names) continue;
    for (const auto& [kind, key] : *names)
      if (kind == "depth map")
        needed.maps.insert(key + ".depth");
      else
        needed.records.emplace(kind, key);
  }
}

// What the present settings and the last finished runs rest on is needed. Records of the kinds that are not in the list
// of parts are few and small, and stay.
DiskUse Survey::disk_use() {
  State& state = *state_;
  photos();
  posed();
  const std::vector<Store::Record> records = state.store.records();
  State::Needs needed = state.needs_of_present(settings_, folder_, records, executor_, monitor_);
  state.add_needs_of_last_runs(needed);
  std::map<std::string, DiskUse::Part> parts;
  const auto count = [&](const std::string& part, std::uintmax_t bytes, bool idle) {
    DiskUse::Part& sum = parts[part];
    sum.bytes += bytes, ++sum.count;
    if (idle) sum.idle_bytes += bytes, ++sum.idle;
  };
  state.idle_records.clear();
  state.idle_files.clear();
  for (const Store::Record& record : records) {
    const std::string part = part_of(record.kind);
    const bool idle = part != "notes" && !needed.records.contains({record.kind, record.key});
    count(part, record.bytes, idle);
    if (idle) state.idle_records.push_back(record);
  }
  std::error_code ignored;
  const auto add_file = [&](const char* part, const fs::path& file, bool idle) {
    count(part, fs::file_size(file, ignored), idle);
    if (idle) state.idle_files.push_back(file);
  };
  const bool running = is_in_use();
  for (const auto& entry : fs::directory_iterator(folder_ / "work" / "depth", ignored)) {
    const bool part = entry.path().extension() == ".part";
    add_file(part ? "half-written files" : "depth maps", entry.path(),
             part ? !running : !needed.maps.contains(entry.path().filename().string()));
  }
  for (const auto& entry : fs::directory_iterator(folder_ / "work" / "tiles", ignored)) {
    const std::string name = entry.path().filename().string();
    add_file("tiles of unfinished clouds", entry.path(),
             !running && !needed.records.contains({"dense", name.substr(0, name.find('_'))}));
  }
  for (const auto& entry : fs::directory_iterator(folder_ / "work", ignored))
    if (entry.path().filename() == "records.sqlite.aside") add_file("damaged records, put aside", entry.path(), true);
  for (const auto& entry : fs::recursive_directory_iterator(folder_ / "results", ignored))
    if (entry.is_regular_file(ignored)) {
      const bool part = entry.path().extension() == ".part";
      add_file(part ? "half-written files" : "results", entry.path(), part && !running);
    }
  DiskUse use;
  for (const char* name :
       {"features", "pairs", "blocks", "depth maps", "tiles of unfinished clouds", "clouds", "meshes", "rasters",
        "photos", "notes", "results", "half-written files", "damaged records, put aside"})
    if (auto found = parts.find(name); found != parts.end()) {
      found->second.what = name;
      use.parts.push_back(found->second);
    }
  return use;
}

DiskUse Survey::tidy() {
  lock();
  const DiskUse use = disk_use();
  State& state = *state_;
  state.store.remove_all(state.idle_records);
  std::error_code ignored;
  for (const fs::path& file : state.idle_files) fs::remove(file, ignored);
  return use;
}

}  // namespace icefield
