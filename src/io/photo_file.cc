#include "icefield/io/photo_file.h"

#include <OpenImageIO/imageio.h>
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <fstream>
#include <set>

#include "icefield/base/error.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr const char* kPhotoEndings[] = {".jpg", ".jpeg", ".png", ".tif", ".tiff"};

std::string lower_ending(const fs::path& file) {
  std::string ending = file.extension().string();
  for (char& c : ending) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return ending;
}

[[noreturn]] void reject(const fs::path& file, const std::string& fault, const std::string& remedy) {
  throw Error(ErrorKind::input, file.string(), fault, remedy);
}

std::unique_ptr<OIIO::ImageInput> open_photo(const fs::path& file, const PhotoReadLimits& limits) {
  std::error_code error;
  if (!fs::exists(file, error)) reject(file, "does not exist", "check the path");
  if (fs::is_directory(file, error)) reject(file, "is a folder, not a photo", "name the photos in it");
  if (fs::file_size(file, error) == 0) reject(file, "is empty", "copy it again from the card");
  auto input = OIIO::ImageInput::open(file.string());
  if (!input) {
    (void)OIIO::geterror();
    reject(file, "is no photo in a known format", "give JPEG, PNG or TIFF files");
  }
  const OIIO::ImageSpec& spec = input->spec();
  if (spec.width <= 0 || spec.height <= 0 || spec.depth > 1 || spec.nchannels < 1)
    reject(file, "states an impossible image size", "copy it again from the card");
  const double megapixels = 1e-6 * spec.width * spec.height;
  if (megapixels > limits.max_megapixels)
    reject(file,
           fmt::format("states a size of {} x {} ({:.0f} megapixels), over the limit of {:.0f}", spec.width,
                       spec.height, megapixels, limits.max_megapixels),
           "leave it out, or raise photo.max_megapixels if it is real");
  return input;
}

// A JPEG that was cut short decodes to grey with no more than a warning, so its end marker is looked for.
void check_jpeg_end(const fs::path& file) {
  std::ifstream in(file, std::ios::binary);
  in.seekg(0, std::ios::end);
  const std::streamoff size = in.tellg();
  const std::streamoff tail = std::min<std::streamoff>(size, 65536);
  std::string bytes(static_cast<std::size_t>(tail), '\0');
  in.seekg(size - tail);
  in.read(bytes.data(), tail);
  if (bytes.rfind("\xff\xd9") == std::string::npos)
    reject(file, "ends too early (cut short)", "copy it again from the card");
}

double gps_degrees(const OIIO::ImageSpec& spec, const char* name, const char* reference_name, char negative) {
  const OIIO::ParamValue* value = spec.find_attribute(name);
  if (!value) return NAN;
  double degrees = 0;
  if (value->type().basetype == OIIO::TypeDesc::FLOAT && value->type().numelements() * value->nvalues() >= 3) {
    const float* f = static_cast<const float*>(value->data());
    degrees = f[0] + f[1] / 60.0 + f[2] / 3600.0;
  } else if (value->type() == OIIO::TypeFloat) {
    degrees = value->get_float();
  } else {
    return NAN;
  }
  const std::string reference = spec.get_string_attribute(reference_name);
  return !reference.empty() && reference[0] == negative ? -degrees : degrees;
}

