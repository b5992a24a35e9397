#include "icefield/io/photo_file.h"

#include <OpenImageIO/filesystem.h>
#include <OpenImageIO/imageio.h>
#include <OpenImageIO/tiffutils.h>
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstring>
#include <fstream>
#include <charconv>
#include <optional>
#include <set>
#include <span>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "icefield/photo/filter.h"
#include "src/io/photo_bytes.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr const char* kPhotoEndings[] = {".jpg", ".jpeg", ".png",  ".tif", ".tiff", ".heic", ".heif",
                                         ".hif", ".avif", ".webp", ".jp2", ".j2k",  ".exr"};
// Of cameras that take photos one by one.
constexpr const char* kRawEndings[] = {".3fr", ".arw", ".cr2", ".cr3", ".crw", ".dcr", ".dng", ".erf", ".fff",
                                       ".iiq", ".kdc", ".mef", ".mos", ".mrw", ".nef", ".nrw", ".orf", ".pef",
                                       ".raf", ".raw", ".rw2", ".rwl", ".sr2", ".srf", ".srw", ".x3f"};

std::string lower_ending(const fs::path& file) {
  std::string ending = file.extension().string();
  for (char& c : ending) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return ending;
}

[[noreturn]] void reject(const fs::path& file, const std::string& fault, const std::string& remedy) {
  throw Error(ErrorKind::input, file.string(), fault, remedy);
}

bool is_one_of(const std::string& ending, std::span<const char* const> endings) {
  return std::find(endings.begin(), endings.end(), ending) != endings.end();
}

// A file that is open for reading; a preview lives in memory as long as it is read.
struct OpenPhoto {
  std::string preview;
  std::unique_ptr<OIIO::Filesystem::IOMemReader> memory;
  std::unique_ptr<OIIO::ImageInput> input;
  std::string remark;
  const OIIO::ImageSpec& spec() const { return input->spec(); }
};

std::string all_bytes(const fs::path& file) {
  return read_file(file, std::size_t{4} << 30);
}

void check_size(const fs::path& file, const OIIO::ImageSpec& spec, const PhotoReadLimits& limits) {
  if (spec.width <= 0 || spec.height <= 0 || spec.depth > 1 || spec.nchannels < 1)
    reject(file, "states an impossible image size", "copy it again from the card");
  const double megapixels = 1e-6 * spec.width * spec.height;
  if (megapixels > limits.max_megapixels)
    reject(file,
           fmt::format("states a size of {} x {} ({:.0f} megapixels), over the limit of {:.0f}", spec.width,
                       spec.height, megapixels, limits.max_megapixels),
           "leave it out, or raise photo.max_megapixels if it is real");
}

// The preview of a RAW file, with the reason why it is taken; nothing where it has none.
std::optional<OpenPhoto> open_preview(const fs::path& file) {
  OpenPhoto photo;
  photo.preview = std::string(longest_jpeg(all_bytes(file)));
  if (photo.preview.empty()) return std::nullopt;
  photo.memory = std::make_unique<OIIO::Filesystem::IOMemReader>(photo.preview.data(), photo.preview.size());
  photo.input = OIIO::ImageInput::open("preview.jpg", nullptr, photo.memory.get());
  if (!photo.input) {
    (void)OIIO::geterror();
    return std::nullopt;
  }
  photo.remark = fmt::format("its RAW data cannot be read here; the camera's own preview of {}x{} px is used",
                             photo.spec().width, photo.spec().height);
  return photo;
}

OpenPhoto open_photo(const fs::path& file, const PhotoReadLimits& limits) {
  std::error_code error;
  if (!fs::exists(file, error)) reject(file, "does not exist", "check the path");
  if (fs::is_directory(file, error)) reject(file, "is a folder, not a photo", "name the photos in it");
  if (fs::file_size(file, error) == 0) reject(file, "is empty", "copy it again from the card");
  OpenPhoto photo;
  const bool raw = is_raw_photo(file);
  OIIO::ImageSpec how;
  how["raw:user_flip"] = 0;  // as stored
  how["oiio:UnassociatedAlpha"] = 1;
  photo.input = OIIO::ImageInput::open(file.string(), &how);
  if (!photo.input) {
    (void)OIIO::geterror();
    if (raw)
      if (auto preview = open_preview(file)) photo = std::move(*preview);
  }
  if (!photo.input)
    reject(file, "is no photo in a known format", "give JPEG, PNG, TIFF, HEIC, WebP, JPEG 2000, OpenEXR or RAW files");
  check_size(file, photo.spec(), limits);
  return photo;
}

