"""A night compressed: a load of which every hold-up and deadlock is known, and what a watch has to
tell of it.
"""

from __future__ import annotations

import contextlib
import json
import sqlite3
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

import pytest

from conftest import until

NIGHT = Path(__file__).parents[1] / "scripts" / "night.py"
EVERY_S = 0.2
#: How late a look may come on a busy machine.
SLACK_S = 1.0


def seconds(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()


@pytest.fixture(scope="module")
def load(kept, tmp_path_factory) -> tuple[dict, Path]:
    """The night: what the load did by its own books, and the folder with the watch's store."""
    script = str(Path(sys.executable).with_name("catenum"))
    folder = tmp_path_factory.mktemp("night")
    watch = subprocess.Popen(
        [script, "watch", "--every", f"{EVERY_S}s", "--store", "night.sqlite", "--longer-than", "1s"],
        cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert watch.stderr.readline().startswith("Watching ")
    done = subprocess.run(
        [sys.executable, str(NIGHT), kept, "--seconds", "16"], capture_output=True, text=True
    )
    ended = datetime.now(UTC).isoformat()
    until(lambda: last_look(folder / "night.sqlite") > ended, "a look after the load")
    watch.terminate()
    watch.communicate(timeout=60)
    if done.returncode == 3:
        pytest.skip(done.stderr.strip())
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout), folder


def last_look(store: Path) -> str:
    with contextlib.closing(sqlite3.connect(store)) as connection:
        return connection.execute("select max(last_seen) from watched").fetchone()[0]


@pytest.fixture
def asked(load, call):
    """What ``history`` says of the night, as JSON."""
    return lambda *words: (
        call("history", *words, "--store", load[1] / "night.sqlite", "--json").json
    )


def test_every_hold_of_the_clerk_is_one_incident_with_its_times_and_its_waits(load, asked):
    reported = [e for e in asked("list")["incidents"] if e["application"] == "clerk"][::-1]
    assert len(reported) == len(load[0]["holds"])
    for incident, hold in zip(reported, load[0]["holds"], strict=True):
        assert incident["statement"] == load[0]["statement"]
        assert incident["object"] == "slot(id=42)"
        assert incident["waiting"] == hold["waiting"]
        assert (
            seconds(hold["from"])
            <= seconds(incident["first"])
            <= seconds(hold["from"]) + 0.5 + SLACK_S
        )
        assert (
            seconds(hold["until"]) - SLACK_S
            <= seconds(incident["last"])
            <= seconds(hold["until"]) + SLACK_S
        )
        # The last look comes up to one interval before the end, and pgbench's clock runs until its
        # reply is in.
        assert hold["longest_ms"] - 1e3 * SLACK_S <= incident["longest_ms"] <= hold["longest_ms"]


def test_deadlocks_are_as_many_as_the_load_met(load, asked):
    assert load[0]["deadlocks"] > 0
    assert asked()["deadlocks"] == load[0]["deadlocks"]
    cycles = [e for e in asked("list")["incidents"] if e["cycle"]]
    assert {e["application"] for e in cycles} <= {"yard"}


def test_the_statements_that_meet_most_are_the_gates_and_the_clerk(load, asked):
    first = next(
        pair
        for pair in asked()["pairs"]
        if "boxes + ?" in pair["holder"] and "- ?" in pair["waiter"]
    )
    assert first["waiter"] == "update slot set boxes = boxes - ? where id = ?"
    assert first["times"] == sum(hold["waiting"] for hold in load[0]["holds"])
    by = {row["application"]: row for row in asked("--by", "application")["groups"]}
    waited = sum(hold["longest_ms"] * hold["waiting"] for hold in load[0]["holds"])
    assert 0.4 * waited < by["clerk"]["wait_ms"] <= waited


def test_an_incident_of_the_night_is_explained_and_drawn(load, asked, call, tmp_path):
    number = next(e["id"] for e in asked("list")["incidents"] if e["application"] == "clerk")
    store = load[1] / "night.sqlite"
    assert call("history", "show", number, "--store", store, "--save", "e.json").code == 0
    reported = " ".join(call("explain", "e.json").out.split())
    assert "slot(id=42)" in reported
    assert "boxes + 10" in reported
    assert call("draw", "e.json").code == 0
    assert list(tmp_path.glob("*.png"))
