"""The distinct ways in which the parameters of some transactions coincide.

Parameters of one domain are equal or not: every partition of them into groups of equals is an
assignment of values. Most assignments come to the same. What matters is which statements meet, and
over which rows: that is read off the dependence of moves (``core.space.dependence``), the relation
by which schedules are compared as well. Statements that meet no other may be left out, since they
commute with everything (Mazurkiewicz 1977); two assignments in which the same statements meet over
the same rows, up to other names of the rows, have the same outcomes. Where something else than the
values of a key decides whether statements meet (a range, a gap, a row that is not there), the order
of the values counts as well, and such assignments are told apart by it.
"""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations, count, islice, permutations, product

from catenum.core.record.values import Value
from catenum.core.scenario.loops import Code, Loop, code_of, element, rank, run_out
from catenum.core.scenario.model import Scalar, Scenario, Transaction
from catenum.core.servers import Rules
from catenum.core.servers.table_access import AccessMode, TableAccess
from catenum.core.space.dependence import Dependence
from catenum.core.sql.parameters import names_in
from catenum.core.sweep.domains import ColumnKey, Domains
from catenum.core.sweep.universe import Universe

#: Lists have from none to so many elements.
LONGEST = 3
#: So many assignments are looked at; of more, a sample.
MOST_ASSIGNMENTS = 50_000
#: Of values that may be there or not, so many at once; of more, one at a time is missing.
MOST_FREE = 4

_RETURNED = Value.from_python(0)

#: Values of a transaction's swept parameters: of a list, a tuple.
Values = dict[str, Scalar | tuple[Scalar, ...]]
Assignment = dict[str, Values]


@dataclass(frozen=True)
class Member:
    """A transaction of a case: ``kind`` is what its code is called; ``like`` whose slots it has."""

    name: str
    kind: str
    like: str


@dataclass(frozen=True, kw_only=True)
class Place:
    """One swept value: of which member, parameter, and element (from 0; None: no list)."""

    member: str
    name: str
    element: int | None = None

    def __str__(self) -> str:
        return f"{self.member}.{self.name}" + (
            f"[{self.element + 1}]" if self.element is not None else ""
        )


@dataclass(frozen=True, kw_only=True)
class Case:
    """One distinct case: values that stand for all assignments that come to the same (``equal`` in
    all). ``coincide``: the places that have the same value; ``missing``: values that no row has;
    ``meets``: whether any statements meet. ``form``: equal for cases in which the same statements
    meet in the same way; None where a remedy changes more than the order of loops.
    """

    values: Assignment
    coincide: tuple[tuple[Place, ...], ...]
    missing: tuple[Place, ...]
    meets: bool
    equal: int
    another: Assignment | None = None  # of the same kind, to compare
    form: object = field(default=None, repr=False, compare=False)


@dataclass(frozen=True, kw_only=True)
class CasePlan:
    """All cases of some members. ``assignments``: how many were looked at; ``pruned``: in how many
    of them nothing meets; ``sampled``: there are more.
    """

    members: tuple[Member, ...]
    cases: tuple[Case, ...]
    assignments: int
    pruned: int
    sampled: bool
    given: dict[tuple[str, str], str] = field(default_factory=dict)

    @property
    def to_run(self) -> list[Case]:
        """The cases in which statements meet."""
        return [case for case in self.cases if case.meets]

    @property
    def apart(self) -> list[Case]:
        """The others, of which nothing depends."""
        return [case for case in self.cases if not case.meets]


@dataclass(frozen=True)
class _Touched:
    """A statement of a member with its values: what it touches, which statement of the code it is,
    and the names in it.
    """

    accesses: tuple[TableAccess, ...]
    which: object
    names: tuple[str, ...]


