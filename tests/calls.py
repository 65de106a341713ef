"""Calls of functions of the core, as they are made while stored texts are printed, asked again with
something changed: numbers moved by one or made equal to others, parts dropped, doubled, exchanged.

What is answered is compared as a digest for each function: that it changed, not that it was right.
So bounds are met that no real run happens to meet. Of many, those are asked that go another way
through the function or are answered otherwise; their numbers stand behind the digest. A process of
its own does it (``calls.py PART``), where nothing was worked out and stored before.
"""

from __future__ import annotations

import argparse
import contextlib
import copy
import dataclasses
import enum
import functools
import hashlib
import importlib
import inspect
import itertools
import os
import random
import re
import signal
import subprocess
import sys
import time
from collections import deque
from collections.abc import Callable, Collection, Iterator, Mapping
from pathlib import Path
from types import CodeType, FrameType, FunctionType, MethodType, ModuleType
from typing import Any

import catenum.core

CORE = str(Path(catenum.core.__file__).parent)
#: By name, the stored texts that are printed; their calls are asked again. The last part asks only
#: what no other does.
PARTS = {
    "runs": (
        "play-pile-up.postgresql", "play-retried.postgresql", "play-foreign-key.mariadb", "explore-three-tables.postgresql",
        "explore-berth-swap.mysql", "explore-lock-escalation.derby", "trial-tug-upgrade.mysql", "levels-crane-standby.mariadb",
    ),
    "fixes": (
        "propose-crane-standby.mysql", "propose-berth-swap.postgresql", "sweep-line-by-line.mysql", "derived-fix-tally.postgresql",
        "derived-fix-overlap.postgresql", "derived-fix-gap-register.mysql",
    ),
    "logs": (
        "log-mariadb.status", "log-mysql.error.log", "log-postgresql.port.log", "log-postgresql-ko_KR.port.csv", "damaged-mysql.error.log",
        "dump.postgresql", "dump.mysql",
    ),
    "watching": (
        "night-1.mysql", "night-2.postgresql", "across", "now-chain.mysql", "now-share.postgresql", "statistics", "verdicts", "conditions",
        "broken", "masks", "traces", "words", "relations.mysql",
    ),
    "others": (
        "reports-by-chance", "loads", "expectations", "questions", "functions-by-chance", "play-berth-swap.postgresql",
        "play-tug-upgrade.postgresql", "damaged-mariadb-statements.error.log", "damaged-postgresql-statements.port.json",
        "derived-reads-then-writes.mysql", "derived-fix-one-statement.mariadb", "derived-call-cancel.mariadb", "derived-index-path.mysql",
        "explore-many-rows.postgresql", "explore-batch-order.postgresql", "propose-lock-escalation.derby",
    ),
}  # fmt: skip
#: Of the calls of one function these are kept, by number.
KEPT = {1, 2, 3, 5, 9, 17, 33, 65, 129, 257, 513}
#: So many are asked of each; those are searched that go another way through the function, or are
#: answered otherwise, among so many, for so long at most.
ASKED, SEARCHED, SEARCHED_S = 24, 200, 2.0
#: A call whose arguments have more parts than that is not kept.
MOST_PARTS = 3000
#: What takes too long when it is asked so; and what is called in an order of sets, which is another
#: in each process.
LEFT_OUT = (
    "record.waits:WaitGraph._shortest_cycle", "snapshot.alarms:Alarms._often", "space.dependence:", "space.search:",
)  # fmt: skip
#: So deep is an answer looked at.
DEPTH = 9
SAME = (
    str,
    bytes,
    int,
    float,
    type(None),
    enum.Enum,
    type,
    FunctionType,
    MethodType,
    ModuleType,
    re.Pattern,
)


@dataclasses.dataclass
class Seen:
    """A function, and arguments that it was given."""

    function: Callable[..., Any]
    code: Any
    calls: int = 0
    given: list[dict[str, Any]] = dataclasses.field(default_factory=list)


