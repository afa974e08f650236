"""Several frames in one file: nothing is lost, nothing is mixed up, and whatever is missing is one clear error."""

from __future__ import annotations

import shutil
import sqlite3
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PySide6.QtCore import Qt

from tests.conftest import Capture, load_opengl
from tests.test_file import as_told, load_all, same
from wendascope import records
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.demo.data import demo_files
from wendascope.desktop.pages.over_time import OverTimePage
from wendascope.desktop.window.main_window import MainWindow
from wendascope.errors import DamagedFileError, FileError, ReplayCrashedError
from wendascope.frame.file import add, added, content_of, frame_count, load, save, save_sequence
from wendascope.frame.frame import Picture
from wendascope.frame.places import frame_path, place_of
from wendascope.frame.roles import GivenRole
from wendascope.measure.records import SequenceResults

quick = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])


def later(frame: OpenGLFrame, number: int, noise: float = 0.05) -> OpenGLFrame:
    """The frame as it may look some frames later: some other pixels, another caveat."""
    random = np.random.default_rng(number)
    found = load_copy(frame)
    found.metadata.frame_number += number
    assert found.reference is not None
    pixels = found.reference.pixels.copy()
    pixels[random.random(pixels.shape) < noise] ^= np.uint8(3)
    found.reference = Picture(pixels)
    found.caveats = [*frame.caveats, f"taken {number} later"]
    return found


def load_copy(frame: OpenGLFrame) -> OpenGLFrame:
    from wendascope.backends.opengl.codec import decode

    parts = frame.parts()
    for ref in frame.objects.blob_refs():
        frame.blobs.get(ref)
    return decode(parts)


@pytest.fixture
def sequence(small: Path, tmp_path: Path) -> Path:
    frame = load_opengl(small)
    path = tmp_path / "walk.wend"
    save_sequence([frame, *(later(frame, n) for n in (1, 2, 3))], path)
    return path


def test_every_frame_comes_back(small: Path, sequence: Path) -> None:
    first = load_opengl(small)
    assert frame_count(sequence) == 4
    for number in (1, 2, 3, 4):
        found = load_all(frame_path(sequence, number))
        same(found, first if number == 1 else later(first, number - 1))
    assert len({content_of(frame_path(sequence, n)) for n in (1, 2, 3, 4)}) == 4
    assert content_of(sequence) == content_of(small), "the first frame is what it would be by itself"


def test_what_is_alike_is_kept_once(small: Path, tmp_path: Path) -> None:
    frame = load_opengl(small)
    save(frame, tmp_path / "one.wend")
    save_sequence([frame] * 8, tmp_path / "eight.wend")
    one, eight = ((tmp_path / f"{name}.wend").stat().st_size for name in ("one", "eight"))
    assert eight < 1.3 * one + 64 * 1024
    same(load_opengl(tmp_path / "eight.wend#8"), frame)


def test_paths_to_frames(tmp_path: Path) -> None:
    file = tmp_path / "walk.wend"
    assert place_of(file) == (file, 1) and place_of(frame_path(file, 12)) == (file, 12)
    assert frame_path(frame_path(file, 3), 5).name == "walk.wend#5" and frame_path(file, 1) == file
    for name in ("walk.wend#0", "walk.wend#x", "#3", "walk.wend#1234567"):
        assert place_of(tmp_path / name) == (tmp_path / name, 1)
    odd = tmp_path / "odd.wend#2"
    odd.write_bytes(b"")
    assert place_of(odd) == (odd, 1), "a file of that name is itself"


def test_records_belong_to_their_frame(sequence: Path) -> None:
    third = frame_path(sequence, 3)
    add(sequence, "note", {"a": 1})
    add(third, "note", {"a": 3})
    add(third, "note", {"a": 4})
    assert [text for _, text in added(third, ["note"], as_told)] == ['{"a":3}', '{"a":4}']
    assert [text for _, text in added(sequence, ["note"], as_told)] == ['{"a":1}']
    assert added(frame_path(sequence, 2), ["note"], as_told) == []
    records.GIVEN_ROLE.keep(third, GivenRole(0, "overlay"))
    assert load(third).pass_roles[0].role.value == "overlay" and load(sequence).pass_roles[0].role.value != "overlay"


