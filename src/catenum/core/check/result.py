"""What ``check`` found: each expectation of each scenario, and whether it was met."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, Literal

from catenum.core.display import Displayed
from catenum.core.errors import Place

FORMAT = "catenum-check/1"
#: ``as expected``: and proven, or allowed by name; ``unchanged``: it was so the last time, of the
#: same scenario, server and version of Catenum; ``not proven``: nothing else was seen in a part of
#: the schedules; ``error``: the scenario is wrong, or could not be run; the last two say nothing.
Status = Literal[
    "as expected",
    "unchanged",
    "not as expected",
    "not proven",
    "error",
    "nothing expected",
    "not for this server",
]
#: In the order of a table's last line, the worst first.
STATUSES: tuple[Status, ...] = (
    "error",
    "not as expected",
    "not proven",
    "nothing expected",
    "not for this server",
    "unchanged",
    "as expected",
)
PASSED: tuple[Status, ...] = ("as expected", "unchanged")
FAILED: tuple[Status, ...] = ("error", "not as expected", "not proven")
#: What is no proof, and what ``--allow`` calls it.
Unproven = Literal["sample", "stopped", "raced"]
UNPROVEN: dict[Unproven, str] = {
    "sample": "a sample of the schedules was run",
    "stopped": "the time was over before all schedules were run",
    "raced": "the server itself decided how some schedules went on",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Blame:
    """A statement that has a part in what is not as expected."""

    place: Place
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckCase:
    """One expectation on one server.

    ``what``: ``expect``, ``outcomes``, or ``order NAME``; ``level``: that was set for it (None: as
    the scenario has it); ``problems``: what is not so; ``rule``: one word for the worst of it;
    ``blame``: the statements that have a part in it, first the one to look at; ``place``: of the
    expectation; ``seconds``: how long it took; ``schedule``: one that shows it, to be played;
    ``allowed``: why it counts although it is not proven.
    """

    scenario: str
    file: str
    target: str
    server: str = ""
    version: str = ""
    what: str = ""
    level: str | None = None
    expected: str = ""
    status: Status
    problems: tuple[str, ...] = ()
    rule: str = ""
    blame: tuple[Blame, ...] = ()
    place: Place | None = None
    seconds: float = 0.0
    schedules: int | None = None
    schedule: tuple[str, ...] = ()
    allowed: str = ""
    advice: str | None = None
    unreachable: bool = False

    @property
    def title(self) -> str:
        """What is checked, in a line of its own."""
        level = f" at {self.level}" if self.level else ""
        return f"{self.what}{level}: {self.expected}" if self.expected else f"{self.what}{level}"

    def as_before(self, when: str) -> CheckCase:
        """The same, not run again since it passed then."""
        return replace(self, status="unchanged", problems=(f"passed {when}",))


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckResult(Displayed):
    """All cases, in the order in which they were run. ``interrupted``: there would have been
    more.
    """

    cases: tuple[CheckCase, ...]
    interrupted: bool = False

    @property
    def failed(self) -> list[CheckCase]:
        """Cases that are not as expected, not proven, or could not be run."""
        return [case for case in self.cases if case.status in FAILED]

    @property
    def passed(self) -> bool:
        """Whether something was checked, and all of it is as expected."""
        checked = any(case.status in PASSED for case in self.cases)
        return checked and not self.failed and not self.interrupted

    def __bool__(self) -> bool:
        return self.passed

    def counts(self) -> dict[Status, int]:
        """How many cases of each status there are, where there are some."""
        found = [case.status for case in self.cases]
        return {status: found.count(status) for status in STATUSES if status in found}


def to_plain(result: CheckResult) -> dict[str, Any]:
    """As ``core.formats.CheckFile``."""
    return {
        "format": FORMAT,
        "passed": result.passed,
        "interrupted": result.interrupted,
        "cases": [_case(case) for case in result.cases],
    }


def _case(case: CheckCase) -> dict[str, Any]:
    plain = asdict(case)
    plain["place"] = str(case.place) if case.place is not None else None
    plain["blame"] = [{"place": str(one.place), "text": one.text} for one in case.blame]
    return {
        name: list(value) if isinstance(value, tuple) else value
        for name, value in plain.items()
        if name != "unreachable"
    }


def worst_rule(words: Sequence[str]) -> str:
    """One word for what is not so; ``expectation`` where there is no better."""
    return next(iter(words), "expectation").replace(" ", "-")
