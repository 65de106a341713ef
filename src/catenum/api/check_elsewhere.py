"""Scenarios that the workers of a cluster hold to what they expect: each is a task."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from catenum.api.check_state import CheckState, Noted
from catenum.api.checker import Checker, CheckOptions, Found
from catenum.api.files import save_atomically
from catenum.api.servers import Server, TargetSource, connect
from catenum.api.spread import cluster_for
from catenum.cluster.host import Host, Site, host
from catenum.core.check.result import CheckCase
from catenum.core.errors import CatenumError
from catenum.engines.targets import Settings, Target

if TYPE_CHECKING:
    from distributed import Future

    from catenum.cluster.cluster import Cluster

#: What stays with the client: what hears, what is written, and where the work is done.
_OURS = ("listener", "heard", "save", "since_last", "target", "targets", "cluster")


@dataclass(frozen=True)
class Asked:
    """What a task is given: a scenario, and how the server is called."""

    site: Site
    shown: str
    name: str
    found: Found
    options: Mapping[str, Any]
    allowed: Mapping[str | None, set[str]]
    known: dict[str, dict[str, str]]
    saves: bool


@dataclass
class Checked:
    """What came of it: the cases, what is to be remembered, and the recordings by their names."""

    cases: list[CheckCase] = field(default_factory=list)
    noted: list[Noted] = field(default_factory=list)
    saved: dict[str, bytes] = field(default_factory=dict)


def check_scenario(asked: Asked) -> Checked | CatenumError:
    """A task: all cases of a scenario."""
    try:
        return host().do(lambda mine: _checked(mine, asked))
    except CatenumError as error:
        return error


def _checked(mine: Host, asked: Asked) -> Checked:
    connector = mine.connector(asked.site)
    url = None if asked.site.connector is None else str(asked.site.connector.where)
    server = Server(Target(asked.site.server, asked.shown, url, Settings()), connector)
    before, found = CheckState(None, asked.known), Checked()
    with tempfile.TemporaryDirectory(prefix="catenum-") as folder, ExitStack() as stack:
        options = cast(CheckOptions, dict(asked.options))
        if asked.saves:
            options["save"] = Path(folder)
        checker = Checker(stack, server, options, asked.allowed, before)
        found.cases += checker.cases(asked.name, asked.found)
        found.saved = {path.name: path.read_bytes() for path in Path(folder).iterdir()}
    found.noted = before.noted
    return found


def cases_elsewhere(
    files: Sequence[tuple[str, Found]],
    checker: Checker,
    options: CheckOptions,
    allowed: Mapping[str | None, set[str]],
    before: CheckState,
    asked: TargetSource,
) -> Iterator[CheckCase]:
    """The cases of all scenarios in their order, by the cluster; ``checker`` takes those that
    another kind of server runs than the target. Raises InputError, TargetError.
    """
    listener = checker.listener
    with connect(asked, listener=listener) as server:
        engine = server.connector()
        try:
            with cluster_for(options, server.connector, engine, listener) as cluster:
                asks = _Asks(cluster, server, options, allowed, before.known)
                yield from _in_order(files, asks, checker, before)
        finally:
            engine.close()


@dataclass
class _Asks:
    cluster: Cluster
    server: Server
    options: CheckOptions
    allowed: Mapping[str | None, set[str]]
    known: dict[str, dict[str, str]]

    def takes(self, found: Found) -> bool:
        """Whether the workers' server runs it; what cannot be read, nobody does."""
        if isinstance(found, CatenumError):
            return False
        return found[0].recorded_on in (None, self.server.target.server)

    def submit(self, name: str, found: Found) -> Future[Any]:
        """The task of a scenario."""
        asked = Asked(
            site=self.cluster.site,
            shown=self.server.target.shown,
            name=name,
            found=found,
            options={name: value for name, value in self.options.items() if name not in _OURS},
            allowed=self.allowed,
            known=self.known,
            saves=self.options.get("save") is not None,
        )
        return self.cluster.submit(check_scenario, asked)


def _in_order(
    files: Sequence[tuple[str, Found]], asks: _Asks, checker: Checker, before: CheckState
) -> Iterator[CheckCase]:
    tasks = [asks.submit(name, found) if asks.takes(found) else None for name, found in files]
    folder = asks.options.get("save")
    try:
        for (name, found), task in zip(files, tasks, strict=True):
            if task is None:
                yield from checker.cases(name, found)
                continue
            answer: Checked = asks.cluster.answer(task, partial(asks.submit, name, found))
            for noted in answer.noted:
                before.note(noted.name, noted.digest, passed=noted.passed)
            for saved, data in answer.saved.items() if folder is not None else ():
                save_atomically(Path(str(folder)) / saved, data)
            yield from answer.cases
    finally:
        asks.cluster.withdraw([task for task in tasks if task is not None])
