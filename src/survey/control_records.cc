#include "src/survey/control_records.h"

namespace icefield {
namespace {

constexpr std::uint32_t kLayout = 1;

// One list of fields for both ways.
class Writing {
 public:
  template <class T>
  void one(T& value) {
    out_.put(value);
  }
  void one(std::string& value) { out_.put(value); }
  std::uint64_t count(std::uint64_t size) {
    out_.put(size);
    return size;
  }
  Bytes take() { return out_.take(); }

 private:
  ByteWriter out_;
};

class Reading {
 public:
  explicit Reading(const Bytes& bytes) : in_(bytes) {}
  template <class T>
  void one(T& value) {
    value = in_.get<T>();
  }
  void one(std::string& value) { value = in_.get_string(); }
  std::uint64_t count(std::uint64_t) {
    const auto size = in_.get<std::uint64_t>();
    constexpr std::uint64_t kMost = 100'000'000;
    if (size > kMost) throw Error(ErrorKind::input, "record", "is of another layout", "it is computed again");
    return size;
  }
  void end() const { in_.need_end(); }

 private:
  ByteReader in_;
};

template <class A, class... T>
void each(A& a, T&... values) {
  (a.one(values), ...);
}
template <class A, class V>
void vector(A& a, V& v) {
  for (Eigen::Index c = 0; c < v.size(); ++c) a.one(v[c]);
}
template <class A>
void size(A& a, std::size_t& value) {
  std::uint64_t wide = value;
  a.one(wide);
  value = wide;
}

template <class A>
void fields(A& a, PointReport& r) {
  each(a, r.used, r.located, r.error_px, r.deviation, r.checked, r.fault);
  size(a, r.marks), size(a, r.marks_used);
  vector(a, r.position), vector(a, r.sigma), vector(a, r.error), vector(a, r.expected);
}
template <class A>
void fields(A& a, MarkReport& r) {
  each(a, r.in_block, r.used, r.deviation, r.fault);
  vector(a, r.residual_px);
}
template <class A>
void fields(A& a, LengthReport& r) {
  each(a, r.used, r.known, r.length, r.error, r.expected, r.fault);
}
template <class A>
void fields(A& a, FixReport& r) {
  each(a, r.in_block, r.used, r.deviation, r.fault);
  vector(a, r.error), vector(a, r.expected);
}
template <class A>
void fields(A& a, ControlGroup& r) {
  each(a, r.what, r.units, r.rms, r.expected, r.redundancy, r.factor);
  size(a, r.count);
}
template <class A>
void fields(A& a, std::string& text) {
  a.one(text);
}
template <class A>
void fields(A& a, SurveyedPoint& p) {
  each(a, p.name, p.use);
  vector(a, p.position), vector(a, p.sigma);
}
template <class A>
void fields(A& a, Mark& m) {
  each(a, m.photo.value, m.point, m.sigma_px, m.kind);
  vector(a, m.pixel);
}
template <class A>
void fields(A& a, KnownLength& l) {
  each(a, l.first, l.second, l.length, l.sigma, l.use);
}
template <class A>
void fields(A& a, PhotoFix& f) {
  each(a, f.photo.value, f.stated);
  vector(a, f.position), vector(a, f.sigma);
}
template <class A, class T>
void list(A& a, std::vector<T>& values) {
  values.resize(a.count(values.size()));
  for (T& value : values) fields(a, value);
}
template <class A>
void fields(A& a, Georeferenced& g) {
  each(a, g.outcome, g.done, g.fix_factor, g.fitted.scale);
  for (int c = 0; c < 4; ++c) a.one(g.fitted.rotation.coeffs()[c]);
  vector(a, g.fitted.translation), vector(a, g.fix_shift), vector(a, g.fix_shift_sigma);
  size(a, g.control_used), size(a, g.fixes_used), size(a, g.lengths_used);
  list(a, g.points), list(a, g.marks), list(a, g.lengths), list(a, g.fixes), list(a, g.groups), list(a, g.remarks);
}
template <class A>
void fields(A& a, GeoreferenceReport& r) {
  std::uint32_t layout = kLayout;
  a.one(layout);
  if (layout != kLayout) throw Error(ErrorKind::input, "record", "is of another layout", "it is computed again");
  each(a, r.datum.crs, r.datum.vertical_crs, r.datum.units, r.datum.axes, r.crs_name);
  vector(a, r.origin), vector(a, r.control.antenna);
  list(a, r.control.points), list(a, r.control.marks), list(a, r.control.lengths), list(a, r.control.fixes);
  list(a, r.blocks), list(a, r.remarks);
}

}  // namespace

Bytes georeference_record(GeoreferenceReport& report) {
  Writing out;
  fields(out, report);
  return out.take();
}

GeoreferenceReport read_georeference_record(const Bytes& bytes) {
  Reading in(bytes);
  GeoreferenceReport report;
  fields(in, report);
  in.end();
  return report;
}

}  // namespace icefield
