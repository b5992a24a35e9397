// Any text as a survey.toml that is edited: an Error, or a text that reads as before but for the one entry.
#include <cstdint>
#include <cstdlib>
#include <optional>
#include <string>
#include <toml++/toml.h>

#include "icefield/base/error.h"
#include "src/survey/toml_edit.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  const icefield::TomlPath paths[] = {{"effort"}, {"photos", "off"}, {"cameras", "A b", "focal_px"}, {"bounds"}};
  const icefield::TomlPath& path = paths[data[0] % 4];
  const std::string text(reinterpret_cast<const char*>(data + 1), size - 1);
  const auto parsed = [](const std::string& t) {
    try {
      return std::optional<toml::table>(toml::parse(t));
    } catch (const toml::parse_error&) {
      return std::optional<toml::table>();
    }
  };
  const auto at = [&](toml::table& table) {
    toml::node* node = &table;
    for (const std::string& name : path) {
      toml::table* inside = node ? node->as_table() : nullptr;
      node = inside ? inside->get(name) : nullptr;
    }
    return node;
  };
  try {
    const std::string edited = icefield::with_entry(text, path, "7", "fuzz");
    auto after = parsed(edited);
    if (!after || !at(*after) || at(*after)->value<int>() != 7) std::abort();
  } catch (const icefield::Error&) {
  }
  try {
    const std::string edited = icefield::without(text, path, "fuzz");
    auto after = parsed(edited);
    if (!after || at(*after)) std::abort();
  } catch (const icefield::Error&) {
  }
  return 0;
}
