"""One table's name in two databases, or two schemas: which one is meant is said, or that it is
unknown.
"""

from __future__ import annotations

import contextlib
import threading

import psycopg
import pymysql
import pytest

from conftest import over_socket, until

TABLE = "create table {}berth (id int primary key, vessel int); insert into {}berth values (7, 0)"


def _blocked(connect, place, sql="update {}berth set vessel = 1 where id = 7"):
    """Two sessions of which the second waits for the first."""
    head, waiter = connect(), connect()
    head.cursor().execute("begin")
    head.cursor().execute(sql.format(place))
    thread = threading.Thread(target=_quietly, args=(waiter, sql.format(place)), daemon=True)
    thread.start()
    return head, waiter, thread


def _quietly(session, sql):
    with contextlib.suppress(psycopg.Error, pymysql.Error):
        session.cursor().execute(sql)


def _end(queues):
    for head, _, _ in queues:
        head.close()
    for _, waiter, thread in queues:
        thread.join(10)
        waiter.close()


def test_a_table_of_another_database_is_read_there(kept, call):
    """The same table in three places: the watch's own database, a schema of it, and another
    database.
    """
    with psycopg.connect(kept, autocommit=True) as admin:
        for name in ("north",):
            admin.execute(f"drop database if exists {name}")
            admin.execute(f"create database {name}")
        admin.execute(
            "create schema quay; " + TABLE.format("quay.", "quay.") + "; " + TABLE.format("", "")
        )
    elsewhere = psycopg.conninfo.make_conninfo(kept, dbname="north")
    with psycopg.connect(elsewhere, autocommit=True) as north:
        north.execute(TABLE.format("", "") + "; create table mooring (berth int references berth)")
        north.execute("insert into berth values (9, 0)")
    queues = [
        _blocked(lambda: psycopg.connect(kept, autocommit=True), ""),
        _blocked(lambda: psycopg.connect(kept, autocommit=True), "quay."),
        _blocked(lambda: psycopg.connect(elsewhere, autocommit=True), ""),
    ]
    key = psycopg.connect(elsewhere, autocommit=True)
    thread = threading.Thread(
        target=_quietly, args=(key, "insert into mooring values (9)"), daemon=True
    )
    try:
        # A key waits for the parent's row, which its statement does not name.
        queues[2][0].execute("delete from berth where id = 9")
        thread.start()
        until(lambda: len(call("now", "--json").json["waits"]) == 4, "all wait")
        over = sorted(wait["over"] for wait in call("now", "--json").json["waits"])
        assert over == [
            "berth(id=7)",
            "north.berth row at (0,2)",
            "north.berth(id=7)",
            "quay.berth(id=7)",
        ]
    finally:
        _end([*queues, (key, key, thread)])
        with psycopg.connect(kept, autocommit=True) as admin:
            admin.execute("drop schema quay cascade; drop table berth")
            for name in ("north",):
                admin.execute(f"drop database {name} with (force)")


def test_a_table_of_a_database_that_may_not_be_read_is_unknown(kept, call):
    """Never the statement's own table: a key's parent is another one."""
    admin = psycopg.connect(kept, autocommit=True)
    admin.execute("drop role if exists lookout")
    admin.execute("create role watcher login in role pg_monitor")
    admin.execute("create database shut")
    admin.execute("revoke connect on database shut from public")
    inside = psycopg.conninfo.make_conninfo(kept, dbname="shut")
    with psycopg.connect(inside, autocommit=True) as shut:
        shut.execute(TABLE.format("", "") + "; create table mooring (berth int references berth)")
    head, waiter = (psycopg.connect(inside, autocommit=True) for _ in range(2))
    head.execute("begin; delete from berth where id = 7")
    thread = threading.Thread(
        target=_quietly, args=(waiter, "insert into mooring values (7)"), daemon=True
    )
    thread.start()
    try:
        where = psycopg.conninfo.conninfo_to_dict(kept)
        url = f"postgresql://watcher@/{where['dbname']}?host={where['host']}&port={where.get('port', 5432)}"
        until(lambda: call("now", "--json", "--target", url).json["waits"], "it waits")
        (wait,) = call("now", "--json", "--target", url).json["waits"]
        assert "mooring" not in wait["over"]
        assert "of the database shut, not visible to this login" in wait["over"]
    finally:
        _end([(head, waiter, thread)])
        admin.execute("drop database shut with (force)")
        admin.execute("drop role watcher")
        admin.close()


def test_what_a_login_may_not_see_is_not_visible_and_never_working(kept, call):
    """Of others' sessions PostgreSQL tells such a login neither the state nor the kind of process."""
    admin = psycopg.connect(kept, autocommit=True)
    admin.execute("create role visitor login")
    admin.execute(TABLE.format("", ""))
    queue = _blocked(lambda: psycopg.connect(kept, autocommit=True), "")
    try:
        where = psycopg.conninfo.conninfo_to_dict(kept)
        url = f"postgresql://visitor@/{where['dbname']}?host={where['host']}"
        until(lambda: call("now", "--json").json["waits"], "it waits")
        done = call("now", "--json", "--target", url)
        states = {one["id"]: one["state"] for one in done.json["sessions"]}
        assert {states[str(one.info.backend_pid)] for one in queue[:2]} == {"not visible"}
        assert "not visible to this login" in " ".join(call("now", "--target", url).out.split())
        assert done.code == 1
    finally:
        _end([queue])
        admin.execute("drop table berth")
        admin.execute("drop role visitor")
        admin.close()


@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_the_same_row_of_two_schemas_is_two(request, call, server):
    """Both are waited for at once: two objects, each with its schema."""
    socket = request.getfixturevalue(f"kept_{server}")
    admin = over_socket(unix_socket=socket, user="root", autocommit=True)
    for name in ("quay", "yard"):
        admin.cursor().execute(f"create database {name}")
        for part in TABLE.format(f"{name}.", f"{name}.").split(";"):
            admin.cursor().execute(part)

    def connect():
        return over_socket(unix_socket=socket, user="root", autocommit=True)

    queues = [_blocked(connect, "quay."), _blocked(connect, "yard.")]
    try:
        shown = until(
            lambda: (
                (w := call("now", "--json", "--target", f"local:{server}").json["waits"])[1:] and w
            ),
            "two wait",
        )
        assert sorted(wait["over"] for wait in shown) == ["quay.berth(id=7)", "yard.berth(id=7)"]
    finally:
        _end(queues)
        for name in ("quay", "yard"):
            admin.cursor().execute(f"drop database {name}")
        admin.close()
