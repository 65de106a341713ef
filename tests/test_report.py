"""Reports: what a page says, that nothing of data runs in it, what --mask leaves out, how large it is."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from dataclasses import replace
from html.parser import HTMLParser
from pathlib import Path

import pytest

import catenum
from catenum import samples
from catenum.core.document import recording as documents
from catenum.core.document.detail import DETAILS
from catenum.core.document.masking import Masker
from catenum.core.document.steps import steps_of
from catenum.core.errors import InputError
from catenum.core.record.recording import Recording, TableRows
from catenum.core.record.recording_file import from_json, to_json
from catenum.render.html.graph import graph_of
from catenum.render.markdown import escaped
from conftest import until
from test_check import written

CORPUS = Path(__file__).parent / "corpus" / "said"
#: What would run, or close what it stands in, if it were not escaped.
HOSTILE = "</script><script>document.title='owned'</script><img src=x onerror=\"document.title='owned'\"> ${7*7} {{7*7}} `$x$ \x1b[31m"


def recorded(name: str, server: str = "postgresql") -> Recording:
    """From a trial's JSON beside the tests: its recordings are whole."""
    text = (CORPUS / f"trial-{name}.{server}.txt").read_text()
    plain = json.loads(text[text.index("{\n") : text.index("\n}\n") + 2])
    return from_json(json.dumps(plain["variants"][0]["recordings"][0]).encode(), name)


