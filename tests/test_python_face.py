"""``import catenum``: one explicit list, and what a test suite or a notebook does with it."""

from __future__ import annotations

import contextlib
import re
import subprocess
import sys
import threading
from pathlib import Path

import psycopg
import pytest

import catenum
from catenum.core.errors import InputError
from catenum.core.scenario.terms import parse_expectation
from catenum.core.space.exploration import Exploration
from catenum.core.space.exploration_file import from_json
from test_check import SWAP, written

DOCS = Path(__file__).parent.parent / "docs"
#: What others build on: a name more or less is a decision.
FACE = [
    "CatenumError",
    "CheckResult",
    "ChurnResult",
    "Exploration",
    "History",
    "InputError",
    "LibraryError",
    "LintResult",
    "Listener",
    "LogOptions",
    "LogReading",
    "Matrix",
    "Need",
    "PaceResult",
    "PaceStopped",
    "PlayedOrder",
    "PreflightResult",
    "ProfileResult",
    "Proposals",
    "Recording",
    "Refused",
    "Released",
    "Restaged",
    "Sample",
    "SaveError",
    "ScenarioFile",
    "Server",
    "Sweep",
    "TargetError",
    "Trial",
    "WatchOptions",
    "Watched",
    "__version__",
    "check",
    "check_profile",
    "churn",
    "connect",
    "draw",
    "explain",
    "explore",
    "explore_levels",
    "history",
    "levels",
    "lint",
    "load",
    "loads",
    "need",
    "now",
    "pace",
    "play",
    "play_orders",
    "preflight",
    "propose",
    "read",
    "read_logs",
    "release",
    "report",
    "restage",
    "sweep",
    "trial",
    "trial_under_load",
    "use_profile",
    "watch",
]


def test_the_face_is_one_explicit_list_and_each_name_is_documented():
    assert sorted(catenum.__all__) == FACE
    for name in FACE:
        found = getattr(catenum, name)
        assert isinstance(found, str) or (found.__doc__ or "").strip()
    assert set(FACE) <= set(dir(catenum))
    with pytest.raises(AttributeError, match="no attribute 'deadlock'"):
        catenum.deadlock  # noqa: B018
    page = (DOCS / "python.md").read_text()
    assert [name for name in FACE if not name.startswith("_") and f"`{name}" not in page] == []


