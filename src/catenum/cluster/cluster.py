"""The cluster as a client sees it: reached or started, its workers checked, tasks given to those
that can do them.
"""

from __future__ import annotations

import contextlib
import importlib.metadata
import ipaddress
import logging
import queue
import socket
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit
from uuid import uuid4

from catenum.cluster.host import Described, Site, describe, digest_here, leave
from catenum.core.errors import InputError, TargetError
from catenum.core.text import counted
from catenum.core.version import __version__
from catenum.engines.child_processes import without_main_module
from catenum.engines.clock import Clock

if TYPE_CHECKING:
    from distributed import Client, Future

LOCAL = "local:"
MOST_LOCAL = 256
#: Schemes whose messages are encrypted and authenticated by both sides' certificates.
SECURE = ("tls", "wss")
SCHEMES = ("tcp", "ws", *SECURE)
#: How long (s) a scheduler may take to answer, the check of workers, and clearing up at the end.
CONNECT_S, CHECK_S, LEAVE_S = 5.0, 120.0, 15.0
#: So often (s) it is looked whether the scheduler is there, and whether other workers are.
LOOK_S, LOOK_FOR_WORKERS_MS = 0.2, 2_000.0
#: How long (ms) no worker may be there before it is given up: one that died may be started again.
NOBODY_MS = 20_000.0
ADVICE_RESUME = "Start it again, then go on with --resume where the state was saved (--save)."

Tell = Callable[[str], None]


class LostScheduler(TargetError):
    """The scheduler went away."""


def local_size(word: str) -> int | None:
    """How many workers ``local:N`` asks for; None for an address. Raises InputError."""
    if not word.startswith(LOCAL):
        return None
    number = word.removeprefix(LOCAL)
    if not (number.isdigit() and 1 <= int(number) <= MOST_LOCAL):
        raise InputError(
            f"--cluster {word}: {number!r} is not a number of workers from 1 to {MOST_LOCAL}"
        )
    return int(number)


def checked_address(word: str, *, insecure: bool) -> str:
    """The scheduler's address, such as ``tcp://127.0.0.1:8786``. Raises InputError for what is
    none, and for one beyond this machine whose messages, which are code, anybody could send or
    read.
    """
    address = word if "://" in word else f"tcp://{word}"
    try:
        parts = urlsplit(address)
        scheme, name, port = parts.scheme, parts.hostname, parts.port
    except ValueError:
        scheme, name, port = "", None, None
    if scheme not in SCHEMES or not name or port is None:
        raise InputError(
            f"--cluster {word}: not the address of a scheduler",
            advice="Such as tcp://127.0.0.1:8786, tls://HOST:8786; or local:N for N workers here.",
        )
    if scheme in SECURE or insecure or _is_loopback(name):
        return address
    raise InputError(
        f"--cluster {word}: the scheduler is on another machine, and its messages are neither"
        " encrypted nor signed: whoever reaches it can run code on this machine and the workers",
        advice="Give Dask certificates (distributed.comm.tls) and a tls:// address; in a network"
        " that nobody else is in, --insecure-cluster allows it as it is.",
    )


def _is_loopback(name: str) -> bool:
    """Whether a name means this machine, whichever of its addresses is taken."""
    try:
        found = {entry[4][0] for entry in socket.getaddrinfo(name, None)}
    except OSError:
        return False
    return bool(found) and all(ipaddress.ip_address(one).is_loopback for one in found)


@dataclass(frozen=True)
class _Question:
    """What a worker was asked, and when."""

    version: Future[Any]
    described: Future[Any]
    at_ms: float


