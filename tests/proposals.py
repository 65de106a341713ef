"""Every shipped sample on every server: what ``propose`` finds beside the best remedy that the
sample has by hand.

python tests/proposals.py [--server postgresql]

Part of ``make soak``. Exits with 1 where a remedy by hand is better than everything that was
proposed.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
from pathlib import Path

from catenum import samples
from catenum.core.servers import NATIVE

SCRIPT = str(Path(sys.executable).with_name("catenum"))
RANKS = ["cures", "eases", "no better", "worse", "loses"]
#: By hand these need loops, where the conflict is inside a statement.
LOOPS = {("yard-lookup", "mariadb"), ("yard-lookup", "mysql")}
#: With these a timeout takes a second at least, or the data is loaded again each time: a sample of
#: schedules has to do.
SLOW = {
    (name, server)
    for name in ("left-open", "pile-up", "yard-rebuild")
    for server in ("mariadb", "mysql")
}


def best(command: str, name: str, server: str) -> tuple[str, str]:
    """The best verdict, and whose it is."""
    more = (
        ["--churn"]
        if (name, server) in LOOPS
        else ["--limit", "30"]
        if (name, server) in SLOW
        else []
    )
    words = [SCRIPT, command, name, "--target", f"local:{server}", "--json", "--quiet"]
    done = subprocess.run(
        [word for word in [*words, *more] if word != "--quiet"],
        capture_output=True,
        text=True,
        check=False,
    )
    if not done.stdout:
        return (
            ("no better", "no remedies")
            if "no remedies" in done.stderr
            else ("loses", done.stderr[:200])
        )
    value = json.loads(done.stdout)
    found = (
        value["candidates"] if command == "propose" else value.get("variants") or value["results"]
    )
    judged = [
        (_rank(one, sampled=more[:1] != ["--churn"]), one["name"])
        for one in found
        if one.get("verdict")
    ]
    return min(judged, key=lambda one: RANKS.index(one[0]), default=("no better", "nothing"))


def _rank(one: dict, *, sampled: bool) -> str:
    """A verdict; of schedules, a cure only where all of them were run: a sample may have missed
    what it does not cure.
    """
    verdict = one["verdict"]["rank"] if isinstance(one["verdict"], dict) else one["verdict"]
    whole = one.get("complete", one.get("proven"))
    return "eases" if sampled and verdict == "cures" and whole is False else verdict


def main() -> int:
    """Compare, and say where it is worse."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--server", choices=NATIVE)
    parser.add_argument("names", nargs="*", default=samples.names())
    args = parser.parse_args()
    worse = 0
    for server in [args.server] if args.server else NATIVE:
        subprocess.run(
            [SCRIPT, "local", "start", "--target", f"local:{server}", "--quiet"], check=False
        )
        for name in args.names:
            hand, mine = best("trial", name, server), best("propose", name, server)
            least = RANKS.index("no better")  # below that neither helps
            behind = min(RANKS.index(mine[0]), least) > min(RANKS.index(hand[0]), least)
            worse += behind
            print(
                f"{'WORSE' if behind else 'ok   '} {server:<10} {name:<15} {mine[0]} ({mine[1]}); by hand {hand[0]} ({hand[1]})",
                flush=True,
            )
        subprocess.run(
            [SCRIPT, "local", "stop", "--target", f"local:{server}", "--quiet"], check=False
        )
    return 1 if worse else 0


if __name__ == "__main__":
    sys.exit(main())
