// What each step is made from, read off the survey as it is now.
#include <fmt/format.h>

#include <algorithm>

#include "src/survey/depth_files.h"
#include "icefield/io/text_file.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace {

void add_row(StepInputs& inputs, const StepRow& row, const Settings& settings) {
  inputs.push_back({std::string(row.name) + " " + std::string(kVersionInput), row.version});
  for (const SettingInfo& info : settings.list())
    for (const std::string_view section : row.sections)
      if (std::string_view(info.key).substr(0, info.key.find('.')) == section) inputs.push_back({info.key, info.value});
}

// By its content and mask; by value where the name does not matter.
void add_photo(StepInputs& inputs, const SurveyPhoto& photo, bool by_value) {
  inputs.push_back({std::string(kPhotoInput) + photo.name, photo.content.hex(), by_value});
  if (!photo.mask.empty()) inputs.push_back({std::string(kMaskInput) + photo.name, photo.mask_content.hex(), by_value});
}

std::string camera_text(const CameraPrior& prior) {
  std::string text = camera_model_name(prior.camera.model);
  const auto parameters = camera_parameters(prior.camera.model);
  for (std::size_t p = 0; p < parameters.size(); ++p)
    text += fmt::format(" {} {}", parameters[p].name, prior.camera.parameters[p]);
  return text + fmt::format(" within {} percent", prior.focal_uncertainty_percent);
}

std::string bounds_text(const SurveyFile& file) {
  if (!file.bounds && file.outline.empty()) return "automatic";
  std::string text;
  if (file.bounds) {
    const Bounds& b = *file.bounds;
    const auto list = [](const Eigen::Vector3d& v) { return fmt::format("{} {} {}", v.x(), v.y(), v.z()); };
    text = fmt::format("centre {} size {} turned {:.10g}", list(b.centre), list(2 * b.half_size), turn_deg(b));
  }
  const auto& outline = file.bounds ? file.bounds->outline : file.outline;
  if (!outline.empty()) {
    Fingerprinter corners;
    for (const Eigen::Vector2d& corner : outline) corners.add(corner.x()).add(corner.y());
    text += fmt::format("{}in an outline of {} corners ({})", text.empty() ? "" : " ", outline.size(),
                        corners.result().hex().substr(0, 8));
  }
  return text;
}

}  // namespace

Fingerprint bounds_key(const Bounds& box) {
  Fingerprinter key;
  for (const Eigen::Vector3d& v : {box.centre, box.half_size})
    for (int c = 0; c < 3; ++c) key.add(v[c]);
  for (int c = 0; c < 4; ++c) key.add(box.orientation.coeffs()[c]);
  for (const Eigen::Vector2d& corner : box.outline) key.add(corner.x()).add(corner.y());
  return key.result();
}

StepInputs Survey::State::inputs_of_match(const Settings& settings) const {
  StepInputs inputs;
  inputs.push_back({std::string(kInstructionsInput), instruction_level()});
  add_row(inputs, step_row("match"), settings);
  for (std::size_t i = 0; i < list->used; ++i) {
    const std::size_t at = inputs.size();
    add_photo(inputs, list->photos[i], true);
    inputs[at].value += fmt::format(" by camera {}", list->photos[i].camera.value + 1);
  }
  for (const SurveyCamera& camera : list->cameras)
    inputs.push_back({std::string(kCameraInput) + "'" + camera.name + "'", camera_text(camera.prior), true});
  Fingerprinter listed;
  for (const ProposedPair& pair : list->listed) listed.add(pair.first.value).add(pair.second.value);
  inputs.push_back({std::string(kListedInput), listed.result().hex()});
  return inputs;
}

StepInputs Survey::State::inputs_of_pose(const Settings& settings) const {
  StepInputs inputs = inputs_of_match(settings);
  for (StepInput& input : inputs) input.by_value = false;  // reasons and files name photos and cameras
  add_row(inputs, step_row("pose"), settings);
  // Nothing where none are asked for: the poses of such surveys stay fresh.
  if (!settings.given.poses.empty()) {
    std::error_code fault;
    const std::filesystem::path poses = settings_file.folder() / kGivenInput;
    const std::string content = std::filesystem::exists(poses, fault) ? read_file(poses) : std::string();
    inputs.push_back({std::string(kGivenInput), Fingerprinter()
                                                    .add(settings.given.poses)
                                                    .add(settings.given.cameras ? "1" : "0")
                                                    .add(content)
                                                    .result()
                                                    .hex()});
  }
  return inputs;
}

