"""What preflight says is missing is all that is missing, as statements that run."""

from __future__ import annotations

import psycopg
import pytest

from conftest import over_socket


@pytest.fixture(params=["postgresql", "mariadb", "mysql"])
def stranger(request):
    """A login without rights on a server: its URL, and how an administrator runs a statement there."""
    if request.param == "postgresql":
        where = psycopg.conninfo.conninfo_to_dict(request.getfixturevalue("kept"))
        with psycopg.connect(**where, autocommit=True) as admin:
            admin.execute("create role stranger login")
            yield f"postgresql://stranger@/{where['dbname']}?host={where['host']}", admin.execute
            admin.execute("drop owned by stranger cascade; drop role stranger")
        return
    socket = request.getfixturevalue(f"kept_{request.param}")
    with (
        over_socket(unix_socket=socket, user="root", autocommit=True) as admin,
        admin.cursor() as cursor,
    ):
        cursor.execute("create user stranger@localhost")
        yield f"{request.param}://stranger@localhost/?unix_socket={socket}", cursor.execute
        cursor.execute("drop user stranger@localhost")


def test_all_that_a_run_needs_is_named_at_once_and_enough(stranger, call):
    url, administer = stranger
    reported = call("preflight", "--for", "run", "--target", url, "--json")
    assert reported.code == 1
    assert {"run"} == {purpose for check in reported.json["checks"] for purpose in check["serves"]}
    missing = [
        check for check in reported.json["checks"] if check["needed"] and check["state"] == "off"
    ]
    shown = call("preflight", "--for", "run", "--target", url).out
    for check in missing:
        for statement in check["turn_on"].splitlines():
            assert f"    {statement}" in shown.partition("All that is missing")[2].splitlines()
            administer(statement)
    assert call("preflight", "--for", "run", "--target", url).code == 0
    played = call("play", "berth-swap", "--target", url, "--json")
    assert (played.code, played.json["outcome"]["kind"]) == (1, "deadlock"), played.err


def test_what_intake_needs_is_told_apart_from_what_watching_needs(kept, call):
    names = {
        purpose: {
            check["what"] for check in call("preflight", "--for", purpose, "--json").json["checks"]
        }
        for purpose in ("run", "watch", "intake")
    }
    assert names["run"].isdisjoint(names["watch"] | names["intake"])
    assert "log_lock_waits" in names["watch"] & names["intake"]
    assert "statement log" in names["intake"] - names["watch"]
    whole = {check["what"] for check in call("preflight", "--json").json["checks"]}
    assert whole == names["watch"] | names["intake"]