class TooLarge(Exception):
    """More parts than are kept."""


class Copier:
    """Copies what a call may change; what cannot be changed is shared."""

    def __init__(self) -> None:
        self._known: dict[int, Any] = {}
        self._alive: list[Any] = []

    def of(self, value: Any) -> Any:
        if isinstance(value, SAME) or type(value).__module__.startswith("sqlglot"):
            return value
        if type(value).__name__.endswith(("Rules", "Patterns")):
            return value
        if id(value) in self._known:
            return self._known[id(value)]
        if len(self._known) > MOST_PARTS:
            raise TooLarge
        self._alive.append(value)
        self._known[id(value)] = value
        self._known[id(value)] = made = self._made(value)
        return made

    def _made(self, value: Any) -> Any:
        if isinstance(value, dict):
            made = copy.copy(value)
            self._known[id(value)] = made
            for key, one in value.items():
                made[key] = self.of(one)
            return made
        if isinstance(value, (list, deque)):
            made = type(value)()
            self._known[id(value)] = made
            made.extend(map(self.of, value))
            return made
        if isinstance(value, tuple):
            parts = [self.of(one) for one in value]
            return type(value)(*parts) if hasattr(value, "_fields") else tuple(parts)
        if isinstance(value, (set, frozenset)):
            return copy.copy(value)
        if dataclasses.is_dataclass(value) and type(value).__dataclass_params__.frozen:
            return value
        if not type(value).__module__.startswith("catenum.core"):
            return value
        made = copy.copy(value)
        self._known[id(value)] = made
        for name in _names(value):
            object.__setattr__(made, name, self.of(getattr(value, name)))
        return made


def _names(value: Any) -> list[str]:
    """The attributes that an object has of its own."""
    slots = [
        name
        for kind in type(value).__mro__
        for name in (kind.__dict__.get("__slots__") or ())
        if name not in ("__weakref__", "__dict__") and hasattr(value, name)
    ]
    return [*slots, *getattr(value, "__dict__", ())]


class Harvest:
    """While it is entered, calls of the core's functions are kept."""

    def __init__(self) -> None:
        self.seen: dict[str, Seen] = {}
        self._codes: dict[Any, Seen | None] = {}

    def __enter__(self) -> Harvest:
        sys.settrace(self._called)
        return self

    def __exit__(self, *_: object) -> None:
        sys.settrace(None)

    def _called(self, frame: FrameType, event: str, _: Any) -> None:
        if event != "call":
            return
        code = frame.f_code
        try:
            seen = self._codes[code]
        except KeyError:
            seen = self._codes[code] = self._found(code, frame.f_globals.get("__name__", ""))
        if seen is None:
            return
        seen.calls += 1
        if seen.calls not in KEPT:
            return
        sys.settrace(None)
        try:
            count = (
                code.co_argcount
                + code.co_kwonlyargcount
                + bool(code.co_flags & 4)
                + bool(code.co_flags & 8)
            )
            given = dict(frame.f_locals)
            if len(given) <= count:
                copier = Copier()
                seen.given.append({name: copier.of(one) for name, one in given.items()})
        except TooLarge:
            pass
        finally:
            sys.settrace(self._called)

    def _found(self, code: Any, module: str) -> Seen | None:
        if (
            not code.co_filename.startswith(CORE)
            or "<" in code.co_qualname
            or code.co_name.startswith("__")
        ):
            return None
        found: Any = sys.modules.get(module)
        for part in code.co_qualname.split("."):
            found = found.__dict__.get(part) if found is not None else None
        function = _plain(found)
        if function is None or function.__code__ is not code:
            return None
        name = f"{module.removeprefix('catenum.core.')}:{code.co_qualname}"
        self.seen[name] = seen = Seen(function, code)
        return seen


