"""Logs as people have them: wrapped, packed, cut, in other encodings and zones; one reader for all
that read logs.
"""

from __future__ import annotations

import json
import re
import shutil
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from capturing import FORMS, other_kinds
from catenum.core.logs.pieces import LogPieces
from catenum.core.logs.times import NoZone, utc
from catenum.core.logs.wrapping import Unwrapper
from catenum.live.logfile import LogFile
from test_intake import SERVERS, make_locale
from wrapping import AROUND, PACKED

LINES = [(server, form) for server in SERVERS for form in FORMS[server]]


def each_with_some(names) -> list:
    """Each name with every other of the logs; all of them in ``make soak``."""
    return [
        pytest.param(*line, name, marks=[] if (at + place) % 2 else pytest.mark.soak)
        for at, name in enumerate(names)
        for place, line in enumerate(LINES)
    ]


def reported(call, *files) -> list[dict]:
    """What intake says of files, without where it stands."""
    found = call("intake", *files, "--json").json["conflicts"]
    return [
        {key: value for key, value in one.items() if key not in ("source", "number")}
        for one in found
    ]


def deadlocks_in(log: LogFile) -> list[str]:
    return [one.report for one in log.conflicts() if one.kind == "deadlock"]


def followed(path, server: str, data: bytes) -> list[str]:
    """What a watch gives of a log that is written in pieces while it looks."""
    path.write_bytes(b"")
    log = LogFile(path, server)
    found = []
    for begin in range(0, len(data), 3001):
        with path.open("ab") as stream:
            stream.write(data[begin : begin + 3001])
        found += deadlocks_in(log)
    return [*found, *deadlocks_in(log), *deadlocks_in(log)]


@pytest.mark.parametrize(("server", "form", "around"), each_with_some(AROUND))
def test_what_is_around_a_log_changes_nothing_of_what_it_says(
    call, logs, tmp_path, server, form, around
):
    log = logs(server, False).folder / form
    wanted = reported(call, log)
    assert wanted
    wrapped = AROUND[around](log.read_text().rstrip("\n").split("\n"))
    (tmp_path / "wrapped").write_text(wrapped)
    done = call("intake", "wrapped", "--json")
    assert reported(call, "wrapped") == wanted
    assert "read from" in done.err, "what was recognised is said"
    taken = call(
        "history",
        "take",
        "wrapped",
        "--server",
        "port",
        "--store",
        "s.sqlite",
        "--json",
        "--zone",
        "UTC",
    ).json
    assert taken["deadlocks"] == len(
        {(one["at"], str(one["report"])) for one in wanted if one["kind"] == "deadlock"}
    )
    if around not in ("export list", "export events"):  # one value, which is whole at its end only
        reports = [one["report"].strip() for one in wanted if one["kind"] == "deadlock"]
        assert [
            one.strip() for one in followed(tmp_path / "grows", server, wrapped.encode())
        ] == reports


@pytest.mark.parametrize(("server", "form", "packed"), each_with_some(PACKED))
def test_how_a_log_is_packed_changes_nothing_of_what_it_says(
    call, logs, tmp_path, server, form, packed
):
    log = logs(server, True).folder / form
    (tmp_path / "packed").write_bytes(PACKED[packed](log.read_bytes()))
    assert reported(call, "packed") == reported(call, log)


