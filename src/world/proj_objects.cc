#include "src/world/proj_objects.h"

namespace icefield {

ProjContext make_proj_context() {
  ProjContext context(proj_context_create());
  proj_log_level(context.get(), PJ_LOG_NONE);
  proj_context_set_enable_network(context.get(), 0);
  return context;
}

ProjObject make_proj_crs(PJ_CONTEXT* context, const std::string& text) {
  ProjObject made(proj_create(context, text.c_str()));
  if (made && !proj_is_crs(made.get())) made.reset();
  return made;
}

ProjObject horizontal_part(PJ_CONTEXT* context, const PJ* crs) {
  return ProjObject(proj_get_type(crs) == PJ_TYPE_COMPOUND_CRS ? proj_crs_get_sub_crs(context, crs, 0)
                                                               : proj_clone(context, crs));
}

ProjObject make_proj_way(PJ_CONTEXT* context, const PJ* from, const PJ* to) {
  const ProjObject way(proj_create_crs_to_crs_from_pj(context, from, to, nullptr, nullptr));
  return way ? ProjObject(proj_normalize_for_visualization(context, way.get())) : nullptr;
}

PJ_COORD inverse_of(PJ* way, const PJ_COORD& place) {
  const PJ_COORD first = proj_trans(way, PJ_INV, place);
  PJ_COORD best = first;
  for (int round = 0; round < 2; ++round) {
    const PJ_COORD there = proj_trans(way, PJ_INV, proj_trans(way, PJ_FWD, best));
    for (int c = 0; c < 3; ++c) best.v[c] += first.v[c] - there.v[c];
  }
  return best;
}

}  // namespace icefield
