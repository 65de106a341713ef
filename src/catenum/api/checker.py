"""One server, on which scenarios are held to what they expect."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Any

from catenum.api.check_state import CheckState
from catenum.api.explore import explore
from catenum.api.files import save_atomically
from catenum.api.listener import SILENT, Listener
from catenum.api.play import play, play_orders
from catenum.api.scenarios import unsafe
from catenum.api.servers import Server, TargetSource, connect, find_target
from catenum.api.space import SpaceOptions
from catenum.core.check.blame import blamed
from catenum.core.check.result import PASSED, UNPROVEN, Blame, CheckCase, Unproven, worst_rule
from catenum.core.compare.expectation import Difference, subject
from catenum.core.errors import CatenumError, InputError, TargetError
from catenum.core.record.recording import Recording
from catenum.core.record.recording_file import to_json
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.terms import LISTED, Term, parse_expectation
from catenum.core.space.expect import count_of, is_met_by, other_outcomes, shortest
from catenum.core.space.exploration import Exploration
from catenum.core.version import __version__
from catenum.engines.clock import Clock
from catenum.engines.targets import Target, read_settings, resolve
from catenum.lab.run.orders import PlayedOrder

#: A scenario with its text, or what is wrong with it.
Found = tuple[ScenarioFile, str] | CatenumError
#: What an exploration is given, and what every run is; of what a result depends on.
_SPACE = ("every", "limit", "check_orders", "time_limit", "seed", "workers")
_RUN = ("statement_limit", "outside", "listener")
_DEPENDS = ("every", "limit", "check_orders", "time_limit", "statement_limit", "outside")


class CheckOptions(SpaceOptions, total=False):
    """Beside those of an exploration. ``targets``: servers, each by its name or URL, on which every
    scenario is checked; ``allow``: what counts although it is no proof: ``sample``, ``stopped``,
    ``raced``, for all or, as ``SCENARIO=sample``, for one; ``since_last``: a file that remembers
    what passed, so that only what changed since is run; ``save``: a folder for a recording of each
    schedule that shows what is not as expected; ``heard`` is given each case when it is over.
    """

    targets: Sequence[TargetSource]
    allow: Sequence[str]
    since_last: Path | None
    save: Path | None
    heard: Callable[[CheckCase], None]


class Checker:
    """Checks scenarios on one server, which is held ready from the first that is run."""

    def __init__(
        self,
        stack: ExitStack,
        asked: TargetSource,
        options: CheckOptions,
        allowed: Mapping[str | None, set[str]],
        before: CheckState,
    ) -> None:
        self._stack, self._asked, self._options = stack, asked, options
        self._allowed, self._before = allowed, before
        self.listener: Listener = options.get("listener", SILENT)
        self._server: Server | None = asked if isinstance(asked, Server) else None

    def cases(self, name: str, found: Found) -> Iterator[CheckCase]:
        """Each case of a scenario. What is wrong with it is a case as well."""
        if isinstance(found, CatenumError):
            yield _error(name, self._shown_target(), found)
            return
        file, text = found
        clock = Clock()
        try:
            target = self._target(file)
            case = CheckCase(
                scenario=file.scenario.scenario,
                file=name,
                target=target.shown,
                server=target.server,
                status="nothing expected",
            )
            yield from self._checked(file, text, target, case)
        except CatenumError as error:
            failed = _error(name, self._shown_target(), error)
            yield replace(failed, scenario=file.scenario.scenario, seconds=clock.now_ms() / 1000)

    def _shown_target(self) -> str:
        if isinstance(self._asked, Server | Target):
            return find_target(self._asked).shown
        try:
            return resolve(self._asked, read_settings()).shown
        except InputError:
            return "no target"

    def _target(self, file: ScenarioFile) -> Target:
        asked = self._asked
        if asked is None and file.recorded_on is not None:
            asked = f"local:{file.recorded_on}"
        return find_target(asked, self.listener)

    def _checked(
        self, file: ScenarioFile, text: str, target: Target, case: CheckCase
    ) -> Iterator[CheckCase]:
        scenario = file.scenario
        if not scenario.data.script_for(target.server).strip():
            yield replace(case, status="not for this server")
            return
        outcomes = scenario.outcomes_on(target.server)
        expected = dict(scenario.expected_on(target.server))
        orders = {
            title: one
            for title, one in scenario.orders.items()
            if one.expected_on(target.server) is not None
        }
        if expected.get(None, "").strip() == LISTED:
            del expected[None]
        if not (outcomes or expected or orders):
            yield case
            return
        problems = unsafe(
            file,
            target.server,
            outside=self._options.get("outside", False),
            advice="Running it needs --outside.",
        )
        if problems:
            raise InputError.from_problems(problems)
        where = self._where(file, target)
        case = replace(case, version=self._version(where))
        digest = self._digest(text, case)
        if orders:
            yield from self._played(file, where, case, list(orders), digest)
        if outcomes or None in expected:
            yield from self._explored(file, where, case, None, expected.pop(None, None), digest)
        for level, line in expected.items():
            yield from self._explored(file, where, case, level, line, digest)

    def _where(self, file: ScenarioFile, target: Target) -> Server | Target:
        """The server that is held ready; a scenario with settings of its own has one of its own."""
        if file.scenario.settings_on(target.server):
            return target
        if self._server is None or self._server.target.server != target.server:
            held = connect(target, listener=self.listener)
            self._server = self._stack.enter_context(held)
        return self._server

    def _version(self, where: Server | Target) -> str:
        if not isinstance(where, Server):
            return ""
        engine = where.connector()
        try:
            return str(engine.info.version)
        finally:
            engine.close()

    def _digest(self, text: str, case: CheckCase) -> str:
        """Of all that a case depends on, but its own name."""
        options = self._given(_DEPENDS)
        parts = [text, __version__, case.target, case.server, case.version, repr(options)]
        return hashlib.sha256("\0".join(parts).encode()).hexdigest()

    def _unchanged(self, case: CheckCase, digest: str) -> CheckCase | None:
        when = self._before.passed(_key(case), digest)
        return case.as_before(when) if when is not None else None

    def _done(self, case: CheckCase, digest: str) -> CheckCase:
        proven = case.status in PASSED and not case.allowed
        self._before.note(_key(case), digest, passed=proven)
        return case

    # -- named orders ------------------------------------------------------------------------------

    def _played(
        self,
        file: ScenarioFile,
        where: Server | Target,
        case: CheckCase,
        names: list[str],
        digest: str,
    ) -> Iterator[CheckCase]:
        cases = {name: replace(case, what=f"order {name}") for name in names}
        left = []
        for name, one in cases.items():
            unchanged = self._unchanged(one, digest)
            if unchanged is not None:
                yield unchanged
            else:
                left.append(name)
        if not left:
            return
        clock, ended = Clock(), [0.0]

        def heard(played: PlayedOrder) -> None:
            ended.append(clock.now_ms() / 1000)

        found = play_orders(file, left, target=where, heard=heard, **self._given(_RUN))
        for number, played in enumerate(found):
            place = file.place("orders", played.name)
            made = replace(
                cases[played.name],
                version=played.recording.target.version,
                status="as expected" if played.as_expected else "not as expected",
                problems=tuple(_said(one) for one, _ in played.differences),
                blame=_blame_of_order(file, played) if not played.as_expected else (),
                rule="" if played.as_expected else "order",
                place=place,
                seconds=round(ended[number + 1] - ended[number], 3),
                schedule=played.recording.order if not played.as_expected else (),
            )
            if not played.as_expected:
                self._save(made, played.recording)
            yield self._done(made, digest)

    def _given(self, names: Sequence[str]) -> dict[str, Any]:
        """Those of the options that were given."""
        return {name: value for name, value in self._options.items() if name in names}

    # -- all schedules -----------------------------------------------------------------------------

    def _explored(
        self,
        file: ScenarioFile,
        where: Server | Target,
        case: CheckCase,
        level: str | None,
        line: str | None,
        digest: str,
    ) -> Iterator[CheckCase]:
        """The line that is expected, and the scenario's list of outcomes, from one exploration."""
        outcomes = file.scenario.outcomes_on(case.server) if level is None else None
        wanted = []
        if line is not None:
            wanted.append(replace(case, what="expect", level=level, expected=line))
        if outcomes is not None:
            wanted.append(replace(case, what="outcomes", expected=f"{len(outcomes)} listed"))
        left = []
        for one in wanted:
            unchanged = self._unchanged(one, digest)
            if unchanged is not None:
                yield unchanged
            else:
                left.append(one)
        if not left:
            return
        clock = Clock()
        found = explore(file, target=where, isolation=level or (), **self._given((*_SPACE, *_RUN)))
        seconds = clock.now_ms() / 1000
        for number, one in enumerate(left):
            made = replace(
                one,
                version=found.target.version,
                seconds=0.0 if number else seconds,  # one exploration serves both
                schedules=found.tally.schedules,
            )
            made = (
                self._judged_line(file, found, made)
                if one.what == "expect"
                else self._judged_list(file, found, made)
            )
            yield self._done(self._shown(file, where, made), digest)

    def _judged_line(self, file: ScenarioFile, found: Exploration, case: CheckCase) -> CheckCase:
        terms = parse_expectation(case.expected, "expect")
        answer = found.meets(terms)
        place = file.place("expect", *_below(file, case))
        if answer.unmet:
            word = _worst(terms, found)
            return replace(
                case,
                status="not as expected",
                problems=answer.unmet,
                rule=worst_rule([word] if word else []),
                schedule=shortest(word, found.tally) if word else (),
                place=place,
            )
        notes = (f"apart from {', '.join(answer.apart)}",) if answer.apart else ()
        return self._proven(found, replace(case, place=place, problems=notes), answer.unproven)

    def _judged_list(self, file: ScenarioFile, found: Exploration, case: CheckCase) -> CheckCase:
        outcomes = file.scenario.outcomes_on(case.server) or ()
        place = file.place("outcomes")
        others = other_outcomes(outcomes, found.tally)
        if others:
            entries = found.tally.ordered
            beyond = next(
                (e for e in entries if not any(is_met_by(one, e) for one in outcomes)), None
            )
            return replace(
                case,
                status="not as expected",
                problems=tuple(text for _, text in others),
                rule=worst_rule([beyond.anomaly or beyond.kind] if beyond is not None else []),
                schedule=(beyond.shortest or ()) if beyond is not None else (),
                place=place,
            )
        unproven = () if found.reach.complete else found.meets("no conflict").unproven
        return self._proven(found, replace(case, place=place), unproven)

    def _proven(self, found: Exploration, case: CheckCase, unproven: Sequence[str]) -> CheckCase:
        """As expected, where that is proven or allowed."""
        if not unproven:
            return replace(case, status="as expected")
        kind: Unproven = (
            "raced" if found.reach.raced else "sample" if found.reach.sampled else "stopped"
        )
        for name in (None, case.scenario, case.file):
            if kind in self._allowed.get(name, ()):
                return replace(case, status="as expected", allowed=f"{UNPROVEN[kind]}, allowed")
        return replace(
            case,
            status="not proven",
            problems=tuple(unproven),
            rule="not-proven",
            advice=f"--allow {case.scenario}={kind} lets it pass all the same.",
        )

    def _shown(self, file: ScenarioFile, where: Server | Target, case: CheckCase) -> CheckCase:
        """With the statements to blame, from its schedule played again."""
        if not case.schedule:
            return case
        recording = play(
            file,
            order=case.schedule,
            locks="full",
            target=where,
            isolation=case.level or (),
            **self._given(_RUN),
        )
        self._save(case, recording)
        return replace(case, blame=tuple(blamed(file, recording)))

    def _save(self, case: CheckCase, recording: Recording) -> None:
        folder = self._options.get("save")
        if folder is not None:
            words = (case.scenario, case.server, case.level or "", case.what)
            name = "-".join(
                "".join(c if c.isalnum() else "-" for c in word) for word in words if word
            )
            save_atomically(folder / f"{name}.json", to_json(recording).encode())


