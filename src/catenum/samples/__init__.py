"""The scenarios that ship, all set in the made-up port of Marrowgate Harbour."""

from __future__ import annotations

from importlib.resources import files


def names() -> list[str]:
    """The samples' names, in the order in which they are best read."""
    found = {
        entry.name.removesuffix(".yaml")
        for entry in files(__name__).iterdir()
        if entry.name.endswith(".yaml")
    }
    first = [
        "berth-swap",
        "tug-upgrade",
        "crane-standby",
        "left-open",
        "crane-key",
        "yard-rebuild",
        "call-cancel",
        "gap-insert",
        "gate-queue",
        "yard-lookup",
    ]
    return [name for name in first if name in found] + sorted(found - set(first))


def text(name: str) -> str:
    """A sample's text. Raises KeyError where there is none of that name."""
    if name not in names():
        raise KeyError(name)
    return files(__name__).joinpath(f"{name}.yaml").read_text(encoding="utf-8")


def probe_text(name: str) -> str:
    """The scenario of a phenomenon, by its name in ``core.levels.probes``. Raises KeyError where
    there is none of that name.
    """
    return _text_in("probes", name)


def load_names() -> list[str]:
    """The kinds of work that ship for loads."""
    found = files(__name__).joinpath("loads").iterdir()
    return sorted(one.name.removesuffix(".yaml") for one in found if one.name.endswith(".yaml"))


def load_text(name: str) -> str:
    """The scenario of a kind of work. Raises KeyError where there is none of that name."""
    return _text_in("loads", name)


def _text_in(folder: str, name: str) -> str:
    file = files(__name__).joinpath(folder, f"{name}.yaml")
    if not name.replace("-", "").isalpha() or not file.is_file():
        raise KeyError(name)
    return file.read_text(encoding="utf-8")
