"""What a connection runs before its transaction begins: the statements under ``session``."""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.errors import InputError
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.servers import Rules, rules_of
from catenum.core.text import one_line
from catenum.lab.run.driver import Driver


def prepare_sessions(driver: Driver, scenario: Scenario, file: ScenarioFile | None) -> None:
    """Run them, transaction by transaction, each statement by itself. Raises InputError with the
    place of one that the server rejects, or that changes the scenario's data: no schedule would
    begin with what was loaded.
    """
    if not any(one.before for one in scenario.transactions.values()):
        return
    rules = rules_of(driver.engine.info.server)
    tables = {name.lower() for name in driver.engine.tables()}
    for name, transaction in scenario.transactions.items():
        for number, sql in enumerate(transaction.before):
            place = file.place("transactions", name, "session", number) if file else None
            found = rules.sql.footprint(sql)
            changed = [
                access.table
                for access in found.accesses
                if access.verb != "read" and access.table.lower() in tables
            ] or ["a sequence"] * ("nextval" in found.by_nature)
            if changed:
                raise InputError(
                    f"the session of {name} begins with a change of {changed[0]}, which is part of"
                    " the data",
                    place=place,
                    advice="Put it under 'data', or among the transaction's statements.",
                )
            reply = driver.prepare(name, sql)
            if reply.error is not None:
                raise InputError(
                    f"the server rejects what the session of {name} begins with:"
                    f" {reply.error.message}\n  {one_line(sql)}",
                    place=place,
                    advice=reply.error.hint,
                )
        if transaction.before:
            _check_beginning(driver, name, file)


def _check_beginning(driver: Driver, name: str, file: ScenarioFile | None) -> None:
    """Raises InputError where a session has set the level or the access of its transactions: what
    is assumed of them would be that of others.
    """
    begun = driver.usual_beginning(name)
    usual = driver.engine.info.default_isolation
    what = None
    if begun.isolation != usual:
        what = f"isolation level ({begun.isolation})", "isolation"
    elif begun.read_only:
        what = "access (read only)", "access"
    if what is not None:
        raise InputError(
            f"the session of {name} begins with another {what[0]} for its transactions",
            place=file.place("transactions", name, "session") if file else None,
            advice=f"The transaction's own key {what[1]!r} says that.",
        )


def refuse_limited_silence(scenario: Scenario, rules: Rules, file: ScenarioFile | None) -> None:
    """Raises InputError where a session is to be ended after a time: no order of moves decides
    that.
    """
    for name in scenario.transactions:
        if any(map(rules.sql.limits_silence, scenario.texts_on_connection(name))):
            raise InputError(
                f"{name} sets how long the server keeps the session of a silent client, and no"
                " order of moves decides whether that is over",
                place=file.place("transactions", name, "session") if file else None,
                advice="play shows one run of it; leave it out here.",
            )


def session_notes(scenario: Scenario) -> Iterator[str]:
    """What sessions began with, for a reader of the run."""
    for name, transaction in scenario.transactions.items():
        if transaction.before:
            texts = "; ".join(one_line(sql, 60) for sql in transaction.before)
            yield f"the session of {name} begins with: {texts}"


def refuse_unknown(scenario: Scenario, rules: Rules, file: ScenarioFile | None) -> None:
    """Raises InputError where a transaction asks for what the server's profile does not say how it
    is had.
    """
    for name, transaction in scenario.transactions.items():
        for number, statement in enumerate(transaction.statements):
            if statement.kill is not None and not rules.locks.ends_sessions:
                path = ("transactions", name, "statements", number)
                raise InputError(
                    f"{name} ends the session of {statement.kill}, and {rules.title}'s profile does"
                    " not say how",
                    place=file.place(*path) if file else None,
                    advice="Leave it out, or add session.end to the profile (docs/profiles.md).",
                )
        for key, asked, lacking in (
            ("timeout", transaction.timeout is not None, not rules.locks.has_timeouts),
            ("access", transaction.access is not None, not rules.locks.has_read_only),
        ):
            if asked and lacking:
                raise InputError(
                    f"{name} has a {key}, and {rules.title}'s profile does not say how a session is"
                    " given one",
                    place=file.place("transactions", name, key) if file else None,
                    advice="Leave it out, or add it to the profile (docs/profiles.md).",
                )
