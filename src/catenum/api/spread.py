"""Who does the work of an exploration: this process, others on this machine, or a cluster."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING

from catenum.api.files import require
from catenum.api.listener import Listener
from catenum.api.space import SpaceOptions
from catenum.core.errors import InputError
from catenum.core.servers import profile_of, rules_of
from catenum.engines.ports import Engine
from catenum.engines.targets import Connector, has_password
from catenum.lab.explore.jobs import Explores, Here
from catenum.lab.explore.workers import Together

if TYPE_CHECKING:
    from catenum.cluster.cluster import Cluster
    from catenum.cluster.host import Site


@dataclass(frozen=True)
class Spread:
    """``explores``: who runs whole explorations; ``together``: who works the shares of one off
    instead of this process and its ``workers``; ``cluster``: where both are, if it is one.
    """

    explores: Explores
    workers: int = 1
    together: Together | None = None
    cluster: Cluster | None = None


@contextmanager
def spread_over(
    options: SpaceOptions, connect: Connector, engine: Engine, listener: Listener
) -> Iterator[Spread]:
    """As the options say. Raises InputError, TargetError, LibraryError for a cluster that cannot do
    the work.
    """
    workers = options.get("workers", 1)
    if not options.get("cluster"):
        here = Here(connect=connect, engine=engine, workers=workers)
        try:
            yield Spread(here, workers)
        finally:
            here.close()
        return
    with cluster_for(options, connect, engine, listener) as cluster:
        from catenum.cluster.jobs import Jobs
        from catenum.cluster.walks import Walks

        jobs = Jobs(cluster)
        try:
            yield Spread(jobs, together=Walks(cluster), cluster=cluster)
        finally:
            jobs.forget()


@contextmanager
def cluster_for(
    options: SpaceOptions, connect: Connector, engine: Engine, listener: Listener
) -> Iterator[Cluster]:
    """The cluster that the options name. Raises InputError, TargetError, LibraryError where it
    cannot do the work.
    """
    word = options.get("cluster") or ""
    if options.get("workers", 1) != 1:
        raise InputError(
            "--cluster and --workers: choose one",
            advice="--cluster local:N has N processes on this machine.",
        )
    require("distributed", "--cluster")
    from catenum.cluster.cluster import cluster_at

    shown = f"{rules_of(engine.info.server).title} {engine.info.version}"
    insecure = options.get("insecure_cluster", False)
    with cluster_at(word, site_of(connect), shown, listener.tell, insecure=insecure) as found:
        yield found


def site_of(connect: Connector) -> Site:
    """Where the workers of a cluster do what would be done here. Raises InputError where a secret
    would have to travel there.
    """
    from catenum.cluster.host import Site

    if connect.private:
        return Site(connect.server, None, connect.sandboxed, tuple(connect.own.items()))
    url = connect.where if profile_of(connect.server) is None else connect.where[1]
    if not isinstance(url, str) or has_password(url):
        *others, last = rules_of(connect.server).advice.password_places
        instead = f"{', '.join(others)} or {last}" if others else last
        raise InputError(
            "--cluster: the target's URL has a password in it, which would travel to the workers",
            advice=f"Leave it out there, and set it in {instead} where the workers run.",
        )
    return Site(connect.server, connect, connect.sandboxed)
