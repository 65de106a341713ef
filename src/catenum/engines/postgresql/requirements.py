"""What a PostgreSQL must have on to record waits and deadlocks, and what the login may do.

Each thing is tried where it can be tried; what is proposed can be run as it is, line by line, by an
administrator, and takes nothing away that is there. Documentation, 20.4, 20.8, 20.9, 22.5, 28.2,
9.27.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any, Literal, LiteralString

from psycopg import errors as refused

from catenum.engines.monitor import Check, Purpose

Query = Callable[..., list[tuple[Any, ...]]]
#: Where the extension stands: a view of that name elsewhere is somebody else's.
STATEMENTS_SCHEMA: LiteralString = (
    "select n.nspname from pg_extension e join pg_namespace n on n.oid = e.extnamespace "
    "where e.extname = 'pg_stat_statements'"
)
RELOAD = "select pg_reload_conf();"
RESTART = "restart the server"


def checks(query: Query, login: str, *, sees_all: bool) -> list[Check]:
    """Settings and rights, each with the statements that would change it."""
    names = [
        *(
            "track_activities",
            "log_lock_waits",
            "deadlock_timeout",
            "track_activity_query_size",
            "logging_collector",
        ),
        *("log_destination", "log_error_verbosity", "log_statement", "log_min_duration_statement"),
        *("log_transaction_sample_rate", "log_parameter_max_length_on_error"),
    ]
    found: dict[str, str] = dict(
        query("select name, setting from pg_settings where name = any(%s)", [names])
    )
    return [
        _setting("track_activities", found, "what each session does, and what it waits for"),
        _setting(
            "log_lock_waits",
            found,
            "waits longer than deadlock_timeout in the server's log",
            "a few lines a wait",
        ),
        Check(
            what="deadlock_timeout",
            state="on",
            value=f"{found.get('deadlock_timeout')} ms",
            why="waits longer than this are checked for deadlocks, and logged",
            needed=False,
        ),
        _at_least(
            "track_activity_query_size",
            found,
            4096,
            "statements are stored up to this length (bytes)",
        ),
        _statements(query),
        Check(
            what="login may see all sessions",
            state="on" if sees_all else "off",
            value=login,
            why="otherwise only its own",
            turn_on=None if sees_all else grant(query, login, "pg_read_all_stats"),
        ),
        _ends(query, login),
        _log(query, login, found),
        *(replace(check, serves=("intake",)) for check in _for_intake(found)),
        *_for_runs(query, login),
    ]


def _for_runs(query: Query, login: str) -> list[Check]:
    """What a run on this server needs of the login: on a private one it has all of it."""
    database, may_create, is_super, sets, major, public = query(
        "select current_database(), has_database_privilege(current_database(), 'create'),"
        " current_setting('is_superuser') = 'on', case when"
        " current_setting('server_version_num')::int >= 150000 then"
        " has_parameter_privilege('deadlock_timeout', 'set') else current_setting('is_superuser') ="
        " 'on' end, current_setting('server_version_num')::int / 10000, coalesce((select"
        " has_schema_privilege('public', oid, 'create') from pg_namespace where nspname ="
        " 'public'), false)"
    )[0]
    parameter = f"grant set on parameter deadlock_timeout to {quoted(login)};"
    found = [
        Check(
            what="login may make schemas",
            state="on" if may_create else "off",
            value=str(database),
            why="the scratch space of a run",
            turn_on=(
                None
                if may_create
                else f"grant create on database {quoted(database)} to {quoted(login)};"
            ),
            serves=("run",),
        ),
        Check(
            what="login may choose the victim",
            state="on" if sets else "off",
            why=(
                "which session checks for a deadlock first (deadlock_timeout); otherwise chance"
                " decides"
            ),
            turn_on=None if sets or major < 15 else parameter,
            then=(
                None if sets or major >= 15 else "before PostgreSQL 15 only a superuser may set it"
            ),
            needed=False,
            serves=("run",),
        ),
        Check(
            what="a login for scenarios",
            state="on" if is_super else "off",
            why=(
                "what a scenario brings is run with rights on the scratch space alone; otherwise"
                " with the login's own, and statements that may reach beyond are refused"
            ),
            then=None if is_super else "a superuser may make such a login for each run",
            needed=False,
            serves=("run",),
        ),
    ]
    # as the server comes, before PostgreSQL 15 (documentation, 5.9.6; such servers are untested)
    if public:
        found.append(
            Check(
                what="schema public is closed",
                state="off",
                why=(
                    "everybody may make objects in it, scenarios too: others see those until the"
                    " run ends"
                ),
                turn_on="revoke create on schema public from public;",
                needed=False,
                serves=("run",),
            )
        )
    return found


def _for_intake(found: dict[str, str]) -> list[Check]:
    """What makes the log of the next deadlock complete (documentation, 20.8)."""
    forms = [part.strip() for part in found.get("log_destination", "").split(",")]
    structured = found.get("logging_collector") == "on" and bool({"csvlog", "jsonlog"} & set(forms))
    listed = ",".join([*forms, "csvlog"])
    lines = (
        []
        if found.get("logging_collector") == "on"
        else ["alter system set logging_collector = on;"]
    )
    every = found.get("log_statement") == "all" or found.get("log_min_duration_statement") == "0"
    sampled = float(found.get("log_transaction_sample_rate") or 0.0)
    reported = (
        found.get("log_statement", "") if not sampled else f"{sampled:.0%} of the transactions"
    )
    bound = found.get("log_parameter_max_length_on_error", "0")
    return [
        Check(
            what="structured log",
            state="on" if structured else "off",
            value=", ".join(forms),
            why=(
                "csvlog or jsonlog: intake knows errors by their codes in any language, and who a"
                " session was"
            ),
            turn_on=(
                None
                if structured
                else "\n".join([*lines, f"alter system set log_destination = '{listed}';", RELOAD])
            ),
            then=f"{RESTART}: the collector starts with it" if lines else None,
            cost="a second file, as large again as the log",
            needed=False,
        ),
        Check(
            what="statement log",
            state="on" if every or sampled == 1 else "off",
            value=reported,
            why="the earlier statements of a deadlock's members",
            turn_on=(
                None
                if every or sampled == 1
                else f"alter system set log_statement = 'all';\n{RELOAD}"
            ),
            cost=(
                "a line for each statement; log_transaction_sample_rate logs a part of all"
                " transactions"
            ),
            needed=False,
        ),
        Check(
            what="parameters on error",
            state="on" if bound not in ("0", None) else "off",
            value=f"{bound} bytes",
            why="the values with which a deadlock's victim ran (log_parameter_max_length_on_error)",
            turn_on=(
                None
                if bound != "0"
                else f"alter system set log_parameter_max_length_on_error = 1000;\n{RELOAD}"
            ),
            cost="each statement's parameters are kept as text until it ends",
            needed=False,
        ),
        *(
            [
                Check(
                    what="log_error_verbosity",
                    state="off",
                    value="terse",
                    why="terse leaves out who waited for whom in a deadlock",
                    turn_on=f"alter system set log_error_verbosity = 'default';\n{RELOAD}",
                    cost="a few lines for each error",
                )
            ]
            if found.get("log_error_verbosity") == "terse"
            else []
        ),
    ]


def _tried(query: Query, text: str) -> list[tuple[Any, ...]] | None:
    """What a query gives; None where the server does not let this login, or has no such thing."""
    try:
        return query(text)
    except (
        refused.InsufficientPrivilege,
        refused.UndefinedTable,
        refused.ObjectNotInPrerequisiteState,
    ):
        return None


def quoted(name: str) -> str:
    """A name as it stands in a statement."""
    return '"' + name.replace('"', '""') + '"'


def grant(query: Query, login: str, role: LiteralString) -> str:
    """What gives a login the rights of a role: a member that does not inherit has them only after
    SET ROLE.
    """
    member, inherits, major = query(
        "select pg_has_role(%s, 'member'), (select rolinherit from pg_roles where rolname ="
        " current_user), current_setting('server_version_num')::int / 10000",
        [role],
    )[0]
    if major >= 16:
        return f"grant {role} to {quoted(login)} with inherit true;"
    lines = [] if member else [f"grant {role} to {quoted(login)};"]
    return "\n".join([*lines, *([] if inherits else [f"alter role {quoted(login)} inherit;"])])


def _ends(query: Query, login: str) -> Check:
    may = bool(query("select pg_has_role('pg_signal_backend', 'usage')")[0][0])
    return Check(
        what="login may end sessions",
        state="on" if may else "off",
        why="for release; superusers' sessions only a superuser may end",
        turn_on=None if may else grant(query, login, "pg_signal_backend"),
        needed=False,
    )


def _statements(query: Query) -> Check:
    """Statement statistics work when they can be read: the extension alone, without its library,
    cannot.
    """
    place = query(STATEMENTS_SCHEMA)
    schema = str(place[0][0]).replace('"', '""') if place else ""
    works = (
        bool(place)
        and _tried(query, f'select 1 from "{schema}".pg_stat_statements limit 1') is not None
    )
    why = "how often statements run, beside how long they wait"
    if works:
        return Check(what="pg_stat_statements", state="on", why=why, needed=False)
    there = bool(place)
    if not there and not query(
        "select 1 from pg_available_extensions where name = 'pg_stat_statements'"
    ):
        then = "install the server's additional modules (contrib) first"
        return Check(what="pg_stat_statements", state="missing", why=why, then=then, needed=False)
    loaded = bool(query("select 1 from pg_settings where name = 'pg_stat_statements.max'"))
    lines = [] if there else ["create extension pg_stat_statements;"]
    if loaded:
        return Check(
            what="pg_stat_statements",
            state="off",
            why=why,
            turn_on="\n".join(lines) or None,
            needed=False,
        )
    # What waits for a restart in the files is there as well as what is loaded.
    reported = _tried(
        query,
        "select coalesce((select setting from pg_file_settings where name ="
        " 'shared_preload_libraries' order by seqno desc limit 1),"
        " current_setting('shared_preload_libraries'))",
    ) or _tried(query, "select current_setting('shared_preload_libraries')")
    if reported is None:
        then = (
            "append pg_stat_statements to shared_preload_libraries, whose value this login may not"
            f" read, and {RESTART}; then: {lines[0] if lines else 'nothing more'}"
        )
        return Check(what="pg_stat_statements", state="off", why=why, then=then, needed=False)
    libraries = [
        part.strip().strip('"') for part in str(reported[0][0] or "").split(",") if part.strip()
    ]
    listed = ", ".join(f"'{name}'" for name in dict.fromkeys([*libraries, "pg_stat_statements"]))
    return Check(
        what="pg_stat_statements",
        state="off" if there else "missing",
        why=why,
        turn_on="\n".join([f"alter system set shared_preload_libraries = {listed};", *lines]),
        then=f"{RESTART}: the library is loaded with it",
        needed=False,
    )


def _log(query: Query, login: str, found: dict[str, str]) -> Check:
    """Deadlock reports stand in the log only. ``pg_monitor`` tells where it is, and does not let
    anybody read it.
    """
    why = "deadlock reports are in it: give watch the file with --log"
    if found.get("logging_collector") != "on":
        return Check(
            what="server's log",
            state="on",
            value="written to standard error",
            why=f"whoever started the server has it; {why}",
            needed=False,
        )
    where = _tried(query, "select pg_current_logfile()")
    if where is None:
        allow = f"grant execute on function pg_current_logfile() to {quoted(login)};"
        return Check(
            what="server's log", state="not reported", why=why, turn_on=allow, needed=False
        )
    value = str(where[0][0] or "no file yet")
    return Check(
        what="server's log",
        state="on",
        value=value,
        why=why,
        needed=False,
        serves=("watch", "intake"),
    )


def _setting(name: str, found: dict[str, str], why: str, cost: str = "") -> Check:
    on = found.get(name) == "on"
    turn_on = None if on else f"alter system set {name} = on;\n{RELOAD}"
    serves: tuple[Purpose, ...] = ("watch", "intake") if name == "log_lock_waits" else ("watch",)
    state: Literal["on", "off"] = "on" if on else "off"
    return Check(
        what=name,
        state=state,
        value=found.get(name, ""),
        why=why,
        turn_on=turn_on,
        cost=cost,
        serves=serves,
    )


def _at_least(name: str, found: dict[str, str], least: int, why: str) -> Check:
    value = int(found.get(name) or 0)
    enough = value >= least
    return Check(
        what=name,
        state="on" if enough else "off",
        value=str(value),
        why=why,
        cost="so much memory for each connection",
        turn_on=None if enough else f"alter system set {name} = {least};",
        then=None if enough else RESTART,
        needed=False,
    )
