#include "icefield/io/pose_table.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "src/io/csv_table.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

// Headings of the numbers of a form.
std::vector<std::string> headings_of(RotationForm form) {
  switch (form) {
    case RotationForm::quaternion:
      return {"qw", "qx", "qy", "qz"};
    case RotationForm::quaternion_xyzw:
      return {"qx", "qy", "qz", "qw"};
    case RotationForm::matrix:
      return {"r11", "r12", "r13", "r21", "r22", "r23", "r31", "r32", "r33"};
    case RotationForm::omega_phi_kappa:
      return {"omega", "phi", "kappa"};
    default:
      return {"yaw", "pitch", "roll"};
  }
}

// A heading without case, blanks and what stands in brackets, others' words brought to ours.
std::string plain(const std::string& heading) {
  std::string word;
  bool in_brackets = false;
  for (const char raw : heading) {
    const char c = static_cast<char>(std::tolower(static_cast<unsigned char>(raw)));
    if (c == '[' || c == '(') in_brackets = true;
    if (!in_brackets && std::isalnum(static_cast<unsigned char>(c))) word += c;
    if (c == ']' || c == ')') in_brackets = false;
  }
  static const std::map<std::string, std::string> same = {
      {"image", "photo"},     {"name", "photo"},  {"file", "photo"},  {"filename", "photo"}, {"imagename", "photo"},
      {"photoname", "photo"}, {"label", "photo"}, {"east", "x"},      {"easting", "x"},      {"north", "y"},
      {"northing", "y"},      {"height", "z"},    {"altitude", "z"},  {"elevation", "z"},    {"heading", "yaw"},
      {"azimuth", "yaw"},     {"w", "qw"},        {"posx", "x"},      {"posy", "y"},         {"posz", "z"},
      {"positionx", "x"},     {"positiony", "y"}, {"positionz", "z"}, {"r00", "r00"}};
  const auto at = same.find(word);
  return at == same.end() ? word : at->second;
}

}  // namespace