StepInputs Survey::State::inputs_of_georeference(const Settings& settings) const {
  StepInputs inputs;
  inputs.push_back({std::string(kInstructionsInput), instruction_level()});
  add_row(inputs, step_row("georeference"), settings);
  for (std::size_t b = 0; b < free_keys.size(); ++b)
    inputs.push_back({fmt::format("{}{}", kBlockInput, b + 1), free_keys[b].hex(), true});
  const auto add = [&](const char* what, const std::string& text) {
    inputs.push_back({std::string(kControlInput) + what, Fingerprinter().add(text).result().hex()});
  };
  const ControlLists& known = *control;
  add("points", text_of_control_points(known.points));
  add("marks", text_of_marks(known.marks));
  add("lengths", text_of_lengths(known.lengths));
  Fingerprinter positions;
  positions.add(text_of_positions(known.positions));
  for (std::size_t i = 0; i < list->used && settings.georeference.photo_positions; ++i) {
    const auto& gps = list->photos[i].metadata.gps;
    positions.add(static_cast<std::uint8_t>(gps.has_value()));
    if (gps)
      for (const double v :
           {gps->latitude_deg, gps->longitude_deg, gps->altitude_m, gps->horizontal_sigma_m, gps->vertical_sigma_m})
        positions.add(v);
  }
  inputs.push_back({std::string(kControlInput) + "positions", positions.result().hex()});
  if (settings.georeference.photo_tilts) {
    Fingerprinter tilts;
    for (std::size_t i = 0; i < list->used; ++i) {
      const PhotoMetadata& about = list->photos[i].metadata;
      tilts.add(about.view_elevation_deg.value_or(kNotKnown)).add(about.view_azimuth_deg.value_or(kNotKnown));
    }
    inputs.push_back({std::string(kControlInput) + "tilts of photos", tilts.result().hex()});
  }
  for (std::size_t i = 0; i < list->used; ++i)  // what photos are called, and where their marks go
    inputs.push_back({"photo at " + std::to_string(i + 1), list->photos[i].name});
  // The freedoms and priors of the adjustment.
  add_row(inputs, step_row("pose"), settings);
  for (const SurveyCamera& camera : list->cameras)
    inputs.push_back({std::string(kCameraInput) + "'" + camera.name + "'", camera_text(camera.prior), true});
  return inputs;
}

StepInputs Survey::State::inputs_of_block(const Settings& settings, std::size_t block) const {
  StepInputs inputs;
  inputs.push_back({std::string(kInstructionsInput), instruction_level()});
  add_row(inputs, step_row("densify"), settings);
  inputs.push_back({std::string(kBoundsInput), bounds_text(file)});
  inputs.push_back({fmt::format("{}{}", kBlockInput, block + 1), block_keys[block].hex(), true});
  for (const PosedPhoto& photo : posed->blocks[block].photos) add_photo(inputs, list->photos[photo.photo.value], true);
  return inputs;
}

// What all blocks that are worked on are made from, each input once.
template <class OfBlock>
StepInputs Survey::State::of_blocks(const OfBlock& inputs_of_one) const {
  StepInputs inputs;
  for (std::size_t b = 0; b < posed->blocks.size(); ++b) {
    if (!holds_subject(posed->blocks[b])) continue;
    for (StepInput& input : inputs_of_one(b))
      if (std::none_of(inputs.begin(), inputs.end(), [&](const StepInput& i) { return i.name == input.name; }))
        inputs.push_back(std::move(input));
  }
  return inputs;
}

StepInputs Survey::State::inputs_of_densify(const Settings& settings) const {
  return of_blocks([&](std::size_t b) { return inputs_of_block(settings, b); });
}

