"""Profiles beside rules of a server's own: generated scenarios are explored by both, in every order.

The profile knows no more than its file, and its driver is the plain one; outcomes, who waits for
whom, and data must be the same. Part of ``make soak``:

python tests/profiles_beside.py [postgresql|mysql] [--first SEED] [--count N]
"""

from __future__ import annotations

import argparse
import io
import json
import sys
import tempfile
from collections import Counter
from pathlib import Path

from catenum.cli.main import main as catenum
from catenum.core.servers import rules_of
from enumerating.compare import written
from enumerating.generate import case, locking_case

FOLDER = Path(__file__).with_name("profiles")
#: Schedules of a scenario at the most.
MOST = 40
PROFILES = {"postgresql": "plainpg", "mysql": "plainmysql"}


def by_url(server: str) -> str:
    """The private server that is kept, as a target of the profile's kind."""
    out, err = io.StringIO(), io.StringIO()
    catenum(["local", "start", "--target", f"local:{server}", "--quiet"], out, err)
    out = io.StringIO()
    catenum(["local", "status", "--target", f"local:{server}", "--json"], out, err)
    sockets = next(
        one["sockets"] for one in json.loads(out.getvalue())["servers"] if one["server"] == server
    )
    if server == "postgresql":
        return f"plainpg://catenum@/marrowgate?host={sockets}"
    return f"plainmysql://root@/?unix_socket={sockets}/server.sock"


def explored(path: Path, target: str, *more: str) -> dict:
    """What ``explore`` says of every order; empty where it refuses the scenario."""
    out, err = io.StringIO(), io.StringIO()
    words = ["explore", str(path), "--target", target, "--json", "--quiet", "--every", *more]
    catenum(words, out, err)
    return json.loads(out.getvalue()) if out.getvalue().strip() else {"refused": err.getvalue()}


def unnamed(row: dict) -> tuple[object, ...]:
    """An outcome; which member a deadlock ends is chosen by PostgreSQL's rules in Catenum, and by
    nobody through a profile.
    """
    if row["kind"] == "deadlock":
        return ("deadlock",)
    status = tuple(sorted(row["status"].items()))
    failed = tuple(sorted((name, tuple(kinds)) for name, kinds in row["failed_by"].items()))
    return (row["kind"], row["data"], status, failed)


def told(found: dict) -> dict[str, object]:
    """Of an exploration what both must say."""
    outcomes: set[object] = set(
        Counter(one for row in found["outcomes"] for one in [unnamed(row)] * row["count"]).items()
    )
    cycles = {
        frozenset(member["transaction"] for member in one["members"]) for one in found["cycles"]
    }
    ended = {
        (member["transaction"], member["statement"])
        for one in found["cycles"]
        for member in one["members"]
    }
    waits = {(one["waiter"], one["statement"], one["holder"]) for one in found["wait_pairs"]}
    return {"outcomes": outcomes, "waits": waits, "cycles": cycles, "ended": ended}


def differences(path: Path, native: str, by_profile: str, profile: str) -> list[str] | None:
    """What the two accounts differ in, a line each; None where one of them says nothing."""
    own = explored(path, native, "--limit", str(MOST))
    if "refused" in own or not own["reach"]["complete"]:
        return None
    rules = rules_of(own["target"]["server"])
    texts = [text for listed in own["statements"].values() for text in listed]
    if any(map(rules.sql.commits_by_itself, texts)):
        return None  # behind such a statement a driver without autocommit is in a transaction again
    other = explored(path, by_profile, "--profile", str(FOLDER / f"{profile}.toml"))
    if "refused" in other or not other["reach"]["complete"]:
        return None
    mine, theirs = told(own), told(other)
    # of a deadlock that is over at once a profile may know the victim only
    ended = mine.pop("ended") | theirs.pop("ended")  # type: ignore[operator]
    for one in (mine, theirs):
        one["waits"] = {wait for wait in one["waits"] if wait[:2] not in ended}  # type: ignore
    return [
        f"{what}: own {sorted(map(repr, mine[what] - theirs[what]))}, by profile"  # type: ignore[operator]
        f" {sorted(map(repr, theirs[what] - mine[what]))}"  # type: ignore[operator]
        for what in mine
        if mine[what] != theirs[what]
    ]


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("server", choices=sorted(PROFILES))
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--count", type=int, default=80)
    args = parser.parse_args()
    native, by_profile = f"local:{args.server}", by_url(args.server)
    compared = bad = 0
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(args.first, args.first + args.count):
            made = (case if seed % 2 else locking_case)(args.server, seed)
            lines = differences(
                written(made, Path(folder)), native, by_profile, PROFILES[args.server]
            )
            if lines is None:
                continue
            compared += 1
            print(".", end="", flush=True)
            if lines:
                bad += 1
                print(f"seed {seed}:", *lines, sep="\n  ", flush=True)
    print(f"{args.server}: {compared} scenarios compared, {bad} differ")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
