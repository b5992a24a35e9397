// What a document says of overlap.
#pragma once
#include <span>

#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {

void add_overlap(std::span<const OverlapReport> reports, Document& document, Json& json);

}  // namespace icefield
