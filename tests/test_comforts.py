"""What makes the first ten minutes short: guesses, answers first, what to do next, new files, times."""

from __future__ import annotations

import argparse
import os
import subprocess
from datetime import UTC, datetime

import pytest
import yaml

from capturing import CORPUS
from catenum import samples
from catenum.cli.examples import EXAMPLES
from catenum.cli.main import fill
from catenum.core.errors import InputError
from catenum.core.points_in_time import point_in_time
from catenum.core.scenario.reader import read_scenario
from conftest import SCRIPT
from test_check import written

NOW = datetime(2026, 11, 29, 18, 30, tzinfo=UTC)


@pytest.mark.parametrize(
    ("text", "when"),
    [
        ("now", "2026-11-29T18:30"),
        ("10m ago", "2026-11-29T18:20"),
        ("10 minutes ago", "2026-11-29T18:20"),
        ("12h", "2026-11-29T06:30"),
        ("3d", "2026-11-26T18:30"),
        ("1.5 hours ago", "2026-11-29T17:00"),
        ("today", "2026-11-29T00:00"),
        ("yesterday", "2026-11-28T00:00"),
        ("Yesterday 17:15", "2026-11-28T17:15"),
        ("17:15", "2026-11-29T17:15"),
        ("19:00", "2026-11-28T19:00"),
        ("2026-11-22", "2026-11-22T00:00"),
        ("2026-11-22T18:00", "2026-11-22T18:00"),
        ("2026-11-22 18:00:30 +02", "2026-11-22T16:00:30"),
        ("2026-11-22T18:00:00+02:00", "2026-11-22T16:00"),
    ],
)
def test_times_as_people_write_them(text, when):
    assert point_in_time(text, NOW) == datetime.fromisoformat(when).replace(tzinfo=UTC)


@pytest.mark.parametrize(
    "text", ["", "soon", "25:00", "10x ago", "2026-13-01", "yesterday noon", "-5m"]
)
def test_what_is_no_time_is_an_error_that_says_how_to_write_one(text):
    with pytest.raises(InputError) as error:
        point_in_time(text, NOW)
    assert "10m ago" in (error.value.problems[0].advice or "")


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("run", "x.yaml"), "'catenum play'"),
        (("test",), "'catenum check'"),
        (("kill", "17"), "'catenum release'"),
        (("logs",), "'catenum intake'"),
        (("monitor",), "'catenum watch'"),
        (("diagnose",), "'catenum preflight'"),
        (("exlpore",), "'catenum explore'"),
        (("zzz",), "'catenum --help' lists them"),
        (("play", "berth-swap", "--level", "serializable"), "--isolation instead of --level"),
        (("explore", "berth-swap", "--duration=5s"), "--for instead of --duration"),
        (("play", "berth-swap", "--isolaton", "x"), "--isolation instead of --isolaton"),
        (("help", "paly"), "Did you mean play?"),
    ],
)
def test_what_is_meant_is_said(call, words, said):
    done = call(*words)
    assert done.code == 2
    assert said in done.err


def test_help_is_a_command_and_the_manual_has_every_option(call):
    assert "first steps:" in call("help").out
    page = call("help", "check").out
    assert "--since-last" in page
    assert "examples:" in page
    manual = call("help", "--man").out
    assert manual.startswith(".TH CATENUM 1")
    for said in (".SS report", "\\-\\-since\\-last", ".SH EXIT STATUS", "catenum check scenarios"):
        assert said in manual
    assert all(
        line.startswith((".", "\\&")) or not line.startswith("'") for line in manual.splitlines()
    )


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_a_shell_is_given_its_completion(call, shell):
    assert "catenum" in call("completion", shell).out


