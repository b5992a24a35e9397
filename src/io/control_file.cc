#include "icefield/io/control_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include "icefield/base/error.h"
#include "src/io/csv_table.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

const std::vector<std::string> kColumns = {
    "name", "east",  "north", "height", "sigma", "sigma_plan", "sigma_height", "sigma_east", "sigma_north",
    "use",  "photo", "point", "x",      "y",     "from",       "to",           "length",     "-"};

std::string listed(const std::vector<std::string>& words) {
  std::string text;
  for (const std::string& word : words) text += (text.empty() ? "" : ", ") + word;
  return text;
}

// A table whose columns have a meaning.
class Columns {
 public:
  // `usual`: the order without a header; `needed`: what must be there.
  Columns(const fs::path& file, const std::vector<std::string>& columns, const std::vector<std::string>& usual,
          const std::vector<std::string>& needed)
      : table_(read_csv(file)) {
    const bool of_photo = std::find(needed.begin(), needed.end(), "x") != needed.end();
    if (!columns.empty()) {
      by_choice(columns);
    } else if (!table_.header.empty()) {
      by_header(of_photo, needed);
    } else {
      for (std::size_t i = 0; i < usual.size(); ++i) at_[usual[i]] = i;
    }
    for (const std::string& name : needed)
      if (!at_.contains(name)) missing(name);
    const std::size_t cells =
        table_.header.empty() && !table_.rows.empty() ? table_.rows[0].cells.size() : table_.header.size();
    for (const std::string& name : needed)
      if (at_.at(name) >= cells)
        throw Error(ErrorKind::input, table_.file.string(),
                    fmt::format("has {} columns ({} parts them): none for {}", cells, table_.separator, name),
                    "part the cells by commas, semicolons or tabs; the usual order is " + listed(usual));
    if (table_.rows.empty())
      throw Error(ErrorKind::input, table_.file.string(), "has a header and nothing below it",
                  "check that it is the right file");
  }

  const CsvTable& table() const { return table_; }
  const std::string& units() const { return units_; }
  bool has(const std::string& column) const { return at_.contains(column); }
  std::string text(const CsvRow& row, const std::string& column) const {
    const auto found = at_.find(column);
    return found == at_.end() || found->second >= row.cells.size() ? "" : row.cells[found->second];
  }
  std::string needed_text(const CsvRow& row, const std::string& column) const {
    std::string value = text(row, column);
    if (value.empty())
      throw Error(ErrorKind::input, table_.place(row), "has no " + column, "fill it in, or take the line out");
    return value;
  }
  double number(const CsvRow& row, const std::string& column) const {
    return number_in(table_, row, at_.at(column), column);
  }
  // Of a standard deviation; 0 where there is none.
  double sigma(const CsvRow& row, const std::string& column) const {
    if (text(row, column).empty()) return 0;
    const double value = number(row, column);
    if (!(value > 0))
      throw Error(ErrorKind::input, table_.place(row),
                  fmt::format("has a {} of {}, which is not above 0", column, value),
                  "give a standard deviation, or leave the cell empty");
    return value;
  }
  // Not a number where a cell is empty.
  Eigen::Vector3d place(const CsvRow& row) const {
    Eigen::Vector3d place;
    const char* const names[] = {"east", "north", "height"};
    for (int c = 0; c < 3; ++c)
      place[c] = text(row, names[c]).empty() ? std::numeric_limits<double>::quiet_NaN() : number(row, names[c]);
    return place;
  }
  Eigen::Vector3d sigmas(const CsvRow& row) const {
    Eigen::Vector3d all = Eigen::Vector3d::Constant(sigma(row, "sigma"));
    if (const double plan = sigma(row, "sigma_plan"); plan > 0) all.head<2>().setConstant(plan);
    if (const double height = sigma(row, "sigma_height"); height > 0)
      all.z() = height;
    else if (all.z() == 0 && all.x() > 0)
      all.z() = all.x();
    if (const double east = sigma(row, "sigma_east"); east > 0) all.x() = east;
    if (const double north = sigma(row, "sigma_north"); north > 0) all.y() = north;
    for (int c = 0; c < 3; ++c)
      if (all[c] == 0) all[c] = all.maxCoeff();
    return all;
  }
  std::optional<ControlUse> use(const CsvRow& row) const {
    std::string word = text(row, "use");
    for (char& c : word) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    if (word.empty()) return std::nullopt;
    for (const ControlUse known : {ControlUse::control, ControlUse::check, ControlUse::spot})
      if (word == describe(known)) return known;
    throw Error(ErrorKind::input, table_.place(row), "has the use '" + word + "', which there is not",
                "write control, check or spot");
  }