// A JPEG that was cut short decodes to grey with no more than a warning, so its end is looked for.
void check_jpeg_end(const fs::path& file) {
  if (!jpeg_end(all_bytes(file))) reject(file, "ends too early (cut short)", "copy it again from the card");
}

float srgb_of_linear(float v) {
  v = std::clamp(v, 0.0f, 1.0f);
  return v <= 0.0031308f ? 12.92f * v : 1.055f * std::pow(v, 1 / 2.4f) - 0.055f;
}

// All channels up to four, in the type that is asked for.
template <class T>
Image<T> read_pixels(OpenPhoto photo, const fs::path& file, const PhotoReadLimits& limits) {
  const auto read = [&](OpenPhoto& from, Image<T>& image) {
    image = Image<T>(from.spec().width, from.spec().height, std::min(from.spec().nchannels, 4));
    return from.input->read_image(0, 0, 0, image.channels(), OIIO::BaseTypeFromC<T>::value, image.data().data());
  };
  if (photo.memory == nullptr && std::string_view(photo.input->format_name()) == "jpeg") check_jpeg_end(file);
  Image<T> image;
  if (read(photo, image)) return image;
  const std::string why = photo.input->geterror();
  if (is_raw_photo(file) && photo.memory == nullptr)
    if (auto preview = open_preview(file)) {
      check_size(file, preview->spec(), limits);
      if (read(*preview, image)) return image;
    }
  reject(file, "is damaged (" + why + ")", "copy it again from the card");
}

bool is_linear(const OIIO::ImageInput& input) {
  return std::string_view(input.format_name()) == "openexr";
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
  metadata.body =
      spec.get_string_attribute("Exif:BodySerialNumber", spec.get_string_attribute("raw:Exif:BodySerialNumber"));
  const double latitude = gps_degrees(spec, "GPS:Latitude", "GPS:LatitudeRef", 'S');
  const double longitude = gps_degrees(spec, "GPS:Longitude", "GPS:LongitudeRef", 'W');
  if (std::abs(latitude) <= 90 && std::abs(longitude) <= 180) {
    const double altitude = spec.get_float_attribute("GPS:Altitude", 0);
    const bool below = spec.get_int_attribute("GPS:AltitudeRef", 0) == 1;
    metadata.gps = GpsPosition{latitude, longitude, below ? -std::abs(altitude) : altitude};
    const double error = spec.get_float_attribute("GPS:HPositioningError", 0);
    if (error > 0 && error < 1e5) metadata.gps->horizontal_sigma_m = error;
  }
  // Pixels of the photo as it was taken for each unit of length; a file that was made smaller since has larger ones.
  const double resolution = spec.get_float_attribute("Exif:FocalPlaneXResolution", 0);
  const int unit = spec.get_int_attribute("Exif:FocalPlaneResolutionUnit", 2);
  const double unit_mm = unit == 2 ? 25.4 : unit == 3 ? 10 : unit == 4 ? 1 : unit == 5 ? 0.001 : 0;
  if (resolution > 0 && unit_mm > 0 && spec.width > 0) {
    const double taken = spec.get_int_attribute("Exif:PixelXDimension", spec.width);
    metadata.pixel_mm = unit_mm / resolution * (taken > 0 ? taken / spec.width : 1);
  }
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
  // The packaged writer of HEIC reads whole strides of its own, past the end of the last row.
  std::vector<T> with_room;
  const T* pixels = image.data().data();
  if (std::strcmp(output->format_name(), "heif") == 0) {
    constexpr std::size_t kRoom = 4096;
    with_room.reserve(image.data().size() + kRoom);
    with_room.assign(image.data().begin(), image.data().end());
    with_room.resize(image.data().size() + kRoom);
    pixels = with_room.data();
  }
  if (!output->open(file.string(), spec) || !output->write_image(OIIO::BaseTypeFromC<T>::value, pixels) ||
      !output->close()) {
    const std::string why = output->geterror();
    output.reset();
    std::error_code ignored;
    if (fs::is_regular_file(file, ignored)) fs::remove(file, ignored);
    cannot_write(file, why);
  }
}

}  // namespace

