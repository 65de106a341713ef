"""What a log does not show is not made up: processes, statements, keys, and why something is
missing.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import date

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from catenum.core.logs.conflicts import CUT, Conflict, Member
from catenum.core.logs.innodb_conflicts import shown
from catenum.core.logs.innodb_fields import decode
from catenum.core.logs.masking import mask_staged, others
from catenum.core.logs.postgresql import PostgresqlLog
from catenum.core.logs.postgresql_conflicts import PostgresqlConflicts
from catenum.core.logs.restage import Staged
from catenum.core.logs.sequels import Sequels
from catenum.core.servers import rules_of

#: Two sessions that deadlock, with {} for what each line begins with: {t} a time, {n} a line's
#: number, {p} the process.
LINES = (
    (41, 'LOG:  statement: begin'),
    (42, 'LOG:  statement: begin'),
    (41, 'LOG:  statement: update berth set vessel = 1 where id = 7'),
    (42, "LOG:  statement: update berth set note = 'ShareLock on the key' where id = 3"),
    (41, 'LOG:  statement: update berth set vessel = 1 where id = 3'),
    (42, 'LOG:  statement: update berth set vessel = 1 where id = 7'),
)  # fmt: skip
WAITS = ((41, "LOG:  process 41 still waiting for ShareLock on transaction 9 after 1000.123 ms"),)
FALLS = (
    (42, "ERROR:  deadlock detected"),
    (42, "DETAIL:  Process 42 waits for ShareLock on transaction 8; blocked by process 41.\n"
         "\tProcess 41 waits for ShareLock on transaction 9; blocked by process 42.\n"
         "\tProcess 42: update berth set vessel = 1 where id = 7\n"
         "\tProcess 41: update berth set vessel = 1 where id = 3"),
    (42, "STATEMENT:  update berth set vessel = 1 where id = 7"),
)  # fmt: skip


def read(text: str, prefix: str | None = None):
    log = PostgresqlLog(prefix)
    reader = PostgresqlConflicts(rules_of("postgresql"))
    entries = [*log.feed(text), *log.finish()]
    return [*reader.read(entries), *reader.finish()], log.doubt


def written(form: str, lines=(*LINES, *WAITS, *FALLS)) -> str:
    reported = []
    counts: dict[int, int] = {}
    for number, (pid, text) in enumerate(lines):
        counts[pid] = counts.get(pid, 0) + 1
        begins = form.format(
            t=f"2026-11-30 02:15:{number:02}.000 UTC", n=counts[pid], p=pid, h=f"{pid:x}"
        )
        reported.append(f"{begins}{text}")
    return "\n".join(reported) + "\n"


FORMS = {
    "a label behind a number": ("{t} {n} pid={p} ", False),
    "a label before it": ("pid={p},line={n} ", False),
    "the session's own": ("{t} [{n}] 6566a3b2.{h} ", False),
    "two in brackets": ("{t} [{n}] [{p}] ", False),
    "two bare": ("{t} {n} {p} ", False),
    "in brackets, behind a bare one": ("{t} {n} [{p}] ", False),
}


@pytest.mark.parametrize("form", FORMS)
def test_the_process_is_the_one_that_the_log_shows(form):
    """A number of a line stands where a process could: the history of each member is its own, and
    whole.
    """
    found, doubt = read(written(FORMS[form][0]))
    (deadlock,) = [one for one in found if one.kind == "deadlock"]
    reported = {member.session: member.history for member in deadlock.members}
    assert reported == {
        "41": (
            "update berth set vessel = 1 where id = 7",
            "update berth set vessel = 1 where id = 3",
        ),
        "42": (
            "update berth set note = 'ShareLock on the key' where id = 3",
            "update berth set vessel = 1 where id = 7",
        ),
    }
    assert doubt is None


def test_two_readings_that_both_fit_are_said():
    """No message names its process, and no label does: which number it is cannot be told."""
    _, doubt = read(written("{t} {n} {p} ", LINES))
    assert "1 is taken, 41 would fit as well" in doubt
    assert read(written("{t} {n} {p} ", LINES), "%m %l %p ")[1] is None


@pytest.mark.parametrize(
    ("lines", "why"),
    [
        ((*LINES, FALLS[0], FALLS[2]), "terse, or their lines were left out"),
        (
            (
                *LINES,
                (7, "ERROR:  duplicate key"),
                (7, "DETAIL:  Key (id)=(7) already exists."),
                FALLS[0],
            ),
            "are lost",
        ),
        ((*LINES, FALLS[0], (42, "DETAIL:  Process 42 waits for")), "cannot be read"),
    ],
)
def test_terse_is_said_only_of_what_is(lines, why):
    found, _ = read(written("{t} [{p}] ", lines))
    (deadlock,) = [one for one in found if one.kind == "deadlock"]
    assert why in deadlock.notes[0]


def test_a_statement_logged_with_its_duration_is_not_the_one_that_waits():
    lines = [
        (pid, text.replace("statement:", "duration: 0.1 ms  statement:")) for pid, text in LINES[:4]
    ]
    again = "LOG:  duration: 0.2 ms  statement: update berth set vessel = 1 where id = 7"
    found, _ = read(
        written("{t} [{p}] ", [*lines, (42, again), (42, again.replace("7", "9")), *FALLS])
    )
    (deadlock,) = [one for one in found if one.kind == "deadlock"]
    (victim,) = [member for member in deadlock.members if member.session == "42"]
    assert victim.history[-3:] == (
        "update berth set vessel = 1 where id = 7",
        "update berth set vessel = 1 where id = 9",
        "update berth set vessel = 1 where id = 7",
    )


@pytest.mark.parametrize(
    ("value", "kind", "reported"),
    [
        ("80000007", "int(11)", "7"),
        ("8fcf7e", "int(11)", "0x8fcf7e"),
        ("80000c22", "decimal(5,2)", "0x80000c22"),
        ("800c22", "decimal(5,2)", "12.34"),
        ("8000000007", "decimal(10)", "7"),
        ("8000000007", "decimal(12,2)", "0x8000000007"),
    ],
)
def test_a_key_that_its_type_does_not_fit_stays_bytes(value, kind, reported):
    assert decode(value, kind) == reported


def test_bytes_without_a_type_are_a_number_only_if_a_statement_has_it():
    assert shown("80000007", {"7"}) == "7"
    assert shown("80000007", ()) == "0x80000007, 7 if it is a number"
    assert shown("8fcf7e", {"7"}) == "0x8fcf7e, 1036158 if it is a number"
    assert shown("48616c", ()) == "Hal"


AFTER = (
    (41, "LOG:  statement: update berth set vessel = 1 where id = 5"),
    (9, "LOG:  statement: update berth set vessel = 2 where id = 5"),
    (41, "LOG:  statement: update berth set vessel = 1 where id = 9"),
)
COMMIT, NEXT = (
    (41, "LOG:  statement: commit"),
    (41, "LOG:  statement: update berth set vessel = 8 where id = 8"),
)


@pytest.mark.parametrize(
    ("after", "later", "ending"),
    [
        ((*AFTER, COMMIT, NEXT), (5, 9), "commit"),
        ((*AFTER, (41, "LOG:  statement: rollback"), NEXT), (5, 9), "rollback"),
        ((*AFTER, (41, "ERROR:  division by zero"), NEXT), (5, 9), "rollback"),
        ((*AFTER[:1], (41, "LOG:  statement: begin"), NEXT), (5,), None),
        (AFTER[:1], (5,), None),
        ((COMMIT, NEXT), (), "commit"),
    ],
)
def test_what_a_survivor_ran_after_the_conflict_is_part_of_it(after, later, ending):
    log = PostgresqlLog()
    reader = PostgresqlConflicts(rules_of("postgresql"))
    entries = [*log.feed(written("{t} [{p}] ", (*LINES, *WAITS, *FALLS, *after))), *log.finish()]
    (deadlock,) = reader.continued([one for one in reader.read(entries) if one.kind == "deadlock"])
    survivor, victim = deadlock.member("41"), deadlock.member("42")
    assert survivor.later == tuple(
        f"update berth set vessel = 1 where id = {number}" for number in later
    )
    assert (survivor.ending, victim.later, victim.ending) == (ending, (), None)


def test_a_loop_of_four_rows_is_restaged_with_all_four(call, tmp_path):
    """What is proven of the scenario is proven of what ran."""
    (tmp_path / "port.log").write_text(
        written("{t} [{p}] ", (*LINES, *WAITS, *FALLS, *AFTER, COMMIT))
    )
    done = call("restage", "port.log", "--no-play", "--pick", 1, "--literals")
    assert done.code == 0, done.err
    made = yaml.safe_load(done.out)
    texts = [
        one if isinstance(one, str) else one["sql"]
        for one in made["transactions"]["s41"]["statements"]
    ]
    assert [text[-1] for text in texts] == ["7", "3", "5", "9"]
    assert made["order"].split()[-2:] == ["s41", "s41"]
    assert (
        "s42: it was the victim; what it would have run after this is not known."
        in done.out.replace("\n# ", " ")
    )


MASKED = (
    ("postgresql", r"update berth set note = E'it\'s 7041', u = $q$secret 'x'$q$ /* box 7041 */ where id = 7041 -- 7041"),
    ("postgresql", "insert into visit values ('2026-11-30', '2026-12-01 04:12:00+01', 7041, 7042.50, '007041')"),
    ("postgresql", "do $$ begin update berth set vessel = 7041 where note = 'Halcyon'; end $$"),
    ("mysql", r"""update berth set note = 'it\'s 7041', tide = "Halcyon" where id in (7041, 7042) # 7041"""),
    ("mariadb", "update berth set flag = b'101', h = x'7041', j = '{\"vessel\": \"Halcyon\", \"n\": 7041}'"),
)  # fmt: skip


