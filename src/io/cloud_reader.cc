#include "icefield/io/cloud_reader.h"

#include <array>
#include <fstream>
#include <limits>

#include "icefield/base/error.h"
#include "icefield/io/las_file.h"
#include "icefield/io/ply_file.h"
#include "src/io/file_writer.h"
#include "src/io/tile_table.h"

namespace icefield {
namespace {

void copy_bytes(const std::filesystem::path& from, const std::filesystem::path& to) {
  std::ifstream in(from, std::ios::binary);
  FileWriter out(to);
  std::string piece(1 << 20, '\0');
  while (in) {
    in.read(piece.data(), static_cast<std::streamsize>(piece.size()));
    out.append(std::string_view(piece.data(), static_cast<std::size_t>(in.gcount())));
  }
  if (!in.eof())
    throw Error(ErrorKind::resource, from.string(), "cannot be read to its end", "check the disk that it lies on");
  out.finish();
}

}  // namespace

std::vector<std::vector<double>> CloudReader::tile_table(const std::vector<std::string>&) {
  return {};
}

std::unique_ptr<CloudReader> open_cloud(const std::filesystem::path& file) {
  std::array<char, 4> first{};
  std::ifstream(file, std::ios::binary).read(first.data(), first.size());
  if (std::string_view(first.data(), first.size()) == "LASF") return std::make_unique<LasReader>(file);
  return std::make_unique<PlyReader>(file);
}

PointCloud read_cloud(const std::filesystem::path& file) {
  PointCloud cloud;
  open_cloud(file)->read(cloud, std::numeric_limits<std::size_t>::max());
  return cloud;
}

std::uint64_t copy_cloud(const std::filesystem::path& from, const std::filesystem::path& file, CloudFormat format,
                         double spacing) {
  const auto reader = open_cloud(from);
  PointCloud part;
  if (format == CloudFormat::ply && !reader->tile_table(tile_properties()).empty()) {
    copy_bytes(from, file);  // with its tiles
    return reader->points();
  }
  reader->read(part);  // with it the origin is known
  CloudContent content = reader->content();
  content.spacing = spacing;
  CloudWriter writer(file, format, content);
  do writer.add(part);
  while (reader->read(part));
  writer.finish();
  return writer.points();
}

}  // namespace icefield
