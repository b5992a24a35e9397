#!/usr/bin/env bash
# Builds with a sanitizer and runs the tests to their end, or one part of them, and says how long each part took.
# Usage: scripts/sanitize.sh PRESET [PART]
#   PRESET  asan+ubsan or tsan
#   PART    units, dense, survey, chain, commands, bad_input, georeference, mesh, resume, states, terminal, outside; all
#           of them one after the other when none is given
set -euo pipefail
cd "$(dirname "$0")/.."
preset=${1:?"which preset: asan+ubsan or tsan"}
parts=(units dense survey chain commands bad_input georeference mesh resume states terminal
  outside)
if [ $# -gt 1 ]; then parts=("$2"); fi
scripts/deps.sh
cmake --preset "$preset"
cmake --build --preset "$preset" --parallel "$(nproc)"
# Whole sets oriented on the thread sanitizer take ten minutes each and run the same loops as the cases of Orient.
long=''
if [ "$preset" = tsan ]; then long='^(OrientSets|Twins|Positions|.*/Ways)\.|'; fi
whole='^(dense|survey|chain|commands|bad_input|georeference|mesh|resume|states|terminal)_test$|^outside_project$'
for part in "${parts[@]}"; do
  start=$SECONDS
  case "$part" in
    units) ctest --preset "$preset" --parallel "$(nproc)" --exclude-regex "$long$whole" ;;
    outside) ctest --preset "$preset" --no-tests=error --tests-regex '^outside_project$' ;;
    *) ctest --preset "$preset" --no-tests=error --tests-regex "^${part}_test\$" ;;
  esac
  echo "$preset $part: passed in $((SECONDS - start)) s"
done
