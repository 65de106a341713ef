"""Writes docs/explored.md: what exploring makes of every sample on each server. Usage:
explored.py FILE
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

from catenum import samples
from catenum.core.servers import NAMES

CATENUM = str(Path(sys.executable).with_name("catenum"))
COLUMNS = (
    "| orders | classes | run | outcomes | data | rules | chain"
    " |\n|---|---|---|---|---|---|---|---|\n"
)
HEAD = """# The samples, explored

Made by `scripts/explored.py` with `catenum explore SAMPLE --json` on private servers. *Classes* is
the most there can be, counted before the start; *run* is what can be made. Kinds are counted in
schedules.

"""


def explored(name: str, server: str, *more: str) -> dict:
    """One exploration; empty where the sample has no text for the server, or needs what it has
    not.
    """
    command = [CATENUM, "explore", name, "--target", f"local:{server}", "--json", "--quiet", *more]
    said = subprocess.run(command, capture_output=True, text=True, check=False).stdout
    return json.loads(said) if said.strip() else {}


def row(found: dict) -> str:
    """One line of the table."""
    counts, reach = found["counts"], found["reach"]
    entries = found["outcomes"]
    kinds: dict[str, int] = {}
    names: dict[str, int] = {}
    for entry in entries:
        kinds[entry["kind"]] = kinds.get(entry["kind"], 0) + entry["count"]
        if entry["anomaly"]:
            names[entry["anomaly"]] = names.get(entry["anomaly"], 0) + entry["count"]
    broken = sum(e["count"] for e in entries if any(v is not True for v in e["holds"].values()))
    classes = f"{reach['classes']:,}" if reach["classes"] is not None else "many"
    return " | ".join(
        [
            f"{reach['orders']:,}",
            classes,
            f"{counts['run']:,}" + ("" if reach["complete"] else " (a part)"),
            ", ".join(f"{kind} {count}" for kind, count in kinds.items()),
            ", ".join(f"{name} {count}" for name, count in names.items()) or "serial",
            f"false in {broken}" if broken else "kept",
            str(counts["longest_chain"]),
        ]
    )


def main(file: str) -> None:
    """Explore all and write the tables."""
    parts = [HEAD]
    for server in NAMES:
        parts.append(f"## {server}\n\n")
        parts.append(f"| sample {COLUMNS}")
        for name in samples.names():
            found = explored(name, server)
            if found:
                parts.append(f"| {name} | {row(found)} |\n")
        parts.append("\n")
    for name in ("crane-standby", "manifest-total"):
        for server in NAMES:
            parts.append(f"## {name} on {server}, at each level\n\n")
            parts.append(f"| level {COLUMNS}")
            for one in explored(name, server, "--isolation", "each")["levels"]:
                level = next(iter(one["levels"].values()))
                parts.append(f"| {level} | {row(one)} |\n")
            parts.append("\n")
    Path(file).write_text("".join(parts), encoding="utf-8")


main(sys.argv[1])