def captured(server: str) -> Conflict:
    return Conflict(
        kind="deadlock",
        server=server,
        at=None,
        members=(),
        waits=(),
        victim=None,
        relations=(),
        report="",
    )


@pytest.mark.parametrize(("server", "sql"), MASKED)
def test_a_masked_scenario_has_no_value_and_reads_as_before(server, sql):
    """Wherever a value stands; different ones stay different, and what remains is the same
    statement.
    """
    rules = rules_of(server)
    staged = Staged("x", server, "", "select 1;", {"a": {"statements": [sql]}}, ["a"], None)
    made, _ = mask_staged(staged, captured(server))
    (text,) = made.transactions["a"]["statements"]
    assert not [
        value for value in ("7041", "7042", "Halcyon", "secret", "2026", "101") if value in text
    ]
    sql = sql.replace(r"\'", "''") if server != "postgresql" else sql
    assert rules.sql.shape(text) == rules.sql.shape(
        sql.split("/*")[0].split("--")[0].split("#")[0] + sql.partition("*/")[2]
    )


@given(
    st.sets(st.integers(0, 10**6), max_size=40),
    st.sets(st.dates(), max_size=9),
    st.sets(st.text("abc1-", max_size=4)),
)
def test_other_values_keep_what_makes_two_different_and_which_comes_first(numbers, dates, texts):
    found = (
        {("number", str(one)) for one in numbers}
        | {("text", f"{one}") for one in dates}
        | {("text", t) for t in texts}
    )
    other = others(found)
    made = [int(other["number", str(one)]) for one in sorted(numbers)]
    assert made == sorted(set(made))
    assert all(
        new <= old
        for old, new in zip(sorted(numbers), made, strict=True)
        if len(numbers) < 20 < old
    )
    days = [other["text", f"{one}"] for one in sorted(dates)]
    assert [date.fromisoformat(day) for day in days] == sorted(set(map(date.fromisoformat, days)))
    words = [
        value for kind, value in found if kind == "text" and any(sign.isalpha() for sign in value)
    ]
    assert len({other["text", word] for word in words}) == len(words)


