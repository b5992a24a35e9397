#include "src/io/photo_bytes.h"

#include <algorithm>
#include <cctype>

namespace icefield {
namespace {

std::size_t big16(std::string_view bytes, std::size_t at) {
  return static_cast<std::size_t>(static_cast<unsigned char>(bytes[at])) << 8 |
         static_cast<unsigned char>(bytes[at + 1]);
}

std::size_t little32(std::string_view bytes, std::size_t at) {
  std::size_t value = 0;
  for (std::size_t k = 4; k-- > 0;) value = value << 8 | static_cast<unsigned char>(bytes[at + k]);
  return value;
}

}  // namespace

std::optional<std::size_t> jpeg_end(std::string_view bytes) {
  if (!bytes.starts_with("\xff\xd8")) return std::nullopt;
  bool scanned = false;
  for (std::size_t at = 2; at + 1 < bytes.size();) {
    if (bytes[at] != '\xff') return std::nullopt;  // no marker where one must stand
    const auto marker = static_cast<unsigned char>(bytes[at + 1]);
    if (marker == 0xff) {  // a fill byte
      ++at;
      continue;
    }
    at += 2;
    if (marker == 0xd9) return scanned ? std::optional<std::size_t>(at) : std::nullopt;
    if (marker == 0x01 || (marker >= 0xd0 && marker <= 0xd8)) continue;  // without content
    if (at + 2 > bytes.size() || big16(bytes, at) < 2) return std::nullopt;
    at += big16(bytes, at);
    if (marker != 0xda) continue;
    // Coded data up to the next marker that is neither a stuffed zero nor a restart.
    scanned = true;
    for (;; ++at) {
      at = bytes.find('\xff', at);
      if (at == std::string_view::npos || at + 1 >= bytes.size()) return std::nullopt;
      const auto next = static_cast<unsigned char>(bytes[at + 1]);
      if (next != 0 && next != 0xff && (next < 0xd0 || next > 0xd7)) break;
    }
  }
  return std::nullopt;
}

std::string_view longest_jpeg(std::string_view bytes) {
  std::string_view longest;
  for (std::size_t at = 0; (at = bytes.find("\xff\xd8\xff", at)) != std::string_view::npos;) {
    const auto end = jpeg_end(bytes.substr(at));
    if (!end) {
      ++at;
      continue;
    }
    if (*end > longest.size()) longest = bytes.substr(at, *end);
    at += *end;
  }
  return longest;
}

std::map<std::string, std::string> xmp_values(std::string_view bytes) {
  std::map<std::string, std::string> values;
  const std::size_t begin = bytes.find("<x:xmpmeta");
  if (begin == std::string_view::npos) return values;
  const std::size_t end = bytes.find("</x:xmpmeta>", begin);
  if (end == std::string_view::npos || end - begin > (std::size_t{4} << 20)) return values;
  const std::string_view packet = bytes.substr(begin, end - begin);
  const auto name_char = [](char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '-'; };
  // PREFIX:Name="value" and <PREFIX:Name>value</...
  for (std::size_t colon = 0; (colon = packet.find(':', colon)) != std::string_view::npos; ++colon) {
    std::size_t after = colon + 1;
    while (after < packet.size() && name_char(packet[after])) ++after;
    if (after == colon + 1 || after >= packet.size() || colon == 0 || !name_char(packet[colon - 1])) continue;
    const std::string name(packet.substr(colon + 1, after - colon - 1));
    std::size_t at = after;
    while (at < packet.size() && std::isspace(static_cast<unsigned char>(packet[at]))) ++at;
    std::size_t stop = std::string_view::npos;
    if (at + 1 < packet.size() && packet[at] == '=') {
      ++at;
      while (at < packet.size() && std::isspace(static_cast<unsigned char>(packet[at]))) ++at;
      if (at >= packet.size() || (packet[at] != '"' && packet[at] != '\'')) continue;
      stop = packet.find(packet[at], at + 1);
      ++at;
    } else if (at < packet.size() && packet[at] == '>') {
      stop = packet.find('<', ++at);
    }
    if (stop == std::string_view::npos || stop - at > 1000) continue;
    const std::string value(packet.substr(at, stop - at));
    if (value.find_first_not_of(" \t\r\n") != std::string::npos) values.emplace(name, value);
  }
  return values;
}

std::string_view webp_exif(std::string_view bytes) {
  if (bytes.size() < 12 || !bytes.starts_with("RIFF") || bytes.substr(8, 4) != "WEBP") return {};
  for (std::size_t at = 12; at + 8 <= bytes.size();) {
    const std::size_t size = little32(bytes, at + 4);
    if (bytes.substr(at, 4) == "EXIF" && size <= bytes.size() - at - 8) {
      std::string_view exif = bytes.substr(at + 8, size);
      if (exif.starts_with(std::string_view("Exif\0\0", 6))) exif.remove_prefix(6);
      return exif;
    }
    at += 8 + size + (size & 1);
  }
  return {};
}

}  // namespace icefield
