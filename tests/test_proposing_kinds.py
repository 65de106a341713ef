"""A proposal means the same: cases by kind of what a change must carry along, not touch, or say."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess

import pytest

from catenum.core.scenario.reader import read_scenario
from conftest import until

pytestmark = pytest.mark.checked_twice

KEPT = {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}


def candidates(call, path, server="postgresql", *options):
    found = call("propose", path, "--target", f"local:{server}", "--json", *options)
    assert found.out, found.err
    return {one["name"]: one for one in found.json["candidates"]}


QUAY = """
scenario: quay
data: |
  create table quay (id int primary key, free int, open int not null, note varchar(20));
  insert into quay values (1, 1, 1, null), (2, 1, 1, 'x  y');
transactions:
  ines:
    statements:
      - {sql: select free from quay where id = 1 and open = 1, keep: {free: free}}
      - {sql: "update quay set free = :free - 1 where id = 1 /* app=gate and free > 0 */", when: free > 0}
  tomas:
    statements:
      - {sql: select free from quay where id = 1 and open = 1, keep: {free: free}}
      - {sql: "update quay set free = :free - 1 where id = 1 /* app=gate and free > 0 */", when: free > 0}
"""


@pytest.mark.parametrize("server", ["postgresql", "mariadb"])
def test_all_conditions_of_a_read_that_is_dropped_go_with_it(request, call, tmp_path, server):
    request.getfixturevalue(KEPT[server])
    (tmp_path / "quay.yaml").write_text(QUAY)
    found = candidates(call, "quay.yaml", server)
    whole = found["decide in the write"]
    assert whole["verdict"] == "cures"
    assert whole["proven"]
    text = whole["change"]["rewrite"]["ines"]["2"]["sql"]
    assert (
        text
        == "update quay set free = free - 1 where id = 1 and open = 1 and free > 0 /* app=gate and free > 0 */"
    )
    first = next(iter(found.values()))
    assert any("no row with id = 1" in title for title in first["other_data"])
    assert any("NULL" in title for title in first["other_data"])


@pytest.mark.parametrize("server", ["postgresql", "mysql"])
def test_a_version_check_compares_nulls(request, call, tmp_path, server):
    request.getfixturevalue(KEPT[server])
    text = QUAY.replace("(1, 1, 1, null)", "(1, null, 1, null)").replace(", when: free > 0", "")
    text = text.replace(":free - 1", "coalesce(:free, 0) + 1")
    (tmp_path / "note.yaml").write_text(text)
    check = candidates(call, "note.yaml", server)["update only if unchanged, otherwise retry"]
    sql = check["change"]["rewrite"]["ines"]["2"]["sql"]
    assert (
        "free is not distinct from :free" if server == "postgresql" else "free <=> :free"
    ) in sql
    assert check["verdict"] == "cures"
    assert check["cost"]["outcomes"].get("refused", 0) < check["cost"]["schedules"]
    assert any("rows *found*" in one for one in check["means"]) == (server == "mysql")


IN_KEY_ORDER = "go through the rows of slot in tomas in the order of the keys"
OPPOSITE = """
scenario: lines
data: create table slot (id int primary key, boxes int not null); insert into slot values (1, 5), (2, 5), (3, 5)
transactions:
  ines: {statements: [update slot set boxes = boxes - 1 where id = 1, update slot set boxes = boxes - 1 where id = 2]}
  tomas: {statements: [update slot set boxes = boxes - 1 where id = 2, update slot set boxes = boxes - 1 where id = 1]}
"""


def test_a_change_of_one_of_two_equal_call_sites_is_for_these_values_and_ranks_behind(
    call, tmp_path, kept
):
    (tmp_path / "lines.yaml").write_text(OPPOSITE)
    found = candidates(call, "lines.yaml")
    limited = [
        n
        for n, one in enumerate(found.values())
        if one["these_values_only"] and one["verdict"] == "cures"
    ]
    whole = [
        n
        for n, one in enumerate(found.values())
        if not one["these_values_only"] and one["verdict"] == "cures"
    ]
    assert limited
    assert whole
    assert min(limited) > max(whole)
    assert (
        "the same code with other values"
        in found["ines takes slot 2 before slot 1"]["these_values_only"][0]
    )
    assert not next(iter(found.values()))["these_values_only"]  # a sorted loop is code
    assert found["slot (id = 1) first"]["these_values_only"]


READ_ONLY = """
scenario: tariffs
data: |
  create table tariff (id int primary key, euros int not null); insert into tariff values (1, 7);
  create table quay (id int primary key, n int not null); insert into quay values (1, 0), (2, 0);
transactions:
  ines: {statements: [select euros from tariff where id = 1, update quay set n = n + 1 where id = 1, update quay set n = n + 2 where id = 2]}
  tomas: {statements: [select euros from tariff where id = 1, update quay set n = n + 3 where id = 2, update quay set n = n + 4 where id = 1]}
"""  # fmt: skip


def test_a_row_that_is_only_read_is_locked_by_nothing_that_does_not_say_so(call, tmp_path, kept):
    (tmp_path / "tariffs.yaml").write_text(READ_ONLY)
    found = list(candidates(call, "tariffs.yaml").values())
    assert not found[0]["harms"]
    assert found[0]["verdict"] == "cures"
    for one in found:
        locks_tariff = any(
            "tariff" in line and line.startswith("+") and "for " in line
            for line in one["statements"]
        )
        assert not locks_tariff or one["harms"], one["name"]


NAMED = """
scenario: named
data: create table crane (id int primary key, n int not null); insert into crane values (1, 0), (2, 0)
transactions:
  ines: {statements: ["select get_lock('run', 5)", update crane set n = n + 1 where id = 1, select n from crane where id = 2]}
  tomas: {statements: ["select get_lock('run', 5)", update crane set n = n + 1 where id = 2, select n from crane where id = 1]}
