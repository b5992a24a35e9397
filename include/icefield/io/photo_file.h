// Photo files in common formats.
#pragma once
#include <filesystem>
#include <span>
#include <vector>

#include "icefield/photo/image.h"
#include "icefield/photo/metadata.h"

namespace icefield {

struct PhotoReadLimits {
  double max_megapixels = 400;  // checked against the header, before anything is decoded or allocated
};

// JPEG, PNG, TIFF, HEIC, WebP, JPEG 2000, OpenEXR and camera RAW. Of a RAW that this build's reader does not know, the
// preview that the camera put into it is taken for the photo, and the metadata's remark says so.

// Metadata alone: size, EXIF (make, model, serial number, lens, focal lengths, focal plane, time, orientation, GPS),
// and of flying cameras what their XMP says of height, direction of view and accuracy. Throws Error(input) naming the
// file for one that is missing, empty, of no known format, or larger than the limits.
PhotoMetadata read_photo_metadata(const std::filesystem::path& file, const PhotoReadLimits& limits = {});

// Pixels as stored (the EXIF orientation is not applied), 8 bits a channel; 16-bit and float files are scaled, the
// linear light of OpenEXR is taken from 0 to 1 and given the curve of sRGB (IEC 61966-2-1). 1 to 4 channels: palettes
// and CMYK become RGB. Throws Error(input) as above, and for a file that ends too early or is damaged.
ImageU8 read_photo(const std::filesystem::path& file, const PhotoReadLimits& limits = {});

// The same as luminance from 0 to 1, of files with more than 8 bits a channel with all of them: where features come
// from.
ImageF read_photo_grey(const std::filesystem::path& file, const PhotoReadLimits& limits = {});

// The ending is that of a camera's RAW format.
bool is_raw_photo(const std::filesystem::path& file);

// Format by file ending (jpg, png, tif, heic, webp, jp2). `quality` (1 to 100) is for JPEG. Metadata is written as EXIF
// where the format has it. Throws Error(resource) when the file cannot be written.
void write_photo(const std::filesystem::path& file, const ImageU8& image, const PhotoMetadata& metadata = {},
                 int quality = 90);

// Pictures of one size one after the other, over and over, as GIF. Throws Error(usage) for none and for other sizes,
// Error(resource) when it cannot be written.
void write_moving_picture(const std::filesystem::path& file, std::span<const ImageU8> pictures,
                          double pictures_per_second);

// One float channel or more, as TIFF (32-bit float, deflate) or, by its ending, EXR.
void write_float_image(const std::filesystem::path& file, const ImageF& image);
ImageF read_float_image(const std::filesystem::path& file, const PhotoReadLimits& limits = {});

// Files below the given files and folders that have the ending of a photo format, folders read recursively, in natural
// order (img2 before img10), each once. Survey folders on the way are passed over; of one that is given itself, what
// Icefield keeps in it (work/, results/).
std::vector<std::filesystem::path> find_photo_files(const std::vector<std::filesystem::path>& sources);

// Natural order of names: digits compare as numbers, the rest without regard to case.
bool natural_less(const std::string& a, const std::string& b);

}  // namespace icefield
