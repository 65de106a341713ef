"""``catenum restage``: a scenario that reproduces a captured conflict, played to see that it does."""

from __future__ import annotations

import argparse
import json
from dataclasses import replace
from typing import IO

from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.intake_options import add_intake_options, definitions_of, pick, read, schema_in
from catenum.core.capture.masking import mask_staged
from catenum.core.capture.restage import Staged, restaged
from catenum.core.capture.tables import read_schema
from catenum.core.errors import InputError
from catenum.core.scenario.reader import read_scenario
from catenum.core.serverlog.conflicts import Conflict, Member
from catenum.core.servers import rules_of

FORMAT = "catenum-restage/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``restage``."""
    add_intake_options(parser)
    parser.add_argument("--pick", type=common.positive, metavar="N", help="the conflict, by its number in 'intake'")
    parser.add_argument("--name", metavar="NAME", help="the scenario's name")
    parser.add_argument("--mask", action="store_true", help="replace values, alike ones alike, in statements and rows")
    parser.add_argument("--no-play", action="store_true", help="write the scenario without playing it")
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Write and play. The exit code is 0 if the same cycle came (or nothing was played), 1 if not."""
    conflicts, _, _ = read(args, err)
    _, conflict = pick(args, conflicts)
    if args.mask:  # a scenario that a recording carries has values in its rules and conditions, too
        conflict = replace(conflict, definition=None)
    if args.schema is not None and args.target is not None:
        raise InputError("--schema and --target both say where tables come from: give one of them")
    if args.target is not None:
        staged = _from_server(args, conflict, err)
    else:
        schema = schema_in(args.schema, conflict.server) if args.schema is not None else None
        staged = restaged(conflict, schema, name=args.name)
    if args.mask:
        staged, conflict = mask_staged(staged, conflict)
    file = read_scenario(staged.text().encode(), "restaged")
    common.refuse_unsafe(file, conflict.server, outside=False)
    if args.no_play:
        _write(args, staged, None, [], [], out)
        return ExitCode.OK
    from catenum.intake.replay import replay

    tell = common.teller(err, args.quiet)
    target = common.target_of(f"local:{conflict.server}", err)
    with common.engine_for(target, tell, file) as engine:
        found = replay(engine, conflict, staged)
    if found.same:
        how = found.tried[-1][0]
        version = found.recording.target.version if found.recording else ""
        said = f"Played on {rules_of(conflict.server).title} {version}: the same {conflict.kind} came"
        said += "." if how == "as it is" else f" ({how})."
        if how.startswith("in loops"):
            said += " Move by move it does not: 'catenum churn' runs the loops."
    else:
        said = "Played: the captured conflict did NOT come: " + "; ".join(found.differs)
    final = replace(found.staged, notes=[*found.staged.notes, said])
    _write(args, final, found.same, found.tried, found.differs, out)
    tell(said)
    if not found.same:
        for what, outcome in found.tried:
            tell(f"  tried {what}: {outcome}")
    return ExitCode.OK if found.same else ExitCode.FOUND


def _from_server(args: argparse.Namespace, conflict: Conflict, err: IO[str]) -> Staged:
    """With tables and rows of a user's server. Raises InputError, TargetError."""
    rules = rules_of(conflict.server)
    with definitions_of(args.target, conflict.server, err) as server:
        tables = {table for member in conflict.members for sql in _texts(member) for table, _ in rules.tables_of(sql)}
        schema = read_schema(server.script(sorted({*tables, *conflict.relations})), rules)
        if not schema.tables:
            raise InputError(f"{server.shown} has none of the tables {', '.join(sorted(tables))}")
        return restaged(conflict, schema, name=args.name, fetch=server.rows)


def _texts(member: Member) -> tuple[str, ...]:
    return (*(member.history or ()), *member.later, *((member.statement,) if member.statement else ()))


def _write(
    args: argparse.Namespace,
    staged: Staged,
    same: bool | None,
    tried: list[tuple[str, str]],
    differs: list[str],
    out: IO[str],
) -> None:
    if not args.json:
        out.write(staged.text())
        return
    value = {
        "format": FORMAT,
        "scenario": staged.text(),
        "same": same,
        "tried": [{"what": what, "outcome": outcome} for what, outcome in tried],
        "differs": differs,
        "notes": staged.notes,
    }
    out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
