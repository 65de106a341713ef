"""An exploration: the outcomes of all schedules of a scenario (or of a sample), as a plain record.

Its JSON form is in ``exploration_file``.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from catenum.core.display import Displayed
from catenum.core.record.recording import TargetInfo
from catenum.core.scenario.terms import DATA_WORDS, Term, known_word, parse_expectation
from catenum.core.space.expect import Answer, unmet
from catenum.core.space.tally import OutcomeEntry, Tally
from catenum.core.text import counted


@dataclass(kw_only=True)
class Reach:
    """How far an exploration got. ``classes`` None: too many to count. ``left``: shares that were
    not worked off.

    ``every``: nothing was left out as equivalent, so each order counts as a class. ``raced``: all
    classes that were met were run, but the server decided something by itself, so there may be
    more. ``all_orders``: so many orders can be made, and all were run as well, with the same
    outcomes.
    """

    orders: int
    classes: int | None
    complete: bool
    sampled: bool
    left: int = 0
    every: bool = False
    raced: bool = False
    all_orders: int | None = None

    @property
    def whole(self) -> bool:
        """Whether all that was to be run was run: there is nothing to continue."""
        return self.complete or self.raced or (self.sampled and not self.left)


@dataclass(kw_only=True)
class Exploration(Displayed):
    """All schedules of one scenario at given levels, or a part of them."""

    scenario: str
    about: str | None
    target: TargetInfo
    levels: dict[str, str]
    statements: dict[str, tuple[str, ...]]
    ends: dict[str, str]
    reach: Reach
    tally: Tally
    ran_ms: float
    ignored: dict[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    @property
    def outcomes(self) -> list[OutcomeEntry]:
        """Distinct outcomes, the worst first."""
        return self.tally.ordered

    def never(self, word: str, *, sample: bool = False) -> Answer:
        """Whether no schedule ends in ``word``: an outcome, ``anomaly`` or its name, ``conflict``,
        ``broken rule``. Not so where the schedules were not all run, but where a ``sample`` is
        enough. Raises InputError for another word.
        """
        return self.meets([Term(known_word(word), none=True)], sample=sample)

    def ever(self, word: str) -> Answer:
        """Whether some schedule ends in ``word``, as for ``never``."""
        return self.meets([Term(known_word(word), none=False)])

    def meets(self, expected: str | Sequence[Term], *, sample: bool = False) -> Answer:
        """Whether it is as expected, such as ``no deadlock, no anomaly``; see ``never``. That no
        rule is false and no statement rejected is expected of a text in any case, unless it says
        something of it.
        """
        terms = parse_expectation(expected) if isinstance(expected, str) else expected
        said = expected if isinstance(expected, str) else ", ".join(map(str, terms))
        absent = [term.word for term in terms if term.none]
        unproven = [] if self.reach.complete or not absent else [how_far(self)]
        hidden = {"deadlock", "conflict"} & set(absent)
        if hidden and self.tally.may_hide and not self.tally.met("deadlock"):
            unproven.append("a routine catches errors, and the server's count was not compared")
        return Answer(
            expected=said,
            unmet=tuple(dict.fromkeys(unmet(terms, self.tally))),
            unproven=tuple(unproven),
            apart=tuple(self.ignored) if set(absent) & set(DATA_WORDS) else (),
            sample=sample,
        )

    def letter(self, key: str) -> str:
        """The letter by which an outcome is called: A is the worst."""
        order = [id(entry) for entry in self.outcomes]
        return letter_of(order.index(id(self.tally.outcomes[key])))


def letter_of(place: int) -> str:
    """A, B … Z, AA, AB …"""
    text = ""
    place += 1
    while place:
        place, rest = divmod(place - 1, 26)
        text = chr(65 + rest) + text
    return text


def how_far(exploration: Exploration) -> str:
    """One sentence on how much was run, and what that allows to be said."""
    reach, tally = exploration.reach, exploration.tally
    done = counted(tally.schedules, "schedule")
    checked = checks_of(exploration)
    if reach.complete and reach.every:
        return (
            f"{done} run: all that are possible (of {_orders(reach.orders)}; none was left out as"
            " equivalent)"
        )
    if reach.every:
        whole = f"at most {_orders(reach.orders)}"
    elif reach.classes is not None:
        whole = f"at most {counted(reach.classes, 'class')}"
    else:
        whole = "more classes than can be counted"
    if reach.complete:
        of = f"(of {_orders(reach.orders)} in {whole})"
        return f"{done} run: one for each class that is possible {of}{checked}"
    if reach.raced:
        of = f"(of {_orders(reach.orders)} in {whole})"
        return f"{done} run: one for each class that was found {of}{checked}"
    if reach.sampled:
        out = (
            f" ({tally.ruled_out:,} more came to one of these, because of waiting)"
            if tally.ruled_out
            else ""
        )
        return f"{tally.schedules:,} of {whole} run, drawn by chance{out}; the rest was not run"
    return f"stopped after {done} of {whole}; the rest was not run"


def checks_of(exploration: Exploration) -> str:
    """What was run to see that no schedule was left out wrongly; begins with a semicolon where
    there is anything.
    """
    reach, tally = exploration.reach, exploration.tally
    if reach.every:
        return ""
    text = ""
    if reach.all_orders is not None:
        text = (
            f"; all {counted(reach.all_orders, 'order')} that can be made were run as well, with"
            " the same outcomes"
        )
    if tally.swaps:
        text += f"; {counted(tally.swaps, 'swap')} of independent moves checked"
    if tally.special and reach.all_orders is None:
        done = sum(tally.special.values())
        text += (
            f" ({done:,} of {len(tally.special):,} pairs that are independent for a special reason)"
        )
    return text


def _orders(number: int) -> str:
    return (
        counted(number, "order")
        if number < 10**12
        else f"about {number:.1e} orders".replace("e+", "·10^")
    )
