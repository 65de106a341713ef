"""A scenario file with its transactions written anew; comments and the order of everything else are
kept.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import Any


def rewritten(text: str, transactions: Mapping[str, Mapping[str, Any]]) -> str:
    """The file with these parameters and statements of its transactions."""
    from ruamel.yaml import YAML

    yaml = YAML()
    yaml.preserve_quotes = True
    yaml.width = 100
    yaml.indent(mapping=2, sequence=4, offset=2)
    document = yaml.load(text)
    for name, new in transactions.items():
        old = document["transactions"].get(name)
        if old is None or not new["parameters"]:
            continue
        if "parameters" in old:
            old["parameters"] = _plain(new["parameters"])
        else:
            place = list(old).index("statements")
            old.insert(place, "parameters", _plain(new["parameters"]))
        comments = old.ca.items.get("statements")
        old["statements"] = _plain(new["statements"])
        if comments is not None:
            old.ca.items["statements"] = comments
    out = io.StringIO()
    yaml.dump(document, out)
    return out.getvalue()


def _plain(value: Any) -> Any:
    """Values with short ones on one line."""
    from ruamel.yaml.comments import CommentedMap, CommentedSeq
    from ruamel.yaml.scalarstring import SingleQuotedScalarString

    if isinstance(value, Mapping):
        made = CommentedMap((key, _plain(one)) for key, one in value.items())
        if "do" not in value and all(_short(one) for one in value.values()) and len(value) < 4:
            made.fa.set_flow_style()
        return made
    if isinstance(value, list):
        listed = CommentedSeq(_plain(one) for one in value)
        if all(not isinstance(one, str | list | Mapping) or _word(one) for one in value):
            listed.fa.set_flow_style()
        return listed
    if isinstance(value, str) and value[:1] in "?&*!|>%@`":
        return SingleQuotedScalarString(value)
    return value


def _short(value: object) -> bool:
    if isinstance(value, list):
        return all(not isinstance(one, str) or _word(one) for one in value) and len(value) < 20
    return not isinstance(value, Mapping) and len(str(value)) < 40


def _word(value: object) -> bool:
    return isinstance(value, str) and value.replace("_", "").isalnum() and len(value) < 30
