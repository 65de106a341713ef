"""What is shown: the terminal, the JSON, the help."""

from __future__ import annotations

import contextlib
import json
import os
import pty
import re
import subprocess
import sys

import pytest
import yaml
from jsonschema import Draft202012Validator

from catenum import samples
from catenum.cli.main import COMMANDS
from catenum.core.compare.verdict import Figures, judge
from catenum.lab.run.play import PlayOptions, play
from conftest import SCRIPT, sample


def test_output_to_a_pipe_is_plain_and_fits_80_columns(call):
    for name in ("berth-swap", "left-open", "yard-rebuild"):
        out = call("play", name).out
        assert "\x1b" not in out
        table = [line for line in out.splitlines() if "SELECT" not in line]
        assert max(len(line) for line in table) <= 80


def test_a_terminal_that_knows_ascii_only_gets_signs_it_can_show(kept):
    done = subprocess.run(
        [SCRIPT, "play", "berth-swap"], capture_output=True, env={"PATH": "/usr/bin", "PYTHONIOENCODING": "ascii",
        "CATENUM_CACHE": __import__("os").environ["CATENUM_CACHE"]}, check=False,
    )  # fmt: skip
    text = done.stdout.decode("ascii")
    assert ": " in text
    assert "~ waits for late (its 1) over" in text


def test_waits_are_a_rail_in_the_waiter_s_column(call):
    lines = call("play", "berth-swap").out.splitlines()
    begin = next(i for i, line in enumerate(lines) if "◷ waits for late" in line)
    end = next(i for i, line in enumerate(lines) if "continued after" in line)
    column = lines[begin].index("◷")
    assert all(line[column] in "┊◷◆" for line in lines[begin:end])
    assert lines[end][column] == "✓"


def test_quiet_says_the_outcome_only(call):
    done = call("play", "yard-rebuild", "--quiet")
    assert done.out.startswith("yard-rebuild: outcome: waited · rules: all true · longest chain: 2")
    assert done.out.count("\n") == 1


@pytest.mark.parametrize(
    ("expected", "name", "code"),
    [
        ("deadlock", "berth-swap", 0),
        ("waited", "berth-swap", 1),
        ("waited", "yard-rebuild", 0),
        ("clean", "crane-standby", 1),
    ],
)
def test_expect_turns_the_exit_code_round(call, expected, name, code):
    assert call("play", name, "--quiet", "--expect", expected).code == code


def test_every_command_has_help_and_the_first_page_names_them_all(call):
    page = call("--help")
    assert page.code == 0
    for name in COMMANDS:
        assert call(name, "--help").code == 0
    assert call("--version").code == 0
    done = subprocess.run([SCRIPT, "--help"], capture_output=True, text=True, check=False)
    assert all(f"\n    {name}" in done.stdout for name in COMMANDS)