def test_what_the_tables_definitions_name_stays():
    data = "create table berth (id int, state text check (state in ('free', 'taken')));\ninsert into berth values (7, 'free');"
    staged = Staged(
        "x",
        "postgresql",
        "",
        data,
        {"a": {"statements": ["update berth set state = 'taken'"]}},
        ["a"],
        None,
    )
    made, _ = mask_staged(staged, captured("postgresql"), of_server=True)
    assert "insert into berth values (2, 'free');" in made.data
    unread, _ = mask_staged(staged, captured("postgresql"))
    assert unread.data == data  # what was made up to fit the definitions still does
    assert made.transactions["a"]["statements"] == ["update berth set state = 'taken'"]


def test_a_statement_that_waited_and_is_cut_in_the_report_did_not_run_twice():
    """Logged with its duration once it went on: it is the one that the report has, as far as the
    server kept it.
    """
    sequels = Sequels(rules_of("postgresql"))
    waiting = "update berth set note = 'x" + CUT
    member = Member(session="41", statement=waiting, history=(waiting,), whole=True)
    conflict = replace(captured("postgresql"), members=(member,))
    sequels.follow(conflict)
    sequels.ran("41", "update berth set note = 'xyz' where id = 3", ended=True)
    sequels.ran("41", "update berth set vessel = 1 where id = 5", ended=True)
    sequels.ran("41", "commit")
    ((found,),) = [one.members for one in sequels.added_to([conflict])]
    assert (found.later, found.ending) == (("update berth set vessel = 1 where id = 5",), "commit")


