#include "icefield/base/amounts.h"

#include <cctype>
#include <charconv>
#include <string>

#include "icefield/base/error.h"

namespace icefield {

std::uint64_t memory_from_text(std::string_view text) {
  const auto fail = [&](const char* fault) {
    throw Error(ErrorKind::usage, "memory '" + std::string(text) + "'", fault, "write it as 8G or 512M");
  };
  double value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (error != std::errc{} || !(value > 0)) fail("is no amount of memory");
  std::string unit;
  for (const char* c = end; c != text.data() + text.size(); ++c)
    if (*c != ' ') unit += static_cast<char>(std::toupper(static_cast<unsigned char>(*c)));
  if (!unit.empty() && unit.back() == 'B') unit.pop_back();
  const double factor = unit == "T" ? 0x1p40 : unit == "G" ? 0x1p30 : unit == "M" ? 0x1p20 : 0;
  if (factor == 0) fail("has no unit");
  if (!(value * factor < 0x1p60)) fail("is more than there can be");
  if (value * factor < 0x1p26) fail("is too little to work with");
  return static_cast<std::uint64_t>(value * factor);
}

double seconds_from_text(std::string_view text) {
  const auto fail = [&](const char* fault) {
    throw Error(ErrorKind::usage, "time '" + std::string(text) + "'", fault, "write it as 2h, 45m or 1h30m");
  };
  double seconds = 0, last_unit = 1e300;
  const char *at = text.data(), *const end_of_text = text.data() + text.size();
  while (at != end_of_text) {
    double value = 0;
    const auto [end, error] = std::from_chars(at, end_of_text, value);
    if (error != std::errc{} || !(value >= 0)) fail("is no time");
    if (end == end_of_text) fail("has no unit");
    const double unit = *end == 'd' ? 86400 : *end == 'h' ? 3600 : *end == 'm' ? 60 : *end == 's' ? 1 : 0;
    if (unit == 0 || unit >= last_unit) fail("is no time");
    seconds += value * unit, last_unit = unit;
    for (at = end + 1; at != end_of_text && *at == ' ';) ++at;
  }
  if (!(seconds > 0 && seconds < 1e9)) fail("is no time");
  return seconds;
}

}  // namespace icefield
