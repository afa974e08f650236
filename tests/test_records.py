"""Every kind of record that is added to a file. Needs neither driver nor display."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import msgspec
import pytest

from wendascope import records
from wendascope.errors import DamagedFileError
from wendascope.frame import file
from wendascope.frame.notes import Note
from wendascope.records import KINDS, RecordKind

from .conftest import DATA

FIRST: RecordKind[Note] = RecordKind("distance", "frame.notes:Note")


def _second(plain: dict[str, Any]) -> dict[str, Any]:
    return {"text": f"{plain['text']} m"}


def _third(plain: dict[str, Any]) -> dict[str, Any]:
    return {"text": plain["text"].upper()}


@pytest.fixture
def path(tmp_path: Path) -> Path:
    return Path(shutil.copy(DATA / "depot.wend", tmp_path / "depot.wend"))


def test_every_kind_has_a_type_and_a_key_of_its_own() -> None:
    assert len({kind.key for kind in KINDS}) == len(KINDS)
    assert all(issubclass(kind.type, msgspec.Struct) and kind.version >= 1 for kind in KINDS)
    assert all(1 <= version < kind.version for kind in KINDS for version in kind.older)


def test_every_kind_is_in_the_description_of_the_format() -> None:
    text = (Path(__file__).parent.parent / "docs" / "file-format.md").read_text()
    mine = [kind for kind in vars(records).values() if isinstance(kind, RecordKind)]
    assert len(mine) >= 17 and all(kind in KINDS for kind in mine), "none is forgotten"
    assert [kind.key for kind in mine if f"`{kind.key}`" not in text] == []


def test_every_record_of_the_shipped_frames_is_read() -> None:
    for shipped in DATA.glob("*.wend"):
        for kind in KINDS:
            kind.all(shipped)
    assert records.SURVEY.newest(DATA / "depot.wend") is not None
    assert records.FINDINGS.newest(DATA / "depot.wend") is not None


def test_records_come_in_their_order(path: Path) -> None:
    for text in ("first", "second"):
        records.NOTE.keep(path, Note(text))
    assert [note.text for note in records.NOTE.all(path)] == ["first", "second"]
    newest = records.NOTE.newest(path)
    assert newest is not None and newest.text == "second"
    assert FIRST.all(path) == [] and FIRST.newest(path) is None


def test_older_versions_are_read_as_the_newest(path: Path) -> None:
    second: RecordKind[Note] = RecordKind("distance", "frame.notes:Note", 2, {1: _second})
    third: RecordKind[Note] = RecordKind("distance", "frame.notes:Note", 3, {1: _second, 2: _third})
    FIRST.keep(path, Note("7"))
    second.keep(path, Note("8 m"))
    third.keep(path, Note("9 M"))
    assert [note.text for note in third.all(path)] == ["7 M", "8 M", "9 M"]
    assert [note.text for note in second.all(path)] == ["7 m", "8 m"], "what is newer is not misread"
    assert [note.text for note in FIRST.all(path)] == ["7"]


def test_a_version_without_a_change_of_form_needs_no_function() -> None:
    same: RecordKind[Note] = RecordKind("distance", "frame.notes:Note", 4)
    assert same.read(1, '{"text": "as it was"}').text == "as it was"


def test_findings_of_the_first_version_keep_their_proofs_and_marks(path: Path) -> None:
    file.add(
        path, "proof", {"finding": "company-3-767", "verdict": "saves", "together": ["idle-sheet-4", "covered-clear-9"]}
    )
    file.add(path, "trial mark", {"trial": "small-companies", "state": "kept"})
    file.add(path, "kept together", {"finding": "kept", "verdict": "saves", "together": ["idle-feature-1-67"]})
    now = records.FINDINGS.newest(path)
    assert now is not None and any(f.remedy and f.remedy.loops for f in now.findings), "keys that are numbers"
    plain = msgspec.json.decode(msgspec.json.encode(now))
    for finding in plain["findings"]:
        finding["id"] = finding["id"].replace("batch-", "company-")
    plain["refuted"] = [{"id": "company-2-9", "rule": "near-kin", "title": "", "reason": "the picture changes"}]
    file.add(path, "findings", plain)
    proof, mark = records.PROOF.newest(path), records.TRIAL_MARK.newest(path)
    kept, found = records.KEPT_TOGETHER.newest(path), records.FINDINGS.newest(path)
    assert proof is not None and mark is not None and kept is not None and found is not None
    assert (proof.finding, proof.together) == ("batch-3-767", ["blend-without-effect-4", "covered-clear-9"])
    assert (mark.trial, mark.state) == ("small-batches", "kept")
    assert (kept.finding, kept.together) == ("kept", ["unused-feature-1-67"])
    assert found.findings == now.findings
    assert [(r.id, r.rule) for r in found.refuted] == [("batch-2-9", "textured-batch")]


def test_what_is_no_record_of_the_kind_is_one_error(path: Path) -> None:
    file.add(path, "note", {"words": 1})
    with pytest.raises(DamagedFileError) as error:
        records.NOTE.all(path)
    assert "\n" not in str(error.value)
