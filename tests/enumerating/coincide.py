"""Generated transactions with parameters: every assignment of values, every order of each by hand,
beside what ``sweep`` says of all of them together.
"""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterator
from dataclasses import dataclass

import yaml

from enumerating.sessions import Bench
from enumerating.walk import Case, Part, Walk

#: Rows that are there, and values of which none is.
THERE, MISSING = (1, 2, 3), (8, 9)
DATA = (
    "create table berth (id int primary key, boxes int not null);"
    " insert into berth values (1, 0), (2, 0), (3, 0);"
    " create table crane (id int primary key, moved int not null);"
    " insert into crane values (1, 0), (2, 0), (3, 0);"
)
#: Statements over one or two values; those that make or take rows away.
KEEPING = (
    "update berth set boxes = boxes + 1 where id = {p}",
    "update berth set boxes = 5 where id = {q}",
    "select boxes from berth where id = {p} for update",
    "select boxes from berth where id = {q}",
    "update crane set moved = moved + 1 where id = {p}",
    "update crane set moved = moved + 1 where id = {q}",
    "select boxes from berth where id in ({p}, {q}) for update",
    "update berth set boxes = 7 where id between {p} and {q}",
    "select sum(boxes) from berth",
)
MAKING = (
    "insert into berth (id, boxes) values ({p}, 1)",
    "delete from berth where id = {p}",
    "delete from berth where id = {q}",
)
LEVELS = {
    "postgresql": ("read committed", "read committed", "repeatable read", "serializable"),
    "mariadb": ("read committed", "repeatable read", "serializable"),
    "mysql": ("read committed", "repeatable read", "serializable"),
}


@dataclass(frozen=True)
class Coinciding:
    """Two transactions over values: texts with ``{p}`` and ``{q}``, and which of them each has."""

    parts: dict[str, tuple[tuple[str, ...], str]]
    makes: bool

    def names(self, part: str) -> list[str]:
        return [one for one in "pq" if any(f"{{{one}}}" in sql for sql in self.parts[part][0])]

    def assignments(self) -> Iterator[dict[str, dict[str, int]]]:
        """Every assignment of values that are there, and of such that are not where rows are made."""
        values = (*THERE, *(MISSING if self.makes else ()))
        places = [(part, name) for part in self.parts for name in self.names(part)]
        for chosen in itertools.product(values, repeat=len(places)):
            found: dict[str, dict[str, int]] = {part: {} for part in self.parts}
            for (part, name), value in zip(places, chosen, strict=True):
                found[part][name] = value
            yield found

    def case(self, values: dict[str, dict[str, int]]) -> Case:
        """The transactions with these values."""
        return Case(
            DATA,
            {
                name: Part(tuple(sql.format(**values[name]) for sql in texts), level)
                for name, (texts, level) in self.parts.items()
            },
        )

    def scenario(self) -> str:
        """The same for ``sweep``."""
        transactions = {
            name: {
                "isolation": level,
                "parameters": {
                    one: {"value": number, "from": "berth.id"}
                    for number, one in enumerate(self.names(name), 1)
                },
                "statements": [sql.format(p=":p", q=":q") for sql in texts],
            }
            for name, (texts, level) in self.parts.items()
        }
        for one in transactions.values():
            if not one["parameters"]:
                del one["parameters"]
        plain = {"scenario": "coinciding", "data": DATA, "transactions": transactions}
        return yaml.safe_dump(plain, sort_keys=False, width=1000)


def coinciding(server: str, seed: int) -> Coinciding:
    """The transactions of this number: at most three values in all."""
    chance = random.Random(seed)
    while True:
        parts = {
            name: (
                tuple(chance.choice((*KEEPING, *MAKING)) for _ in range(chance.choice((1, 2)))),
                chance.choice(LEVELS[server]),
            )
            for name in ("north", "south")
        }
        made = any(
            "insert" in sql or "delete" in sql for texts, _ in parts.values() for sql in texts
        )
        found = Coinciding(parts, made)
        count = [len(found.names(name)) for name in parts]
        # a key of the one table is no key of the other
        both = any("crane" in sql for texts, _ in parts.values() for sql in texts)
        if all(count) and sum(count) <= (2 if made else 3) and not (both and made):
            return found


def walked(made: Coinciding, bench: Bench) -> tuple[set[str], bool]:
    """Every outcome of every order of every assignment, and whether a race was met."""
    outcomes: set[str] = set()
    raced = False
    for values in made.assignments():
        account = Walk(bench, made.case(values), 200).account()
        raced = raced or bool(account.races)
        outcomes |= {f"{end.kind} {'serial' if end.serial else 'anomaly'}" for end in account.ends}
    return outcomes, raced