def test_frames_that_are_not_there_are_named(sequence: Path, small: Path) -> None:
    for ask in (load, lambda p: add(p, "note", {})):
        with pytest.raises(FileError, match=r"walk.wend holds 4 frames: there is no walk.wend#5"):
            ask(frame_path(sequence, 5))
    with pytest.raises(FileError, match="one frame"):
        load(frame_path(small, 2))
    with pytest.raises(FileError, match="No such file"):
        load(sequence.with_name("gone.wend#2"))


@pytest.mark.parametrize(
    "statement",
    [
        "DELETE FROM frame_part WHERE frame = 3 AND name = 'calls'",
        "DELETE FROM frame_part WHERE frame = 3",
        "UPDATE frame_part SET digest = 'x' WHERE frame = 3 AND kind = 'content'",
        "UPDATE frame_part SET stored = '' WHERE frame = 3 AND name = 'reference'",
        "UPDATE frame_part SET size = size + 8 WHERE frame = 3 AND name = 'reference'",
        "UPDATE frame_part SET stored = (SELECT hash FROM blob LIMIT 1) WHERE frame = 3 AND name = 'arena'",
        "UPDATE frame_part SET kind = 'other' WHERE frame = 3 AND name = 'metadata'",
        "UPDATE section SET data = x'' WHERE name = 'reference'",
        "DELETE FROM blob",
    ],
)
def test_damaged_sequences_are_refused(sequence: Path, statement: str) -> None:
    with sqlite3.connect(sequence) as database:
        database.execute(statement)
    database.close()
    with pytest.raises(DamagedFileError) as error:
        load_all(frame_path(sequence, 3))
    assert "\n" not in str(error.value)


@quick
@given(at=st.floats(0, 1), flip=st.integers(1, 255), number=st.integers(1, 4))
def test_flipped_bytes_are_found_or_do_not_matter(sequence: Path, at: float, flip: int, number: int) -> None:
    whole = sequence.read_bytes()
    data = bytearray(whole)
    data[int(at * (len(data) - 1))] ^= flip
    damaged = sequence.with_name("damaged.wend")
    damaged.write_bytes(data)
    try:
        frame = load_all(frame_path(damaged, number))
    except FileError as error:
        assert "\n" not in str(error)
    else:
        same(frame, load_opengl(frame_path(sequence, number)))


def test_files_of_the_version_before_are_read(small: Path, tmp_path: Path) -> None:
    """Their tables are those of the first frame alone."""
    path = Path(shutil.copy(small, tmp_path / "old.wend"))
    with sqlite3.connect(path) as database:
        database.execute("DROP TABLE frame_part")
        database.execute("DROP TABLE frame_added")
        database.execute("PRAGMA user_version = 4")
    database.close()
    same(load_opengl(path), load_opengl(small))
    assert frame_count(path) == 1
    add(path, "note", {"a": 1})
    assert len(added(path, ["note"], as_told)) == 1
    with pytest.raises(FileError, match="one frame"):
        load(frame_path(path, 2))


def test_the_header_goes_from_frame_to_frame(window: MainWindow, tmp_path: Path) -> None:
    frame = load_opengl(demo_files()[2])
    path = tmp_path / "box.wend"
    save_sequence([frame, later(frame, 1, 0.001), later(frame, 2, 0.001)], path)
    window.open_files([path])
    picker = window.header.sequence
    assert not picker.isHidden() and [picker.itemText(k) for k in range(picker.count())] == [
        "frame 1 of 3", "frame 2 of 3", "frame 3 of 3",
    ]  # fmt: skip
    picker.setCurrentIndex(2)
    picker.activated.emit(2)
    current = window.workspace.current
    assert current is not None and current.path.name == "box.wend#3" and picker.currentIndex() == 2
    assert current.frame.metadata.frame_number == frame.metadata.frame_number + 2
    window.open_files([demo_files()[2]])
    assert picker.isHidden()


