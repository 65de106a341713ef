"""What real servers said once, and what Catenum makes of it: texts beside the tests, for a run
without any server.

``tests/corpus`` has tapes (``tape.py``), logs, and for each case what the commands print, as a
reader would see it. ``corpus.py --servers`` takes all of it from real servers; ``corpus.py`` alone
makes the printed texts anew from the tapes and logs that are there: read the difference before it
is committed.
"""

from __future__ import annotations

import argparse
import contextlib
import difflib
import functools
import gzip
import hashlib
import io
import json
import os
import random
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

import psycopg
import pytest

import calls
import nights
import tables
import test_dumps
from capturing import CORPUS, FORMS, captured, other_kinds
from catenum import samples
from catenum.cli.main import main
from catenum.core.check.blame import blamed
from catenum.core.compare import churn_result
from catenum.core.errors import TargetError
from catenum.core.levels.matrix import cell_of
from catenum.core.levels.probes import PROBES
from catenum.core.record import recording_file
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import rules_of
from catenum.core.space import exploration_file
from catenum.core.text import shortened
from conftest import over_socket
from enumerating.compare import written
from tape import Tape, taped, watched
from test_fixes import FIXES
from test_kinds import CASES, case_of

SERVERS = ("postgresql", "mariadb", "mysql")
PLAY = ("play {file} --locks full --verbose --save seen.json", "explain seen.json --verbose")
#: What reads the recording of a play, on one server for each sample.
BEHIND = (
    "intake seen.json --pick 1",
    "restage seen.json --no-play",
    "report seen.json --mask --format markdown --quiet",
)
EXPLORE = ("explore {file} --json",)
#: What is proven and proposed of samples: on which servers.
CALLS: dict[tuple[str, str], tuple[str, ...]] = {
    ("explore {file} --json", "explore {file} --verbose"): (
        "berth-swap", "crane-standby", "tug-upgrade", "manifest-total", "call-cancel", "box-number", "gap-insert",
        "crane-key", "batch-order", "yard-rebuild",
    ),
    ("explore {file} --json --isolation serializable",): ("crane-standby", "manifest-total"),
    ("explore {file} --json --every --limit 40",): ("three-desks",),
    ("trial {file} --json", "trial {file}"): ("tug-upgrade",),
    ("propose {file} --json", "propose {file} --verbose"): ("berth-swap", "crane-standby", "line-by-line"),
    ("propose {file} --verbose",): ("box-number",),
    ("sweep {file} --json", "sweep {file}"): ("line-by-line",),
    ("levels {file} --json", "levels {file}"): ("crane-standby", "manifest-total"),
}  # fmt: skip
ONLY = {
    "gap-insert": ("mariadb", "mysql"),
    "explore yard-rebuild": ("postgresql",),  # elsewhere each of its waits lasts for seconds
    "explore box-number": ("mysql",),
    "propose box-number": ("postgresql",),
    "propose crane-standby": ("postgresql", "mysql"),
    "propose line-by-line": ("postgresql",),
    "levels manifest-total": ("mysql",),
    "play gate-queue": ("postgresql",),  # elsewhere each of three thousand locks is shown
}


#: Samples of servers whose plain readers take locks, and what is run of them on Apache Derby.
READERS_LOCK = ("two-readers", "scan-behind-writer", "lock-escalation", "reader-behind-writer")
ON_DERBY = {
    "play": PLAY,
    "explore": ("explore {file} --json", "explore {file} --verbose"),
    "propose": ("propose {file} --json", "propose {file} --verbose"),
}


def servers_for(word: str, sample: str) -> tuple[str, ...]:
    return ONLY.get(f"{word} {sample}") or ONLY.get(sample) or SERVERS


@dataclass(frozen=True)
class Case:
    """A scenario on a server, and the commands that are run on it, the first of which makes the
    tape.
    """

    name: str
    server: str
    commands: tuple[str, ...]
    text: str

    @property
    def tape(self) -> Path:
        return CORPUS / "tapes" / f"{self.name}.{self.server}.json.gz"

    @property
    def said(self) -> Path:
        return CORPUS / "said" / f"{self.name}.{self.server}.txt"