namespace {

// What flying cameras write beside EXIF, by the plain meaning of the names: height above the start, where the camera
// (not the craft) looks, how exact the position is.
void read_flight(const std::map<std::string, std::string>& values, PhotoMetadata& metadata) {
  const auto number = [&](std::initializer_list<const char*> names, double least,
                          double most) -> std::optional<double> {
    for (const char* name : names) {
      const auto found = values.find(name);
      if (found == values.end()) continue;
      const char* begin = found->second.c_str() + (found->second.starts_with("+") ? 1 : 0);
      double value = 0;
      const auto [end, error] = std::from_chars(begin, found->second.c_str() + found->second.size(), value);
      (void)end;
      if (error == std::errc() && value >= least && value <= most) return value;
    }
    return std::nullopt;
  };
  if (const auto height = number({"RelativeAltitude"}, -10000, 100000)) metadata.height_above_start_m = height;
  const auto yaw = number({"GimbalYawDegree", "Yaw"}, -360, 360),
             pitch = number({"GimbalPitchDegree", "Pitch"}, -180, 180);
  if (yaw && !metadata.view_azimuth_deg) metadata.view_azimuth_deg = *yaw < 0 ? *yaw + 360 : *yaw;
  // Of a gimbal level is 0 and straight down -90; beyond that the camera looks backwards.
  if (pitch && !metadata.view_elevation_deg && std::abs(*pitch) <= 90) metadata.view_elevation_deg = pitch;
  if (!metadata.gps) return;
  const auto x = number({"RtkStdLon", "GPSXYAccuracy"}, 1e-6, 1e5),
             y = number({"RtkStdLat", "GPSXYAccuracy"}, 1e-6, 1e5);
  if (x && y) metadata.gps->horizontal_sigma_m = std::sqrt(0.5 * (*x * *x + *y * *y));
  if (const auto z = number({"RtkStdHgt", "GPSZAccuracy"}, 1e-6, 1e5)) metadata.gps->vertical_sigma_m = *z;
}

// The beginning of a file, where metadata stand.
std::string head_of(const fs::path& file) {
  std::ifstream in(file, std::ios::binary);
  std::string head(std::size_t{1} << 20, '\0');
  in.read(head.data(), static_cast<std::streamsize>(head.size()));
  head.resize(static_cast<std::size_t>(in.gcount()));
  return head;
}

}  // namespace

bool is_raw_photo(const fs::path& file) {
  return is_one_of(lower_ending(file), kRawEndings);
}

PhotoMetadata read_photo_metadata(const fs::path& file, const PhotoReadLimits& limits) {
  OpenPhoto photo = open_photo(file, limits);
  OIIO::ImageSpec spec = photo.spec();
  if (std::string_view(photo.input->format_name()) == "webp")
    if (const std::string bytes = all_bytes(file); !webp_exif(bytes).empty())
      OIIO::decode_exif(OIIO::string_view(webp_exif(bytes).data(), webp_exif(bytes).size()), spec);
  PhotoMetadata metadata = metadata_of(spec);
  metadata.remark = photo.remark;
  read_flight(xmp_values(head_of(file)), metadata);
  return metadata;
}

ImageU8 read_photo(const fs::path& file, const PhotoReadLimits& limits) {
  OpenPhoto photo = open_photo(file, limits);
  if (!is_linear(*photo.input)) return read_pixels<std::uint8_t>(std::move(photo), file, limits);
  const ImageF light = read_pixels<float>(std::move(photo), file, limits);
  ImageU8 image(light.width(), light.height(), light.channels());
  for (std::size_t i = 0; i < image.data().size(); ++i)
    image.data()[i] = static_cast<std::uint8_t>(std::lround(255 * srgb_of_linear(light.data()[i])));
  return image;
}

ImageF read_photo_grey(const fs::path& file, const PhotoReadLimits& limits) {
  OpenPhoto photo = open_photo(file, limits);
  if (photo.spec().format.basesize() == 1) return to_grey(read_pixels<std::uint8_t>(std::move(photo), file, limits));
  const bool linear = is_linear(*photo.input);
  ImageF light = read_pixels<float>(std::move(photo), file, limits);
  for (float& v : light.data()) v = linear ? srgb_of_linear(v) : std::clamp(v, 0.0f, 1.0f);
  return to_grey(light);
}

