// Results as documents: what a console prints, a program reads and a page shows.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "icefield/photo/image.h"
#include "icefield/report/table.h"

namespace icefield {

struct Document {
  // One of a paragraph, a table and a figure.
  struct Part {
    std::string title;  // of a table or figure; may be empty
    std::string text;
    std::optional<Table> table;
    ImageU8 figure;
  };
  std::vector<Part> parts;
  std::vector<std::string> warnings;  // for the reader's attention, each a sentence that names what it is of
  std::string json;                   // all of it, with numbers unrounded, as JSON

  void say(std::string paragraph);
  void show(Table table, std::string title = "");  // nothing for a table without rows
  void show(ImageU8 figure, std::string title);

  // Paragraphs and tables; without figures and warnings.
  std::string text() const;
};

}  // namespace icefield