@dataclass(eq=False)
class Cluster:
    """A cluster that work for one site is given to."""

    client: Client
    site: Site
    #: As the client's own server shows itself: a worker's must be the same.
    server: str
    tell: Tell
    #: By address, the workers that can do the work; and those that cannot, each with why.
    workers: dict[str, Described] = field(default_factory=dict)
    left_out: dict[str, str] = field(default_factory=dict)
    name: str = field(default_factory=lambda: uuid4().hex)
    _clock: Clock = field(default_factory=Clock)
    _looked_ms: float = 0.0
    _nobody_ms: float | None = None
    _asked: dict[str, _Question] = field(default_factory=dict)
    _over: queue.SimpleQueue[Future[Any]] = field(default_factory=queue.SimpleQueue)
    _given: dict[Any, tuple[str, ...]] = field(default_factory=dict)

    # -- workers -----------------------------------------------------------------------------------

    def check(self) -> None:
        """Take note of workers that have come, as far as they have answered, and of those that have
        gone; nobody is waited for. Raises LostScheduler.
        """
        there = self._there()
        for known in (self.workers, self.left_out, self._asked):
            for gone in known.keys() - there:
                del known[gone]
        for address in there:
            if address not in self.workers and address not in self.left_out:
                self._asked.setdefault(address, self._ask(address))
        for address, question in list(self._asked.items()):
            try:
                if not self._settle(address, question):
                    continue
            except Exception as error:  # whatever a worker's Python cannot do there
                self._there()
                self.left_out[address] = _first_line(error)
            del self._asked[address]
            if (why := self.left_out.get(address)) is not None:
                self.tell(f"The worker {address} is left out: {why}.")

    def check_all(self) -> None:
        """The same until each worker that is there has answered. Raises LostScheduler."""
        self.check()
        while self._asked:
            self._clock.rest(LOOK_S * 1000)
            self.check()

    def _there(self) -> set[str]:
        self.look()
        try:
            return set(self.client.nthreads())
        except Exception as error:
            raise self._lost() from error

    def _ask(self, address: str) -> _Question:
        """Its version, by nothing of ours, which an older one may lack; and what it says of
        itself.
        """
        only = {"workers": [address], "pure": False, "allow_other_workers": False}
        return _Question(
            self._submitted(importlib.metadata.version, "catenum", **only),
            self._submitted(describe, self.site, **only),
            self._clock.now_ms(),
        )

    def _settle(self, address: str, question: _Question) -> bool:
        """Whether it has answered. Raises what the worker raised."""
        if self._clock.now_ms() - question.at_ms > CHECK_S * 1000:
            self.left_out[address] = f"it did not answer within {CHECK_S:g} s"
            return True
        if not question.version.done():
            return False
        try:
            theirs = question.version.result()
        except importlib.metadata.PackageNotFoundError:
            self.left_out[address] = "Catenum is not installed there"
            return True
        if theirs != __version__:
            self.left_out[address] = f"it has Catenum {theirs}, and this is {__version__}"
            return True
        if not question.described.done():
            return False
        found: Described = question.described.result()
        if found.digest != digest_here():
            self.left_out[address] = (
                f"its Catenum {theirs} has other files than this one ({found.digest}, here"
                f" {digest_here()})"
            )
        elif found.server != self.server:
            self.left_out[address] = f"its server is {found.server}, here {self.server}"
        else:
            self.workers[address] = found
        return True

    def look(self) -> None:
        """Raises LostScheduler where it is not there any more."""
        if self.client.status != "running":
            raise self._lost()

    def _lost(self) -> LostScheduler:
        where = self.client.scheduler.address if self.client.scheduler is not None else "it"
        return LostScheduler(f"the scheduler at {where} went away", advice=ADVICE_RESUME)

    # -- tasks -------------------------------------------------------------------------------------

    def submit(
        self, task: Callable[..., Any], *values: Any, urgent: bool = False, at: str | None = None
    ) -> Future[Any]:
        """Have some worker, or the one ``at`` an address, run ``task``; ``wait`` gives the future
        when it is over.
        """
        able = (at,) if at is not None else tuple(self.workers)
        future = self._submitted(
            task,
            *values,
            key=f"catenum-{task.__name__}-{uuid4().hex}",
            workers=list(able),
            allow_other_workers=False,
            pure=False,
            priority=1 if urgent else 0,
        )
        self._given[future.key] = able
        future.add_done_callback(self._over.put)
        return future

    def _submitted(self, task: Callable[..., Any], *values: Any, **how: Any) -> Future[Any]:
        """Raises LostScheduler: Dask raises errors of several kinds where nobody takes it."""
        try:
            future: Future[Any] = self.client.submit(task, *values, **how)
        except Exception as error:
            raise self._lost() from error
        return future

    def wait(self) -> list[Future[Any]]:
        """Those that are over by now, after a moment at most. Raises LostScheduler; TargetError
        where no worker is left.
        """
        found: list[Future[Any]] = []
        with contextlib.suppress(queue.Empty):
            found.append(self._over.get(timeout=LOOK_S))
            while True:
                found.append(self._over.get_nowait())
        self.look()
        if self._clock.now_ms() - self._looked_ms > LOOK_FOR_WORKERS_MS:
            self.check()
            self._looked_ms = self._clock.now_ms()
            self._note_nobody()
        return [one for one in found if self._given.pop(one.key, None) is not None]

    def _note_nobody(self) -> None:
        now = self._clock.now_ms()
        if self.workers:
            self._nobody_ms = None
        elif self._nobody_ms is None:
            self._nobody_ms = now
        elif now - self._nobody_ms > NOBODY_MS:
            raise self.nobody()

    def nobody(self) -> TargetError:
        """What is raised where no worker can do the work."""
        reasons = [f"{where}: {why}" for where, why in self.left_out.items()]
        return TargetError(
            "no worker of the cluster can do the work"
            + (f" ({'; '.join(reasons)})" if reasons else ": none is there"),
            advice="Start one: dask worker ADDRESS --nthreads 1 (docs/cluster.md).",
        )

    def stranded(self, future: Future[Any]) -> bool:
        """Whether all workers that a task was given to are gone: it would wait for ever."""
        able = self._given.get(future.key)
        return able is not None and not any(one in self.workers for one in able)

    def answer(self, future: Future[Any], again: Callable[[], Future[Any]]) -> Any:
        """What a task gives, when it is over; ``again`` submits it anew where its workers are gone.
        An error that it gives is raised. Raises LostScheduler, TargetError.
        """
        try:
            while not future.done():
                self.wait()
                if self.stranded(future) and self.workers:
                    self.withdraw([future])
                    future = again()
            found = self.result(future)
        except BaseException:
            self.withdraw([future])
            raise
        if isinstance(found, Exception):
            raise found
        return found

    def result(self, future: Future[Any]) -> Any:
        """What a task that is over has given. Raises LostScheduler, TargetError where it came to no
        end.
        """
        error: BaseException | None = None
        try:
            if future.status == "finished":
                return future.result()
            error = future.exception() if future.status == "error" else None
        except Exception as lost:  # between its end and the question the worker went away
            error = lost
        self._there()
        why = (
            "the workers that tried it died"
            if type(error).__name__ == "KilledWorker"
            else f"{type(error).__name__}: {error}"
            if error is not None
            else f"it was {future.status}"
        )
        raise TargetError(f"a task of the cluster came to no end: {why}") from error

    def withdraw(self, futures: Sequence[Future[Any]]) -> None:
        """Nobody waits for these any more."""
        for future in futures:
            self._given.pop(future.key, None)
        with contextlib.suppress(Exception):  # the scheduler may be gone, and the tasks with it
            self.client.cancel(list(futures), force=True)

    def leave(self) -> None:
        """Have the workers drop what they keep for this client."""
        with contextlib.suppress(Exception):
            left = [
                self.client.submit(leave, self.name, workers=[one], pure=False, priority=10)
                for one in self.workers
            ]
            clock = Clock()
            while clock.now_ms() < LEAVE_S * 1000 and self.client.status == "running":
                if all(one.done() for one in left):
                    break
                clock.rest(20)