PhotoMetadata metadata_of(const OIIO::ImageSpec& spec) {
  PhotoMetadata metadata;
  metadata.width = spec.width;
  metadata.height = spec.height;
  metadata.display_rotation = spec.get_int_attribute("Orientation", 1);
  metadata.make = spec.get_string_attribute("Make");
  metadata.model = spec.get_string_attribute("Model");
  metadata.lens = spec.get_string_attribute("Exif:LensModel");
  metadata.time = spec.get_string_attribute("Exif:DateTimeOriginal", spec.get_string_attribute("DateTime"));
  const auto positive = [](double v) { return std::isfinite(v) && v > 0 && v < 1e5 ? v : 0.0; };
  metadata.focal_mm = positive(spec.get_float_attribute("Exif:FocalLength", 0));
  metadata.focal_35mm = positive(spec.get_int_attribute("Exif:FocalLengthIn35mmFilm", 0));
  const double latitude = gps_degrees(spec, "GPS:Latitude", "GPS:LatitudeRef", 'S');
  const double longitude = gps_degrees(spec, "GPS:Longitude", "GPS:LongitudeRef", 'W');
  if (std::abs(latitude) <= 90 && std::abs(longitude) <= 180)
    metadata.gps = GpsPosition{latitude, longitude, spec.get_float_attribute("GPS:Altitude", 0)};
  const auto angle = [&](const char* name, double least, double most) -> std::optional<double> {
    const float value = spec.get_float_attribute(name, NAN);
    return value >= least && value <= most ? std::optional<double>(value) : std::nullopt;
  };
  metadata.view_azimuth_deg = angle("GPS:ImgDirection", 0, 360);
  metadata.view_elevation_deg = angle("Exif:CameraElevationAngle", -90, 90);
  return metadata;
}

[[noreturn]] void cannot_write(const fs::path& file, const std::string& why) {
  throw Error(ErrorKind::resource, file.string(), "cannot be written" + (why.empty() ? "" : " (" + why + ")"),
              "check free space and permissions");
}

template <class T>
void write_pixels(const fs::path& file, const Image<T>& image, OIIO::ImageSpec spec) {
  auto output = OIIO::ImageOutput::create(file.string());
  if (!output) cannot_write(file, OIIO::geterror());
  if (!output->open(file.string(), spec) || !output->write_image(OIIO::BaseTypeFromC<T>::value, image.data().data()) ||
      !output->close()) {
    const std::string why = output->geterror();
    output.reset();
    std::error_code ignored;
    if (fs::is_regular_file(file, ignored)) fs::remove(file, ignored);
    cannot_write(file, why);
  }
}

}  // namespace

PhotoMetadata read_photo_metadata(const fs::path& file, const PhotoReadLimits& limits) {
  return metadata_of(open_photo(file, limits)->spec());
}

ImageU8 read_photo(const fs::path& file, const PhotoReadLimits& limits) {
  auto input = open_photo(file, limits);
  if (std::string_view(input->format_name()) == "jpeg") check_jpeg_end(file);
  const OIIO::ImageSpec spec = input->spec();
  const int channels = std::min(spec.nchannels, 4);
  ImageU8 image(spec.width, spec.height, channels);
  if (!input->read_image(0, 0, 0, channels, OIIO::TypeDesc::UINT8, image.data().data()))
    reject(file, "is damaged (" + input->geterror() + ")", "copy it again from the card");
  return image;
}

void write_photo(const fs::path& file, const ImageU8& image, const PhotoMetadata& metadata, int quality) {
  OIIO::ImageSpec spec(image.width(), image.height(), image.channels(), OIIO::TypeDesc::UINT8);
  if (lower_ending(file) != ".png") spec["Orientation"] = metadata.display_rotation;
  spec.attribute("compression", lower_ending(file).starts_with(".jp") ? fmt::format("jpeg:{}", quality) : "zip");
  if (!metadata.make.empty()) spec["Make"] = metadata.make;
  if (!metadata.model.empty()) spec["Model"] = metadata.model;
  if (!metadata.lens.empty()) spec["Exif:LensModel"] = metadata.lens;
  if (!metadata.time.empty()) {
    spec["DateTime"] = metadata.time;
    spec["Exif:DateTimeOriginal"] = metadata.time;
  }
  if (metadata.focal_mm > 0) spec["Exif:FocalLength"] = static_cast<float>(metadata.focal_mm);
  if (metadata.focal_35mm > 0) spec["Exif:FocalLengthIn35mmFilm"] = static_cast<int>(std::lround(metadata.focal_35mm));
  if (metadata.gps) {
    const auto put_angle = [&](const char* name, double degrees) {
      degrees = std::abs(degrees);
      const double whole = std::floor(degrees), minutes = std::floor((degrees - whole) * 60);
      const float parts[3] = {static_cast<float>(whole), static_cast<float>(minutes),
                              static_cast<float>(((degrees - whole) * 60 - minutes) * 60)};
      spec.attribute(name, OIIO::TypeDesc(OIIO::TypeDesc::FLOAT, 3), parts);
    };
    put_angle("GPS:Latitude", metadata.gps->latitude_deg);
    put_angle("GPS:Longitude", metadata.gps->longitude_deg);
    spec["GPS:LatitudeRef"] = metadata.gps->latitude_deg < 0 ? "S" : "N";
    spec["GPS:LongitudeRef"] = metadata.gps->longitude_deg < 0 ? "W" : "E";
    spec["GPS:Altitude"] = static_cast<float>(metadata.gps->altitude_m);
  }
  if (metadata.view_azimuth_deg) {
    spec["GPS:ImgDirectionRef"] = "T";
    spec["GPS:ImgDirection"] = static_cast<float>(*metadata.view_azimuth_deg);
  }
  if (metadata.view_elevation_deg) spec["Exif:CameraElevationAngle"] = static_cast<float>(*metadata.view_elevation_deg);
  write_pixels(file, image, spec);
}