def cases() -> Iterator[Case]:
    """Every tape's case."""
    for number, name in enumerate(samples.names()):
        servers = servers_for("play", name)
        for server in servers:
            more = BEHIND if server == servers[number % len(servers)] else ()
            yield Case(f"play-{name}", server, PLAY + more, samples.text(name))
    for commands, names in CALLS.items():
        word = commands[0].split()[0]
        more = "-".join(part for part in commands[0].split()[3:] if part != "--json").replace(
            "--", ""
        )
        for name in names:
            for server in servers_for(word, name):
                title = "-".join(part for part in (word, name, more) if part)
                # what is printed of it in words differs little from server to server
                said = commands if server == servers_for(word, name)[0] else commands[:1]
                yield Case(title, server, said, samples.text(name))
    for word, commands in ON_DERBY.items():
        for name in READERS_LOCK:
            yield Case(f"{word}-{name}", "derby", commands, samples.text(name))
    for path in sorted((CORPUS / "scenarios").glob("*.yaml")):
        for server in SERVERS:
            yield Case(f"play-{path.stem}", server, PLAY, path.read_text())
            yield Case(f"explore-{path.stem}", server, EXPLORE, path.read_text())
    for name, one in FIXES.items():  # of which all changes are derived
        for server in one["first"]:
            yield Case(f"play-fix-{name}", server, PLAY, one["text"])
            yield Case(f"explore-fix-{name}", server, EXPLORE, one["text"])
    with tempfile.TemporaryDirectory() as folder:
        for title, case in CASES.items():
            for server in case["servers"]:
                text = written(case_of(title, server), Path(folder)).read_text()
                yield Case(f"kind-{title.replace(' ', '-')}", server, EXPLORE, text)


MOMENTS: dict[str, tuple[tuple[str, tuple[str, ...]], ...]] = {
    "chain": (
        ("gate", ("update berth set moved = 1 where id = 3",)),
        (
            "yard",
            ("update berth set moved = 2 where id = 7", "update berth set moved = 3 where id = 3"),
        ),
        ("quay", ("update berth set moved = 4 where id = 7",)),
    ),
    "definition": (
        ("gate", ("select * from berth",)),
        ("yard", ("alter table berth add column note int",)),
        ("quay", ("select count(*) from berth",)),
    ),
    "insert": (
        ("gate", ("insert into berth (id, moved) values (11, 0)",)),
        ("yard", ("insert into berth (id, moved) values (11, 1)",)),
    ),
    "share": (
        ("gate", ("select * from berth where id = 3 {share}",)),
        ("quay", ("select * from berth where id = 3 {share}",)),
        ("yard", ("delete from berth where id = 3",)),
    ),
}
NOW = (
    "now --locks --json",
    "now --locks --verbose",
    "now --locks --quiet",
    "now --locks --json --mask",
)


def call(line: str) -> str:
    """What a command prints, as a terminal would show it."""
    out, err = io.StringIO(), io.StringIO()
    try:
        code = main(shlex.split(line), out, err)
    except SystemExit as end:
        code = int(end.code or 0)
    text = "\n".join(part.rstrip("\n") for part in (out.getvalue(), err.getvalue()) if part)
    return f"$ catenum {line}\n{text}\n[exit code {int(code)}]\n\n"


@contextlib.contextmanager
def away() -> Iterator[Path]:
    """A folder of its own to run in."""
    before = Path.cwd()
    with tempfile.TemporaryDirectory(prefix="catenum-corpus-") as folder:
        os.chdir(folder)
        try:
            yield Path(folder)
        finally:
            os.chdir(before)


def unpacked(path: Path, folder: Path) -> Path:
    plain = folder / "tape.json"
    plain.write_bytes(gzip.decompress(path.read_bytes()))
    return plain


def take(case: Case) -> None:
    """The tape anew, from a real server."""
    with away() as folder, pytest.MonkeyPatch.context() as patch:
        (folder / "case.yaml").write_text(case.text)
        tape = Tape()
        with taped(tape, patch):
            call(case.commands[0].format(file="case.yaml") + f" --target local:{case.server}")
        _pack(tape, folder, case.tape)


def _pack(tape: Tape, folder: Path, path: Path) -> None:
    tape.write(folder / "made.json")
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(gzip.compress((folder / "made.json").read_bytes(), mtime=0))


def said_of(case: Case) -> str:
    """What the commands print of the tape."""
    with away() as folder:
        (folder / "case.yaml").write_text(case.text)
        plain = unpacked(case.tape, folder)
        found = []
        for command in case.commands:
            if command in BEHIND and not (folder / "seen.json").exists():
                continue
            line = command.format(file="case.yaml")
            if "{file}" in command:
                line += f" --target local:{case.server}"
            with pytest.MonkeyPatch.context() as patch, taped(Tape(plain), patch):
                found.append(call(line))
        return re.sub(r"(?m)^.*Made by catenum.*\n", "", "".join(found))


def derived(case: Case, played: Case) -> str:
    """All changes that are derived of an exploration and one schedule, none of them tried."""
    recording = recording_file.from_json(recorded(played).encode(), "seen.json")
    # that it is explored so is held by another case
    explored = exploration_file.from_json(printed_json(case.said).encode(), case.said.name)
    return "".join(tables.candidates(case.text, case.server, explored, recording))