 private:
  void by_choice(const std::vector<std::string>& columns) {
    for (std::size_t i = 0; i < columns.size(); ++i) {
      if (std::find(kColumns.begin(), kColumns.end(), columns[i]) == kColumns.end())
        throw Error(ErrorKind::usage, "column '" + columns[i] + "'", "is none that is known",
                    "choose from " + listed(kColumns));
      if (columns[i] != "-" && !at_.emplace(columns[i], i).second)
        throw Error(ErrorKind::usage, "column '" + columns[i] + "'", "is given twice", "each once");
    }
  }
  void by_header(bool of_photo, const std::vector<std::string>& needed) {
    std::string units;
    for (std::size_t i = 0; i < table_.header.size(); ++i) {
      std::string meaning = meaning_of_heading(table_.header[i], of_photo, units);
      // "photo" and "name" of tables whose things are photos, or ends.
      if (meaning == "name" && std::find(needed.begin(), needed.end(), "photo") != needed.end() && !of_photo)
        meaning = "photo";
      if (meaning.empty()) continue;
      at_.emplace(meaning, i);
      if (meaning == "east") units_ = units;
    }
  }
  [[noreturn]] void missing(const std::string& name) const {
    throw Error(
        ErrorKind::input, table_.file.string(),
        fmt::format("has no column for {} that is understood; its header reads: {}", name, listed(table_.header)),
        "say what the columns are, as --columns name,east,north,height; - passes one over");
  }
  CsvTable table_;
  std::map<std::string, std::size_t> at_;
  std::string units_;
};

// Names are of one thing each.
template <class Row, class Key>
void check_once(const CsvTable& table, const std::vector<Row>& rows, const Key& key, const char* what) {
  std::map<std::string, int> seen;
  for (const Row& row : rows)
    if (const auto [at, fresh] = seen.emplace(key(row), row.line); !fresh)
      throw Error(ErrorKind::input, fmt::format("{}, line {}", table.file.string(), row.line),
                  fmt::format("has {} '{}' again, which stands in line {}", what, key(row), at->second),
                  "give each another name, or take one out");
}

std::string cell(const std::string& text) {
  if (text.find_first_of(",;\"\t \n#") == std::string::npos) return text;
  std::string quoted = "\"";
  for (const char c : text) quoted += c == '"' ? "\"\"" : std::string(1, c);
  return quoted + '"';
}

std::string place_cell(double value) {
  return std::isfinite(value) ? fmt::format("{}", value) : "";
}

std::string sigma_cell(double sigma) {
  return sigma > 0 ? fmt::format("{}", sigma) : "";
}

}  // namespace

ControlPointTable read_control_points(const fs::path& file, const std::vector<std::string>& columns) {
  const Columns table(file, columns, {"name", "east", "north", "height", "sigma_plan", "sigma_height", "use"},
                      {"name", "east", "north", "height"});
  ControlPointTable read;
  read.units = table.units();
  for (const CsvRow& row : table.table().rows) {
    read.points.push_back(
        {row.line, table.needed_text(row, "name"), table.place(row), table.sigmas(row), table.use(row)});
    const ControlPointRow& point = read.points.back();
    const bool plan = point.place.head<2>().allFinite(), height = std::isfinite(point.place.z());
    if (point.place.head<2>().array().isNaN().any() && !point.place.head<2>().array().isNaN().all())
      throw Error(ErrorKind::input, table.table().place(row), "has one of east and north alone",
                  "give both, or neither");
    if (!plan && !height && point.use != ControlUse::spot)
      throw Error(ErrorKind::input, table.table().place(row), "has no coordinates",
                  "fill them in, or write spot as its use");
  }
  check_once(
      table.table(), read.points, [](const ControlPointRow& p) { return p.name; }, "the point");
  return read;
}