def test_importing_it_loads_nothing_and_a_name_what_it_needs():
    code = (
        "import sys, catenum; heavy = ('psycopg', 'pydantic', 'rich', 'matplotlib', 'jinja2', 'scipy', 'sqlglot');"
        "print([m for m in heavy if m in sys.modules]); catenum.Recording;"
        "print([m for m in heavy if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.split("\n")[:2] == ["[]", "[]"]


def test_the_types_are_those_that_a_checker_sees(tmp_path):
    (tmp_path / "use.py").write_text(
        "import catenum\n"
        "found: catenum.Exploration = catenum.explore('berth-swap', isolation={'early': 'serializable'}, workers=2)\n"
        "assert found.never('deadlock')\n"
        "reveal_type(catenum.play('berth-swap', order=['early']).outcome.kind)\n"
        "catenum.explore('berth-swap', isolatoin='serializable')\n"
    )
    done = subprocess.run(
        [sys.executable, "-m", "mypy", str(tmp_path / "use.py")],
        capture_output=True,
        text=True,
        cwd=Path(__file__).parents[
            1
        ],  # with its settings, and what `make types` has checked already
        check=False,
    )
    assert "Literal['clean']" in done.stdout
    assert 'Unexpected keyword argument "isolatoin"' in done.stdout
    assert "Found 1 error in 1 file" in done.stdout


def exploration(said: str) -> Exploration:
    """From what stands beside the tests."""
    text = (Path(__file__).parent / "corpus" / "said" / f"explore-{said}.txt").read_text()
    return from_json(text[text.index("{\n") : text.index("\n}\n") + 2].encode(), said)


def test_an_exploration_answers_questions_and_says_why_not():
    found = exploration("berth-swap.postgresql")
    assert found.ever("deadlock")
    assert found.never("anomaly")
    answer = found.never("deadlock")
    assert not answer
    assert re.fullmatch(r"<not so: deadlock in 2 of 6 schedules, such as [a-z ]+>", repr(answer))
    assert found.meets("deadlock, no anomaly")
    with pytest.raises(InputError, match="not an outcome"):
        found.never("dedlock")
    found.reach.complete, found.reach.sampled = False, True
    assert not found.never("anomaly")
    assert found.never("anomaly", sample=True)
    assert repr(found.never("anomaly")).startswith("<not proven: no anomaly")


def test_a_routine_that_catches_errors_leaves_it_open_whether_there_were_deadlocks():
    found = exploration("crane-standby.postgresql")
    assert found.never("deadlock")
    found.tally.may_hide = True
    assert not found.never("deadlock")
    assert not found.never("conflict")


def test_anything_can_be_taken_back_with_one_vocabulary():
    assert [str(term) for term in parse_expectation("any rules, rules: any, any errors")] == [
        "broken rule",
        "broken rule",
        "error",
    ]


# -- on a server -----------------------------------------------------------------------------------


def test_one_server_serves_many_calls_and_keeps_nothing(kept, tmp_path):
    path = written(
        tmp_path, "swap", expect="deadlock", remedies={"same": {"reorder": {"late": [2, 1]}}}
    )
    with catenum.connect() as server:
        found = catenum.explore(path, target=server)
        assert found.ever("deadlock")
        run = catenum.play(
            catenum.loads(path.read_text()), target=server, order="early late early late"
        )
        assert run.outcome.kind == "deadlock"
        assert catenum.check(path, targets=[server])
        tried = catenum.trial(path, target=server)
        assert [one.name for one in tried.winners] == ["same"]
        proposed = catenum.propose(path, target=server)
        assert proposed.cures
        assert proposed.before is not None
        assert proposed.before.outcome.kind == "deadlock"
        assert proposed.after is not None
        assert proposed.after.outcome.kind == "waited"
        need = catenum.need(path, target=server)
        looped = catenum.churn(path, target=server, time_limit="600ms")
        assert looped.iterations
    for result in (found, run, tried, proposed, need, looped):
        html = result._repr_html_()
        assert html is not None
        assert "<script" not in html
    page = catenum.report(found, run, tried, proposed, looped)
    assert page.count("<article") == 5


def test_a_script_without_a_guard_may_use_processes(kept, tmp_path):
    """A child process must not run the script once more."""
    path = written(tmp_path, "swap")
    (tmp_path / "use.py").write_text(
        f"import catenum\nprint(catenum.explore({str(path)!r}, workers=2).ever('deadlock'))\n"
        f"print(catenum.churn({str(path)!r}, time_limit='500ms').iterations > 0)\n"
    )
    done = subprocess.run(
        [sys.executable, "use.py"], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.stdout == "<so: deadlock>\nTrue\n", done.stderr


def test_a_wrong_call_is_an_error_of_its_own(kept, tmp_path):
    path = written(tmp_path, "swap")
    for options in (
        {"isolation": {"nobody": "serializable"}},
        {"isolation": "chaos"},
        {"victim": "x"},
    ):
        with pytest.raises(catenum.InputError):
            catenum.explore(path, **options)
    with pytest.raises(catenum.InputError, match="no such file"):
        catenum.load("nowhere.yaml")
    with pytest.raises(catenum.InputError, match="length of time"):
        catenum.explore(path, time_limit="soon")


def test_a_server_that_is_held_has_not_the_settings_of_every_scenario(kept, tmp_path):
    path = written(tmp_path, "swap", server={"postgresql": {"deadlock_timeout": "2s"}})
    with catenum.connect() as server, pytest.raises(catenum.InputError, match="deadlock_timeout"):
        catenum.play(path, target=server)


def test_the_example_of_the_docs_is_a_test_that_runs(kept, tmp_path):
    page = (DOCS / "python.md").read_text()
    example = next(
        code for code in re.findall(r"```python\n(.*?)```", page, re.DOTALL) if "def test_" in code
    )
    (tmp_path / "test_berths.py").write_text(example)
    (tmp_path / "berths.yaml").write_text(catenum.samples.text("berth-swap"))
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "test_berths.py"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert "1 failed, 1 passed" in done.stdout
    assert "<not so: deadlock in 2 of 6 schedules" in done.stdout


def test_what_was_saved_is_read_back(call, tmp_path, kept):
    written(tmp_path, "swap", remedies={"same": {"reorder": {"late": [2, 1]}}})
    call("play", "swap.yaml", "-o", "run.json")
    call("explore", "swap.yaml", "-o", "all")
    call("trial", "swap.yaml", "-o", "trial.json")
    assert isinstance(catenum.read("run.json"), catenum.Recording)
    assert isinstance(catenum.read("all"), catenum.Exploration)
    trial = catenum.read("trial.json")
    assert isinstance(trial, catenum.Trial)
    assert [one.name for one in trial.winners] == ["same"]
    assert SWAP["scenario"] == "swap"
    for command in ("explain", "draw"):
        for pick in ("1", "2"):
            assert call(command, "trial.json", "--pick", pick, "--quiet").code == 0
    assert call("explain", "trial.json", "--pick", "3").code == 2


def test_running_servers_and_what_was_seen_there(own_server, tmp_path):
    url = f"postgresql://catenum:secret-word@/harbour?host={own_server.sockets}&port={own_server.port}"
    found = catenum.preflight(url)
    assert found.login == "catenum"
    assert found.checks
    assert bool(found) is not bool(found.lacking)
    with (
        contextlib.closing(own_server.admin()) as admin,
        contextlib.closing(own_server.admin()) as other,
    ):
        number = str(admin.info.backend_pid)
        with pytest.raises(catenum.Refused, match="blocks nobody"):
            catenum.release(number, url, agree=lambda shown, way: True)
        admin.execute("begin; create table tug (id int); lock table tug")
        other.execute("set lock_timeout = '60s'")
        waiting = threading.Thread(target=lambda: _fails(other, "insert into tug values (1)"))
        admin.execute("commit; begin; lock table tug")
        waiting.start()
        events = []
        options = catenum.WatchOptions(every_s=0.1, at_least_ms=100.0)
        store = tmp_path / "seen.sqlite"
        seen = catenum.watch(
            [url], options=options, store=store, time_limit="2s", tell=events.append
        )
        assert seen
        assert "secret-word" not in repr((seen, events))
        assert any(event.what == "began" for event in events)
        assert catenum.now(url).graph.waiters
        refused = catenum.release(number, url, agree=lambda shown, way: False)
        assert refused.result is None
        assert refused.shown.in_all == 1
        assert not refused.helped
        assert catenum.release(
            number, url, agree=lambda shown, way: shown.in_all == 1, end=True
        ).helped
        waiting.join()
    with catenum.history(store, since="1h ago") as history:
        assert history.totals()["incidents"] == len(history.incidents()) == 1
        recording = history.recording(history.incidents()[0]["id"])
    assert "tug" in catenum.explain(recording)
    assert [path.name for path in catenum.draw(recording, tmp_path, only="graph")] == ["graph.png"]
    with pytest.raises(catenum.InputError, match="no map to draw"):
        catenum.draw(recording, tmp_path, only="map")


def _fails(connection, sql):
    with contextlib.suppress(psycopg.Error):
        connection.execute(sql)
