#include "icefield/report/document.h"

namespace icefield {

void Document::say(std::string paragraph) {
  parts.push_back({"", std::move(paragraph), {}, {}});
}

void Document::show(Table table, std::string title) {
  if (!table.rows().empty()) parts.push_back({std::move(title), "", std::move(table), {}});
}

void Document::show(ImageU8 figure, std::string title) {
  parts.push_back({std::move(title), "", {}, std::move(figure)});
}

std::string Document::text() const {
  std::string out;
  for (const Part& part : parts) {
    if (part.table) {
      if (!out.empty()) out += "\n";
      if (!part.title.empty()) out += part.title + ":\n";
      out += part.table->text();
    } else if (!part.text.empty()) {
      out += part.text + "\n";
    }
  }
  return out;
}

}  // namespace icefield