@dataclass
class _Enumeration:
    """One enumeration of the assignments of members, and their signatures."""

    scenario: Scenario  # of the members, by their names
    members: tuple[Member, ...]
    domains: Domains
    universe: Universe
    dependence: Dependence
    rules: Rules
    longest: int
    sorts: Mapping[str, str]  # by member, the list that its loop goes through in order
    given: Scenario  # of the members, as it was before a remedy
    _touches: dict[tuple[str, str, tuple[object, ...]], tuple[TableAccess, ...]] = field(
        default_factory=dict
    )
    _all_touched: dict[tuple[str, str], list[_Touched]] = field(default_factory=dict)
    _meets: dict[tuple[tuple[str, str], object, object], tuple[bool, bool]] = field(
        default_factory=dict
    )
    _written: dict[tuple[str, tuple[int, ...]], tuple[tuple[str, tuple[str, ...], object], ...]] = (
        field(default_factory=dict)
    )
    _kept: dict[str, frozenset[str]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.codes: dict[str, Code] = {}
        for name, transaction in self.scenario.transactions.items():
            code = code_of(transaction)
            if code is None:
                raise ValueError(f"the turns of a loop of {name} are not alike")
            self.codes[name] = code
            self._kept[name] = frozenset(k for s in transaction.statements for k in s.kept)
        self.slots = {one.name: self.domains.of(one.like) for one in self.members}
        self.ordered: frozenset[ColumnKey] = frozenset()

    # -- assignments -------------------------------------------------------------------------------

    def lengths(self) -> Iterator[dict[tuple[str, str], int]]:
        """Every choice of lengths; lists that one loop goes through have one."""
        together: list[list[tuple[str, str]]] = []
        for member in self.members:
            of_loop = {
                name: place
                for place, part in enumerate(self.codes[member.name])
                if isinstance(part, Loop)
                for name in part.lists
            }
            groups: dict[object, list[tuple[str, str]]] = {}
            for name in self.scenario.transactions[member.name].lists:
                groups.setdefault(of_loop.get(name, name), []).append((member.name, name))
            together += [
                group
                for group in groups.values()
                if any(
                    slot.listed and (m, slot.name) in group
                    for m, _ in group
                    for slot in self.slots[m]
                )
            ]
        fixed = {
            (member.name, name): len(values)
            for member in self.members
            for name, values in self.scenario.transactions[member.name].lists.items()
        }
        for chosen in product(range(self.longest + 1), repeat=len(together)):
            found = dict(fixed)
            for group, length in zip(together, chosen, strict=True):
                found |= dict.fromkeys(group, length)
            yield found

    def places(self, lengths: Mapping[tuple[str, str], int]) -> dict[ColumnKey, list[Place]]:
        """By domain, all places that get a value."""
        found: dict[ColumnKey, list[Place]] = {}
        for member in self.members:
            for slot in self.slots[member.name]:
                where = found.setdefault(slot.domain, [])
                if not slot.listed:
                    where.append(Place(member=member.name, name=slot.name))
                    continue
                where += [
                    Place(member=member.name, name=slot.name, element=number)
                    for number in range(lengths[member.name, slot.name])
                ]
        return found

    def assignments(self) -> Iterator[tuple[Assignment, dict[Place, object], frozenset[Place]]]:
        """Every assignment, with each place's value by its domain, and the places whose value no
        row has.
        """
        for lengths in self.lengths():
            found = self.places(lengths)
            choices = [
                list(self._choices(domain, places, self._beside(domain, found)))
                for domain, places in found.items()
            ]
            for chosen in product(*choices):
                given: dict[Place, Scalar] = {}
                missing: set[Place] = set()
                keys: dict[Place, object] = {}
                for domain, (values, absent) in zip(found, chosen, strict=True):
                    given |= values
                    missing |= absent
                    keys |= {place: (domain, value) for place, value in values.items()}
                yield self._assigned(lengths, given), keys, frozenset(missing)

    def _beside(self, domain: ColumnKey, found: Mapping[ColumnKey, Sequence[Place]]) -> int | None:
        """How many keys name rows of which this domain's values are those of another column; None
        where there is no such column.
        """
        crossing = self.domains.crossed.get(domain)
        return len(found.get(crossing.by, ())) if crossing is not None else None

    def _choices(
        self, domain: ColumnKey, places: Sequence[Place], beside: int | None
    ) -> Iterator[tuple[dict[Place, Scalar], set[Place]]]:
        there, absent = self.universe.there[domain], self.universe.missing[domain]
        ordered = domain in self.ordered
        for blocks in _partitions(len(places)):
            if _twice_in_long(places, blocks):
                continue
            number = max(blocks, default=-1) + 1
            for lacking in self._lacking(domain, number):
                present = [block for block in range(number) if block not in lacking]
                if len(present) > len(there) or len(lacking) > len(absent):
                    continue
                for chosen in _taken(len(present), len(there), beside, ordered=ordered):
                    value = {block: there[at] for block, at in zip(present, chosen, strict=True)}
                    value |= dict(zip(sorted(lacking), absent, strict=False))
                    yield (
                        {place: value[block] for place, block in zip(places, blocks, strict=True)},
                        {p for p, block in zip(places, blocks, strict=True) if block in lacking},
                    )

    def _lacking(self, domain: ColumnKey, count: int) -> Iterator[frozenset[int]]:
        """Which groups of equals have a value that no row has."""
        if not self.universe.there[domain]:
            yield frozenset(range(count))
            return
        yield frozenset()
        if domain not in self.domains.made:
            return
        if count > MOST_FREE:
            yield from (frozenset((one,)) for one in range(count))
            yield frozenset(range(count))
            return
        for size in range(1, count + 1):
            yield from map(frozenset, combinations(range(count), size))

    def _assigned(
        self, lengths: Mapping[tuple[str, str], int], given: Mapping[Place, Scalar]
    ) -> Assignment:
        found: Assignment = {}
        for member in self.members:
            values: Values = {}
            for slot in self.slots[member.name]:
                if not slot.listed:
                    values[slot.name] = given[Place(member=member.name, name=slot.name)]
                    continue
                values[slot.name] = tuple(
                    given[Place(member=member.name, name=slot.name, element=number)]
                    for number in range(lengths[member.name, slot.name])
                )
            for name, known in self.given.transactions[member.name].lists.items():
                length = lengths.get((member.name, name), len(known))
                if name not in values and length != len(known):
                    values[name] = tuple(islice(_again(known), length))
            found[member.name] = values
        return found

    def in_order(self, assignment: Assignment) -> Assignment:
        """As its loops go through it."""
        if not self.sorts:
            return assignment
        assignment = {member: dict(values) for member, values in assignment.items()}
        for member, name in self.sorts.items():
            values = assignment.get(member, {})
            listed = values.get(name)
            if not isinstance(listed, tuple):
                continue
            order = sorted(range(len(listed)), key=lambda place: rank(listed[place]))
            together = next(
                (
                    part.lists
                    for part in self.codes[member]
                    if isinstance(part, Loop) and name in part.lists
                ),
                (name,),
            )
            for one in together:
                known = values.get(one, self.given.transactions[member].lists[one])
                if isinstance(known, tuple):
                    values[one] = tuple(known[place] for place in order)
        return assignment

    # -- what an assignment comes to ---------------------------------------------------------------

    def statements(
        self, member: str, values: Values
    ) -> tuple[tuple[str, tuple[str, ...], object], ...]:
        """A member's statements with these values: text, the names in it, which of the code."""
        lists = {
            name: values.get(name, known)
            for name, known in self.scenario.transactions[member].lists.items()
        }
        lengths = tuple(len(one) for one in lists.values() if isinstance(one, tuple))
        if (member, lengths) not in self._written:
            patterns = self.rules.sql.token_patterns
            plain = {name: one for name, one in lists.items() if isinstance(one, tuple)}
            found = []
            for place, part in enumerate(self.codes[member]):
                for one in run_out((part,), plain):
                    inner = one.turn.place if one.turn is not None else 0
                    found.append((one.text, names_in(one.text, patterns), (place, inner)))
            self._written[member, lengths] = tuple(found)
        return self._written[member, lengths]

    def touches(
        self, member: str, text: str, given: Mapping[str, Value]
    ) -> tuple[TableAccess, ...]:
        key = (member, text, tuple(sorted((n, str(v), v.kind) for n, v in given.items())))
        if key not in self._touches:
            read = self.domains.with_columns(text)
            self._touches[key] = self.dependence.touches_with(member, read, given)
        return self._touches[key]

    def met(
        self, names: tuple[str, str], mine: tuple[TableAccess, ...], theirs: tuple[TableAccess, ...]
    ) -> tuple[bool, bool]:
        """Whether two statements meet, and whether keys alone decide it."""
        key = (names, mine, theirs)
        if key not in self._meets:
            pairs = [(x, y) for x in mine for y in theirs if self.dependence.meet(names, x, y)]
            exact = all(self.dependence.meet_exactly(names, x, y) for x, y in pairs)
            self._meets[key] = bool(pairs), exact
        return self._meets[key]

    def signature(
        self, assignment: Assignment, keys: Mapping[Place, object], missing: frozenset[Place]
    ) -> tuple[object, bool]:
        """What tells an assignment from others, and whether any statements meet."""
        assignment = self.in_order(assignment)
        touched = {name: self._touched(name, values) for name, values in assignment.items()}
        kept: dict[str, set[int]] = {name: set() for name in touched}
        meetings: list[tuple[str, int, str, int]] = []
        exact = True
        for one, other in combinations(touched, 2):
            for (i, mine), (j, theirs) in product(
                enumerate(touched[one]), enumerate(touched[other])
            ):
                met, by_keys = self.met((one, other), mine.accesses, theirs.accesses)
                if met:
                    meetings.append((one, i, other, j))
                    kept[one].add(i)
                    kept[other].add(j)
                    exact = exact and by_keys
        apart = not meetings
        for name, statements in touched.items():
            for i, j in combinations(range(len(statements)), 2):  # one row twice in a transaction
                both = {i, j} <= kept[name]
                mode = AccessMode.SHARE if both else AccessMode.INSERT
                if _same_rows(statements[i].accesses, statements[j].accesses, mode):
                    meetings.append((name, i, name, j))
                    kept[name] |= {i, j}
        if apart:
            return None, False
        if not exact:
            ordered = sorted((str(place), key, place in missing) for place, key in keys.items())
            return (tuple(ordered), tuple(meetings)), True
        absent = tuple(sorted(self._absent(touched, kept, missing)))
        return (absent, self._canonical(touched, kept, meetings, fixed=bool(absent))), True

    def _touched(self, member: str, values: Values) -> list[_Touched]:
        key = (member, repr(values))
        if key not in self._all_touched:
            plain = self._plain(member, values)
            self._all_touched[key] = [
                _Touched(
                    self.touches(member, text, {n: plain[n] for n in names if n in plain}),
                    which,
                    names,
                )
                for text, names, which in self.statements(member, values)
            ]
        return self._all_touched[key]

    def _plain(self, member: str, values: Values) -> dict[str, Value]:
        found = dict(self.scenario.transactions[member].fixed)
        for name, value in values.items():
            if isinstance(value, tuple):
                for number, one in enumerate(value, 1):
                    found[element(name, number)] = Value.from_python(one)
            else:
                found[name] = Value.from_python(value)
        # what a statement returns is decided in the run, by the same rows in each case; here it is
        # one and the same, so that it keeps nothing apart
        return found | dict.fromkeys(self._kept[member], _RETURNED)

    def _absent(
        self,
        touched: Mapping[str, Sequence[_Touched]],
        kept: Mapping[str, set[int]],
        missing: frozenset[Place],
    ) -> Iterator[tuple[str, int, str]]:
        """Which of the statements that meet name a value that no row has."""
        for name, statements in touched.items():
            absent = {
                one.name if one.element is None else element(one.name, one.element + 1)
                for one in missing
                if one.member == name
            }
            for place, number in enumerate(sorted(kept[name])):
                for parameter in statements[number].names:
                    if parameter in absent:
                        yield name, place, _whole(parameter, self.scenario.transactions[name])

    def _canonical(
        self,
        touched: Mapping[str, Sequence[_Touched]],
        kept: Mapping[str, set[int]],
        meetings: Sequence[tuple[str, int, str, int]],
        *,
        fixed: bool,
    ) -> str:
        """The same for any order of the members of one kind, unless their names are ``fixed``."""
        place = {
            name: {number: at for at, number in enumerate(sorted(numbers))}
            for name, numbers in kept.items()
        }
        by_kind: dict[str, list[str]] = {}
        for member in self.members:
            by_kind.setdefault(member.kind, []).append(member.name)
        orders = (
            [tuple(map(tuple, by_kind.values()))]
            if fixed
            else product(*(permutations(names) for names in by_kind.values()))
        )
        found = []
        for chosen in orders:
            called = {
                name: (kind, at)
                for kind, order in zip(by_kind, chosen, strict=True)
                for at, name in enumerate(order)
            }
            code = sorted(
                (called[name], tuple(touched[name][n].which for n in sorted(numbers)))
                for name, numbers in kept.items()
            )
            pairs = sorted(
                tuple(sorted(((called[a], place[a][i]), (called[b], place[b][j]))))
                for a, i, b, j in meetings
            )
            found.append(repr((code, pairs)))
        return min(found)

    def form_of(self, assignment: Assignment) -> object:
        """The signature of an assignment of which the loops go through their lists as they are."""
        keys: dict[Place, object] = {}
        missing: set[Place] = set()
        for member, slots in self.slots.items():
            for slot in slots:
                value = assignment[member][slot.name]
                listed = enumerate(value) if isinstance(value, tuple) else [(None, value)]
                for number, one in listed:
                    place = Place(member=member, name=slot.name, element=number)
                    keys[place] = (slot.domain, one)
                    if one in self.universe.missing[slot.domain]:
                        missing.add(place)
        return self.signature(assignment, keys, frozenset(missing))[0]

    def _first(self, member: str) -> Values:
        """Some value for each slot."""
        found: Values = {}
        for slot in self.slots[member]:
            known = self.universe.there[slot.domain] or self.universe.missing[slot.domain]
            listed = self.scenario.transactions[member].lists.get(slot.name, ())
            if slot.listed:
                found[slot.name] = tuple(islice(_again(known), len(listed)))
            elif slot.name not in self.scenario.transactions[member].fixed and known:
                found[slot.name] = known[0]
        return found

    def _sorts(self, domain: ColumnKey) -> Iterator[str]:
        """The members that go through a list of this domain in order."""
        for name, slots in self.slots.items():
            if any(slot.domain == domain and self.sorts.get(name) == slot.name for slot in slots):
                yield name

    def look(self) -> None:
        """See which domains matter at all, and in which of them the order of values may count:
        those compared by it, and those of statements of which something else than a key's values
        decides whether they meet.
        """
        ordered, matter = set(self.domains.ranged), set[ColumnKey]()
        domain_of = {
            (member.name, slot.name): slot.domain
            for member in self.members
            for slot in self.slots[member.name]
        }
        touched = {
            member.name: self._touched(member.name, self._first(member.name))
            for member in self.members
        }
        for one, other in combinations(touched, 2):
            for mine, theirs in product(touched[one], touched[other]):
                if not self.met((one, other), _anywhere(mine), _anywhere(theirs))[0]:
                    continue
                exact = all(
                    self.dependence.meet_exactly((one, other), x, y)
                    for x in mine.accesses
                    for y in theirs.accesses
                    if self.dependence.meet(
                        (one, other), replace(x, keys=None), replace(y, keys=None)
                    )
                )
                for name, names in ((one, mine.names), (other, theirs.names)):
                    for parameter in names:
                        domain = domain_of.get(
                            (name, _whole(parameter, self.scenario.transactions[name]))
                        )
                        if domain is not None:
                            matter.add(domain)
                            ordered |= set() if exact else {domain}
        for name, slots in self.slots.items():
            for slot in slots:
                # beside what is sorted, it counts whether a value comes before or after it
                if any(self._sorts(slot.domain)) and self.sorts.get(name) != slot.name:
                    ordered.add(slot.domain)
        self.ordered = frozenset(ordered)
        self.slots = {
            name: [slot for slot in slots if slot.domain in matter]
            for name, slots in self.slots.items()
        }


def _taken(
    count: int, there: int, beside: int | None, *, ordered: bool
) -> Iterator[tuple[int, ...]]:
    """Which of the values that are there so many different ones are. ``beside``: so many of the
    first belong to rows that are named by another column; of the others, one is as good as the
    next.
    """
    if beside is None:
        yield from permutations(range(count)) if ordered else [tuple(range(count))]
        return
    for chosen in permutations(range(there), count):
        others = [at for at in chosen if at >= beside]
        if others == list(range(beside, beside + len(others))):
            yield chosen


def _anywhere(one: _Touched) -> tuple[TableAccess, ...]:
    return tuple(replace(access, keys=None) for access in one.accesses)


def _twice_in_long(places: Sequence[Place], blocks: Sequence[int]) -> bool:
    """Whether a list of more than two elements has a value twice: what a value that comes twice
    does, a list of two shows.
    """
    lists: dict[tuple[str, str], list[int]] = {}
    for place, block in zip(places, blocks, strict=True):
        if place.element is not None:
            lists.setdefault((place.member, place.name), []).append(block)
    return any(len(one) > 2 and len(set(one)) < len(one) for one in lists.values())


def _whole(parameter: str, transaction: Transaction) -> str:
    """The list that an element is of; any other parameter as it is."""
    name, _, number = parameter.rpartition("_")
    return name if number.isdecimal() and name in transaction.lists else parameter


def _again(values: Sequence[Scalar]) -> Iterator[Scalar]:
    """Values over and over; what counts up goes on counting; ones where there are none."""
    numbers = [one for one in values if isinstance(one, int)]
    if len(numbers) == len(values) > 1 and numbers == [*range(numbers[0], numbers[-1] + 1)]:
        yield from count(numbers[0])
    while True:
        yield from values or (1,)


def _same_rows(
    mine: tuple[TableAccess, ...], theirs: tuple[TableAccess, ...], mode: AccessMode
) -> bool:
    """Whether two statements touch one row; a row that a transaction inserts twice is its own
    fault, whoever runs beside it.
    """
    least = min if mode is AccessMode.INSERT else max
    return any(
        x.table == y.table
        and x.keys is not None
        and x.keys == y.keys
        and least(x.mode, y.mode) >= mode
        for x in mine
        for y in theirs
    )


def _partitions(count: int) -> Iterator[tuple[int, ...]]:
    """Every partition of so many things into groups, each thing with its group's number (restricted
    growth strings; Knuth, TAOCP 4A, 7.2.1.5).
    """
    if count == 0:
        yield ()
        return

    def grow(found: tuple[int, ...], most: int) -> Iterator[tuple[int, ...]]:
        if len(found) == count:
            yield found
            return
        for number in range(most + 2):
            yield from grow((*found, number), max(most, number))

    yield from grow((), -1)


def plan_cases(
    scenario: Scenario,
    members: Sequence[Member],
    domains: Domains,
    universe: Universe,
    dependence: Dependence,
    rules: Rules,
    *,
    longest: int = LONGEST,
    sorts: Mapping[str, str] | None = None,
    seed: int = 1,
    most: int = MOST_ASSIGNMENTS,
    given: Scenario | None = None,
    sorts_alone: bool = False,
    known: Mapping[str, int] | None = None,
) -> CasePlan:
    """The distinct cases of the members, the smallest values of each.

    ``given``: the scenario before a remedy; ``sorts_alone``: the remedy changes nothing but the
    order in which loops go through their lists; ``known``: by their texts (``repr``), how much is
    known of values that were run before: of equal ones those of which most is known are taken.
    Raises ValueError where a loop's turns are not alike.
    """
    every = _Enumeration(
        scenario,
        tuple(members),
        domains,
        universe,
        dependence,
        rules,
        longest,
        sorts or {},
        given or scenario,
    )
    known = known or {}
    every.look()
    as_it_is = every.given is scenario
    found: dict[object, Case] = {}
    looked, pruned, sampled = 0, 0, False
    chance = random.Random(seed)
    for assignment, keys, missing in every.assignments():
        if looked >= most:
            sampled = True
            break
        looked += 1
        signature, meets = every.signature(assignment, keys, missing)
        pruned += not meets
        first = found.get(signature)
        if first is None or known.get(repr(assignment), 0) > known.get(repr(first.values), 0):
            found[signature] = Case(
                values=assignment,
                coincide=_coincide(keys),
                missing=tuple(sorted(missing, key=str)),
                meets=meets,
                equal=1 + (first.equal if first is not None else 0),
                another=first.values if first is not None else None,
            )
            continue
        # one of the others, each as likely: the k-th replaces the one at hand with chance 1/k
        take = chance.random() * first.equal < 1
        found[signature] = replace(
            first, equal=first.equal + 1, another=assignment if take else first.another
        )
    cases = [replace(case, form=form if as_it_is else None) for form, case in found.items()]
    if sorts_alone:
        plain = replace(every, scenario=every.given, sorts={})
        plain.look()
        cases = [replace(case, form=plain.form_of(every.in_order(case.values))) for case in cases]
    return CasePlan(
        members=tuple(members),
        cases=tuple(cases),
        assignments=looked,
        pruned=pruned,
        sampled=sampled,
        given=domains.given,
    )


def _coincide(keys: Mapping[Place, object]) -> tuple[tuple[Place, ...], ...]:
    groups: dict[object, list[Place]] = {}
    for place, key in keys.items():
        groups.setdefault(key, []).append(place)
    return tuple(tuple(group) for group in groups.values() if len(group) > 1)
