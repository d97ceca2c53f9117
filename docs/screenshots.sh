#!/usr/bin/env bash
# Makes the pictures in docs/screenshots from the demo data: runs the demonstration,
# leaves its clusters up, and photographs commands in a terminal of 1280x800.
# Needs Debian's packages xterm, xvfb, tmux, imagemagick, chromium and fonts-dejavu-core.
set -euo pipefail
bin=$(realpath "${1:-bin/dexamen}")
here=$(cd "$(dirname "$0")/screenshots" && pwd)
work=$(mktemp -d)
export XDG_STATE_HOME=$work/state LANG=C.UTF-8 DEXAMEN_DEMO_SECRET='made up for the demo' TZ=UTC
"$bin" demo --stay --documents 20000 > "$work/demo.log" 2>&1 &
demo=$!
Xvfb :97 -screen 0 1280x800x24 > /dev/null 2>&1 &
screen=$!
trap 'kill $demo $screen 2> /dev/null; rm -rf "$work"' EXIT
for _ in $(seq 900); do
  grep -q 'export DEXAMEN_CONFIG' "$work/demo.log" && break
  kill -0 $demo || { cat "$work/demo.log"; exit 1; }
  sleep 0.2
done
DEXAMEN_CONFIG=$(sed -n 's/^export DEXAMEN_CONFIG=\([^ ]*\).*/\1/p' "$work/demo.log")
export DEXAMEN_CONFIG
mapfile -t moments < <(grep -o 'meadow@2[^ /]*Z' "$work/demo.log" | sort -u)
spoiled=${moments[0]} dropped=${moments[1]}

# shot NAME COMMAND...: each command as typed, then what it prints.
shot() {
  local name=$1; shift
  { printf '%s\n' "cd $work" 'dexamen() { "'"$bin"'" "$@"; }' \
      'last-restore() { dexamen --json runs meadow --kind restore | sed -n '"'s/^ *\"id\": \"\(.*\)\",\$/\1/p'"' | tail -1; }' 'clear'
    for c in "$@"; do printf '%s\n' "printf '\033[1m\$ %s\033[0m\n' $(printf %q "$c")" "$c" 'echo'; done
    printf '%s\n' "touch $work/$name.done" 'sleep 30'; } > "$work/$name.sh"
  DISPLAY=:97 xterm -geometry 157x47+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#16191d' -fg '#e4e2da' -bw 12 -e bash "$work/$name.sh" &
  local term=$!
  for _ in $(seq 150); do [ -e "$work/$name.done" ] && break; sleep 0.2; done
  sleep 0.7
  DISPLAY=:97 import -window root "$here/$name.png"
  kill $term 2> /dev/null || true
  wait $term 2> /dev/null || true
}

# keys NAME COMMAND KEY...: a command at a terminal, the keys that are typed, and what is seen then.
keys() {
  local name=$1 command=$2; shift 2
  printf '%s\n' "cd $work" 'dexamen() { "'"$bin"'" "$@"; }' "PS1='$ '" > "$work/$name.sh"
  DISPLAY=:97 xterm -geometry 104x32+0+0 -fa 'DejaVu Sans Mono' -fs 14 -bg '#16191d' -fg '#e4e2da' -bw 12 -e \
    tmux -L dexamen-shots -f /dev/null new-session "bash --rcfile $work/$name.sh" &
  local term=$!
  sleep 1.5
  tmux -L dexamen-shots set -g status off
  tmux -L dexamen-shots send-keys "clear; $command" Enter
  sleep 3
  for k in "$@"; do tmux -L dexamen-shots send-keys "$k"; sleep 1; done
  sleep 1
  DISPLAY=:97 import -window root "$here/$name.png"
  tmux -L dexamen-shots kill-server
  wait $term 2> /dev/null || true
}

