// Pictures in memory, as a mesh's file carries them.
#pragma once
#include <string>
#include <string_view>

#include "icefield/io/photo_file.h"

namespace icefield {

enum class PageFormat { jpeg, png };

// `quality`: of JPEG, 1 to 100. Throws Error(computation) where the writer fails.
std::string encode_page(const ImageU8& page, PageFormat format, int quality);
// RGB, by what the bytes are. Throws Error(input) naming `subject` for what is no JPEG or PNG, ends too early, or is
// larger than the limits.
ImageU8 decode_page(std::string_view bytes, const std::string& subject, const PhotoReadLimits& limits = {});

}  // namespace icefield
