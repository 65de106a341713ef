"""Slots: data directories made once, each used by one running server at a time.

A command takes the first slot whose lock is free, so two commands at once get two servers; the lock
is the kernel's and goes with the process that holds it. A slot that is free but has a live server
is either *kept* (``catenum local start``), and then shared, or was left by a killed command, and
then stopped and cleared. On Linux the kernel also ends a server whose command died.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import os
import secrets
import shutil
import signal
import subprocess
import tempfile
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import IO, Any, Protocol

from catenum.core.errors import TargetError
from catenum.engines import parent
from catenum.engines.clock import Clock
from catenum.engines.drivers import server_module
from catenum.engines.private.programs import Owner, cache_folder, server_owner, server_programs

START_MS, STOP_MS, MOST_SLOTS = 20_000.0, 10_000.0, 32


@dataclass(frozen=True, slots=True)
class PrivateServer:
    """A running private server and how to reach it. ``cleared`` names what a killed command had
    left.
    """

    server: str
    where: Any
    client: str
    sockets: Path
    pid: int
    slot: Path
    kept: bool
    version: str
    cleared: tuple[str, ...] = ()


class Recipe(Protocol):
    """How one server is made, started and asked; in the module of its name beside this one, as
    ``Recipe``.
    """

    programs: Path
    owner: Owner
    server: str
    name: str
    program: str
    stop_signals: tuple[signal.Signals, ...]

    @property
    def version(self) -> str: ...

    def initialise(self, data: Path) -> None: ...

    def command(self, data: Path, sockets: Path, settings: Mapping[str, str]) -> list[str]: ...

    def pid_file(self, data: Path) -> Path: ...

    def is_ready(self, data: Path, sockets: Path) -> bool: ...

    def answers(self, sockets: Path) -> bool: ...

    def is_made(self, data: Path) -> bool: ...

    def where(self, sockets: Path) -> Any: ...

    def client(self, sockets: Path) -> str: ...

    def furnish(self, sockets: Path) -> None: ...

    def leftovers(self, sockets: Path) -> list[str]: ...


class _Slot:
    """One data directory with its lock, its log and a note of the server that runs on it."""

    def __init__(
        self, folder: Path, recipe: Recipe, settings: Mapping[str, str] | None = None
    ) -> None:
        """``settings``: what the server is started with besides."""
        self.folder, self.recipe, self._settings = folder, recipe, dict(settings or {})
        self.data, self.log, self.note = (
            folder / "data",
            folder / "server.log",
            folder / "server.json",
        )
        self._lock: IO[str] | None = None
        self._process: subprocess.Popen[bytes] | None = None

    def take(self) -> bool:
        """Take the slot's lock if nobody has it."""
        self._make_folder(self.folder)
        lock = (self.folder / "lock").open("w")
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            lock.close()
            return False
        self._lock = lock
        return True

    def _make_folder(self, folder: Path) -> None:
        """With all above it: the server's user must be able to go through, whatever our own mask
        hides from others.
        """
        if folder.exists():
            return
        self._make_folder(folder.parent)
        folder.mkdir(exist_ok=True)
        if self.recipe.owner.drop:
            folder.chmod(0o755)

    def free(self) -> None:
        """Let the lock go."""
        if self._lock is not None:
            self._lock.close()
            self._lock = None

    def running(self) -> int | None:
        """The process of the server on this data directory, if it is alive."""
        try:
            pid = int(self.recipe.pid_file(self.data).read_text().splitlines()[0])
            os.kill(pid, 0)
        except PermissionError:
            return None  # a number used again by another's process: not our server
        except (OSError, ValueError, IndexError):
            return None
        return pid if self._is_server(pid) else None

    def _is_server(self, pid: int) -> bool:
        """Whether ``pid`` really works in this data directory: numbers are used again."""
        reported = Path(f"/proc/{pid}/cwd")
        if Path("/proc/self/cwd").exists():
            with contextlib.suppress(OSError):
                return reported.resolve() == self.data.resolve()
            return False
        shown = subprocess.run(
            ["ps", "-o", "command=", "-p", str(pid)], capture_output=True, text=True, check=False
        )
        return str(self.data) in shown.stdout

    def kept(self) -> PrivateServer | None:
        """The server that ``local start`` left running here."""
        try:
            note = json.loads(self.note.read_text())
        except (OSError, ValueError):
            return None
        pid = self.running()
        if not note.get("kept") or pid is None:
            return None
        return self._described(Path(note["sockets"]), pid, kept=True)

    def _described(
        self, sockets: Path, pid: int, *, kept: bool, cleared: tuple[str, ...] = ()
    ) -> PrivateServer:
        return PrivateServer(
            server=self.recipe.server,
            where=self.recipe.where(sockets),
            client=self.recipe.client(sockets),
            sockets=sockets,
            pid=pid,
            slot=self.folder,
            kept=kept,
            version=self.recipe.version,
            cleared=cleared,
        )

    def start(self, *, keep: bool, tell: Callable[[str], None]) -> PrivateServer:
        """Start the server, with new data where it does not start with what is there.

        The slot must have been taken. Raises TargetError with the end of its log where it does not
        start.
        """
        try:
            return self._start(keep=keep, tell=tell)
        except TargetError as error:
            if not (self.folder / "furnished").exists():
                raise
            tell(
                f"The data in {self.folder} cannot be used ({error.problems[0].message}); they are"
                " made anew."
            )
            self.forget()
            return self._start(keep=keep, tell=tell)

    def forget(self) -> None:
        """Delete the data: the next start makes new ones."""
        (self.folder / "furnished").unlink(missing_ok=True)
        shutil.rmtree(self.data, ignore_errors=True)

    def clean(self, tell: Callable[[str], None]) -> bool:
        """Whether nothing of a run is left on the running server; what is, is told."""
        try:
            left = self.recipe.leftovers(Path(json.loads(self.note.read_text())["sockets"]))
        except (OSError, ValueError, KeyError):
            return True  # it has gone already
        if left:
            tell(
                f"{', '.join(left)} could not be removed: the private server's data in"
                f" {self.folder} are deleted."
            )
        return not left

    def _start(self, *, keep: bool, tell: Callable[[str], None]) -> PrivateServer:
        cleared = self._clear_dead()
        owner = self.recipe.owner
        new = not self.recipe.is_made(self.data)
        if new:
            tell(
                f"Making a private {self.recipe.name} {self.recipe.version} (once) in"
                f" {self.folder} …"
            )
            self._make_data(owner)
        try:
            sockets = self._socket_folder(owner, keep=keep)
            process = self._process = self._launch(sockets, keep=keep)
            self._await_ready(process, sockets)
            if new:
                self.recipe.furnish(sockets)
                (self.folder / "furnished").touch()
        except BaseException:
            self.stop()
            raise
        return self._described(sockets, process.pid, kept=keep, cleared=cleared)

    def _socket_folder(self, owner: Owner, *, keep: bool) -> Path:
        """Make the folder of the server's sockets, and note it.

        The note comes before the folder, and whole (a command that is killed between the two leaves
        nothing that no note names), and another command that reads it in this moment finds all of
        it or none.
        """
        sockets = Path(tempfile.gettempdir()) / f"catenum-{secrets.token_hex(6)}"
        fresh = self.note.with_suffix(".new")
        fresh.write_text(json.dumps({"kept": keep, "sockets": str(sockets), "by": os.getpid()}))
        os.replace(fresh, self.note)
        try:
            sockets.mkdir(mode=0o700)
        except OSError as error:
            self.note.unlink()  # a folder that has this name is another's: neither used nor removed
            raise TargetError(f"cannot make a folder for the server's sockets: {error}") from error
        if owner.drop:
            os.chown(sockets, owner.uid, owner.gid)
        return sockets

    def _make_data(self, owner: Owner) -> None:
        if owner.drop:
            os.chown(self.folder, owner.uid, owner.gid)
        shutil.rmtree(self.data, ignore_errors=True)
        self.recipe.initialise(self.data)

    def _launch(self, sockets: Path, *, keep: bool) -> subprocess.Popen[bytes]:
        log = self.log.open("wb")
        ends_with_us = None if keep else parent.tie(self.recipe.stop_signals[0])
        with log:
            process: subprocess.Popen[bytes] = subprocess.Popen(
                self.recipe.command(self.data, sockets, self._settings),
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                cwd="/",
                start_new_session=True,  # Ctrl-C in the terminal is ours to handle
                preexec_fn=ends_with_us,
                **self.recipe.owner.popen,  # type: ignore[call-overload]
            )
        return process

    def _await_ready(self, process: subprocess.Popen[bytes], sockets: Path) -> None:
        clock = Clock()
        while clock.now_ms() < START_MS:
            if process.poll() is not None:
                raise TargetError(
                    f"the private server did not start: {self._end_of_log()}",
                    advice=f"Its log: {self.log}",
                )
            if self.recipe.is_ready(self.data, sockets):
                return
            clock.rest(5)
        raise TargetError(
            f"the private server was not ready within {START_MS / 1000:g} s",
            advice=f"Its log: {self.log}",
        )

    def _end_of_log(self) -> str:
        with contextlib.suppress(OSError):
            lines = self.log.read_text(errors="replace").strip().splitlines()
            return " ".join(lines[-2:])
        return "no log"

    def stop(self) -> bool:
        """Stop the server and remove its socket folder. Returns whether one was running.

        Raises TargetError where its process does not end.
        """
        pid = self.running()
        if pid is not None and not any(self._ends_by(how, pid) for how in self.recipe.stop_signals):
            raise TargetError(
                f"the private server (process {pid}) does not end",
                advice=f"End it by hand; its data: {self.data}",
            )
        self._remove_sockets()
        return pid is not None

    def _ends_by(self, how: signal.Signals, pid: int) -> bool:
        with contextlib.suppress(OSError):
            os.kill(pid, how)
        clock = Clock()
        while clock.now_ms() < STOP_MS:
            if self.running() is None and self._is_gone(pid):
                return True
            clock.rest(5)
        return False

    def _is_gone(self, pid: int) -> bool:
        """Whether a process is over: a server may remove its pid file before that, and its data are
        not free yet.

        Our own child has to be taken note of, or it stays as a zombie.
        """
        if self._process is not None and self._process.pid == pid:
            return self._process.poll() is not None
        return not self._is_server(pid)

    def _remove_sockets(self) -> None:
        with contextlib.suppress(OSError, ValueError, KeyError):
            sockets = Path(json.loads(self.note.read_text())["sockets"])
            if sockets.name.startswith("catenum-"):
                shutil.rmtree(sockets, ignore_errors=True)
        self.note.unlink(missing_ok=True)

    def _clear_dead(self) -> tuple[str, ...]:
        """Clear what a killed command left: its server, its socket folder, a data directory made by
        halves.
        """
        cleared = []
        if self.note.exists() or self.running() is not None:
            alive = self.stop()
            cleared.append(
                f"a private server that a killed command had left{' running' if alive else ''}"
            )
        if self.data.exists() and not (self.folder / "furnished").exists():
            shutil.rmtree(self.data, ignore_errors=True)
        self.recipe.pid_file(self.data).unlink(missing_ok=True)
        return tuple(cleared)


