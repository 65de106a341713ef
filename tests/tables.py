"""What the core answers to tables of questions, as text: read by people, and compared to the letter
by the tests.
"""

from __future__ import annotations

import functools
import hashlib
import importlib
import inspect
import itertools
import json
import random
import re
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import MISSING, fields, is_dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import sqlglot
import yaml
from sqlglot import exp

import catenum.core
import test_space
from catenum.core import formats
from catenum.core.compare import measure
from catenum.core.compare.expectation import differences, subject
from catenum.core.compare.one_run import unmet_in_run
from catenum.core.compare.verdict import Figures, judge
from catenum.core.document.recording import data_sentence
from catenum.core.errors import InputError
from catenum.core.logs.conflicts import CapturedWait, Conflict
from catenum.core.logs.masking import others
from catenum.core.logs.rows import rows_for
from catenum.core.logs.tables import closure, read_schema, script_of
from catenum.core.logs.traces import Trace, with_traces
from catenum.core.pace import measured, results
from catenum.core.points_in_time import point_in_time
from catenum.core.propose.candidate import Evidence
from catenum.core.propose.changes import ddl, difference, plain
from catenum.core.propose.editing import written
from catenum.core.propose.passes import all_series
from catenum.core.propose.reading import Reading, own_comparison, same_row, term
from catenum.core.record.modes import Mode
from catenum.core.record.recording import Outcome, Recording, TableKeys, TableRows
from catenum.core.record.values import Value
from catenum.core.scenario.conditions import (
    ConditionError,
    MissingValue,
    known_kinds,
    parse_condition,
)
from catenum.core.scenario.model import Expectation, Remedy, Scenario
from catenum.core.scenario.reader import read_scenario
from catenum.core.scenario.remedies import describe
from catenum.core.scenario.terms import WORDS, parse_expectation
from catenum.core.scenario.writing import as_text, definition_of
from catenum.core.servers import profile_of, rules_of
from catenum.core.servers.by_profile import rules_by
from catenum.core.servers.table_access import AccessMode
from catenum.core.space.counting import Classes
from catenum.core.space.dependence import Dependence
from catenum.core.space.exploration import Exploration, Reach, how_far
from catenum.core.space.tally import Tally
from catenum.core.sweep.carried_over import OnlyHere
from catenum.core.sweep.parametrize import parametrized
from catenum.core.sweep.rewrite import rewritten
from catenum.core.text import one_line, shortened
from catenum.engines.scripted import ScriptedEngine
from catenum.lab.explore.jobs import Here
from catenum.lab.explore.walker import ExploreOptions, Worker
from catenum.lab.sweep.sweep import Sweeper
from enumerating.coincide import coinciding
from enumerating.compare import plain as plain_case
from enumerating.generate import MAKES

CORE = Path(catenum.core.__file__).parent


def brief(value: Any) -> str:
    """A value without what is as it is by default."""
    if is_dataclass(value) and not isinstance(value, type):
        reported = []
        for field in fields(value):
            own = getattr(value, field.name)
            usual = field.default if field.default is not MISSING else field.default_factory
            usual = usual() if callable(usual) and usual is not MISSING else usual
            if own != usual:
                reported.append(f"{field.name}={brief(own)}")
        return f"{type(value).__name__}({', '.join(reported)})"
    if isinstance(value, (set, frozenset)):
        return "{" + ", ".join(sorted(map(brief, value))) + "}"
    if isinstance(value, (tuple, list)):
        return "(" + ", ".join(map(brief, value)) + ")"
    if isinstance(value, dict):
        return "{" + ", ".join(f"{brief(key)}: {brief(one)}" for key, one in value.items()) + "}"
    return (
        f"{value:.6g}"
        if isinstance(value, float)
        else repr(value)
        if isinstance(value, str)
        else str(value)
    )


def statements(server: str, texts: list[str]) -> Iterator[str]:
    """What a server's rules say of statements: what each touches, locks, reaches, and how it is
    masked.
    """
    rules = rules_of(server)
    for sql in texts:
        yield f"{sql}\n"
        found = rules.sql.footprint(sql)
        for access in found.accesses:
            modes = f"row {rules.locks.row_mode(access, frozenset(['id']))}, table {rules.locks.table_mode(access)}"
            yield f"    {brief(access)}: {modes}\n"
        rest = {
            field.name: getattr(found, field.name)
            for field in fields(found)
            if field.name != "accesses" and getattr(found, field.name) != field.default
        }
        yield f"    {brief(rest)}\n"
        asked = {
            "may outlive": found.may_outlive, "reads numbers": found.recalls_numbers,
            "commits": rules.sql.commits_by_itself(sql), "transactions": rules.sql.handles_transactions(sql),
            "limits": rules.sql.limits_waits(sql), "prepares": rules.sql.prepares(sql), "compound": rules.sql.is_compound(sql),
            "condition": rules.sql.condition(sql), "of a transaction": rules.advice.lock_of_transaction(sql),
        }  # fmt: skip
        yield f"    {brief({name: one for name, one in asked.items() if one})}\n"
        for piece in rules.sql.pieces(sql):
            yield f"    {piece.offset}: {piece.shape}\n"
            yield f"    beyond: {rules.sql.reaches_beyond(piece)}; uncertain: {rules.sql.uncontained(piece)}\n"
        yield f"    {rules.sql.shape(sql)} | {rules.sql.masked(sql)}\n"


def of_levels(server: str) -> Iterator[str]:
    """What the levels of a server do."""
    rules = rules_of(server)
    touched = [[AccessMode.READ], [AccessMode.WRITE], [AccessMode.READ, AccessMode.WRITE]]
    for level in (*rules.locks.levels, "snapshot"):
        yield f"{level}: rank {rules.locks.rank(level)}, reads {rules.locks.read_mode(level, within_write=False)}, "
        yield f"within writes {rules.locks.read_mode(level, within_write=True)}, gaps {rules.locks.locks_gaps([level])}, "
        yield f"snapshot {rules.locks.snapshot_statements(level, touched)} {rules.locks.snapshot_statements(level, touched[1:])}, "
        yield f"overtakes {rules.locks.may_overtake([level])}, refuses {rules.locks.refuses_what_changed(level)}, "
        yield f"any order {rules.locks.refuses_by_any_order(level)}\n"
    for keys in (TableKeys(primary=("id",)), TableKeys(primary=())):
        yield f"scans as written {rules.locks.scans_as_written(keys)}\n"
    for table in rules.locks.tables:
        yield f"{table.title}: {table.source}\n"
        for wanted, held in itertools.product(table.modes, repeat=2):
            found = rules.locks.conflict(wanted, held)
            yield f"    {wanted} waits for {held}: {found.conflict if found else None}\n"
    for code, kind in sorted(rules.errors.error_kinds.items()):
        yield f"{code}: {kind}, duplicate {rules.errors.is_duplicate(code)}\n"
    for clause in rules.advice.row_locks:
        yield f"{clause}: {rules.advice.lock_blocks(clause)}\n"
    yield f"{rules.advice.gentle('create unique index quay_free on quay (free)')}\n{rules.advice.by_key('quay')}\n"


