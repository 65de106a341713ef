"""Makes docs/matrix.md: what each isolation level prevents on private servers of each kind.

scripts/levels.py > docs/matrix.md
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

SCRIPT = str(Path(sys.executable).with_name("catenum"))
SERVERS = ("postgresql", "mariadb", "mysql")
TITLES = {"postgresql": "PostgreSQL", "mariadb": "MariaDB", "mysql": "MySQL"}


def matrices() -> dict[str, Any]:
    """What ``catenum levels`` says of all servers."""
    targets = [word for server in SERVERS for word in ("--target", f"local:{server}")]
    done = subprocess.run(
        [SCRIPT, "levels", "--json", *targets], check=True, capture_output=True, text=True
    )
    found: dict[str, Any] = json.loads(done.stdout)
    return found


def lines(found: dict[str, Any]) -> list[str]:
    """The page."""
    told = [
        "# What each isolation level prevents",
        "",
        "Made by `scripts/levels.py` from `catenum levels` on private servers. How to read it:"
        " [levels.md](levels.md).",
    ]
    for matrix in found["servers"]:
        cells = {(cell["probe"], cell["level"]): cell for cell in matrix["cells"]}
        levels = matrix["levels"]
        probes = dict.fromkeys(cell["probe"] for cell in matrix["cells"])
        told += ["", f"## {TITLES[matrix['server']]} {matrix['version']}", ""]
        told.append(f"| probe | {' | '.join(levels)} |")
        told.append(f"|---|{'---|' * len(levels)}")
        for probe in probes:
            row = [_shown(cells[probe, level]) for level in levels]
            told.append(f"| `{probe}` | {' | '.join(row)} |")
        told += ["", *_notes(matrix)]
    told += ["", "## Where the servers differ", ""]
    told.append(f"| probe | level | {' | '.join(TITLES[m['server']] for m in found['servers'])} |")
    told.append(f"|---|---|{'---|' * len(found['servers'])}")
    told += [
        f"| `{one['probe']}` | {one['level']} | {' | '.join(one['results'])} |"
        for one in found["differences"]
    ]
    return told


def _shown(cell: dict[str, Any]) -> str:
    word = f"**{cell['result']}**" if cell["result"] == "happens" else str(cell["result"])
    return word if cell["proven"] else f"{word}, not proven"


def _notes(matrix: dict[str, Any]) -> list[str]:
    found = [f"- The same in practice: {', '.join(levels)}." for levels in matrix["same_levels"]]
    for word in ("weaker", "stricter"):
        pairs = [f"`{probe}` at {level}" for probe, level in matrix[word]]
        if pairs:
            told = f"{word.capitalize()} than the standard, as levels.md reads it"
            found.append(f"- {told}: {', '.join(pairs)}.")
    for one in matrix["changed"]:
        if one["after"] != one["before"]:
            now, before = _outline(one["after"]), _outline(one["before"])
            how = f"with {one['reader']} {one['change']}"
            found.append(
                f"- `{one['probe']}` at {one['level']}, {how}: {now}; without it {before}."
            )
    return found


def _outline(one: dict[str, Any]) -> str:
    return f"{one['kind']} (given up: {', '.join(one['given_up']) or 'nobody'})"


if __name__ == "__main__":
    print("\n".join(lines(matrices())))