StepInputs Survey::State::inputs_of_mesh(const Settings& settings, std::size_t block) const {
  StepInputs inputs;
  inputs.push_back({std::string(kInstructionsInput), instruction_level()});
  add_row(inputs, step_row("mesh"), settings);
  inputs.push_back({fmt::format("{}{}", kCloudInput, block + 1), cloud_key(settings, block).hex(), true});
  if (settings.mesh.sharpen.rounds > 0)
    for (const PosedPhoto& photo : posed->blocks[block].photos)
      add_photo(inputs, list->photos[photo.photo.value], true);
  return inputs;
}

StepInputs Survey::State::inputs_of_mesh(const Settings& settings) const {
  return of_blocks([&](std::size_t b) { return inputs_of_mesh(settings, b); });
}

StepInputs Survey::State::inputs_of_texture(const Settings& settings, std::size_t block) const {
  StepInputs inputs;
  inputs.push_back({std::string(kInstructionsInput), instruction_level()});
  add_row(inputs, step_row("texture"), settings);
  inputs.push_back({fmt::format("{}{}", kMeshInput, block + 1), mesh_key(settings, block).hex(), true});
  for (const PosedPhoto& photo : posed->blocks[block].photos) add_photo(inputs, list->photos[photo.photo.value], true);
  return inputs;
}

StepInputs Survey::State::inputs_of_texture(const Settings& settings) const {
  return of_blocks([&](std::size_t b) { return inputs_of_texture(settings, b); });
}

StepInputs Survey::State::inputs_of_terrain(const Settings& settings, std::size_t block) const {
  StepInputs inputs;
  inputs.push_back({std::string(kInstructionsInput), instruction_level()});
  add_row(inputs, step_row("terrain"), settings);
  inputs.push_back({fmt::format("{}{}", kCloudInput, block + 1), cloud_key(settings, block).hex(), true});
  return inputs;
}

StepInputs Survey::State::inputs_of_terrain(const Settings& settings) const {
  return of_blocks([&](std::size_t b) { return inputs_of_terrain(settings, b); });
}

StepInputs Survey::State::inputs_of_orthomosaic(const Settings& settings, std::size_t block) const {
  StepInputs inputs;
  inputs.push_back({std::string(kInstructionsInput), instruction_level()});
  add_row(inputs, step_row("orthomosaic"), settings);
  inputs.push_back({fmt::format("{}{}", kTerrainInput, block + 1), terrain_key(settings, block).hex(), true});
  for (const PosedPhoto& photo : posed->blocks[block].photos) add_photo(inputs, list->photos[photo.photo.value], true);
  return inputs;
}

StepInputs Survey::State::inputs_of_orthomosaic(const Settings& settings) const {
  return of_blocks([&](std::size_t b) { return inputs_of_orthomosaic(settings, b); });
}

StepInputs Survey::State::inputs_of(std::string_view step, const Settings& settings) const {
  return step == "match"          ? inputs_of_match(settings)
         : step == "pose"         ? inputs_of_pose(settings)
         : step == "georeference" ? inputs_of_georeference(settings)
         : step == "mesh"         ? inputs_of_mesh(settings)
         : step == "texture"      ? inputs_of_texture(settings)
         : step == "terrain"      ? inputs_of_terrain(settings)
         : step == "orthomosaic"  ? inputs_of_orthomosaic(settings)
                                  : inputs_of_densify(settings);
}

Fingerprint Survey::State::cameras_key(std::size_t b) const {
  const Block& block = posed->blocks[b];
  Fingerprinter key;
  key.add("cameras.json").add(kBlockFileVersion).add(block_keys[b]);
  key.add(bounds_key(holds_subject(block) ? bounds_of(block) : automatic_of(block)));
  for (const SurveyCamera& camera : list->cameras) key.add(camera.name);
  for (const PosedPhoto& photo : block.photos) key.add(list->photos[photo.photo.value].name);
  return key.result();
}

Fingerprint Survey::State::tie_points_key(std::size_t b) const {
  Fingerprinter key;
  key.add("tie_points.ply").add(kBlockFileVersion).add(block_keys[b]);
  for (const PosedPhoto& photo : posed->blocks[b].photos) key.add(list->photos[photo.photo.value].content);
  return key.result();
}

}  // namespace icefield
