#include <icefield/survey.h>

#include <cstdio>

int main() {
  const std::size_t settings = icefield::Settings().list().size();
  std::printf("%zu settings\n", settings);
  return settings > 20 ? 0 : 1;
}
