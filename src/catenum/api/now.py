"""A running server at one moment."""

from __future__ import annotations

from dataclasses import replace

from catenum.api.listener import SILENT, Listener
from catenum.api.servers import TargetSource, find_target
from catenum.core.errors import TargetError
from catenum.core.snapshot.sample import Sample
from catenum.engines.drivers import server_module
from catenum.engines.monitor import Monitor
from catenum.engines.targets import Target, settled
from catenum.live.client_sockets import client_ends


def now(
    target: TargetSource = None,
    *,
    locks: bool = False,
    mask: bool = False,
    listener: Listener = SILENT,
) -> Sample:
    """Check a running server once: its sessions, who waits for whom, open transactions.

    ``locks``: also every lock of those who take part; ``mask``: without literals. Raises
    InputError, TargetError.
    """
    sample = look(find_target(target, listener, settle=False), locks=locks)
    return sample.masked() if mask else sample


def connect_monitor(target: Target) -> Monitor:
    """A connection that looks. Raises TargetError."""
    target = settled(target)
    module = server_module(target.server, ".monitor")
    if target.url is not None:
        return module.open_monitor(target.url, target.shown)  # type: ignore[no-any-return]
    from catenum.engines.private import kept_servers

    found = kept_servers(target.server, target.settings.local.get(target.server, {}))
    if not found:
        raise TargetError(
            f"{target.shown}: no private server is running",
            advice=(
                "Name the server with --target or CATENUM_TARGET; or keep a private one: catenum"
                " local start."
            ),
        )
    opened: Monitor = module.open_monitor(found[0][0].where, target.shown, private=True)
    return opened


def look(target: Target, *, locks: bool) -> Sample:
    """One sample, with how long those who wait will wait, and their clients. Raises TargetError."""
    monitor = connect_monitor(target)
    try:
        sample = monitor.sample(locks=locks)
        return _with_clients(replace(sample, timeouts=monitor.timeouts(sample)))
    finally:
        monitor.close()


def _with_clients(sample: Sample) -> Sample:
    """The sessions in a chain with the process of their client, where it is on this machine and may
    be seen.
    """
    chained = {name for edge in sample.edges for name in (edge.waiter, edge.holder)}
    asked = [
        one for one in sample.sessions if one.id in chained and one.port and one.process is None
    ]
    ends = client_ends() if asked else {}
    known = {one.id: ends.get((one.host or "", one.port or 0)) for one in asked}
    sessions = tuple(
        replace(one, process=str(known[one.id])) if known.get(one.id) is not None else one
        for one in sample.sessions
    )
    return replace(sample, sessions=sessions, by_id={})