# -- results with a value of another in the place of their own ---------------------------------------------------------

#: Plays whose recordings are altered; and of how many places in each result, so many at a time.
ALTERED = (
    "pile-up.postgresql", "retried.postgresql", "caught-and-gone-on.mysql", "left-open.mariadb", "timeouts.mariadb", "uncommitted-sum.postgresql",
    "gap-insert.mysql", "index-path.postgresql",
)  # fmt: skip
ALTERATIONS, AT_A_TIME = 12, 2
#: More values than that are texts, numbers and names rather than kinds of something.
MOST_KINDS = 12


def recorded(case: Case) -> str:
    """The recording of a play, as it was saved."""
    with away() as folder:
        (folder / "case.yaml").write_text(case.text)
        plain = unpacked(case.tape, folder)
        with pytest.MonkeyPatch.context() as patch, taped(Tape(plain), patch):
            call(f"{case.commands[0].format(file='case.yaml')} --target local:{case.server}")
        return (folder / "seen.json").read_text()


def printed_json(said: Path) -> str:
    """What the first command of a stored text printed with ``--json``."""
    text = said.read_text(encoding="utf-8").partition("\n")[2]
    return json.dumps(json.JSONDecoder().raw_decode(text)[0])


def _leaves(plain: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], Any]]:
    if isinstance(plain, dict | list):
        parts = plain.items() if isinstance(plain, dict) else enumerate(plain)
        for key, one in parts:
            yield from _leaves(one, (*path, key))
    else:
        yield path, plain


def altered(texts: dict[str, str], commands: tuple[str, ...]) -> Iterator[str]:
    """What is printed otherwise of results in which a few values are those that stand in the same
    place of another: of what no server said, but could have.
    """
    known: dict[Any, dict[str, Any]] = {}
    for text in texts.values():
        for path, value in _leaves(json.loads(text)):
            known.setdefault(path[-1], {}).setdefault(json.dumps(value), value)
    kinds = {
        key: list(found.values()) for key, found in known.items() if 1 < len(found) <= MOST_KINDS
    }
    for name, text in texts.items():
        usual = [_printed(text, command) for command in commands]
        chance = random.Random(name)
        places: dict[Any, list[tuple[Any, ...]]] = {}
        for path, _ in _leaves(json.loads(text)):
            if path[-1] in kinds:
                field_name = tuple(key for key in path if isinstance(key, str))
                places.setdefault(field_name, []).append(path)
        for _ in range(ALTERATIONS):
            plain = json.loads(text)
            for field_name in chance.sample(list(places), min(AT_A_TIME, len(places))):
                path = chance.choice(places[field_name])
                *above, last = path
                place = functools.reduce(lambda found, key: found[key], above, plain)
                value = chance.choice([one for one in kinds[last] if one != place[last]])
                yield f"-- {name} {'.'.join(map(str, path))}: {place[last]!r} → {value!r}\n"
                place[last] = value
            for command, before in zip(commands, usual, strict=True):
                now = _printed(json.dumps(plain), command)
                lines = _changed(before, now) if "[exit code 0]" in now else now.splitlines()
                yield "".join(f"{line}\n" for line in lines)
                if "[exit code 0]" not in now:
                    break  # the others say the same


def _changed(before: str, now: str) -> Iterator[str]:
    for line in difflib.unified_diff(before.splitlines(), now.splitlines(), n=0, lineterm=""):
        if line[:2] not in ("--", "++", "@@"):
            yield line


def _printed(text: str, command: str) -> str:
    with away() as folder:
        (folder / "seen.json").write_text(text)
        return re.sub(r"(?m)^.*Made by catenum.*\n", "", call(command))


def broken_results(count: int) -> Iterator[tuple[str, str]]:
    """Results with a part dropped, emptied, doubled, exchanged or of another kind, by chance; and
    what each command that reads it prints.
    """
    reading = ("explain seen.json --verbose --timeline", REPORT, *BEHIND[:2])
    given = {
        case.said.stem: (recorded(case), reading)
        for case in cases()
        if case.said.stem.removeprefix("play-") in ALTERED[2:]
    }
    for stem in ("trial-tug-upgrade.mysql", "propose-berth-swap.postgresql"):
        given[stem] = (printed_json(CORPUS / "said" / f"{stem}.txt"), (REPORT,))
    for stem, (text, commands) in given.items():
        for number in range(count):
            chance, plain = random.Random(f"{stem} {number}"), json.loads(text)
            done = [_break(plain, chance) for _ in range(chance.choice((1, 1, 2)))]
            for command in commands:
                yield f"{stem} {done}", _printed(json.dumps(plain), command)