def _first_line(error: Exception) -> str:
    text = str(error).strip() or type(error).__name__
    return text.splitlines()[0].rstrip(".")


@contextlib.contextmanager
def cluster_at(
    word: str, site: Site, server: str, tell: Tell, *, insecure: bool = False
) -> Iterator[Cluster]:
    """The cluster that ``--cluster`` names, or that ``local:N`` starts, with its workers checked.

    Raises InputError, TargetError where nobody answers or no worker can do the work.
    """
    size = local_size(word)
    address = None if size is not None else checked_address(word, insecure=insecure)
    with contextlib.ExitStack() as stack:
        client = stack.enter_context(_client(address, size))
        found = Cluster(client=client, site=site, server=server, tell=tell)
        stack.callback(found.leave)
        if size is not None:
            client.wait_for_workers(size, timeout=CHECK_S)
        found.check_all()
        if not found.workers:
            raise found.nobody()
        threads = sum(number > 1 for number in client.nthreads().values())
        tell(
            f"{counted(len(found.workers), 'worker')}, each with {server} of its own."
            if site.connector is None
            else f"{counted(len(found.workers), 'worker')}, all on {site.connector.shown}."
        )
        if threads:
            tell(
                f"{counted(threads, 'worker')} with several threads: Catenum does one thing at a"
                " time in each (--nthreads 1)."
            )
        yield found


