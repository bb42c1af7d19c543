#!/bin/sh
# Pictures of the main views for docs/screenshots, from the demo in memory on a clock that stands (python -m
# scripts.shots): each is drawn by an xterm of 1280x800 on a virtual screen. All of them, or those named:
# sh scripts/shots.sh live pad
set -eu
cd "$(dirname "$0")/.."
missing=""
for pair in xterm:xterm Xvfb:xvfb import:imagemagick; do
  command -v "${pair%%:*}" >/dev/null || missing="$missing ${pair##*:}"
done
if [ -n "$missing" ]; then
  [ "$(id -u)" = 0 ] || { echo "install first:$missing"; exit 1; }
  apt-get update -q && apt-get install -y -q $missing fonts-dejavu-core
fi

own=/tmp/kanaleto-shots # some pictures show where the site is
mkdir "$own" || { echo "another make shots is under way, or its folder $own was left: remove it"; exit 1; }
trap 'rm -rf "$own"' EXIT
display=":$((200 + $$ % 500))"
Xvfb "$display" -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
screen=$!
for name in ${*:-$(.venv/bin/python -m scripts.shots)}; do
  rm -rf "$own"/* # so that no picture shows what another has opened
  XDG_DATA_HOME="$own/data" XDG_STATE_HOME="$own/state" .venv/bin/python -m scripts.shots "$own" "$name"
  printf '\033[?25l' >>"$own/$name.ansi"
  DISPLAY="$display" xterm -geometry 160x47+0+0 -fa "DejaVu Sans Mono" -fs 10 -b 0 -bw 0 +sb \
    -e sh -c "stty -echo; cat '$own/$name.ansi'; sleep 60" >/dev/null 2>&1 &
  terminal=$!
  sleep 3
  DISPLAY="$display" import -window root -strip "$own/$name.png"
  kept="docs/screenshots/$name.png" # the same picture may be packed in more than one way
  [ -f "$kept" ] && [ "$(compare -metric AE "$kept" "$own/$name.png" null: 2>&1)" = 0 ] || mv "$own/$name.png" "$kept"
  kill "$terminal"
  wait "$terminal" 2>/dev/null || true
done
kill "$screen"
wait "$screen" 2>/dev/null || true
