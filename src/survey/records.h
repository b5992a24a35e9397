// What steps leave in the store, as bytes. Reading throws Error(input) for what is cut short or of another layout.
#pragma once
#include "icefield/orient/orient.h"
#include "icefield/survey/survey.h"

namespace icefield {

Bytes photo_record(const PhotoMetadata& metadata, const PhotoScores& scores, const std::string& fault);
struct PhotoRecord {
  PhotoMetadata metadata;
  PhotoScores scores;
  std::string fault;
};
PhotoRecord read_photo_record(const Bytes& bytes);

Bytes narrowed_record(const std::vector<Features>& copies);
std::vector<Features> read_narrowed_record(const Bytes& bytes);

Bytes pairs_record(const PairChoice& choice);
PairChoice read_pairs_record(const Bytes& bytes);

// Begins with it in a line of words.
Bytes match_report_record(const MatchReport& report);
MatchReport read_match_report_record(const Bytes& bytes);

Bytes orient_record(const OrientResult& result);
OrientResult read_orient_record(const Bytes& bytes);

Bytes dense_record(const DenseSummary& summary);  // without its bounds
DenseSummary read_dense_record(const Bytes& bytes);
Bytes mesh_record(const MeshReport& report);
MeshReport read_mesh_record(const Bytes& bytes);
Bytes terrain_record(const TerrainReport& report);
TerrainReport read_terrain_record(const Bytes& bytes);
Bytes orthomosaic_record(const OrthomosaicReport& report);
OrthomosaicReport read_orthomosaic_record(const Bytes& bytes);
Bytes texture_record(const TextureReport& report);
TextureReport read_texture_record(const Bytes& bytes);

}  // namespace icefield