def _break(plain: Any, chance: random.Random) -> str:
    """One part of a value, in place."""
    places: dict[tuple[str, ...], list[tuple[Any, ...]]] = {}
    for path in tables.places(plain):
        places.setdefault(tuple(key for key in path if isinstance(key, str)), []).append(path)
    *above, last = path = chance.choice(places[chance.choice(list(places))])
    holder = functools.reduce(lambda found, key: found[key], above, plain)
    was = holder[last]
    match chance.randrange(4):
        case 0:
            del holder[last]
        case 1:
            holder[last] = type(was)() if isinstance(was, (list, dict, str)) else None
        case 2 if isinstance(was, list) and was:
            was.append(json.loads(json.dumps(chance.choice(was))))
        case 2 if isinstance(was, (int, float)) and not isinstance(was, bool):
            holder[last] = was + chance.choice((-1, 1, 1000))
        case _:
            holder[last] = chance.choice(("early", "x", 0, 7, None, True, []))
    return ".".join(map(str, path))


REPORT = "report seen.json --format markdown --quiet"
#: By title, what is altered and what is then printed.
ALTERED_RESULTS: dict[str, Callable[[], tuple[dict[str, str], tuple[str, ...]]]] = {
    "recordings": lambda: (
        {
            case.said.stem.removeprefix("play-"): recorded(case)
            for case in sorted(cases(), key=lambda case: case.said.stem)
            if case.said.stem.removeprefix("play-") in ALTERED
        },
        ("explain seen.json --verbose --timeline", "explain seen.json --brief", REPORT),
    ),
    "explorations": lambda: (
        {
            path.stem: printed_json(path)
            for path in sorted((CORPUS / "said").glob("explore-*.postgresql.txt"))[::3]
        },
        (REPORT,),
    ),
    "trials": lambda: (
        {path.stem: printed_json(path) for path in sorted((CORPUS / "said").glob("trial-*.txt"))},
        (REPORT,),
    ),
    "proposals": lambda: (
        {
            path.stem: printed_json(path)
            for path in sorted((CORPUS / "said").glob("propose-*.txt"))
            if "box-number" not in path.stem
        },
        (REPORT,),
    ),
}


# -- running servers ---------------------------------------------------------------------------------------------------


def moments() -> list[tuple[str, str]]:
    return [(title, server) for title in MOMENTS for server in SERVERS]


def moment_tape(title: str, server: str) -> Path:
    return CORPUS / "tapes" / f"now-{title}.{server}.json.gz"


def said_of_moment(title: str, server: str) -> str:
    """What ``now`` prints of a stored moment."""
    with away() as folder:
        plain = unpacked(moment_tape(title, server), folder)
        found = []
        for line in NOW:
            with pytest.MonkeyPatch.context() as patch, watched(Tape(plain), patch):
                found.append(call(f"{line} --target local:{server}"))
        return "".join(found)


def take_moment(title: str, server: str, connect: Callable[[str], Any]) -> None:
    """Sessions that hold and wait, and what a monitor says of them."""
    share = "for share" if server == "postgresql" else "lock in share mode"
    with connect("maker") as maker:
        cursor = maker.cursor()
        for sql in ("drop table if exists berth", "create table berth (id int primary key, moved int)",
                    "insert into berth values (3, 0), (7, 0)"):  # fmt: skip
            cursor.execute(sql)
        maker.commit()
    holders, waiters = [], []
    for name, statements in MOMENTS[title]:
        session = connect(name)
        texts = [sql.format(share=share) for sql in statements]
        holds = name == "gate" or (title == "share" and name == "quay")
        for sql in texts if holds else texts[:-1]:
            session.cursor().execute(sql)
        if holds:
            holders.append(session)
            continue
        waiting = threading.Thread(target=_quietly, args=(session, texts[-1]))
        waiting.start()
        waiters.append((waiting, session))
        time.sleep(0.2)
    with away() as folder, pytest.MonkeyPatch.context() as patch:
        tape = Tape()
        with watched(tape, patch):
            call(f"{NOW[0]} --target local:{server}")
        _pack(tape, folder, moment_tape(title, server))
    for session in holders:
        session.close()
    for waiting, session in waiters:  # a connection is no matter for two threads
        waiting.join(20)
        session.close()


def _quietly(session: Any, sql: str) -> None:
    with contextlib.suppress(Exception):
        session.cursor().execute(sql)


# -- logs --------------------------------------------------------------------------------------------------------------


