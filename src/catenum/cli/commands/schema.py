"""``catenum schema``: JSON Schemas, for editors and for programs that read recordings."""

from __future__ import annotations

import argparse
import json
from typing import IO

from catenum.cli.exits import ExitCode


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``schema``."""
    parser.add_argument("what", choices=["scenario", "recording", "exploration"], help="which format")


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Print it."""
    out.write(json.dumps(schema_of(args.what), indent=2, ensure_ascii=False) + "\n")
    return ExitCode.OK


def schema_of(what: str) -> dict[str, object]:
    """The JSON Schema (draft 2020-12) of ``scenario``, ``recording`` or ``exploration``."""
    from catenum.core.record import recording_file as recording
    from catenum.core.scenario.model import Scenario
    from catenum.core.space import exploration_file as exploration

    make, title = {
        "scenario": (Scenario.model_json_schema, "Catenum scenario"),
        "recording": (recording.json_schema, f"Catenum recording ({recording.FORMAT})"),
        "exploration": (exploration.json_schema, f"Catenum exploration ({exploration.FORMAT})"),
    }[what]
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **make(), "title": title}