def loads() -> Iterator[str]:
    """What loads amount to whose turns are drawn: figures, the file, the table, and two of them side
    by side.
    """
    before: dict[str, object] | None = None
    for seed in range(12):
        chance = random.Random(seed)
        names = ("read committed", "repeatable read", "serializable")[: chance.choice((1, 2, 3, 3))]
        steps = [
            measured.step_of(
                clients,
                [
                    _turn(chance, level, number)
                    for number in range(chance.choice((2, 3, 5)))
                    for level in names
                    if level == names[0] or chance.random() < 0.9
                ],
                names[0],
                chance.choice((None, None, "ended by Ctrl-C")),
            )
            for clients in (1, 4)
        ]
        result = results.PaceResult(
            scenario="berth-swap", target="harbour", server=chance.choice(("postgresql", "mysql")), version="1",
            default_level=names[0], started="2026-11-29 10:00:00", levels=names, for_ms=2000.0,
            rate=chance.choice((None, 50.0)), think_ms=0.0, shares={"dispatcher": 1.0}, retries=seed % 2, seed=seed,
            steps=tuple(steps), notes=(), stopped=None,
        )  # fmt: skip
        plain = results.to_plain(result)
        assert results.from_plain(plain) == result
        yield f"load {seed}: {result.conflicts} given up; {json.dumps(rounded(plain))}\n{results.to_csv(result)}"
        for one in results.compared(before, result) if before else ():
            yield f"beside the one before: {one.differs} {brief(one)}\n"
        for text in results.differing_settings(before, result) if before else ():
            yield f"not the same: {text}\n"
        before = plain


def rounded(value: Any) -> Any:
    """With so many digits as any release of a library gives."""
    return json.loads(json.dumps(value), parse_float=lambda text: float(f"{float(text):.5g}"))


def _turn(chance: random.Random, level: str, number: int) -> measured.TurnFigures:
    """A turn of a level, with much or little in it."""
    commits = chance.choice((0, 1, 40, 40, 200))
    return measured.TurnFigures(
        level=level, round=number, seconds=chance.choice((0.0, 0.5, 2.0, 2.0)), commits=commits,
        finished=commits + chance.randrange(3), retries=chance.choice((0, 0, 3)), arrivals=commits, unserved=chance.choice((0, 2)),
        cut_off=chance.choice((0, 1)), latencies=[chance.choice((1.0, 5.0, 20.0, 900.0)) for _ in range(commits)],
        failures=Counter({kind: chance.randrange(4) for kind in ("deadlock", "refused")}),
        given_up=Counter({"deadlock": chance.randrange(2)}), lock_waits=chance.choice((None, 0, 7)),
        waiting=chance.choice((None, 0.0, 1.5)), busy=chance.choice((0.1, 0.9, 0.95)), load_cpu=chance.choice((0.1, 1.0)),
        server_cpu=chance.choice((None, 0.8, 1.0)), cpus=2, ended_ms=1.0,
    )  # fmt: skip


def statistics() -> Iterator[str]:
    """Rates and intervals of small and large counts."""
    for events, iterations in itertools.product((0, 1, 2, 5, 40, 1000), (0, 1, 3, 10, 200, 10_000)):
        if events <= iterations:
            found = measure.rate(events, iterations)
            yield f"rate of {events} in {iterations}: {brief(found)}: {found}\n"
    turns = [[(e, n)] * k for e in (0, 1, 5, 40) for n in (100, 10_000) for k in (1, 5, 8)]
    for before, after in itertools.product(turns, turns):
        if len(before) == len(after):
            yield f"fewer than {before[0]} in {after[0]}, {len(before)} turns: {measure.fewer(before, after)}\n"
    mixed = [(3, 50), (9, 60), (4, 40), (8, 55), (5, 45), (7, 70)]
    yield f"fewer, mixed: {measure.fewer(mixed, [(e // 2, n) for e, n in mixed])} {measure.fewer(mixed, mixed[::-1])}\n"
    values = (
        [1.0],
        [2.0, 4.0],
        [1.0, 2.0, 3.0, 4.0, 10.0],
        [float(n % 17) for n in range(200)],
        [3.0] * 9,
    )
    for one in values:
        name = f"{len(one)} values from {one[0]:g}"
        yield f"mean of {name}: {brief(measure.mean_spread(one))}\n"
        for share in (0.5, 0.95, 0.99):
            spread = brief(measure.percentile_spread(one, share))
            yield f"p{share:g} of {name}: {measure.percentile(one, share):.6g}, {spread}\n"
        for under in values:
            if len(under) == len(one):
                found = measure.ratio([v + 1 for v in one], [v + 2 for v in under])
                yield f"ratio of {name}: {brief(found)}: {found}\n"


KINDS = ({"clean": 6}, {"clean": 4, "waited": 2}, {"waited": 3, "deadlock": 3}, {"deadlock": 1, "clean": 5},
         {"refused": 2, "clean": 4}, {"timeout": 6}, {"stuck": 1, "clean": 5}, {"error": 1, "clean": 5})  # fmt: skip


def verdicts() -> Iterator[str]:
    """What is said of a remedy's figures beside the baseline's."""
    broken = ((), ("two on duty",), ("two on duty", "no row twice"))
    every = []
    for kinds, wrong, complete in itertools.product(KINDS, broken, (False, True)):
        for well, anomalies in ((6, 0), (3, 0), (0, 0), (6, 2)):
            every.append(
                Figures(runs=6, kinds=kinds, waits=2 * len(kinds), longest_chain=len(kinds), locks=12, time_ms=2.5,
                        broken=wrong, ended_well=well, attempts=12 + len(kinds), anomalies=anomalies, complete=complete)
            )  # fmt: skip
    for baseline, remedy in zip(
        every * 7, (one for step in range(7) for one in _turned(every, 53 * step + 24)), strict=True
    ):
        yield f"{_figures(baseline)} → {_figures(remedy)}: {brief(judge(baseline, remedy))}\n"
    for baseline, remedy in zip(every, _turned(every, 24), strict=True):
        if (verdict := judge(baseline, remedy, parted=True)) != judge(baseline, remedy):
            yield f"in parts: {_figures(baseline)} → {_figures(remedy)}: {brief(verdict)}\n"
    whole = replace(every[3], escalated=frozenset({"slot"}))
    for baseline, remedy in ((whole, every[3]), (whole, whole), (every[3], whole)):
        tables = f"{sorted(baseline.escalated)} → {sorted(remedy.escalated)}"
        yield f"whole tables {tables}: {brief(judge(baseline, remedy))}\n"
    none = Figures(
        runs=0,
        kinds={},
        waits=0,
        longest_chain=0,
        locks=None,
        time_ms=0.0,
        broken=(),
        ended_well=0,
        attempts=0,
    )
    yield f"nothing run: {brief(judge(every[0], none))}\n"


def _turned(values: list[Any], by: int) -> list[Any]:
    by %= len(values)
    return [*values[by:], *values[:by]]


def _figures(one: Figures) -> str:
    whole = "all" if one.complete else "some"
    return f"{one.kinds} {whole}, {one.ended_well} well, {one.anomalies} anomalies, broken {list(one.broken)}"


