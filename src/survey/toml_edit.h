// Changes to a TOML text that leave the rest of it, comments and layout, as the user wrote it.
#pragma once
#include <string>
#include <vector>

namespace icefield {

// A key of a table, or a table: the names from the root down, as they read (not as they are quoted).
using TomlPath = std::vector<std::string>;

// The text with `path = value` in place of the value that stood there, or added: behind the last entry of its table,
// whose header is added where there is none. `value` is TOML. Everything else in the text keeps its meaning, which is
// checked by parsing both texts. Throws Error(input) where the text is no TOML, or where the entry stands in a place
// that cannot be edited safely (within an inline table, a dotted key of one, an array of tables); it then says what to
// write by hand. `file` names the text in errors.
std::string with_entry(const std::string& text, const TomlPath& path, const std::string& value,
                       const std::string& file);

// The text without this entry, or this table, its tables below and all their entries; comments on lines of their own
// stay. The same text where there is no such thing. Throws as above.
std::string without(const std::string& text, const TomlPath& path, const std::string& file);

// As a TOML string, and as a list of them.
std::string quoted(const std::string& text);
std::string toml_list(const std::vector<std::string>& items);

}  // namespace icefield
