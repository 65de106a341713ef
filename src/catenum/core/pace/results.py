"""Results of a load as a file and as words, and two of them side by side."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, fields
from typing import Any

from catenum.core.compare.measure import Ratio, Spread
from catenum.core.display import Displayed
from catenum.core.pace.measured import LevelFigures, Step, ratio_of_turns

FORMAT = "catenum-pace/1"


@dataclass(frozen=True, slots=True, kw_only=True)
class PaceResult(Displayed):
    """All steps of a load, and what it was."""

    scenario: str
    target: str
    server: str
    version: str
    default_level: str
    started: str
    levels: tuple[str, ...]
    for_ms: float
    rate: float | None
    think_ms: float
    shares: Mapping[str, float]
    retries: int
    seed: int
    steps: tuple[Step, ...]
    notes: tuple[str, ...]
    stopped: str | None = None

    @property
    def conflicts(self) -> int:
        """Transactions that no retry brought to their end."""
        return sum(sum(one.given_up.values()) for step in self.steps for one in step.levels)


@dataclass(frozen=True, slots=True, kw_only=True)
class Compared:
    """One level at one number of clients, now and before."""

    clients: int
    level: str
    before: Spread
    now: Spread
    ratio: Ratio
    p95_before_ms: float
    p95_ms: float

    @property
    def differs(self) -> bool:
        """Whether the interval of the ratio leaves 1 out."""
        return not self.ratio.low <= 1 <= self.ratio.high


def to_plain(result: PaceResult) -> dict[str, Any]:
    """As ``core.formats.PaceFile``: an interval without an upper bound has null there."""
    return {
        "format": FORMAT,
        **{
            name: value
            for name, value in asdict(result).items()
            if name not in ("steps", "levels", "notes", "shares")
        },
        "levels": list(result.levels),
        "shares": dict(result.shares),
        "notes": list(result.notes),
        "steps": [
            {
                "clients": step.clients,
                "stopped": step.stopped,
                "levels": [_level(one) for one in step.levels],
            }
            for step in result.steps
        ],
    }


def _level(one: LevelFigures) -> dict[str, Any]:
    value = asdict(one)
    for name in ("per_second", "ratio"):
        if value[name] is not None and value[name]["high"] == float("inf"):
            value[name]["high"] = None
    said = {name: getattr(one, name) for name in ("bottleneck", "rough", "unsteady")}
    return {**value, "turns": list(one.turns), **said}


def from_plain(plain: Mapping[str, Any]) -> PaceResult:
    """A result read back from such a value."""
    steps = tuple(
        Step(
            clients=step["clients"],
            stopped=step["stopped"],
            levels=tuple(_figures_of(one) for one in step["levels"]),
        )
        for step in plain["steps"]
    )
    rest = {name: value for name, value in plain.items() if name not in ("format", "steps")}
    rest |= {"levels": tuple(plain["levels"]), "notes": tuple(plain["notes"])}
    return PaceResult(steps=steps, **rest)


def _figures_of(value: Mapping[str, Any]) -> LevelFigures:
    plain = {field.name: value[field.name] for field in fields(LevelFigures) if field.name in value}
    spread, ratio = value["per_second"], value["ratio"]
    return LevelFigures(
        **plain
        | {
            "per_second": Spread(**_bounded(spread)),
            "ratio": Ratio(**_bounded(ratio)) if ratio is not None else None,
            "turns": tuple(value["turns"]),
        }
    )


def _bounded(value: Mapping[str, Any]) -> dict[str, Any]:
    high = value["high"]
    return {**value, "high": float("inf") if high is None else high}


COLUMNS = (
    *("clients", "level", "per_second", "low", "high", "ratio", "ratio_low", "ratio_high"),
    *("committed", "retries_per_commit", "deadlocks", "refused", "given_up"),
    *("p50_ms", "p95_ms", "p99_ms", "lock_waits", "waiting", "server_cpu", "load_cpu"),
)


def to_csv(result: PaceResult) -> str:
    """A line for each number of clients and level, below a heading."""
    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(COLUMNS)
    for step in result.steps:
        for one in step.levels:
            ratio = one.ratio
            row: list[object] = [step.clients, one.level]
            row += [one.per_second.value, one.per_second.low, one.per_second.high]
            row += [ratio.ratio, ratio.low, ratio.high] if ratio is not None else [1, 1, 1]
            row += [one.committed, one.retries_per_commit, one.failures.get("deadlock", 0)]
            row += [one.failures.get("refused", 0), sum(one.given_up.values())]
            row += [one.p50_ms, one.p95_ms, one.p99_ms, one.lock_waits, one.waiting]
            row += [one.server_cpu, one.load_cpu]
            writer.writerow(map(_cell, row))
    return stream.getvalue()


def _cell(value: object) -> object:
    """Empty for what is not known, and for an interval without an upper bound."""
    if value is None or value == float("inf"):
        return ""
    return round(value, 4) if isinstance(value, float) else value


def compared(before: Mapping[str, Any], now: PaceResult) -> Iterator[Compared]:
    """Each level and number of clients that both have. ``before``: of ``core.formats.PaceFile``."""
    known = {
        (step["clients"], one["level"]): one for step in before["steps"] for one in step["levels"]
    }
    for step in now.steps:
        for one in step.levels:
            old = known.get((step.clients, one.level))
            if old is None:
                continue
            spread = old["per_second"]
            high = spread["high"]
            yield Compared(
                clients=step.clients,
                level=one.level,
                before=Spread(
                    value=spread["value"],
                    low=spread["low"],
                    high=float("inf") if high is None else high,
                ),
                now=one.per_second,
                ratio=ratio_of_turns(one.turns, old["turns"], paired=False),
                p95_before_ms=old["p95_ms"],
                p95_ms=one.p95_ms,
            )


def differing_settings(before: Mapping[str, Any], now: PaceResult) -> list[str]:
    """What of the two loads is not the same, apart from the server: a ratio then says less."""
    plain = to_plain(now)
    names = ("scenario", "server", "version", "rate", "think_ms", "shares", "retries")
    return [
        f"{name}: {before.get(name)} before, {plain[name]} now"
        for name in names
        if before.get(name) != plain[name]
    ]
