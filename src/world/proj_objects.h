// PROJ's objects, owned.
#pragma once
#include <Eigen/Core>
#include <memory>
#include <string>

#include <proj.h>

namespace icefield {

struct DestroyContext {
  void operator()(PJ_CONTEXT* context) const { proj_context_destroy(context); }
};
struct DestroyProj {
  void operator()(PJ* object) const { proj_destroy(object); }
};
using ProjContext = std::unique_ptr<PJ_CONTEXT, DestroyContext>;
using ProjObject = std::unique_ptr<PJ, DestroyProj>;

ProjContext make_proj_context();  // silent, without network
// A CRS by its id or WKT; null for what is none.
ProjObject make_proj_crs(PJ_CONTEXT* context, const std::string& text);
// The part of a CRS with two that is not about heights, or the CRS itself.
ProjObject horizontal_part(PJ_CONTEXT* context, const PJ* crs);
// x east, y north in degrees or the units of the CRS. Null where there is no way.
ProjObject make_proj_way(PJ_CONTEXT* context, const PJ* from, const PJ* to);

// The way back to the last digits: what a projection or a datum shift takes for its inverse may be off by tenths of a
// millimetre, smoothly, so that going there and back again shows by how much. Not finite where there is no way.
PJ_COORD inverse_of(PJ* way, const PJ_COORD& place);

}  // namespace icefield
