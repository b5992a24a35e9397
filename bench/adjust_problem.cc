// adjust_problem FILE [--threads 2] [--solver automatic|direct|iterative] [--max-iterations 50] [--write FILE]: solves
// a bundle adjustment problem in the public text format of the literature (Agarwal, Snavely, Seitz and Szeliski,
// "Bundle adjustment in the large", 2010) with the squared loss from the file's start. A JSON line for each iteration:
// `seconds` since the start of solving, `cost` as half the sum of squares; then a summary line. Reading is not in the
// time. With
// --shared N the photos share N cameras, each of a run of photos and starting from the means of theirs: another
// problem, with the block structure of surveys.
#include <fmt/format.h>
#include <sys/resource.h>
#include <unistd.h>

#include <charconv>
#include <chrono>
#include <fstream>
#include <iostream>
#include <map>

#include "app/arguments.h"
#include "icefield/adjust/adjust.h"
#include "icefield/base/error.h"

using namespace icefield;

namespace {

// The format's camera looks along -z with y up: P = R X + t, p = -P.xy / P.z. Ours looks along +z with y down, so that
// R' = diag(1, -1, -1) R, and v changes its sign.
const Eigen::DiagonalMatrix<double, 3> kFlip(1, -1, -1);

class Numbers {
 public:
  explicit Numbers(std::string file) : file_(std::move(file)) {
    std::ifstream in(file_, std::ios::binary);
    text_.assign(std::istreambuf_iterator<char>(in), {});
    if (!in.good() && text_.empty())
      throw Error(ErrorKind::input, file_, "cannot be read", "give the path of a bundle adjustment problem");
    at_ = text_.data();
  }
  template <class T>
  T next() {
    const char* const end = text_.data() + text_.size();
    while (at_ < end && std::isspace(static_cast<unsigned char>(*at_))) ++at_;
    if (at_ < end && *at_ == '+') ++at_;
    T value{};
    const auto result = std::from_chars(at_, end, value);
    if (result.ec != std::errc())
      throw Error(ErrorKind::input, file_, fmt::format("no number at byte {}", at_ - text_.data()),
                  "the file must hold a bundle adjustment problem in the text format");
    at_ = result.ptr;
    return value;
  }

 private:
  std::string file_, text_;
  const char* at_ = nullptr;
};

Block read_problem(const std::string& file) {
  Numbers in(file);
  const auto cameras = in.next<std::size_t>(), points = in.next<std::size_t>(), observations = in.next<std::size_t>();
  struct Seen {
    std::uint32_t camera, point;
    Eigen::Vector2d pixel;
  };
  std::vector<Seen> seen(observations);
  std::vector<std::vector<std::uint32_t>> of_point(points);
  for (std::size_t o = 0; o < observations; ++o) {
    seen[o].camera = in.next<std::uint32_t>();
    seen[o].point = in.next<std::uint32_t>();
    seen[o].pixel.x() = in.next<double>();
    seen[o].pixel.y() = -in.next<double>();
    if (seen[o].camera >= cameras || seen[o].point >= points)
      throw Error(ErrorKind::input, file,
                  fmt::format("observation {} is of camera {} and point {}, of {} and {}", o, seen[o].camera,
                              seen[o].point, cameras, points),
                  "the counts at the head of the file are wrong, or the file is damaged");
    of_point[seen[o].point].push_back(static_cast<std::uint32_t>(o));
  }
  Block block;
  for (std::size_t i = 0; i < cameras; ++i) {
    Eigen::Vector3d w, t;
    for (double& v : w) v = in.next<double>();
    for (double& v : t) v = in.next<double>();
    Camera camera = make_camera(CameraModel::radial, 0, 0, in.next<double>());
    camera.parameters[3] = in.next<double>();
    camera.parameters[4] = in.next<double>();
    block.cameras.push_back(camera);
    const Eigen::Matrix3d rotation = rotation_from_vector(w).toRotationMatrix();
    Pose pose;
    pose.orientation = Eigen::Quaterniond(Eigen::Matrix3d(kFlip * rotation));
    pose.centre = -rotation.transpose() * t;
    block.photos.push_back({PhotoIndex(i), CameraIndex(i), pose});
  }
  std::vector<Eigen::Vector3d> positions(points);
  for (Eigen::Vector3d& p : positions)
    for (double& v : p) v = in.next<double>();
  for (std::size_t i = 0; i < points; ++i) {
    std::vector<Observation> of;
    for (const std::uint32_t o : of_point[i]) of.push_back({PosedIndex(seen[o].camera), FeatureIndex(), seen[o].pixel});
    block.add_point(positions[i], of);
  }
  return block;
}

void write_problem(const Block& block, const std::string& file) {
  std::ofstream out(file);
  out << fmt::format("{} {} {}\n", block.photos.size(), block.points.size(), block.observations.size());
  for (std::size_t i = 0; i < block.points.size(); ++i)
    for (const Observation& o : block.of_point(i))
      out << fmt::format("{} {} {:.6e} {:.6e}\n", o.photo, i, o.pixel.x(), -o.pixel.y());
  for (const PosedPhoto& photo : block.photos) {
    const Eigen::Matrix3d rotation = kFlip * photo.pose.rotation();
    const Eigen::AngleAxisd turn(rotation);
    const Eigen::Vector3d w = turn.angle() * turn.axis(), t = -rotation * photo.pose.centre;
    const Camera& camera = block.camera_of(photo);
    for (const double v :
         {w.x(), w.y(), w.z(), t.x(), t.y(), t.z(), camera.focal(), camera.parameters[3], camera.parameters[4]})
      out << fmt::format("{:.16e}\n", v);
  }
  for (const Eigen::Vector3d& p : block.points) out << fmt::format("{:.16e}\n{:.16e}\n{:.16e}\n", p.x(), p.y(), p.z());
  if (!out.flush())
    throw Error(ErrorKind::resource, file, "cannot be written", "look at the folder and the free space");
}

// Of this process now: what the problem itself takes.
long resident_mb() {
  long pages = 0, resident = 0;
  std::ifstream("/proc/self/statm") >> pages >> resident;
  return resident * sysconf(_SC_PAGESIZE) / (1 << 20);
}

void share_cameras(Block& block, std::size_t count) {
  const std::size_t photos = block.photos.size();
  std::vector<Camera> shared(std::min(count, photos));
  std::vector<double> users(shared.size(), 0);
  for (std::size_t i = 0; i < photos; ++i) {
    const std::size_t c = i * shared.size() / photos;
    const Camera& own = block.camera_of(block.photos[i]);
    users[c] += 1;
    shared[c].model = own.model;
    for (std::size_t p = 0; p < shared[c].parameters.size(); ++p)
      shared[c].parameters[p] += (own.parameters[p] - shared[c].parameters[p]) / users[c];
    block.photos[i].camera = CameraIndex(c);
  }
  block.cameras = std::move(shared);
}

}  // namespace

