"""What is wrong with scenarios, without running them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from catenum.api.listener import SILENT, Listener
from catenum.api.scenarios import load, scenario_with_text, unsafe
from catenum.api.servers import find_target, refuse_uncontained
from catenum.core.errors import InputError, Place, Problem, TargetError
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.servers import rules_of
from catenum.core.sweep.parametrize import parametrized
from catenum.core.sweep.rewrite import rewritten
from catenum.engines.targets import DEFAULT, Target, open_engine
from catenum.lab.run.parsing import refused_by


@dataclass(frozen=True)
class LintResult:
    """By what a scenario was called, each problem; ``read_by``: the server that read it; ``fine``:
    the scenarios without a problem.
    """

    problems: tuple[tuple[str, Problem], ...]
    read_by: dict[str, str]
    fine: tuple[str, ...]

    def __bool__(self) -> bool:
        return not self.problems


def lint(
    *sources: str | Path,
    server: str = DEFAULT.removeprefix("local:"),
    target: str | None = None,
    text_only: bool = False,
    listener: Listener = SILENT,
) -> LintResult:
    """Read scenarios, and have a server prepare their statements in scratch space: ``target``, or a
    private one of the kind ``server``; where there is none, that is told, and is no fault of the
    scenarios. Raises InputError, TargetError for the target alone.
    """
    files = {str(source): _read(source) for source in sources}
    where = None if text_only else find_target(target or f"local:{server}", listener)
    kind = where.server if where is not None else server
    found: list[tuple[str, Problem]] = []
    sound: list[tuple[str, ScenarioFile]] = []
    for word, file in files.items():
        problems = (
            unsafe(file, kind, outside=False, advice="Running it needs --outside.")
            if isinstance(file, ScenarioFile)
            else file
        )
        found.extend((word, problem) for problem in problems)
        if not problems and isinstance(file, ScenarioFile):
            sound.append((word, file))
    readers: dict[str, str] = {}
    if where is not None:
        try:
            for own, group in _by_settings(sound, where.server).items():
                readers |= _read_by_server(where, dict(own), group, found, listener)
        except TargetError as error:
            if target is not None:
                raise
            listener.tell(f"Not read by a server: {error.problems[0].message}")
    refused = {word for word, _ in found}
    fine = tuple(word for word, _ in sound if word not in refused)
    return LintResult(tuple(found), readers, fine)


def with_parameters(
    source: str | Path, *, server: str = DEFAULT.removeprefix("local:")
) -> tuple[str, list[str]]:
    """A scenario file with parameters, lists and loops in the place of captured values, comments
    and the order of everything kept; and what was assumed. Raises InputError.
    """
    file, text = scenario_with_text(source)
    made = parametrized(file.scenario.for_server(server), rules_of(server))
    if not made.changed:
        raise InputError(
            "no statement has a literal that could be a parameter",
            place=Place(file.file),
            advice="Parameters stand for values of keys, and for values that differ between runs.",
        )
    return rewritten(text, made.transactions), made.notes


def _read(source: str | Path) -> ScenarioFile | list[Problem]:
    try:
        return load(source)
    except InputError as error:
        return list(error.problems)


def _read_by_server(
    target: Target,
    own: dict[str, str],
    group: Sequence[tuple[str, ScenarioFile]],
    found: list[tuple[str, Problem]],
    listener: Listener,
) -> dict[str, str]:
    """By scenario, the server that read it; what that refuses is added to ``found``."""
    readers = {}
    with open_engine(target, listener.tell, own=own) as connect:
        for word, file in group:
            engine = connect()
            try:
                if not engine.sandboxed:
                    refuse_uncontained(file, target)
                engine.make_scratch()
                found.extend((word, one) for one in refused_by(engine, file))
                readers[word] = f"{engine.info.server} {engine.info.version}"
            except InputError as error:
                found.extend((word, one) for one in error.problems)
            finally:
                engine.close()
    return readers


def _by_settings(
    sound: Sequence[tuple[str, ScenarioFile]], server: str
) -> dict[tuple[tuple[str, str], ...], list[tuple[str, ScenarioFile]]]:
    """The scenarios by what they ask of their private server, without those that have nothing for
    this kind of server.
    """
    groups: dict[tuple[tuple[str, str], ...], list[tuple[str, ScenarioFile]]] = {}
    for word, file in sound:
        if file.scenario.data.script_for(server).strip():
            own = tuple(sorted(file.scenario.settings_on(server).items()))
            groups.setdefault(own, []).append((word, file))
    return groups
