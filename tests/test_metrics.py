"""What a watch tells others' programs: metrics for a collector, flat lines for a log, trace context."""

from __future__ import annotations

import contextlib
import json
import math
import socket
import threading
import urllib.request
from dataclasses import replace

import psycopg
import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from catenum.core.errors import InputError
from catenum.core.record.recording import TargetInfo
from catenum.core.snapshot.sample import Sample, SessionInfo
from catenum.core.snapshot.story import tell_sample
from catenum.core.snapshot.trace_context import traceparent_in
from catenum.live.events import WatchEvent
from catenum.live.metrics import COUNTERS, GAUGES, Meter, address_of
from conftest import until

TRACE = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
INFO = TargetInfo(server="postgresql", version="15", url="postgresql://h/x")


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def fetched(port: int) -> dict[tuple[str, str], float]:
    """By metric and server (or kind), the value."""
    asked = urllib.request.Request(
        f"http://127.0.0.1:{port}/metrics",
        headers={"Accept": "application/openmetrics-text; version=1.0.0"},
    )
    with urllib.request.urlopen(asked, timeout=10) as answer:
        text = answer.read().decode()
    assert text.endswith("# EOF\n")
    return {
        (one.name, one.labels.get("kind") or one.labels.get("server", "")): one.value
        for family in text_string_to_metric_families(text)
        for one in family.samples
    }


def looked(**more) -> Sample:
    return Sample(
        at="2026-11-29T18:00:00.000Z",
        target=INFO,
        sessions=(),
        edges=(),
        connected=7,
        cost_ms=4.0,
        rows_read=1,
        **more,
    )


@pytest.fixture
def meter():
    made, port = Meter(["yard"]), free_port()
    made.serve("127.0.0.1", port)
    return made, lambda: fetched(port)


def test_where_nothing_is_seen_nothing_is_zero(meter):
    made, read = meter
    assert math.isnan(read()["catenum_sessions_waiting", "yard"])
    assert read()["catenum_server_seen", "yard"] == 0
    made.sample("yard", looked(), [], 100.0)
    assert read()["catenum_sessions_waiting", "yard"] == 0
    assert read()["catenum_server_seen", "yard"] == 1
    made.sample("yard", looked(blind="no right to see others"), [], 101.0)
    assert math.isnan(read()["catenum_sessions_waiting", "yard"])
    assert read()["catenum_samples_blind_total", "yard"] == 1
    made.sample("yard", looked(), [], 102.0)
    made.event(WatchEvent(what="lost", server="yard", at="", text="gone"))
    found = read()
    assert math.isnan(found["catenum_longest_wait_seconds", "yard"])
    assert (found["catenum_server_seen", "yard"], found["catenum_gaps_total", "yard"]) == (0, 1)
    assert found["catenum_sample_time_seconds", "yard"] == 102


def test_labels_are_servers_and_kinds_alone(meter):
    made, read = meter
    made.follows_log("yard")
    made.logged("yard", "refused")
    idle = SessionInfo(
        id="5", state="idle in a transaction", transaction_ms=9_000.0, statement="select 'secret'"
    )
    made.sample("yard", replace(looked(), sessions=(idle,)), [], 100.0)
    made.deadlocks("yard", 2)
    found = read()
    assert {label for _, label in found} <= {"", "yard", "deadlock", "refused", "timeout"}
    assert found["catenum_oldest_idle_transaction_seconds", "yard"] == 9
    assert found["catenum_deadlocks_total", "yard"] == 2
    assert found["catenum_log_conflicts_total", "refused"] == 1
    names = {name.removeprefix("catenum_").removesuffix("_total") for name, _ in found}
    assert set(GAUGES) <= names
    assert {name for name in COUNTERS if name != "sample_cost_seconds"} <= names


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("9180", ("127.0.0.1", 9180)),
        (":9180", ("127.0.0.1", 9180)),
        ("0.0.0.0:80", ("0.0.0.0", 80)),
        ("[::1]:80", ("::1", 80)),
    ],
)
def test_an_address_is_loopback_where_none_is_given(text, found):
    assert address_of(text) == found


@pytest.mark.parametrize("text", ["", "x", "0", "70000", "h:-1", "h:http"])
def test_what_is_no_port_is_an_error(text):
    with pytest.raises(InputError, match="is no port"):
        address_of(text)


def test_a_port_in_use_is_an_error_before_anything_is_watched(call, kept):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        done = call(
            "watch", "--target", "local:postgresql", "--no-store", "--for", "5s", "--metrics", port
        )
    assert done.code == 2
    assert "Address already in use" in done.err


@pytest.mark.parametrize(
    ("text", "found"),
    [
        (f"select 1 /*traceparent='{TRACE}'*/", TRACE),
        (f"/* app:x,traceparent:{TRACE} */ select 1", TRACE),
        (f'select 1 -- traceparent = "{TRACE.upper()}"', TRACE),
        (f"select 1 /*traceparent='{TRACE[:-3]}'*/", None),
        ("select 'traceparent'", None),
        (None, None),
    ],
)
def test_trace_context_is_found_in_comments(text, found):
    assert traceparent_in(text) == found


def test_trace_context_is_shown_and_stays_when_literals_go():
    session = SessionInfo(
        id="5",
        state="idle in a transaction",
        transaction_ms=1.0,
        statement=f"select 'secret' /*traceparent='{TRACE}'*/",
    )
    masked = replace(looked(), sessions=(session,)).masked()
    assert "secret" not in (masked.sessions[0].statement or "")
    assert masked.sessions[0].traceparent == TRACE
    assert tell_sample(masked)


def test_a_watch_answers_a_collector_and_writes_flat_lines(start, kept, tmp_path):
    port = free_port()
    watch = start(
        "watch", "--target", "local:postgresql", "--no-store", "--every", "200ms", "--at-least", "100ms",
        "--metrics", port, "--log-format", "json", "--mask",
    )  # fmt: skip
    until(lambda: _answers(port), "the collector is answered")
    with psycopg.connect(kept) as head, psycopg.connect(kept) as waiter:
        head.execute("create table if not exists metered (id int primary key)")
        head.execute("insert into metered values (1) on conflict do nothing")
        head.commit()
        head.execute(f"select * from metered for update /*traceparent='{TRACE}'*/")
        thread = threading.Thread(
            target=lambda: waiter.execute("select * from metered where id = 1 for update")
        )
        thread.start()
        found = until(
            lambda: (now := fetched(port))["catenum_sessions_waiting", "local:postgresql"] and now,
            "somebody waits",
        )
        assert isinstance(found, dict)
        assert found["catenum_head_blockers", "local:postgresql"] == 1
        until(
            lambda: fetched(port)["catenum_incidents_total", "local:postgresql"] == 1,
            "the incident",
        )
        head.rollback()
        thread.join()
        waiter.rollback()
        head.execute("drop table metered")
        head.commit()
    watch.terminate()
    out, _ = watch.communicate(timeout=30)
    lines = [json.loads(line) for line in out.splitlines()]
    began = next(line for line in lines if line["event"] == "began")
    assert began["level"] == "warning"
    assert began["trace_id"] == TRACE.split("-")[1]
    assert all(not isinstance(value, dict | list) for line in lines for value in line.values())


def _answers(port: int) -> bool:
    with contextlib.suppress(OSError):
        return fetched(port).get(("catenum_server_seen", "local:postgresql")) == 1
    return False
