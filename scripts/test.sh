#!/usr/bin/env bash
# Installs what is missing, builds, and runs all tests. Usage: scripts/test.sh [PRESET], release by default.
set -euo pipefail
cd "$(dirname "$0")/.."
preset=${1:-release}
scripts/deps.sh
cmake --preset "$preset"
cmake --build --preset "$preset" --parallel "$(nproc)"
scripts/check_text.sh
ctest --preset "$preset" --parallel "$(nproc)"
