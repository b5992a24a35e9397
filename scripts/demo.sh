#!/usr/bin/env bash
# Installs what is missing, builds, runs the whole chain on the demo photos, and measures the result against truth.
# Usage: scripts/demo.sh [FOLDER], demo-results by default. A second run finds everything fresh.
set -euo pipefail
cd "$(dirname "$0")/.."
results=${1:-demo-results}
scripts/deps.sh
cmake --preset release > /dev/null
cmake --build --preset release --parallel "$(nproc)" --target icefield-tool icefield-simulate
icefield=build/release/app/icefield
simulate=build/release/simulate/icefield-simulate

start=$(date +%s)
"$icefield" demo "$results/cairn"
echo
echo "The chain took $(($(date +%s) - start)) s."
# Large truth is not stored but made again from the seed.
[ -f "$results/cairn_surface.ply" ] || "$simulate" surface demo/cairn "$results/cairn_surface.ply"
echo
"$icefield" compare "$results/cairn" --cameras demo/cairn/truth/cameras.json --surface "$results/cairn_surface.ply"
echo
start=$(date +%s)
"$icefield" run "$results/cairn" --to texture > "$results/texture.txt"
tail -n 8 "$results/texture.txt"
echo "Mesh and texture took $(($(date +%s) - start)) s."
"$icefield" view "$results/cairn" mesh --by texture > /dev/null
"$icefield" view "$results/cairn" block > /dev/null
"$icefield" view "$results/cairn" cloud > /dev/null
"$icefield" view "$results/cairn" depth --photo cairn_003.jpg > /dev/null
echo
echo "Results in $results/cairn/results:"
echo "  block-1/cameras.json, block-1/tie_points.ply, block-1/dense.ply, block-1/mesh.ply, block-1/textured.glb"
echo "  block.png, cloud.png, depth.png, mesh.png"
