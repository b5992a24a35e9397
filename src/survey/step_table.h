// The table of steps: what each is made from, by name. Its key is the fingerprint of that, and where two differ the
// names say why a step is stale.
#pragma once
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "icefield/base/bytes.h"
#include "icefield/base/fingerprint.h"

namespace icefield {

struct StepRow {
  std::string_view name;
  std::span<const std::string_view> sections;  // of the settings that it reads itself
  std::string version;                         // of all that its output hangs on
  std::span<const std::string_view> files;     // that it writes into the folder of a block
};
std::span<const StepRow> step_table();
const StepRow& step_row(std::string_view name);

struct StepInput {
  std::string name, value;
  bool by_value = false;  // the name takes no part in the key: a photo under another name is the same photo
};
using StepInputs = std::vector<StepInput>;

Fingerprint key_of(const StepInputs& inputs);
Bytes inputs_record(const StepInputs& inputs);
StepInputs read_inputs_record(ByteReader& in);

// In words, one thing in each; empty where the inputs are the same but for their order.
std::vector<std::string> differences(const StepInputs& before, const StepInputs& now);

// Names of inputs that are told apart by more than "was A, is B".
inline constexpr std::string_view kVersionInput = "version", kInstructionsInput = "instructions",
                                  kPhotoInput = "photo ", kMaskInput = "mask of ", kCameraInput = "camera ",
                                  kListedInput = "pairs.txt", kGivenInput = "given_poses.json", kBlockInput = "block ",
                                  kBoundsInput = "bounds", kOrderInput = "order of photos", kControlInput = "known ",
                                  kCloudInput = "the cloud of block ", kMeshInput = "the mesh of block ",
                                  kTerrainInput = "the height models of block ";

}  // namespace icefield
