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
  ByteWriter out;
  const Bytes record = inputs_record(inputs);
  out.put(key_of(inputs)).put(seconds).put(record);
  store.put("step", named_key(step), out.take());
}

std::optional<Survey::State::Done> Survey::State::last(const std::string& step) {
  const auto bytes = store.get("step", named_key(step));
  if (!bytes) return std::nullopt;
  try {
    ByteReader in(*bytes);
    Done done;
    done.key = in.get<Fingerprint>();
    done.seconds = in.get<double>();
    const auto record = in.get_array<std::byte>();
    ByteReader inputs(record);
    done.inputs = read_inputs_record(inputs);
    return done;
  } catch (const Error&) {
    return std::nullopt;  // of an older layout
  }
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
  const StepRow* before = nullptr;
  for (const StepRow& row : step_table()) {
    StepStatus status;
    status.step = row.name;
    const auto last = state.last(status.step);
    if (last) status.seconds = last->seconds;
    bool known = false;
    StepInputs inputs;
    if (status.step == "match") {
      inputs = state.inputs_of_match(settings_);
      const auto report = state.store.get("match report", state.match_key(settings_));
      known = report.has_value();
      if (known) status.result = ByteReader(*report).get_string();
    } else if (status.step == "pose") {
      inputs = state.inputs_of_pose(settings_);
      known = result != nullptr;
      if (known) {
        const auto revisions = state.history(settings_);
        status.result = result->summary.outcome;
        for (const State::Revision& revision : revisions) status.history.push_back(revision.how);
        if (revisions.size() > 1)
          status.result +=
              fmt::format(", then {}", revisions.size() == 2 ? revisions.back().how
                                                             : fmt::format("changed {} times", revisions.size() - 1));
        for (std::size_t b = 0; b < result->blocks.size(); ++b) {
          status.files.push_back(file_of(status.step, block_file_name(b, "cameras.json"), state.cameras_key(b)));
          status.files.push_back(file_of(status.step, block_file_name(b, "tie_points.ply"), state.tie_points_key(b)));
        }
      }
    } else if (result) {
      inputs = state.inputs_of_densify(settings_);
      std::size_t points = 0;
      known = !inputs.empty();
      for (std::size_t b = 0; b < result->blocks.size(); ++b) {
        if (!state.holds_subject(result->blocks[b])) continue;
        const Fingerprint key = state.cloud_key(settings_, b);
        const auto summary = state.store.get("dense", key);
        known = known && summary;
        if (summary) points += read_dense_record(*summary).points;
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
      if (!known && before && all.back().state != StepState::fresh && !result && status.step == "densify")
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
      {"features", "features"}, {"narrowed", "features"},  {"pair", "pairs"},          {"wide pair", "pairs"},
      {"pairs", "pairs"},       {"match report", "pairs"}, {"pose history", "blocks"}, {"pose result", "blocks"},
      {"pose state", "blocks"}, {"dense", "clouds"},       {"photo", "photos"},        {"file", "photos"}};
  const auto found = parts.find(kind);
  return found == parts.end() ? "notes" : found->second;
}

}  // namespace

// What the present settings and the last finished runs rest on is needed. Records of the kinds that are not in this
// list are few and small, and stay.
DiskUse Survey::disk_use() {
  State& state = *state_;
  photos();
  posed();
  std::set<std::pair<std::string, std::string>> needed;
  const auto need = [&](const char* kind, const Fingerprint& key) { needed.emplace(kind, key.hex()); };
  // The present state.
  for (const Fingerprint& key : state.feature_keys) need("features", key);
  for (const Fingerprint& key : state.photo_records) need("photo", key);
  for (const Fingerprint& key : state.file_records) need("file", key);
  const Fingerprint settings_key = State::pair_settings_key(settings_);
  const std::vector<Store::Record> records = state.store.records();
  if (std::any_of(records.begin(), records.end(), [](const Store::Record& r) { return r.kind == "pair"; }))
    for (std::size_t i = 0; i < state.list->used; ++i)
      for (std::size_t j = i + 1; j < state.list->used; ++j) need("pair", state.pair_key(i, j, settings_key));
  if (const auto choice = state.choice(settings_))
    for (const ProposedPair& tried : choice->pairs)
      if (tried.wide) {
        need("wide pair", state.wide_key(tried.first.value, tried.second.value, settings_key));
        for (const PhotoIndex photo : {tried.first, tried.second}) need("narrowed", state.narrowed_key(photo.value));
      }
  for (const char* kind : {"pairs", "match report"}) need(kind, state.match_key(settings_));
  std::vector<Fingerprint> poses = {state.pose_key(settings_)};
  if (const auto last = state.last("pose")) poses.push_back(last->key);
  for (const Fingerprint& pose : poses) {
    need("pose history", pose);
    need("pose state", pose);
    for (const State::Revision& revision : state.history_of(pose)) need("pose result", revision.result);
  }
  std::set<std::string> maps = state.wanted_depth_maps(folder_, settings_, monitor_);
  if (state.posed)
    for (std::size_t b = 0; b < state.posed->blocks.size(); ++b)
      if (state.holds_subject(state.posed->blocks[b])) need("dense", state.cloud_key(settings_, b));
  // The last finished runs.
  for (const StepRow& row : step_table()) {
    const auto bytes = state.store.get("needs", named_key(std::string(row.name)));
    if (!bytes) continue;
    ByteReader in(*bytes);
    for (std::uint64_t k = in.get<std::uint64_t>(); k > 0; --k) {
      std::string kind = in.get_string(), key = in.get_string();
      if (kind == "depth map")
        maps.insert(key + ".depth");
      else
        needed.emplace(std::move(kind), std::move(key));
    }
  }

  DiskUse use;
  std::map<std::string, DiskUse::Part> parts;
  state.idle_records.clear();
  state.idle_files.clear();
  for (const Store::Record& record : records) {
    const std::string part = part_of(record.kind);
    const bool idle = part != "notes" && !needed.contains({record.kind, record.key});
    DiskUse::Part& sum = parts[part];
    sum.bytes += record.bytes, ++sum.count;
    if (!idle) continue;
    sum.idle_bytes += record.bytes, ++sum.idle;
    state.idle_records.push_back(record);
  }
  const auto add_file = [&](const char* part, const fs::path& file, bool idle) {
    std::error_code ignored;
    const std::uintmax_t bytes = fs::file_size(file, ignored);
    DiskUse::Part& sum = parts[part];
    sum.bytes += bytes, ++sum.count;
    if (!idle) return;
    sum.idle_bytes += bytes, ++sum.idle;
    state.idle_files.push_back(file);
  };
  const bool running = is_in_use();
  std::error_code ignored;
  for (const auto& entry : fs::directory_iterator(folder_ / "work" / "depth", ignored)) {
    const bool part = entry.path().extension() == ".part";
    add_file(part ? "half-written files" : "depth maps", entry.path(),
             part ? !running : !maps.contains(entry.path().filename().string()));
  }
  for (const auto& entry : fs::directory_iterator(folder_ / "work", ignored))
    if (entry.path().filename() == "records.sqlite.aside") add_file("damaged records, put aside", entry.path(), true);
  for (const auto& entry : fs::recursive_directory_iterator(folder_ / "results", ignored))
    if (entry.is_regular_file(ignored)) {
      const bool part = entry.path().extension() == ".part";
      add_file(part ? "half-written files" : "results", entry.path(), part && !running);
    }
  for (const char* name : {"features", "pairs", "blocks", "depth maps", "clouds", "photos", "notes", "results",
                           "half-written files", "damaged records, put aside"})
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
