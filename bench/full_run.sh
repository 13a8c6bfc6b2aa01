#!/usr/bin/env bash
# A full run against standard tools that do the same work on the same data, in alternating runs:
#   kestrum run JOB   versus   tar -cf - ... | zstd -3 -T2 -c | age -r ... > file
# Prints wall times, their ratio, and kestrum's peak memory.
# Usage: bench/full_run.sh PROGRAM [FOLDER...]      (default: /usr/share /usr/include)
set -euo pipefail
program=$(realpath "$1"); shift
folders=("$@"); [ ${#folders[@]} -gt 0 ] || folders=(/usr/share /usr/include)
rounds=${ROUNDS:-3}
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
export KESTRUM_HOME="$work/home" KESTRUM_NEW_PASSPHRASE=bench KESTRUM_HOST=bench-pc
mkdir "$work/disk"
from=(); for f in "${folders[@]}"; do from+=(--from "$f"); done
# Litter and attributes are treated as tar treats them here, so that both read the same files.
"$program" job new bench "${from[@]}" --to "$work/disk" --same-disk >/dev/null
printf '\n[source]\nleave_out_litter = false\n' > "$work/extra"
sed -i '/^\[source\]/a leave_out_litter = false' "$KESTRUM_HOME/jobs/bench.toml"
age-keygen -o "$work/key.txt" 2>"$work/recipient"
recipient=$(sed -n 's/^Public key: //p' "$work/recipient")
seconds() { local start end; start=$(date +%s.%N); "$@" >/dev/null 2>&1 || [ $? = 1 ]; end=$(date +%s.%N); echo "$end - $start" | bc; }
pipeline() { tar -cf - "${folders[@]}" 2>/dev/null | zstd -3 -T2 -q -c | age -r "$recipient" > "$work/pipeline.age"; sync "$work/pipeline.age"; }
peak() { /usr/bin/time -f %M -o "$work/peak" "$program" run bench --kind full "$@"; }
tar -cf - "${folders[@]}" 2>/dev/null | wc -c > "$work/bytes"   # warms the page cache
echo "data: $(cat "$work/bytes") bytes of tar"
for i in $(seq "$rounds"); do
  a=$(seconds pipeline)
  b=$(seconds peak)
  c=$(seconds peak --no-verify)
  echo "round $i: tar|zstd|age $a s, kestrum $b s (ratio $(echo "scale=2; $b / $a" | bc)), without reading back $c s (ratio $(echo "scale=2; $c / $a" | bc)), peak $(cat "$work/peak") KiB"
done
echo "sizes: tar|zstd|age $(stat -c %s "$work/pipeline.age"), kestrum $(du -sb "$work"/disk/*/bench/sets/c0001-000* | cut -f1)"
