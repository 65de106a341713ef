"""What passed the last time: a file beside the scenarios, so that only what changed is run."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import Path

from catenum.api.files import read_file, save_atomically
from catenum.core.errors import InputError, Place
from catenum.engines import clock

STATE = Path(".catenum-check.json")
STATE_FORMAT = "catenum-check-state/1"


@dataclass(frozen=True)
class Noted:
    """What is to be remembered of a case."""

    name: str
    digest: str
    passed: bool


@dataclass
class CheckState:
    """By what a case is called, the hash of all that it depends on, and when it passed."""

    path: Path | None
    known: dict[str, dict[str, str]]
    noted: list[Noted] = field(default_factory=list)

    @classmethod
    def read(cls, path: Path | None) -> CheckState:
        if path is None or not path.exists():
            return cls(path, {})
        try:
            plain = json.loads(read_file(path))
            if plain["format"] != STATE_FORMAT:
                raise ValueError("another format")
            return cls(path, dict(plain["passed"]))
        except (ValueError, KeyError, TypeError) as error:
            raise InputError(
                f"not what 'check --since-last' wrote: {error}",
                place=Place(str(path)),
                advice="Delete the file; then everything is run.",
            ) from error

    def write(self) -> None:
        if self.path is not None:
            plain = {"format": STATE_FORMAT, "passed": self.known}
            save_atomically(self.path, json.dumps(plain, indent=2).encode(), shared=True)

    def passed(self, name: str, digest: str) -> str | None:
        """When it passed, as it is now."""
        entry = self.known.get(name, {})
        return entry.get("at") if entry.get("hash") == digest else None

    def note(self, name: str, digest: str, *, passed: bool) -> None:
        self.noted.append(Noted(name, digest, passed))
        self.known.pop(name, None)
        if passed:
            self.known[name] = {"hash": digest, "at": clock.moment().isoformat(timespec="seconds")}
