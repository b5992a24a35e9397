#include "src/survey/step_table.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "src/survey/versions.h"

namespace icefield {
namespace {

constexpr std::array<std::string_view, 3> kMatchSections = {"feature", "match", "pairs"};
constexpr std::array<std::string_view, 1> kPoseSections = {"pose"};
constexpr std::array<std::string_view, 1> kGeoreferenceSections = {"georeference"};
constexpr std::array<std::string_view, 3> kDenseSections = {"dense", "fuse", "clean"};
constexpr std::array<std::string_view, 1> kMeshSections = {"mesh"};
constexpr std::array<std::string_view, 1> kTextureSections = {"texture"};
constexpr std::array<std::string_view, 1> kTerrainSections = {"terrain"};
constexpr std::array<std::string_view, 1> kOrthomosaicSections = {"orthomosaic"};
constexpr std::array<std::string_view, 2> kPoseFiles = {"cameras.json", "tie_points.ply"};
constexpr std::array<std::string_view, 2> kDenseFiles = {"dense.ply", "set_aside.ply"};
constexpr std::array<std::string_view, 1> kMeshFiles = {"mesh.ply"};
constexpr std::array<std::string_view, 1> kTextureFiles = {"textured.glb"};
constexpr std::array<std::string_view, 5> kTerrainFiles = {"dsm.tif", "dsm_quality.tif", "dtm.tif", "dtm_quality.tif",
                                                           "classes.ply"};
constexpr std::array<std::string_view, 3> kOrthomosaicFiles = {"orthomosaic.tif", "photo_of_cell.tif", "seams.gpkg"};

// "A, B and 3 more".
std::string some_of(const std::vector<std::string>& names) {
  constexpr std::size_t kNamed = 3;
  std::string text;
  for (std::size_t i = 0; i < std::min(names.size(), kNamed); ++i) text += (i > 0 ? ", " : "") + names[i];
  if (names.size() > kNamed) text += fmt::format(" and {} more", names.size() - kNamed);
  return text;
}

enum Change { added, gone, changed };

struct Changes {
  std::vector<std::string> names[3];
};

void say(std::vector<std::string>& reasons, const Changes& changes, const char* one, const char* many) {
  constexpr const char* kSingular[] = {"is new", "is gone", "has changed"};
  constexpr const char* kPlural[] = {"are new", "are gone", "have changed"};
  for (int c = 0; c < 3; ++c) {
    const auto& names = changes.names[c];
    if (names.empty()) continue;
    reasons.push_back(fmt::format("{} {} {}", names.size() == 1 ? one : many, some_of(names),
                                  (names.size() == 1 ? kSingular : kPlural)[c]));
  }
}

}  // namespace

std::span<const StepRow> step_table() {
  static const std::vector<StepRow> table = {
      {"match",
       kMatchSections,
       fmt::format("{}.{}.{}.{}.{}", kPhotoVersion, kFeatureVersion, kPairVersion, kWideVersion, kChoiceVersion),
       {}},
      {"pose", kPoseSections, fmt::format("{}", kPoseVersion), kPoseFiles},
      {"georeference", kGeoreferenceSections, fmt::format("{}", kGeoreferenceVersion), {}},
      {"densify", kDenseSections, fmt::format("{}.{}", kDepthVersion, kFuseVersion), kDenseFiles},
      {"mesh", kMeshSections, fmt::format("{}", kMeshVersion), kMeshFiles},
      {"texture", kTextureSections, fmt::format("{}", kTextureVersion), kTextureFiles},
      {"terrain", kTerrainSections, fmt::format("{}", kTerrainVersion), kTerrainFiles},
      {"orthomosaic", kOrthomosaicSections, fmt::format("{}", kOrthomosaicVersion), kOrthomosaicFiles},
  };
  return table;
}

const StepRow& step_row(std::string_view name) {
  const auto table = step_table();
  return *std::find_if(table.begin(), table.end(), [&](const StepRow& row) { return row.name == name; });
}

Fingerprint key_of(const StepInputs& inputs) {
  Fingerprinter key;
  for (const StepInput& input : inputs) {
    if (!input.by_value) key.add(input.name);
    key.add(input.value);
  }
  return key.result();
}

Bytes inputs_record(const StepInputs& inputs) {
  ByteWriter out;
  out.put(static_cast<std::uint64_t>(inputs.size()));
  for (const StepInput& input : inputs)
    out.put(input.name).put(input.value).put(static_cast<std::uint8_t>(input.by_value));
  return out.take();
}

StepInputs read_inputs_record(ByteReader& in) {
  StepInputs inputs;
  for (std::uint64_t k = in.get<std::uint64_t>(); k > 0; --k) {
    StepInput input;
    input.name = in.get_string();
    input.value = in.get_string();
    input.by_value = in.get<std::uint8_t>() != 0;
    inputs.push_back(std::move(input));
  }
  return inputs;
}

std::vector<std::string> differences(const StepInputs& before, const StepInputs& now) {
  std::map<std::string, std::pair<const std::string*, const std::string*>> all;
  std::vector<std::string> order;
  for (const StepInput& input : now) {
    all[input.name].second = &input.value;
    order.push_back(input.name);
  }
  for (const StepInput& input : before) {
    auto& entry = all[input.name];
    if (!entry.second) order.push_back(input.name);
    entry.first = &input.value;
  }
  std::vector<std::string> reasons;
  Changes photos, masks;
  for (const std::string& name : order) {
    const auto& [was, is] = all.at(name);
    if (was && is && *was == *is) continue;
    const Change change = !was ? added : !is ? gone : changed;
    if (name.starts_with(kPhotoInput)) {
      photos.names[change].push_back(name.substr(kPhotoInput.size()));
    } else if (name.starts_with(kMaskInput)) {
      masks.names[change].push_back(name.substr(kMaskInput.size()));
    } else if (name == kVersionInput || name.ends_with(" version")) {
      reasons.push_back("another version of Icefield made it");
    } else if (name == kListedInput) {
      reasons.push_back("pairs.txt has changed");
    } else if (name == kGivenInput) {
      reasons.push_back(std::string("the given poses ") + (change == added  ? "are new"
                                                           : change == gone ? "are forgotten"
                                                                            : "have changed"));
    } else if (name.starts_with(kBlockInput)) {
      reasons.push_back(fmt::format("{} {}", name,
                                    change == added ? "is new"
                                    : change == gone
                                        ? "is no more"
                                        : "is another: it was posed, adjusted, joined or georeferenced since"));
    } else if (name.starts_with(kCloudInput)) {
      reasons.push_back(fmt::format("{} {}", name,
                                    change == added  ? "is new"
                                    : change == gone ? "is no more"
                                                     : "is another: it was made of other depth maps or blocks since"));
    } else if (name.starts_with(kMeshInput)) {
      reasons.push_back(fmt::format("{} {}", name,
                                    change == added  ? "is new"
                                    : change == gone ? "is no more"
                                                     : "is another: it was made of another cloud since"));
    } else if (name.starts_with(kTerrainInput)) {
      reasons.push_back(fmt::format("{} {}", name,
                                    change == added  ? "are new"
                                    : change == gone ? "are no more"
                                                     : "are others: they were made of another cloud since"));
    } else if (name.starts_with(kControlInput)) {
      reasons.push_back(name + (change == added ? " are new" : change == gone ? " are gone" : " have changed"));
    } else {
      const bool plural = name == kBoundsInput || name == kInstructionsInput;
      if (change == changed)
        reasons.push_back(
            fmt::format("{} {} {}, {} {}", name, plural ? "were" : "was", *was, plural ? "are" : "is", *is));
      else
        reasons.push_back(fmt::format("{} {}", name, change == added ? "is new" : "is gone"));
    }
  }
  say(reasons, photos, "photo", "photos");
  say(reasons, masks, "the mask of", "the masks of");
  return reasons;
}

}  // namespace icefield