#: What a text in a statement may have in it: lines of each form of log, of each server.
QUOTED = {
    "general log": "251130  5:15:28\t     7 Query\tcommit\n" * 3,
    "general log of MySQL": "2025-11-30T05:15:43.569290Z\t    7 Query\tcommit\n" * 3,
    "csvlog": '2025-11-30 05:15:28.000 UTC,"port","port",41,"[local]",6b08.1,1,"UPDATE",2025-11-30 05:15:28 UTC,3/4,725,ERROR,'
    '40P01,"deadlock detected",,,,,,,,,"","client backend",,0\n',
    "jsonlog": '{"timestamp":"2025-11-30 05:15:28.000 UTC","pid":41,"error_severity":"ERROR","message":"deadlock detected"}\n',
    "log of PostgreSQL": "2025-11-30 05:15:28.000 UTC [41] ERROR:  deadlock detected\n" * 3,
    "JSON sink": '{"prio":3,"err_code":12468,"msg":"x","err_symbol":"X","time":"2025-11-30T05:15:43Z"}\n',
    "a line of a container": "2025-11-30T05:15:43.569290Z stderr F *** (2) TRANSACTION:\n" * 3,
    "status": "------------------------\nLATEST DETECTED DEADLOCK\n------------------------\n*** (1) TRANSACTION:\n"
    "TRANSACTION 5, ACTIVE 0 sec\nMySQL thread id 7, x\nMariaDB thread id 7, x\nselect 1\n",
}  # fmt: skip


@pytest.mark.parametrize("quoted", QUOTED)
@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_lines_of_logs_within_a_statement_change_nothing_of_a_report(
    call, logs, tmp_path, server, quoted
):
    text = (logs(server, False).folder / "error.log").read_text()
    wanted = call("intake", logs(server, False).folder / "error.log", "--json").json["conflicts"]
    begins = "update berth set vessel = 'x' where id = 7 and 'it''s said: \\'\n"
    assert text.count(begins) == 1
    (tmp_path / "error.log").write_text(text.replace(begins, begins + QUOTED[quoted]))
    found = call("intake", "error.log", "--json").json["conflicts"]
    assert [without_quote(one) for one in found] == [without_quote(one) for one in wanted]
    # The same report in a status text, where no line has a prefix.
    report = next(one["report"] for one in found if begins in one["report"])
    status = f"=====\n2026-11-30 02:15:28 0x7f INNODB MONITOR OUTPUT\n=====\n{'-' * 24}\nLATEST DETECTED DEADLOCK\n{'-' * 24}\n"
    (tmp_path / "status.txt").write_text(
        f"{status}2026-11-30 02:15:28 0x7f\n{report}\n------------\nTRANSACTIONS\n------------\n"
    )
    (alone,) = call("intake", "status.txt", "--json").json["conflicts"]
    (whole,) = (one for one in found if begins in one["report"])
    for key in ("members", "waits", "victim", "relations"):
        assert alone[key] == whole[key], key


def without_quote(conflict: dict) -> dict:
    """A conflict but for the statement that was changed, and where it stands."""
    text = str({key: value for key, value in conflict.items() if key not in ("source", "report")})
    for quoted in QUOTED.values():
        text = text.replace(repr(quoted)[1:-1], "")
    return {"text": text, "sessions": [member["session"] for member in conflict["members"]]}