std::vector<MarkRow> read_marks(const fs::path& file, const std::vector<std::string>& columns) {
  const Columns table(file, columns, {"photo", "point", "x", "y", "sigma"}, {"photo", "point", "x", "y"});
  std::vector<MarkRow> marks;
  for (const CsvRow& row : table.table().rows)
    marks.push_back({row.line,
                     table.needed_text(row, "photo"),
                     table.needed_text(row, "point"),
                     {table.number(row, "x"), table.number(row, "y")},
                     table.sigma(row, "sigma")});
  check_once(
      table.table(), marks, [](const MarkRow& m) { return m.point + "' in '" + m.photo; }, "the mark of");
  return marks;
}

std::vector<LengthRow> read_lengths(const fs::path& file, const std::vector<std::string>& columns) {
  const Columns table(file, columns, {"from", "to", "length", "sigma", "use"}, {"from", "to", "length"});
  std::vector<LengthRow> lengths;
  for (const CsvRow& row : table.table().rows) {
    lengths.push_back({row.line, table.needed_text(row, "from"), table.needed_text(row, "to"),
                       table.number(row, "length"), table.sigma(row, "sigma"), table.use(row)});
    const LengthRow& length = lengths.back();
    const auto bad = [&](const char* fault, const char* remedy) {
      throw Error(ErrorKind::input, table.table().place(row), fault, remedy);
    };
    if (!(length.length > 0)) bad("has a length that is not above 0", "give the distance between the two points");
    if (length.from == length.to) bad("has one point at both ends", "name two points");
    if (length.use == ControlUse::spot) bad("has the use 'spot', which is for points", "write control or check");
  }
  return lengths;
}

std::vector<PositionRow> read_positions(const fs::path& file, const std::vector<std::string>& columns) {
  const Columns table(file, columns, {"photo", "east", "north", "height", "sigma_plan", "sigma_height"},
                      {"photo", "east", "north", "height"});
  std::vector<PositionRow> positions;
  for (const CsvRow& row : table.table().rows) {
    positions.push_back({row.line, table.needed_text(row, "photo"), table.place(row), table.sigmas(row)});
    if (!positions.back().place.allFinite())
      throw Error(ErrorKind::input, table.table().place(row), "has no whole position",
                  "give east, north and height, or take the line out");
  }
  check_once(
      table.table(), positions, [](const PositionRow& p) { return p.photo; }, "the photo");
  return positions;
}

std::string text_of_control_points(const std::vector<ControlPointRow>& points) {
  std::string text = "name,east,north,height,sigma_east,sigma_north,sigma_height,use\n";
  for (const ControlPointRow& p : points)
    text += fmt::format("{},{},{},{},{},{},{},{}\n", cell(p.name), place_cell(p.place.x()), place_cell(p.place.y()),
                        place_cell(p.place.z()), sigma_cell(p.sigma.x()), sigma_cell(p.sigma.y()),
                        sigma_cell(p.sigma.z()), p.use ? describe(*p.use) : "");
  return text;
}

std::string text_of_marks(const std::vector<MarkRow>& marks) {
  std::string text = "photo,point,x,y,sigma\n";
  for (const MarkRow& m : marks)
    text +=
        fmt::format("{},{},{},{},{}\n", cell(m.photo), cell(m.point), m.pixel.x(), m.pixel.y(), sigma_cell(m.sigma_px));
  return text;
}

std::string text_of_lengths(const std::vector<LengthRow>& lengths) {
  std::string text = "from,to,length,sigma,use\n";
  for (const LengthRow& l : lengths)
    text += fmt::format("{},{},{},{},{}\n", cell(l.from), cell(l.to), l.length, sigma_cell(l.sigma),
                        l.use ? describe(*l.use) : "");
  return text;
}

std::string text_of_positions(const std::vector<PositionRow>& positions) {
  std::string text = "photo,east,north,height,sigma_east,sigma_north,sigma_height\n";
  for (const PositionRow& p : positions)
    text += fmt::format("{},{},{},{},{},{},{}\n", cell(p.photo), p.place.x(), p.place.y(), p.place.z(),
                        sigma_cell(p.sigma.x()), sigma_cell(p.sigma.y()), sigma_cell(p.sigma.z()));
  return text;
}

}  // namespace icefield