@pytest.mark.parametrize(
    ("line", "offered"),
    [
        ("catenum pl", {"play"}),
        ("catenum play berth-", {"berth-swap", "berth-count"}),
        ("catenum play berth-swap --target local:m", {"local:mariadb", "local:mysql"}),
        ("catenum play --target har", {"harbour"}),
        ("catenum explain ru", {"run.json"}),
        ("catenum check --jun", {"--junit"}),
    ],
)
def test_words_are_completed(tmp_path, line, offered):
    (tmp_path / "catenum.toml").write_text('[targets]\nharbour = "postgresql://h/x"\n')
    (tmp_path / "run.json").write_text("{}")
    env = {
        **os.environ,
        "COMP_LINE": line,
        "COMP_POINT": str(len(line)),
        "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_IFS": "\n",
    }
    subprocess.run(
        [SCRIPT],
        env={**env, "_ARGCOMPLETE_STDOUT_FILENAME": str(tmp_path / "out")},
        cwd=tmp_path,
        check=False,
        capture_output=True,
    )
    assert {word.strip() for word in (tmp_path / "out").read_text().split("\n")} == offered


def test_colour_is_forced_and_refused(call, monkeypatch):
    words = ("schema", "nothing")
    assert call(*words).code == 2
    monkeypatch.setenv("FORCE_COLOR", "1")
    assert "\x1b[" in call("play", "berth-swap", "--brief").out
    assert "\x1b[" not in call("play", "berth-swap", "--brief", "--color", "never").out
    monkeypatch.setenv("NO_COLOR", "1")
    assert "\x1b[" not in call("play", "berth-swap", "--brief").out
    assert "\x1b[" in call("play", "berth-swap", "--brief", "--color", "always").out


def test_an_answer_comes_first_and_what_to_do_next_last(call, tmp_path):
    written(tmp_path, "swap", remedies={"same": {"reorder": {"late": [2, 1]}}})
    for words in (
        ("play", "swap.yaml"),
        ("explore", "swap.yaml"),
        ("trial", "swap.yaml"),
        ("propose", "swap.yaml"),
        ("churn", "swap.yaml", "--for", "200ms"),
    ):
        whole, brief = call(*words), call(*words, "--brief")
        for out in (whole.out, brief.out):
            following = out[out.rindex("next: ") + len("next: ") :].splitlines()
            assert all(line.strip().startswith("catenum ") for line in following)
        assert len(brief.out.splitlines()) < min(14, len(whole.out.splitlines()))
        assert whole.code == brief.code
    deadlock = call("play", "swap.yaml").out.splitlines()
    assert deadlock[1].startswith("Deadlock, not just a block")


@pytest.mark.parametrize(
    ("expect", "code"),
    [
        ("deadlock", 0),
        ("no conflict", 1),
        ("conflict, no timeout", 0),
        ("broken rule", 1),
        ("no anomaly", 2),
        ("deadlok", 2),
    ],
)
def test_one_vocabulary_for_what_is_expected(call, tmp_path, expect, code):
    written(tmp_path, "swap")
    assert (
        call(
            "play", "swap.yaml", "--order", "early late early late", "--quiet", "--expect", expect
        ).code
        == code
    )


def test_loops_are_held_to_what_is_expected(call, tmp_path):
    written(tmp_path, "swap")
    assert (
        call(
            "churn",
            "swap.yaml",
            "--until",
            "deadlock",
            "--for",
            "20s",
            "--quiet",
            "--expect",
            "deadlock",
        ).code
        == 0
    )
    assert call("churn", "swap.yaml", "--for", "1s", "--quiet", "--expect", "no refused").code == 0
    assert call("churn", "swap.yaml", "--for", "1s", "--quiet", "--expect", "no phantom").code == 2


def test_a_scenario_of_two_files_of_statements(call, tmp_path):
    (tmp_path / "quay.sql").write_text(
        "begin;\nupdate berth set vessel = 'Oriel' where id = 3;\nupdate crane set job = 17 where id = 1;\ncommit;\n"
    )
    (tmp_path / "gate.sql").write_text(
        "update crane set job = 18 where id = 1;\nupdate berth set vessel = null where id = 3"
    )
    assert call("new", "--sql", "quay.sql", "--sql", "gate.sql", "-o", "case.yaml").code == 0
    text = (tmp_path / "case.yaml").read_text()
    assert "# ASSUMED" in text
    scenario = read_scenario(text.encode(), "case.yaml").scenario
    assert {name: len(one.statements) for name, one in scenario.transactions.items()} == {
        "quay": 2,
        "gate": 2,
    }
    assert call("play", "case.yaml", "--quiet", "--expect", "deadlock").code == 0
    assert call("new", "--sql", "quay.sql", "--sql", "gate.sql", "-o", "case.yaml").code == 2
    assert call("new", "--sql", "quay.sql").code == 2
    (tmp_path / "none.sql").write_text("-- nothing\n")
    assert call("new", "--sql", "quay.sql", "--sql", "none.sql").code == 2
    (tmp_path / "schema.sql").write_text(
        "create table berth (id int primary key, vessel text); create table crane (id int primary key, job int);"
    )
    assert (
        "ASSUMED: the tables"
        not in call("new", "--sql", "quay.sql", "--sql", "gate.sql", "--schema", "schema.sql").out
    )