def _slots(
    server: str, settings: Mapping[str, str], own: Mapping[str, str] | None = None
) -> Iterator[_Slot]:
    owner = server_owner()
    cache = cache_folder(owner)
    server_module(server)  # before anything is started: its driver may be missing
    make = import_module(f"catenum.engines.private.{server}").Recipe
    recipe: Recipe = make(server_programs(server, settings, cache, owner), owner)
    # Data of one set of programs is not for another: the folder's name distinguishes them.
    which = hashlib.sha256(str(recipe.programs).encode()).hexdigest()[:6]
    major = recipe.version.split(".")[0]
    for number in range(MOST_SLOTS):
        yield _Slot(cache / f"{recipe.server}-{major}-{which}" / f"slot-{number}", recipe, own)


def kept_servers(server: str, settings: Mapping[str, str]) -> list[tuple[PrivateServer, bool]]:
    """The servers that ``catenum local start`` left running, each with whether it lets us in."""
    return [
        (kept, slot.recipe.answers(kept.sockets))
        for slot in _slots(server, settings)
        if slot.folder.exists() and (kept := slot.kept()) is not None
    ]


def start_kept(
    server: str, settings: Mapping[str, str], tell: Callable[[str], None]
) -> tuple[PrivateServer, bool]:
    """A server that stays, and whether it was started now rather than found running."""
    for slot in _slots(server, settings):
        if (
            slot.folder.exists()
            and (kept := slot.kept()) is not None
            and slot.recipe.answers(kept.sockets)
        ):
            return kept, False
    for slot in _slots(server, settings):
        if slot.take():
            try:
                return slot.start(keep=True, tell=tell), True
            finally:
                slot.free()
    raise TargetError(f"all {MOST_SLOTS} private servers are in use")


