"""Loads a scenario's data: the set-up SQL, filler rows, a remedy's DDL."""

from __future__ import annotations

from collections.abc import Sequence

from catenum.core.errors import InputError, Place, Problem
from catenum.core.record.recording import ServerError
from catenum.core.scenario.filler import rows_of
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.engines.ports import DataError, Engine


def load(
    engine: Engine, scenario: Scenario, file: ScenarioFile | None, ddl: Sequence[str] = ()
) -> None:
    """Load the scenario's data and a remedy's DDL. Raises InputError with the place of what was
    rejected.
    """
    script = scenario.data.script_for(engine.info.server)
    try:
        engine.load(script)
    except DataError as error:
        raise _rejected_data(error.error, script, file, engine.info.server) from error
    _fill(engine, scenario, file)
    for statement in ddl:
        try:
            engine.add(statement)
        except DataError as error:
            message = f"the server rejects the remedy's DDL: {error.error.message}\n  {statement}"
            raise InputError(message, place=file.place("remedies") if file else None) from error
    if scenario.fill:
        engine.analyze()


def _fill(engine: Engine, scenario: Scenario, file: ScenarioFile | None) -> None:
    for table, fill in scenario.fill.items():
        try:
            engine.fill(table, tuple(fill.columns), rows_of(fill))
        except DataError as error:
            place = file.place("fill", table) if file else None
            raise InputError(
                f"the server rejects the filler rows of {table}: {error}", place=place
            ) from error


def _rejected_data(
    error: ServerError, script: str, file: ScenarioFile | None, server: str
) -> InputError:
    place: Place | None = None
    offset = (error.position or 1) - 1
    if file is not None:
        whole = file.scenario.data
        path: tuple[str | int, ...] = ("data",)
        for part in ("common", server):
            text = whole.part(part)
            if text and text in script and ("data", part) in file.places:
                start = script.index(text)
                if start <= offset < start + len(text) + 1:
                    path, offset = ("data", part), offset - start
                    break
        place = file.place_in_sql(path, script, offset) if error.position else file.place(*path)
    advice = f"The server's hint: {error.hint}" if error.hint else error.detail
    return InputError.from_problems(
        [Problem(f"the server rejects the data: {error.message}", place, advice)]
    )
