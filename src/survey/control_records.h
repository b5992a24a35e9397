// What georeferencing found, as a record.
#pragma once
#include "icefield/base/bytes.h"
#include "icefield/survey/survey.h"

namespace icefield {

Bytes georeference_record(GeoreferenceReport& report);
// Throws Error(input) for what is cut short or of another layout.
GeoreferenceReport read_georeference_record(const Bytes& bytes);

}  // namespace icefield
