#!/bin/sh
# Runs a command, such as the tests, with a /tmp of its own in memory: each run of the program syncs
# forty times, and a disk takes six times as long for that as for everything else. Nobody else sees
# that /tmp, and it is gone at the end, with all that was mounted there. Only root can have it; without
# root, or without the room for it, the command runs as it is.
set -eu
room_mib=8192
here=$(pwd -P)
free_mib=$(awk '/^MemAvailable:/ { print int($2 / 1024) }' /proc/meminfo)
if [ "$free_mib" -lt "$room_mib" ] || ! unshare --mount true 2>/dev/null; then exec "$@"; fi
exec unshare --mount --propagation private sh -euc '
  mount -t tmpfs -o mode=1777,size='"$room_mib"'m tmpfs /tmp
  # What lies below /tmp itself is still there: the working directory has it.
  case "$0" in /tmp/*) mkdir -p "$0" && mount --no-canonicalize --bind . "$0" && cd "$0";; esac
  unset TMPDIR
  exec "$@"' "$here" "$@"
