#include "src/io/page_codec.h"

#include <OpenImageIO/filesystem.h>
#include <OpenImageIO/imageio.h>
#include <fmt/format.h>

#include "icefield/base/error.h"

namespace icefield {

std::string encode_page(const ImageU8& page, PageFormat format, int quality) {
  const char* name = format == PageFormat::png ? "page.png" : "page.jpg";
  OIIO::ImageSpec spec(page.width(), page.height(), page.channels(), OIIO::TypeDesc::UINT8);
  if (format == PageFormat::jpeg) {
    spec["compression"] = fmt::format("jpeg:{}", quality);
    spec["jpeg:subsampling"] = "4:4:4";  // patches of other colours lie side by side
  }
  std::vector<unsigned char> bytes;
  OIIO::Filesystem::IOVecOutput memory(bytes);
  auto output = OIIO::ImageOutput::create(name);
  if (!output || !output->set_ioproxy(&memory) || !output->open(name, spec) ||
      !output->write_image(OIIO::TypeDesc::UINT8, page.data().data()) || !output->close())
    throw Error(ErrorKind::computation, name, "cannot be written: " + (output ? output->geterror() : OIIO::geterror()),
                "give another format of pages");
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

ImageU8 decode_page(std::string_view bytes, const std::string& subject, const PhotoReadLimits& limits) {
  const auto no = [&](const std::string& fault) {
    throw Error(ErrorKind::input, subject, fault, "give pages as JPEG or PNG");
  };
  const bool png = bytes.starts_with("\x89PNG"), jpeg = bytes.starts_with("\xff\xd8");
  if (!png && !jpeg) no("has a page that is no JPEG and no PNG");
  OIIO::Filesystem::IOMemReader memory(const_cast<char*>(bytes.data()), bytes.size());
  const char* name = png ? "page.png" : "page.jpg";
  auto input = OIIO::ImageInput::open(name, nullptr, &memory);
  if (!input) no("has a page that cannot be read: " + OIIO::geterror());
  const OIIO::ImageSpec& spec = input->spec();
  if (spec.width < 1 || spec.height < 1 || spec.nchannels < 1 || spec.nchannels > 4) no("has a page without pixels");
  const double megapixels = 1e-6 * spec.width * spec.height;
  if (megapixels > limits.max_megapixels)
    no(fmt::format("has a page of {:.0f} megapixels, more than {:.0f}", megapixels, limits.max_megapixels));
  ImageU8 whole(spec.width, spec.height, spec.nchannels);
  if (!input->read_image(0, 0, 0, -1, OIIO::TypeDesc::UINT8, whole.data().data()))
    no("has a page that ends too early or is damaged: " + input->geterror());
  if (whole.channels() == 3) return whole;
  ImageU8 rgb(whole.width(), whole.height(), 3);
  for (int y = 0; y < rgb.height(); ++y)
    for (int x = 0; x < rgb.width(); ++x)
      for (int c = 0; c < 3; ++c) rgb.at(x, y, c) = whole.at(x, y, whole.channels() < 3 ? 0 : c);
  return rgb;
}

}  // namespace icefield