int main(int argc, char** argv) {
  Arguments app{"Solves a bundle adjustment problem"};
  std::string file, written;
  int threads = 2;
  std::size_t shared = 0;
  AdjustOptions options;
  options.max_iterations = 50;
  options.cost_tolerance = 1e-8;
  options.loss = Loss::squared;
  options.check_depth = false;
  const std::map<std::string, Elimination> solvers = {
      {"automatic", Elimination::automatic}, {"direct", Elimination::direct}, {"iterative", Elimination::iterative}};
  app.option("FILE", file).required();
  app.option("--threads", threads).between(1, 256);
  std::string solver = "automatic";
  app.option("--solver", solver).one_of({"automatic", "direct", "iterative"});
  app.option("--max-iterations", options.max_iterations).between(1, 100000);
  app.option("--tolerance", options.cost_tolerance);
  app.option("--shared", shared);
  app.option("--write", written);
  if (!app.parse(argc, argv)) return app.status();
  options.elimination = solvers.at(solver);
  try {
    Block block = read_problem(file);
    if (shared > 0) share_cameras(block, shared);
    const long before_mb = resident_mb();
    using Clock = std::chrono::steady_clock;
    const Clock::time_point start = Clock::now();
    const auto seconds = [&] { return std::chrono::duration<double>(Clock::now() - start).count(); };
    options.on_iteration = [&](const AdjustIteration& it) {
      std::cout << fmt::format(R"({{"iteration": {}, "seconds": {:.4f}, "cost": {:.10g}, )"
                               R"("accepted": {}, "damping": {:.3g}, "inner_iterations": {}}})",
                               it.number, seconds(), it.cost, it.accepted, it.damping, it.inner_iterations)
                << "\n";
    };
    Monitor monitor;
    const AdjustResult result = adjust(block, options, Executor(threads), monitor);
    const double total = seconds();
    struct rusage usage {};
    getrusage(RUSAGE_SELF, &usage);
    std::cout
        << fmt::format(
               R"({{"outcome": "{}", "cameras": {}, "points": {}, "observations": {}, "iterations": {}, )"
               R"("seconds": {:.4f}, "cost_before": {:.10g}, "cost_after": {:.10g}, "problem_mb": {}, "peak_mb": {}}})",
               result.summary.outcome, block.photos.size(), block.points.size(), block.observations.size(),
               result.summary.iterations, total, result.summary.cost_before, result.summary.cost_after, before_mb,
               usage.ru_maxrss / 1024)
        << "\n";
    if (!written.empty()) write_problem(result.block, written);
  } catch (const Error& error) {
    std::cerr << error.what() << "\n";
    return 3;
  }
}
