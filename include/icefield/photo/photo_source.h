// Where photos come from.
#pragma once
#include "icefield/base/index.h"
#include "icefield/photo/filter.h"
#include "icefield/photo/image.h"

namespace icefield {

// The photos of a job by their place in its list: files of a folder, or whatever gives pictures. May be called from
// several threads. Errors of what cannot be read are Error(input).
class PhotoSource {
 public:
  virtual ~PhotoSource() = default;
  virtual ImageU8 load(PhotoIndex photo) = 0;
  virtual ImageF grey(PhotoIndex photo) { return to_grey(load(photo)); }  // 0 to 1, with all the depth that there is
  virtual ImageU8 mask(PhotoIndex) { return {}; }  // of the photo's size, 0 where pixels take no part; empty: none
  virtual double sharpness(PhotoIndex) const { return 0; }  // to be compared with that of other photos; 0: not known
};

}  // namespace icefield
