"""A scenario as plain values and as text: for recordings, which carry theirs, and for scenarios
that are made.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import yaml

from catenum.core.scenario.loops import Loop, code_of, element, with_names, written_out
from catenum.core.scenario.model import Scenario, Statement, Transaction


def definition_of(scenario: Scenario, server: str, ddl: Sequence[str] = ()) -> dict[str, Any]:
    """What is needed to run a scenario again on one kind of server, without its remedies.

    ``ddl``: what was run behind its data. The values are those of a file: lengths of time with
    their units.
    """
    own = scenario.for_server(server).model_copy(update={"remedies": {}})
    found: dict[str, Any] = own.model_dump(mode="json", exclude_none=True, exclude_defaults=True)
    script = scenario.data.script_for(server).rstrip()
    behind = (
        ["" if script.endswith(";") else ";", *(f"\n{one.rstrip().rstrip(';')};" for one in ddl)]
        if ddl
        else []
    )
    found["data"] = script + "".join(behind)
    for name, transaction in found["transactions"].items():
        if own.transactions[name].lists:
            _close_loops(own.transactions[name], transaction)
        transaction["statements"] = _short(transaction["statements"])
    for one in (found, *found.get("orders", {}).values()):
        if "order" in one:
            one["order"] = " ".join(_moves_there_are(one["order"], own))
    return found


def _moves_there_are(order: Sequence[str], scenario: Scenario) -> Iterator[str]:
    """An order without moves that transactions do not have any more: a remedy leaves it alone."""
    left = {name: one.moves for name, one in scenario.transactions.items()}
    for name in order:
        left[name] -= 1
        if left[name] >= 0 or scenario.timeouts == "by order":
            yield name


def _close_loops(transaction: Transaction, plain: dict[str, Any]) -> None:
    """Change a transaction, whose loops are written out, to what a file has: loops, and lists with
    no parameter for each element. Where the turns are not alike any more the elements stay, as
    parameters of their own.
    """
    lists = transaction.lists
    elements = {
        element(name, number)
        for name, values in lists.items()
        for number in range(1, len(values) + 1)
    }
    given = plain["parameters"]
    short = {name: one for name, one in given.items() if name not in elements}
    code = code_of(transaction)
    if code is not None:
        entries = [entry for part in code for entry in _entries(part)]
        again = written_out({"statements": entries, "parameters": short}, lambda *_: None)
        if again is not None and _short(again[0]["statements"]) == _short(plain["statements"]):
            plain.update({"statements": entries, "parameters": short})
            return
    plain["parameters"] = {name: one for name, one in given.items() if name not in lists}


def _entries(part: Statement | Loop) -> Iterator[Any]:
    """What stands in a file for a statement, or for a loop."""
    if isinstance(part, Statement):
        yield part.model_dump(mode="json", exclude_none=True, exclude_defaults=True)
        return
    called = list(part.called or part.lists)
    body = [
        one.model_dump(mode="json", exclude_none=True, exclude_defaults=True) for one in part.body
    ]
    names = dict(zip(part.lists, called, strict=True))
    short = {"as": called} if called != list(part.lists) else {}
    yield {
        "each": list(part.lists),
        **short,
        "do": _short([with_names(one, names) for one in body]),
    }


def _short(statements: Sequence[dict[str, Any]]) -> list[Any]:
    """Statements without their turns; of which nothing is said but their SQL, as that alone."""
    plain = [{key: value for key, value in one.items() if key != "turn"} for one in statements]
    return [one["sql"] if list(one) == ["sql"] else one for one in plain]


def as_text(values: dict[str, Any]) -> str:
    """Such values as a file."""
    return str(
        yaml.dump(
            values,
            Dumper=_Dumper,
            sort_keys=False,
            allow_unicode=True,
            width=110,
            default_flow_style=False,
        )
    )


class _Dumper(yaml.SafeDumper):
    """Texts of several lines as blocks, lists indented."""

    def increase_indent(self, flow: bool = False, indentless: bool = False) -> None:
        """See ``yaml.emitter.Emitter``."""
        super().increase_indent(flow, False)


def _block(dumper: yaml.SafeDumper, text: str) -> yaml.ScalarNode:
    if "\n" not in text:
        return dumper.represent_scalar("tag:yaml.org,2002:str", text)
    lines, quotes = text.split("\n"), 0
    for place, line in enumerate(lines):
        quotes += line.count("'")
        if quotes % 2 == 0:  # blanks at the end of a line are no part of a value
            lines[place] = line.rstrip()
    return dumper.represent_scalar("tag:yaml.org,2002:str", "\n".join(lines), style="|")


_Dumper.add_representer(str, _block)