void write_photo(const fs::path& file, const ImageU8& image, const PhotoMetadata& metadata, int quality) {
  OIIO::ImageSpec spec(image.width(), image.height(), image.channels(), OIIO::TypeDesc::UINT8);
  if (lower_ending(file) != ".png") spec["Orientation"] = metadata.display_rotation;
  const std::string ending = lower_ending(file);
  if (ending == ".jpg" || ending == ".jpeg") spec["compression"] = fmt::format("jpeg:{}", quality);
  if (ending == ".heic" || ending == ".webp") spec["compression"] = fmt::format("{}:{}", ending.substr(1), quality);
  if (ending == ".png" || ending == ".tif" || ending == ".tiff") spec["compression"] = "zip";
  if (!metadata.make.empty()) spec["Make"] = metadata.make;
  if (!metadata.model.empty()) spec["Model"] = metadata.model;
  if (!metadata.lens.empty()) spec["Exif:LensModel"] = metadata.lens;
  if (!metadata.body.empty()) spec["Exif:BodySerialNumber"] = metadata.body;
  if (metadata.pixel_mm > 0) {
    spec["Exif:FocalPlaneXResolution"] = spec["Exif:FocalPlaneYResolution"] =
        static_cast<float>(10 / metadata.pixel_mm);
    spec["Exif:FocalPlaneResolutionUnit"] = 3;  // centimetres
  }
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
    spec["GPS:Altitude"] = static_cast<float>(std::abs(metadata.gps->altitude_m));
    spec["GPS:AltitudeRef"] = metadata.gps->altitude_m < 0 ? 1 : 0;
  }
  if (metadata.view_azimuth_deg) {
    spec["GPS:ImgDirectionRef"] = "T";
    spec["GPS:ImgDirection"] = static_cast<float>(*metadata.view_azimuth_deg);
  }
  if (metadata.view_elevation_deg) spec["Exif:CameraElevationAngle"] = static_cast<float>(*metadata.view_elevation_deg);
  write_pixels(file, image, spec);
}

void write_moving_picture(const fs::path& file, std::span<const ImageU8> pictures, double pictures_per_second) {
  const auto same = [&](const ImageU8& picture) {
    return picture.width() == pictures[0].width() && picture.height() == pictures[0].height() &&
           picture.channels() == 3;
  };
  if (pictures.empty() || !std::all_of(pictures.begin(), pictures.end(), same) || !(pictures_per_second > 0))
    throw Error(ErrorKind::usage, file.string(), "is asked for without pictures, or with pictures of several sizes",
                "give RGB pictures of one size");
  OIIO::ImageSpec spec(pictures[0].width(), pictures[0].height(), 3, OIIO::TypeDesc::UINT8);
  // In hundredths of a second, as the format counts.
  const int rate[2] = {static_cast<int>(std::lround(100 * pictures_per_second)), 100};
  spec.attribute("FramesPerSecond", OIIO::TypeDesc(OIIO::TypeDesc::INT, OIIO::TypeDesc::VEC2, OIIO::TypeDesc::RATIONAL),
                 rate);
  spec.attribute("oiio:Movie", 1);
  std::vector<unsigned char> bytes;
  OIIO::Filesystem::IOVecOutput memory(bytes);
  auto output = OIIO::ImageOutput::create(file.string());
  const std::vector<OIIO::ImageSpec> specs(pictures.size(), spec);
  bool good = output && output->set_ioproxy(&memory) &&
              output->open(file.string(), static_cast<int>(specs.size()), specs.data());
  for (std::size_t i = 0; good && i < pictures.size(); ++i) {
    if (i > 0) good = output->open(file.string(), spec, OIIO::ImageOutput::AppendSubimage);
    good = good && output->write_image(OIIO::TypeDesc::UINT8, pictures[i].data().data());
  }
  good = good && output->close();
  if (!good)
    throw Error(ErrorKind::resource, file.string(),
                "cannot be written: " + (output ? output->geterror() : OIIO::geterror()),
                "name a .gif that can be written");
  write_file(file, {reinterpret_cast<const char*>(bytes.data()), bytes.size()});
}

void write_float_image(const fs::path& file, const ImageF& image) {
  OIIO::ImageSpec spec(image.width(), image.height(), image.channels(), OIIO::TypeDesc::FLOAT);
  spec.attribute("compression", "zip");
  write_pixels(file, image, spec);
}

ImageF read_float_image(const fs::path& file, const PhotoReadLimits& limits) {
  return read_pixels<float>(open_photo(file, limits), file, limits);
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
    const auto is_survey = [&](const fs::path& folder) { return fs::exists(folder / "survey.toml", error); };
    const bool own = is_survey(source);
    fs::recursive_directory_iterator entry(source, fs::directory_options::skip_permission_denied);
    for (; entry != fs::recursive_directory_iterator(); ++entry) {
      const fs::path& path = entry->path();
      if (fs::is_directory(path, error)) {
        const bool kept = own && entry.depth() == 0 && (path.filename() == "work" || path.filename() == "results");
        if (kept || is_survey(path)) entry.disable_recursion_pending();
        continue;
      }
      const std::string ending = lower_ending(path);
      if (is_one_of(ending, kPhotoEndings) || is_one_of(ending, kRawEndings)) inside.push_back(path);
    }
    std::sort(inside.begin(), inside.end(),
              [](const fs::path& a, const fs::path& b) { return natural_less(a.string(), b.string()); });
    for (fs::path& file : inside)
      if (seen.insert(fs::weakly_canonical(file)).second) files.push_back(std::move(file));
  }
  return files;
}

}  // namespace icefield
