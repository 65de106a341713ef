"""What servers' own logs and reports captured, and a scenario that reproduces it."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, tzinfo
from pathlib import Path

from catenum.api.files import read_file
from catenum.api.listener import SILENT, Listener
from catenum.api.scenarios import refuse_unsafe
from catenum.api.servers import engine_for, find_target
from catenum.core.errors import InputError, Place
from catenum.core.logs.conflict_recording import conflicts_of
from catenum.core.logs.conflicts import Conflict, Member, numbered, with_names
from catenum.core.logs.masking import mask_staged
from catenum.core.logs.restage import Staged, restaged, with_definitions
from catenum.core.logs.servers import log_rules_of
from catenum.core.logs.tables import Schema, read_schema
from catenum.core.record.recording import Recording
from catenum.core.record.recording_file import from_json
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import rules_of
from catenum.engines.definitions import Definitions
from catenum.engines.drivers import server_module
from catenum.engines.ports import Engine
from catenum.intake.conflicts import conflicts_in
from catenum.intake.files import sources


@dataclass(frozen=True, kw_only=True)
class LogOptions:
    """Which part of the logs is meant, and what else is known of their server.

    ``zone``: of times that name none; ``prefix``: what lines begin with, as the server's setting
    says it; ``schema``: a file with definitions of the tables; ``target``: the server's URL, which
    is only read.
    """

    since: datetime | None = None
    until: datetime | None = None
    zone: tzinfo | None = None
    prefix: str | None = None
    schema: Path | None = None
    target: str | None = None


@dataclass(frozen=True, kw_only=True)
class LogReading:
    """The conflicts of logs; ``files``: how many were read; ``limits``: what this kind of log does
    not have.
    """

    conflicts: list[Conflict]
    files: int
    limits: str | None = None


@dataclass(frozen=True, kw_only=True)
class Restaged:
    """A scenario of a conflict. ``same``: whether the same conflict came when it was played (None:
    it was not played); ``tried``: each variant and its outcome; ``differs``: what is not the same;
    ``code``: the file with parameters in the place of captured values.
    """

    staged: Staged
    same: bool | None = None
    tried: list[tuple[str, str]] = field(default_factory=list)
    differs: list[str] = field(default_factory=list)
    code: str | None = None

    @property
    def text(self) -> str:
        """The scenario file."""
        return self.code if self.code is not None else self.staged.text()


def read_logs(
    *paths: str | Path, options: LogOptions | None = None, listener: Listener = SILENT
) -> LogReading:
    """The conflicts that logs, reports and recordings captured, each once. Raises InputError,
    TargetError.
    """
    options = options or LogOptions()
    recorded = [path for path in map(Path, paths) if is_recording(path)]
    if recorded and len(recorded) == len(paths):
        found_in = [conflicts_of(from_json(read_file(path), str(path))) for path in recorded]
        flat = [conflict for conflicts in found_in for conflict in conflicts]
        return LogReading(conflicts=flat, files=len(recorded))
    found = sources([str(path) for path in paths], options.prefix)
    size = sum(source.size for source in found)

    def show(at: int) -> None:
        listener.part(min(1.0, at / size) if size else 1.0, "reading")

    def warn(text: str) -> None:
        listener.clear()
        listener.warn(text)

    try:
        conflicts = conflicts_in(
            found,
            since=options.since,
            until=options.until,
            zone=options.zone,
            progress=show,
            warn=warn,
        )
        if options.schema is not None and conflicts:
            schema = schema_in(options.schema, conflicts[0].server)
            conflicts = [with_definitions(conflict, schema) for conflict in conflicts]
        numbers = numbered(conflicts)
        if options.target is not None and numbers:
            with definitions_of(options.target, conflicts[0].server, listener) as server:
                conflicts = with_names(conflicts, server.names(numbers))
        limits = log_rules_of(found[0].server).log_limits
        return LogReading(conflicts=conflicts, files=len(found), limits=limits)
    finally:
        listener.clear()


def restage(
    conflict: Conflict,
    *,
    options: LogOptions | None = None,
    name: str | None = None,
    mask: bool = False,
    play: bool = True,
    literals: bool = False,
    listener: Listener = SILENT,
) -> Restaged:
    """A scenario that reproduces a captured conflict, played on a private server to see that it
    does. Its transactions have parameters for what was captured, unless ``literals`` asks for the
    values themselves. Raises InputError, TargetError.
    """
    options = options or LogOptions()
    if mask:  # a scenario that a recording carries has values in its rules and conditions, too
        conflict = replace(conflict, definition=None)
    if options.target is not None:
        staged = _from_server(options.target, conflict, name, listener)
    else:
        schema = schema_in(options.schema, conflict.server) if options.schema is not None else None
        staged = restaged(conflict, schema, name=name)
    if mask:
        staged, conflict = mask_staged(staged, conflict, of_server=options.target is not None)
    file = read_scenario(staged.text().encode(), "restaged")
    refuse_unsafe(file, conflict.server, outside=False)
    if not play:
        code = None if literals else _as_code(staged, conflict.server)
        return Restaged(staged=staged, code=code)
    from catenum.intake.replay import replay

    target = find_target(f"local:{conflict.server}", listener)
    with engine_for(target, file, listener=listener) as engine:
        found = replay(engine, conflict, staged)
        code = None if literals else _as_code(found.staged, conflict.server)
        if code is not None and found.recording is not None:
            code = code if _same_as_code(engine, code, found.recording) else None
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
    staged = replace(found.staged, notes=[*found.staged.notes, said])
    return Restaged(
        staged=staged,
        code=_as_code(staged, conflict.server) if code is not None else None,
        same=found.same,
        tried=found.tried,
        differs=found.differs,
    )


def _as_code(staged: Staged, server: str) -> str | None:
    """The scenario with parameters in the place of captured values; None where there are none."""
    from catenum.core.sweep.parametrize import parametrized
    from catenum.core.sweep.rewrite import rewritten

    file = read_scenario(staged.text().encode(), "restaged")
    made = parametrized(file.scenario.for_server(server), rules_of(server))
    if not made.changed:
        return None
    notes = [*staged.notes, *(f"{note[0].upper()}{note[1:]}." for note in made.notes)]
    return rewritten(replace(staged, notes=notes).text(), made.transactions)


def _same_as_code(engine: Engine, code: str, recording: Recording) -> bool:
    """Whether the scenario with parameters comes to the same, when it is played."""
    from catenum.lab.run.play import PlayOptions
    from catenum.lab.run.play import play as play_scenario

    try:
        file = read_scenario(code.encode(), "restaged")
        played = play_scenario(engine, file.scenario, PlayOptions(), file=file)
    except InputError:
        return False
    return (
        played.outcome.kind == recording.outcome.kind
        and [one.victim for one in played.deadlocks] == [one.victim for one in recording.deadlocks]
        and [{m.transaction for m in one.members} for one in played.deadlocks]
        == [{m.transaction for m in one.members} for one in recording.deadlocks]
    )


def _from_server(target: str, conflict: Conflict, name: str | None, listener: Listener) -> Staged:
    """With tables and rows of a user's server. Raises InputError, TargetError."""
    rules = rules_of(conflict.server)
    with definitions_of(target, conflict.server, listener) as server:
        tables = {
            table
            for member in conflict.members
            for sql in _texts(member)
            for table, _ in rules.sql.tables_of(sql)
        }
        schema = read_schema(server.script(sorted({*tables, *conflict.relations})), rules)
        if not schema.tables:
            raise InputError(f"{server.shown} has none of the tables {', '.join(sorted(tables))}")
        return restaged(conflict, schema, name=name, fetch=server.rows)


