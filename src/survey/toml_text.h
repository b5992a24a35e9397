// Texts in TOML, read.
#pragma once
#include <string>
#include <toml++/toml.h>

namespace icefield {

// What a TOML text says. `file` names it in errors. Throws Error(input) with the line where it is none. Letters beyond
// ASCII belong into quotes and comments: elsewhere they are refused here, with a remedy, since the parser's own tables
// of them have gaps.
toml::table parsed_toml(const std::string& text, const std::string& file);

}  // namespace icefield
