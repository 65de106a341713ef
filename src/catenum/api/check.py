"""The expectations of scenarios, held against real servers: for builds."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Unpack

from catenum.api.check_state import CheckState
from catenum.api.checker import Checker, CheckOptions, Found
from catenum.api.files import check_writable, make_folder, read_file
from catenum.api.scenarios import scenario_with_text
from catenum.api.servers import TargetSource
from catenum.core.check.result import UNPROVEN, CheckCase, CheckResult
from catenum.core.errors import InputError
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.text import suggestion

SUFFIXES = (".yaml", ".yml")


def _ignore(case: CheckCase) -> None:
    """Nobody listens."""


def check(*sources: str | Path | ScenarioFile, **options: Unpack[CheckOptions]) -> CheckResult:
    """Hold each scenario to what it expects: its ``expect``, its ``outcomes``, its named orders.

    ``sources``: files, folders of them (the working folder where there are none), names of samples.
    What was only sampled, or was not finished in time, does not pass unless it is allowed by name.
    A scenario that cannot be read or run is a case of its own; raises InputError for a call that
    cannot be understood.
    """
    files = list(_files(sources or (Path("."),)))
    allowed = _allowed(options.get("allow", ()))
    if options.get("since_last") is not None:
        check_writable(Path(str(options["since_last"])))
    before = CheckState.read(options.get("since_last"))
    heard = options.get("heard", _ignore)
    folder = options.get("save")
    if folder is not None:
        make_folder(folder)
    cases: list[CheckCase] = []
    interrupted = False
    try:
        for target in options.get("targets") or (options.get("target"),):
            with ExitStack() as stack:
                checker = Checker(stack, target, options, allowed, before)
                for case in _cases(files, checker, options, allowed, before, target):
                    cases.append(case)
                    heard(case)
    except KeyboardInterrupt:
        interrupted = True
    before.write()
    return CheckResult(cases=tuple(cases), interrupted=interrupted)


def _cases(
    files: Sequence[tuple[str, Found]],
    checker: Checker,
    options: CheckOptions,
    allowed: dict[str | None, set[str]],
    before: CheckState,
    target: TargetSource,
) -> Iterator[CheckCase]:
    if options.get("cluster"):
        from catenum.api.check_elsewhere import cases_elsewhere

        yield from cases_elsewhere(files, checker, options, allowed, before, target)
        return
    for name, found in files:
        yield from checker.cases(name, found)


# -- files -----------------------------------------------------------------------------------------


def _files(sources: Sequence[str | Path | ScenarioFile]) -> Iterator[tuple[str, Found]]:
    """The scenarios, each by what it is called, with its text; or what is wrong with it."""
    for source in sources:
        if isinstance(source, ScenarioFile):
            yield source.file, (source, source.scenario.model_dump_json())
        elif Path(source).is_dir():
            yield from ((str(path), _read(str(path))) for path in _scenarios_below(Path(source)))
        else:
            yield str(source), _read(str(source))


def _scenarios_below(folder: Path) -> Iterator[Path]:
    """Files that look like scenarios: others of the same form may stand beside them."""
    for path in sorted(folder.rglob("*")):
        hidden = any(part.startswith(".") for part in path.relative_to(folder).parts)
        if path.suffix in SUFFIXES and path.is_file() and not hidden:
            head = read_file(path)[:100_000]
            if any(line.startswith(b"scenario:") for line in head.splitlines()):
                yield path


def _read(word: str) -> Found:
    try:
        return scenario_with_text(word)
    except InputError as error:
        return error


def _allowed(words: Sequence[str]) -> dict[str | None, set[str]]:
    """What counts although it is no proof, by file or scenario (None: of all)."""
    found: dict[str | None, set[str]] = {}
    for word in words:
        name, _, what = word.rpartition("=")
        if what not in UNPROVEN:
            raise InputError(
                f"--allow {word}: {what!r} is nothing that can be allowed",
                advice=suggestion(what, list(UNPROVEN)),
            )
        found.setdefault(name or None, set()).add(what)
    return found
