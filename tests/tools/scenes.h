// Small rendered photo sets, made once for each test program and kept in its own temporary folder.
#pragma once
#include <filesystem>
#include <string>

#include "icefield/io/camera_file.h"
#include "icefield/judge/compare.h"
#include "simulate/plan.h"

namespace icefield::test {

// A folder that is removed at the end of the process.
const std::filesystem::path& scratch_folder();

// FOLDER/photos, FOLDER/truth of the plan; rendered at the first call.
std::filesystem::path rendered(const std::string& name, const simulate::PlanOptions& plan, int samples = 1);

// 14 photos of 480x320 on a third of the ring around the cairn; 15 over the middle of the forefield.
simulate::PlanOptions small_cairn();
simulate::PlanOptions small_flight();

std::vector<NamedPose> named(const CameraFile& file);

}  // namespace icefield::test