def test_the_help_page_loads_nothing_heavy():
    code = (
        "import sys; from catenum.cli.main import build_parser; build_parser(None);"
        "print([m for m in ('psycopg', 'pydantic', 'rich', 'sqlglot', 'matplotlib', 'yaml') if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"


def test_samples_are_listed_written_and_fine(call, tmp_path):
    listed = call("sample", "--json").json["samples"]
    assert [entry["name"] for entry in listed] == samples.names()
    assert call("sample", "tug-upgrade").out == samples.text("tug-upgrade")
    call("sample", "tug-upgrade", "--save", "mine.yaml")
    assert call("lint", "mine.yaml", *samples.names()).code == 0


@pytest.mark.parametrize("what", ["scenario", "recording", "exploration"])
def test_schemas_are_those_of_what_is_read_and_written(call, what, tmp_path):
    schema = call("schema", what).json
    assert schema["$schema"].endswith("2020-12/schema")
    Draft202012Validator.check_schema(schema)
    reads = Draft202012Validator(schema).iter_errors
    if what == "scenario":
        (tmp_path / "berth-count.yaml").write_text(samples.text("berth-count"))
        call(
            "propose", "berth-count.yaml", "--write", "with.yaml", "--quiet"
        )  # a remedy that says more than SQL
        texts = [
            (tmp_path / "with.yaml").read_text(),
            *(samples.text(name) for name in samples.names()),
        ]
        found = [yaml.safe_load(re.sub(r"\bon:", "'on':", text)) for text in texts]
        assert any(
            isinstance(reported, dict)
            for reported in found[0]["remedies"]["decide in the write"]["rewrite"]["ines"].values()
        )
    else:
        words = ("play", "left-open") if what == "recording" else ("explore", "berth-count")
        found = [call(*words, "--json").json]
    for one in found:
        assert [error.message for error in reads(json.loads(json.dumps(one)))] == []
    assert list(reads({"scenario": 3}))


def test_explain_as_json_and_in_a_sentence(call, tmp_path):
    call("play", "left-open", "--save", "r.json", "--quiet")
    reported = call("explain", "r.json", "--json").json
    assert reported["format"] == "catenum-story/1"
    assert reported["headline"] == call("explain", "r.json", "--quiet").out.strip()
    assert "Block, not deadlock" in reported["headline"]


def test_trial_reads_as_a_table_with_a_verdict_for_each(call):
    out = call("trial", "berth-swap").out
    assert "as it is         6  deadlock 2, waited 2, clean 2" in out
    assert "deadlock in 2 of 6 → only waiting" in out
    given = call("trial", "berth-swap", "--order", "early late early late").out
    assert "2 given schedules for each variant" in given
    assert "deadlock in 2 of 2 → only waiting" in given
    assert "\nBest: same order\n" in out
    assert out.startswith("berth-swap: same order is best: deadlock in 2 of 6 → only waiting.")


def test_without_rules_a_trial_says_that_data_was_not_checked(call, tmp_path):
    text = samples.text("berth-swap")
    start, end = text.index("holds:"), text.index("remedies:")
    (tmp_path / "s.yaml").write_text(text[:start] + text[end:])
    out = call("trial", "s.yaml", "--remedy", "same order", "--order", "early late").out
    assert "whether the data stays right was not checked" in out
    assert (
        "was not checked" not in call("trial", "s.yaml", "--remedy", "same order").out
    )  # serial orders tell


def figures(**changes: object) -> Figures:
    plain = {
        "runs": 2,
        "kinds": {"deadlock": 2},
        "waits": 4,
        "longest_chain": 2,
        "locks": 9,
        "time_ms": 1.0,
    }
    return Figures(**{**plain, "broken": (), "ended_well": 0, "attempts": 4, **changes})


@pytest.mark.parametrize(
    ("before", "after", "rank"),
    [
        (figures(), figures(kinds={"waited": 2}), "cures"),
        (figures(), figures(kinds={"waited": 2}, broken=("a rule",)), "loses"),
        (figures(), figures(kinds={"error": 1, "waited": 1}), "loses"),
        (figures(), figures(ended_well=2), "cures"),
        (figures(), figures(kinds={"timeout": 2}), "eases"),
        (figures(), figures(kinds={"deadlock": 1, "waited": 1}), "eases"),
        (figures(), figures(), "no better"),
        (figures(), figures(kinds={"stuck": 2}), "worse"),
        (figures(kinds={"clean": 2}, broken=("a rule",)), figures(kinds={"refused": 2}), "eases"),
        (figures(kinds={"waited": 2}), figures(kinds={"deadlock": 1, "waited": 1}), "worse"),
        (
            figures(kinds={"waited": 2}),
            figures(kinds={"clean": 2}, waits=0, longest_chain=0),
            "cures",
        ),
    ],
)
def test_verdicts_follow_their_rules(before, after, rank):
    assert judge(before, after).rank == rank


def test_demo_goes_from_conflict_to_proof(call, tmp_path):
    done = call("demo", "--into", "there")
    assert done.code == 0
    assert (
        done.out.index("the cycle is closed")
        < done.out.index("Best: same order")
        < done.out.index("outcome: waited")
    )
    made = {path.name for path in (tmp_path / "there").iterdir()}
    assert {
        "before.json",
        "after-graph.svg",
        "trial.json",
        "berth-swap.yaml",
        "before-timeline.png",
    } <= made
    assert json.loads((tmp_path / "there" / "trial.json").read_text())["best"] == "same order"


def test_the_cost_of_looking_is_in_the_recording(engine):
    recording = play(engine, sample("berth-swap").scenario, PlayOptions(locks="full"))
    assert all(picture.cost_ms > 0 for picture in recording.pictures)
    assert recording.locks_taken() > 0
    assert play(engine, sample("berth-swap").scenario, PlayOptions(locks="none")).waits == ()


def test_a_scenario_can_be_played_with_a_remedy_applied(call):
    assert (
        call("play", "berth-swap", "--remedy", "same order", "--quiet", "--expect", "waited").code
        == 0
    )
    assert "Did you mean same order?" in call("play", "berth-swap", "--remedy", "sameorder").err


@pytest.mark.soak
def test_a_trial_under_load_reads_as_a_table_with_ranges_and_verdicts(call):
    done = call("trial", "berth-swap", "--churn", "--for", "2s")
    lines = done.out.splitlines()
    head = next(line for line in lines if "iterations" in line)
    assert head.split() == ["iterations", "deadlocks", "waits", "locks", "p50", "p95", "per", "s"]
    before, after = (
        next(line for line in lines if line.startswith(name)) for name in ("as it is", "same order")
    )
    assert len(before) == len(after) == len(head)
    deadlocks = [
        int(line[-66:-55].replace(",", "")) for line in (before, after)
    ]  # columns of eleven
    assert deadlocks[0] > 0 == deadlocks[1]
    assert "Best: same order" in done.out
    assert (done.code, "a second" in done.out) == (0, True)


def test_lock_pictures_read_move_by_move_with_what_is_new(call):
    reported = call("play", "tug-upgrade", "--locks", "full").out
    third = reported.partition("  move 3 · inbound 2")[2].partition("  move 4")[0].splitlines()
    assert any(
        line.split()[:3] == ["◷", "inbound", "tug(id=4)"] and line.endswith("waits")
        for line in third
    )
    assert any(line.split()[:4] == ["outbound", "tug(id=4)", "FOR", "SHARE"] for line in third), (
        "not new, so no sign"
    )
    first = reported.partition("  move 1 · inbound 1")[2].partition("  move 2")[0]
    assert "+ inbound" in first


def test_levels_read_as_a_table_with_the_anomaly_s_evidence(call):
    reported = call("explore", "crane-standby", "--isolation", "each").out
    table = reported.partition("shortest bad schedule")[2].lstrip("\n").partition("\n\n")[0]
    rows = {line[:16].strip(): line for line in table.splitlines()}
    assert set(rows) == {"read committed", "repeatable read", "serializable"}
    assert "write skew" in rows["repeatable read"]
    assert "none" in rows["serializable"]
    assert "18" in rows["serializable"].split()
    assert "did not see what" in " ".join(reported.split())


def test_long_work_shows_how_far_it_is_and_about_how_long_it_takes_on_a_terminal(kept, tmp_path):
    ours, theirs = pty.openpty()
    words = [str(SCRIPT), "explore", "left-open"]
    with subprocess.Popen(
        words, cwd=tmp_path, stdin=theirs, stdout=subprocess.PIPE, stderr=theirs
    ) as process:
        os.close(theirs)
        drawn = b""
        with contextlib.suppress(OSError):  # the terminal is gone with the command
            while part := os.read(ours, 65536):
                drawn += part
        assert b"shortest" in process.stdout.read()
    os.close(ours)
    shown = [line for line in drawn.decode().split("\r\x1b[K") if line]
    assert any(re.search(r"about .* left", line) for line in shown), shown[:5]


def test_an_option_that_a_command_does_not_have_is_answered_with_its_own_usage(call):
    done = call("now", "--every", "3")
    assert (
        done.code,
        done.err.startswith("usage: catenum now"),
        "unknown arguments: --every 3" in done.err,
    ) == (2, True, True)
