// What steps leave in the store, as bytes.
#pragma once
#include "icefield/orient/orient.h"
#include "icefield/survey/survey.h"

namespace icefield {

Bytes photo_record(const PhotoMetadata& metadata, const PhotoScores& scores, const std::string& fault);
void read_photo_record(const Bytes& bytes, PhotoMetadata& metadata, PhotoScores& scores, std::string& fault);

Bytes features_record(const Features& features);
Bytes narrowed_record(const std::vector<Features>& copies);
std::vector<Features> read_narrowed_record(const Bytes& bytes);
Features read_features_record(const Bytes& bytes);

Bytes pair_record(const PairMatches& pair);
PairMatches read_pair_record(const Bytes& bytes);

Bytes pairs_record(const PairChoice& choice);
PairChoice read_pairs_record(const Bytes& bytes);

Bytes orient_record(const OrientResult& result);
OrientResult read_orient_record(const Bytes& bytes);

Bytes dense_record(const DenseSummary& summary);  // without its bounds
DenseSummary read_dense_record(const Bytes& bytes);

}  // namespace icefield
