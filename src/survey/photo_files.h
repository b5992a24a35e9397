// The photos of a survey as a source of pictures.
#pragma once
#include "icefield/io/photo_file.h"
#include "icefield/photo/photo_source.h"
#include "icefield/survey/survey.h"

namespace icefield {

class PhotoFiles : public PhotoSource {
 public:
  PhotoFiles(const PhotoList& list, const PhotoReadLimits& limits) : list_(list), limits_(limits) {}
  ImageU8 load(PhotoIndex photo) override { return read_photo(list_.photos[photo.value].file, limits_); }
  ImageF grey(PhotoIndex photo) override { return read_photo_grey(list_.photos[photo.value].file, limits_); }
  ImageU8 mask(PhotoIndex photo) override;
  double sharpness(PhotoIndex photo) const override { return list_.photos[photo.value].scores.sharpness; }

 private:
  const PhotoList& list_;
  PhotoReadLimits limits_;
};

}  // namespace icefield