void write_float_image(const fs::path& file, const ImageF& image) {
  OIIO::ImageSpec spec(image.width(), image.height(), image.channels(), OIIO::TypeDesc::FLOAT);
  spec.attribute("compression", "zip");
  write_pixels(file, image, spec);
}

ImageF read_float_image(const fs::path& file, const PhotoReadLimits& limits) {
  auto input = open_photo(file, limits);
  ImageF image(input->spec().width, input->spec().height, std::min(input->spec().nchannels, 4));
  if (!input->read_image(0, 0, 0, image.channels(), OIIO::TypeDesc::FLOAT, image.data().data()))
    reject(file, "is damaged (" + input->geterror() + ")", "make it again");
  return image;
}

bool natural_less(const std::string& a, const std::string& b) {
  std::size_t i = 0, j = 0;
  const auto digit = [](char c) { return std::isdigit(static_cast<unsigned char>(c)) != 0; };
  while (i < a.size() && j < b.size()) {
    if (digit(a[i]) && digit(b[j])) {
      while (i < a.size() && a[i] == '0') ++i;
      while (j < b.size() && b[j] == '0') ++j;
      const std::size_t i0 = i, j0 = j;
      while (i < a.size() && digit(a[i])) ++i;
      while (j < b.size() && digit(b[j])) ++j;
      if (i - i0 != j - j0) return i - i0 < j - j0;
      if (const int order = a.compare(i0, i - i0, b, j0, j - j0); order != 0) return order < 0;
    } else {
      const int ca = std::tolower(static_cast<unsigned char>(a[i])),
                cb = std::tolower(static_cast<unsigned char>(b[j]));
      if (ca != cb) return ca < cb;
      ++i, ++j;
    }
  }
  if ((a.size() - i) != (b.size() - j)) return a.size() - i < b.size() - j;
  return a < b;
}

std::vector<fs::path> find_photo_files(const std::vector<fs::path>& sources) {
  std::vector<fs::path> files;
  std::set<fs::path> seen;
  for (const fs::path& source : sources) {
    std::error_code error;
    if (!fs::exists(source, error)) reject(source, "does not exist", "check the path");
    if (!fs::is_directory(source)) {
      if (seen.insert(fs::weakly_canonical(source)).second) files.push_back(source);
      continue;
    }
    std::vector<fs::path> inside;
    for (const auto& entry : fs::recursive_directory_iterator(source, fs::directory_options::skip_permission_denied)) {
      const bool photo = std::find(std::begin(kPhotoEndings), std::end(kPhotoEndings), lower_ending(entry.path())) !=
                         std::end(kPhotoEndings);
      if (photo && !fs::is_directory(entry.path(), error)) inside.push_back(entry.path());
    }
    std::sort(inside.begin(), inside.end(),
              [](const fs::path& a, const fs::path& b) { return natural_less(a.string(), b.string()); });
    for (fs::path& file : inside)
      if (seen.insert(fs::weakly_canonical(file)).second) files.push_back(std::move(file));
  }
  return files;
}

}  // namespace icefield