def stop_kept(server: str, settings: Mapping[str, str]) -> int:
    """Stop every kept server. Returns how many there were."""
    stopped = 0
    for slot in _slots(server, settings):
        if slot.folder.exists() and slot.kept() is not None:
            clean = slot.clean(lambda text: None)
            stopped += slot.stop()
            if not clean:
                slot.forget()
    return stopped


@contextlib.contextmanager
def private_server(
    server: str,
    settings: Mapping[str, str],
    tell: Callable[[str], None],
    own: Mapping[str, str] | None = None,
    *,
    alone: bool = False,
) -> Iterator[PrivateServer]:
    """A private server for the length of a ``with`` block.

    The kept one, or one of our own that is stopped at the end; with settings of its ``own``, or to
    be ``alone`` on it, always the latter.
    """
    for slot in _slots(server, settings, own):
        if slot.folder.exists():
            kept = slot.kept()
            if kept is not None and (own or alone):
                continue
            if kept is not None and slot.recipe.answers(kept.sockets):
                yield kept
                return
        if not slot.take():
            continue
        try:
            yield slot.start(keep=False, tell=tell)
        finally:
            clean = slot.clean(tell)
            slot.stop()
            if not clean:
                slot.forget()
            slot.free()
        return
    raise TargetError(f"all {MOST_SLOTS} private servers are in use")