def _texts(member: Member) -> Sequence[str]:
    return (
        *(member.history or ()),
        *member.later,
        *((member.statement,) if member.statement else ()),
    )


@contextlib.contextmanager
def definitions_of(asked: str, server: str, listener: Listener = SILENT) -> Iterator[Definitions]:
    """A connection that reads definitions. Raises InputError where the target is no such server,
    TargetError.
    """
    target = find_target(asked, listener)
    if target.url is None or target.server != server:
        title = rules_of(server).title
        raise InputError(
            f"--target {target.shown}: the log is one of {title}, so this must be the URL of one"
        )
    found: Definitions = server_module(server, ".engine").read_definitions(target.url, target.shown)
    try:
        yield found
    finally:
        found.close()


def schema_in(path: Path, server: str) -> Schema:
    """The definitions in a schema file. Raises InputError where there are none."""
    schema = read_schema(read_file(path).decode("utf-8", "backslashreplace"), rules_of(server))
    if not schema.tables:
        raise InputError("this has no definition of a table", place=Place(str(path)))
    return schema


def is_recording(path: Path) -> bool:
    """Whether a file is a recording, by how it begins."""
    try:
        with path.open("rb") as stream:
            return b'"catenum-recording/' in stream.read(4_000)
    except OSError:
        return False
