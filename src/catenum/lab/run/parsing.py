"""Has a server read the statements of a scenario without running them: what its grammar refuses,
and what names a table or a column that is not there.

The data is loaded into scratch space for that. Where some statement makes or changes tables, a
later one may mean those: then only what the grammar refuses is reported.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from catenum.core.errors import InputError, Problem
from catenum.core.record.recording import ServerError
from catenum.core.scenario.model import Scenario, chosen
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.servers import Rules, rules_of
from catenum.core.sql.beginning import begins
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine, Session
from catenum.lab.run.before import prepare_sessions
from catenum.lab.run.driver import Driver, connections_of
from catenum.lab.run.loading import load
from catenum.lab.run.safety import CHANGES

Path = tuple[str | int, ...]
#: The run's own schema before the name of a table.
_SCRATCH = re.compile(r"\bcatenum_[0-9a-f]{8}\.")


@dataclass(frozen=True)
class _Text:
    """A statement to be read: where it stands, what to call it, on which connection it runs;
    ``after_ddl``: a remedy has changed tables by then.
    """

    path: Path
    what: str
    sql: str
    connection: str | None
    after_ddl: bool = False


def refused_by(engine: Engine, file: ScenarioFile) -> Iterator[Problem]:
    """What the server refuses of a scenario's SQL, each with its place. The engine's scratch space
    must exist. Raises TargetError where the server is lost.
    """
    scenario = file.scenario.for_server(engine.info.server)
    sessions: dict[str, Session] = {}
    try:
        load(engine, scenario, file)
        for connection in scenario.connections:
            sessions[connection] = engine.open_session(connection)
        driver = Driver(engine, sessions, Clock(), connections=connections_of(scenario))
        prepare_sessions(driver, scenario, file)
        other = engine.open_session("rules")
        sessions[""] = other
        texts = list(_texts(scenario))
        errors = [
            (other if text.connection is None else sessions[text.connection]).read(text.sql)
            for text in texts
        ]
        rules = rules_of(engine.info.server)
        makes_tables = any(
            _makes_tables(text.sql, rules)
            for text, error in zip(texts, errors, strict=True)
            if text.path[0] == "transactions" and not (error is not None and error.syntax)
        )
        for text, error in zip(texts, errors, strict=True):
            if error is not None and (error.syntax or not (makes_tables or text.after_ddl)):
                yield _problem(file, text, error, engine)
    except InputError as error:
        yield from error.problems
    finally:
        engine.end(list(sessions.values()))


def _makes_tables(sql: str, rules: Rules) -> bool:
    found = rules.sql.footprint(sql)
    return found.changes_tables or not found.parsed or found.calls_unknown


def _texts(scenario: Scenario) -> Iterator[_Text]:
    of = connections_of(scenario)
    for name, transaction in scenario.transactions.items():
        for number, statement in enumerate(transaction.statements):
            if statement.kill is None and not begins(statement.text):
                yield _Text(
                    ("transactions", name, "statements", number),
                    f"{name} {number + 1}",
                    statement.text,
                    of.get(name, name),
                )
    for title, sql in scenario.holds.items():
        yield _Text(("holds", title), f"the rule '{title}'", chosen(sql), None)
    for title, remedy in scenario.remedies.items():
        for kind in CHANGES:
            for name, by_number in (getattr(remedy, kind) or {}).items():
                for number, one in by_number.items():
                    path: Path = ("remedies", title, kind, name, number)
                    what = f"remedy '{title}', {name} {number}"
                    if one.kill is None:
                        yield _Text(path, what, one.text, of.get(name, name), bool(remedy.ddl))


def _problem(file: ScenarioFile, text: _Text, error: ServerError, engine: Engine) -> Problem:
    place = file.place(*text.path)
    if error.position is not None:
        for path in file.paths_of_sql(text.path, engine.info.server):
            place = file.place_in_sql(path, text.sql, error.position - 1)
            break
    message = _SCRATCH.sub("", error.message)
    return Problem(
        f"{text.what} is refused by {engine.info.server} {engine.info.version}: {message}",
        place,
        error.hint,
    )
