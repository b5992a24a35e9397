#include "src/survey/records.h"

#include <fmt/format.h>

namespace icefield {

Bytes photo_record(const PhotoMetadata& m, const PhotoScores& scores, const std::string& fault) {
  ByteWriter out;
  out.put(m.width)
      .put(m.height)
      .put(m.display_rotation)
      .put(m.make)
      .put(m.model)
      .put(m.lens)
      .put(m.body)
      .put(m.focal_mm)
      .put(m.focal_35mm)
      .put(m.pixel_mm)
      .put(m.time)
      .put(m.remark);
  out.put(static_cast<std::uint8_t>(m.gps.has_value()));
  if (m.gps)
    out.put(m.gps->latitude_deg)
        .put(m.gps->longitude_deg)
        .put(m.gps->altitude_m)
        .put(m.gps->horizontal_sigma_m)
        .put(m.gps->vertical_sigma_m);
  for (const auto& value : {m.view_azimuth_deg, m.view_elevation_deg, m.height_above_start_m}) {
    out.put(static_cast<std::uint8_t>(value.has_value()));
    if (value) out.put(*value);
  }
  out.put(scores).put(fault);
  return out.take();
}

PhotoRecord read_photo_record(const Bytes& bytes) {
  ByteReader in(bytes);
  PhotoRecord record;
  PhotoMetadata& m = record.metadata;
  m.width = in.get<int>();
  m.height = in.get<int>();
  m.display_rotation = in.get<int>();
  m.make = in.get_string();
  m.model = in.get_string();
  m.lens = in.get_string();
  m.body = in.get_string();
  m.focal_mm = in.get<double>();
  m.focal_35mm = in.get<double>();
  m.pixel_mm = in.get<double>();
  m.time = in.get_string();
  m.remark = in.get_string();
  if (in.get<std::uint8_t>()) {
    m.gps.emplace();
    m.gps->latitude_deg = in.get<double>();
    m.gps->longitude_deg = in.get<double>();
    m.gps->altitude_m = in.get<double>();
    m.gps->horizontal_sigma_m = in.get<double>();
    m.gps->vertical_sigma_m = in.get<double>();
  }
  for (auto* value : {&m.view_azimuth_deg, &m.view_elevation_deg, &m.height_above_start_m})
    if (in.get<std::uint8_t>()) *value = in.get<double>();
  record.scores = in.get<PhotoScores>();
  record.fault = in.get_string();
  in.need_end();
  return record;
}

Bytes narrowed_record(const std::vector<Features>& copies) {
  ByteWriter out;
  out.put(static_cast<std::uint32_t>(copies.size()));
  for (const Features& copy : copies) out.put(features_to_bytes(copy));
  return out.take();
}

std::vector<Features> read_narrowed_record(const Bytes& bytes) {
  ByteReader in(bytes);
  std::vector<Features> copies;
  for (auto count = in.get<std::uint32_t>(); count > 0; --count)
    copies.push_back(features_from_bytes(in.get_array<std::byte>()));
  in.need_end();
  return copies;
}

Bytes pairs_record(const PairChoice& choice) {
  ByteWriter out;
  out.put(static_cast<std::uint64_t>(choice.looked_at)).put(static_cast<std::uint32_t>(choice.pairs.size()));
  for (const ProposedPair& pair : choice.pairs)
    out.put(pair.first.value).put(pair.second.value).put(pair.sources).put(static_cast<std::uint8_t>(pair.wide));
  return out.take();
}

PairChoice read_pairs_record(const Bytes& bytes) {
  ByteReader in(bytes);
  PairChoice choice;
  choice.looked_at = in.get<std::uint64_t>();
  for (auto count = in.get<std::uint32_t>(); count > 0; --count) {
    ProposedPair pair;
    pair.first = PhotoIndex(in.get<std::uint32_t>());
    pair.second = PhotoIndex(in.get<std::uint32_t>());
    pair.sources = in.get<std::uint8_t>();
    pair.wide = in.get<std::uint8_t>() != 0;
    choice.pairs.push_back(pair);
  }
  in.need_end();
  return choice;
}

namespace {
constexpr std::uint32_t kMatchReportLayout = 2;
}

Bytes match_report_record(const MatchReport& r) {
  ByteWriter out;
  out.put(fmt::format("{} features, {} of {} pairs verified, {} matches", r.features, r.verified, r.pairs, r.matches))
      .put(kMatchReportLayout);
  for (const std::size_t count : {r.photos, r.features, r.pairs, r.verified, r.matches, r.guided, r.looked_at, r.wide})
    out.put(static_cast<std::uint64_t>(count));
  out.put(r.tried_by_source).put(r.verified_by_source).put(r.by_geometry).put(r.by_fault);
  out.put(r.photo_features).put(r.photo_pairs).put(r.photo_matches);
  return out.take();
}

MatchReport read_match_report_record(const Bytes& bytes) {
  ByteReader in(bytes);
  const auto need = [](bool good) {
    if (!good) throw Error(ErrorKind::input, "record", "is of another layout", "it is computed again");
  };
  (void)in.get_string();
  need(in.get<std::uint32_t>() == kMatchReportLayout);
  MatchReport r;
  for (std::size_t* count :
       {&r.photos, &r.features, &r.pairs, &r.verified, &r.matches, &r.guided, &r.looked_at, &r.wide})
    *count = in.get<std::uint64_t>();
  r.tried_by_source = in.get<decltype(r.tried_by_source)>();
  r.verified_by_source = in.get<decltype(r.verified_by_source)>();
  r.by_geometry = in.get<decltype(r.by_geometry)>();
  r.by_fault = in.get<decltype(r.by_fault)>();
  r.photo_features = in.get_array<std::size_t>();
  r.photo_pairs = in.get_array<std::size_t>();
  r.photo_matches = in.get_array<std::size_t>();
  for (const std::size_t size : {r.photo_features.size(), r.photo_pairs.size(), r.photo_matches.size()})
    need(size == r.photos);
  in.need_end();
  return r;
}

Bytes orient_record(const OrientResult& result) {
  ByteWriter out;
  out.put(static_cast<std::uint32_t>(result.blocks.size()));
  for (const Block& block : result.blocks) out.put(block_to_bytes(block));
  out.put(static_cast<std::uint32_t>(result.unposed.size()));
  for (const UnposedPhoto& u : result.unposed) out.put(u.photo.value).put(u.reason);
  const OrientSummary& s = result.summary;
  out.put(s.outcome)
      .put(static_cast<std::uint64_t>(s.photos))
      .put(static_cast<std::uint64_t>(s.posed))
      .put(s.adjustments);
  for (const std::size_t n : {s.pairs, s.cut_by_turn, s.cut_by_direction, s.cut_as_twins})
    out.put(static_cast<std::uint64_t>(n));
  out.put(s.loops_closed).put(s.blocks_joined).put(s.held);
  out.put(static_cast<std::uint32_t>(result.doubtful.size()));
  for (const DoubtfulPhoto& d : result.doubtful) out.put(d.photo.value).put(d.reason);
  for (std::size_t b = 0; b < result.blocks.size(); ++b) {
    const BlockPrecision precision = b < result.precision.size() ? result.precision[b] : BlockPrecision{};
    out.put(static_cast<std::uint8_t>(precision.known))
        .put(precision.outcome)
        .put(precision.sigma_px)
        .put(precision.place_sigma)
        .put(precision.turn_sigma);
    out.put(static_cast<std::uint32_t>(precision.cameras.size()));
    for (const CameraUncertainty& camera : precision.cameras)
      out.put(camera.parameters)
          .put(std::vector<double>(camera.covariance.data(), camera.covariance.data() + camera.covariance.size()));
  }
  out.put(static_cast<std::uint32_t>(s.focal_search.size()));
  for (const std::string& line : s.focal_search) out.put(line);
  return out.take();
}

OrientResult read_orient_record(const Bytes& bytes) {
  ByteReader in(bytes);
  OrientResult result;
  for (auto count = in.get<std::uint32_t>(); count > 0; --count)
    result.blocks.push_back(block_from_bytes(in.get_array<std::byte>()));
  for (auto count = in.get<std::uint32_t>(); count > 0; --count) {
    UnposedPhoto u;
    u.photo.value = in.get<std::uint32_t>();
    u.reason = in.get_string();
    result.unposed.push_back(std::move(u));
  }
  OrientSummary& s = result.summary;
  s.outcome = in.get_string();
  s.photos = in.get<std::uint64_t>();
  s.posed = in.get<std::uint64_t>();
  s.adjustments = in.get<int>();
  for (std::size_t* n : {&s.pairs, &s.cut_by_turn, &s.cut_by_direction, &s.cut_as_twins}) *n = in.get<std::uint64_t>();
  s.loops_closed = in.get<int>();
  s.blocks_joined = in.get<int>();
  s.held = in.get_array<HeldParameter>();
  for (auto count = in.get<std::uint32_t>(); count > 0; --count) {
    DoubtfulPhoto d;
    d.photo.value = in.get<std::uint32_t>();
    d.reason = in.get_string();
    result.doubtful.push_back(std::move(d));
  }
  for (std::size_t b = 0; b < result.blocks.size(); ++b) {
    BlockPrecision precision;
    precision.known = in.get<std::uint8_t>() != 0;
    precision.outcome = in.get_string();
    precision.sigma_px = in.get<double>();
    precision.place_sigma = in.get_array<double>();
    precision.turn_sigma = in.get_array<double>();
    for (auto count = in.get<std::uint32_t>(); count > 0; --count) {
      CameraUncertainty camera;
      camera.parameters = in.get_array<int>();
      const auto values = in.get_array<double>();
      const auto n = static_cast<Eigen::Index>(camera.parameters.size());
      if (static_cast<std::size_t>(n * n) != values.size())
        throw Error(ErrorKind::input, "block", "is damaged", "run `icefield pose` again");
      camera.covariance = Eigen::Map<const Eigen::MatrixXd>(values.data(), n, n);
      precision.cameras.push_back(std::move(camera));
    }
    result.precision.push_back(std::move(precision));
  }
  for (auto count = in.get<std::uint32_t>(); count > 0; --count) s.focal_search.push_back(in.get_string());
  s.blocks = result.blocks.size();
  in.need_end();
  return result;
}

Bytes dense_record(const DenseSummary& s) {
  ByteWriter out;
  out.put(s.outcome)
      .put(static_cast<std::uint64_t>(s.maps))
      .put(static_cast<std::uint64_t>(s.points))
      .put(static_cast<std::uint64_t>(s.photos_without_neighbours))
      .put(static_cast<std::uint64_t>(s.photos_repeated))
      .put(static_cast<std::uint64_t>(s.tiles));
  out.put(s.filled_percent).put(s.median_views).put(s.few_views_percent).put(s.spacing);
  for (const std::size_t count : s.aside) out.put(static_cast<std::uint64_t>(count));
  out.put(static_cast<std::uint64_t>(s.fill.size()));
  for (const DenseSummary::PhotoFill& fill : s.fill) out.put(fill.photo.value).put(fill.percent);
  out.put(static_cast<std::uint64_t>(s.parts.size()));
  for (const DenseSummary::PhotoParts& photo : s.parts) {
    out.put(photo.photo.value).put(static_cast<std::uint8_t>(photo.reason));
    for (const std::size_t count : photo.parts) out.put(static_cast<std::uint32_t>(count));
  }
  return out.take();
}

Bytes mesh_record(const MeshReport& report) {
  ByteWriter out;
  const auto count = [&](std::size_t value) { out.put(static_cast<std::uint64_t>(value)); };
  const FitSurfaceSummary& f = report.fitted;
  out.put(f.outcome);
  out.put(report.cloud_points);
  for (const std::size_t v : {f.points, f.points_left_out, f.cells, static_cast<std::size_t>(f.levels), f.faces_closed,
                              f.pieces_left_out, static_cast<std::size_t>(f.normals_made)})
    count(v);
  out.put(f.spacing).put(f.trimmed_percent);
  const SharpenSummary& a = report.sharpened;
  out.put(a.outcome);
  for (const std::size_t v : {a.photos, a.pairs, static_cast<std::size_t>(a.rounds), a.vertices_seen}) count(v);
  out.put(a.agreement_before).put(a.agreement_after).put(a.moved_mean).put(a.moved_q95).put(a.moved_mean_px);
  count(a.photos_missing.size());
  for (const std::string& missing : a.photos_missing) out.put(missing);
  const SimplifySummary& s = report.lighter;
  out.put(s.outcome).put(s.error);
  count(s.faces_before), count(s.faces_after);
  const SurfaceDistance& d = report.moved;
  out.put(d.mean).put(d.rms).put(d.q95).put(d.largest);
  const MeshCheck& c = report.check;
  for (const std::size_t v : {c.vertices, c.faces, c.pieces, c.open_edges, c.holes, c.crowded_edges, c.flipped_edges,
                              c.crowded_vertices, c.degenerate_faces, c.doubled_faces})
    count(v);
  out.put(c.area);
  return out.take();
}

MeshReport read_mesh_record(const Bytes& bytes) {
  ByteReader in(bytes);
  MeshReport report;
  const auto count = [&] { return static_cast<std::size_t>(in.get<std::uint64_t>()); };
  FitSurfaceSummary& f = report.fitted;
  f.outcome = in.get_string();
  report.cloud_points = in.get<std::uint64_t>();
  f.points = count(), f.points_left_out = count(), f.cells = count(), f.levels = static_cast<int>(count());
  f.faces_closed = count(), f.pieces_left_out = count(), f.normals_made = count() != 0;
  f.spacing = in.get<double>(), f.trimmed_percent = in.get<double>();
  SharpenSummary& a = report.sharpened;
  a.outcome = in.get_string();
  a.photos = count(), a.pairs = count(), a.rounds = static_cast<int>(count()), a.vertices_seen = count();
  for (double* v : {&a.agreement_before, &a.agreement_after, &a.moved_mean, &a.moved_q95, &a.moved_mean_px})
    *v = in.get<double>();
  for (std::size_t n = count(); n > 0; --n) a.photos_missing.push_back(in.get_string());
  SimplifySummary& s = report.lighter;
  s.outcome = in.get_string(), s.error = in.get<double>();
  s.faces_before = count(), s.faces_after = count();
  SurfaceDistance& d = report.moved;
  d.mean = in.get<double>(), d.rms = in.get<double>(), d.q95 = in.get<double>(), d.largest = in.get<double>();
  MeshCheck& c = report.check;
  for (std::size_t* v : {&c.vertices, &c.faces, &c.pieces, &c.open_edges, &c.holes, &c.crowded_edges, &c.flipped_edges,
                         &c.crowded_vertices, &c.degenerate_faces, &c.doubled_faces})
    *v = count();
  c.area = in.get<double>();
  in.need_end();
  return report;
}

Bytes terrain_record(const TerrainReport& report) {
  ByteWriter out;
  const GroundSummary& g = report.ground;
  out.put(report.outcome).put(report.spacing).put(report.cell);
  out.put(g.outcome).put(g.points).put(g.spacing).put(g.cell).put(g.step);
  for (const std::size_t v :
       {g.cells, g.seen_cells, g.ground_cells, g.cells_by_colour, static_cast<std::size_t>(g.levels)})
    out.put(static_cast<std::uint64_t>(v));
  for (const std::uint64_t v : report.classes) out.put(v);
  for (const RasterReport* r : {&report.surface, &report.terrain})
    out.put(static_cast<std::uint64_t>(r->columns))
        .put(static_cast<std::uint64_t>(r->rows))
        .put(r->measured)
        .put(r->filled)
        .put(r->low)
        .put(r->high)
        .put(r->sigma);
  return out.take();
}

TerrainReport read_terrain_record(const Bytes& bytes) {
  ByteReader in(bytes);
  TerrainReport report;
  GroundSummary& g = report.ground;
  report.outcome = in.get_string(), report.spacing = in.get<double>(), report.cell = in.get<double>();
  g.outcome = in.get_string(), g.points = in.get<std::uint64_t>();
  g.spacing = in.get<double>(), g.cell = in.get<double>(), g.step = in.get<double>();
  for (std::size_t* v : {&g.cells, &g.seen_cells, &g.ground_cells, &g.cells_by_colour})
    *v = static_cast<std::size_t>(in.get<std::uint64_t>());
  g.levels = static_cast<int>(in.get<std::uint64_t>());
  for (std::uint64_t& v : report.classes) v = in.get<std::uint64_t>();
  for (RasterReport* r : {&report.surface, &report.terrain}) {
    r->columns = static_cast<int>(in.get<std::uint64_t>()), r->rows = static_cast<int>(in.get<std::uint64_t>());
    r->measured = in.get<std::uint64_t>(), r->filled = in.get<std::uint64_t>();
    r->low = in.get<double>(), r->high = in.get<double>(), r->sigma = in.get<double>();
  }
  in.need_end();
  return report;
}

Bytes orthomosaic_record(const OrthomosaicReport& report) {
  ByteWriter out;
  const OrthomosaicSummary& s = report.summary;
  out.put(static_cast<std::uint64_t>(report.columns)).put(static_cast<std::uint64_t>(report.rows));
  out.put(report.cell).put(report.cells).put(static_cast<std::uint8_t>(report.over_ground));
  out.put(s.outcome);
  for (const std::size_t v : {s.photos, s.views, s.views_apart, s.seams, s.photos_missing.size()})
    out.put(static_cast<std::uint64_t>(v));
  for (const std::string& missing : s.photos_missing) out.put(missing);
  for (const double v : {s.seam_cell, s.exposure_before_percent, s.exposure_after_percent, s.corner_loss_percent,
                         s.seam_length, s.seam_length_raised})
    out.put(v);
  return out.take();
}

OrthomosaicReport read_orthomosaic_record(const Bytes& bytes) {
  ByteReader in(bytes);
  OrthomosaicReport report;
  OrthomosaicSummary& s = report.summary;
  report.columns = static_cast<int>(in.get<std::uint64_t>()), report.rows = static_cast<int>(in.get<std::uint64_t>());
  report.cell = in.get<double>(), report.cells = in.get<std::uint64_t>();
  report.over_ground = in.get<std::uint8_t>() != 0;
  s.outcome = in.get_string();
  std::uint64_t missing = 0;
  for (std::size_t* v : {&s.photos, &s.views, &s.views_apart, &s.seams})
    *v = static_cast<std::size_t>(in.get<std::uint64_t>());
  missing = in.get<std::uint64_t>();
  for (; missing > 0; --missing) s.photos_missing.push_back(in.get_string());
  for (double* v : {&s.seam_cell, &s.exposure_before_percent, &s.exposure_after_percent, &s.corner_loss_percent,
                    &s.seam_length, &s.seam_length_raised})
    *v = in.get<double>();
  in.need_end();
  return report;
}

Bytes texture_record(const TextureReport& report) {
  ByteWriter out;
  const TextureSummary& s = report.summary;
  out.put(s.outcome);
  for (const std::size_t v : {s.faces, s.faces_filled, s.photos, s.views, s.views_apart, s.charts, s.pages,
                              static_cast<std::size_t>(s.page_size), s.photos_missing.size()})
    out.put(static_cast<std::uint64_t>(v));
  for (const std::string& missing : s.photos_missing) out.put(missing);
  for (const double v : {s.filled_percent, s.texel, s.used_percent, s.exposure_before_percent, s.exposure_after_percent,
                         s.seam_before, s.seam_after})
    out.put(v);
  return out.take();
}

TextureReport read_texture_record(const Bytes& bytes) {
  ByteReader in(bytes);
  TextureReport report;
  TextureSummary& s = report.summary;
  s.outcome = in.get_string();
  const auto count = [&] { return static_cast<std::size_t>(in.get<std::uint64_t>()); };
  for (std::size_t* v : {&s.faces, &s.faces_filled, &s.photos, &s.views, &s.views_apart, &s.charts, &s.pages})
    *v = count();
  s.page_size = static_cast<int>(count());
  for (std::size_t n = count(); n > 0; --n) s.photos_missing.push_back(in.get_string());
  for (double* v : {&s.filled_percent, &s.texel, &s.used_percent, &s.exposure_before_percent, &s.exposure_after_percent,
                    &s.seam_before, &s.seam_after})
    *v = in.get<double>();
  in.need_end();
  return report;
}

DenseSummary read_dense_record(const Bytes& bytes) {
  ByteReader in(bytes);
  DenseSummary s;
  s.outcome = in.get_string();
  s.maps = in.get<std::uint64_t>();
  s.points = in.get<std::uint64_t>();
  s.photos_without_neighbours = in.get<std::uint64_t>();
  s.photos_repeated = in.get<std::uint64_t>();
  s.tiles = in.get<std::uint64_t>();
  s.filled_percent = in.get<double>();
  s.median_views = in.get<double>();
  s.few_views_percent = in.get<double>();
  s.spacing = in.get<double>();
  for (std::size_t& count : s.aside) count = in.get<std::uint64_t>();
  for (std::uint64_t k = in.get<std::uint64_t>(); k > 0; --k) {
    const PhotoIndex photo(in.get<std::uint32_t>());
    s.fill.push_back({photo, in.get<double>()});
  }
  for (std::uint64_t k = in.get<std::uint64_t>(); k > 0; --k) {
    DenseSummary::PhotoParts photo;
    photo.photo.value = in.get<std::uint32_t>();
    photo.reason = static_cast<ThinReason>(in.get<std::uint8_t>());
    for (std::size_t& count : photo.parts) count = in.get<std::uint32_t>();
    s.parts.push_back(photo);
  }
  in.need_end();
  return s;
}

}  // namespace icefield
