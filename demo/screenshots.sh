#!/usr/bin/env bash
# Takes the pictures in docs/screenshots/ from the demo's data: each main command in a terminal.
# Needs xterm, xvfb, imagemagick, librsvg2-bin, chromium, fonts-dejavu-core and fonts-wqy-microhei, which building and
# testing do not.
# Usage: demo/screenshots.sh PROGRAM
set -euo pipefail
program=$(realpath "$1")
out=$(realpath "$(dirname "$0")/../docs/screenshots")
desk=/tmp/saltmarsh
rm -rf "$desk"
"$program" demo --into "$desk" >/dev/null 2>&1
bin=$(mktemp -d)
ln -s "$program" "$bin/kestrum"
display=:97
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server; rm -rf "$bin"' EXIT
sleep 1
shot() {   # NAME NOW COMMAND...: types the commands at a prompt and takes the picture
  local name=$1 now=$2; shift 2
  local script="cd $desk; export PATH=$bin:\$PATH KESTRUM_HOME=$desk/kestrum-home KESTRUM_HOST=front-desk-pc KESTRUM_NOW=$now TZ=UTC;"
  local line
  for line in "$@"; do script+="printf '\\033[1m\$ %s\\033[0m\\n' $(printf %q "$line"); $line; echo;"; done
  DISPLAY=$display xterm -fa 'DejaVu Sans Mono' -fs 13 -geometry 114x36+0+0 -bg '#fbfaf6' -fg '#22252a' -b 12 \
    +sb -T "$name" -e bash -c "$script sleep 20" &
  local term=$!
  sleep "${WAIT:-4}"
  DISPLAY=$display import -window root -crop 1280x800+0+0 "$out/$name.png"
  kill $term 2>/dev/null || true
  wait $term 2>/dev/null || true
}
shot help 2026-03-11T12:00:00Z "kestrum help"
shot job-new 2026-03-11T12:00:00Z "kestrum job new mail --from home/frontdesk/Mail --to media/blue-disk --same-disk --next-passphrase-from passphrase --when 'every day at 21:00'"
shot run 2026-03-11T13:00:00Z "kestrum run front-desk" "kestrum run front-desk --kind differential"
shot sets 2026-03-11T12:00:00Z "kestrum sets front-desk"
shot look 2026-03-11T12:00:00Z "kestrum look front-desk Documents --point 2026-03-03 --depth 2 | head -20" "kestrum look newsroom Interviews --long"
cp "$desk/home/frontdesk/Documents/Rotas/rota-week-09.csv" "$bin/rota"
rm "$desk/home/frontdesk/Documents/Rotas/rota-week-09.of-2026-03-02-2100.csv" "$desk/home/frontdesk/Documents/Letters/Signed/agreement-0"[1-4].odt
WAIT=6 shot restore 2026-03-11T12:00:00Z "kestrum restore front-desk rota-week-09.csv --point 2026-03-03 --in-place --clash both --passphrase-from passphrase" "kestrum restore front-desk $desk/home/frontdesk/Documents/Letters --missing --in-place --passphrase-from passphrase" "ls home/frontdesk/Documents/Rotas | grep week-09"
shot trace 2026-03-11T12:00:00Z "kestrum trace front-desk rota-week-09" "kestrum compare front-desk --point 2026-03-03 --with newest | head -20"
echo "9,friday,21:00,producer,swapped" >>"$desk/home/frontdesk/Documents/Rotas/rota-week-09.csv"
cp "$desk/home/frontdesk/Mail/inbox.mbox" "$desk/home/frontdesk/Mail/old-inbox.mbox" 2>/dev/null || true
shot forecast 2026-03-11T20:00:00Z "kestrum forecast front-desk" "kestrum forecast front-desk --why home/frontdesk/Documents/draft.tmp" "kestrum forecast front-desk --files | grep -v ^same | head -8"
shot agenda 2026-03-11T20:00:00Z "kestrum agenda --days 7"
shot history 2026-03-11T20:00:00Z "kestrum history front-desk" "kestrum history front-desk --show 3"
mv "$desk/media/blue-disk" "$desk/media/drawer"
KESTRUM_HOME=$desk/kestrum-home KESTRUM_HOST=front-desk-pc KESTRUM_NOW=2026-03-11T21:00:00Z TZ=UTC "$program" run --due >/dev/null
shot status 2026-03-12T10:00:00Z "kestrum status" "kestrum status front-desk" "kestrum status --probe"
mv "$desk/media/drawer" "$desk/media/blue-disk"
KESTRUM_HOME=$desk/kestrum-home KESTRUM_HOST=front-desk-pc KESTRUM_NOW=2026-03-11T20:00:00Z TZ=UTC \
  "$program" passphrase front-desk --card "$bin/page.svg" >/dev/null
rsvg-convert -d 90 -p 90 "$bin/page.svg" -o "$out/recovery-card.png"
WAIT=12 shot drill 2026-03-11T12:00:00Z "kestrum drill front-desk --files 40 --passphrase-from passphrase" "kestrum status front-desk | tail -6"
WAIT=5 shot verify 2026-03-11T12:00:00Z "kestrum verify front-desk --contents --passphrase-from passphrase" "kestrum verify newsroom --contents" "kestrum sets newsroom"
for day in {12..31}; do
  KESTRUM_HOME=$desk/kestrum-home KESTRUM_HOST=front-desk-pc KESTRUM_NOW=2026-03-${day}T21:00:00Z TZ=UTC \
    "$program" run --due --quiet >/dev/null
done
shot prune 2026-03-31T21:30:00Z "kestrum prune front-desk"
page() {  # NAME FOLDER HEIGHT: takes a picture of a report's page
  chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
    --disable-component-update --disable-sync --hide-scrollbars --user-data-dir="$bin/$1-profile" \
    --window-size=1280,"$3" --screenshot="$out/$1.png" "file://$2/index.html" >/dev/null 2>&1
}
KESTRUM_HOME=$desk/kestrum-home KESTRUM_HOST=front-desk-pc KESTRUM_NOW=2026-03-31T21:30:00Z TZ=UTC \
  "$program" report front-desk --out "$bin/report" >/dev/null
page report "$bin/report" 2000
page fleet "$desk/fleet" 960
find "$desk/home/frontdesk/Documents" -type f | while read -r letter; do head -c 30000 /dev/urandom >"$letter"; done
WAIT=5 shot suspect 2026-04-01T21:00:00Z "kestrum run front-desk | head -5" "kestrum status front-desk" "kestrum look front-desk Documents | head -4"
WAIT=12 shot claim 2026-04-02T09:00:00Z "export KESTRUM_HOME=$desk/new-pc-home KESTRUM_HOST=new-pc" "kestrum shelf claim media/blue-disk/front-desk-pc/front-desk --passphrase-from passphrase" "kestrum job list" "kestrum status front-desk"
