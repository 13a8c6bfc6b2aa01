#!/usr/bin/env bash
# Runs one fuzzer: fuzz/run.sh BUILD TARGET SECONDS. New inputs stay below BUILD; the log of a
# failure is printed.
set -euo pipefail
build=$1 target=$2 seconds=$3
here=$(cd "$(dirname "$0")" && pwd)
mkdir -p "$build/found/$target"
if KESTRUM_FUZZ_TARGET="$target" "$build/kestrum_fuzz" -max_total_time="$seconds" -rss_limit_mb=1024 -timeout=10 -max_len=70000 \
  -artifact_prefix="$build/found/$target-" "$build/found/$target" "$here/corpus/$target" \
  >"$build/$target.log" 2>&1; then
  echo "fuzz $target: $(grep DONE "$build/$target.log")"
else
  echo "fuzz $target: FAILED"
  tail -n 60 "$build/$target.log"
  exit 1
fi
