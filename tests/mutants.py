"""Small changes of meaning in ``core``, each held against the tests that need no server: ``make
mutants``.

A change that no test notices is a place where an error would go unnoticed. Which changes are made
depends on nothing but the source and ``--first``; what survives because it changes nothing that can
be seen is listed, with the reason, in ``mutants.txt``.
"""

from __future__ import annotations

import argparse
import ast
import copy
import itertools
import json
import os
import queue
import random
import shutil
import subprocess
import sys
import tempfile
import threading
import xml.etree.ElementTree as ElementTree
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import coverage

ROOT = Path(__file__).parents[1]
CORE = ROOT / "src/catenum/core"
EQUIVALENT = Path(__file__).with_name("mutants.txt")
#: How long the tests of one change may take by themselves; one that makes a loop endless is noticed
#: by the limit.
TESTS_S, LIMIT_S = 20.0, 120
#: The test of ``calls.py``.
ASKS = "tests/test_corpus.py::test_the_same_is_printed_of_what_a_server_said_once"

COMPARED: dict[type, type] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
COUNTED: dict[type, type] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.FloorDiv, ast.Div: ast.Mult, ast.FloorDiv: ast.Mult,
    ast.BitOr: ast.BitAnd, ast.BitAnd: ast.BitOr,
}  # fmt: skip
CALLED = {
    "min": "max",
    "max": "min",
    "any": "all",
    "all": "any",
    "startswith": "endswith",
    "endswith": "startswith",
}


@dataclass(frozen=True)
class Mutant:
    """One change: the module, the line, what is changed to what, and from which byte to which."""

    place: str
    line: int
    what: str
    first: int
    last: int
    put: str

    @property
    def name(self) -> str:
        return f"{self.place}: {self.what}"

    @property
    def text(self) -> str:
        """The whole module with the change."""
        raw = (CORE / self.place).read_bytes()
        return (raw[: self.first] + self.put.encode() + raw[self.last :]).decode()

    @property
    def is_python(self) -> bool:
        try:
            ast.parse(self.text)
        except SyntaxError:
            return False
        return True


def _quiet(tree: ast.Module) -> set[int]:
    """Nodes that say something to people or to the type checker: docstrings, annotations, messages
    of errors.
    """
    found: set[int] = set()
    for node in ast.walk(tree):
        said: list[ast.AST | None] = []
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            said = [node]
        elif isinstance(node, (ast.AnnAssign, ast.arg)):
            said = [node.annotation]
        elif isinstance(node, ast.FunctionDef):
            said = [node.returns]
        elif isinstance(
            node, (ast.Raise, ast.JoinedStr, ast.Import, ast.ImportFrom, ast.Assert)
        ) or (isinstance(node, ast.If) and "TYPE_CHECKING" in ast.unparse(node.test)):
            said = [node]
        elif isinstance(node, ast.ClassDef):
            said = list(node.decorator_list)
        for one in said:
            if one is not None:
                found |= {id(inner) for inner in ast.walk(one)}
    return found


def _changes(node: ast.AST) -> Iterator[ast.AST]:
    """Other nodes that could stand where this one does."""
    other = copy.deepcopy(node)
    if isinstance(other, ast.Compare) and type(other.ops[0]) in COMPARED:
        other.ops[0] = COMPARED[type(other.ops[0])]()
        yield other
    elif isinstance(other, ast.BoolOp):
        yield ast.BoolOp(ast.And() if isinstance(other.op, ast.Or) else ast.Or(), other.values)
        yield ast.BoolOp(other.op, other.values[1:]) if len(other.values) > 2 else other.values[0]
    elif isinstance(other, ast.UnaryOp) and isinstance(other.op, ast.Not):
        yield other.operand
    elif isinstance(other, ast.BinOp) and type(other.op) in COUNTED:
        yield ast.BinOp(other.left, COUNTED[type(other.op)](), other.right)
    elif isinstance(other, ast.Constant) and isinstance(other.value, bool):
        yield ast.Constant(not other.value)
    elif isinstance(other, ast.Constant) and isinstance(other.value, (int, float)):
        whole = isinstance(other.value, int) or not other.value
        yield ast.Constant(other.value + 1 if whole else other.value * 2)
    elif (
        isinstance(other, ast.Call) and isinstance(other.func, ast.Name) and other.func.id in CALLED
    ):
        yield ast.Call(ast.Name(CALLED[other.func.id], ast.Load()), other.args, other.keywords)
    elif (
        isinstance(other, ast.Call)
        and isinstance(other.func, ast.Attribute)
        and other.func.attr in CALLED
    ):
        changed = ast.Attribute(other.func.value, CALLED[other.func.attr], ast.Load())
        yield ast.Call(changed, other.args, other.keywords)
    elif isinstance(other, (ast.Tuple, ast.Set, ast.List)) and isinstance(
        getattr(other, "ctx", ast.Load()), ast.Load
    ):
        if len(other.elts) > 2:  # a pair is mostly two fields
            yield type(other)(
                other.elts[1:], *([ast.Load()] if not isinstance(other, ast.Set) else [])
            )
    else:
        yield from _other_ways(other)


