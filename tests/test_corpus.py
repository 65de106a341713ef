"""What Catenum makes of what real servers said, word for word: see ``corpus.py``, which takes it anew."""

from __future__ import annotations

import difflib
from collections.abc import Callable
from pathlib import Path

import pytest

import corpus

pytestmark = pytest.mark.checked_twice

MADE = list(corpus.everything())


@pytest.mark.parametrize(("path", "make"), MADE, ids=[path.stem for path, _ in MADE])
def test_the_same_is_printed_of_what_a_server_said_once(path: Path, make: Callable[[], str]):
    """Where a change is meant: ``python tests/corpus.py``, and its difference is read before it is committed."""
    was, found = path.read_text(encoding="utf-8"), make()
    changed = difflib.unified_diff(was.splitlines(), found.splitlines(), "before", "now", lineterm="", n=2)
    assert not list(changed)[:40]


def test_every_text_that_is_stored_is_compared():
    assert {path for path, _ in MADE} == set((corpus.CORPUS / "said").iterdir())
