// What each step found, as documents.
#pragma once
#include <span>
#include <string>

#include "icefield/judge/agree.h"
#include "icefield/judge/compare.h"
#include "icefield/match/study_pair.h"
#include "icefield/report/document.h"
#include "icefield/survey/compare_survey.h"
#include "icefield/survey/survey.h"
#include "icefield/world/crs.h"

namespace icefield {

Document photos_document(const PhotoList& photos);
Document match_document(const PhotoList& photos, const MatchReport& report);
// `overlaps`: of its blocks, as far as they are known.
Document pose_document(const PhotoList& photos, const OrientResult& result,
                       std::span<const OverlapReport> overlaps = {});
// `files`: that were written, the picture first.
Document elevation_document(const ElevationReport& report, const std::string& units,
                            std::span<const std::filesystem::path> files);
// `use`: fixed or start.
Document given_document(const GivenReport& report, const std::string& use);
Document overlap_document(std::span<const OverlapReport> overlaps);
// Where photos are missing and from where to take them, as a sentence.
std::string advice_text(const OverlapAdvice& advice, const OverlapReport& of);
// By block, by camera, and the photos that are worst: what all that changes blocks ends with.
Document blocks_document(const PhotoList& photos, const OrientResult& result);
// `block`: that was adjusted, as it stands in `result`.
Document adjust_document(const PhotoList& photos, const OrientResult& result, std::size_t block,
                         const AdjustReport& report);
// After `undo_adjust`.
Document undone_document(const PhotoList& photos, const OrientResult& result);
Document join_document(const PhotoList& photos, const OrientResult& result, const JoinResult& joined);
Document targets_document(const PhotoList& photos, const TargetReport& report);
// Spots of a block by name, as `Survey::locate_spots` finds them.
Document measure_document(const WorldFrame& frame, const Datum& datum, std::span<const std::string> names,
                          std::span<const LocatedSpot> spots);
Document georeference_document(const PhotoList& photos, const GeoreferenceReport& report);
// `of_photos`: those alone that are made for where the photos are.
Document crs_document(const std::vector<CrsFound>& found, const std::string& words, bool of_photos);
Document dense_document(const PhotoList& photos, std::span<const DenseReport> reports, const DenseOptions& options);
// `free_bytes`: on the disk that the results will be on.
Document estimate_document(std::span<const DenseEstimate> estimates, Effort effort, int threads, double free_bytes);
// What each effort takes, and the finest that ends in the time and fits on the disk. `command`: that makes the cloud.
struct EffortEstimate {
  Effort effort;
  std::vector<DenseEstimate> blocks;
};
Document efforts_document(std::span<const EffortEstimate> efforts, double within_seconds, int threads,
                          double free_bytes, const std::string& command);
// `units`: of the coordinates.
Document mesh_document(std::span<const MeshReport> reports, const std::string& units);
Document orthomosaic_document(std::span<const OrthomosaicReport> reports, const std::string& units);
Document terrain_document(std::span<const TerrainReport> reports, const std::string& units);
Document sharpen_document(const SharpenSummary& summary, const std::string& file);
Document texture_document(std::span<const TextureReport> reports, const std::string& units);
Document check_document(const MeshCheck& check, const std::string& name);
Document settings_document(const Settings& settings);
// Reads what the survey holds; computes nothing.
Document status_document(Survey& survey);
// `freed`: what was not needed is gone.
Document disk_document(const DiskUse& use, bool freed);

// Two photos alone. `tried`: by `match`.
struct PairDocumentInput {
  std::string first, second;  // names
  std::size_t first_features = 0, second_features = 0;
  bool tried = true;
};
Document pair_document(const PairDocumentInput& input, const PairMatches& pair, const PairStudy& study);

Document comparison_document(const SurveyComparison& comparison);

// Surveys of parts of the photos in one of all of them.
struct PartInWhole {
  std::string name;
  CameraComparison cameras;  // as if the whole were the truth
};
struct PartsAgreement {
  std::string units;  // of the whole
  std::vector<PartInWhole> parts;
  TiesAcross ties;
  struct Surfaces {
    std::string first, second;  // parts
    SurfaceAgreement agreement;
  };
  std::vector<Surfaces> surfaces;
};
Document agreement_document(const PartsAgreement& agreement);

}  // namespace icefield
