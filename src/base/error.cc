#include "icefield/base/error.h"

#include <utility>

namespace icefield {

Error::Error(ErrorKind kind, std::string subject, std::string fault, std::string remedy)
    : std::runtime_error(subject + ": " + fault + (remedy.empty() ? "" : "; " + remedy)),
      kind_(kind),
      subject_(std::move(subject)),
      fault_(std::move(fault)),
      remedy_(std::move(remedy)) {}

}  // namespace icefield
