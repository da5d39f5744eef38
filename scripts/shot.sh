#!/bin/sh
# Captures a terminal in a real window as PNG: shot.sh OUT.png SECONDS COMMAND
# The command runs in a shell within xterm under Xvfb; the picture is taken after so many seconds.
set -e
out="$1"; wait="$2"; shift 2
command -v Xvfb >/dev/null && command -v xterm >/dev/null && command -v import >/dev/null || {
	echo "needs Xvfb, xterm and ImageMagick (Debian: xvfb xterm imagemagick fonts-dejavu-core)" >&2; exit 1; }
n=90; while [ -e "/tmp/.X11-unix/X$n" ]; do n=$((n + 1)); done
Xvfb ":$n" -screen 0 1280x800x24 >/dev/null 2>&1 & xvfb=$!
trap 'kill $xterm $xvfb 2>/dev/null || true' EXIT
i=0; until [ -e "/tmp/.X11-unix/X$n" ] || [ $i -gt 50 ]; do sleep 0.1; i=$((i + 1)); done
cat > "/tmp/shot.$$" <<SH
PS1='\$ '; export PS1; printf '\033[?25l'
$*
sleep 60
SH
DISPLAY=":$n" xterm -geometry "${GEOMETRY:-128x42}+0+0" -b 12 -bw 0 -fa 'DejaVu Sans Mono' -fs "${FONT:-11}" -bg '#16181d' -fg '#d7dae0' \
	-xrm 'XTerm*color1: #e06c75' -xrm 'XTerm*color2: #7fb77e' -xrm 'XTerm*color3: #d7a65f' -xrm 'XTerm*scrollBar: false' -xrm 'XTerm*boldMode: true' \
	-e sh "/tmp/shot.$$" & xterm=$!
sleep "$wait"
mkdir -p "$(dirname "$out")"
DISPLAY=":$n" import -window root "$out"
rm -f "/tmp/shot.$$"
