"""What a real server answered once, played back: a stand-in for it in tests that need no server.

A tape has every call of an engine's ports, and of a monitor's, in its order: who was asked what,
and the answer as it was. Played back, the same calls must come in the same order; another call is
an error of the test, so that a search that takes another turn is noticed. Time is taped, too.
``make corpus`` takes the tapes anew from real servers.
"""

from __future__ import annotations

import contextlib
import dataclasses
import functools
import importlib
import json
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from datetime import date, datetime, timedelta
from decimal import Decimal
from enum import Enum
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from catenum.engines import clock, targets
from catenum.engines.ports import DataError, NeedsReload

#: What is a value of an engine, a session or a monitor; everything else is asked.
VALUES = ("info", "capabilities", "sandboxed", "id", "name", "rules", "target")
#: Arguments that are moments of a clock.
OF_TIME = {"poll_waits": 1}
TEXTS = {Decimal: str, datetime: datetime.isoformat, date: date.isoformat}
READ = {"Decimal": Decimal, "datetime": datetime.fromisoformat, "date": date.fromisoformat}


def to_plain(value: Any) -> Any:
    """A value as JSON has it, with its type where JSON has none of that kind."""
    if value is None or isinstance(value, (bool, int, float, str)):
        return value
    if isinstance(value, Taped):
        return {"taped": value._who}
    if isinstance(value, Enum):
        return {"enum": _named(type(value)), "value": value.value}
    if dataclasses.is_dataclass(value):
        fields = {
            f.name: to_plain(getattr(value, f.name)) for f in dataclasses.fields(value) if f.init
        }
        return {"data": _named(type(value)), **fields}
    if isinstance(value, Mapping):
        return {"map": [[to_plain(key), to_plain(one)] for key, one in value.items()]}
    if isinstance(value, (set, frozenset)):
        return {type(value).__name__: sorted(map(to_plain, value), key=repr)}
    if isinstance(value, (list, tuple)):
        plain = [to_plain(one) for one in value]
        return plain if isinstance(value, list) else {"tuple": plain}
    if isinstance(value, timedelta):
        return {"seconds": value.total_seconds()}
    if isinstance(value, (bytes, bytearray, memoryview)):
        return {"bytes": bytes(value).hex()}
    for kind, text in TEXTS.items():
        if isinstance(value, kind):
            return {kind.__name__: text(value)}
    return {"other": repr(type(value))}


def _in_order(plain: Any) -> Any:
    """Mappings by their keys: what was asked for does not depend on the order in which a set was
    gone through.
    """
    if isinstance(plain, dict):
        found = {key: _in_order(one) for key, one in plain.items()}
        return {**found, "map": sorted(found["map"], key=repr)} if "map" in found else found
    return [_in_order(one) for one in plain] if isinstance(plain, list) else plain


def _named(kind: type) -> str:
    return f"{kind.__module__}:{kind.__qualname__}"


@functools.cache
def _kind(named: str) -> type:
    module, _, name = named.partition(":")
    found: type = getattr(importlib.import_module(module), name)
    return found


def from_plain(plain: Any, taped: Callable[[str], Any]) -> Any:
    """The value again; ``taped`` gives what stands for a session."""
    if isinstance(plain, list):
        return [from_plain(one, taped) for one in plain]
    if not isinstance(plain, dict):
        return plain
    (tag, value), *more = plain.items()
    if tag in ("data", "enum"):
        kind = _kind(value)
        if tag == "enum":
            return kind(plain["value"])
        return kind(**{field: from_plain(one, taped) for field, one in more})
    if tag == "taped":
        return taped(value)
    if tag == "map":
        return {from_plain(key, taped): from_plain(one, taped) for key, one in value}
    if tag in READ:
        return READ[tag](value)
    if tag == "bytes":
        return bytes.fromhex(value)
    if tag == "seconds":
        return timedelta(seconds=value)
    return {"tuple": tuple, "set": set, "frozenset": frozenset}[tag](from_plain(value, taped))