def _key(case: CheckCase) -> str:
    return " · ".join((case.file, case.target, case.title))


def _below(file: ScenarioFile, case: CheckCase) -> tuple[str, ...]:
    """The path of a line below ``expect``."""
    wanted = [str(case.server), str(case.level)]
    for (_, *rest), text in file.expected_lines():
        if text == case.expected and all(str(part) in wanted for part in rest):
            return tuple(str(part) for part in rest)
    return ()


def _worst(terms: Sequence[Term], found: Exploration) -> str:
    """The first outcome that should not be, and is; empty where something is only missing."""
    there = (
        term.word
        for term in terms
        if term.none and not term.any and count_of(term.word, found.tally)
    )
    return next(there, "")


def _said(difference: Difference) -> str:
    return f"{subject(difference)}: {difference.seen}; expected: {difference.expected}"


def _error(name: str, target: str, error: CatenumError) -> CheckCase:
    first = error.problems[0]
    return CheckCase(
        scenario=Path(name).stem,
        file=name,
        target=target,
        status="error",
        what="scenario",
        problems=tuple(problem.message for problem in error.problems),
        rule="scenario",
        place=first.place,
        advice=first.advice,
        unreachable=isinstance(error, TargetError),
    )


def _blame_of_order(file: ScenarioFile, played: PlayedOrder) -> tuple[Blame, ...]:
    """First where the expectation stands, then the statements that have a part in it."""
    places = [
        Blame(place=place, text=_said(one))
        for one, place in played.differences
        if place is not None
    ]
    return (*places, *blamed(file, played.recording))