class Page(HTMLParser):
    """What a page consists of: its elements, and the text that a reader sees."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.handlers: list[str] = []
        self.links: list[str] = []
        self.text = ""
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.append(tag)
        self.handlers += [name for name, _ in attrs if name.startswith("on")]
        self.links += [
            value or "" for name, value in attrs if name in ("src", "href", "xlink:href")
        ]

    def handle_data(self, data):
        self.text += data


# -- without a server ------------------------------------------------------------------------------


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
def test_the_moves_say_who_ran_who_holds_what_and_who_waits(server):
    recording = recorded("tug-upgrade", server)
    steps = steps_of(recording)
    assert [step.number for step in steps] == list(
        dict.fromkeys(m.number for m in recording.schedule)
    )
    assert [step.transaction for step in steps] == [
        next(m.transaction for m in recording.schedule if m.number == step.number) for step in steps
    ]
    closing = [step for step in steps if step.cycle]
    assert len(closing) == len(recording.deadlocks) == 1
    members = {member.transaction for member in recording.deadlocks[0].members}
    assert set(closing[0].cycle) == members
    assert closing[0].victim == recording.deadlocks[0].victim
    assert {(edge.waiter, edge.holder) for edge in closing[0].edges} == {
        (member.transaction, member.waits_for) for member in recording.deadlocks[0].members
    }
    for step in steps:
        picture = next(one for one in recording.pictures if one.move == step.number)
        for standing in step.standing:
            listed = {(lock.what, lock.mode) for lock in standing.holds}
            granted = {
                (lock.resource.text, str(lock.mode))
                for lock in picture.locks
                if lock.granted
                and lock.transaction == standing.name
                and lock.resource.kind != "index"
            }
            assert listed == granted
        waiting = {standing.name for standing in step.standing if standing.waits}
        assert waiting == {
            standing.name for standing in step.standing if standing.state == "waits for a lock"
        }
    assert graph_of(closing[0]) is not None
    assert {standing.state for standing in steps[-1].standing} <= {"committed", "rolled back"}


def test_rows_are_carried_on_and_what_changed_is_marked():
    recording = recorded("tug-upgrade")
    first, *_, last = recording.pictures
    table = next(iter(first.rows))
    before = first.rows[table]
    changed = replace(before, rows=(("99", *before.rows[0][1:]), *before.rows[1:]))
    pictures = [replace(one, rows={}) for one in recording.pictures]
    pictures[0] = first
    pictures[-1] = replace(last, rows={table: changed})
    steps = steps_of(replace(recording, pictures=tuple(pictures)))
    assert all(step.tables[0].rows == before.rows for step in steps[:-1])
    assert all(not step.tables[0].changed for step in steps[:-1])
    assert {row for row, _ in steps[-1].tables[0].changed} == {0}
    assert steps[-1].tables[0].gone == 1


def hostile(recording: Recording) -> Recording:
    """With a text that would run, wherever data can stand."""
    plain = json.loads(to_json(recording))

    def poisoned(value, key=""):
        if isinstance(value, dict):
            return {name: poisoned(one, name) for name, one in value.items()}
        if isinstance(value, list):
            return [poisoned(one, key) for one in value]
        if isinstance(value, str) and key in FREE:
            return f"{value} {HOSTILE}"
        return value

    FREE = {
        *(
            "about",
            "sql",
            "statements",
            "message",
            "detail",
            "hint",
            "server_report",
            "evidence",
            "advice",
            "title",
        ),
        *("notes", "text", "rule", "labels", "url", "version", "rows", "columns", "note", "kept"),
    }
    plain = poisoned(plain)
    plain["outcome"]["holds"] = {HOSTILE: False}
    plain["holds_sql"] = {HOSTILE: f"select '{HOSTILE}'"}
    text = json.dumps(plain).replace('"inbound"', json.dumps("<svg/onload=alert(1)>"))
    return from_json(text.encode(), "hostile")


def test_nothing_of_data_is_markup():
    clean, page = (
        Page(catenum.report(one))
        for one in (recorded("tug-upgrade"), hostile(recorded("tug-upgrade")))
    )
    assert page.tags.count("script") == 1
    assert page.tags.count("img") == 0
    assert page.handlers == []
    assert set(page.tags) == set(clean.tags)
    assert "document.title='owned'" in page.text
    assert "{{7*7}}" in page.text
    assert "<svg/onload=alert(1)>" in page.text


def test_the_page_needs_nothing_from_elsewhere():
    text = catenum.report(recorded("tug-upgrade"))
    assert all(link.startswith("#") for link in Page(text).links)
    assert not re.search(r"@import|url\(\s*['\"]?(?!#)", text)
    assert "default-src &#39;none&#39;" in text


@pytest.mark.parametrize(
    "text", ["# a", "| x", "<b>", "a_b*c", "[x](y)", "`c`", "@port", "line\nbreak"]
)
def test_markdown_has_no_marks_of_data(text):
    shown = escaped(text)
    assert "\n" not in shown
    assert not re.search(r"(?<!\\)[#|<>_*`@\[]", shown)


def test_a_fence_is_longer_than_any_within_it():
    recording = recorded("tug-upgrade")
    definition = {**(recording.definition or {}), "about": "```` and ```"}
    text = catenum.report(replace(recording, definition=definition), form="markdown")
    assert "\n`````yaml\n" in text


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
@pytest.mark.parametrize("form", ["html", "markdown"])
def test_mask_leaves_no_value(server, form):
    secret = "Halcyon-4711"
    recording = recorded("tug-upgrade", server)
    poisoned = from_json(
        to_json(recording)
        .replace("Bellwether", secret)
        .replace("Margarethe", "Oriel O'Neil")
        .encode(),
        "x",
    )
    assert secret in catenum.report(poisoned, form=form)
    text = catenum.report(poisoned, form=form, mask=True)
    for value in (secret, "Neil"):
        assert value not in text
    assert not re.search(r"\bid ?= ?\d", text)
    assert "carries no scenario" in text


def test_masked_values_are_alike_where_they_were():
    masker = Masker()
    rows = masker.rows(TableRows(columns=("a", "b"), rows=(("x", None), ("y", "x")), total=2)).rows
    assert rows == (("v1", None), ("v2", "v1"))


def test_a_huge_recording_makes_a_small_page_that_says_what_it_leaves_out(tmp_path):
    recording = recorded("tug-upgrade")
    rows = tuple((str(n), "x" * 2_000, "y" * 3_000) for n in range(10_000))
    big = replace(
        recording,
        rows={"tug": TableRows(columns=("id", "a", "b"), rows=rows, total=10_000)},
        pictures=tuple(
            replace(
                one,
                rows={
                    "tug": TableRows(columns=("id", "a", "b"), rows=rows[n : n + 40], total=10_000)
                },
            )
            for n, one in enumerate(recording.pictures)
        ),
    )
    (tmp_path / "big.json").write_text(to_json(big))
    assert (tmp_path / "big.json").stat().st_size > 50_000_000
    text = catenum.report(tmp_path / "big.json", output=tmp_path / "big.html")
    assert len(text.encode()) <= 5_000_000
    assert "more rows left out" in text


def test_moves_are_cut_with_a_word():
    stepper = documents.stepper([("", recorded("tug-upgrade"))], DETAILS[-2])
    assert len(stepper.columns[0].steps) <= DETAILS[-2].moves
    few = documents.stepper([("", recorded("tug-upgrade"))], replace(DETAILS[0], moves=2))
    assert re.fullmatch(r"\d+ more moves left out.*", few.columns[0].left_out)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ('{"format": "catenum-trial/7"}', "is of the format catenum-trial/7"),
        ('{"format": "catenum-recording/9"}', "catenum-recording/9"),
        ('{"format": "catenum-lint/1", "read_by": {}, "problems": []}', "no report is made"),
        ("{", "not a recording"),
        ("hello", "nor like a result of Catenum"),
    ],
)
def test_what_is_no_result_is_an_error(tmp_path, text, message):
    path = tmp_path / "x.json" if text.startswith("{") else tmp_path / "x.txt"
    path.write_text(text)
    with pytest.raises(InputError, match=re.escape(message)):
        catenum.report(path)


# -- on a server -----------------------------------------------------------------------------------


@pytest.fixture
def run_of_swap(call, tmp_path):
    """A recording, and its scenario."""
    written(
        tmp_path,
        "swap",
        remedies={"same": {"reorder": {"late": [2, 1]}}},
        holds={"rows": "select count(*) = 2 from berth"},
    )
    call("play", "swap.yaml", "-o", "run.json")


@pytest.fixture
def results(call, run_of_swap):
    """One of each kind of what --save writes."""
    call("explore", "swap.yaml", "-o", "all")
    call("trial", "swap.yaml", "-o", "trial.json")
    call("propose", "swap.yaml", "-o", "proposal.json")
    call("churn", "swap.yaml", "--for", "1s", "-o", "loops")
    call("pace", "swap.yaml", "--clients", "1", "--for", "1s", "-o", "pace.json")
    call("trial", "swap.yaml", "--churn", "--for", "1s", "-o", "contest.json")
    return ("run.json", "all", "trial.json", "proposal.json", "loops", "pace.json", "contest.json")


def test_the_last_move_leaves_each_transaction_as_the_run_says(kept):
    """Of every sample: what is followed move by move ends as what was recorded."""
    states = {
        "committed": {"committed"},
        "failed": {"rolled back"},
        "rolled back": {"rolled back"},
        "left open": {"in a transaction, idle"},
        "cut off": {"waits for a lock"},
        "killed": {"session ended from outside: rolled back"},
    }
    with catenum.connect() as server:
        for name in samples.names():
            found = catenum.play(name, target=server, locks="full")
            last = {one.name: one.state for one in steps_of(found)[-1].standing}
            for record in found.transactions:
                assert last[record.name] in states[record.status], (name, record.name)
            shown = catenum.report(found, form="markdown")
            assert all(f"| {step.number} |" in shown for step in steps_of(found))
            rows = {
                table.name: table.rows for table in steps_of(found)[-1].tables if table.total <= 40
            }
            assert all(found.rows[table].rows == content for table, content in rows.items()), name


def test_each_kind_of_result_has_its_report(call, results, tmp_path):
    for source in results:
        done = call("report", source, "-o", "one.html", "--format", "html")
        assert done.code == 0, done.err
        page = Page((tmp_path / "one.html").read_text())
        assert "swap" in page.text
        masked = call("report", source, "--format", "markdown", "--mask").out
        assert not re.search(r"\bid ?= ?\d|\bberth \d", masked)
    assert call("report", *results, "-o", "case.html", "--title", "The night of the swap").code == 0
    text = (tmp_path / "case.html").read_text()
    assert text.count("<article") == len(results)
    assert "The night of the swap" in text
    for said in (
        "go through the rows of berth in late in the order of the keys",
        "Proven: every schedule",
        "The same schedule as it is",
        "catenum play scenario.yaml",
    ):
        assert said in text
    assert (tmp_path / "case.html").stat().st_mode & 0o077 == 0


def test_the_scenario_of_a_report_runs_again_to_the_same_end(call, run_of_swap, tmp_path):
    text = call("report", "run.json", "--format", "markdown").out
    scenario = re.search(r"```yaml\n(.*?)```", text, re.DOTALL)
    command = re.search(r"```shell\n(catenum play .*?)\n```", text)
    assert scenario is not None
    assert command is not None
    (tmp_path / "scenario.yaml").write_text(scenario[1])
    done = call(*command[1].split()[1:], "--json")
    assert (
        done.json["outcome"]["kind"]
        == json.loads((tmp_path / "run.json").read_text())["outcome"]["kind"]
    )


def test_a_store_has_a_report(call, start, tmp_path, kept):
    done = call("watch", "--for", "1500ms", "--store", "h.sqlite", "--target", "local:postgresql")
    assert done.code == 0, done.err
    text = call("report", "h.sqlite", "--format", "markdown", "--since", "1h ago").out
    assert "What was seen" in text
    assert call("report", "h.sqlite", "--mask", "--format", "markdown").code == 2


@pytest.mark.parametrize(
    ("words", "code"),
    [
        (("nowhere.json", "-o", "x.html"), 2),
        (("run.json", "-o", "missing/x.html"), 2),
        (("run.json", "--since", "soon", "-o", "x.html"), 2),
        (("run.json", "--pick", "2", "-o", "x.html"), 0),
    ],
)
def test_wrong_calls_end_with_their_code(call, tmp_path, words, code):
    (tmp_path / "run.json").write_text(to_json(recorded("tug-upgrade")))
    assert call("report", *words).code == code
    assert (tmp_path / "x.html").exists() == (code == 0)


# -- in a browser ----------------------------------------------------------------------------------

BROWSER = shutil.which("chromium") or shutil.which("chromium-browser")
in_browser = pytest.mark.skipif(
    BROWSER is None, reason="no Chromium here: apt-get install chromium"
)


def dom_of(page: Path, folder: Path) -> str:
    """The page after its scripts have run."""
    quiet = [
        f"--disable-{what}"
        for what in ("gpu", "quic", "background-networking", "component-update", "sync")
    ]
    done = subprocess.run(
        [
            str(BROWSER),
            "--headless",
            "--no-sandbox",
            "--no-first-run",
            *quiet,
            f"--user-data-dir={folder}",
            "--dump-dom",
            page.as_uri(),
        ],
        capture_output=True,
        text=True,
        timeout=120,
        check=True,
    )
    return done.stdout


@in_browser
@pytest.mark.parametrize("policy", [True, False], ids=["with its policy", "by escaping alone"])
def test_a_hostile_recording_does_not_run(tmp_path, policy):
    text = catenum.report(hostile(recorded("tug-upgrade")), title=HOSTILE)
    if not policy:
        text = re.sub(r'<meta http-equiv="Content-Security-Policy"[^>]*>', "", text)
    (tmp_path / "x.html").write_text(text)
    dom = dom_of(tmp_path / "x.html", tmp_path / "profile")
    title = re.search(r"<title>(.*?)</title>", dom, re.DOTALL)
    assert title is not None
    assert title[1].startswith("&lt;/script&gt;")
    assert Page(dom).tags.count("img") == 0


@in_browser
def test_the_page_steps_and_without_scripts_all_moves_stand_there(tmp_path):
    text = catenum.report(recorded("tug-upgrade"))
    moves = text.count('<section class="move"')
    (tmp_path / "on.html").write_text(text)
    (tmp_path / "off.html").write_text(re.sub(r"<script>.*?</script>", "", text, flags=re.DOTALL))
    on, off = (dom_of(tmp_path / name, tmp_path / "profile") for name in ("on.html", "off.html"))
    assert on.count('class="move current"') == 1
    assert f"Move 1 of {moves}" in on
    assert "stepping" not in off.split("</style>")[1]
    assert off.count('<section class="move"') == moves
    assert until(lambda: moves > 3, "moves")