def _refuse_without_certificates(address: str) -> None:
    """Raises InputError where Dask could not speak TLS to the scheduler."""
    from distributed.security import Security

    secure = address.partition("://")[0] in SECURE
    if secure and Security().get_connection_args("client").get("ssl_context") is None:
        raise InputError(
            f"--cluster {address}: Dask has no certificates here",
            advice="Set distributed.comm.tls.ca-file and client.cert in its configuration, or"
            " DASK_DISTRIBUTED__COMM__TLS__CA_FILE and …__CLIENT__CERT (docs/cluster.md).",
        )


@contextlib.contextmanager
def _quiet() -> Iterator[None]:
    """What is wrong with the cluster is told by us, not by the libraries' logs."""
    names = [
        name
        for name in logging.Logger.manager.loggerDict
        if name.split(".")[0] in ("distributed", "tornado", "asyncio")
    ]
    levels = {name: logging.getLogger(name).level for name in names}
    for name in names:
        logging.getLogger(name).setLevel(logging.CRITICAL)
    try:
        yield
    finally:
        for name, level in levels.items():
            logging.getLogger(name).setLevel(level)


@contextlib.contextmanager
def _client(address: str | None, size: int | None) -> Iterator[Client]:
    from distributed import Client, LocalCluster

    with contextlib.ExitStack() as stack:
        stack.enter_context(_quiet())
        where: Any = address
        if size is not None:
            import dask

            # its profiler looks at a worker's stack a hundred times a second
            unprofiled = dask.config.set({"distributed.worker.profile.enabled": False})
            with unprofiled, without_main_module():
                where = stack.enter_context(
                    LocalCluster(
                        n_workers=size,
                        threads_per_worker=1,
                        processes=True,
                        host="127.0.0.1",
                        dashboard_address="127.0.0.1:0",
                        worker_dashboard_address="127.0.0.1:0",
                        scheduler_kwargs={"dashboard": False},
                        security=True,  # certificates of the moment: nobody else gets in
                        silence_logs=logging.CRITICAL,
                    )
                )
        if address is not None:
            _refuse_without_certificates(address)
        try:
            client = stack.enter_context(
                Client(where, timeout=CONNECT_S, set_as_default=False, name="catenum")
            )
        except (OSError, TimeoutError, ValueError, TypeError) as error:
            raise TargetError(
                f"no scheduler answers at {address}: {_first_line(error)}",
                advice="Start one: dask scheduler --host 127.0.0.1 (docs/cluster.md).",
            ) from error
        yield client