def _other_ways(other: ast.AST) -> Iterator[ast.AST]:
    """The same for what decides where the program goes on."""
    if isinstance(other, ast.If):
        yield ast.If(ast.Constant(False), other.body, other.orelse)
        yield ast.If(ast.Constant(True), other.body, other.orelse)
    elif isinstance(other, ast.IfExp):
        yield other.body
        yield other.orelse
    elif isinstance(other, ast.Continue):
        yield ast.Break()
    elif isinstance(other, ast.comprehension) and other.ifs:
        yield ast.comprehension(other.target, other.iter, other.ifs[1:], other.is_async)
    elif isinstance(other, ast.Return) and not isinstance(other.value, (ast.Constant, type(None))):
        yield ast.Return(ast.Constant(None))


def mutants_of(path: Path) -> list[Mutant]:
    """Every change that is made to one module, in the order of its lines."""
    text = path.read_text()
    tree = ast.parse(text)
    quiet = _quiet(tree)
    lines = text.splitlines(keepends=True)
    starts = [0]
    for line in lines:
        starts.append(starts[-1] + len(line.encode()))
    raw, found = text.encode(), []

    def span(node: ast.AST) -> tuple[int, int]:
        return (
            starts[node.lineno - 1] + node.col_offset,
            starts[node.end_lineno - 1] + node.end_col_offset,
        )

    for node in ast.walk(tree):
        if id(node) in quiet:
            continue
        for other in _changes(node):
            if isinstance(node, ast.If):
                first, last = span(node.test)
                put = ast.unparse(other.test)
            elif isinstance(node, ast.comprehension):
                first = span(node.ifs[0])[0]
                last = span(node.ifs[0])[1]
                put = "True"
            else:
                first, last = span(node)
                put = ast.unparse(other)
                if isinstance(node, ast.expr) and not isinstance(other, ast.Constant):
                    put = f"({put})" if not isinstance(other, (ast.Tuple, ast.Call)) else put
            line = raw[:first].count(b"\n") + 1
            was = " ".join(raw[first:last].decode().split())
            what = f"{was} → {put}"
            found.append(Mutant(path.relative_to(CORE).as_posix(), line, what, first, last, put))
    return sorted(found, key=lambda one: (one.line, one.what))


def every_mutant(only: str) -> list[Mutant]:
    """All that can be made in modules whose path begins so."""
    return [
        one
        for path in sorted(CORE.rglob("*.py"))
        for one in mutants_of(path)
        if one.place.startswith(only)
    ]


def drawn(count: int, first: int, only: str) -> list[Mutant]:
    """As many changes, spread over the modules by their length."""
    every = every_mutant(only)
    random.Random(first).shuffle(every)
    sound = itertools.islice((one for one in every if one.is_python), count)
    return sorted(sound, key=lambda one: (one.place, one.line))


class Tests:
    """Which test runs which line, measured once."""

    def __init__(self, folder: Path, most_s: float) -> None:
        self._most_s = most_s
        self._by_line: dict[str, dict[int, list[str]]] = {}
        data = folder / "coverage"
        if not data.exists():
            environment = {
                **os.environ,
                "CATENUM_TESTS_WITHOUT_SERVERS": "1",
                "COVERAGE_FILE": str(data),
            }
            words = [
                "-n",
                "4",
                "-q",
                "--cov",
                str(CORE),
                "--cov-context",
                "test",
                "--cov-report=",
                "-p",
                "no:cacheprovider",
            ]
            words += ["--junitxml", str(folder / "times.xml")]
            subprocess.run(
                [sys.executable, "-m", "pytest", *words], cwd=ROOT, env=environment, check=False
            )
        self._seconds = {  # of those that pass: what fails by itself notices nothing
            f"{case.get('classname', '').replace('.', '/')}.py::{case.get('name')}": float(
                case.get("time", 0)
            )
            for case in ElementTree.parse(folder / "times.xml").iter("testcase")
            if not any(case.find(end) is not None for end in ("failure", "error", "skipped"))
        }
        measured = coverage.CoverageData(str(data))
        measured.read()
        for path in measured.measured_files():
            self._by_line[path] = {
                line: sorted(
                    {name.removesuffix("|run").removesuffix("|setup") for name in names if name}
                )
                for line, names in measured.contexts_by_lineno(path).items()
            }

    def touching(self, mutant: Mutant) -> list[str]:
        """The quickest first. What is run on import alone is behind every test of the module."""
        lines = self._by_line.get(str(CORE / mutant.place), {})
        named = lines.get(mutant.line) or sorted(
            {name for names in lines.values() for name in names}
        )
        passing = sorted((self._seconds[name], name) for name in named if name in self._seconds)
        spent = itertools.accumulate(seconds for seconds, _ in passing)
        quick = [name for (_, name), at in zip(passing, spent, strict=True) if at < self._most_s]
        return [*quick, *(name for name in _asking(mutant) if name in self._seconds)]


