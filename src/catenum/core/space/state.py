"""What statements depend on besides the rows that they name: who took which number, in which order
rows were written.

Neither is held back until a commit, and no rollback undoes it (PostgreSQL documentation, 9.17
"Sequence Manipulation Functions"; InnoDB, "AUTO_INCREMENT Handling"). A scan meets rows in the
order in which they were written, and so takes locks on them in that order.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from catenum.core.record.recording import TableKeys
from catenum.core.scenario.model import Scenario, chosen
from catenum.core.servers import Rules
from catenum.core.sql.statements import Access, Footprint

#: A transaction and the number of its statement, from 0; None for its end.
Step = tuple[str, int | None]
Footprints = Mapping[Step, Footprint]
#: Calls that take a number from a sequence, or ask for one that was taken.
_NUMBERS = frozenset(
    ["nextval", "lastval", "currval", "setval", "next_value_for", "last_insert_id"]
)


def takes_numbers(found: Footprint) -> bool:
    """Whether a statement calls for a number by name."""
    return bool(_NUMBERS & (set(found.by_nature) | found.functions))


def unique_keys(access: Access, keys: TableKeys) -> tuple[tuple[str, ...], ...]:
    """The unique keys by which a statement may come to its rows."""
    return (keys.primary,) if access.by_primary else (keys.primary, *keys.unique)


def numbers_matter(
    scenario: Scenario,
    rules: Rules,
    footprints: Footprints,
    tables: Mapping[str, TableKeys],
    referred: Iterable[str],
) -> bool:
    """Whether anybody can tell who took which number: it is kept or returned, a rule may read it, a
    statement reads, names or gives a value of such a column, a foreign key refers to it
    (``referred``), or a unique key has it.
    """
    numbered = {
        table: {c.lower() for c in keys.made} for table, keys in tables.items() if keys.made
    }
    met = [a for f in footprints.values() for a in f.accesses if a.table.lower() in numbered]
    if any(map(takes_numbers, footprints.values())) or any(a.sets_default for a in met):
        return True
    taking = {a.table.lower() for a in met if a.verb == "insert"}
    if not taking or any(s.kept for t in scenario.transactions.values() for s in t.statements):
        return bool(taking)
    in_rules = _read_by_rules(scenario, rules)
    if in_rules is None or in_rules - tables.keys():
        return True
    told = {table for table in taking if _tells_numbers(table, numbered[table], met, tables)}
    return bool(told or taking & (in_rules | set(referred)))


def _read_by_rules(scenario: Scenario, rules: Rules) -> set[str] | None:
    """The tables that the scenario's rules read; None where that is not certain."""
    found = [rules.sql.footprint(chosen(sql)) for sql in scenario.holds.values()]
    if not all(one.understood for one in found):
        return None
    return {access.table.lower() for one in found for access in one.accesses}


def _tells_numbers(
    table: str, numbered: set[str], met: Iterable[Access], tables: Mapping[str, TableKeys]
) -> bool:
    """Whether a statement reads a table, or names or gives a value of a numbered column of it, or a
    unique key has such a column.
    """
    of_table = [access for access in met if access.table.lower() == table]
    return (
        any(access.verb != "insert" for access in of_table)
        or any(column in numbered for access in of_table for column, _ in access.literals)
        or any(column.lower() in numbered for column in tables[table].columns)
    )


def scanners(
    rules: Rules,
    footprints: Footprints,
    tables: Mapping[str, TableKeys],
    below: Callable[[str], Iterable[str]],
) -> dict[str, set[Step]]:
    """By table, the statements that lock several rows in the order in which they find them, take
    some of them by a limit, or make one value of many. ``below``: the tables that a cascade from a
    table can reach: it goes through their rows in that order, too.
    """
    found: dict[str, set[Step]] = {}
    for step, footprint in footprints.items():
        for access in footprint.accesses:
            table = access.table.lower()
            keys = tables.get(table)
            if (
                keys is not None
                and rules.locks.scans_as_written(keys)
                and _counts_order(access, footprint, keys)
            ):
                found.setdefault(table, set()).add(step)
            for child in below(table) if access.verb in ("delete", "update") else ():
                if child in tables and rules.locks.scans_as_written(tables[child]):
                    found.setdefault(child, set()).add(step)
    return found


def _counts_order(access: Access, footprint: Footprint, keys: TableKeys) -> bool:
    given = {column for column, _ in access.literals}
    if any(key and {c.lower() for c in key} <= given for key in (keys.primary, *keys.unique)):
        return False  # one row
    ordered = bool(keys.primary) and {c.lower() for c in keys.primary} <= set(footprint.order_by)
    if access.verb in ("update", "delete") or (access.verb == "lock" and not ordered):
        return True
    return (footprint.limited and not ordered) or footprint.gathers


def waits_certainly(
    found: Footprint, level: str, rules: Rules, tables: Mapping[str, TableKeys]
) -> bool:
    """Whether a statement that comes to a locked row waits, whatever that row holds: it names rows
    by one key and nothing else, sees the newest version, and has nothing that may fail first.
    """
    if len(found.accesses) != 1 or found.limited:
        return False
    access = found.accesses[0]
    keys = tables.get(access.table.lower())
    if keys is None or not access.equals_only or rules.locks.refuses_what_changed(level):
        return False
    compared = {column for column, _ in (*access.literals, *access.choices)}
    if compared not in [
        {column.lower() for column in key} for key in unique_keys(access, keys) if key
    ]:
        return False
    return rules.locks.locks_before_checks or (found.computes_plainly and not keys.checked)