def take_logs(server: str, statements: bool) -> None:
    folder = CORPUS / "logs" / f"{server}{'-statements' if statements else ''}"
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    found = captured(server, folder, statements=statements)
    made = [{**asdict(one), "over": sorted(one.over)} for one in found.made]
    (folder / "made.json").write_text(json.dumps(made, indent=1) + "\n")
    without_places(folder)


def log_cases() -> list[tuple[str, tuple[str, ...]]]:
    """A name, and the files that belong together."""
    found = []
    for folder in sorted((CORPUS / "logs").iterdir()):
        server = folder.name.partition("-")[0]
        for form in FORMS[server]:
            if (folder / form).is_file():
                more = ("general.log",) if (folder / "general.log").is_file() else ()
                found.append(
                    (f"{folder.name}.{form}", tuple(str(folder / name) for name in (form, *more)))
                )
        if (folder / "status.txt").is_file():
            found.append((f"{folder.name}.status", (str(folder / "status.txt"),)))
    return found


def said_of_log(files: tuple[str, ...]) -> str:
    """What the commands that read logs print of it."""
    with away() as folder:
        names = []
        for file in files:
            shutil.copy(file, folder)
            names.append(Path(file).name)
        words = " ".join(names)
        found = [call(f"intake {words} --json --zone UTC"), call(f"intake {words} --zone UTC"),
                 call(f"intake {words} --by pair --zone UTC"), call(f"intake {words} --by hour --zone UTC --csv"),
                 call(f"intake {words} --mask --json --zone UTC")]  # fmt: skip
        conflicts = found[0].count('"number": ')
        for number in range(1, conflicts + 1):
            found.append(call(f"intake {words} --pick {number} --zone UTC"))
            found.append(call(f"restage {words} --pick {number} --no-play --zone UTC"))
        shutil.copy(CORPUS / "schema.sql", "schema.sql")
        for number in range(1, min(conflicts, 4) + 1):
            schema = f"--schema schema.sql{' --mask' if number == 2 else ''}"
            found.append(call(f"restage {words} --pick {number} {schema} --no-play --zone UTC"))
        found.append(call(f"restage {words} --pick 1 --mask --no-play --zone UTC"))
        found.append(call(f"history take {words} --server port --store s.sqlite --zone UTC"))
        found.append(call("history --store s.sqlite --json"))
        return "".join(found)


def steady(text: str) -> str:
    """Without what differs from one reading to the next: when it was read."""
    text = re.sub(r'"(generated|taken|read)": "[^"]*"', r'"\1": "…"', text)
    return re.sub(r"/tmp/[^\s\"]*/", "", text)


def damaged(files: tuple[str, ...], chances: int = 5) -> str:
    """What is found in a log of which lines were lost, doubled, cut or exchanged, by chance."""
    whole = [Path(file).read_text(encoding="utf-8").splitlines(keepends=True) for file in files]
    found = []
    with away():
        for seed in range(chances):
            chance = random.Random(seed)
            names = [Path(file).name for file in files]
            for name, lines in zip(names, whole, strict=True):
                Path(name).write_text("".join(_damage(lines, chance)), encoding="utf-8")
            out, err = io.StringIO(), io.StringIO()
            code = main(["intake", *names, "--json", "--zone", "UTC"], out, err)
            found.append(
                f"-- damage {seed}: exit code {int(code)} {steady(err.getvalue()).strip()}\n"
            )
            for one in json.loads(out.getvalue() or "{}").get("conflicts", ()):
                members = [
                    (
                        m["session"],
                        m["statement"],
                        m["history"],
                        m["later"],
                        m["ending"],
                        m["whole"],
                    )
                    for m in one["members"]
                ]
                waits = [
                    (
                        w["waiter"],
                        w["holder"],
                        w["object"],
                        w["mode"],
                        w["table"],
                        w["index"],
                        w["seconds"],
                    )
                    for w in one["waits"]
                ]
                found.append(
                    f"{one['kind']} {one['at']} {one['victim']} {one['relations']} {one['notes']}\n"
                )
                found.append(f"    {shortened(str(members), 600)}\n    {waits}\n")
            staged = steady(call(f"restage {' '.join(names)} --pick 1 --no-play --zone UTC"))
            digest = hashlib.sha256(staged.encode()).hexdigest()[:16]
            found.append(f"restaged: {digest}, {staged.count(chr(10))} lines\n")
    return "".join(found)