class Tape:
    """Calls with their answers: those that are made (``calls`` None), or those that were."""

    def __init__(self, path: Path | None = None) -> None:
        self.answers: dict[str, int] = {}
        self.calls: list[list[Any]] = []
        self.times: dict[str, list[Any]] = {"seconds": [], "moment": []}
        self.plays = path is not None
        self.numbers: dict[str, int] = {}
        self._known: dict[str, Taped] = {}
        self._fixed: dict[int, Any] = {}
        self._side = 0  # in what is asked, whose time is not the program's
        if path is not None:
            stored = json.loads(path.read_text())
            self.left = deque(stored["calls"])
            self.texts, self.numbers = stored["answers"], stored["numbers"]
            self.clock = {name: deque(found) for name, found in stored["times"].items()}

    def write(self, path: Path) -> None:
        answers = [json.loads(text) for text in self.answers]
        lines = [
            '{"answers": [\n' + ",\n".join(map(json.dumps, answers)) + "\n],",
            '"calls": [\n' + ",\n".join(map(json.dumps, self.calls)) + "\n],",
            '"numbers": ' + json.dumps(self.numbers) + ",",
            '"times": ' + json.dumps(self.times) + "}",
        ]
        path.write_text("\n".join(lines) + "\n")

    def stands_for(self, who: str, real: Any = None) -> Taped:
        """The stand-in called ``who``; there is one of each."""
        if who not in self._known:
            self._known[who] = Taped(self, who, real)
        return self._known[who]

    def ask(self, who: str, name: str, words: tuple[Any, ...], do: Callable[[], Any]) -> Any:
        """One call: made and stored, or given as it was."""
        asked = [
            who,
            name,
            [_in_order(to_plain(one)) for at, one in enumerate(words) if OF_TIME.get(name) != at],
        ]
        if self.plays:
            assert self.left, f"nothing more was asked: {str(asked)[:300]}"
            *was, answer = self.left.popleft()
            assert asked == was, (
                f"the server was asked {str(was)[:300]}, and is asked {str(asked)[:300]}"
            )
            return self._again(answer)
        try:
            with self.aside():
                plain = self._plain(do(), f"{who}.{len(self.calls)}")
        except (DataError, NeedsReload) as error:
            plain = {
                "raises": type(error).__name__,
                "with": [to_plain(one) for one in vars(error).values()],
            }
        text = json.dumps(plain)
        self.calls.append([*asked, self.answers.setdefault(text, len(self.answers))])
        return self._given(json.loads(text))

    def _plain(self, answer: Any, who: str) -> Any:
        """Sessions, and what is to be called later, get stand-ins."""
        if callable(answer) and not isinstance(answer, type):
            self.stands_for(who, SimpleNamespace(now=answer))
            return {"later": who}
        if hasattr(answer, "fileno") and hasattr(answer, "poll"):
            return {"taped": self.stands_for(f"session {answer.name} {who}", answer)._who}
        if isinstance(answer, Mapping):
            return {
                "map": [
                    [to_plain(key), self._plain(one, f"{who} {key}")] for key, one in answer.items()
                ]
            }
        return to_plain(answer)

    def _again(self, answer: int) -> Any:
        """An answer of the tape: one value each time, where nobody could change it."""
        if answer not in self._fixed:
            value = self._given(self.texts[answer])
            try:
                hash(value)
            except TypeError:
                return value
            self._fixed[answer] = value
        return self._fixed[answer]

    def _given(self, plain: Any) -> Any:
        if isinstance(plain, dict) and "later" in plain:
            return self.stands_for(plain["later"]).now
        if isinstance(plain, dict) and "raises" in plain:
            words = [from_plain(one, self.stands_for) for one in plain["with"]]
            raise {"DataError": DataError, "NeedsReload": NeedsReload}[plain["raises"]](*words)
        return from_plain(plain, self.stands_for)

    def number_of(self, session: Taped) -> int:
        """A session's file number: of the real one, or as it was."""
        if not self.plays:
            self.numbers[session._who] = session._real.fileno()
        return self.numbers[session._who]

    # -- time ------------------------------------------------------------------------------------------------------

    def time(self, name: str, real: Callable[[], Any]) -> Any:
        if self.plays:
            left = self.clock[name]
            return left.popleft() if len(left) > 1 else left[0]
        found = real()
        if not self._side:
            self.times[name].append(found)
        return found

    @contextlib.contextmanager
    def aside(self) -> Iterator[None]:
        self._side += 1
        try:
            yield
        finally:
            self._side -= 1

    def source(self) -> clock.Source:
        real = clock._SYSTEM
        return clock.Source(
            lambda: self.time("seconds", lambda: round(real.seconds(), 5)),
            lambda: datetime.fromisoformat(self.time("moment", lambda: real.moment().isoformat())),
            lambda seconds: None if self.plays else real.sleep(seconds),
        )

    def select(
        self, reads: list[int], _: object, __: object, seconds: float
    ) -> tuple[list[int], list[int], list[int]]:
        """Which sessions have an answer: taped like any other call."""
        import select

        def ready() -> list[int]:
            return sorted(select.select(reads, [], [], seconds)[0])

        return self.ask("select", "ready", (sorted(reads),), ready), [], []


