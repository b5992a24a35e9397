// Amounts as people write them.
#pragma once
#include <cstdint>
#include <string_view>

namespace icefield {

// "8G", "512M", "1.5 GB": powers of 1024. Throws Error(usage) for anything else, and for less than 64 megabytes.
std::uint64_t memory_from_text(std::string_view text);

// "2h", "45m", "90s", "1h30m", "2d": in seconds. Throws Error(usage) for anything else.
double seconds_from_text(std::string_view text);

}  // namespace icefield
