"""What Catenum makes of what real servers said, word for word: see ``corpus.py``, which takes it
anew.
"""

from __future__ import annotations

import difflib
import json
import re
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest
from jsonschema import Draft202012Validator

import corpus
from catenum.cli.commands import schema
from catenum.core import formats

pytestmark = pytest.mark.checked_twice

MADE = list(corpus.everything())


@pytest.mark.parametrize(("path", "make"), MADE, ids=[path.stem for path, _ in MADE])
def test_the_same_is_printed_of_what_a_server_said_once(path: Path, make: Callable[[], str]):
    """Where a change is meant: ``python tests/corpus.py``, and its difference is read before it is
    committed.
    """
    was, found = path.read_text(encoding="utf-8"), make()
    changed = difflib.unified_diff(
        was.splitlines(), found.splitlines(), "before", "now", lineterm="", n=2
    )
    assert not list(changed)[:40]


def test_a_result_with_a_broken_part_is_shown_or_refused():
    """Never a fault of ours: what is read of a file is checked before it is used."""
    ends = Counter()
    for what, printed in corpus.broken_results(12):
        assert "[exit code 70]" not in printed, f"{what}\n{printed[-1500:]}"
        ends[printed.rsplit("[", 1)[1].strip()] += 1
    assert {"exit code 0]", "exit code 2]"} <= set(ends)


def test_every_text_that_is_stored_is_compared():
    assert {path for path, _ in MADE} == set((corpus.CORPUS / "said").iterdir())


PRINTED = re.compile(r"^\$ catenum .*\n(\{\n(?:[ }].*\n)*\})$", re.MULTILINE)


def test_every_json_in_the_stored_texts_is_of_its_format():
    """One stored file of each format that can be printed without a server of one's own."""
    seen = Counter()
    for path, _ in MADE:
        for found in PRINTED.finditer(path.read_text(encoding="utf-8")):
            name = formats.format_name(json.loads(found[1]))
            assert name is not None, path.name
            formats.read(name, found[1], path.name)
            seen[name] += 1
    assert {"exploration", "proposal", "trial", "now", "intake", "history"} <= set(seen)


def test_schema_knows_every_format_and_each_has_its_own(call):
    assert set(schema.NAMES) == set(formats.FORMATS)
    for name in schema.NAMES:
        made = json.loads(call("schema", name).out)
        Draft202012Validator.check_schema(made)
        if name != "scenario":
            assert f"catenum-{name}/" in json.dumps(made)
