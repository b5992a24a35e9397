#include <icefield/io/ply_file.h>

#include <cstdio>

int main() {
  icefield::PointCloud cloud;
  cloud.positions = {{1, 2, 3}, {4, 5, 6}};
  icefield::write_ply("two.ply", cloud);
  const std::size_t points = icefield::read_ply("two.ply").size();
  std::printf("%zu points\n", points);
  return points == 2 ? 0 : 1;
}
