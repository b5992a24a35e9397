// The files in results/ and what each was written for.
#pragma once
#include <filesystem>
#include <optional>
#include <string>

#include "icefield/base/fingerprint.h"
#include "icefield/survey/survey.h"
#include "src/survey/store.h"

namespace icefield {

// Each file carries the fingerprint that it was written for (PLY in a comment, JSON under "fingerprint"); the store
// knows it too, with the content that the file had then. A file counts as current only where both agree, so that
// neither a run that died between the file and its record nor an edit by another program goes unnoticed.
class Products {
 public:
  Products(std::filesystem::path results, Store& store) : results_(std::move(results)), store_(store) {}

  // `name` relative to results/.
  FileState state_of(const std::string& name, const Fingerprint& wanted) const;
  // Before it is written: what another program made of it is put aside as NAME.changed.EXT; says where, if so.
  std::optional<std::filesystem::path> make_room(const std::string& name) const;
  // After it is in its place.
  void written(const std::string& name, const Fingerprint& made_for) const;
  // There is to be no such file for these inputs; one that Icefield wrote is removed.
  void absent(const std::string& name, const Fingerprint& made_for) const;
  // Removes the file if it is as Icefield wrote it.
  void remove(const std::string& name) const;
  std::filesystem::path file(const std::string& name) const { return results_ / name; }

 private:
  bool is_ours(const std::string& name) const;
  std::filesystem::path results_;
  Store& store_;
};

// What the head of a PLY or JSON file says; nothing where it says nothing.
std::optional<std::string> fingerprint_in(const std::filesystem::path& file);

}  // namespace icefield