def test_the_page_over_time(window: MainWindow, qtbot: Any, tmp_path: Path) -> None:
    frame = load_opengl(demo_files()[2])
    hitch = later(frame, 2, 0.001)
    hitch.metadata.recorded_ns = 3 * frame.metadata.recorded_ns
    path = tmp_path / "box.wend"
    save_sequence([frame, later(frame, 1, 0.001), hitch, later(frame, 3, 0.001)], path)
    window.open_files([path])
    window.show_page("Over time")
    page = window.page("Over time")
    assert isinstance(page, OverTimePage)
    qtbot.waitUntil(lambda: len(page.table.rows.rows) == 4, timeout=60_000)
    assert page.answer.text().startswith("Frame 3 is slow") and "program's code" in page.evidence.text()
    assert page.figure() == "#3" and not page.chart.isHidden()
    assert page.evidence.text().startswith("Measure a frame to see which passes")
    keys, names = [("512x512", 0), ("window", 0)], ["shadow", "view"]
    records.SEQUENCE_RESULTS.keep(path, SequenceResults([keys] * 4, [names] * 4, [["s", v] for v in "abcd"]))
    assert window.workspace.current is not None
    window.workspace.current.changed()
    assert page.evidence.text().startswith("1 pass of 2 gives the same result in all 4 frames: shadow.")
    column = page.chart._column(2)
    assert page.chart.place_at(column.center().x()) == 2 and page.chart.place_at(-5) is None
    qtbot.mouseClick(page.chart, Qt.MouseButton.LeftButton, pos=column.center().toPoint())
    current = window.workspace.current
    assert current is not None and current.path.name == "box.wend#3", "a click opens the frame"
    assert window.pages.currentWidget() is page
    qtbot.keyClick(page.chart, Qt.Key.Key_Left)
    assert window.workspace.current is not None and window.workspace.current.path.name == "box.wend#2"
    assert page.table.as_text().splitlines()[0].startswith("frame\tms\tcalls, ms")
    window.open_files([demo_files()[2]])
    assert page.answer.text() == "One frame." and page.chart.isHidden() and page.figure() == ""


@pytest.mark.driver
def test_frames_of_a_running_program_replay_each(capture: Capture, tmp_path: Path) -> None:
    from wendascope.measure.pass_results import pass_results
    from wendascope.measure.pictures import verify
    from wendascope.replay.client import Replay

    one, frame = capture(["glmark2", "-s", "200x150", "-b", "terrain:duration=60.0"], 10)
    two, other = capture(["glmark2", "-s", "200x150", "-b", "terrain:duration=60.0"], 14)
    path = tmp_path / "terrain.wend"
    save_sequence([frame, other], path)
    assert path.stat().st_size < 1.5 * max(one.stat().st_size, two.stat().st_size)
    with Replay(path) as replay:
        processes, results = set(), {}
        for number in (1, 2):
            replay.turn_to(number)
            assert replay.run(verify.asked()).identical
            results[number] = replay.run(pass_results.asked())
            assert replay._process is not None
            processes.add(replay._process.pid)
        assert len(processes) == 1 and results[1] != results[2], "one process replays all frames of a file"
        replay.turn_to(1)
        assert replay.run(pass_results.asked()) == results[1]
        assert replay._process is not None
        replay._process.kill()
        with pytest.raises(ReplayCrashedError):
            replay.run(verify.asked())
        assert replay.run(pass_results.asked()) == results[1], "a new one replays the frame that it was turned to"


def test_the_place_of_a_frame_is_found_without_anything_heavy() -> None:
    import subprocess
    import sys

    code = "import sys; import wendascope.frame.places; print('numpy' in sys.modules)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "False", "the replay process asks before it gives up its rights"