def _damage(lines: list[str], chance: random.Random) -> list[str]:
    kept = []
    for line in lines:
        drawn = chance.random()
        if drawn < 0.03:
            continue
        if drawn < 0.04:
            line = line[: chance.randint(0, len(line))]
        kept.append(line)
        if drawn > 0.99:
            kept.append(line)
    if chance.random() < 0.5:
        begin = chance.randint(0, len(kept) // 2)
        kept = kept[begin:]
    for _ in range(chance.choice((0, 0, 2))):
        at = chance.randrange(max(1, len(kept) - 1))
        kept[at : at + 2] = kept[at : at + 2][::-1]
    return kept


# -- the command -------------------------------------------------------------------------------------------------------


def everything() -> Iterator[tuple[Path, Callable[[], str]]]:
    """Each printed text, and what makes it."""
    for case in cases():
        yield case.said, lambda case=case: said_of(case)
    for title, server in moments():
        yield (
            CORPUS / "said" / f"now-{title}.{server}.txt",
            lambda t=title, s=server: said_of_moment(t, s),
        )
    for server, seed in ((server, seed) for server in nights.MODES for seed in range(1, 4)):
        path = CORPUS / "said" / f"night-{seed}.{server}.txt"
        yield path, lambda s=server, n=seed: "".join(nights.watched(s, n))
    yield (
        CORPUS / "said" / "across.txt",
        lambda: "".join(text for seed in range(6) for text in nights.across(seed)),
    )
    yield CORPUS / "said" / "statistics.txt", lambda: "".join(tables.statistics())
    yield CORPUS / "said" / "loads.txt", lambda: "".join(tables.loads())
    yield (
        CORPUS / "said" / "questions.txt",
        lambda: "".join(tables.questions(CORPUS / "questions.yaml")),
    )
    yield (
        CORPUS / "said" / "questions-by-chance.txt",
        lambda: "".join(tables.questions_by_chance(CORPUS / "questions.yaml")),
    )
    written_by_hand = [path.read_text() for path in sorted((CORPUS / "scenarios").glob("*.yaml"))]
    given = [*map(samples.text, samples.names()), *(one["text"] for one in FIXES.values())]
    yield (
        CORPUS / "said" / "broken-by-chance.txt",
        lambda: "".join(tables.broken_by_chance([*given, *written_by_hand])),
    )
    yield CORPUS / "said" / "expectations.txt", expectations
    yield CORPUS / "said" / "judged.txt", judged
    yield CORPUS / "said" / "functions-by-chance.txt", functions_by_chance
    yield CORPUS / "said" / "reports-by-chance.txt", reports_by_chance
    for part in calls.PARTS:
        yield calls.said(part), lambda part=part: calls.of_part(part)
    yield CORPUS / "said" / "verdicts.txt", lambda: "".join(tables.verdicts())
    yield (CORPUS / "said" / "broken.txt", lambda: "".join(tables.broken(CORPUS / "broken.yaml")))
    yield CORPUS / "said" / "traces.txt", lambda: "".join(tables.traces())
    yield CORPUS / "said" / "walks.txt", lambda: "".join(tables.walks())
    yield CORPUS / "said" / "words.txt", lambda: "".join(tables.words())
    yield CORPUS / "said" / "conditions.txt", lambda: "".join(tables.conditions())
    yield CORPUS / "said" / "masks.txt", lambda: "".join(tables.changed_values())
    for title, made in ALTERED_RESULTS.items():
        yield CORPUS / "said" / f"altered-{title}.txt", lambda made=made: "".join(altered(*made()))
    texts = (CORPUS / "statements.txt").read_text(encoding="utf-8").splitlines()
    for server in (*SERVERS, "derby"):
        yield (
            CORPUS / "said" / f"statements.{server}.txt",
            lambda s=server: "".join(tables.statements(s, texts)),
        )
        yield (
            CORPUS / "said" / f"readings.{server}.txt",
            lambda s=server: "".join(tables.readings(s, texts)),
        )
        yield (
            CORPUS / "said" / f"statements-by-chance.{server}.txt",
            lambda s=server: "".join(tables.statements_by_chance(s, texts)),
        )
        yield (
            CORPUS / "said" / f"levels.{server}.txt",
            lambda s=server: "".join(tables.of_levels(s)),
        )
    for server in SERVERS:
        yield (
            CORPUS / "said" / f"relations.{server}.txt",
            lambda s=server: "".join(tables.relations(s)),
        )
        dump = CORPUS / "dumps" / f"{server}.sql"
        yield (
            CORPUS / "said" / f"dump.{server}.txt",
            lambda s=server, p=dump: "".join(tables.dumps(s, p)),
        )
    for server in SERVERS:
        yield (
            CORPUS / "said" / f"made-up.{server}.txt",
            lambda s=server: "".join(tables.made_up_on(s, CORPUS / "dumps" / f"{s}.sql")),
        )
    for server in ("postgresql", "mysql"):
        yield (
            CORPUS / "said" / f"coincidences.{server}.txt",
            lambda s=server: "".join(tables.coincidences(s)),
        )
    both = {(case.name, case.server): case for case in cases()}
    for (name, server), case in both.items():
        played = both.get((name.replace("explore-", "play-", 1), server))
        if name.startswith("explore-") and played is not None:
            path = CORPUS / "said" / f"derived-{name.removeprefix('explore-')}.{server}.txt"
            yield path, lambda case=case, played=played: derived(case, played)
    for name, files in log_cases():
        yield CORPUS / "said" / f"log-{name}.txt", lambda files=files: steady(said_of_log(files))
        yield CORPUS / "said" / f"damaged-{name}.txt", lambda files=files: damaged(files)


def expectations() -> str:
    """Of the recordings that are altered."""
    played = {
        case.said.stem: recording_file.from_json(recorded(case).encode(), "seen.json")
        for case in cases()
        if case.said.stem.removeprefix("play-") in ALTERED
    }
    explored = {
        path.stem: exploration_file.from_json(printed_json(path).encode(), path.name)
        for path in sorted((CORPUS / "said").glob("explore-*.txt"))[::9]
    }
    lines = (*tables.expectations(played), *tables.lines_of_terms({**played, **explored}))
    return "".join(lines)


def judged() -> str:
    """What is made of recordings and explorations for other results: the statements that a check
    blames, the cells of the matrix of levels, the file of loops.
    """
    found, deadlocks = [], []
    for case in cases():
        if case.name.removeprefix("play-") not in {one.partition(".")[0] for one in ALTERED}:
            continue
        played = recording_file.from_json(recorded(case).encode(), "seen.json")
        deadlocks += [churn_result.DeadlockKind(case.name, 2, 7, played)] * bool(played.deadlocks)
        for one in (
            played,
            replace(played, deadlocks=()),
            replace(played, deadlocks=(), events=()),
        ):
            for blame in blamed(read_scenario(case.text.encode(), "case.yaml"), one):
                found.append(f"{case.said.stem}: line {blame.place.line}: {blame.text}\n")
    for path in sorted((CORPUS / "said").glob("explore-*.txt"))[::5]:
        explored = exploration_file.from_json(printed_json(path).encode(), path.name)
        for probe in PROBES:
            try:
                cell = cell_of(probe, "read committed", explored, (1, 2, 1, 2))
            except TargetError as error:
                found.append(f"{path.stem}: {probe.name}: {error}\n")
            else:
                found.append(f"{path.stem}: {probe.name}: {tables.brief(cell)}\n")
    for seed in range(6):
        chance = random.Random(seed)
        loops = {
            name: churn_result.LoopResult(
                iterations=chance.randrange(90), failures={"deadlock": seed}, p50_ms=1.0, p95_ms=chance.random(), p99_ms=9.0
            )
            for name in ("dispatcher", "planner")
        }  # fmt: skip
        result = churn_result.ChurnResult(
            scenario="berth-swap", target=deadlocks[0].recording.target, committed=True, seconds=chance.choice((0.0, 2.0, 3.14159)),
            iterations=sum(one.iterations for one in loops.values()), lock_waits=chance.choice((None, 0, 4)),
            waiting=chance.choice((None, 0.5)), samples=seed, unread=seed % 2, interrupted=seed == 3, transactions=loops,
            stuck=(churn_result.StuckLoopResult(loop="planner", statement=2, sql="commit"),) * (seed % 3), hidden=chance.choice((None, 0, 1)),
            failures={kind: chance.randrange(2) for kind in churn_result.FAILURES}, deadlocks=tuple(deadlocks[: seed % 3]),
            handlers={"planner": ("40P01",)} if seed % 2 else {},
        )  # fmt: skip
        plain = churn_result.to_plain(result, [Path("seen-1.json")] * (seed % 2))
        found.append(
            f"loops {seed}: found any {result.found_any}; {json.dumps(tables.rounded(plain))}\n"
        )
    return "".join(found)


def functions_by_chance() -> str:
    """Of statements, of lines of logs, and of scenarios."""
    statements = (CORPUS / "statements.txt").read_text(encoding="utf-8").splitlines()
    lines = [
        line
        for _, files in log_cases()
        for line in Path(files[0]).read_text(encoding="utf-8").splitlines()[:80]
    ]
    made = tables.functions_by_chance(statements, lines, [samples.text(n) for n in samples.names()])
    return "".join(made)


def reports_by_chance() -> str:
    """Of results that no run had, but that its format allows."""
    played = next(case for case in cases() if case.name == "play-retried")
    found = []
    for title, text in tables.values_of_formats(json.loads(recorded(played))):
        said = _printed(text, REPORT)
        lines = said.splitlines()
        if "[exit code 0]" in lines:
            digest = hashlib.sha256(said.encode()).hexdigest()[:16]
            found.append(f"{title}: {digest}, {len(lines)} lines\n")
        else:
            found.append(f"{title}: {' '.join(lines[1:])}\n")
    return "".join(found)


def dump_of(server: str, where: Any) -> str:
    """The tables of ``test_dumps``, as the server's own program writes them."""
    if server == "postgresql":
        named = psycopg.conninfo.conninfo_to_dict(where)
        with psycopg.connect(**named, autocommit=True) as admin:
            admin.execute("drop database if exists dumped")
            admin.execute("create database dumped")
        with psycopg.connect(**{**named, "dbname": "dumped"}, autocommit=True) as inside:
            inside.execute(test_dumps.POSTGRESQL)
        words = ["pg_dump", "-h", named["host"], "-U", named["user"], "--schema-only", "dumped"]
    else:
        with over_socket(**where, autocommit=True) as admin, admin.cursor() as cursor:
            for sql in ("drop database if exists dumped", "create database dumped", "use dumped"):
                cursor.execute(sql)
            for _, sql in rules_of(server).sql.split(test_dumps.INNODB):
                cursor.execute(sql)
        program = "mariadb-dump" if server == "mariadb" else "mysqldump"
        words = [
            program,
            "-u",
            "root",
            "-S",
            where["unix_socket"],
            "--no-data",
            "--routines",
            "dumped",
        ]
    return subprocess.run(words, capture_output=True, text=True, check=True).stdout


def without_places(folder: Path) -> None:
    """The logs without the folders of the machine on which they were written."""
    for file in folder.iterdir():
        text = re.sub(r"/\S+/own-\w+", "/srv/port", file.read_text(encoding="utf-8"))
        file.write_text(re.sub(r"/\S+/mysql-programs/usr/", "/usr/", text), encoding="utf-8")


@contextlib.contextmanager
def locale(language: str) -> Iterator[None]:
    """One that a server finds which is started meanwhile."""
    with tempfile.TemporaryDirectory(prefix="catenum-locale-") as place:
        Path(place).chmod(0o755)
        words = ["localedef", "-i", language, "-f", "UTF-8", f"{place}/{language}.UTF-8"]
        subprocess.run(words, capture_output=True, check=False)  # ends with 1 where it warns
        os.environ["LOCPATH"] = place
        yield
        del os.environ["LOCPATH"]


def take_everything(only: str) -> None:
    """All from real servers; a private one of each kind must be kept running for the moments."""
    for case in cases():
        if only in case.said.name:
            print("tape:", case.said.stem, flush=True)
            take(case)
    from catenum.engines.private import kept_servers

    for title, server in moments():
        if only not in f"now-{title}.{server}":
            continue
        ((found, _), *_) = kept_servers(server, {})

        def connect(name: str, server: str = server, where: Any = found.where) -> Any:
            if server == "postgresql":
                return psycopg.connect(where, application_name=name)
            session = over_socket(**where, program_name=name)
            if name == "maker":
                session.cursor().execute("create database if not exists corpus")
            session.select_db("corpus")
            return session

        print("moment:", title, server, flush=True)
        take_moment(title, server, connect)
    for server in SERVERS:
        for statements in (False, True):
            if only in f"log-{server}":
                print("logs:", server, flush=True)
                take_logs(server, statements)
        if only in f"dump.{server}":
            (CORPUS / "dumps").mkdir(exist_ok=True)
            (CORPUS / "dumps" / f"{server}.sql").write_text(
                dump_of(server, kept_servers(server, {})[0][0].where)
            )
    for language in ("de_DE", "ko_KR"):
        if only in f"log-postgresql-{language}":
            folder = CORPUS / "logs" / f"postgresql-{language}"
            shutil.rmtree(folder, ignore_errors=True)
            folder.mkdir(parents=True)
            with locale(language):
                other_kinds(folder, f"{language}.UTF-8")
            without_places(folder)


if __name__ == "__main__":
    os.environ.setdefault("CATENUM_TESTS_DATA", tempfile.mkdtemp(prefix="catenum-corpus-data-"))
    reads = argparse.ArgumentParser(description=__doc__)
    reads.add_argument(
        "--servers", action="store_true", help="take tapes and logs from real servers first"
    )
    reads.add_argument("--only", default="", help="of which the name has this text")
    given = reads.parse_args()
    if given.servers:
        take_everything(given.only)
    for path, make in everything():
        if given.only in path.name:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(make())
    sys.exit(0)
