"""A Dask cluster as a person starts one: ``dask scheduler``, ``dask worker``, each a process."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

from conftest import SCRIPT, Done, until

DASK = Path(sys.executable).with_name("dask")
NAMED = re.compile(r"(tcp://\S+:\d+)")


@dataclass
class Member:
    """A scheduler or a worker, and what it says."""

    process: subprocess.Popen[bytes]
    log: Path
    address: str = ""

    def kill(self) -> None:
        """All of its processes, at once."""
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait(10)


@dataclass
class Machine:
    """One machine with a cluster, its own cache for private servers, and commands on it."""

    folder: Path
    members: list[Member] = field(default_factory=list)
    scheduler: str = ""

    @property
    def cache(self) -> Path:
        return self.folder / "cache"

    @property
    def environment(self) -> dict[str, str]:
        return {**os.environ, "CATENUM_CACHE": str(self.cache)}

    def start(self, *words: str, says: str, **more: str) -> Member:
        log = self.folder / f"{len(self.members)}.log"
        with log.open("wb") as said:
            process = subprocess.Popen(
                [str(DASK), *words],
                stdin=subprocess.DEVNULL,
                stdout=said,
                stderr=said,
                env={**self.environment, **more},
                cwd=self.folder,
                start_new_session=True,
            )
        member = Member(process, log)
        self.members.append(member)

        def named() -> str | None:
            line = next((x for x in log.read_text().splitlines() if says in x), None)
            found = NAMED.search(line) if line is not None else None
            return found[1] if found is not None else None

        member.address = str(until(named, f"{words}: {says}"))
        return member

    def start_scheduler(self) -> Member:
        words = ("--host", "127.0.0.1", "--port", "0", "--no-dashboard")
        member = self.start("scheduler", *words, says="Scheduler at:")
        self.scheduler = member.address
        return member

    def start_worker(self, **more: str) -> Member:
        """Without a nanny, so that one that is killed stays away."""
        words = ("worker", self.scheduler, "--nthreads", "1", "--no-nanny", "--no-dashboard")
        return self.start(*words, says="Start worker at:", **more)

    def begin(self, *words: object, **more: str) -> subprocess.Popen[str]:
        """A command that goes on."""
        return subprocess.Popen(
            [str(SCRIPT), *map(str, words)],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env={**self.environment, **more},
            cwd=self.folder,
        )

    def run(self, *words: object, **more: str) -> Done:
        return self.done(self.begin(*words, **more))

    @staticmethod
    def done(process: subprocess.Popen[str]) -> Done:
        out, err = process.communicate(timeout=150)
        assert "Traceback" not in err, err
        return Done(process.returncode, out, err)

    def servers(self) -> list[int]:
        """Processes of private servers."""
        found = []
        for entry in Path("/proc").iterdir():
            with contextlib.suppress(OSError):
                if entry.name.isdigit() and (entry / "cwd").resolve().is_relative_to(self.cache):
                    found.append(int(entry.name))
        return found

    def close(self) -> None:
        workers = [one for one in self.members if "worker" in one.process.args]
        for members in (workers, self.members):  # a worker ends well as long as it has a scheduler
            for member in members:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(member.process.pid, signal.SIGTERM)
            for member in members:
                try:
                    member.process.wait(30)
                except subprocess.TimeoutExpired:
                    member.kill()


@contextlib.contextmanager
def machine():
    """A machine without anything on it; what is started there ends with the block."""
    folder = Path(tempfile.mkdtemp(prefix="catenum-cluster-"))
    folder.chmod(0o755)
    made = Machine(folder)
    try:
        yield made
        made.close()
        until(lambda: not made.servers(), "the workers' servers have ended")
    finally:
        made.close()
        shutil.rmtree(folder, ignore_errors=True)
