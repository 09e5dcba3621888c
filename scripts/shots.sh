#!/usr/bin/env bash
# Takes a picture of each main view: shots.sh PROGRAM FOLDER. Runs the demo in a terminal on a screen of
# its own, does the work by keys, and waits for words before each picture.
set -euo pipefail
program=$(realpath "$1")
folder=$(realpath "$2")
work=$(mktemp -d)
display=":$((100 + $$ % 800))"
server="$work/tmux"
export DISPLAY=$display

Xvfb "$display" -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
screen_pid=$!
trap 'tmux -S "$server" kill-server 2>/dev/null || true; kill $screen_pid 2>/dev/null || true; rm -rf "$work"' EXIT
for _ in $(seq 50); do [ -e "/tmp/.X11-unix/X${display#:}" ] && break; sleep 0.1; done

printf 'set -g status off\nset -g default-terminal tmux-256color\nset -ga terminal-overrides ",*:Tc"\nset -g escape-time 0\n' >"$work/conf"
xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 160x47+0+0 -bw 0 -b 0 -bg '#0d1117' -fg '#d0d7de' +sb \
    -e tmux -S "$server" -f "$work/conf" new-session -c "$work" -s s "export COLORTERM=truecolor; '$program' demo --dir demo --theme dark" >/dev/null 2>&1 &

text() { tmux -S "$server" capture-pane -p -t s 2>/dev/null || true; }
wait_for() {
    for _ in $(seq 600); do text | grep -qF -- "$1" && return 0; sleep 0.1; done
    echo "never saw '$1' in:" >&2
    text >&2
    exit 1
}
keys() { tmux -S "$server" send-keys -t s "$@"; }
typed() { tmux -S "$server" send-keys -t s -l -- "$1"; }
# The picture is taken once the terminal has drawn what tmux has.
picture() { sleep 0.6; import -window root -depth 8 +dither -colors 96 "$folder/$1.png"; echo "$1.png"; }

wait_for "fetch what quill has since (f, then n)"
wait_for "1 576 770 rows"
# What the services that the demo runs have since: minutes of both, and the calendar.
keys f
wait_for "to fetch"
keys Down m
wait_for "of the marked"
for _ in $(seq 40); do
    text | grep -qF "│ NOKSEK@tarn:1m" && break
    keys Down
    sleep 0.1
done
keys m n
wait_for "2 series: "
wait_for "here until"
keys e
wait_for "dated facts new"
keys Up
picture feeds
keys f
wait_for "done lately"
picture shelf
keys i
typed "demo/raw-3/tarn/NOKSEK_1m.csv"
keys Tab
typed tarn
wait_for "as it is written"
picture intake
keys Escape
wait_for "done lately"
keys 3
wait_for completeness
picture check
keys M
wait_for "before: "
picture mends
keys a
wait_for "mended:"
keys 4
wait_for "midnight is 17:00 in New York"
picture align
keys a
wait_for "anchored: stored in UTC"
keys 5
wait_for "adds up"
picture splice
keys a
wait_for "joined:1m is edition 1"
keys 6 a
wait_for "all up to date"
picture frames
keys 7
wait_for "what it means"
picture compose
keys 8
wait_for "can be written"
keys Down Down Down . .
wait_for "day-first"
keys a
wait_for "write it to"
keys C-u
typed "joined.csv"
keys Enter
wait_for "✓ proved"
picture deliver
keys v
wait_for "a round turn of a lot by hour"
picture costs
keys 2 + + + + + m
wait_for "mean of 20"
keys d , , , , , , , , , , , , , , , , , , , , Up Up Up Enter
wait_for "1 level"
keys n e
wait_for "words of the level"
typed "high of the week"
keys Enter
wait_for "1 level high of the week"
keys Escape d d d d d
wait_for "drawing: range"
keys , , , , , , , , , , , , , , Down Down Down Enter
wait_for "from 20"
keys . . . . . . . . Up Up Up Up Up Up Enter
wait_for "2 range"
picture chart
keys D
wait_for "write the dossier to"
keys C-u
typed "dossier.pdf"
keys Enter
for _ in $(seq 600); do [ -s "$work/dossier.pdf" ] && break; sleep 0.1; done
sleep 0.5
pdftoppm -r 110 -f 1 -l 1 -singlefile -png "$work/dossier.pdf" "$folder/dossier"
echo dossier.png
keys 1
wait_for "done lately"
keys /
typed "NOKSEK quill:ticks"
keys Enter
wait_for "▸quill:ticks"
keys 9
wait_for "recorded ticks"
keys n
sleep 1
keys K
wait_for "name and bracket"
keys C-u
typed "tight stop 90pt target 140pt"
keys Enter
wait_for "bracket tight"
# Deals with a bracket that is hit or not, and one that is on in the picture; a pane of hours beside.
keys '>' '>' b Space
sleep 4
keys Space x s Space
sleep 4
keys Space x
keys i
wait_for "another pane"
keys C-u
typed "1h"
keys Enter
wait_for "quill:ticks 1h"
keys b M M t
wait_for "bought 1.00 at"
picture rehearse
keys J
wait_for "a trade in the mean"
picture journal
keys R
wait_for "report to"
keys C-u
typed "run.pdf"
keys Enter
for _ in $(seq 600); do [ -s "$work/run.pdf" ] && break; sleep 0.1; done
sleep 0.5
pdftoppm -r 110 -f 1 -l 1 -singlefile -png "$work/run.pdf" "$folder/report"
echo report.png
keys J C
wait_for "what can be played"
picture days
keys C
keys 1
wait_for "done lately"
keys Escape
keys /
typed "BLY-2024-05"
keys Enter
sleep 0.5
# The order book of a contract, from the vendor's service.
"$program" --shelf "$(echo "$work"/demo/shelf*)" fetch 'BLY-2024-05@quill:ticks' 'BLY-2024-05@quill:depth' --from 2024-03-27 >/dev/null
for _ in 1 2 3; do
    text | grep -qF "▸quill:ticks" && break
    keys ]
    sleep 0.3
done
wait_for "▸quill:ticks"
keys 9
wait_for "recorded ticks"
keys n
sleep 1
keys l
wait_for "size of deals"
keys C-u
typed "12"
keys Enter K
wait_for "name and bracket"
keys C-u
typed "barley stop 150pt target 250pt"
keys Enter
wait_for "bracket barley"
keys M M M b M
wait_for "bought"
picture depth
for _ in 1 2 3; do
    text | grep -qF "▸quill:1m" && break
    keys ]
    sleep 0.3
done
keys 7 c
wait_for "BLY.chain = BLY*"
keys Enter
wait_for "the gap is that of"
keys '>'
wait_for "▲ 2024-03-05"
picture chain
keys q
