"""Results as they were saved: recordings, explorations, trials, proposals, loops, loads, a watch's
store; each read back by what stands in it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from catenum.api.churn import RESULT as CHURN_RESULT
from catenum.api.explore import RESULT, STATE
from catenum.api.files import read_file
from catenum.core import formats
from catenum.core.compare.trial import Trial
from catenum.core.compare.trial_file import trial_of
from catenum.core.errors import InputError, Place
from catenum.core.logs.conflict_recording import recording_of
from catenum.core.pace.results import PaceResult
from catenum.core.pace.results import from_plain as pace_of
from catenum.core.record.recording import Recording
from catenum.core.record.recording_file import from_json
from catenum.core.space.exploration import Exploration, letter_of
from catenum.core.space.exploration_file import from_json as exploration_from_json
from catenum.store.places import StorePlace

_FORMAT = re.compile(rb'"format"\s*:\s*"(catenum-[a-z-]+/\d+)"')
_SQLITE = b"SQLite format 3\0"


@dataclass(frozen=True)
class SavedExploration:
    """An exploration with the recordings of its outcomes, by their letters."""

    exploration: Exploration
    recordings: dict[str, Recording] = field(default_factory=dict)


@dataclass(frozen=True)
class SavedChurn:
    """The figures of loops (``catenum-churn/1``), with the recordings of their cycles."""

    value: dict[str, Any]
    recordings: tuple[Recording, ...] = ()


@dataclass(frozen=True)
class SavedValue:
    """A result of which only its value was saved: ``proposal``, ``contest``, ``orders``."""

    name: str
    value: dict[str, Any]


@dataclass(frozen=True)
class SavedStore:
    """A watch's store."""

    place: StorePlace


Saved = Recording | SavedExploration | Trial | SavedChurn | PaceResult | SavedValue | SavedStore


def read(source: str | Path) -> Recording | Exploration | Trial | PaceResult | dict[str, Any]:
    """A result that a command saved: a recording, an exploration, a trial, a load; of others their
    value. Raises InputError.
    """
    saved = read_saved(Path(source))
    if isinstance(saved, SavedExploration):
        return saved.exploration
    if isinstance(saved, SavedChurn | SavedValue):
        return saved.value
    if isinstance(saved, SavedStore):
        raise InputError("this is a watch's store", advice="'catenum history' reads it.")
    return saved


def read_saved(path: Path, *, pick: int | None = None) -> Saved:
    """What a file or a folder holds, with all that belongs to it. A server's log is the picked
    conflict of it. Raises InputError.
    """
    if path.is_dir():
        return _folder(path)
    data = read_file(path)
    if data.startswith(_SQLITE):
        return SavedStore(path)
    head = data[:4_000]
    if not head.strip() or b'"catenum-' in head or _is_json(path, head):
        return _value(data, path)
    return _of_log(path, pick)


def saved_below(path: Path, *, pick: int | None = None) -> list[tuple[str, Saved]]:
    """The same; of a folder of several results (one for each level, or one for each failure) all of
    them, each by its path.
    """
    if not path.is_dir() or any((path / name).exists() for name in (RESULT, CHURN_RESULT, STATE)):
        return [(str(path), read_saved(path, pick=pick))]
    inner = [one for one in sorted(path.iterdir()) if _may_be_result(one)]
    if not inner:
        return [(str(path), _folder(path))]  # which says what it should have
    return [found for one in inner for found in saved_below(one)]


def _may_be_result(path: Path) -> bool:
    if path.is_dir():
        return (path / RESULT).exists() or (path / CHURN_RESULT).exists()
    return path.suffix == ".json" and _FORMAT.search(read_file(path)[:4_000]) is not None


def _is_json(path: Path, head: bytes) -> bool:
    return path.suffix == ".json" and b"error_severity" not in head


def _folder(path: Path) -> Saved:
    if (path / RESULT).exists():
        return _exploration(path / RESULT)
    if (path / CHURN_RESULT).exists():
        saved = _value(read_file(path / CHURN_RESULT), path / CHURN_RESULT)
        found = sorted(path.glob("*-cycle-*.json"))
        recordings = tuple(from_json(read_file(one), str(one)) for one in found)
        assert isinstance(saved, SavedChurn)
        return SavedChurn(saved.value, recordings)
    if (path / STATE).exists():
        raise InputError(
            "this exploration was broken off before it had a result",
            place=Place(str(path)),
            advice=f"catenum explore SCENARIO --resume {path} goes on.",
        )
    raise InputError(
        f"has neither {RESULT} nor {CHURN_RESULT}",
        place=Place(str(path)),
        advice="'explore --save FOLDER' and 'churn --save FOLDER' write such folders.",
    )


def _exploration(path: Path) -> SavedExploration:
    exploration = exploration_from_json(read_file(path), str(path))
    letters = [letter_of(number) for number in range(len(exploration.outcomes))]
    paths = {letter: path.parent / f"outcome-{letter}.json" for letter in letters}
    recordings = {
        letter: from_json(read_file(one), str(one)) for letter, one in paths.items() if one.exists()
    }
    return SavedExploration(exploration, recordings)


def _value(data: bytes, path: Path) -> Saved:
    name = _name_of(data, path)
    if name in (None, "recording"):
        return from_json(data, str(path))
    if name == "exploration":
        return _exploration(path)
    value = formats.read(name, data, str(path))
    if name == "trial":
        return trial_of(value)
    if name == "pace":
        return pace_of(value)
    if name == "churn":
        recordings = [Path(one) for one in value["files"]]
        there = [one for one in recordings if one.exists()]
        return SavedChurn(value, tuple(from_json(read_file(one), str(one)) for one in there))
    if name in ("proposal", "contest", "orders"):
        return SavedValue(name, value)
    raise InputError(
        f"a result of the kind {name!r}, of which no report is made",
        place=Place(str(path)),
        advice="Recordings, explorations, trials, proposals, loops, loads and stores are taken.",
    )


def _name_of(data: bytes, path: Path) -> str | None:
    """The format's name in ``core.formats``; None where it says none, which a recording's reader
    then explains. Raises InputError where it is of another version.
    """
    found = _FORMAT.search(data[:4_000])
    said = found[1].decode() if found is not None else ""
    name = formats.format_name({"format": said}) if said else None
    known = formats.version_of(name) if name is not None else None
    if name is not None and said != known:
        raise InputError(
            f"is of the format {said}; this version of Catenum reads {known}",
            place=Place(str(path)),
            advice="Run the command again that wrote it.",
        )
    return name


def _of_log(path: Path, pick: int | None) -> Recording:
    from catenum.intake.conflicts import conflicts_in
    from catenum.intake.files import sources

    try:
        conflicts = conflicts_in(sources([str(path)]))
    except InputError as error:
        found = error.problems[0].message
        raise InputError(
            f"{found}, nor like a result of Catenum",
            advice="'catenum play SCENARIO --save FILE' writes one.",
        ) from error
    if not conflicts:
        raise InputError("there is no conflict in this log", place=Place(str(path)))
    if pick is None and len(conflicts) > 1:
        raise InputError(
            f"there are {len(conflicts)} conflicts: --pick N says which",
            advice="'catenum intake FILE' lists them.",
        )
    number = pick or 1
    if number > len(conflicts):
        raise InputError(f"--pick {number}: there are {len(conflicts)} conflicts")
    return recording_of(conflicts[number - 1])
