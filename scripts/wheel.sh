#!/usr/bin/env bash
# Builds the wheel twice and compares; installs it into a bare environment of each Python there is, and runs it there.
# Usage: wheel.sh [PYTHON…]; without any: every python3.11 to 3.14 on the path and of pyenv.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
work=$(mktemp -d); chmod 755 "$work"; trap 'rm -rf "$work"' EXIT
say() { printf '%s\n' "$*"; }

SOURCE_DATE_EPOCH=$(git -C "$here" log -1 --format=%ct); export SOURCE_DATE_EPOCH
"${VENV:-$here/.venv}/bin/python" -m venv "$work/build"
"$work/build/bin/pip" install --quiet --disable-pip-version-check build
for turn in first second; do
  git -C "$here" archive HEAD --prefix=source/ | tar -x -C "$work"
  (cd "$work/source" && "$work/build/bin/python" -m build --outdir "$work/$turn" >/dev/null)
  rm -rf "$work/source"
done
for file in "$work"/first/*; do
  cmp "$file" "$work/second/$(basename "$file")" || { say "$(basename "$file") is not the same when it is built again"; exit 1; }
done
say "built twice, the same: $(cd "$work/first" && ls | xargs)"

pythons=("$@")
if [ ${#pythons[@]} = 0 ]; then
  for version in 3.11 3.12 3.13 3.14; do
    found=$(ls -d "${PYENV_ROOT:-$HOME/.pyenv}"/versions/$version.*/bin/python 2>/dev/null | tail -1 || true)
    [ -n "$found" ] || found=$(command -v "python$version" || true)
    if [ -n "$found" ] && "$found" --version >/dev/null 2>&1; then pythons+=("$found"); else say "no Python $version here"; fi
  done
fi
for python in "${pythons[@]}"; do
  env="$work/env"; rm -rf "$env" "$work/try"; "$python" -m venv "$env"; mkdir "$work/try"; chmod 777 "$work/try"
  "$env/bin/pip" install --quiet --disable-pip-version-check "$work"/first/*.whl
  (
    cd "$work/try"; PATH="$env/bin:$PATH"
    catenum demo --into demo >/dev/null
    catenum sample berth-swap -o berths.yaml --quiet
    catenum explore berths.yaml -o all --quiet >/dev/null 2>&1 || true
    catenum report all demo/before.json demo/trial.json -o case.html --quiet
    catenum check berths.yaml --junit junit.xml --sarif catenum.sarif --quiet
    catenum schema scenario >/dev/null; catenum help --man >/dev/null; catenum completion bash >/dev/null
    python - <<'END'
import importlib.resources
import catenum
with catenum.connect() as server:
    assert catenum.explore("berths.yaml", target=server).ever("deadlock")
assert len(catenum.read("all")._repr_html_()) > 10_000
assert importlib.resources.files("catenum").joinpath("py.typed").is_file()
END
    test -s case.html && test -s junit.xml && test -s catenum.sarif
  )
  say "$("$python" --version): demo, explore, report, check, import catenum"
done