def candidates(text: str, server: str, explored: Exploration, played: Recording) -> Iterator[str]:
    """All changes that are derived of what was seen, tried or not."""
    scenario = read_scenario(text.encode(), "case.yaml").scenario.for_server(server)
    derived: dict[str, Remedy] = {}
    for wrong in ((), tuple(scenario.holds)[:1]):
        evidence = Evidence(scenario=scenario, rules=rules_of(server), explored=explored, played=played,
                            tables=played.tables, serial_breaks=wrong)  # fmt: skip
        yield f"-- rules that serial orders break: {list(wrong)}\n"
        for number, series in enumerate(all_series(evidence), 1):
            for one in series:
                yield f"{number}. {one.kind}: {one.name}\n"
                yield f"    because {brief(one.because)}; means {brief(one.means)}; harms {brief(one.harms)}\n"
                yield f"    {brief(plain(one.remedy))} {brief(ddl(one, rules_of(server)))} size {one.size}\n"
                said = (one.decides, one.eases_only, one.for_checks, one.excludes, one.these_values)
                yield f"    {brief(said)}\n"
                yield "".join(f"    | {line}\n" for line in difference(scenario, one))
                derived.setdefault(one.name, one.remedy)
        if not scenario.holds:
            break
    if any(one.parameters for one in scenario.transactions.values()):
        yield from _on_other_values(scenario, server, derived)


def _on_other_values(scenario: Scenario, server: str, remedies: dict[str, Remedy]) -> Iterator[str]:
    """What changes become in the cases of a sweep."""
    try:
        sweeper = _sweeper(scenario, server)
        plans = sweeper.plans()
    except InputError as error:
        yield f"-- {error.problems[0].message}\n"
        return
    for base, plan in plans:
        for case in [one for one in plan.cases if one.meets][:CARRIED_TO]:
            yield f"-- with {sweeper.words(plan, case)}\n"
            other = sweeper.scenario_of(base, case.values)
            for name, remedy in remedies.items():
                try:
                    found = sweeper.carried(remedy, other)
                    yield f"{name}: {brief(plain(found)) if found is not None else 'nothing'}\n"
                except OnlyHere as error:
                    yield f"{name}: {error}\n"


#: To so many cases of each plan changes are carried over.
CARRIED_TO = 3


def dumps(server: str, path: Path) -> Iterator[str]:
    """What is taken of a dump for each of its tables, and the rows that are made up."""
    rules = rules_of(server)
    schema = read_schema(path.read_text(encoding="utf-8"), rules)
    quote = rules.sql.name_quote
    texts = [
        "update berth set moved = 1 where id = 3", f"update berth set {quote}order{quote} = 2, vessel = 12 where id = 4",
        "update vessel set s = 'out' where id = 7", "delete from vessel where id between 9 and 11",
        "insert into berth (id, vessel) values (30, 12), (31, 13)", "select id from quay where id in (3, 5)",
    ]  # fmt: skip
    for name, info in sorted(schema.tables.items()):
        yield f"{name}: {brief(info)}\n"
    for name in sorted(schema.tables):
        tables = closure(schema, [name])
        yield f"-- for {name}: {sorted(tables)}\n{script_of(schema, tables, texts, rules)}\n"
        infos = {one: schema.tables[one] for one in sorted(tables)}
        shown = {name: [{"id": "77", "moved": "5"}]} if name == "berth" else None
        yield f"{rows_for(infos, [texts[:3], texts[3:]], rules, shown).script(infos, rules)}\n"


#: Conflicts that are made up on the tables of each dump.
MADE_UP = 60


def made_up(server: str, path: Path, count: int) -> Iterator[str]:
    """Scenarios of statements by chance on the tables of a dump, with what they need of it and rows
    that are made up.
    """
    rules, chance = rules_of(server), random.Random(f"made up {server}")
    schema = read_schema(path.read_text(encoding="utf-8"), rules)
    whole = sorted(name for name in schema.tables if not name.startswith("tide_"))  # no parts
    for _ in range(count):
        names = chance.sample(whole, chance.choice((1, 1, 2)))
        statements = [
            [
                _statement_on(schema.tables[chance.choice(names)], chance, rules)
                for _ in range(chance.choice((1, 2, 3)))
            ]
            for _ in range(2)
        ]
        tables = closure(schema, names)
        infos = {one: schema.tables[one] for one in sorted(tables)}
        script = script_of(schema, tables, [sql for one in statements for sql in one], rules)
        rows = rows_for(infos, statements, rules, None).script(infos, rules)
        own = zip(("first", "second"), statements, strict=True)
        transactions = {name: {"statements": texts} for name, texts in own}
        made = {"scenario": "made-up", "data": f"{script}\n{rows}", "transactions": transactions}
        yield yaml.safe_dump(made, sort_keys=False)


def made_up_on(server: str, path: Path) -> Iterator[str]:
    """The same, and each with parameters, as digests."""
    found = []
    for text in made_up(server, path, MADE_UP):
        try:
            scenario = read_scenario(text.encode(), "x").scenario.for_server(server)
            made = parametrized(scenario, rules_of(server))
            code = f"{rewritten(text, made.transactions)}{made.notes}"
        except InputError as error:
            code = str(error)
        found.append(f"{text}\n{code}")
    yield from _digests(server, found)


def _statement_on(info: Any, chance: random.Random, rules: Any) -> str:
    """A statement that names some of a table's columns, mostly its key."""
    quote = rules.sql.name_quote

    def named(column: str) -> str:
        return f"{quote}{column}{quote}" if not column.islower() or column == "order" else column

    def value(column: str) -> str:
        kind = info.columns[column].type.lower()
        if "date" in kind:
            return chance.choice(("'2025-11-30'", "'2026-03-01'"))
        if "enum" in kind or kind == "state":
            return chance.choice(("'in'", "'out'"))
        if any(word in kind for word in ("numeric", "decimal", "tons")):
            return str(chance.randint(11, 19))
        if any(word in kind for word in ("int", "serial")):
            return str(chance.randint(1, 9))
        return chance.choice(("'a'", "'Halcyon'", "null", "'7'"))

    columns = list(info.columns)
    keys = [name for name in info.primary if name in info.columns] or columns[:1]
    asked = keys if chance.random() < 0.7 else chance.sample(columns, min(2, len(columns)))
    where = " and ".join(
        f"{named(c)} in ({value(c)}, {value(c)})"
        if chance.random() < 0.15
        else f"{named(c)} {chance.choice(('=', '=', '=', '>', '<='))} {value(c)}"
        for c in asked
    )
    some = chance.sample(columns, chance.randint(1, min(3, len(columns))))
    match chance.randrange(5):
        case 0:
            sets = ", ".join(f"{named(c)} = {value(c)}" for c in some)
            return f"update {named(info.name)} set {sets} where {where}"
        case 1:
            first = some[0]
            return (
                f"update {named(info.name)} set {named(first)} = {named(first)} + 1 where {where}"
            )
        case 2:
            return f"delete from {named(info.name)} where {where}"
        case 3:
            given = list(dict.fromkeys([*keys, *some]))
            return f"insert into {named(info.name)} ({', '.join(map(named, given))}) values ({', '.join(map(value, given))})"
        case _:
            return f"select {', '.join(map(named, some))} from {named(info.name)} where {where}{chance.choice(('', ' for update'))}"


def questions(path: Path) -> Iterator[str]:
    """What functions of the core answer, or with which error."""
    for name, asked in yaml.safe_load(path.read_text(encoding="utf-8")).items():
        place = name.partition(":")[2]
        for words in asked:
            reported = _answer(_function(name), words)
            yield f"{place}({', '.join(map(brief, words))}) → {reported}\n"


def _function(name: str) -> Any:
    module, _, place = name.partition(":")
    function: Any = importlib.import_module(f"catenum.{module}")
    for part in place.split("."):
        function = getattr(function, part)
    return getattr(function, "fget", function)  # of a property


