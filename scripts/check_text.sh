#!/usr/bin/env bash
# Code is laid out as .clang-format says, and no line of code or text is longer than 120 columns (but for tables).
set -euo pipefail
cd "$(dirname "$0")/.."
git ls-files '*.cc' '*.h' | xargs clang-format --dry-run --Werror
git ls-files '*.cc' '*.h' '*.md' '*.txt' '*.cmake' '*.in' '*.sh' '.ci/*' | xargs awk '
  length($0) > 120 && $0 !~ /^\|/ { print FILENAME ":" FNR ": is longer than 120 columns"; bad = 1 }
  END { exit bad }'
