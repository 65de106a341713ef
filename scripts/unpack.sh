#!/usr/bin/env bash
# Unpacks a server's programs, with all that they need, into a folder, and installs nothing. Usage: unpack.sh PACKAGE FOLDER
# For servers that the system's own Debian release has not: the package comes from the suite that is being made
# (unstable), by the mirror that the machine has for its own. The programs run through that folder's own loader.
set -euo pipefail
package=$1 folder=$2
say() { printf '%s\n' "$*" >&2; }

command -v apt-get >/dev/null && command -v dpkg-deb >/dev/null || { say "No apt-get here, so $package is not unpacked."; exit 1; }
[ "$(dpkg --print-architecture)" != i386 ] || exit 1
[ -e "$folder/unpacked" ] && exit 0
mirror=$(cat /etc/apt/sources.list.d/*.sources 2>/dev/null | sed -n 's/^URIs: *\([^ ]*debian\/*\) *$/\1/p' | head -1)
[ -n "$mirror" ] || mirror=$(cat /etc/apt/sources.list /etc/apt/sources.list.d/*.list 2>/dev/null | sed -n 's/^deb \(\[[^]]*\] \)\?\([^ ]*debian\/*\) .*/\2/p' | head -1)
key=$(ls /usr/share/keyrings/debian-archive-keyring.* 2>/dev/null | head -1)
[ -n "$mirror" ] && [ -n "$key" ] || { say "This machine has no Debian mirror, so $package is not unpacked."; exit 1; }

work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$work"/{lists/partial,archives/partial,root}
chmod -R go+rx "$work"
: > "$work/status"
echo "deb [signed-by=$key] $mirror unstable main" > "$work/sources.list"
apt() {
  apt-get -qq -o Dir::Etc::sourcelist="$work/sources.list" -o Dir::Etc::sourceparts=/dev/null -o Dir::State="$work" \
    -o Dir::State::lists="$work/lists" -o Dir::State::status="$work/status" -o Dir::Cache="$work" \
    -o Dir::Cache::archives="$work/archives" -o Debug::NoLocking=1 -o APT::Install-Recommends=false \
    -o APT::Sandbox::User=root -o Acquire::Retries=2 -o Acquire::http::Timeout=30 "$@" >/dev/null
}
apt update && apt install --yes --download-only "$package" || { say "$package cannot be fetched from $mirror."; exit 1; }
for deb in "$work"/archives/*.deb; do dpkg-deb -x "$deb" "$work/root"; done
rm -rf "$work/root/usr/share/"{doc,man,locale} "$folder"
mkdir -p "$(dirname "$folder")"
touch "$work/root/unpacked"
chmod -R go+rX "$work/root"
mv "$work/root" "$folder"
