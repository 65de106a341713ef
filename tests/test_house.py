"""The rules of the house: which server it is, what time it is, and how a message is worded decide
nothing elsewhere.
"""

from __future__ import annotations

import ast
import re
from collections import Counter
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pytest

import catenum
from catenum.cli.examples import EXAMPLES, GUESSED
from catenum.cli.main import COMMANDS
from catenum.core.diagnose.passes import diagnose
from catenum.core.logs.servers import LogRules, log_rules_of
from catenum.core.record.modes import Mode
from catenum.core.record.waits import Resource
from catenum.core.servers import LEVELS, NAMES, NATIVE, rules_of
from catenum.core.servers.innodb import RECORD_COVERS
from catenum.core.servers.postgresql import PostgresqlLockRules
from catenum.core.servers.rules import AdviceRules, ErrorRules, LockRules, SqlRules
from catenum.engines import clock, ports
from test_findings import CASES, recording_of

ROOT = Path(catenum.__file__).parent
#: Where a server may be asked for by name.
SERVERS_MAY_BE_NAMED = ("core/servers/", "core/logs/servers/", "engines/")


def modules() -> list[Path]:
    return sorted(ROOT.rglob("*.py"))


def test_no_code_outside_the_servers_modules_asks_which_server_it_is():
    found = []
    for path in modules():
        place = path.relative_to(ROOT).as_posix()
        if place.startswith(SERVERS_MAY_BE_NAMED):
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Constant) and node.value in NAMES:
                found.append(f"{place}:{node.lineno}")
    assert not found


def test_each_function_is_named_somewhere_else():
    """What nobody calls goes: a name that occurs once in all code, templates and tests is read by
    nobody. Pydantic calls some by itself, and Jupyter ``_repr_html_``.
    """
    sources = [*modules(), *ROOT.rglob("*.j2"), *Path(__file__).parent.rglob("*.py")]
    text = "\n".join(path.read_text() for path in sources)
    often = Counter(re.findall(r"\w+", text))
    alone = [
        f"{path.relative_to(ROOT)}:{node.lineno} {node.name}"
        for path in modules()
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.FunctionDef) and often[node.name] == 1
        if not node.name.startswith("__")
        if not any("validator" in ast.unparse(one) for one in node.decorator_list)
    ]
    assert not alone


def test_the_page_for_contributors_names_every_package_and_only_files_that_are_there():
    page = ROOT.parents[1] / "CONTRIBUTING.md"
    rows = re.findall(r"^\| `([\w/]+)/` \| (.*)\|$", page.read_text(), re.MULTILINE)
    packages = {p.parent.relative_to(ROOT).as_posix() for p in ROOT.rglob("__init__.py")} - {"."}
    assert {name for name, _ in rows} == packages
    missing = [
        f"{name}/{file}"
        for name, text in rows
        for file in re.findall(r"`(\w+\.py)`", text)
        if not (ROOT / name / file).is_file()
    ]
    assert not missing


def test_every_server_has_the_same_files_in_every_layer():
    for name in NATIVE:
        assert (ROOT / f"core/servers/{name}.py").is_file()
        assert (ROOT / f"core/logs/servers/{name}.py").is_file()
        assert (ROOT / f"engines/private/{name}.py").is_file()
        assert Path(__file__).with_name(f"test_{name}.py").is_file()
        for part in ("control", "engine", "locks", "monitor", "requirements", "restore"):
            assert (ROOT / f"engines/{name}/{part}.py").is_file(), f"{name} lacks {part}"


def test_a_port_is_small_and_an_engine_has_them_all():
    own = [ports.Data, ports.Sessions, ports.LockViews, ports.Reports, ports.Loops]
    sizes = {port.__name__: sum(not name.startswith("_") for name in vars(port)) for port in own}
    assert all(size <= 16 for size in sizes.values()), sizes
    assert set(own) <= set(ports.Engine.__mro__)


@pytest.mark.parametrize("name", NAMES)
def test_a_server_s_rules_answer_everything(name):
    rules = rules_of(name)
    parts = {"locks": LockRules, "sql": SqlRules, "errors": ErrorRules, "advice": AdviceRules}
    for part, kind in parts.items():
        assert all(
            getattr(getattr(rules, part), member) is not None for member in kind.__annotations__
        )
    assert set(rules.locks.distinct_levels) <= set(rules.locks.levels) <= set(LEVELS)
    assert rules.locks.usual_level in rules.locks.distinct_levels
    assert (
        rules.locks.rank("serializable")
        > rules.locks.rank("read committed")
        > rules.locks.rank("snapshot")
        == -1
    )
    assert all(
        mode in table.modes
        for table in rules.locks.tables
        for pair in table.conflicts
        for mode in pair
    )
    assert rules.errors.kind_of("no such code") == "rejected"
    if name not in NATIVE:
        return  # a profile says nothing of logs
    logs = log_rules_of(name)
    assert all(getattr(logs, member) is not None for member in LogRules.__annotations__)