PoseTable read_pose_table(const fs::path& file, std::optional<RotationForm> wanted) {
  const CsvTable table = read_csv(file);
  PoseTable read;
  std::size_t name_at = 0;
  std::array<std::size_t, 3> place_at{1, 2, 3};
  std::vector<std::size_t> rotation_at;
  const auto fail = [&](const std::string& fault, const std::string& remedy) -> Error {
    return Error(ErrorKind::input, file.string(), fault, remedy);
  };
  if (!table.header.empty()) {
    std::vector<std::string> words;
    for (const std::string& heading : table.header) words.push_back(plain(heading));
    // Matrices that are counted from 0.
    if (std::find(words.begin(), words.end(), "r00") != words.end())
      for (std::string& word : words)
        if (word.size() == 3 && word[0] == 'r' && word[1] >= '0' && word[1] <= '2' && word[2] >= '0' && word[2] <= '2')
          word = {'r', static_cast<char>(word[1] + 1), static_cast<char>(word[2] + 1)};
    const auto column = [&](const std::string& word) {
      const auto at = std::find(words.begin(), words.end(), word);
      return at == words.end() ? words.size() : static_cast<std::size_t>(at - words.begin());
    };
    const auto all = [&](const std::vector<std::string>& of) {
      return std::all_of(of.begin(), of.end(), [&](const std::string& word) { return column(word) < words.size(); });
    };
    name_at = column("photo");
    if (name_at == words.size()) throw fail("has no column of photos", "call it photo");
    const bool centres = all({"x", "y", "z"}), translations = all({"tx", "ty", "tz"});
    if (!centres && !translations)
      throw fail("has no columns of places", "call them x, y, z, or of translations tx, ty, tz");
    read.translation = !centres;
    const std::vector<std::string> of_place =
        centres ? std::vector<std::string>{"x", "y", "z"} : std::vector<std::string>{"tx", "ty", "tz"};
    for (std::size_t c = 0; c < 3; ++c) place_at[c] = column(of_place[c]);
    std::vector<RotationForm> forms = {RotationForm::omega_phi_kappa, RotationForm::yaw_pitch_roll,
                                       RotationForm::matrix, RotationForm::quaternion};
    if (wanted) forms.insert(forms.begin(), *wanted);
    for (const RotationForm form : forms)
      if (!read.form && all(headings_of(form))) read.form = form;
    if (!read.form)
      throw fail("has no columns of rotations",
                 "call them omega, phi, kappa; yaw, pitch, roll; qw, qx, qy, qz; or r11 to r33");
    for (const std::string& word : headings_of(*read.form)) rotation_at.push_back(column(word));
  } else {
    const std::size_t columns = table.rows.empty() ? 0 : table.rows[0].cells.size();
    const RotationForm form = wanted          ? *wanted
                              : columns == 8  ? RotationForm::quaternion
                              : columns == 13 ? RotationForm::matrix
                                              : RotationForm::omega_phi_kappa;
    if (columns != 4 + numbers_of(form))
      throw fail(fmt::format("has {} columns and no headings; with {} there are {}", columns, name_of(form),
                             4 + numbers_of(form)),
                 "write headings: photo, x, y, z, and omega, phi, kappa or qw, qx, qy, qz ...");
    if (!wanted && columns == 7)
      throw fail("has three angles and no headings", "say which with --angles opk or ypr, or write headings");
    for (std::size_t k = 0; k < numbers_of(form); ++k) rotation_at.push_back(4 + k);
    if (wanted) read.form = wanted;
  }
  std::map<std::string, int> seen;
  for (const CsvRow& row : table.rows) {
    const auto number = [&](std::size_t column, const char* what) {
      if (column >= row.cells.size() || row.cells[column].empty())
        throw Error(ErrorKind::input, table.place(row), std::string("has no ") + what,
                    "fill it in, or take the line out");
      return number_in(table, row, column, what);
    };
    const std::string name = name_at < row.cells.size() ? trimmed(row.cells[name_at]) : "";
    if (name.empty()) throw Error(ErrorKind::input, table.place(row), "names no photo", "fill it in");
    if (const auto [at, fresh] = seen.emplace(name, row.line); !fresh)
      throw Error(ErrorKind::input, table.place(row),
                  fmt::format("has '{}' again, which stands in line {}", name, at->second), "take one out");
    WrittenPose pose;
    for (std::size_t c = 0; c < 3; ++c) pose.place[static_cast<int>(c)] = number(place_at[c], "place");
    for (std::size_t k = 0; k < rotation_at.size(); ++k) pose.rotation[k] = number(rotation_at[k], "rotation");
    read.names.push_back(name), read.poses.push_back(pose), read.lines.push_back(row.line);
  }
  return read;
}

void write_pose_table(const fs::path& file, const std::vector<std::string>& names, const std::vector<Pose>& poses,
                      const PoseConvention& convention) {
  std::string text = fmt::format("# {}\nphoto", describe(convention));
  for (const char* word : {"x", "y", "z"}) text += fmt::format(",{}{}", convention.translation ? "t" : "", word);
  for (const std::string& word : headings_of(convention.form)) text += "," + word;
  text += "\n";
  for (std::size_t i = 0; i < names.size(); ++i) {
    const WrittenPose pose = written(poses[i], convention);
    const bool quoted = names[i].find_first_of(",;\"\t \n#") != std::string::npos;
    std::string name;
    for (const char c : names[i]) name += c == '"' ? "\"\"" : std::string(1, c);
    text += quoted ? '"' + name + '"' : name;
    for (int c = 0; c < 3; ++c) text += fmt::format(",{}", pose.place[c]);
    for (std::size_t k = 0; k < numbers_of(convention.form); ++k) text += fmt::format(",{}", pose.rotation[k]);
    text += "\n";
  }
  write_file(file, text);
}

}  // namespace icefield
