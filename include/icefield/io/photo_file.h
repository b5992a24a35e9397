// Photo files in common formats.
#pragma once
#include <filesystem>
#include <vector>

#include "icefield/photo/image.h"
#include "icefield/photo/metadata.h"

namespace icefield {

struct PhotoReadLimits {
  double max_megapixels = 400;  // checked against the header, before anything is decoded or allocated
};

// Metadata alone: size, EXIF (make, model, lens, focal lengths, time, orientation, GPS). Throws Error(input) naming the
// file for one that is missing, empty, of no known format, or larger than the limits.
PhotoMetadata read_photo_metadata(const std::filesystem::path& file, const PhotoReadLimits& limits = {});

// Pixels as stored (the EXIF orientation is not applied), 8 bits a channel; 16-bit and float files are scaled. 1 to 4
// channels. Throws Error(input) as above, and for a file that ends too early or is damaged.
ImageU8 read_photo(const std::filesystem::path& file, const PhotoReadLimits& limits = {});

// Format by file ending (jpg, png, tif). `quality` (1 to 100) is for JPEG. Metadata is written as EXIF where the format
// has it. Throws Error(resource) when the file cannot be written.
void write_photo(const std::filesystem::path& file, const ImageU8& image, const PhotoMetadata& metadata = {},
                 int quality = 90);

// One float channel or more, as TIFF (32-bit float, deflate) or, by its ending, EXR.
void write_float_image(const std::filesystem::path& file, const ImageF& image);
ImageF read_float_image(const std::filesystem::path& file, const PhotoReadLimits& limits = {});

// Files below the given files and folders that have the ending of a photo format, folders read recursively, in natural
// order (img2 before img10), each once.
std::vector<std::filesystem::path> find_photo_files(const std::vector<std::filesystem::path>& sources);

// Natural order of names: digits compare as numbers, the rest without regard to case.
bool natural_less(const std::string& a, const std::string& b);

}  // namespace icefield
