"""Completion in a shell, by argcomplete: commands and options as argparse has them, and the words
that stand for samples, targets and saved files.
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

#: What an argument is called in its usage, and what can stand there.
_SCENARIOS = ("SCENARIO",)
_TARGETS = ("TARGET", "URL")
_SAVED = ("RECORDING", "SOURCE", "FILE", "FOLDER")


def complete(build: Callable[[str | None], argparse.ArgumentParser]) -> None:
    """Answer the shell and end; nothing where it did not ask."""
    import argcomplete

    from catenum.cli.main import COMMANDS

    words = os.environ.get("COMP_LINE", "").split()[1:]
    chosen = next((word for word in words if word in COMMANDS), None)
    parser = build(chosen)
    if chosen is not None:
        for action in _options_of(parser, chosen):
            kind = _completer(action)
            if kind is not None:
                action.completer = kind  # type: ignore[attr-defined] # argcomplete's own name for it
    argcomplete.autocomplete(parser, append_space=True)


def _options_of(parser: argparse.ArgumentParser, chosen: str) -> list[argparse.Action]:
    subparsers = next(one for one in parser._actions if isinstance(one, argparse._SubParsersAction))
    return list(subparsers.choices[chosen]._actions)


def _completer(action: argparse.Action) -> Callable[..., Any] | None:
    name = action.metavar if isinstance(action.metavar, str) else ""
    if name in _SCENARIOS or action.dest in ("scenario", "scenarios"):
        return _scenarios
    if action.dest == "sources":
        return _scenarios
    if name in _TARGETS:
        return _targets
    if action.dest == "name":
        return _samples
    if name in _SAVED:
        from argcomplete.completers import FilesCompleter

        return FilesCompleter()
    return None


def _samples(prefix: str, **_: Any) -> list[str]:
    from catenum import samples

    return samples.names()


def _scenarios(prefix: str, **_: Any) -> list[str]:
    """Samples, and what is there of files and folders."""
    from argcomplete.completers import FilesCompleter

    found = FilesCompleter(allowednames=("yaml", "yml", "json", "log", "sqlite"))(prefix)
    return [*_samples(prefix), *(path for path in found if Path(path).name)]


def _targets(prefix: str, **_: Any) -> list[str]:
    """Private servers, and the short names of ``catenum.toml``."""
    from catenum.core.errors import CatenumError
    from catenum.engines.targets import LOCAL, read_settings

    try:
        return [*LOCAL, *read_settings().targets]
    except CatenumError:
        return list(LOCAL)
