"""What is not installed: a server's Python driver, a library that only some commands need. Said so;
the rest runs.
"""

from __future__ import annotations

import os
import subprocess
import sys

import pytest

from conftest import needs

HIDDEN = """
import sys

class Hides:
    def find_spec(self, name, *_):
        if name.partition(".")[0] in {modules!r}:
            raise ModuleNotFoundError(name, name=name)

sys.meta_path.insert(0, Hides())
from catenum.cli.main import main
sys.exit(main({words!r}))
"""
HEAVY = "scipy,numpy,matplotlib"


def without(modules: str, *words: object) -> subprocess.CompletedProcess:
    code = HIDDEN.format(modules=modules.split(","), words=list(map(str, words)))
    return subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, env=os.environ, check=False
    )


def test_postgresql_runs_without_the_driver_of_mariadb(kept):
    done = without("pymysql", "play", "tug-upgrade", "--quiet", "--expect", "deadlock")
    assert (done.returncode, done.stderr) == (0, "")


@pytest.mark.parametrize(
    ("module", "target"),
    [("pymysql", "mariadb://127.0.0.1:1"), ("psycopg", "postgresql://127.0.0.1:1/harbour")],
)
@pytest.mark.parametrize("command", [["play", "berth-swap"], ["now"]])
def test_a_missing_driver_is_named_with_what_to_install(module, target, command):
    done = without(module, *command, "--target", target)
    assert done.returncode == 3
    assert "is not installed" in done.stderr
    assert f"pip install {module}" in done.stderr
    assert "Traceback" not in done.stderr


def test_a_private_server_needs_its_driver(tmp_path):
    needs("mariadb")
    done = without("pymysql", "play", "berth-swap", "--target", "local:mariadb")
    assert (done.returncode, "pip install pymysql" in done.stderr) == (3, True)


def test_a_slim_image_runs_what_neither_draws_nor_measures(kept, tmp_path):
    saved = tmp_path / "seen.json"
    assert without(HEAVY, "explore", "berth-swap", "--quiet").returncode == 1
    assert without(HEAVY, "now", "--json").returncode == 0
    assert (
        without(HEAVY, "play", "berth-swap", "--expect", "deadlock", "--save", saved).returncode
        == 0
    )
    for words, library in ((("draw", saved), "matplotlib"), (("churn", "berth-swap"), "scipy")):
        done = without(HEAVY, *words)
        assert (done.returncode, f"pip install {library}" in done.stderr, done.stdout) == (
            2,
            True,
            "",
        )


LOADED = """
import importlib, sys
for module in {modules!r}:
    importlib.import_module(module)
print(*sorted(sys.modules))
"""


@pytest.mark.parametrize("command", ["now", "watch", "release", "preflight", "history"])
@pytest.mark.parametrize(
    ("server", "others"),
    [("mariadb", ("mysql", "postgresql")), ("postgresql", ("mysql", "mariadb"))],
)
def test_who_watches_loads_no_parser_and_one_server_s_rules(command, server, others):
    modules = [f"catenum.cli.commands.{command}", f"catenum.engines.{server}.monitor"]
    code = LOADED.format(modules=modules)
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    loaded = set(done.stdout.split())
    assert f"catenum.core.servers.{server}" in loaded
    unwanted = {
        "sqlglot",
        "pydantic",
        "yaml",
        "scipy",
        "numpy",
        "matplotlib",
        *(f"catenum.core.servers.{one}" for one in others),
    }
    assert not loaded & unwanted