def test_the_example_is_a_scenario_that_deadlocks_and_its_comments_are_true(call, tmp_path):
    (tmp_path / "new.yaml").write_text(call("new", "--name", "mine").out)
    assert call("play", "new.yaml", "--quiet", "--expect", "deadlock").code == 0
    text = (tmp_path / "new.yaml").read_text()
    whole = text.replace("\n# holds:\n#   ", "\nholds:\n  ").replace("\n# expect:", "\nexpect:")
    whole = whole.replace(
        "\n# remedies:\n#   serializable:\n#     ", "\nremedies:\n  serializable:\n    "
    )
    assert {"holds", "expect", "remedies"} <= set(yaml.safe_load(whole))
    read_scenario(whole.encode(), "new.yaml")


def test_a_scenario_by_answers(call, monkeypatch, tmp_path):
    import io

    answers = "swap\nearly\nupdate berth set moved = 1 where id = 3;\n\nlate\nupdate berth set moved = 2 where id = 3\n\n\n\n"
    monkeypatch.setattr("sys.stdin", io.StringIO(answers))
    done = call("new", "--ask")
    assert done.code == 0, done.err
    scenario = read_scenario(done.out.encode(), "x").scenario
    assert list(scenario.transactions) == ["early", "late"]
    monkeypatch.setattr("sys.stdin", io.StringIO("swap\n\n"))
    assert call("new", "--ask").code == 2


def test_a_scenario_of_a_server_s_tables_only_reads_them(call, own_server, tmp_path):
    with own_server.admin() as admin:
        admin.execute("create table berth (id int primary key, vessel text unique)")
        admin.execute("insert into berth values (3, 'Halcyon')")
        admin.execute("grant select on berth to guest")
    done = call("new", "berth", "--tables", own_server.url("guest"))
    assert done.code == 0, done.err
    assert "create table berth" in done.out
    assert "Halcyon" not in done.out
    read_scenario(done.out.encode(), "x")
    assert call("new", "quay", "--tables", own_server.url("guest")).code == 2
    assert call("new", "berth").code == 2


def test_all_samples_are_written_once(call, tmp_path):
    assert call("sample", "--all", "all").code == 0
    assert sorted(path.stem for path in (tmp_path / "all").iterdir()) == sorted(samples.names())
    assert call("sample", "--all", "all").code == 2


#: Commands that print or change something, and have no result of their own to keep.
WRITE_NOTHING = {"completion", "demo", "explain", "help", "lint", "local", "preflight", "release", "schema", "watch"}  # fmt: skip


def test_each_command_that_has_a_result_to_keep_takes_o():
    parsers = {name: argparse.ArgumentParser() for name in EXAMPLES}
    for name, parser in parsers.items():
        fill(parser, name)
    without = {
        name
        for name, parser in parsers.items()
        if not any("-o" in action.option_strings for action in parser._actions)
    }
    assert without <= WRITE_NOTHING


def test_what_is_written_with_o_is_what_would_be_printed(call, tmp_path):
    call("levels", "--probe", "write-skew", "-o", tmp_path / "probe.yaml")
    assert (tmp_path / "probe.yaml").read_text() == call("levels", "--probe", "write-skew").out
    log = CORPUS / "logs" / "postgresql" / "port.csv"
    done = call("restage", log, "--pick", "1", "--no-play", "-o", tmp_path / "case.yaml")
    assert not done.out
    printed = call("restage", log, "--pick", "1", "--no-play").out
    assert (tmp_path / "case.yaml").read_text() == printed
