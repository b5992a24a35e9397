// What the bytes of a photo file tell without a decoder.
#pragma once
#include <cstddef>
#include <map>
#include <optional>
#include <string>
#include <string_view>

namespace icefield {

// Where the JPEG that begins at the first byte ends: behind its end marker, by the markers of ITU T.81 (1992), annex B.
// Nothing where it ends before that (cut short) or is no JPEG. What a file holds behind it (a short film, a preview, a
// second picture) is none of its business.
std::optional<std::size_t> jpeg_end(std::string_view bytes);

// The longest JPEG within the bytes of another format: the preview that cameras put into RAW files.
std::string_view longest_jpeg(std::string_view bytes);

// Names and values of the first XMP packet (ISO 16684-1), without their name spaces: attributes and elements that hold
// plain text. Empty where there is none.
std::map<std::string, std::string> xmp_values(std::string_view bytes);

// The EXIF block of a WebP file (a TIFF without its file); empty where there is none.
std::string_view webp_exif(std::string_view bytes);

}  // namespace icefield
