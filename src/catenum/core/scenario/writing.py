"""A scenario as plain values and as text: for recordings, which carry theirs, and for scenarios
that are made.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import yaml

from catenum.core.scenario.model import Scenario


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
    for transaction in found["transactions"].values():
        if all(list(statement) == ["sql"] for statement in transaction["statements"]):
            transaction["statements"] = [
                statement["sql"] for statement in transaction["statements"]
            ]
    if "order" in found:
        found["order"] = " ".join(found["order"])
    return found


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
