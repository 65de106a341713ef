"""What an engine by profile costs on Apache Derby: a schedule beside one that is written by hand
with the same driver, and how soon a wait is noticed beside what the server's own query takes.
``make bench`` runs this too.

python benchmarks/profiles.py
"""

from __future__ import annotations

import statistics
import sys
import threading
from typing import Any

from catenum import samples
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import profile_of
from catenum.engines.by_profile.driver import Database
from catenum.engines.clock import Clock
from catenum.engines.ports import Beginning
from catenum.engines.targets import Settings, open_engine, resolve
from catenum.lab.run.play import PlayOptions, play

PLAY, NOTICED, NOTICED_MS = 2.0, 1.5, 5.0
ROUNDS = 25
FIRST = "update berth set moved = moved + 1 where id = 3"


def do(connection: Any, sql: Any) -> list[Any]:
    """One statement, and its rows."""
    cursor = connection.cursor()
    cursor.execute(sql)
    rows = list(cursor.fetchall()) if cursor.description else []
    cursor.close()
    return rows


def by_hand(database: Database, place: Any, data: str, scenario: Scenario) -> float:
    """The sample by two connections: its data, statements and rules, each wait looked for by the
    profile's query, the rows at the end (ms).
    """
    profile = database.profile
    clock = Clock()
    early, late = database.connect(place), database.connect(place)
    looker = database.connect(place, autocommit=True)
    do(looker, "create schema by_hand")
    for connection in (early, late):
        do(connection, "set schema by_hand")
    for sql in (one.strip() for one in data.split(";") if one.strip()):
        do(early, sql)
    early.commit()

    def wait_for(thread: threading.Thread) -> None:
        while thread.is_alive() and not do(looker, profile.waits.query):
            thread.join(0.001)

    def ends(connection: Any, sql: str) -> None:
        try:
            do(connection, sql)
            connection.commit()
        except Exception:  # the victim
            connection.rollback()

    first, second = ([one.text for one in t.statements] for t in scenario.transactions.values())
    do(early, first[0])
    do(late, second[0])
    threads = [
        threading.Thread(target=ends, args=(early, first[1])),
        threading.Thread(target=ends, args=(late, second[1])),
    ]
    for thread in threads:
        thread.start()
        wait_for(thread)
    for thread in threads:
        thread.join()
    for rule in scenario.holds.values():
        do(early, rule)
    do(early, "select * from berth")
    early.commit()
    do(looker, "drop table by_hand.berth")
    do(looker, "drop schema by_hand restrict")
    for connection in (early, late, looker):
        connection.close()
    return clock.now_ms()


def noticed(engine: Any) -> tuple[float, float]:
    """How long after a statement was sent its wait is noticed, and what the query takes (ms)."""
    early, late = engine.open_session("early"), engine.open_session("late")
    took, asked = [], []
    for _ in range(ROUNDS):
        for session in (early, late):
            session.begin(Beginning())
            answer(session)
        early.send(FIRST)
        answer(early)
        clock = Clock()
        late.send(FIRST)
        while not engine.poll_waits({"late": late}, 0.0):
            pass
        took.append(clock.now_ms())
        clock.reset()
        engine.looked(engine.profile.waits.query)
        asked.append(clock.now_ms())
        early.send("rollback")
        answer(early)
        answer(late)
        late.send("rollback")
        answer(late)
    engine.end([early, late])
    return statistics.median(took), statistics.median(asked)


def answer(session: Any) -> None:
    """Wait for a session's reply."""
    while session.poll() is None:
        pass


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    scenario = read_scenario(samples.text("berth-swap").encode(), "berth-swap").scenario
    data = scenario.data.script_for("derby")
    profile = profile_of("derby")
    assert profile is not None
    with open_engine(resolve("local:derby", Settings()), print) as connect:
        place = connect.where[1]
        mine, theirs = [], []
        for _ in range(ROUNDS):
            theirs.append(by_hand(Database(profile, "derby"), place, data, scenario))
            clock = Clock()
            engine = connect()
            engine.make_scratch()
            play(engine, scenario, PlayOptions(locks="waits"))
            engine.close()
            mine.append(clock.now_ms())
        engine = connect()
        engine.make_scratch()
        engine.load(data)
        took, query = noticed(engine)
        engine.close()
    ratio = statistics.median(m / t for m, t in zip(mine, theirs, strict=True))
    bound = NOTICED * query + NOTICED_MS
    good = ratio <= PLAY and took <= bound
    for line, ok, value, most in (
        ("play berth-swap / the same by hand", ratio <= PLAY, ratio, PLAY),
        (f"a wait noticed (ms); the query takes {query:.1f}", took <= bound, took, bound),
    ):
        print(f"{'ok  ' if ok else 'SLOW'}  {line:<60} {value:6.2f}  (at most {most:.2f})")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
