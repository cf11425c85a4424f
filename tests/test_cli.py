"""rmend as a user runs it: the demo, what each command prints, exit codes, and bad input."""

from __future__ import annotations

import hashlib
import json
import os
import re
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from contextlib import closing
from itertools import pairwise
from pathlib import Path

import pytest
import typer

import rapid_mender as rm
from rapid_mender.cli.exits import Terminated, errors_in_words
from rapid_mender.demo.papers import PAPERS

from . import databases, length
from .commands import Ran
from .killing import kill_merges, kill_syncs, kill_threads, kill_undos, place

Rmend = Callable[..., Ran]
JOB = 'store = "sqlite:///register.db"\ntable = "trees"\nkey = ["district", "tag_no"]\nincoming = "survey-1.csv"\n'


@pytest.fixture
def demo(tmp_path: Path) -> Path:
    """The demo's files as they are before the story begins."""
    from rapid_mender.demo.data import make

    make(tmp_path / "h")
    return tmp_path / "h"


def print_of(path: Path) -> tuple[str, int]:
    return hashlib.sha256(path.read_bytes()).hexdigest(), path.stat().st_mtime_ns


@pytest.mark.slow
def test_demo_tells_its_story(rmend: Rmend, tmp_path: Path) -> None:
    told = rmend("demo", "h", "--json").json["steps"]
    by_command = [(step["command"].split()[1], step["output"]) for step in told]
    counts = [output["counts"] for name, output in by_command if name in ("preview", "merge")]
    assert counts[0] == counts[1] == {"insert": 29, "update": 252, "delete": 0, "skip": 163, "reject": 8}
    assert counts[2] == {"insert": 0, "update": 0, "delete": 0, "skip": 444, "reject": 8}
    assert counts[3] == {"insert": 0, "update": 1, "delete": 0, "skip": 0, "reject": 7}, "the mended reject"
    assert (counts[4]["delete"], counts[5]["insert"]) == (2, 0)
    assert counts[6] == counts[7] == {"insert": 0, "update": 0, "delete": 5, "skip": 336, "reject": 0}
    assert by_command[0] == ("check", by_command[0][1] | {"problems": []})
    assert by_command[2][1]["records"][0]["reason"] == "95.0 m is taller than any tree in Harrowmere"
    groups = next(output["groups"] for name, output in by_command if "groups" in output)
    assert [g["after"] - g["before"] for g in groups] == [-5, 5]
    by_name = dict(reversed(by_command))  # the first of each
    assert [b["batch_no"] for b in by_name["batches"]["batches"]] == [1, 2, 3, 4, 5, 6]
    changes = by_name["history"]["changes"]
    assert [c["batch_no"] for c in changes] == [1, 4, 5]
    assert all(one["new"] == following["old"] for one, following in pairwise(changes))
    (would, did, office), (right, wrong) = (([output for name, output in by_command if name == one]) for one in ("undo", "verify"))
    assert would["counts"] == did["counts"] == {"insert": 0, "update": 60, "delete": 0}
    assert (would["conflicts"], would["batch"], did["batch"]) == ([], None, 8)
    assert (right["holds"], right["sealed"], wrong["holds"]) == (True, 2, False)
    assert [(one["tag_no"], one["column"], one["after"]) for one in wrong["differences"]] == [(1, "height_m", "99.0")]
    assert (by_name["sync"]["filled"], len(by_name["h/follow.py"]["lines"])) == (2029, 6)
    assert [one["behind"] for one in by_name["followers"]["followers"]] == [0, 771, 0]
    assert sum(office["counts"].values()) == next(one["captures"] for _, one in by_command if "captures" in one)[0]["recorded"] > 4
    *_, clerks, life = (output for name, output in by_command if name == "history")
    clerks = clerks["changes"]
    assert [(one["warden"], one["valid_from"]) for one in life["rows"]][2:4] == [("R. Quell", "2022-04-30"), ("T. Brisley", "2023-01-09")]
    assert (by_command[-1][1]["sound"], by_command[-1][1]["rows"], counts[-1]["update"]) == (True, 201, 1)
    assert {(one["actor"], one["application"], one["batch_no"]) for one in clerks} == {("Ines", "Tree Ledger 2", None)}
    shown = rmend("demo", "h")
    assert shown.code == 0
    for step in told:  # the commands that it prints can be repeated
        assert f"$ {step['command']}" in shown.out
    repeated = subprocess.run(
        next(step["command"] for step in told if "--compare" in step["command"]).replace("rmend", f"{sys.executable} -m rapid_mender", 1),
        shell=True, cwd=tmp_path, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert (repeated.returncode, "public-map" in repeated.stdout or "follows" in repeated.stdout) == (0, True)
    capture = ("trees", "sqlite:///h/register.db")[::-1]
    assert "is not recorded until" in rmend("capture", "pause", *capture).out
    with sqlite3.connect(tmp_path / "h" / "register.db") as connection:
        touched = connection.execute("UPDATE trees SET warden = 'nobody' WHERE tag_no < 9").rowcount
    connection.close()
    mended = rmend("capture", "resume", *capture, "--mend", "--json").json
    assert (mended["counts"]["update"] > 0, mended["unknown"] > 1000, mended["whole"]) == (True, True, False)
    assert mended["counts"]["update"] < touched
    assert "nobody knows" in rmend("capture", "resume", *capture, "--mend").out
    (tmp_path / "h" / "mine.txt").write_text("keep")
    refused = rmend("demo", "h")
    assert (refused.code, "mine.txt" in refused.err) == (2, True)


def test_preview_and_a_second_merge_write_nothing(rmend: Rmend, demo: Path) -> None:
    before = print_of(demo / "register.db")
    shown = rmend("preview", "h/survey-1.toml")
    assert (shown.code, print_of(demo / "register.db")) == (0, before)
    assert "≠" in shown.out
    assert "height_m: '1200' is" in shown.out
    merged = rmend("merge", "h/survey-1.toml", "--strict")
    assert (merged.code, "Batch 1." in merged.out) == (3, True)
    assert "The 8 rejects are in h/survey-1.rejects.csv, with their reasons." in merged.out
    rejects = (demo / "survey-1.rejects.csv").read_text().splitlines()
    assert len(rejects) == 9
    assert rejects[8].startswith('352,"the line has 4 values, the header 9","Northfold,77,Ulmus glabra,torn page"')
    again = rmend("merge", "h/survey-1.toml", "--json")
    assert (again.code, again.json["batch"], again.json["written"]) == (0, 2, False)
    history = rmend("history", "h/survey-1.toml", "--key", "district=Tanner's Row", "--key", "tag_no=12", "--json")
    assert len(history.json["changes"]) == 1
    assert history.json["changes"][0]["changed"] == ["girth_cm", "height_m", "surveyed_on"]
    newest = rmend("history", f"sqlite:///{demo}/register.db", "--table", "trees", "--limit", 2, "--action", "insert")
    assert "newest 2;" in newest.out
    assert "Tanner's Row · " in newest.out, "which record it was"
    assert rmend("batches", f"sqlite:///{demo}/register.db").out.count("survey-1.toml") == 2


@pytest.mark.parametrize("name", ["survey-1.csv", "survey-2.jsonl", "survey-3.parquet", "census.csv", *PAPERS])
def test_a_draft_passes_the_check_and_merges_without_an_edit(rmend: Rmend, demo: Path, name: str) -> None:
    drafted = rmend("draft", "sqlite:///h/register.db", "trees", f"h/{name}", "--out", "h/draft.toml")
    assert drafted.code == 0
    assert 'key = ["district", "tag_no"]' in drafted.out
    checked = rmend("check", "h/draft.toml", "--json")
    assert (checked.code, checked.json["problems"]) == (0, [])
    merged = rmend("merge", "h/draft.toml", "--json").json
    assert merged["counts"]["reject"] < 0.2 * merged["records"]
    assert sum(merged["counts"].values()) == merged["records"]
    again = rmend("draft", "sqlite:///h/register.db", "trees", f"h/{name}", "--out", "h/draft.toml")
    assert (again.code, "is there already" in again.err) == (2, True)


def test_draft_finds_a_key_that_nobody_declared(rmend: Rmend, demo: Path) -> None:
    with sqlite3.connect(demo / "register.db") as connection:
        connection.execute('CREATE TABLE "plain trees" AS SELECT * FROM trees')
        connection.execute("CREATE TABLE same (species TEXT)")
        connection.execute("INSERT INTO same VALUES ('x'), ('x')")
    connection.close()
    text = rmend("draft", "sqlite:///h/register.db", "plain trees", "h/census.csv", "--out", "h/d.toml", "--json").json["text"]
    assert 'key = ["district", "tag_no"]    # the smallest set of columns that is unique' in text
    (demo / "same.csv").write_text("species\nx\ny\n")
    none = rmend("draft", "sqlite:///h/register.db", "same", "h/same.csv")
    assert (none.code, "no key can be proposed" in none.err) == (2, True)
    assert not (demo / "same.toml").exists()


def test_check_tells_everything_at_once(rmend: Rmend, demo: Path) -> None:
    job = JOB + 'order = "surveyed"\nrejects = "none/r.csv"\n[derive]\nheight_m = "incoming.heigth_m"\n'
    (demo / "job.toml").write_text(job + '[[rules]]\ndecide = "skip"\nwhen = "matched AND 1 = 2"\n')
    checked = rmend("check", "h/job.toml", "--json")
    assert checked.code == 2
    assert [problem.split(":")[0] for problem in checked.json["problems"]] == ["rejects", "order", "[derive] height_m"]
    assert checked.json["warnings"] == ["rule 1 can never be true"]
    shown = rmend("check", "h/job.toml").out
    assert "incoming.heigth_m\n" in shown
    assert "^^^^^" in shown
    (demo / "twice.toml").write_text(JOB.replace('["district", "tag_no"]', '"warden"').replace("survey-1", "wardens"))
    (demo / "wardens.csv").write_text("warden,condition\nI. Fennick,good\n")
    checked = rmend("check", "h/twice.toml").out
    assert "are in several rows" in checked
    assert "an insert needs district, tag_no, species, surveyed_on" in checked


def test_explain_shows_what_counts_as_the_same_and_every_rule(rmend: Rmend, demo: Path) -> None:
    rmend("merge", "h/survey-1.toml")
    text = (demo / "survey-1.toml").read_text()
    batch = (
        "district,tag_no,species,height_m,warden,surveyed_on,condition\nSaltgate,1,PRUNUS AVIUM,99,,2026-05-01,good\n"
        "Saltgate,2,x,3,I. Fennick,2020-01-01,fair\n"
    )
    (demo / "survey-1.csv").write_text(batch)
    with sqlite3.connect(demo / "register.db") as connection:
        connection.execute("UPDATE trees SET species = 'Prunus avium', height_m = 98.9, warden = 'W' WHERE tag_no = 1")
    connection.close()
    (demo / "survey-1.toml").write_text(text.replace("[columns.warden]", '[columns.condition]\nwrite = "insert"\n[columns.warden]'))
    found = rmend("explain", "h/survey-1.toml", "--key", "district=Saltgate", "--key", "tag_no=1", "--json").json
    verdicts = {cell["column"]: cell["verdict"] for cell in found["records"][0]["compared"]}
    assert verdicts == {
        "district": "key", "tag_no": "key", "species": "same by ignore_case", "girth_cm": "not sent, left alone",
        "height_m": "same by tolerance = 0.1", "condition": 'left alone: write = "insert"', "warden": 'kept: null = "keep"',
        "planted_on": "not sent, left alone", "surveyed_on": "differs", "felled": "not sent, left alone",
    }  # fmt: skip
    assert [(rule["value"], rule["decided"]) for rule in found["records"][0]["rules"]] == [(True, True), (False, False)]
    stale = rmend("explain", "h/survey-1.toml", "--key", "district=Saltgate", "--key", "tag_no=2").out
    assert "Decision: skip, older than the existing row" in stale
    absent = rmend("explain", "h/survey-1.toml", "--key", "district=Saltgate", "--key", "tag_no=3")
    assert "No record of the batch has this key; the row stays" in absent.out
    half = rmend("explain", "h/survey-1.toml", "--key", "district=Saltgate")
    assert (half.code, "give a value for each of these" in half.err) == (2, True)


def test_a_limit_stops_and_groups_are_counted(rmend: Rmend, demo: Path) -> None:
    text = (demo / "survey-1.toml").read_text()
    (demo / "survey-1.toml").write_text(text.replace("order =", "max_rejects = 3\norder ="))
    shown = rmend("preview", "h/survey-1.toml", "--strict")
    assert (shown.code, "a merge would stop: 8 of 452" in shown.out) == (1, True)
    ran = rmend("merge", "h/survey-1.toml")
    assert (ran.code, "8 of 452 records are rejects, and max_rejects is 3" in ran.err) == (1, True)
    [stopped] = rmend("batches", "h/survey-1.toml", "--json").json["batches"]
    assert (stopped["status"], stopped["inserted"], stopped["figures"]["stopped"][:14]) == ("stopped", 0, "8 of 452 recor")
    assert rmend("history", "h/survey-1.toml", "--json").json["changes"] == []
    assert (demo / "survey-1.rejects.csv").exists(), "the rejects say why"
    (demo / "survey-1.toml").write_text(text)
    by = "EXTRACT(MONTH FROM surveyed_on)"
    assert rmend("preview", "h/survey-1.toml", "--strict").code == 3
    told = rmend("preview", "h/survey-1.toml", "--by", by, "--json").json["groups"]
    done = rmend("merge", "h/survey-1.toml", "--by", by, "--json").json["groups"]
    assert told == done
    assert sum(group["after"] - group["before"] for group in done) == 29
    assert sum(group["reject"] for group in done) == 8
    wrong = rmend("preview", "h/survey-1.toml", "--by", "distrct")
    assert (wrong.code, "did you mean district" in wrong.err) == (2, True)


@pytest.mark.parametrize(
    ("job", "code", "message"),
    [
        (None, 2, "there is no job file job.toml"),
        ("store = ", 2, "job.toml is not TOML"),
        (JOB.replace("key", "keys"), 2, "there is no option 'keys'; did you mean 'key'?"),
        (JOB + '[rename]\ngirth = "girth_cm"', 2, "[rename] 'girth': the batch has no such column"),
        (JOB + '[rename]\nspecies = "condition"', 2, "'species', 'condition' all go to column 'condition'"),
        (JOB + '[rename]\nspecies = "speces"', 2, "did you mean 'species'?"),
        (JOB + 'duplicates = "newest"', 2, "duplicates is 'reject', 'first' or 'last', not 'newest'"),
        (JOB + 'rejects = "rejects.txt"', 2, "must end in .csv, .jsonl or .parquet"),
        (JOB.replace('"tag_no"', '"tag"'), 2, "has no column 'tag'"),
        (JOB.replace('["district", "tag_no"]', '"felled"'), 2, "the batch has no column for 'felled'"),
        (JOB.replace('["district", "tag_no"]', "[]"), 2, "key: "),
        (JOB.replace("sqlite:", "sqlit:"), 2, "no store is called 'sqlit'; did you mean 'sqlite:///register.db'?"),
        (JOB.replace("sqlite:///", "sqlite://"), 2, "lacks a slash or a file name"),
        (JOB.replace("register.db", "registr.db"), 1, "there is no SQLite file"),
        (JOB.replace("register.db", "survey-1.csv"), 1, "it is not a SQLite file"),
        (JOB.replace('"trees"', '"tree"'), 1, "there is no table 'tree' in "),
        (JOB.replace("survey-1.csv", "survey-9.csv"), 1, "there is no file "),
        (JOB.replace("survey-1.csv", "empty.csv"), 1, "is empty: it has not even a line of column names"),
    ],
)
def test_bad_jobs(rmend: Rmend, demo: Path, job: str | None, code: int, message: str) -> None:
    (demo / "empty.csv").touch()
    if job is not None:
        (demo / "job.toml").write_text(job)
    before = print_of(demo / "register.db")
    ran = rmend("merge", "h/job.toml")
    assert (ran.code, ran.out) == (code, "")
    assert message in ran.err.replace("h/job.toml", "job.toml")
    assert ran.err.endswith("Nothing was written.\n")
    assert print_of(demo / "register.db") == before


def test_wrong_usage_and_batches_without_records(rmend: Rmend, demo: Path) -> None:
    for words in (["merge"], ["mrege"], ["history", "sqlite:///x.db"], ["history", "h/survey-1.toml", "--key", "x"]):
        assert rmend(*words).code == 2, words
    assert rmend("history", "h/survey-1.toml", "--key", "tag_no=abc").err == ("rmend: tag_no: 'abc' is not a whole number (INTEGER).\n")
    (demo / "header.csv").write_text("district,tag_no,height_m,surveyed_on\n")
    (demo / "none.jsonl").write_text("")
    for name in ("header.csv", "none.jsonl"):
        ran = rmend("merge", "h/survey-1.toml", f"h/{name}")
        assert (ran.code, "No records came" in ran.out) == (0, True)
    assert rmend("--version").out.startswith("rmend 0.")
    assert "Exit codes" in rmend("--help").out


def test_another_writer_makes_us_wait_and_then_stop(rmend: Rmend, demo: Path) -> None:
    with sqlite3.connect(demo / "register.db", isolation_level=None) as other:
        other.execute("BEGIN IMMEDIATE")
        ran = rmend("merge", "h/survey-1.toml")
        assert (ran.code, "another program is writing to it" in ran.err) == (1, True)
        assert rmend("preview", "h/survey-1.toml").code == 0
        other.execute("ROLLBACK")
    other.close()
    assert rmend("merge", "h/survey-1.toml").code == 0


def test_a_disk_that_is_full(demo: Path) -> None:
    """A limit on the size of files stands for the full disk: the register may not grow."""
    path = demo / "register.db"
    before = path.read_bytes()
    code = (
        "import resource, signal, rapid_mender as rm\n"
        "signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
        f"resource.setrlimit(resource.RLIMIT_FSIZE, ({len(before)},) * 2)\n"
        "job = rm.Job.load('survey-1.toml')\n"
        "try: rm.merge(job)\n"
        "except rm.StoreError as error: print(error)\n"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=demo, capture_output=True, text=True, check=True)
    assert "disk" in done.stdout, (done.stdout, done.stderr)
    with sqlite3.connect(path) as connection:
        assert connection.execute("SELECT count(*) FROM trees").fetchone() == (2000,)
        assert connection.execute("SELECT count(*) FROM sqlite_master WHERE name LIKE 'rmend%'").fetchone() == (0,)
    connection.close()


@pytest.mark.skipif(os.getuid() != 0, reason="only root can become a user without rights")
def test_a_register_that_is_read_only(demo: Path) -> None:
    path = demo / "register.db"
    path.chmod(0o444)
    code = (
        "import rapid_mender as rm\n"  # first, while the user may read the package
        "from rapid_mender.merging.merge import merge, preview\n"
        "import rapid_mender.stores.sqlite.store, adbc_driver_sqlite.dbapi, pyarrow.csv, os\n"
        "job = rm.Job.load('survey-1.toml')\n"
        "os.access = lambda path, mode: mode != os.W_OK\n"
        "print(preview(job).counts['update'])\n"
        "try: merge(job)\n"
        "except rm.StoreError as error: print(error)\n"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=demo, capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[0] == "252"
    assert "read-only; make it writable" in done.stdout


@pytest.mark.slow
@pytest.mark.parametrize("what", ["merges", "merges in units", "undos", "syncs", "threads"])
def test_a_kill_at_any_moment_leaves_before_or_after(what: str, tmp_path: Path) -> None:
    """SIGKILL at random moments: the register and its history agree, and the next run finishes the job."""
    kills = length.some(3)
    with place("sqlite", tmp_path) as there:
        if what == "merges":
            seen = kill_merges(there, tmp_path, rows=20_000, kills=kills, seed=length.SEED)
        elif what == "merges in units":
            seen = kill_merges(there, tmp_path, rows=20_000, kills=kills, seed=length.SEED, commit_every=3_000)
        elif what == "undos":
            seen = kill_undos(there, rows=15_000, kills=kills, seed=length.SEED)
        elif what == "threads":
            seen = kill_threads(there, tmp_path, kills, length.SEED)
        else:
            seen = kill_syncs(there, there, tmp_path, rows=5_000, kills=kills, seed=length.SEED)
    assert len(seen) == kills


@pytest.mark.parametrize("ending", ["csv", "jsonl"])
def test_a_written_history_has_every_byte(ending: str, rmend: Rmend, tmp_path: Path) -> None:
    with databases.table("sqlite", tmp_path, "CREATE TABLE t (id INTEGER PRIMARY KEY, v BLOB)") as (url, _):
        rm.merge(rm.Job(store=url, table="t", key="id"), [{"id": 1, "v": b"\xff\x00"}, {"id": 2, "v": b"abc"}])
        out = tmp_path / f"h.{ending}"
        assert rmend("history", url, "--table", "t", "--out", str(out), "--since", "2026-01-01T10:00Z").code == 0
        assert ["ff00" in line or "616263" in line for line in out.read_text().splitlines()][-2:] == [True, True]


EXAMPLES = sorted((Path(__file__).parent.parent / "examples").glob("*.py"))


@pytest.mark.slow
@pytest.mark.parametrize("program", EXAMPLES, ids=lambda path: path.stem)
def test_examples_run(program: Path) -> None:
    done = subprocess.run([sys.executable, program], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    assert done.stdout


def test_help_answers_at_once() -> None:
    times = []
    for _ in range(5):
        started = time.perf_counter()
        subprocess.run([sys.executable, "-m", "rapid_mender", "--help"], capture_output=True, check=True)
        times.append(time.perf_counter() - started)
    loaded = "import sys, rapid_mender.cli; print([m for m in ('pyarrow', 'numpy', 'sqlglot') if m in sys.modules])"
    done = subprocess.run([sys.executable, "-c", loaded], capture_output=True, text=True, check=True)
    assert json.loads(done.stdout) == [], "heavy imports belong where they are used"
    assert min(times) < 1.5, "0.4 s on a quiet machine; this only catches what is far off"


HOSTILE = ["[/b]", "[red]oak[/]", "\x1b[31mred\x1b[0m", "a\nb\r\tc", "\u202egnp.exe", "\x9b31m", "[link=file:///etc]x[/link]", "é\U0001f600", '<b>"q"</b>']


def test_what_is_shown_is_what_is_there_and_nothing_else(rmend: Rmend, tmp_path: Path) -> None:
    """No value is markup or a control sequence; JSON has every value as it is; no output turns the outcome of a merge."""
    with closing(sqlite3.connect(tmp_path / "r.db")) as connection:
        connection.execute('CREATE TABLE "[b]t" (id TEXT PRIMARY KEY, "[/i]x" TEXT, n REAL)')
    (tmp_path / "b.jsonl").write_text("".join(json.dumps({"id": one, "[/i]x": one}) + "\n" for one in HOSTILE) + '{"id": "bad", "n": "[/b]\\u001b[2J"}\n')
    (tmp_path / "j.toml").write_text('store = "sqlite:///r.db"\ntable = "[b]t"\nkey = "id"\nincoming = "b.jsonl"\n')
    shown = [
        rmend(*words)
        for words in (
            ("preview", "j.toml"),
            ("merge", "j.toml"),
            ("history", "j.toml"),
            ("batches", "j.toml"),
            ("check", "j.toml"),
            ("explain", "j.toml", "--key", "id=[/b]"),
        )
    ]
    assert [ran.code for ran in shown] == [0] * 6
    for ran in shown:
        assert not any(letter in ran.out for letter in "\x1b\x9b\u202e\r\t"), ran.out
    assert "[red]oak[/]" in shown[2].out
    assert "\\x1b[31mred" in shown[2].out
    assert [change["new"]["id"] for change in rmend("history", "j.toml", "--json").json["changes"]] == sorted(HOSTILE)
    assert re.fullmatch(r"\d{4}-\d\d-\d\dT[0-9:.]+Z", rmend("batches", "j.toml", "--json").json["batches"][0]["started_at"])
    for number, output in enumerate(("/dev/full", "a closed pipe")):
        (tmp_path / "b.jsonl").write_text(json.dumps({"id": f"é{number}"}) + "\n")
        read, write = os.pipe()
        os.close(read)
        with open("/dev/full", "w") if number == 0 else os.fdopen(write, "w") as out:
            done = subprocess.run(
                [sys.executable, "-m", "rapid_mender", "merge", "j.toml"], cwd=tmp_path, stdout=out, stderr=subprocess.PIPE, text=True, check=False
            )
        assert (output, done.returncode, "it is done" in done.stderr) == (output, 0, True), done.stderr
    assert "\\xe91" in rmend("history", "j.toml", PYTHONIOENCODING="ascii").out


@pytest.mark.parametrize(("signalled", "code"), [(KeyboardInterrupt(), 130), (Terminated(), 143)])
def test_a_signal_that_meets_a_lock_half_taken_is_a_signal(signalled: BaseException, code: int, capsys: pytest.CaptureFixture[str]) -> None:
    def write() -> None:
        with errors_in_words(writes=True):
            try:
                raise signalled
            finally:
                threading.Lock().release()

    with pytest.raises(typer.Exit) as ended:
        write()
    assert ended.value.exit_code == code
    assert "what was not committed is undone" in capsys.readouterr().err
