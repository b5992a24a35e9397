// A made-up scene: triangles with materials, the sun and the sky.
#pragma once
#include <Eigen/Core>
#include <Eigen/Geometry>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "icefield/block/bounds.h"
#include "icefield/cloud/cloud.h"

namespace icefield::simulate {

enum class Material : std::uint8_t {
  stone,
  gravel,
  rock_and_snow,
  moraine,
  stream_bed,
  plank,
  sheet_roof,
  dark,
  snow,
  clear_ice,
  glacier_ice,
  pole,
  painted_iron,
  leaves,
  board
};

// Triangles with a normal, a material, an object number (for the tint) and a share of open sky at each vertex.
struct Mesh {
  std::vector<Eigen::Vector3f> vertices, normals;
  std::vector<std::uint32_t> triangles;  // 3 for each
  std::vector<Material> materials;       // for each vertex
  std::vector<std::uint16_t> objects;    // for each vertex
  std::vector<float> open_sky;           // for each vertex, 0 to 1; filled by Scene
  void add(const Mesh& other);
  void compute_normals();
};

struct Hit {
  float distance;
  Eigen::Vector3f position, geometric_normal, shading_normal;
  Material material;
  std::uint16_t object;
  float open_sky;
  Eigen::Vector2f on_board;  // of a board: the place in the plane of its target, by its radius
  std::uint32_t teeth = 0;   // and its code
  float board_radius = 0;    // metres
};

struct SceneOptions {
  std::string kind = "cairn";  // "cairn", "forefield", "station" or "lantern"
  std::uint64_t seed = 1;
  double detail = 1.0;     // fineness of meshes; tests use less
  double clouds = 0;       // share of the sun's light that they take; the sky gives back some of it
  int targets = 0;         // boards with coded targets that lie about
  double target_size = 0;  // from corner to corner, metres; 0: as the scene asks for
  int bushes = 0;          // that stand about in the forefield
  double relief = 1;       // of the forefield: its heights are multiplied by this
  int position = 0;        // of the lantern: 0 alone, in its own frame; 1 standing on a slab, 2 turned over on it
};

// A white board with a coded target, lying on what is beneath or leaning.
struct Board {
  int number = 0;
  Eigen::Vector3f middle;
  Eigen::Vector3f along, across, up;  // the target's axes x and y, and the board's normal
  float radius = 0;                   // from the middle to a corner of the target, metres
};

struct Light {
  Eigen::Vector3f sun_direction;  // towards the sun
  Eigen::Vector3f sun_colour, sky_colour, ground_colour;
};

// Colour (linear, 0 to 1) and bump of a surface point.
struct Surface {
  Eigen::Vector3f albedo, normal;
  float gloss = 0;  // share of the light that is thrown back as by a wet surface
};

// Immutable once made; queries may come from any thread. Same options, same triangles. World: x east, y north, z up,
// metres.
class Scene {
 public:
  explicit Scene(const SceneOptions& options);
  ~Scene();
  Scene(const Scene&) = delete;
  Scene& operator=(const Scene&) = delete;

  const SceneOptions& options() const { return options_; }
  const Light& light() const { return light_; }
  const Mesh& mesh() const { return mesh_; }
  const Bounds& subject() const { return subject_; }  // what the photos are about
  const std::vector<Board>& boards() const { return boards_; }
  float height_at(double x, double y) const;  // of the uppermost surface (the DSM)
  // As shade_material, with what moves with the subject in the subject's own frame.
  Surface surface_of(const Hit& hit, float footprint, float texture_scale, std::uint32_t seed) const;

  std::optional<Hit> trace(const Eigen::Vector3f& origin, const Eigen::Vector3f& direction) const;
  bool blocked(const Eigen::Vector3f& origin, const Eigen::Vector3f& direction, float distance) const;

 private:
  SceneOptions options_;
  Mesh mesh_;
  Light light_;
  Bounds subject_;
  Eigen::Isometry3f subject_place_ = Eigen::Isometry3f::Identity();
  std::vector<Board> boards_;
  struct Tracer;
  std::unique_ptr<Tracer> tracer_;
};

// Numbers of objects in the forefield, whose ground is 0.
constexpr std::uint16_t kHut = 1, kLastOfHut = 4, kFirstBush = 40000;

// Builders, one for each kind of scene.
struct SceneContent {
  Mesh mesh;
  Light light;
  Bounds subject;
  float sky_radius = 1;                                             // how far open_sky looks, metres
  Bounds sky_region;                                                // where open_sky is worth computing
  Eigen::Isometry3f subject_place = Eigen::Isometry3f::Identity();  // in the scene, of a subject that was moved
};
SceneContent build_cairn(const SceneOptions& options);
SceneContent build_forefield(const SceneOptions& options);
SceneContent build_station(const SceneOptions& options);
SceneContent build_lantern(const SceneOptions& options);

// Of the lantern in its position: from its own frame into that of the scene.
Eigen::Isometry3f lantern_place(int position);

// Where they lie: about the subject where that stands in the middle, else all over it. `height`: of what is beneath.
std::vector<Board> place_boards(const SceneOptions& options, const Bounds& subject,
                                const std::function<float(double x, double y)>& height);
constexpr std::uint16_t kFirstOfSubject = 50000;  // numbers of objects: from here on they move with the subject
constexpr std::uint16_t kFirstBoard = 60000;
void add_boards(const std::vector<Board>& boards, Mesh& mesh);

// `footprint` is the size of a pixel there, metres.
// `texture_scale` makes rock look alike at the size of a hand (1) and from the air (less).
Surface shade_material(const Hit& hit, float footprint, float texture_scale, std::uint32_t seed);
Eigen::Vector3f sky_radiance(const Eigen::Vector3f& direction, const Light& light, std::uint32_t seed);

// What the scenes around one spot have in common: ground that is flat nearby with mountains behind, and the light of a
// day.
float ground_around(const Eigen::Vector2f& p, std::uint32_t seed);
Mesh terrain_around(double detail, const std::function<float(const Eigen::Vector2f&)>& ground,
                    const std::function<Material(const Eigen::Vector2f&)>& material);
Light light_of_day(std::uint64_t seed);

// Solids.
Mesh make_stone(std::uint64_t key, int subdivisions, float flatness, float roughness);  // about unit size
Mesh make_box(const Eigen::Vector3f& low, const Eigen::Vector3f& high, Material material, std::uint16_t object);
Mesh place(const Mesh& mesh, const Eigen::Matrix3f& linear, const Eigen::Vector3f& offset, Material material,
           std::uint16_t object);
Mesh make_terrain(int columns, int rows, const std::function<Eigen::Vector2f(int, int)>& where,
                  const std::function<float(const Eigen::Vector2f&)>& height,
                  const std::function<Material(const Eigen::Vector2f&)>& material, bool closed_columns);

}  // namespace icefield::simulate
