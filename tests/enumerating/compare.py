"""``explore`` on a scenario beside the walk of every order: what the two accounts differ in."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import yaml

from enumerating.sessions import Bench
from enumerating.walk import Account, Case, Walk, connection_of


def plain(case: Case) -> dict:
    """The case as a scenario."""
    parts: dict[str, dict] = {}
    for name, part in case.parts.items():
        kills = (text.removeprefix("kill ") for text in part.statements)
        said = {
            "ends": None if part.autocommit else part.ends,
            "autocommit": part.autocommit,
            "connection": connection_of(case.parts, name) if part.after else None,
            "after_error": "continue" if part.goes_on else None,
            "isolation": part.level,
        }
        parts[name] = {
            "statements": [
                {"kill": other} if text.startswith("kill ") else text
                for text, other in zip(part.statements, kills, strict=True)
            ],
            **{key: value for key, value in said.items() if value},
        }
    found = {"scenario": "generated", "data": case.data, "transactions": parts}
    return {**found, "holds": case.holds} if case.holds else found


def written(case: Case, folder: Path) -> Path:
    """The case as a scenario file."""
    path = folder / "generated.yaml"
    path.write_text(yaml.safe_dump(plain(case), sort_keys=False, width=1000), encoding="utf-8")
    return path


def reported(exploration: dict) -> tuple[set[object], set[object]]:
    """The outcomes and the deadlock victims of ``explore --json``, in the terms of the walk."""
    outcomes = set()
    for row in exploration["outcomes"]:
        failed = {name: kinds[-1] for name, kinds in row["failed_by"].items()}
        status = tuple(
            (name, row["status"][name], failed.get(name, "")) for name in sorted(row["status"])
        )
        serial = None if row["data"] == "unchecked" else row["data"] == "serial"
        outcomes.add((row["kind"], serial, status, tuple(sorted(row["holds"].items()))))
    fell = set()
    for cycle in exploration["cycles"]:
        at = {member["transaction"]: member["statement"] for member in cycle["members"]}
        fell |= {(victim, at.get(victim)) for victim in cycle["victims"]}
    return outcomes, fell


def differences(case: Case, account: Account, exploration: dict) -> list[str]:
    """What one account has and the other has not, a line each. Empty: they agree.

    Where a cycle closed at the move of somebody outside it, the victim is the server's choice: who
    of the members fell is then left out, and only that one did is compared. Where ``explore`` says
    that it has not run all that can happen, nothing that it lacks contradicts it; nor does what it
    has, if it came of a choice of the server's.
    """
    if not exploration["reach"]["complete"]:
        return []
    outcomes, fell = reported(exploration)
    late = any(end.late for end in account.ends)
    if late and any(part.goes_on for part in case.parts.values()):
        return []  # who fell goes on, or who did not: each leads elsewhere, and both are right
    walked = {_unnamed(end.coarse) if late else end.coarse: end.path for end in account.ends}
    if late:
        outcomes = {_unnamed(outcome) for outcome in outcomes}
    unchecked = {(kind, *rest) for kind, serial, *rest in outcomes if serial is None}
    if unchecked:  # of these explore does not say whether some serial order gives them
        walked = {_unjudged(one, unchecked): path for one, path in walked.items()}
        outcomes = {_unjudged(one, unchecked) for one in outcomes}
    lines = []
    for outcome in sorted(walked.keys() - outcomes, key=repr):
        lines.append(f"missed by explore: {outcome} after {' '.join(walked[outcome])}")
    if not account.cut:
        lines += [
            f"only in explore: {outcome}" for outcome in sorted(outcomes - walked.keys(), key=repr)
        ]
        victims = {victim for end in account.ends for victim in end.fell}
        if victims != fell and not late:
            lines.append(
                f"victims: walked {sorted(victims, key=repr)}, explored {sorted(fell, key=repr)}"
            )
    return lines


def _unjudged(outcome: object, unchecked: set[object]) -> object:
    kind, _, *rest = outcome  # type: ignore[misc]
    return (kind, None, *rest) if (kind, *rest) in unchecked else outcome


def _unnamed(outcome: object) -> object:
    """The outcome of a deadlock without the names of who failed, and so without how the others
    ended (one may roll back, another commit); rules, which hang on that, left out too.
    """
    kind, serial, status, _ = outcome  # type: ignore[misc]
    if kind != "deadlock":
        return outcome
    ended = ((state if failed else "as it ends", failed) for _, state, failed in status)
    return (kind, serial, tuple(sorted(ended)))


def compared(
    case: Case,
    bench: Bench,
    explore: Callable[[Path], dict],
    folder: Path,
    most: int = 400,
    play: Callable[[Path, str, str], dict] | None = None,
) -> list[str]:
    """Walk, explore, compare, and play each schedule that was printed again.

    ``explore`` and ``play`` give what the commands print with ``--json`` for a file (and an order,
    and which locks are collected).
    """
    path = written(case, folder)
    exploration = explore(path)
    if not exploration:
        return ["explore gave nothing"]
    account = Walk(bench, case, most).account()
    return differences(case, account, exploration) + (
        not_replayed(path, exploration, play) if play else []
    )


def not_replayed(
    path: Path, exploration: dict, play: Callable[[Path, str, str], dict]
) -> list[str]:
    """The printed schedules that come to something else when they are played, a line each."""
    lines = []
    for row in exploration["outcomes"]:
        order = " ".join(row["shortest"])
        played = play(path, order, "waits")
        outcome = played.get("outcome", {})
        again = {key: outcome.get(key) for key in ("kind", "holds")}
        if again != {"kind": row["kind"], "holds": row["holds"]}:
            lines.append(f"played, '{order}' came to {again}, not to {row['kind']} {row['holds']}")
        lines += misattributed(play(path, order, "full"), played)
    return lines


def misattributed(exact: dict, reported: dict) -> list[str]:
    """The waits of which the holder's statement is another than the one after which the lock was
    there, a line each. ``exact`` has pictures of the locks after each move, ``reported`` has none.
    """

    def wait_of(wait: dict) -> tuple[object, ...]:
        return (wait["waiter"], wait["statement"], wait["holder"], wait["resource"]["text"], wait["wanted"], wait["held"])  # fmt: skip

    seen = {wait_of(wait): wait for wait in exact.get("waits", ()) if wait["holder_told_by"] == "server"}  # fmt: skip
    lines = []
    for wait in reported.get("waits", ()):
        is_known = not wait["queued"] and wait_of(wait) in seen
        number = seen[wait_of(wait)]["holder_statement"] if is_known else None
        named = wait["holder_candidates"] or [wait["holder_statement"]]
        if number is not None and named != [None] and number not in named:
            lines.append(f"{wait_of(wait)}: taken by statement {number}, said to be by {named}")
    return lines


def as_json(text: str) -> dict:
    """The exploration that a command printed; empty where it printed none."""
    return json.loads(text) if text.strip() else {}
