#!/bin/sh
# Pictures of the main views on the demo site, for docs/screenshots: an xterm of about 1280x800 on a virtual screen.
# All of them, or those named: sh scripts/shots.sh live pad
set -eu
cd "$(dirname "$0")/.."
missing=""
for pair in xterm:xterm Xvfb:xvfb import:imagemagick tmux:tmux; do
  command -v "${pair%%:*}" >/dev/null || missing="$missing ${pair##*:}"
done
if [ -n "$missing" ]; then
  [ "$(id -u)" = 0 ] || { echo "install first:$missing"; exit 1; }
  apt-get update -q && apt-get install -y -q $missing fonts-dejavu-core
fi

own=$(mktemp -d) # so that no picture shows what its maker has opened
trap 'rm -rf "$own"' EXIT
export XDG_DATA_HOME="$own/data" XDG_STATE_HOME="$own/state"

shot() { # NAME SECONDS COMMAND KEYS...: after SECONDS press KEYS, one a second, and save docs/screenshots/NAME.png
  name=$1 wait=$2 command=$3; shift 3
  case " $only " in "  " | *" $name "*) ;; *) return ;; esac
  socket="shots$$" display=":$((200 + $$ % 500))"
  Xvfb "$display" -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 & screen=$!
  sleep 1
  tmux -L "$socket" -f /dev/null new-session -d -x 160 -y 47 "env COLORTERM=truecolor TERM=xterm-256color $command"
  tmux -L "$socket" set -g status off
  tmux -L "$socket" set -ga terminal-overrides ",*:Tc"
  DISPLAY="$display" xterm -geometry 160x47+0+0 -fa "DejaVu Sans Mono" -fs 10 -b 0 -bw 0 +sb -e tmux -L "$socket" attach >/dev/null 2>&1 &
  sleep "$wait"
  for key in "$@"; do tmux -L "$socket" send-keys "$key"; sleep 1; done
  sleep 2
  DISPLAY="$display" import -window root "docs/screenshots/$name.png"
  tmux -L "$socket" kill-server
  kill "$screen"
  wait "$screen" 2>/dev/null || true
}

only=$*
k=.venv/bin/kanaleto
shot live 62 "$k demo" R p j j j j j j j j j j p j j j j j j j j j j j j j j j j p Enter
shot trend 75 "$k demo" v j j j j j j j j j j v j j j j j j j j j j j j v j v j j v p t + + Left Left Left Left Left Left v Left Left Left Left Left Left Left Left
shot moved 20 "$k demo" m
shot across 20 "$k demo" Down a
shot live-fresco 40 "$k demo --theme fresco"
shot find 6 "$k demo" 1 j j g e
shot everything 6 "$k demo" 1 j j f F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12
shot map 30 "$k demo" 2 z
shot wire 12 "$k demo" 4 k k k
shot bench 6 "$k demo" 5 j j I I F12 F12 F12 y Enter Tab j j j j j j f F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12
masters() { # who asks the bridge, for half a minute
  sleep 14
  $k read tcp://127.0.0.1:15502 input 0 --unit 41 --count 3 --every 0.5 --times 40 >/dev/null 2>&1 &
  $k read tcp://127.0.0.1:15502 holding 100 --unit 42 --count 4 --every 1 --times 20 >/dev/null 2>&1 &
  $k read tcp://127.0.0.1:15502 holding 16 --unit 13 --count 4 --every 2 --times 10 >/dev/null 2>&1 &
}
masters &
shot bridge 8 "$k demo" 6 b F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 F12 k k k k k k k k
shot proof 12 "$k demo" 7 ] Enter Enter 2 . 3 Enter ] Enter 1 8 . 3 Enter ] V f a i l e d Space s e n s o r Space w a s Space n o t Space o p e n e d Enter k k
shot write 12 "$k demo" / t a r g e t Enter u w 6 5
shot pad 12 "$k demo" / t a r g e t Enter u u W K Enter Escape w o Enter Escape Down
shot acting 12 "$k demo" / h o r n Enter u w C-u o n Space 9 0 Space s Enter Escape Escape / t a r g e t Enter u u w 6 5 Enter C-u 4 0 Space e v e r y Space 0 . 5 Space s Space t h e n Space 0 Enter y Escape Escape H
