"""Names that strangers put into files are only text, wherever they leave: terminals, tables, reports, windows."""

from __future__ import annotations

import contextlib
import csv
import hashlib
import json
import os
import re
import sqlite3
import subprocess
import sys
import unicodedata
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QModelIndex, Qt
from PySide6.QtWidgets import QAbstractItemView, QLabel

from tests.conftest import load_opengl, program
from wendascope import records
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.cli._app import app
from wendascope.desktop.window.main_window import MainWindow
from wendascope.errors import WendascopeError
from wendascope.frame.file import load, save
from wendascope.json_text import json_text
from wendascope.report.formats import form_named
from wendascope.report.survey import survey_document
from wendascope.texts import cell, markdown, readable, visible
from wendascope.trials.proofs.proof import stored_proofs
from wendascope.trials.survey.examine import stored_examination, stored_refuted

HOSTILE = "\x1b]0;title\x07\x1b[31m\x9b2J\n\rFORGED: ok\u202e\u2066\0\x7f<img src=x onerror=alert(1)>=1+1"
_KEPT = {"id", "finding", "trial", "rule", "state", "kind", "verdict", "method", "unit", "digest", "api", "platform"}
"""Fields that are looked up, and must stay what they are."""
_NAMES = ("label", "program", "renderer", "vendor", "version", "name", "captured_at")
_GROUPINGS = ("pass", "role", "purpose", "program", "mesh", "textures", "material", "debug group")


def _hostile(value: Any, key: str = "") -> Any:
    """The value with a hostile end on every text that people are shown."""
    if isinstance(value, dict):
        return {k: _hostile(v, k) for k, v in value.items()}
    if isinstance(value, list):
        return [_hostile(item, key) for item in value]
    named = re.fullmatch(r"title|name|label|renderer|vendor|version|reason|note|how|advice|program|arguments|text", key)
    return value + HOSTILE if isinstance(value, str) and named and key not in _KEPT else value


def _shown(record: Any) -> None:
    """The same of a record of a frame, in place."""
    for name in record.__struct_fields__:
        value = getattr(record, name)
        if isinstance(value, str) and name in (
            "label",
            "program",
            "renderer",
            "vendor",
            "version",
            "name",
            "captured_at",
        ):
            setattr(record, name, value + HOSTILE)


def _debug_groups(frame: OpenGLFrame) -> None:
    """Names in the calls themselves have to keep their length."""
    raw = HOSTILE.encode()
    arena = frame.calls.arena.copy()
    for call in range(len(frame.calls)):
        command = frame.calls.command(call)
        if command.name != "glPushDebugGroup":
            continue
        slot = int(frame.calls.offsets[call]) + 4 + command.parameter("message").slot
        at, length = int(frame.calls.words[slot]) & ((1 << 60) - 1), int(frame.calls.words[slot + 1])
        rest = max(0, length - 4)  # its end tells it from other groups
        arena[at : at + rest] = np.frombuffer((b"=" + raw)[:rest].ljust(rest, b"\n"), np.uint8)
    frame.calls = type(frame.calls)(frame.calls.words, arena, frame.calls.offsets)


@pytest.fixture
def hostile(depot: Path, tmp_path: Path) -> Path:
    """The demo frame with its survey, findings and proofs; all that is named in it says more than a name should."""
    frame = load_opengl(depot)
    for ref in frame.objects.blob_refs():
        frame.blobs.get(ref)
    for listed in msgspec.structs.asdict(frame.objects).values():
        for record in listed:
            _shown(record)
    _shown(frame.metadata)
    frame.metadata.arguments = [HOSTILE]
    frame.context.renderer += HOSTILE
    frame.caveats.append(HOSTILE)
    _debug_groups(frame)
    path = tmp_path / "hostile.wend"
    save(frame, path)
    with contextlib.closing(sqlite3.connect(depot)) as other, contextlib.closing(sqlite3.connect(path)) as database:
        for kind, made_at, value in other.execute("SELECT kind, made_at, value FROM added").fetchall():
            text = json.dumps(_hostile(json.loads(value)))
            row = (kind, made_at, text, hashlib.sha256(text.encode()).hexdigest())
            database.execute("INSERT INTO added (kind, made_at, value, digest) VALUES (?, ?, ?, ?)", row)
        database.commit()
    assert records.SURVEY.newest(path) is not None
    return path


