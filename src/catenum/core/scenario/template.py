"""A new scenario as a text with comments: what stands in it, and what else it could say."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from catenum.core.scenario.writing import as_text

_DATA = "Tables and rows, made in scratch space before each run and dropped after it."
_TRANSACTIONS = (
    "Each transaction has a connection of its own; it begins with its first statement and commits"
    " after its last."
)
_ORDER = "One move after another; 'catenum explore' runs every order that can differ."
_MORE = """
# What must be true when all is over:
# holds:
#   no berth is taken twice: select count(distinct vessel) = count(vessel) from berth

# What 'catenum check' holds it to, for builds:
# expect: no deadlock, no anomaly

# Changes to try with 'catenum trial'; 'catenum propose' derives some:
# remedies:
#   serializable:
#     isolation: serializable
"""
_OF_TRANSACTION = (
    "  isolation: read committed   (default: the server's)",
    "  - sql: select n from t where id = 1",
    "    keep: {n: n}              (a value for later statements, as :n)",
    "    when: n > 1               (a decision: the statement runs only if it is true)",
)


@dataclass(frozen=True, kw_only=True)
class Template:
    """What is known of a new scenario. ``notes``: what a reader must know or complete first."""

    name: str
    about: str
    data: str
    transactions: Mapping[str, Sequence[str]]
    order: Sequence[str] = ()
    notes: Sequence[str] = ()
    fill: Mapping[str, object] = field(default_factory=dict)

    def text(self) -> str:
        """The file."""
        parts = [
            _comment(*self.notes),
            as_text({"scenario": self.name, "about": self.about}),
            "\n" + _comment(_DATA),
            as_text({"data": self.data.rstrip() + "\n"}),
            as_text({"fill": dict(self.fill)}) if self.fill else "",
            "\n" + _comment(_TRANSACTIONS, "Beside its statements one may say:", *_OF_TRANSACTION),
            as_text(
                {
                    "transactions": {
                        name: {"statements": list(statements)}
                        for name, statements in self.transactions.items()
                    }
                }
            ),
            "\n" + _comment(_ORDER),
            as_text({"order": " ".join(self.order or self._turns())}),
            _MORE,
        ]
        return "".join(parts)

    def _turns(self) -> list[str]:
        """The transactions in turns."""
        longest = max(len(statements) for statements in self.transactions.values()) + 1
        return [
            name
            for place in range(longest)
            for name, statements in self.transactions.items()
            if place <= len(statements)
        ]


def _comment(*lines: str) -> str:
    return "".join(f"# {line}\n" for line in lines)


EXAMPLE = Template(
    name="my-case",
    about="What these transactions do, in a sentence.",
    data=(
        "create table berth (id int primary key, vessel text);\n"
        "insert into berth values (3, 'Halcyon'), (7, null);"
    ),
    transactions={
        "arrives": [
            "update berth set vessel = 'Oriel' where id = 7",
            "update berth set vessel = null where id = 3",
        ],
        "moves": [
            "update berth set vessel = null where id = 3",
            "update berth set vessel = 'Halcyon' where id = 7",
        ],
    },
)