"""  # fmt: skip


def test_a_named_lock_gives_way_only_to_the_one_row_that_all_come_to(call, tmp_path, kept_mariadb):
    (tmp_path / "named.yaml").write_text(NAMED)
    assert "a lock that the transaction's end lets go of" not in candidates(
        call, "named.yaml", "mariadb"
    )


def test_a_claim_of_one_job_stays_a_claim_of_one(call, tmp_path, kept):
    (tmp_path / "claim.yaml").write_text("""
scenario: claim
data: create table job (id int primary key, taken text); insert into job values (1, null), (2, null), (3, null)
transactions:
  ines: {statements: [{sql: select id from job where taken is null order by id limit 1, keep: {id: id}}, "update job set taken = 'i' where id = :id"]}
  tomas: {statements: [{sql: select id from job where taken is null order by id limit 1, keep: {id: id}}, "update job set taken = 't' where id = :id"]}
""")  # fmt: skip
    for one in candidates(call, "claim.yaml").values():
        locking = [line for line in one["statements"] if line.startswith("+") and " for " in line]
        assert all("limit 1 for" in line for line in locking), locking
        assert one["verdict"] != "cures" or not one["defect"]


def test_what_only_an_order_of_the_transactions_could_keep_is_not_called_a_matter_of_retries(
    call, tmp_path, kept
):
    text = OPPOSITE + "holds: {never below five: select min(boxes) >= 5 from slot}\n"
    (tmp_path / "never.yaml").write_text(text)
    found = call("propose", "never.yaml")
    assert found.code == 1
    reported = " ".join(found.out.split())
    assert "No order of the transactions keeps the rule 'never below five'" in reported
    assert "a retry in the application" not in reported


# -- handing over ------------------------------------------------------------------------------------------------------


def test_changes_in_json_are_remedies_and_a_patch_is_one(call, tmp_path, kept):
    text = OPPOSITE.replace(
        "update slot set boxes = boxes - 1 where id = 2, u",
        '"update slot\\n  set boxes = boxes - 1 -- both  one\\n  where id = 2", u',
    )
    (tmp_path / "lines.yaml").write_text(text)
    found = candidates(call, "lines.yaml", "postgresql", "--verbose")
    for one in found.values():
        remedies = f"remedies: {json.dumps({'tried': one['change']})}\n"
        assert read_scenario((text + remedies).encode(), "again.yaml").scenario.remedies["tried"]
    if shutil.which("patch") is None:
        pytest.skip("no patch program here")
    rank = found[IN_KEY_ORDER]["rank"]
    patch = call("propose", "lines.yaml", "--patch", "--pick", rank).out
    before = [
        "-- isolation: read committed",
        "update slot",
        "  set boxes = boxes - 1 -- both  one",
        "  where id = 2;",
    ]
    before += ["update slot set boxes = boxes - 1 where id = 1;", "commit;", ""]
    (tmp_path / "tomas.sql").write_text("\n".join(before[1:]))
    done = subprocess.run(
        ["patch", "-p1"], input=patch, text=True, capture_output=True, cwd=tmp_path, check=False
    )
    assert done.returncode == 0, done.stdout + patch
    lines = (tmp_path / "tomas.sql").read_text().splitlines()
    assert lines[0] == "update slot set boxes = boxes - 1 where id = 1;"
    assert lines[-1] == "commit;"


def test_a_file_that_is_there_is_written_over_with_force_only(call, tmp_path, kept):
    (tmp_path / "lines.yaml").write_text(OPPOSITE)
    (tmp_path / "out.yaml").write_text("mine")
    refused = call("propose", "lines.yaml", "--write", "out.yaml", "--quiet")
    assert refused.code == 2
    assert "--force" in refused.err
    assert (tmp_path / "out.yaml").read_text() == "mine"
    assert call("propose", "lines.yaml", "--write", "out.yaml", "--force", "--quiet").code == 0
    assert "remedies:" in (tmp_path / "out.yaml").read_text()


def test_nothing_tried_is_not_nothing_cures(call, tmp_path, kept):
    (tmp_path / "lines.yaml").write_text(OPPOSITE)
    found = call("propose", "lines.yaml", "--for", "1ms")
    assert found.code == 2
    assert "before any candidate was tried" in found.err
    assert "nothing was tried" in found.out or "no schedule was run" in found.err


def test_an_interrupt_gives_what_was_found(start, tmp_path, kept):
    (tmp_path / "lines.yaml").write_text(OPPOSITE)
    process = start("propose", "lines.yaml")
    first = process.stdout.readline()
    assert first.startswith("First cure, after"), "shown as soon as it is found, in a pipe too"
    process.send_signal(signal.SIGINT)
    until(lambda: process.poll() is not None, "it ends")
    out = process.stdout.read()
    assert process.returncode == 130
    assert "Interrupted" in out
    assert "cures" in out


def test_a_remedy_that_the_server_rejects_loses_and_the_trial_goes_on(call, tmp_path, kept):
    text = (
        OPPOSITE + "remedies:\n  bad: {ddl: create nonsense}\n  order: {reorder: {tomas: [2, 1]}}\n"
    )
    (tmp_path / "lines.yaml").write_text(text)
    for options in ((), ("--order", "ines tomas ines tomas")):
        found = call("trial", "lines.yaml", "--json", *options).json
        assert [v["verdict"] for v in found["variants"]] == [None, "loses", "cures"]
        assert "rejects" in found["variants"][1]["reason"]
        assert found["best"] == "order"