@pytest.mark.parametrize("packed", ["gzip", "xz", "bzip2", "zstd"])
def test_a_packed_log_that_was_cut_is_a_clear_error(call, logs, tmp_path, packed):
    data = PACKED[packed]((logs("postgresql", True).folder / "port.log").read_bytes())
    (tmp_path / "cut").write_bytes(data[: len(data) // 2])
    done = call("intake", "cut")
    assert (done.code, "cut: cannot be read" in done.err or "does not read like" in done.err) == (
        2,
        True,
    ), done.err


@pytest.mark.parametrize(("server", "form"), LINES)
def test_a_log_that_begins_in_the_middle_of_a_record_loses_that_one_only(
    call, logs, tmp_path, server, form
):
    data = (logs(server, True).folder / form).read_text()
    wanted = reported(call, logs(server, True).folder / form)
    first = data.index("deadlock detected")
    for begin in (first - 400, first + 15, first + 200, first + 600):
        (tmp_path / "cut").write_text(data[max(0, begin) :])
        found = reported(call, "cut")
        assert [one["victim"] for one in found][-len(wanted) + 1 :] == [
            one["victim"] for one in wanted
        ][1:]
        assert len(found) in (len(wanted) - 1, len(wanted))


def test_bytes_that_are_no_text_swallow_no_deadlock(call, logs, tmp_path):
    for form in FORMS["postgresql"]:
        log = logs("postgresql", False).folder / form
        (tmp_path / form).write_bytes(log.read_bytes().replace(b"Halcyon", b"Halcyon\xe9\xff"))
        assert [one["victim"] for one in reported(call, form)] == [
            one["victim"] for one in reported(call, log)
        ]


def test_fields_and_lines_may_be_as_long_as_they_are(call, logs, tmp_path):
    large = "Halcyon" * 150_000  # a megabyte
    for form in FORMS["postgresql"]:
        log = logs("postgresql", True).folder / form
        (tmp_path / form).write_text(log.read_text().replace("Halcyon", large, 1))
        assert [one["victim"] for one in reported(call, form)] == [
            one["victim"] for one in reported(call, log)
        ]


@given(st.lists(st.text(alphabet=st.characters(exclude_characters="\r\n\x0b\x0c\x1c\x1d\x1e\x85\u2028\u2029", codec="utf-8")), max_size=8),
       st.sampled_from([name for name in AROUND if name != "services mixed"]), st.integers(1, 60))  # fmt: skip
def test_no_line_is_lost_or_changed_whatever_stands_in_it(lines, around, size):
    lines = [f"2026-11-25 22:00:00 UTC [7] LOG:  {line}" for line in ("first", *lines)]
    wrapped = AROUND[around](lines)
    unwrapper = Unwrapper(wrapped)
    pieces = [wrapped[at : at + size] for at in range(0, len(wrapped), size)]
    text = "".join([*map(unwrapper.feed, pieces), unwrapper.finish()])
    assert text.replace("\t", "#011").rstrip("\n").split("\n") == [
        line.replace("\t", "#011") for line in lines
    ]
    assert unwrapper.unread == 0


def test_parts_of_a_message_in_syslog_are_put_together_whoever_writes_between():
    """PostgreSQL cuts what is too long for syslog, and numbers its messages."""
    parts = [
        "<134>Nov 25 22:00:00 quay db[77]: [5-1] 2026-11-25 22:00:00 UTC [77] ERROR:  deadlock detected",
        "<134>Nov 25 22:00:00 quay db[78]: [9-1] 2026-11-25 22:00:00 UTC [78] LOG:  statement: select 'a",
        "<134>Nov 25 22:00:00 quay db[77]: [5-2] 2026-11-25 22:00:00 UTC [77] DETAIL:  Process 77 waits for ShareLock",
        "<134>Nov 25 22:00:00 quay db[78]: [9-2]  long one'",
        "<134>Nov 25 22:00:00 quay db[77]: [5-3]  on transaction 9; blocked by process 78.",
        "<134>Nov 25 22:00:00 quay db[77]: [5-4] #011Process 78 waits for ShareLock on transaction 8; blocked by process 77.",
    ]
    text = "\n".join(parts) + "\n"
    unwrapper = Unwrapper(text)
    assert unwrapper.feed(text).split("\n") == [
        "2026-11-25 22:00:00 UTC [77] ERROR:  deadlock detected",
        "2026-11-25 22:00:00 UTC [77] DETAIL:  Process 77 waits for ShareLock on transaction 9; blocked by process 78.",
        "\tProcess 78 waits for ShareLock on transaction 8; blocked by process 77.",
        "2026-11-25 22:00:00 UTC [78] LOG:  statement: select 'a long one'",
        "",
    ]


def test_two_servers_in_one_file_are_read_apart(call, logs, tmp_path):
    lines = (logs("postgresql", False).folder / "port.log").read_text().rstrip("\n").split("\n")
    mixed = "".join(f"[pod/db-0/server] {line}\n[pod/db-1/server] {line}\n" for line in lines)
    (tmp_path / "pods").write_text(mixed)
    alone = reported(call, logs("postgresql", False).folder / "port.log")
    found = reported(call, "pods")
    assert len(found) in (len(alone), 2 * len(alone))
    assert {one["victim"] for one in found} == {one["victim"] for one in alone}


@pytest.mark.parametrize("language", ["de_DE", "ko_KR"])
def test_history_and_watch_read_a_log_in_any_language(
    request, call, tmp_path, monkeypatch, logs, language
):
    make_locale(request, monkeypatch, language)
    other_kinds(tmp_path, f"{language}.UTF-8")
    for form in FORMS["postgresql"]:
        waits = [
            one
            for one in reported(call, tmp_path / form)
            if one["kind"] in ("wait", "timeout", "ended")
        ]
        done = call(
            "history",
            "take",
            tmp_path / form,
            "--server",
            "port",
            "--store",
            f"{form}.sqlite",
            "--json",
        )
        if (
            form != "port.log"
        ):  # plain text has no codes: what its words mean is known of deadlocks and waits
            assert len(waits) >= 4
        assert bool(done.json["incidents"]) == bool(waits), form


@pytest.mark.parametrize("form", FORMS["postgresql"])
def test_a_watch_finds_the_deadlocks_of_a_german_log(logs, tmp_path, form):
    """By code and by form: in plain text the words are others."""
    log = logs("postgresql", False).folder / form
    text = log.read_text()
    german = text.replace("deadlock detected", "Verklemmung entdeckt").replace("ERROR:", "FEHLER:")
    for word, other in (
        ("DETAIL:", "DETAIL:"),
        ("HINT:", "TIPP:"),
        ("CONTEXT:", "ZUSAMMENHANG:"),
        ("STATEMENT:", "ANWEISUNG:"),
    ):
        german = german.replace(word, other)
    german = re.sub(r"Process (\d+) waits for (\w+) on (.*?); blocked by process (\d+)\.",
                    r"Prozess \1 wartet auf \2-Sperre auf \3; blockiert von Prozess \4.", german)  # fmt: skip
    german = re.sub(r"Process (\d+): ", r"Prozess \1: ", german)
    wanted = len(followed(tmp_path / "english", "postgresql", text.encode()))
    assert len(followed(tmp_path / "german", "postgresql", german.encode())) == wanted > 0


# -- times -------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "zone", "hour"),
    [
        ("2026-11-25 22:00:00.123 UTC", None, 22),
        ("2026-11-25 22:00:00 +01", None, 21),
        ("2026-11-25T22:00:00.123456Z", None, 22),
        ("2026-07-25 22:00:00 CEST", "Europe/Amsterdam", 20),
        ("2026-10-25 02:30:00 CEST", "Europe/Amsterdam", 0),
        ("2026-10-25 02:30:00 CET", "Europe/Amsterdam", 1),
        ("2026-07-25 22:00:00 Europe/Amsterdam", None, 20),
        ("2026-11-25 22:00:00", "Europe/Amsterdam", 21),
        ("2026-07-25 10:00:00 EDT", "America/New_York", 14),
        ("2026-07-25 10:00:00 JST", "Asia/Tokyo", 1),
        ("2026-07-25 22:00:00 CEST", None, None),
        ("2026-07-25 22:00:00 CEST", "America/New_York", None),
        ("2026-07-25 10:00:00 EDT", None, None),
        ("2026-11-25 22:00:00", None, None),
    ],
)
def test_a_time_is_read_by_its_zone_or_not_at_all(text, zone, hour):
    known = ZoneInfo(zone) if zone else None
    if hour is None:
        with pytest.raises(NoZone):
            utc(text, known)
    else:
        assert utc(text, known).astimezone(UTC).hour == hour


def test_since_leaves_nothing_in_or_out_by_a_zone_that_nobody_knows(call, logs, tmp_path):
    text = (logs("postgresql", False).folder / "port.log").read_text()
    (tmp_path / "port.log").write_text(re.sub(r"(\d\d:\d\d:\d\d\.\d+) \w+", r"\1 CEST", text))
    done = call("intake", "port.log", "--since", "2020-01-01", "--json")
    assert (done.code, "'CEST' is not known" in done.err, "--zone" in done.err) == (2, True, True)
    (tmp_path / "port.log").write_text(
        re.sub(r"\d{4}-\d\d-\d\d (\d\d:\d\d:\d\d\.\d+) \w+", r"2026-07-25 \1 CEST", text)
    )
    late = datetime(2026, 7, 26, tzinfo=UTC)
    zone = ("--zone", "Europe/Amsterdam", "--json")
    assert call("intake", "port.log", "--since", "2026-07-24", *zone).json["conflicts"]
    assert not call("intake", "port.log", "--since", late.isoformat(" ", "seconds"), *zone).json[
        "conflicts"
    ]


def test_what_is_no_log_is_none_whatever_is_around_it(call, tmp_path):
    for name, wrap in AROUND.items():
        (tmp_path / "none").write_text(wrap(["the crane turned", "a box fell", "nobody waits"]))
        assert (call("intake", "none").code, name) == (2, name)
    shutil.rmtree(tmp_path / "none", ignore_errors=True)
    assert LogPieces(b"", lambda text: None).reader is None


#: As MySQL's JSON sink writes it: the report's headings, without the lines of its transactions.
SINK = (
    (12468, "Transactions deadlock detected, dumping detailed information."),
    (12469, "\n*** (1) TRANSACTION:\n"),
    (12469, "\n*** (1) HOLDS THE LOCK(S):\n"),
    (12469, "\n*** (1) WAITING FOR THIS LOCK TO BE GRANTED:\n"),
    (12469, "\n*** (2) TRANSACTION:\n"),
    (12469, "*** WE ROLL BACK TRANSACTION (2)\n"),
)


@pytest.mark.parametrize("grows", [False, True])
def test_mysql_s_json_sink_has_the_deadlock_and_says_where_the_rest_stands(
    call, logs, tmp_path, grows
):
    log = logs("mysql", False).folder / "error.log"
    wanted = call("intake", log, "--json").json["conflicts"]
    row = {"log_type": 1, "prio": 3, "subsystem": "InnoDB", "time": wanted[0]["at"], "ts": 1764468943569,
           "err_symbol": "ER_IB_MSG_643", "SQL_state": "HY000", "label": "Note"}  # fmt: skip
    text = "".join(
        json.dumps({**row, "err_code": code, "msg": message}) + "\n" for code, message in SINK
    )
    (tmp_path / "error.log.00.json").write_text(text)
    if grows:
        (report,) = followed(tmp_path / "grows.json", "mysql", text.encode())
        assert "WE ROLL BACK" in report
        return
    (reported,) = call("intake", "error.log.00.json", "--json").json["conflicts"]
    assert (reported["at"], reported["members"]) == (wanted[0]["at"], [])
    assert "headings" in reported["notes"][0]
    both = call("intake", "error.log.00.json", log, "--json").json["conflicts"]
    assert [one["members"] for one in both] == [one["members"] for one in wanted], (
        "each is listed once, as it is whole"
    )
