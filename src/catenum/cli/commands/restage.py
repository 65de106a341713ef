"""``catenum restage``: a scenario that reproduces a captured conflict, played to see that it
does.
"""

from __future__ import annotations

import argparse
import json
import re
from dataclasses import replace
from pathlib import Path
from typing import IO, TYPE_CHECKING

from catenum.api import files
from catenum.api.scenarios import refuse_unsafe
from catenum.api.servers import engine_for
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.intake_options import add_intake_options, definitions_of, pick, read, schema_in
from catenum.cli.progress import Reporter
from catenum.core.errors import InputError
from catenum.core.logs.conflicts import Conflict, Member
from catenum.core.logs.groups import grouped
from catenum.core.logs.masking import mask_staged
from catenum.core.logs.restage import Staged, restaged
from catenum.core.logs.tables import read_schema
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import rules_of

if TYPE_CHECKING:
    from catenum.intake.replay import Replay

FORMAT = "catenum-restage/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``restage``."""
    add_intake_options(parser)
    parser.add_argument(
        "--pick", type=common.positive, metavar="N", help="the conflict, by its number in 'intake'"
    )
    parser.add_argument(
        "--all",
        type=Path,
        metavar="FOLDER",
        help="write a scenario of each kind of conflict into this folder",
    )
    parser.add_argument("--name", metavar="NAME", help="the scenario's name")
    parser.add_argument(
        "--mask",
        action="store_true",
        help="replace values, alike ones alike, in statements and rows",
    )
    parser.add_argument(
        "--no-play", action="store_true", help="write the scenario without playing it"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Write and play. The exit code is 0 if the same cycle came (or nothing was played), 1 if
    not.
    """
    if args.schema is not None and args.target is not None:
        raise InputError("--schema and --target both say where tables come from: give one of them")
    conflicts, _, _ = read(args, err)
    if args.all is not None:
        return _all(args, conflicts, out, err)
    _, conflict = pick(args, conflicts)
    staged, found = _restage(args, conflict, err)
    if found is None:
        _write(args, staged, None, [], [], out)
        return ExitCode.OK
    _write(args, staged, found.same, found.tried, found.differs, out)
    tell = common.teller(err, args.quiet)
    tell(staged.notes[-1])
    if found.same:
        tell("next: catenum explore SCENARIO   (of what was written)")
    if not found.same:
        for what, outcome in found.tried:
            tell(f"  tried {what}: {outcome}")
    return ExitCode.OK if found.same else ExitCode.FOUND


def _all(
    args: argparse.Namespace, conflicts: list[Conflict], out: IO[str], err: IO[str]
) -> ExitCode:
    """A scenario of each kind of conflict, of the latest of its kind. What cannot be restaged is
    told, and left out.
    """
    folder: Path = args.all
    if folder.exists() and any(folder.iterdir()):
        raise InputError(
            f"{folder} is not empty", advice="Name a folder that is empty, or that does not exist."
        )
    folder.mkdir(parents=True, exist_ok=True)
    code, rows = ExitCode.OK, []
    for place, group in enumerate(grouped(conflicts), 1):
        name = "-".join([f"{place:02}", group.kind, *group.relations])
        path = folder / f"{re.sub(r'[^A-Za-z0-9_-]+', '-', name)[:80]}.yaml"
        row: dict[str, object] = {
            "kind": group.kind,
            "count": group.count,
            "file": None,
            "same": None,
        }
        try:
            staged, found = _restage(args, conflicts[group.numbers[-1] - 1], err)
        except InputError as error:
            row["why"] = error.problems[0].message
            code = ExitCode.FOUND
        else:
            files.save_atomically(path, staged.text().encode(), shared=True)
            row |= {"file": str(path), "same": found.same if found is not None else None}
            code = ExitCode.FOUND if found is not None and not found.same else code
        rows.append(row)
        if not args.json and not args.quiet:
            played = (
                "not played"
                if row["same"] is None
                else "the same came"
                if row["same"]
                else "it did NOT come"
            )
            how = row.get("why") or played
            out.write(f"{group.kind} × {group.count}: {row['file'] or 'no scenario'} ({how})\n")
    if args.json:
        out.write(
            json.dumps({"format": FORMAT, "scenarios": rows}, indent=2, ensure_ascii=False) + "\n"
        )
    return code


def _restage(
    args: argparse.Namespace, conflict: Conflict, err: IO[str]
) -> tuple[Staged, Replay | None]:
    """The scenario of a conflict, and what came of playing it; None where it is not to be
    played.
    """
    if args.mask:  # a scenario that a recording carries has values in its rules and conditions, too
        conflict = replace(conflict, definition=None)
    if args.target is not None:
        staged = _from_server(args, conflict, err)
    else:
        schema = schema_in(args.schema, conflict.server) if args.schema is not None else None
        staged = restaged(conflict, schema, name=args.name)
    if args.mask:
        staged, conflict = mask_staged(staged, conflict, of_server=args.target is not None)
    file = read_scenario(staged.text().encode(), "restaged")
    refuse_unsafe(file, conflict.server, outside=False)
    if args.no_play:
        return staged, None
    from catenum.intake.replay import replay

    target = common.target_of(f"local:{conflict.server}", err)
    with engine_for(target, file, listener=Reporter(err, quiet=args.quiet)) as engine:
        found = replay(engine, conflict, staged)
    if found.same:
        how = found.tried[-1][0]
        version = found.recording.target.version if found.recording else ""
        said = (
            f"Played on {rules_of(conflict.server).title} {version}: the same {conflict.kind} came"
        )
        said += "." if how == "as it is" else f" ({how})."
        if how.startswith("in loops"):
            said += " Move by move it does not: 'catenum churn' runs the loops."
    else:
        said = "Played: the captured conflict did NOT come: " + "; ".join(found.differs)
    return replace(found.staged, notes=[*found.staged.notes, said]), found


def _from_server(args: argparse.Namespace, conflict: Conflict, err: IO[str]) -> Staged:
    """With tables and rows of a user's server. Raises InputError, TargetError."""
    rules = rules_of(conflict.server)
    with definitions_of(args.target, conflict.server, err) as server:
        tables = {
            table
            for member in conflict.members
            for sql in _texts(member)
            for table, _ in rules.sql.tables_of(sql)
        }
        schema = read_schema(server.script(sorted({*tables, *conflict.relations})), rules)
        if not schema.tables:
            raise InputError(f"{server.shown} has none of the tables {', '.join(sorted(tables))}")
        return restaged(conflict, schema, name=args.name, fetch=server.rows)


def _texts(member: Member) -> tuple[str, ...]:
    return (
        *(member.history or ()),
        *member.later,
        *((member.statement,) if member.statement else ()),
    )


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