class Taped:
    """Stands for an engine, a session or a monitor."""

    def __init__(self, tape: Tape, who: str, real: Any) -> None:
        self._tape, self._who, self._real = tape, who, real

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):
            raise AttributeError(name)
        if name == "fileno":  # asked for in any order
            return lambda: self._tape.number_of(self)
        if name in VALUES:
            return self._tape.ask(self._who, name, (), lambda: getattr(self._real, name))

        def ask(*words: Any, **more: Any) -> Any:
            def do() -> Any:
                return getattr(self._real, name)(
                    *map(_real, words), **{key: _real(one) for key, one in more.items()}
                )

            return self._tape.ask(self._who, name, (*words, *([more] if more else [])), do)

        return ask


def _real(value: Any) -> Any:
    """What a stand-in stands for, also within what is handed over."""
    if isinstance(value, Taped):
        return value._real
    if isinstance(value, Mapping):
        return {key: _real(one) for key, one in value.items()}
    if isinstance(value, (list, tuple)):
        return type(value)(map(_real, value))
    return value


@contextlib.contextmanager
def taped(tape: Tape, monkeypatch: Any) -> Iterator[None]:
    """Within the block every command meets the tape where it would meet a server."""
    real_open, real_connect, made = targets.open_engine, targets.Connector.__call__, []

    def connect(connector: targets.Connector) -> Any:
        made.append(connector)
        with tape.aside():
            return tape.stands_for(
                f"engine {len(made)}", None if tape.plays else real_connect(connector)
            )

    @contextlib.contextmanager
    def open_engine(
        target: targets.Target, tell: Callable[[str], None], **how: Any
    ) -> Iterator[Any]:
        if tape.plays:
            sandboxed = how.get("sandboxed", True)
            yield targets.Connector(
                target.server, "", target.shown, private=True, sandboxed=sandboxed
            )
            return
        with contextlib.ExitStack() as stack:
            with tape.aside():
                found = stack.enter_context(real_open(target, tell, **how))
            yield found

    monkeypatch.setattr("catenum.engines.targets.Connector.__call__", connect)
    monkeypatch.setattr("catenum.api.servers.open_engine", open_engine)
    monkeypatch.setattr("catenum.lab.run.driver.select", SimpleNamespace(select=tape.select))
    with clock.replaced_by(tape.source()):
        yield


@contextlib.contextmanager
def watched(tape: Tape, monkeypatch: Any) -> Iterator[None]:
    """Within the block ``now`` and ``watch`` meet the tape where they would meet a monitor."""
    from catenum.api import now

    real_connect, made = now.connect_monitor, []

    def connect(target: targets.Target) -> Any:
        made.append(target)
        with tape.aside():
            return tape.stands_for(
                f"monitor {len(made)}", None if tape.plays else real_connect(target)
            )

    monkeypatch.setattr("catenum.api.now.connect_monitor", connect)
    with clock.replaced_by(tape.source()):
        yield