def _asking(mutant: Mutant) -> list[str]:
    """The tests that ask the module's functions in a process of their own, of which nothing is
    measured.
    """
    module = mutant.place.removesuffix(".py").replace("/", ".")
    return [
        f"{ASKS}[{path.stem}]"
        for path in sorted(ROOT.glob("tests/corpus/said/calls-*.txt"))
        if f"\n{module}:" in path.read_text()
    ]


def is_noticed(mutant: Mutant, tests: list[str], tree: Path) -> bool:
    """Whether one of the tests fails, or does not end, on the changed module."""
    module = tree / "catenum/core" / mutant.place
    before = module.read_text()
    module.write_text(mutant.text)
    environment = {
        **os.environ,
        "CATENUM_TESTS_WITHOUT_SERVERS": "1",
        "PYTHONPATH": str(tree),
        "PYTHONDONTWRITEBYTECODE": "1",
    }
    words = [
        "-x",
        "-q",
        "-p",
        "no:cacheprovider",
        "-p",
        "no:xdist",
        "-p",
        "no:cov",
        "--timeout",
        "60",
    ]
    listed = tree / "tests.args"
    listed.write_text("\n".join(tests))
    try:
        done = subprocess.run(
            [sys.executable, "-m", "pytest", *words, f"@{listed}"],
            cwd=ROOT, env=environment, check=False, capture_output=True, timeout=LIMIT_S,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return True
    finally:
        module.write_text(before)
    return done.returncode != 0


def main() -> int:
    reads = argparse.ArgumentParser(description=__doc__)
    reads.add_argument("--count", type=int, default=200)
    reads.add_argument("--first", type=int, default=1)
    reads.add_argument("--only", default="", help="modules whose path in core begins with this")
    reads.add_argument("--jobs", type=int, default=os.cpu_count() or 2)
    reads.add_argument("--measured", type=Path, help="a folder in which what was measured stays")
    reads.add_argument("--again", type=Path, help="only what this output says was not noticed")
    reads.add_argument("--seconds", type=float, default=TESTS_S, help="of tests for each change")
    given = reads.parse_args()
    listed = {
        line.rpartition("  # ")[0] for line in EQUIVALENT.read_text().splitlines() if "  # " in line
    }
    if given.again is None:
        chosen = drawn(given.count, given.first, given.only)
    else:
        before = given.again.read_text()
        every = every_mutant(given.only)
        chosen = [one for one in every if f": {one.place}:{one.line}: {one.what}\n" in before]
    with tempfile.TemporaryDirectory(prefix="catenum-mutants-") as made:
        folder = given.measured or Path(made)
        folder.mkdir(exist_ok=True)
        tests = Tests(folder, given.seconds)
        work: queue.Queue[Mutant] = queue.Queue()
        for one in chosen:
            work.put(one)
        survived: dict[str, list[Mutant]] = defaultdict(list)

        def take(number: int) -> None:
            tree = Path(made) / str(number)
            shutil.copytree(ROOT / "src", tree, ignore=shutil.ignore_patterns("__pycache__"))
            while True:
                try:
                    one = work.get_nowait()
                except queue.Empty:
                    return
                named = tests.touching(one)
                if not named or not is_noticed(one, named, tree):
                    kind = (
                        "equivalent"
                        if one.name in listed
                        else "not run"
                        if not named
                        else "not noticed"
                    )
                    survived[kind].append(one)
                    print(f"{kind}: {one.place}:{one.line}: {one.what}", flush=True)

        threads = [threading.Thread(target=take, args=(number,)) for number in range(given.jobs)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    left = len(survived["not run"]) + len(survived["not noticed"])
    same = len(survived["equivalent"])
    killed = len(chosen) - left - same
    print(
        json.dumps({"changes": len(chosen), "killed": killed, "equivalent": same, "survived": left})
    )
    return int(killed < 0.9 * (len(chosen) - same))


if __name__ == "__main__":
    sys.exit(main())