def _answer(function: Any, words: list[Any]) -> str:
    try:
        found = function(*(_within(one) if "like" in str(one) else _given(one) for one in words))
        return brief(list(found) if hasattr(found, "__next__") else found)
    except Exception as error:
        return f"{type(error).__name__}: {error}"


#: Of each recording so many expectations that differ from what was seen.
EXPECTED_OTHERWISE = 40


def expectations(recordings: dict[str, Recording]) -> Iterator[str]:
    """What is not as expected: of all that was seen, nothing; of the same with something changed."""
    for name, recording in recordings.items():
        chance, seen = random.Random(name), _all_seen(recording)
        yield f"-- {name}: {json.dumps(seen)}\n"
        yield from _differences(seen, recording)
        for _ in range(EXPECTED_OTHERWISE):
            other = json.loads(json.dumps(seen))
            yield f"{_change_one(other, chance)}\n"
            yield from _differences(other, recording)


def lines_of_terms(results: dict[str, Recording | Exploration]) -> Iterator[str]:
    """Whether runs and explorations are as lines of terms expect."""
    for name, result in results.items():
        for word in WORDS:
            said = []
            for line in (word, f"no {word}", f"no {word}, any rules, any errors"):
                try:
                    if isinstance(result, Recording):
                        said.append(brief(unmet_in_run(parse_expectation(line), result)))
                    else:
                        answers = [result.meets(line, sample=sample) for sample in (False, True)]
                        said.append(f"{brief(answers[0])} {bool(answers[0])} {bool(answers[1])}")
                except InputError as error:
                    said.append(error.problems[0].message)
            yield f"{name}: {word}: {' | '.join(said)}\n"


def _all_seen(recording: Recording) -> dict[str, Any]:
    """Everything that an order can be expected to show, as a scenario says it."""
    ends = {one.name: len(one.statements) + 1 for one in recording.transactions}
    found: dict[str, Any] = {
        "outcome": recording.outcome.kind,
        "waits": {},
        "results": {},
        "errors": {},
    }
    for wait in recording.waits:
        one = {"holder": wait.holder, "over": wait.resource.text}
        found["waits"].setdefault(wait.waiter, {})[str(wait.statement or ends[wait.waiter])] = one
    for event in recording.events:
        number = str(event.statement or ends[event.transaction])
        if event.error is not None:
            found["errors"].setdefault(event.transaction, {})[number] = event.error.kind
        elif event.what == "done" and event.result is not None:
            rows = [list(row) for row in event.result.rows]
            found["results"].setdefault(event.transaction, {})[number] = rows
        elif event.what == "done" and event.rows is not None:
            found["results"].setdefault(event.transaction, {})[number] = event.rows
    victims = [one.victim for one in recording.deadlocks if one.victim]
    return {**found, **({"victim": victims[0]} if victims else {}),
            "rows": {table: [list(row) for row in of.rows] for table, of in recording.rows.items()}}  # fmt: skip


def _change_one(expected: dict[str, Any], chance: random.Random) -> str:
    """Change one thing, and say which."""
    found = list(places(expected))
    *above, last = chance.choice(found)
    holder = functools.reduce(lambda found, key: found[key], above, expected)
    value = holder[last]
    values = [functools.reduce(lambda found, key: found[key], path, expected) for path in found]
    if chance.random() < 0.3:
        del holder[last]
        return f"without {'.'.join(map(str, (*above, last)))}"
    if isinstance(value, list) and value and isinstance(value[0], list) and chance.random() < 0.7:
        rows = value[::-1] if chance.random() < 0.6 else [*value, value[0]]
        holder[last] = {"in_any_order": rows} if chance.random() < 0.6 else rows
    elif isinstance(value, int):
        holder[last] = value + 1
    else:
        alike = [one for one in values if type(one) is type(value) and one != value]
        holder[last] = json.loads(json.dumps(chance.choice(alike))) if alike else None
    return f"{'.'.join(map(str, (*above, last)))}: {json.dumps(value)} → {json.dumps(holder[last])}"


