#!/usr/bin/env bash
# Installs every Debian 12 package that Icefield is built, run and tested with. Costs nothing when all are there.
set -euo pipefail

packages=(
  # tools
  g++ cmake ninja-build git pkg-config clang-format
  # libraries
  libeigen3-dev libfmt-dev libspdlog-dev libcli11-dev nlohmann-json3-dev libtomlplusplus-dev
  libtbb-dev libhwy-dev libsqlite3-dev libxxhash-dev libopenimageio-dev
  libnanoflann-dev libembree-dev libcairo2-dev libtiff-dev libproj-dev proj-data libgdal-dev
  # tests and benchmarks
  libgtest-dev libgmock-dev libbenchmark-dev libassimp-dev python3 chromium gdal-bin
)

missing=()
for package in "${packages[@]}"; do
  [ "$(dpkg-query -W -f='${Status}' "$package" 2>/dev/null)" = "install ok installed" ] || missing+=("$package")
done
[ "${#missing[@]}" -gt 0 ] || exit 0

echo "deps: installing ${missing[*]}"
as_root=()
[ "$(id -u)" = 0 ] || as_root=(sudo)
"${as_root[@]}" apt-get update -qq
export DEBIAN_FRONTEND=noninteractive
"${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" > /dev/null
