#!/bin/sh
# Makes sure programs are there: need.sh PROGRAM[:PACKAGE] ... Installs what is missing where it can
# (Debian and its kin as root or with sudo, Homebrew), else says how.
set -eu
missing=""
for want in "$@"; do
    program=${want%%:*}
    package=${want##*:}
    command -v "$program" >/dev/null 2>&1 || missing="$missing $package"
done
[ -z "$missing" ] && exit 0
root=""
[ "$(id -u)" = 0 ] || root="sudo -n"
echo "installing:$missing"
if command -v apt-get >/dev/null 2>&1 && { [ -z "$root" ] || sudo -n true 2>/dev/null; }; then
    # shellcheck disable=SC2086
    $root apt-get update -qq && $root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq $missing >/dev/null
elif command -v brew >/dev/null 2>&1; then
    # shellcheck disable=SC2086
    brew install $missing
else
    echo "Please install$missing with your system's package manager and try again." >&2
    exit 1
fi