def _plain(found: Any) -> Any:
    """The function behind a property, a method of a class, or a store of answers."""
    for _ in range(4):
        if isinstance(found, FunctionType) and not hasattr(found, "__wrapped__"):
            return found
        found = (
            getattr(found, "__wrapped__", None)
            or getattr(found, "__func__", None)
            or getattr(found, "fget", None)
            or getattr(found, "func", None)
        )
    return None


# -- something changed -------------------------------------------------------------------------------------------------


class Change:
    """Changes one part of the arguments of a call."""

    def __init__(self, calls: list[dict[str, Any]], known: list[Any]) -> None:
        self.chance = random.Random()
        self.calls = calls
        #: What the function compares with, by its type.
        self.known: dict[type, list[Any]] = {}
        for one in known:
            self.known.setdefault(type(one), []).append(one)
        self._near: dict[type, list[Any]] = {}

    def of(self, given: dict[str, Any]) -> dict[str, Any]:
        names = [name for name in given if name != "cls"]
        if not names:
            return given
        name = self.chance.choice(names)
        others = [call[name] for call in self.calls if name in call and call is not given]
        if others and name != "self" and self.chance.random() < 0.25:
            return {**given, name: self.chance.choice(others)}
        self._near = {}
        for one in given.values():
            _gather(one, self._near, 4)
        return {**given, name: self.value(given[name], others)}

    def value(self, value: Any, others: list[Any]) -> Any:
        """The same with one part changed; ``others`` are what stood there in other calls."""
        chance = self.chance
        if isinstance(value, bool):
            return not value
        if isinstance(value, type):
            return value
        if isinstance(value, enum.Enum):
            return chance.choice(list(type(value)))
        if value is None:
            filled = [one for one in others if one is not None]
            return chance.choice(filled) if filled else None
        if chance.random() < 0.08:
            return None
        if isinstance(value, (str, int, float)):
            return self._plain(
                value, [one for one in others if type(one) is type(value) and one != value]
            )
        if isinstance(value, (tuple, list, deque)) and not hasattr(value, "_fields"):
            return self._sequence(value, others)
        if isinstance(value, (set, frozenset)):
            kept = sorted(value, key=shown)
            if kept and chance.random() < 0.7:
                del kept[chance.randrange(len(kept))]
            more = sorted(
                {one for other in others if isinstance(other, (set, frozenset)) for one in other},
                key=shown,
            )
            return type(value)([*kept, *([chance.choice(more)] if more else [])])
        if isinstance(value, dict):
            return self._mapping(value, others)
        return self._object(value, others) if _is_open(value) else value

    def _plain(self, value: Any, others: list[Any]) -> Any:
        """One that stood there in another call, one that stands near it, or one beside it."""
        chance = self.chance
        near = [one for one in self._near.get(type(value), ()) if one != value]
        known = [one for one in self.known.get(type(value), ()) if one != value]
        drawn = chance.random()
        if known and chance.random() < 0.3:
            return chance.choice(known)
        if near and drawn < 0.4:
            return chance.choice(near)
        if others and drawn < 0.7:
            return chance.choice(others)
        if isinstance(value, str):
            return self._text(value)
        return chance.choice((value + 1, value - 1, 0))

    def _text(self, text: str) -> str:
        words = re.findall(r"\w+|\W", text)
        if not words or self.chance.random() < 0.2:
            return ""
        at = self.chance.randrange(len(words))
        near = [*self._near.get(str, ()), *self.known.get(str, ()), ""]
        words[at : at + 1] = self.chance.choice(
            ([], [words[at]] * 2, ["7"], [words[at].upper()], [self.chance.choice(near)])
        )
        return "".join(words)

    def _sequence(self, value: Any, others: list[Any]) -> Any:
        chance, parts = self.chance, list(value)
        more = [one for other in others if isinstance(other, (tuple, list, deque)) for one in other]
        drawn = chance.random()
        if parts and drawn < 0.55:
            at = chance.randrange(len(parts))
            parts[at] = self.value(
                parts[at], [one for one in (*parts, *more) if type(one) is type(parts[at])]
            )
        elif parts and drawn < 0.65:
            del parts[chance.randrange(len(parts))]
        elif parts and drawn < 0.72:
            parts.append(chance.choice(parts))
        elif len(parts) > 1 and drawn < 0.84:
            first, second = chance.sample(range(len(parts)), 2)
            parts[first], parts[second] = parts[second], parts[first]
        elif drawn < 0.9:
            lengths = [one for one in self.known.get(int, ()) if 2 < one < 40]
            length = chance.choice((0, 0, 1, 2, *lengths))
            parts = (parts * (length // len(parts) + 1))[:length] if parts else parts
        elif more:
            parts.insert(chance.randrange(len(parts) + 1), chance.choice(more))
        return type(value)(parts)

    def _mapping(self, value: dict[Any, Any], others: list[Any]) -> Any:
        made = copy.copy(value)
        if not made:
            filled = [one for one in others if one]
            return self.chance.choice(filled) if filled else made
        key = self.chance.choice(list(made))
        if self.chance.random() < 0.3:
            del made[key]
        else:
            made[key] = self.value(
                made[key], [one for one in made.values() if type(one) is type(made[key])]
            )
        return made

    def _object(self, value: Any, others: list[Any]) -> Any:
        names = _names(value)
        if not names:
            return value
        name = self.chance.choice(names)
        alike = [
            getattr(one, name) for one in others if type(one) is type(value) and hasattr(one, name)
        ]
        part = self.value(getattr(value, name), alike)
        made = copy.copy(value)
        for cached in _cached(type(value)):
            getattr(made, "__dict__", {}).pop(cached, None)
        object.__setattr__(made, name, part)
        return made


def _is_open(value: Any) -> bool:
    """Whether it is an object of the core with attributes to be changed; rules stay as they are."""
    kind = type(value)
    ours = kind.__module__.startswith("catenum.core") and not isinstance(value, type)
    return ours and not kind.__name__.endswith(("Rules", "Patterns"))


def _gather(value: Any, found: dict[type, list[Any]], depth: int) -> None:
    """Plain values in it, by their type."""
    if isinstance(value, (str, int, float)) and not isinstance(value, enum.Enum):
        if len(found.setdefault(type(value), [])) < 40 and value not in found[type(value)]:
            found[type(value)].append(value)
    elif depth and isinstance(value, (tuple, list)):
        for one in value[:12]:
            _gather(one, found, depth - 1)
    elif depth and isinstance(value, dict):
        for key, one in itertools.islice(value.items(), 12):
            _gather(key, found, depth - 1)
            _gather(one, found, depth - 1)
    elif depth and _is_open(value):
        for name in _names(value):
            _gather(getattr(value, name), found, depth - 1)


@functools.cache
def _cached(kind: type) -> tuple[str, ...]:
    """What an object of the kind works out once."""
    return tuple(
        name
        for one in kind.__mro__
        for name, made in vars(one).items()
        if isinstance(made, functools.cached_property)
    )


def constants(function: Any) -> list[Any]:
    """Texts and numbers that a function names, itself or by a name of its module, and the numbers
    beside them.
    """
    found: dict[tuple[type, Any], Any] = {}

    def take(value: Any, depth: int) -> None:
        if isinstance(value, CodeType):
            for one in value.co_consts[value.co_consts[:1] == (function.__doc__,) :]:
                take(one, depth)
            for name in value.co_names:
                take(function.__globals__.get(name), depth)
        elif isinstance(value, bool):
            pass
        elif isinstance(value, int):
            found.update({(int, one): one for one in (value, value + 1, value - 1)})
        elif isinstance(value, float) or (isinstance(value, str) and 0 < len(value) < 40):
            found[type(value), value] = value
        elif depth and isinstance(value, (tuple, frozenset, set, list, dict)):
            for one in sorted(value, key=shown)[:20]:
                take(one, depth - 1)

    take(function.__code__, 2)
    return list(found.values())


# -- what is answered --------------------------------------------------------------------------------------------------


def shown(value: Any, depth: int = DEPTH) -> str:
    """A value as text that is the same in every process."""
    if value is None or isinstance(value, (str, bytes, int)):
        return "an identity" if isinstance(value, int) and value > 1 << 45 else repr(value)
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, enum.Enum):
        return value.name
    if not depth:
        return type(value).__name__
    if isinstance(value, Mapping):
        return (
            "{"
            + ", ".join(f"{shown(k, depth - 1)}: {shown(v, depth - 1)}" for k, v in value.items())
            + "}"
        )
    if isinstance(value, (set, frozenset)):
        return "{" + ", ".join(sorted(shown(one, depth - 1) for one in value)) + "}"
    if isinstance(value, (tuple, list, deque)):
        return "(" + ", ".join(shown(one, depth - 1) for one in value) + ")"
    if type(value).__module__.startswith("sqlglot"):
        return str(value)
    if type(value).__name__.endswith(("Rules", "Patterns")):
        return str(getattr(value, "name", type(value).__name__))
    if type(value).__module__.startswith("catenum.core"):
        parts = (f"{name}={shown(getattr(value, name), depth - 1)}" for name in _names(value))
        return f"{type(value).__name__}({', '.join(parts)})"
    return (
        type(value).__name__
        if "object at 0x" in repr(value) or " 0x" in repr(value)
        else repr(value)
    )


def answered(seen: Seen, given: dict[str, Any]) -> str:
    """What the function answers; and what it made of its arguments where it answers nothing."""
    words = Copier()
    code = seen.code
    mine = {name: words.of(one) for name, one in given.items()}
    plain = code.co_varnames[: code.co_argcount]
    rest = code.co_varnames[
        : code.co_argcount
        + code.co_kwonlyargcount
        + bool(code.co_flags & 4)
        + bool(code.co_flags & 8)
    ]
    named = rest[code.co_argcount : code.co_argcount + code.co_kwonlyargcount]
    more = rest[code.co_argcount + code.co_kwonlyargcount :]
    starred = mine[more[0]] if code.co_flags & 4 else ()
    double = mine[more[-1]] if code.co_flags & 8 else {}
    try:
        found = seen.function(
            *(mine[one] for one in plain), *starred, **{one: mine[one] for one in named}, **double
        )
        if inspect.isgenerator(found):
            found = list(itertools.islice(found, 200))
        if found is None:
            return "nothing; " + shown(mine)
        return shown(found)
    except Exception as error:
        return _error(error)


def _error(error: Exception) -> str:
    """Which error it is, and what it says, where it is ours and can say it of such arguments."""
    name = type(error).__name__
    try:
        return f"{name}: {error}" if type(error).__module__.startswith("catenum") else name
    except Exception:
        return name


class Asking:
    """Calls of one function, by number: the first are those that were kept, the others are made
    from them, each by itself.
    """

    def __init__(self, name: str, seen: Seen) -> None:
        self._name = name
        self._seen = seen
        self._change = Change(seen.given, constants(seen.function))

    def answer(self, number: int) -> str:
        self._change.chance = chance = random.Random(f"{self._name} {number}")
        given = self._seen.given[number % len(self._seen.given)]
        for _ in range(0 if number < len(self._seen.given) else chance.choice((1, 1, 2, 3))):
            given = self._change.of(given)
        return answered(self._seen, given)

    def searched(self) -> list[int]:
        """The numbers of calls that differ: by the lines that follow each other, then by the
        answer.
        """
        steps: set[tuple[Any, ...]] = set()
        answers: set[str] = set()
        ways: list[int] = []
        others: list[int] = []
        until = time.process_time() + SEARCHED_S
        for number in range(SEARCHED):
            if time.process_time() > until:
                break
            try:
                with limited(SEARCHED_S / 4), Steps(self._seen.code) as walked:
                    answer = self.answer(number)
            except TooLong:
                continue
            if not walked.found <= steps:
                ways.append(number)
            elif answer not in answers:
                others.append(number)
            steps |= walked.found
            answers.add(answer)
        return sorted([*ways, *others][: max(ASKED, min(len(ways), 2 * ASKED))])


class TooLong(BaseException):
    """An answer does not come."""


@contextlib.contextmanager
def limited(seconds: float) -> Iterator[None]:
    """Whatever takes longer than so many seconds of work ends with TooLong."""

    def stop(*_: object) -> None:
        raise TooLong

    signal.signal(signal.SIGPROF, stop)
    signal.setitimer(signal.ITIMER_PROF, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)


class Steps:
    """While it is entered, which line of a function follows which."""

    def __init__(self, code: CodeType) -> None:
        self._codes = {code}
        for one in code.co_consts:
            if isinstance(one, CodeType):
                self._codes |= Steps(one)._codes
        self._last: dict[CodeType, int] = {}
        self.found: set[tuple[Any, ...]] = set()

    def __enter__(self) -> Steps:
        sys.settrace(self._called)
        return self

    def __exit__(self, *_: object) -> None:
        sys.settrace(None)

    def _called(self, frame: FrameType, event: str, _: Any) -> Any:
        return self._went if frame.f_code in self._codes else None

    def _went(self, frame: FrameType, event: str, _: Any) -> Any:
        code, line = frame.f_code, frame.f_lineno
        self.found.add((event, code, self._last.get(code), line))
        self._last[code] = line
        return self._went


def lines(
    harvest: Harvest,
    asked: Mapping[str, list[int]],
    *,
    elsewhere: Collection[str] = (),
    search: bool = False,
) -> Iterator[str]:
    """For each function the numbers of its calls, and a digest of what it answers; those that are
    asked ``elsewhere`` are not asked here.
    """
    for name, seen in sorted(harvest.seen.items()):
        if not seen.given or name in elsewhere or name.startswith(LEFT_OUT):
            continue
        asking = Asking(name, seen)
        numbers = asked.get(name) or (asking.searched() if search else list(range(ASKED)))
        digest = hashlib.sha256()
        for number in numbers:
            digest.update(asking.answer(number).encode())
        yield f"{name}: {digest.hexdigest()[:12]} {','.join(map(str, numbers))}\n"


def said(part: str) -> Path:
    """The file of a part."""
    return Path(__file__).parent / "corpus" / "said" / f"calls-{part}.txt"


def asked_of(part: str) -> dict[str, list[int]]:
    """The functions that its file names, each with the numbers of its calls."""
    found = {}
    for line in said(part).read_text().splitlines() if said(part).exists() else ():
        name, _, rest = line.partition(": ")
        _, _, numbers = rest.partition(" ")
        found[name] = [int(one) for one in numbers.split(",")] if numbers else []
    return found


def of_part(part: str) -> str:
    """The lines of a part, from a process of its own."""
    words = [sys.executable, __file__, part]
    environment = {**os.environ, "PYTHONHASHSEED": "0"}
    done = subprocess.run(words, env=environment, capture_output=True, text=True, check=False)
    assert not done.returncode, done.stderr
    return done.stdout


def main() -> None:
    reads = argparse.ArgumentParser(description=__doc__)
    reads.add_argument("part", choices=PARTS)
    reads.add_argument(
        "--search", action="store_true", help="for functions that are not in the file"
    )
    asked = reads.parse_args()
    made = {path.stem: make for path, make in importlib.import_module("corpus").everything()}
    with Harvest() as harvest:
        for stem in PARTS[asked.part]:
            made[stem]()
    last = asked.part == [*PARTS][-1]
    elsewhere = {name for part in PARTS if last and part != asked.part for name in asked_of(part)}
    known = asked_of(asked.part)
    sys.stdout.writelines(lines(harvest, known, elsewhere=elsewhere, search=asked.search))


if __name__ == "__main__":
    main()