def _harmless(text: str, what: str = "") -> None:
    for line in text.split("\n"):
        assert not line.lstrip().startswith("FORGED"), f"{what}: a line is forged"
        bad = [c for c in line if visible(c) != c]
        assert not bad, f"{what}: {bad[:5]!r} in {line[:120]!r}"


COMMANDS = [
    ["show"],
    *(
        ["show", "--by", by]
        for by in ("pass", "role", "purpose", "program", "mesh", "textures", "material", "debug group")
    ),
    ["memory"],
    ["memory", "--all"],
    ["plan"],
    ["batches"],
    ["shaders"],
    ["trials"],
    ["sequence"],
]


@pytest.mark.parametrize("command", COMMANDS, ids=" ".join)
def test_nothing_hostile_reaches_a_terminal(
    command: list[str], hostile: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    seen = ""
    for more in ([], ["--json"]):
        with contextlib.suppress(WendascopeError, SystemExit):
            app([*command, str(hostile), *more], standalone_mode=False)
        out = capsys.readouterr()
        _harmless(out.out, " ".join(command))
        _harmless(out.err, " ".join(command))
        seen += out.out
    assert command == ["trials"] or len(seen) > 100


def test_errors_are_one_line(hostile: Path, tmp_path: Path) -> None:
    bad = hostile.rename(tmp_path / "a\nFORGED: ok\x1b[31m.wend")
    with contextlib.closing(sqlite3.connect(bad)) as database:
        database.execute("UPDATE section SET name = 'x' || char(27) || '[31m' WHERE name = 'calls'")
        database.commit()
    done = subprocess.run([sys.executable, "-m", "wendascope.cli", "show", bad], capture_output=True, text=True)
    assert done.returncode == 3 and done.stderr.count("\n") == 1
    _harmless(done.stderr)


def test_tables_and_reports_hold_text_only(hostile: Path, tmp_path: Path) -> None:
    frame, survey, (drawn, findings) = load(hostile), records.SURVEY.newest(hostile), stored_examination(hostile)
    assert survey is not None
    proofs = stored_proofs(hostile)
    document = survey_document(frame, survey, 16.7, drawn, findings, proofs, stored_refuted(hostile))
    form_named("csv").write(document, tmp_path / "tables", hostile)
    form_named("json").write(document, tmp_path / "whole.json", hostile)
    cells = [c for path in (tmp_path / "tables").iterdir() for row in csv.reader(path.open(newline="")) for c in row]
    assert any("FORGED" in c for c in cells)
    for c in cells:
        _harmless(c, "CSV")
        assert not c.startswith(("=", "@", "+", "\t")) and (not c.startswith("-") or re.fullmatch(r"-[\d.e-]+", c))
    _harmless((tmp_path / "whole.json").read_text(), "JSON")
    app(
        ["plan", str(hostile), "--html", str(tmp_path / "p.html"), "--sarif", str(tmp_path / "p.sarif")],
        standalone_mode=False,
    )
    page, sarif = (tmp_path / "p.html").read_text(), (tmp_path / "p.sarif").read_text()
    assert "<img src=x" not in page and "FORGED" in page
    _harmless(page, "HTML")
    _harmless(sarif, "SARIF")
    for found in json.loads(sarif)["runs"][0]["results"]:
        _harmless(found["message"]["text"], "SARIF")


def test_windows_show_text_only(hostile: Path, window: MainWindow) -> None:
    window.open_files([hostile])
    for index in range(window.pages.count()):
        window.pages.setCurrentIndex(index)
        for label in window.findChildren(QLabel):
            text = label.text()
            _harmless(text.replace("<br>", "\n"), "a label")
            rich = label.textFormat() in (Qt.TextFormat.RichText, Qt.TextFormat.AutoText)
            assert not (rich and "<img src=x" in text), text[:200]
        for view in window.findChildren(QAbstractItemView):
            model = view.model()
            for row in range(min(model.rowCount(QModelIndex()), 40) if model is not None else 0):
                for column in range(model.columnCount(QModelIndex())):
                    at = model.index(row, column, QModelIndex())
                    _harmless(str(model.data(at, Qt.ItemDataRole.DisplayRole) or ""), "a table")
                    tip = str(model.data(at, Qt.ItemDataRole.ToolTipRole) or "")
                    assert "<img src=x" not in tip


def test_marks_are_all_that_unicode_calls_so() -> None:
    joiners = "\u200c\u200d"
    for code in range(sys.maxunicode + 1):
        c = chr(code)
        if unicodedata.category(c) in ("Cc", "Cf", "Cs", "Zl", "Zp") and c not in joiners:
            assert visible(c) != c, hex(code)
    plain = "Größe 12 µs: \u201cnight\u201d, 路面電車, עברית \u2713"
    assert visible(plain) == plain and readable(plain) == plain


@given(st.text())
def test_whatever_is_said_stays_one_line_and_readable(text: str) -> None:
    assert "\n" not in visible(text) and visible(visible(text)) == visible(text)
    assert json.loads(json_text({"a": text}, -1)) == {"a": text}
    assert not str(cell(text)).startswith(("=", "@", "+", "-"))
    assert "<" not in re.sub(r"\\.", "", markdown(text))


@pytest.mark.driver
def test_names_of_bytes_that_are_no_text(display: str, tmp_path: Path) -> None:
    """In arguments, names of files and folders: captured, opened, reported."""
    folder = os.fsencode(tmp_path) + b"/na\xffme"
    Path(os.fsdecode(folder)).mkdir()
    base = [sys.executable, "-m", "wendascope.cli"]
    environment = {**os.environ, "DISPLAY": display, "PYTHONIOENCODING": "ascii"}

    def run(*arguments: object) -> subprocess.CompletedProcess[bytes]:
        command = [os.fsencode(str(a)) if not isinstance(a, bytes) else a for a in (*base, *arguments)]
        return subprocess.run(command, capture_output=True, env=environment, timeout=120)

    frame = folder + b"/fr\xfeame.wend"
    shapes = program("shapes")
    taken = run("capture", "--frame", 3, "--out", frame, "--json", "--", *shapes, "--out", b"/dev/null\xff\xfe")
    assert taken.returncode == 0 and Path(os.fsdecode(frame)).exists(), taken.stderr
    assert load(Path(os.fsdecode(frame))).metadata.arguments[-1] == "/dev/null\\xff\\xfe"
    for command in (
        ["show"],
        ["survey", "--until", "times", "--html", folder + b"/a.html", "--csv", folder + b"/tables"],
        ["plan", "--html", folder + b"/b.html", "--sarif", folder + b"/b.sarif"],
        ["show", "--json"],
    ):
        done = run(command[0], frame, *command[1:])
        assert done.returncode in (0, 1) and b"Traceback" not in done.stderr, (command, done.stderr)
        done.stdout.decode("ascii")
    assert json.loads(Path(os.fsdecode(folder + b"/b.sarif")).read_text())["version"] == "2.1.0"


def test_paths_that_can_be_none(small: Path, tmp_path: Path) -> None:
    long = "/".join(["x" * 200] * 30)
    for arguments in (["show", long + ".wend"], ["picture", str(small), "--out", long + ".png"], [long]):
        done = subprocess.run(
            [sys.executable, "-m", "wendascope.cli", *arguments], capture_output=True, text=True, timeout=60
        )
        assert done.returncode in (2, 3) and "Traceback" not in done.stderr, done.stderr