def test_a_server_may_have_a_level_that_no_other_has():
    class Tides(PostgresqlLockRules):
        levels = ("read committed", "snapshot", "serializable")

    assert Tides().rank("snapshot") == 1


def _reworded(value: object) -> object:
    """Every text for people in a recording, said in other words."""
    if isinstance(value, Resource):
        return replace(value, text=f"the thing called {value.text}")
    return value


@pytest.mark.parametrize("title", CASES)
def test_findings_do_not_depend_on_how_anything_is_worded(title):
    """Resources and locked paths are reworded throughout; the same things are found, for the same
    statements.
    """
    before = recording_of(CASES[title])
    waits = tuple(
        replace(w, resource=_reworded(w.resource), conflict=w.conflict and "they conflict")
        for w in before.waits
    )
    cycles = tuple(
        replace(
            d,
            rule="some rule",
            members=tuple(
                replace(m, resource=_reworded(m.resource), holds=("something",)) for m in d.members
            ),
        )
        for d in before.deadlocks
    )
    plans = tuple(
        replace(
            p, steps=tuple(replace(s, locks=tuple("it locks" for _ in s.locks)) for s in p.steps)
        )
        for p in before.plans
    )
    pictures = tuple(
        replace(
            p, locks=tuple(replace(entry, resource=_reworded(entry.resource)) for entry in p.locks)
        )
        for p in before.pictures
    )
    after = replace(before, waits=waits, deadlocks=cycles, plans=plans, pictures=pictures)
    assert [(f.id, f.transactions, f.statements) for f in diagnose(after)] == [
        (f.id, f.transactions, f.statements) for f in diagnose(before)
    ]


@pytest.mark.parametrize("name", NAMES)
def test_modes_are_read_back_from_a_recording_as_they_were(name):
    for table in rules_of(name).locks.tables:
        for mode in table.modes:
            assert Mode.read(str(mode)) == mode
    assert {Mode.read(f"X {covers}").covers for covers in RECORD_COVERS} == set(RECORD_COVERS)


def test_lock_lists_sort_keys_as_numbers():
    rows = [
        Resource(kind="row", text=f"berth(id={n})", table="berth", key=(("id", str(n)),))
        for n in (10, 1, 11, 2)
    ]
    assert [r.key[0][1] for r in sorted(rows, key=lambda r: r.sort_key)] == ["1", "2", "10", "11"]


def test_time_can_be_brought_by_a_test():
    now = [5.0]
    source = clock.Source(
        lambda: now[0],
        lambda: datetime(2026, 3, 1, tzinfo=UTC),
        lambda s: now.__setitem__(0, now[0] + s),
    )
    with clock.replaced_by(source):
        elapsed = clock.Clock()
        elapsed.rest(250)
        assert (elapsed.now_ms(), elapsed.wall()) == (250.0, "2026-03-01T00:00:00.000Z")
    assert clock.wall() != "2026-03-01T00:00:00.000Z"


def strings() -> set[str]:
    """Every text of the program, those of formatted ones in their parts."""
    return {
        " ".join(node.value.split())
        for path in modules()
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Constant) and isinstance(node.value, str)
    }


def test_the_messages_that_are_explained_are_those_that_are_printed():
    page = (ROOT.parents[1] / "docs/troubleshooting.md").read_text()
    known = "\n".join(strings())
    rows = re.findall(r"^\| (`.*?) \|", page, re.MULTILINE)
    assert len(rows) > 15
    foreign = ("mapping values are not allowed", "Address already in use")
    missing = [
        part
        for row in rows
        for message in re.findall(r"`([^`]+)`", row)
        if not any(word in message for word in foreign)
        for part in (piece.strip(" :,;") for piece in re.split(r"…|PostgreSQL", message))
        if len(part) > 3 and part not in known
    ]
    assert not missing


def test_every_command_has_its_page_of_the_manual_and_two_examples():
    assert set(EXAMPLES) == set(COMMANDS)
    assert all(len(found) == 2 for found in EXAMPLES.values())
    assert set(GUESSED.values()) <= set(COMMANDS)
    assert not set(GUESSED) & set(COMMANDS)


def test_words_of_the_glossary_are_in_order_and_said_once():
    page = (ROOT.parents[1] / "docs/glossary.md").read_text()
    words = [
        word
        for word in re.findall(r"^\| ([^|]+) \|", page, re.MULTILINE)
        if word not in ("word", "---")
    ]
    assert words == sorted(set(words), key=str.lower)
