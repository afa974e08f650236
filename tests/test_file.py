"""The `.wend` file: nothing is lost, and whatever is wrong with a file is one clear error."""

from __future__ import annotations

import contextlib
import gc
import os
import shutil
import sqlite3
import struct
import subprocess
import sys
import weakref
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.conftest import load_opengl
from wendascope import records
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.tables.fetched import fetched_bytes
from wendascope.errors import DamagedFileError, FileError, NewerFileError
from wendascope.frame import file
from wendascope.frame.file import SequenceWriter, add, added, frame_count, save, work_on
from wendascope.trials.survey.examine import stored_examination
from wendascope.trials.survey.stages import case_of

quick = settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])


def same(a: OpenGLFrame, b: OpenGLFrame) -> None:
    assert a.metadata == b.metadata and a.context == b.context and a.default_framebuffer == b.default_framebuffer
    assert (
        a.state == b.state
        and a.objects == b.objects
        and a.caveats == b.caveats
        and a.frame_statistics == b.frame_statistics
    )
    assert np.array_equal(a.calls.words, b.calls.words) and np.array_equal(a.calls.arena, b.calls.arena)
    assert a.reference is not None and b.reference is not None
    assert np.array_equal(a.reference.pixels, b.reference.pixels)
    for ref in a.objects.blob_refs():
        assert a.blobs.get(ref) == b.blobs.get(ref)


def test_what_is_saved_is_loaded(small: Path, tmp_path: Path) -> None:
    frame = load_opengl(small)
    save(frame, tmp_path / "again.wend")
    same(frame, load_opengl(tmp_path / "again.wend"))


def as_told(kind: str, text: str) -> tuple[str, str]:
    return kind, text


def test_additions_are_kept_in_order(own_small: Path) -> None:
    for value in ({"a": 1}, {"a": 2}):
        add(own_small, "note", value)
    assert added(own_small, ["note"], as_told) == [("note", '{"a":1}'), ("note", '{"a":2}')]
    assert added(own_small, ["other"], as_told) == []


@quick
@given(part=st.floats(0, 1))
def test_truncated_files_are_refused(small: Path, tmp_path: Path, part: float) -> None:
    data = small.read_bytes()
    cut = tmp_path / "cut.wend"
    cut.write_bytes(data[: int(part * (len(data) - 1))])
    with pytest.raises(DamagedFileError) as error:
        load_all(cut)
    assert "\n" not in str(error.value)


def load_all(path: Path) -> OpenGLFrame:
    frame = load_opengl(path)
    for ref in frame.objects.blob_refs():
        frame.blobs.get(ref)
    return frame


@quick
@given(at=st.floats(0, 1), flip=st.integers(1, 255))
def test_flipped_bytes_are_found_or_do_not_matter(small: Path, tmp_path: Path, at: float, flip: int) -> None:
    data = bytearray(small.read_bytes())
    data[int(at * (len(data) - 1))] ^= flip
    damaged = tmp_path / "damaged.wend"
    damaged.write_bytes(data)
    try:
        frame = load_all(damaged)
    except FileError as error:
        assert "\n" not in str(error)
    else:
        same(frame, load_opengl(small))  # the byte lay where nothing is read
    assert sorted(p.name for p in tmp_path.iterdir() if p.name.startswith("damaged")) == ["damaged.wend"]


@quick
@given(st.binary(max_size=400))
def test_any_other_file_is_not_ours(tmp_path: Path, data: bytes) -> None:
    path = tmp_path / "other.wend"
    path.write_bytes(data)
    with pytest.raises(DamagedFileError, match="not a Wendascope file"):
        load_opengl(path)


def test_a_newer_version_is_refused_by_name(own_small: Path) -> None:
    with own_small.open("r+b") as file:
        file.seek(60)
        file.write(struct.pack(">I", 99))
    with pytest.raises(NewerFileError, match="format 99"):
        load_opengl(own_small)


def test_a_missing_file_is_one_error(tmp_path: Path) -> None:
    with pytest.raises(FileError, match="No such file"):
        load_opengl(tmp_path / "nothing.wend")


def change(path: Path, statement: str, *values: object) -> None:
    database = sqlite3.connect(path)
    with database:
        database.execute(statement, values)
    database.close()


@pytest.mark.parametrize(
    "statement",
    [
        "DELETE FROM blob",
        "DELETE FROM object WHERE class = 'buffers'",
        "DELETE FROM section WHERE name = 'arena'",
        "UPDATE meta SET value = '{}' WHERE key = 'context'",
        "CREATE TRIGGER hostile AFTER INSERT ON added BEGIN DELETE FROM blob; END",
        "CREATE VIEW more AS SELECT 1",
    ],
)
def test_changed_databases_are_refused(own_small: Path, statement: str) -> None:
    change(own_small, statement)
    with pytest.raises(DamagedFileError):
        load_opengl(own_small)


def test_consistent_lies_are_refused(small: Path, tmp_path: Path) -> None:
    """A hostile file has right digests and wrong contents."""
    lies = tmp_path / "lies.wend"
    frame = load_all(small)
    buffer = next(b for b in frame.objects.buffers if b.contents)
    buffer.size += 100
    save(frame, lies)
    with pytest.raises(DamagedFileError, match="wrong size"):
        load_opengl(lies)
    frame = load_all(small)
    image = next(i for t in frame.objects.textures for i in t.images if i.contents)
    image.width = 1 << 30
    save(frame, lies)
    with pytest.raises(DamagedFileError):
        load_opengl(lies)
    frame = load_all(small)
    frame.calls.words[int(frame.calls.offsets[3])] += np.uint64(1 << 32)
    save(frame, lies)
    with pytest.raises(DamagedFileError):
        load_opengl(lies)


