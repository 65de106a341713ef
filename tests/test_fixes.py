"""The fixes that engineers make: for each scenario of ``fixes.yaml`` what is proposed first is the
change that one of them would make in the code, and no value of one night is in it.
"""

from __future__ import annotations

import re
from pathlib import Path

import pytest
import yaml

FIXES = yaml.safe_load((Path(__file__).parent / "fixes.yaml").read_text(encoding="utf-8"))
KEPT = {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}
#: In every run of the tests; the others are for the soak.
QUICK = {("look-then-insert", "postgresql"), ("two-tables", "postgresql"),
         ("claim", "mariadb"), ("hot-last", "postgresql"), ("gap-register", "mysql")}  # fmt: skip
SLOW = [pytest.mark.soak, pytest.mark.checked_twice]
#: Where nothing conflicts, what eases the waiting is first.
EASES = {"claim-locked", "hot-last"}


@pytest.mark.parametrize(
    ("name", "server"),
    [
        pytest.param(name, server, marks=[] if (name, server) in QUICK else SLOW)
        for name, one in FIXES.items()
        for server in one["first"]
    ],
)
def test_what_comes_first_is_what_an_engineer_would_change(request, call, tmp_path, name, server):
    request.getfixturevalue(KEPT[server])
    text = FIXES[name]["text"]
    (tmp_path / "case.yaml").write_text(text)
    done = call("propose", "case.yaml", "--target", f"local:{server}", "--json")
    assert done.code == 0, done.err
    first = done.json["candidates"][0]
    kind, words = FIXES[name]["first"][server]
    assert (first["kind"], first["verdict"]) == (kind, "eases" if name in EASES else "cures")
    assert words in first["name"]
    assert not first["these_values_only"]
    assert first["values"] is None or first["values"]["holds"] is not False
    assert not values_of("\n".join(first["statements"]) + first["name"])


def values_of(text: str) -> set[str]:
    """The keys that a text compares a column with, as numbers."""
    return set(re.findall(r"\b(?:id|slot|berth|manifest|vessel) = (\d+)\b", text))
