// What the readers and writers over GDAL share.
#pragma once
#include <gdal_priv.h>

#include <filesystem>
#include <string>

#include "icefield/base/error.h"
#include "icefield/world/datum.h"

namespace icefield {

// Drivers are known, and GDAL says nothing by itself: what went wrong is asked for.
void start_gdal();
// The last message of GDAL, on one line.
std::string gdal_fault();
[[noreturn]] void fail_to_write(const std::filesystem::path& file, const std::string& fault);

// Nothing where the datum has no CRS. Axes are east, north whatever the register says.
bool set_reference(const Datum& datum, OGRSpatialReference& reference);
Datum datum_of(const OGRSpatialReference* reference);

struct CloseDataset {
  void operator()(GDALDataset* set) const { GDALClose(set); }
};
using Dataset = std::unique_ptr<GDALDataset, CloseDataset>;

}  // namespace icefield