def test_a_decompression_bomb_is_refused(own_small: Path) -> None:
    change(own_small, "UPDATE section SET size = ? WHERE name = 'arena'", 1 << 50)
    with pytest.raises(DamagedFileError):
        load_opengl(own_small)


def test_a_full_disk_leaves_nothing(small: Path, tmp_path: Path) -> None:
    """Files may not grow beyond a limit in this process: writing fails as on a full disk."""
    code = """
import resource, signal, sys
from pathlib import Path
from wendascope.errors import FileError
from wendascope.frame.file import save
from wendascope.frame.file import load
frame = load(Path(sys.argv[1]))
for ref in frame.objects.blob_refs():
    frame.blobs.get(ref)
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (8192, 8192))
try:
    save(frame, Path(sys.argv[2]))
except FileError as error:
    print("refused:", error)
"""
    target = tmp_path / "full.wend"
    done = subprocess.run(
        [sys.executable, "-c", code, str(small), str(target)], capture_output=True, text=True, check=True
    )
    assert done.stdout.startswith("refused: cannot write")
    assert list(tmp_path.iterdir()) == []


def test_saving_replaces_whole_files_only(small: Path, tmp_path: Path) -> None:
    path = Path(shutil.copy(small, tmp_path / "kept.wend"))
    before = path.read_bytes()
    frame = load_opengl(path)
    frame.objects.buffers[0].contents = msgspec.structs.replace(
        frame.objects.buffers[0].contents or next(iter(frame.objects.blob_refs())), hash="0" * 64
    )
    with pytest.raises((KeyError, FileError)):
        save(frame, path)
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["kept.wend"]
    assert os.access(path, os.R_OK)


def test_a_frame_that_was_exchanged_gets_nothing_added(small: Path, depot: Path, tmp_path: Path) -> None:
    """Whoever works on a frame for a while adds what it finds to that frame, or to none."""
    path = Path(shutil.copy(small, tmp_path / "worked-on.wend"))
    load_opengl(path)
    add(path, "note", "of this one")
    depot.replace(path)
    before = path.read_bytes()
    with pytest.raises(FileError, match="exchanged for another frame"):
        add(path, "note", "of that one")
    assert path.read_bytes() == before
    work_on(path)
    add(path, "note", "of the new one")


def test_records_of_another_frame_are_left_out(own_small: Path, depot: Path) -> None:
    """A survey, layers and findings that were put into a file from another one."""
    with (
        contextlib.closing(sqlite3.connect(depot)) as other,
        contextlib.closing(sqlite3.connect(own_small)) as database,
    ):
        rows = other.execute("SELECT kind, made_at, value, digest FROM added").fetchall()
        kinds = {kind for kind, *_ in rows}
        assert {"survey", "drawn"} <= kinds
        database.executemany("INSERT INTO added (kind, made_at, value, digest) VALUES (?, ?, ?, ?)", rows)
        database.commit()
    assert records.SURVEY.newest(own_small) is None and records.DRAWN.newest(own_small) is None
    assert stored_examination(own_small) == (None, [])
    assert records.SURVEY.newest(depot) is not None


def test_a_locked_file_is_not_damaged(own_small: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(file, "_BUSY_SECONDS", 0.1)
    with contextlib.closing(sqlite3.connect(own_small, isolation_level=None)) as other:
        other.execute("BEGIN EXCLUSIVE")
        for use in (lambda: load_opengl(own_small), lambda: add(own_small, "note", 1)):
            with pytest.raises(FileError, match="being written to by another program") as error:
                use()
            assert not isinstance(error.value, DamagedFileError)
    add(own_small, "note", 1)


def test_a_name_that_means_a_frame_of_a_sequence_is_no_name_for_a_file(small: Path, tmp_path: Path) -> None:
    with pytest.raises(FileError, match="leave out the #"):
        save(load_opengl(small), tmp_path / "mine.wend#2")
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize("size", [40 << 30, (1 << 40) - 1, 1 << 53])
def test_buffers_as_large_as_they_claim(small: Path, tmp_path: Path, size: int) -> None:
    """Without contents nothing is allocated for them."""
    frame = load_opengl(small)
    buffer = frame.objects.buffers[0]
    buffer.size, buffer.contents = size, None
    path = tmp_path / "claims.wend"
    save(frame, path)
    if size > 1 << 40:
        with pytest.raises(DamagedFileError, match="too large"):
            load_opengl(path)
        return
    again = load_opengl(path)
    assert again.fetched is not None and case_of(again, None, None) is not None


def test_attributes_that_begin_anywhere(small: Path) -> None:
    for offset, stride in ((1 << 62, 12), (-(1 << 62), 12), (0, 1 << 62), (1 << 40, 0)):
        frame = load_opengl(small)
        for array in frame.objects.vertex_arrays:
            for attribute in array.attributes:
                attribute.offset, attribute.stride = offset, stride
        fetched_bytes(frame)


def test_frames_of_a_sequence_are_written_one_at_a_time(small: Path, tmp_path: Path) -> None:
    """Sixty of them take the memory of one; nothing is there before the last, and nothing of none."""
    path = tmp_path / "many.wend"
    with SequenceWriter(path) as writer:
        for _ in range(4):
            frame = load_all(small)
            seen = weakref.ref(frame)
            writer.add(frame)
            del frame
            gc.collect()
            assert seen() is None
        assert not path.exists()
    assert frame_count(path) == 4
    before = path.read_bytes()
    with pytest.raises(KeyError), SequenceWriter(path) as writer:
        writer.add(load_all(small))
        raise KeyError
    with SequenceWriter(path):
        pass
    assert path.read_bytes() == before and len(list(tmp_path.iterdir())) == 1