shot set-up 'dexamen cluster check meadow' 'dexamen cluster inspect meadow'
shot snapshot 'dexamen snapshot meadow' 'dexamen capture meadow' 'dexamen points meadow'
shot coverage 'dexamen coverage meadow' 'dexamen store inspect larder'
pack=$(find "$(dirname "$DEXAMEN_CONFIG")/larder/content" -type f -printf '%s %p\n' | sort -n | tail -1 | cut -d' ' -f2-)
printf '\377' | dd of="$pack" bs=1 seek=$(($(stat -c %s "$pack") / 2)) conv=notrunc status=none
shot scrub 'dexamen store scrub larder' 'dexamen store scrub larder --repair' 'dexamen store keys list larder'
shot compare "dexamen compare $spoiled $dropped --show 3"
shot restore "dexamen restore $dropped/apiary.harvest" "dexamen restore $spoiled/apiary.colonies --conflict replace --preview" "dexamen restore $dropped/apiary.harvests --rename apiary.harvests=rehearsal.harvests --yes"
shot pinpoint 'dexamen --quiet pinpoint meadow' "dexamen pinpoint meadow --namespace apiary.colonies --where 'status == \"collapsed\"'"
"$bin" --quiet --json serve "$spoiled/apiary.*" --listen 127.0.0.1:47017 --for 5m > "$work/served.json" &
served=$!
for _ in $(seq 50); do grep -q password "$work/served.json" && break; sleep 0.1; done
THEN_SECRET=$(sed -n 's/.*"password": "\(.*\)".*/\1/p' "$work/served.json")
export THEN_SECRET
sed -e 's/^clusters:/clusters:\n  then: { address: "mongodb:\/\/127.0.0.1:47017\/", login: { user: reader, secret: { env: THEN_SECRET } } }/' "$DEXAMEN_CONFIG" > "$work/then.yaml"
shot serve "dexamen serve '$spoiled/apiary.*' --for 2s" "dexamen --config then.yaml browse 'then@live/apiary.*'" "dexamen --config then.yaml browse then@live/apiary.colonies --show 3"
kill $served 2> /dev/null || true
"$bin" --quiet restore "$spoiled/apiary.colonies" --rename apiary.colonies=apiary.work --yes > /dev/null
shot undo "dexamen restore $dropped/apiary.colonies --rename apiary.colonies=apiary.work --conflict merge --where 'yard == \"north\"' --yes" "dexamen undo \$(last-restore) --yes"
keys guided 'dexamen restore --guided meadow' Up Up Up Up
shot verify 'dexamen verify meadow@latest' "dexamen verify $spoiled/apiary.colonies --live meadow" "dexamen browse $dropped/apiary.harvests"
shot drill "dexamen drill meadow --random 1h --that 'counts[\"apiary.colonies\"] > 1000'" 'dexamen evidence list --last 1m' 'dexamen evidence show 7'
shot search 'dexamen cluster inspect clover' 'dexamen snapshot clover' "dexamen --quiet restore 'clover@latest/fieldnotes-*' --rename 'fieldnotes-*=rehearsal-*' --yes"
shot policy 'dexamen policy preview nightly'

# A policy in fast motion: what takes months else passes in minutes. A cluster
# that does not answer is in it, and a daemon that is killed.
fast=$work/fast.yaml
sed -e 's/snapshot: "15 1 \* \* \*"/snapshot: every 20s/' -e 's/full_read: every 7d/full_read: every 1m/' -e 's/capture: 10m/capture: 10s/' -e 's/every_moment: 7d/every_moment: 1m/' \
    -e 's/thin: .*weekly.*/thin: [hourly for 3d, daily for 30d]/' -e 's/rpo: 30m/rpo: 1m/' -e 's/^clusters:/clusters:\n  fallow: { address: "mongodb:\/\/127.0.0.1:1\/", labels: { yard: north }, store: larder }/' "$DEXAMEN_CONFIG" > "$fast"
sed -i 's/^policies:/&/; s/^    rpo: 1m/    rpo: 1m\n    hooks:\n      - { before: snapshot, run: [\/bin\/echo, the bees are counted] }/' "$fast"
for life in 75 60; do
  "$bin" --config "$fast" daemon > "$work/daemon.log" 2>&1 &
  daemon=$!
  sleep $life
  kill -9 $daemon; wait $daemon 2> /dev/null || true
done
DEXAMEN_CONFIG=$fast
last=$("$bin" --json runs meadow --kind snapshot | sed -n 's/^ *"id": "\(.*\)",$/\1/p' | tail -1)
shot runs 'dexamen runs --since -2m --worst-first --store larder' "dexamen runs show $last"
shot retention 'dexamen retention meadow' 'dexamen points meadow' 'dexamen coverage meadow'
shot status 'dexamen status' 'dexamen runs --since -2m --failed'
# What is shown in a browser: the report, and the page of a daemon at work, as a phone has it.
view() { chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
  --disable-component-update --disable-sync --hide-scrollbars --user-data-dir="$work/browser" \
  --window-size="$2" --screenshot="$here/$1.png" "$3" > /dev/null 2>&1; }
"$bin" --quiet report --to "$work/report.html" > /dev/null
view report 1280,800 "file://$work/report.html"
printf 'daemon: { listen: "127.0.0.1:47019" }\n' >> "$fast"
"$bin" --config "$fast" daemon > "$work/daemon.log" 2>&1 &
daemon=$!
sleep 25
view page 500,844 http://127.0.0.1:47019/
kill $daemon
