"""A case in words: what its transactions have in common, and in which order."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from itertools import combinations

from catenum.core.sweep.cases import Assignment, Case, Member, Place
from catenum.core.sweep.domains import ColumnKey, Domains
from catenum.core.text import listed

_NUMBERS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine")


def words_of(
    case: Case,
    members: Sequence[Member],
    domains: Domains,
    absent: Collection[ColumnKey] = (),
    beside: Mapping[ColumnKey, Mapping[str, str]] | None = None,
) -> str:
    """What coincides, in a line: ``same depot; two items in common, in opposite order``.
    ``absent``: domains of which no value is ever there; ``beside``: of a crossed domain, by key the
    value in its column.
    """
    parts: list[str] = []
    by_domain: dict[ColumnKey, list[tuple[str, str, object]]] = {}
    for member in members:
        for slot in domains.of(member.like):
            value = case.values.get(member.name, {}).get(slot.name)
            if slot.name in case.values.get(member.name, {}):
                by_domain.setdefault(slot.domain, []).append((member.name, slot.name, value))
    for uses in by_domain.values():
        parts += _of_domain(uses)
    for domain, crossing in domains.crossed.items():
        of_keys = (beside or {}).get(domain, {})
        parts += _crossed(by_domain.get(domain, ()), by_domain.get(crossing.by, ()), of_keys)
    usual = {slot.domain for slot in domains.slots if slot.domain in absent}
    rare = [place for place in case.missing if _domain_of(place, members, domains) not in usual]
    if rare:
        parts.append(f"{listed([str(place) for place in rare])} not there")
    return "; ".join(dict.fromkeys(parts)) or "nothing to choose"


def _crossed(
    uses: Sequence[tuple[str, str, object]],
    keys: Sequence[tuple[str, str, object]],
    of_keys: Mapping[str, str],
) -> Iterator[str]:
    """Which values are those of a row that another names by its key."""
    for member, name, value in uses:
        found: dict[str, list[str]] = {}
        for other, key_name, key in keys:
            single = not isinstance(value, tuple) and not isinstance(key, tuple)
            if single and of_keys.get(str(key)) == str(value):
                found.setdefault(key_name, []).append(other)
        for key_name, others in found.items():
            yield f"{name} of {member} is that of the {key_name} of {listed(others)}"


def _domain_of(place: Place, members: Sequence[Member], domains: Domains) -> ColumnKey | None:
    like = next((member.like for member in members if member.name == place.member), "")
    return next((slot.domain for slot in domains.of(like) if slot.name == place.name), None)


def _of_domain(uses: Sequence[tuple[str, str, object]]) -> Iterator[str]:
    single = [(member, name, value) for member, name, value in uses if not isinstance(value, tuple)]
    lists = [(member, name, value) for member, name, value in uses if isinstance(value, tuple)]
    if len(single) > 1:
        yield from _single(single)
    for (one, name, mine), (other, their_name, theirs) in combinations(lists, 2):
        if isinstance(mine, tuple) and isinstance(theirs, tuple):
            whose = f"{one} and {other}: " if len(lists) > 2 else ""
            called = name if name == their_name else f"{name} and {their_name}"
            yield whose + lists_compared(called, mine, theirs)
    for member, name, value in lists:
        if isinstance(value, tuple) and len(set(value)) < len(value):
            yield f"{member} has one of its {name} twice"
        for other, their_name, single_value in single:
            if isinstance(value, tuple) and single_value in value:
                yield f"{their_name} of {other} is among the {name} of {member}"


def _single(uses: Sequence[tuple[str, str, object]]) -> Iterator[str]:
    names = list(dict.fromkeys(name for _, name, _ in uses))
    groups: dict[object, list[tuple[str, str]]] = {}
    for member, name, value in uses:
        groups.setdefault(repr(value), []).append((member, name))
    plain = names[0] if len(names) == 1 else None
    if plain is not None and len(groups) == 1:
        yield f"same {plain}"
    elif plain is not None and len(groups) == len(uses):
        yield f"different {plain}"
    else:
        same = [
            " = ".join(f"{member}.{name}" for member, name in group)
            for group in groups.values()
            if len(group) > 1
        ]
        yield ", ".join(same) if same else f"{listed(names)} all different"


def lists_compared(name: str, mine: Sequence[object], theirs: Sequence[object]) -> str:
    """How two lists coincide."""
    ours = list(dict.fromkeys(one for one in mine if one in theirs))
    if not mine or not theirs:
        return f"no {name} at all" if not mine and not theirs else f"no {name} on one side"
    if not ours:
        return f"no {name} in common"
    others = list(dict.fromkeys(one for one in theirs if one in mine))
    count = _NUMBERS[len(ours)] if len(ours) < len(_NUMBERS) else str(len(ours))
    whole = len(ours) == len(set(mine)) == len(set(theirs))
    what = (
        f"the same {count} {name}"
        if whole and len(ours) > 1
        else f"{count} of the {name} in common"
    )
    if len(ours) < 2:
        return what
    if ours == others:
        return f"{what}, in the same order"
    if ours == others[::-1]:
        return f"{what}, in opposite order"
    return f"{what}, in another order"


def values_line(values: Assignment) -> str:
    """The values of a case in one line."""
    parts = []
    for member, given in values.items():
        shown = ", ".join(
            f"{name} {' '.join(map(str, value)) if isinstance(value, tuple) else value}"
            for name, value in given.items()
        )
        parts.append(f"{member}: {shown}" if shown else member)
    return "; ".join(parts)