def places(plain: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Where anything stands in it, at any depth."""
    parts = (
        plain.items()
        if isinstance(plain, dict)
        else enumerate(plain)
        if isinstance(plain, list)
        else ()
    )
    for key, one in parts:
        yield (*path, key)
        yield from places(one, (*path, key))


def _differences(expected: dict[str, Any], recording: Recording) -> Iterator[str]:
    try:
        for one in differences(Expectation.model_validate(expected), recording):
            yield f"    {'.'.join(map(str, one.path))} ({subject(one)}): {one.expected} | {one.seen}\n"
    except ValueError as error:
        yield f"    {type(error).__name__}: {str(error).splitlines()[0]}\n"


#: So many questions by chance to each function, and so many answers to a line.
ASKED_BY_CHANCE, TO_A_LINE = 80, 10


def questions_by_chance(path: Path) -> Iterator[str]:
    """What the same functions answer to questions that are changed by chance, as digests: nobody
    has thought of these, and none of the answers is known to be right.
    """
    for name, asked in yaml.safe_load(path.read_text(encoding="utf-8")).items():
        chance = random.Random(name)
        leaves = [leaf for words in asked for leaf in _leaves_of(words)]
        answers = []
        for _ in range(ASKED_BY_CHANCE if leaves else 0):
            words = _varied(chance.choice(asked), chance, chance.choice(leaves), leaves)
            answers.append(f"{brief(words)} → {_answer(_function(name), words)}")
        yield from _digests(name, answers)


def _digests(name: str, texts: list[str]) -> Iterator[str]:
    for first in range(0, len(texts), TO_A_LINE):
        some = "\n".join(texts[first : first + TO_A_LINE])
        yield f"{name} {first}: {hashlib.sha256(some.encode()).hexdigest()[:16]}\n"


def _leaves_of(words: Any) -> Iterator[Any]:
    if isinstance(words, list):
        for one in words:
            yield from _leaves_of(one)
    elif isinstance(words, dict):
        yield from (
            () if len(words) == 1 and set(words) <= STANDS_FOR else _leaves_of(list(words.values()))
        )
    else:
        yield words


def _varied(words: Any, chance: random.Random, leaf: Any, leaves: list[Any]) -> Any:
    """The same with about one leaf changed: a text cut, doubled, or mixed with another; a number
    moved; or another of the function's in its place.
    """
    many = sum(1 for _ in _leaves_of(words)) or 1

    def change(one: Any) -> Any:
        if isinstance(one, list):
            return [change(part) for part in one]
        if isinstance(one, dict):
            if len(one) == 1 and set(one) <= STANDS_FOR:
                return one
            return {key: change(part) for key, part in one.items()}
        if chance.random() * many >= 1:
            return one
        if isinstance(one, str) and chance.random() < 0.8:
            return mixed(one, leaf if isinstance(leaf, str) else str(leaf), chance)
        if isinstance(one, (int, float)) and not isinstance(one, bool) and chance.random() < 0.7:
            return one + chance.choice((-1, 1, 10))
        return chance.choice(leaves)

    return change(words)


def mixed(text: str, other: str, chance: random.Random) -> str:
    """A text with some of its words dropped, doubled, exchanged, or taken from another."""
    words, others = (
        re.findall(r"\w+|\s+|.", text, re.DOTALL),
        re.findall(r"\w+|\s+|.", other, re.DOTALL),
    )
    for _ in range(chance.choice((1, 1, 2))):
        if not words:
            break
        at = chance.randrange(len(words))
        match chance.randrange(5):
            case 0:
                del words[at : at + chance.choice((1, 1, 2, 5))]
            case 1:
                words[at:at] = words[at : at + chance.choice((1, 2))]
            case 2:
                with_ = chance.randrange(len(words))
                words[at], words[with_] = words[with_], words[at]
            case 3 if others:
                words[at] = chance.choice(others)
            case 4 if others:
                words[at:] = others[chance.randrange(len(others)) :]
    return "".join(words)


#: Of these formats reports are made; so many values of each are drawn.
REPORTED = ("orders", "exploration", "trial", "contest", "churn", "pace", "proposal")
DRAWN_OF_A_FORMAT = 10


def values_of_formats(recording: dict[str, Any]) -> Iterator[tuple[str, str]]:
    """Values of formats as their schemas allow them, drawn by chance; every recording in them is
    the one that is given.
    """
    for name in REPORTED:
        schema = formats.schema_of(name)
        for number in range(DRAWN_OF_A_FORMAT):
            drawn = OfSchema(schema, random.Random(f"{name} {number}"), recording)
            yield f"{name} {number}", json.dumps(drawn.value(schema))


class OfSchema:
    """Draws values that a JSON Schema allows."""

    def __init__(
        self, schema: dict[str, Any], chance: random.Random, recording: dict[str, Any]
    ) -> None:
        self.named, self.chance, self.recording = schema.get("$defs", {}), chance, recording

    def value(self, schema: dict[str, Any], depth: int = 0) -> Any:
        chance = self.chance
        if "$ref" in schema:
            name = schema["$ref"].rpartition("/")[2]
            whole = name.startswith("Recording")
            return self.recording if whole else self.value(self.named[name], depth)
        for key in ("anyOf", "oneOf"):
            if key in schema:
                return self.value(chance.choice(schema[key]), depth)
        if "const" in schema or "enum" in schema:
            return schema["const"] if "const" in schema else chance.choice(schema["enum"])
        match schema.get("type"):
            case "object":
                return self._object(schema, depth)
            case "array":
                parts = schema.get("prefixItems")
                if parts is None:
                    least = schema.get("minItems", 0)
                    count = max(least, chance.choice((0, 1, 1, 2, 3)) if depth < 14 else 0)
                    parts = [schema.get("items", {})] * count
                return [self.value(one, depth + 1) for one in parts]
            case "integer":
                return max(schema.get("minimum", 0), chance.choice((0, 1, 1, 2, 3, 5, 12, 1500)))
            case "number":
                return chance.choice((0, 0.5, 1, 1.04, 2.5, 95, 1500))
            case "boolean":
                return chance.random() < 0.5
            case "null":
                return None
        return chance.choice(_TEXTS_OF_RESULTS)

    def _object(self, schema: dict[str, Any], depth: int) -> dict[str, Any]:
        made = {
            key: self.value(one, depth + 1)
            for key, one in schema.get("properties", {}).items()
            if not depth or key in schema.get("required", ()) or self.chance.random() < 0.6
        }
        more = schema.get("additionalProperties")
        if isinstance(more, dict):
            names = schema.get("propertyNames", {})
            names = self.named[names["$ref"].rpartition("/")[2]] if "$ref" in names else names
            known = names.get("enum", ["early", "late", "gate"])
            for key in self.chance.sample(known, min(len(known), self.chance.randrange(3))):
                made[key] = self.value(more, depth + 1)
        return made


_TEXTS_OF_RESULTS = (
    "early", "late", "gate", "berth", "update berth set moved = 1 where id = 7", "2026-11-30T09:32:19Z", "2026-11-30T09:33:19Z", "deadlock",
    "a note", "postgresql", "read committed",
)  # fmt: skip


#: So many calls of each function that takes nothing but texts, numbers and rules.
CALLED_BY_CHANCE = 60
_WORDS_OF_ALL = (
    "berth", "Halcyon", "7", "0", "-1", "1.5", "2026-11-30 09:32:19.092 UTC", "row", "read committed", "deadlock", "clean", "north south north",
    "500ms", "2 h", "a > 1 and b is null", "berth(id=7)", "X,REC_NOT_GAP", "(0,5)", "", " ", "PRIMARY", "{}", "[]", "'x'", "null", "true",
)  # fmt: skip


def functions_by_chance(statements: list[str], lines: list[str], files: list[str]) -> Iterator[str]:
    """What every function of the core answers that takes nothing but texts, numbers and rules: to
    arguments that are drawn by chance, as digests.
    """
    for path in sorted(CORE.rglob("*.py")):
        name = ".".join(path.relative_to(CORE.parents[1]).with_suffix("").parts)
        module = importlib.import_module(name.removesuffix(".__init__"))
        for title, function in sorted(vars(module).items()):
            own = getattr(function, "__module__", None) == module.__name__
            if title.startswith("_") or not own or not inspect.isfunction(inspect.unwrap(function)):
                continue
            signature = inspect.signature(inspect.unwrap(function))
            asked = signature.parameters.values()
            if str(signature.return_annotation) in NO_DATA:
                continue
            chance = random.Random(f"{name}:{title}")
            draw = Draws(chance, statements, lines, files)
            if not asked or not all(str(one.annotation) in draw.kinds for one in asked):
                continue
            answers = []
            for _ in range(CALLED_BY_CHANCE):
                given = {one.name: draw.of(one.name, str(one.annotation)) for one in asked}
                answers.append(_answer(functools.partial(function, **given), []))
            yield from _digests(f"{name.removeprefix('catenum.core.')}:{title}", answers)


#: What is returned that is no plain data.
NO_DATA = ("Rules", "LogRules", "ScenarioFile")


class Draws:
    """Arguments by what they are said to be."""

    def __init__(
        self, chance: random.Random, statements: list[str], lines: list[str], files: list[str]
    ) -> None:
        self.chance, self.statements, self.lines, self.files = chance, statements, lines, files
        texts = dict.fromkeys(
            ("Sequence[str]", "Iterable[str]", "Collection[str]", "list[str]", "tuple[str, ...]"),
            self.texts,
        )
        self.kinds: dict[str, Callable[[], Any]] = {
            **texts, "str": self.text, "str | None": lambda: self.or_none(self.text),
            "int": self.number, "int | None": lambda: self.or_none(self.number),
            "float": lambda: self.number() / 2, "float | None": lambda: self.or_none(self.number),
            "bool": lambda: chance.random() < 0.5, "Rules": self.rules,
            "TokenPatterns": lambda: self.rules().sql.token_patterns, "bytes": lambda: self.text().encode(),
            "Mapping[str, str]": lambda: dict(zip(self.texts(), self.texts(), strict=False)),
            "Mapping[str, int]": lambda: {one: self.number() for one in self.texts()},
            "Mode": self.mode, "Mode | None": lambda: self.or_none(self.mode),
            "object": self.any, "Any": self.any,
        }  # fmt: skip

    def of(self, name: str, kind: str) -> Any:
        """One for an argument of this name."""
        if kind == "str" and name == "dialect":
            return self.rules().sql.dialect
        if kind == "str" and name in ("server", "level"):
            rules = self.rules()
            return rules.name if name == "server" else self.chance.choice(list(rules.locks.levels))
        if kind == "str" and name in ("sql", "statement", "script"):
            return mixed(
                self.chance.choice(self.statements),
                self.chance.choice(self.statements),
                self.chance,
            )
        return self.kinds[kind]()

    def text(self) -> str:
        """A word, a statement, lines of a log, or a scenario; often with something changed."""
        chance = self.chance
        at = chance.randrange(len(self.lines))
        some = "\n".join(self.lines[at : at + chance.choice((1, 1, 5, 30))])
        found = chance.choice(
            (
                chance.choice(_WORDS_OF_ALL),
                chance.choice(self.statements),
                some,
                chance.choice(self.files),
            )
        )
        return (
            mixed(found, chance.choice(_WORDS_OF_ALL), chance) if chance.random() < 0.4 else found
        )

    def texts(self) -> tuple[str, ...]:
        return tuple(
            self.text() if self.chance.random() < 0.3 else self.chance.choice(_WORDS_OF_ALL)
            for _ in range(self.chance.randrange(5))
        )

    def number(self) -> int:
        return self.chance.choice((0, 1, 1, 2, 3, 5, 8, 40, -1))

    def rules(self) -> Any:
        return rules_of(self.chance.choice(("postgresql", "mariadb", "mysql", "derby")))

    def mode(self) -> Mode:
        return Mode.read(
            self.chance.choice(
                (
                    "X next-key",
                    "S gap",
                    "FOR UPDATE",
                    "AccessShareLock",
                    "X insert intention",
                    "IX",
                    "X record",
                    "MDL_SHARED_READ",
                )
            )
        )

    def or_none(self, make: Callable[[], Any]) -> Any:
        return None if self.chance.random() < 0.2 else make()

    def any(self) -> Any:
        """A value as a file may have it."""
        kind = self.chance.randrange(5)
        if kind == 0:
            return self.texts()
        if kind == 1:
            return {
                one: self.chance.choice((self.number(), self.text(), None)) for one in self.texts()
            }
        return self.chance.choice((self.number(), self.text(), None, True, 1.5))


def statements_by_chance(server: str, texts: list[str]) -> Iterator[str]:
    """What is said of statements that are mixed by chance, as digests."""
    chance, found = random.Random(f"mixed {server}"), []
    for _ in range(MIXED):
        sql = mixed(chance.choice(texts), chance.choice(texts), chance)
        found.append("".join((*statements(server, [sql]), *readings(server, [sql]))))
    yield from _digests(server, found)


#: Statements of each server that are mixed.
MIXED = 120
#: Single keys that stand for what cannot be written in a table of questions.
STANDS_FOR = {"lexis", "rules", "bytes", "mode", "remedy"}


def _given(word: Any) -> Any:
    if isinstance(word, dict) and len(word) == 1:
        (kind, value), *_ = word.items()
        if kind == "like":  # an object of which the function reads these attributes alone
            return SimpleNamespace(**{name: _within(one) for name, one in value.items()})
        if kind == "lexis":
            return rules_of(value).sql.token_patterns
        if kind == "rules":
            return rules_of(value)
        if kind == "bytes":
            return bytes.fromhex(value)
        if kind == "mode":
            return Mode.read(value)
        if kind == "remedy":
            return Remedy.model_validate(value, strict=False)
    return word


def _within(word: Any) -> Any:
    """The same at any depth."""
    if isinstance(word, list):
        return tuple(map(_within, word))
    if isinstance(word, dict) and set(word) != {"like"}:
        return {key: _within(one) for key, one in word.items()}
    return _given(word)


def broken(path: Path) -> Iterator[str]:
    """What is said of scenarios with a mistake."""
    for title, text in yaml.safe_load(path.read_text(encoding="utf-8")).items():
        yield f"-- {title}\n"
        try:
            yield f"{read_scenario(text.encode(), 'x.yaml').scenario.scenario} is read\n"
        except InputError:
            yield from _said_of_file(text)


#: Scenarios that are changed by chance.
BROKEN = 240


def broken_by_chance(texts: list[str]) -> Iterator[str]:
    """What is said of scenarios in which something is changed by chance, as digests."""
    chance, found = random.Random("broken"), []
    plains = [yaml.safe_load(text) for text in texts]
    for _ in range(BROKEN):
        made = json.loads(json.dumps(chance.choice(plains), default=str))
        for _ in range(chance.choice((1, 1, 2))):
            _change_one(made, chance)
        text = yaml.safe_dump(made, sort_keys=False)
        found.append("".join(_said_of_file(text)))
    yield from _digests("broken", found)


def _said_of_file(text: str) -> Iterator[str]:
    try:
        scenario = read_scenario(text.encode(), "x.yaml").scenario
        for server in ("postgresql", "mysql"):
            yield as_text(definition_of(scenario, server))
            yield from map(str, map(describe, scenario.for_server(server).remedies.values()))
    except InputError as error:
        for one in error.problems:
            yield f"{one.place}: {one.message}{f' | {one.advice}' if one.advice else ''}\n"


def traces() -> Iterator[str]:
    """Waits of captured conflicts, and the rows that a server still told."""
    usual: dict[str, Any] = {"waiter": "7", "holder": "8", "mode": "ShareLock", "object": "?"}
    waits = [
        CapturedWait(**usual, table="berth", address="(0,5)", transaction="9"),
        CapturedWait(**usual, table="berth", address=None, transaction="10"),
        CapturedWait(**usual, table="berth", address="(0,6)"),
        CapturedWait(**usual, table="berth", address=None),
        CapturedWait(**usual, table=None, address="(0,5)", transaction="9"),
        CapturedWait(**usual, table="berth", index="berth_pkey", address="(0,5)"),
    ]
    for row in ("berth(id=7)", None):
        asked: list[Any] = []

        def search(*words: Any, row: str | None = row, asked: list[Any] = asked) -> Trace:
            asked.append(words)
            return Trace(row, ["by its address", "nothing more"])

        known = Conflict(
            kind="deadlock",
            server="postgresql",
            at=None,
            members=(),
            waits=tuple(waits),
            victim=None,
            relations=(),
            report="",
        )
        yield f"{brief(with_traces(known, search))}\n    asked {asked}\n"


TERMS = ("moved = 3", "vessel is null", "kg > :kg")
CONDITIONS = (
    "a > 1", "a >= 1 and b <> 2", "a is null", "a is not null and b = 'x'", "A IS NOT NULL", "a = 'it''s'", "-1 < a", "a = true",
    "a = null", "1.5 <= a", "a >", "> 1", "a == 1", "a = b c", "a and b", "a = 'open", "a = 1 or b = 2", "is null", "", "a is", "a is not 3",
    "rows = 1", "a.b = 1", "null is null", "a = 1 and", "a = ;", "(a = 1)", "not a = 1", "a < 3 and a < 2 and a < 1",
)  # fmt: skip
VALUES: tuple[dict[str, Any], ...] = (
    {}, {"a": 2}, {"a": 1, "b": 2}, {"a": None, "b": 3}, {"a": "x", "b": "x"}, {"a": True, "b": None}, {"a": 1.5, "b": "it's"}, {"rows": 1, "a": 0},
)  # fmt: skip


def conditions() -> Iterator[str]:
    """What conditions mean, and what they come to for values."""
    for text in CONDITIONS:
        try:
            condition = parse_condition(text)
        except ConditionError as error:
            yield f"{text!r}: {error} at {error.offset}\n"
            continue
        said = []
        for plain_values in VALUES:
            values = {name: Value.from_python(value) for name, value in plain_values.items()}
            try:
                lacking = condition.undecided(values)
                said.append("true" if lacking is None else f"not {lacking}")
            except (ConditionError, MissingValue) as error:
                said.append(f"{type(error).__name__}: {error}")
        names = [str(one.name) for one in condition.names]
        kinds = []
        for known in ({"a": 1}, {"a": "x"}, {"b": 1}):
            try:
                known_kinds(condition, {n: Value.from_python(v) for n, v in known.items()})
                kinds.append("fits")
            except ConditionError as error:
                kinds.append(str(error))
        yield f"{text!r}: names {names}, {'; '.join(said)} | {'; '.join(kinds)}\n"


def readings(server: str, texts: list[str]) -> Iterator[str]:
    """What the passes of ``propose`` need of statements, and what they make of them."""
    rules = rules_of(server)
    dialect = rules.sql.dialect
    terms = [one for one in (term(text, dialect) for text in TERMS) if one is not None]
    comparison = parse_condition("kg > 1").comparisons[0]
    for sql in texts:
        one = Reading(sql, dialect)
        facts = {
            name: getattr(one, name)
            for name in ("is_plain_select", "takes_some", "lock_clause", "table", "changes", "where", "equals",
                         "selected", "columns", "assigned", "parameters", "inserts_into", "inserted")
        }  # fmt: skip
        if one.tree is None or isinstance(one.tree, exp.Command):
            continue
        reads = isinstance(one.tree, exp.Query)
        made: dict[str, Any] = {
            "with lock": one.with_lock("for update") if reads else None,
            "without": one.with_lock(None) if reads else None,
            "with condition": one.with_condition(*terms[:2]),
            "with value": one.with_value("moved", exp.Literal.number(9)),
            "beyond id": [written(found, dialect) for found in one.terms_beyond(["id"])],
            "as value": written(value, dialect) if (value := one.as_value()) is not None else None,
            "inserted where": one.inserted_where("select 1 as one"),
            "own": own.sql() if (own := own_comparison(one, {"kg": "kg"}, comparison)) else None,
            "same row": same_row(one, Reading("select 1 from berth where id = 7", dialect), ["id"]),
        }
        told = {
            name: value
            for name, value in (facts | made).items()
            if value not in (None, False, {}, [], sql)
        }
        if told:
            yield f"{shortened(one_line(sql), 120)}\n    {brief(told)}\n"


#: The tables of generated scenarios, as a catalogue has them.
GENERATED = {
    "berth": TableKeys(primary=("id",), kinds={"id": "integer"}, filled=("id",)),
    "crane": TableKeys(primary=("id",), kinds={"id": "integer"}, filled=("id",)),
    "job": TableKeys(primary=("id",), kinds={"id": "integer"}, checked=True),
    "log": TableKeys(primary=()),
    "ticket": TableKeys(
        primary=("id",),
        unique=(("vessel",),),
        indexes={"ticket_vessel": ("vessel",)},
        kinds={"id": "integer", "vessel": "integer"},
        made=("id",),
    ),
    "box": TableKeys(primary=("id",), references=("berth",), kinds={"id": "integer"}),
}
#: How many generated scenarios of each kind are told of.
RELATED = 30


def relations(server: str) -> Iterator[str]:
    """Which moves of generated scenarios depend on each other, and what each touches."""
    rules = rules_of(server)
    usual = "read committed" if server == "postgresql" else "repeatable read"
    for kind, make in MAKES.items():
        for seed in range(1, RELATED + 1) if kind != "pieces" else ():
            scenario = Scenario.model_validate(plain_case(make(server, seed))).for_server(server)
            found = Dependence(scenario, rules, GENERATED, usual)
            steps = [
                (name, number)
                for name, one in scenario.transactions.items()
                for number in [*range(len(one.statements)), None]
            ]
            yield f"{kind} {seed}: {found.levels}\n"
            for step in steps:
                name, number = step
                meets = "".join("x" if found.depend(step, other) else "." for other in steps)
                says = "" if number is None else scenario.transactions[name].statements[number].text
                known = "" if step not in found.may_pass or number is None else "~"
                touched = brief(found.touches.get(step, ()))
                yield f"  {meets} {name} {known}{says}   {touched}\n"
            yield f"  snapshots {brief(found.snapshots)}, classes {_classes(found, scenario)}\n"


def _classes(found: Dependence, scenario: Scenario) -> int:
    moves = {name: one.moves for name, one in scenario.transactions.items()}
    return Classes(found, moves, previous=scenario.previous).count()


#: What transactions of the stand-in do, and how many scenarios of them are walked.
_WORDS = ("lock a", "lock b", "lock c", "share a", "share b", "work 1", "fail timeout")
WALKED, MOST_SHOWN = 50, 24


def walks() -> Iterator[str]:
    """The schedules that are run of generated scenarios on the stand-in, with what each came to."""
    for seed in range(1, WALKED + 1):
        chance = random.Random(f"walk {seed}")
        parts = {}
        for name in ("a", "b", "c")[: chance.choice((2, 2, 3))]:
            words = _WORDS if seed % 2 else _WORDS[:5]
            part: dict[str, Any] = {"statements": chance.choices(words, k=chance.choice((1, 2, 2)))}
            if chance.random() < 0.3:
                part["retry"] = {"times": 1, "on": ["deadlock", "timeout"]}
            part["ends"] = chance.choice(("commit", "commit", "rollback", "open"))
            if seed % 5 == 0:
                part["after_error"] = chance.choice(("continue", "retry 2", "roll back"))
            parts[name] = part
        case = test_space.scenario(**parts)
        yield f"{seed}: {brief(parts)}\n"
        with test_space.stage(case) as on:
            worker = Worker(on, ExploreOptions())
            worker.take({"walk": {"more": True, "nodes": []}})
            for _ in range(MOST_SHOWN):
                if not worker.busy or worker.walk is None:
                    break
                run = on.run(worker.walk)
                bars = [f"{step[0]}{step[1] + 1} for {who}" for step, who, _ in worker.walk.bars()]
                races = [
                    (one.came, one.overtaken, one.two_ways) for one in worker.walk.open_contests
                ]
                worker.walk.turn()
                kind = "broken off" if run.broken_off else run.kind
                failed = {name: kinds for name, kinds in run.failed_by.items() if kinds}
                yield (
                    f"  {' '.join(run.path)}: {kind} {brief(failed)} {brief(bars)} {brief(races)}"
                    f" {[one.members for one in run.cycles]}\n"
                )


def changed_values() -> Iterator[str]:
    """Other values in the place of captured ones."""
    found = [
        ("number", "7"), ("number", "41"), ("number", "007"), ("number", "0.5"), ("number", "12.75"), ("number", "0"), ("number", "1"),
        ("number", "99999999"), ("text", "7"), ("text", "Halcyon"), ("text", "Oriel"), ("text", "ab"), ("text", "x"), ("text", ""),
        ("text", "2026-11-30"), ("text", "2026-11-30 09:30:21.5+01"), ("text", "2026-12-01T10:00:00Z"), ("text", '{"berth": 7, "of": "Oriel"}'),
        ("text", "6c7d8e9f-a0b1-c2d3-e4f5-061728394a5b"), ("text", "MGHU 204"), ("binary", "101"), ("hex", "ff0a"), ("hex number", "0xff"),
    ]  # fmt: skip
    for count in range(1, len(found) + 1, 3):
        for fixed in ((), (("number", "2"), ("text", "a"))):
            other = others(set(found[:count]), set(fixed))
            yield f"{count} {fixed}: {sorted(other.items())}\n"


def words() -> Iterator[str]:
    """Sentences whose every turn depends on a few counts: how far an exploration got, whether the
    data is right, when a time of day was, what a changed statement is said to be.
    """
    for complete, every, raced, sampled, classes, out in itertools.product(
        (True, False), (True, False), (True, False), (True, False), (None, 12), (0, 3)
    ):
        reach = Reach(
            orders=20, classes=classes, complete=complete, sampled=sampled, every=every, raced=raced
        )
        tally = Tally(schedules=6, ruled_out=out, swaps=out)
        yield f"{brief(reach)}, {out}: {how_far(SimpleNamespace(reach=reach, tally=tally))}\n"
    for data, holds in itertools.product(
        ("serial", "anomaly", "unchecked"), ({}, {"full": True}, {"full": False, "empty": True})
    ):
        outcome = Outcome(kind="clean", data=data, holds=holds)
        yield f"{data} {holds}: {data_sentence(SimpleNamespace(outcome=outcome))}\n"
    now = datetime(2026, 3, 1, 10, 20, 30, tzinfo=UTC)
    for text in ("10:00", "10:20:31", "10:20:29", "23:59:59", "yesterday", "today 9:15", "yesterday 24:00", "90m", "2h ago"):  # fmt: skip
        try:
            yield f"{text}: {point_in_time(text, now)}\n"
        except InputError as error:
            yield f"{text}: {error.problems[0].message}\n"
    for change in ({"keep": {"n": "id"}}, {"keep": {}}, {"when": "n > 1"}, {"when": None}, {"after_error": None}, {"require": "n > 1"}, {"require": None}):  # fmt: skip
        remedy = Remedy.model_validate(
            {"rewrite": {"early": {"1": {"sql": "select 1", **change}}}}, strict=False
        )
        yield f"{change}: {describe(remedy)}\n"
    for reads in ("dirty", "version", "waits", "locks"):
        profile = profile_of("derby")
        levels = profile.levels.model_copy(
            update={"reads": dict.fromkeys(profile.levels.set, reads)}
        )
        locks = rules_by(profile.model_copy(update={"levels": levels})).locks
        for level in profile.levels.set:
            touched = [[AccessMode.READ], [AccessMode.WRITE]]
            yield f"{reads} at {level}: {locks.snapshot_statements(level, touched)}, {locks.read_mode(level, within_write=False)}, gaps {locks.locks_gaps([level])}\n"


# -- sweeps ------------------------------------------------------------------------------------------------------------


class Described(ScriptedEngine):
    """Knows a scenario's tables and rows by its data's text, and runs nothing."""

    def __init__(self, server: str, scenario: Scenario) -> None:
        super().__init__()
        self.info = replace(self.info, server=server)
        self._tables: dict[str, TableKeys] = {}
        self._rows: dict[str, TableRows] = {}
        rules = rules_of(server)
        for _, sql in rules.sql.split(scenario.data.script_for(server)):
            tree = sqlglot.parse_one(sql, read=rules.sql.dialect)
            if isinstance(tree, exp.Create) and isinstance(tree.this, exp.Schema):
                self._create(tree.this)
            elif isinstance(tree, exp.Insert):
                name, values = tree.this.name, tree.expression
                made = tuple(
                    tuple(cell.name for cell in row.expressions) for row in values.expressions
                )
                rows = self._rows[name]
                self._rows[name] = replace(
                    rows, rows=(*rows.rows, *made), total=rows.total + len(made)
                )

    def _create(self, schema: exp.Schema) -> None:
        columns, primary, unique, references, kinds = [], [], [], [], {}
        for column in schema.expressions:
            if isinstance(column, exp.PrimaryKey):
                primary += [one.name for one in column.expressions]
            if not isinstance(column, exp.ColumnDef):
                continue
            columns.append(column.name)
            kinds[column.name] = (
                "integer" if column.kind.is_type(*exp.DataType.INTEGER_TYPES) else "text 10"
            )
            for mark in column.constraints:
                primary += (
                    [column.name] if isinstance(mark.kind, exp.PrimaryKeyColumnConstraint) else []
                )
                unique += (
                    [(column.name,)] if isinstance(mark.kind, exp.UniqueColumnConstraint) else []
                )
                references += (
                    [mark.kind.find(exp.Table).name] if isinstance(mark.kind, exp.Reference) else []
                )
        name = schema.this.name
        self._rows[name] = TableRows(columns=tuple(columns), rows=(), total=0)
        self._tables[name] = TableKeys(
            primary=tuple(primary), unique=tuple(unique), references=tuple(references),
            kinds=kinds, filled=tuple(primary),
        )  # fmt: skip

    def tables(self) -> dict[str, TableKeys]:
        return self._tables

    def rows(self, limit: int, tables: Any = None) -> dict[str, TableRows]:
        return self._rows


def _sweeper(scenario: Scenario, server: str, longest: int | None = None) -> Sweeper:
    """One that runs nothing."""
    return Sweeper(
        explores=Here(connect=lambda: None, engine=None),
        engine=Described(server, scenario),
        scenario=scenario,
        options=ExploreOptions(),
        longest=longest,
    )


#: What is swept beside generated ones: lists, ranges, references, keys that are not there, limits.
SWEPT = (Path(__file__).with_name("corpus") / "sweeps.yaml").read_text().split("\n---\n")
#: Generated ones of each server.
COINCIDING = 12


def coincidences(server: str) -> Iterator[str]:
    """The distinct cases of parametrised scenarios, and of what their remedies make of them."""
    generated = [coinciding(server, seed).scenario() for seed in range(COINCIDING)]
    for text in (*SWEPT, *generated):
        scenario = read_scenario(text.encode(), "swept").scenario.for_server(server)
        yield f"# {scenario.scenario}: {'; '.join(s.text for t in scenario.transactions.values() for s in t.statements)}\n"
        lists = any(one.lists for one in scenario.transactions.values())
        for longest in (None, 1) if lists else (None,):
            try:
                sweeper = _sweeper(scenario, server, longest)
            except InputError as error:
                yield f"{error.problems[0].message}\n"
                continue
            if longest is None:
                yield f"domains {brief(sweeper.domains.given)}, {sorted(map(str, sweeper.domains.ranged))}\n"
                yield f"there {brief(sweeper.universe.there)}, not {brief(sweeper.universe.missing)}\n"
                yield f"beside {brief(sweeper.universe.beside)}, made {sweeper.universe.script!r}\n"
            for title, remedy in {"": None, **scenario.remedies}.items():
                if longest is not None and remedy is not None:
                    continue
                try:
                    plans = sweeper.plans(remedy)
                except (InputError, OnlyHere) as error:
                    yield f"{title}: {error}\n"
                    continue
                for _, plan in plans:
                    names = ", ".join(member.name for member in plan.members)
                    yield f"{title or 'as it is'}, {names}: {plan.assignments} assignments, {plan.pruned} apart\n"
                    for case in plan.cases:
                        missing = "".join(f" without {place}" for place in case.missing)
                        meets = "" if case.meets else ", apart"
                        yield (
                            f"    {case.equal} {case.values}{missing}{meets}: {sweeper.words(plan, case)}\n"
                            f"        or {case.another}\n"
                        )
            for note in dict.fromkeys(sweeper.notes):
                yield f"note: {note}\n"
