"""Files replace nothing but files, whole or not at all; folders go with their owner."""

from __future__ import annotations

import fcntl
import os
import socket
import stat
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from wendascope.errors import FileError
from wendascope.files import OwnFolder, base_folder, check_place, sweep, whole_file, write_atomically


def write(path: Path, text: str = "new") -> None:
    write_atomically(path, lambda scratch: scratch.write_text(text))


def test_a_new_file_has_the_usual_mode(tmp_path: Path) -> None:
    before = os.umask(0o027)
    try:
        write(tmp_path / "new.txt")
    finally:
        os.umask(before)
    assert (tmp_path / "new.txt").read_text() == "new"
    assert stat.S_IMODE((tmp_path / "new.txt").stat().st_mode) == 0o640


def test_owner_and_mode_stay(tmp_path: Path) -> None:
    path = tmp_path / "kept.txt"
    path.write_text("old")
    path.chmod(0o604)
    if os.geteuid() == 0:
        os.chown(path, 1234, 1234)
    write(path)
    found = path.stat()
    assert path.read_text() == "new" and stat.S_IMODE(found.st_mode) == 0o604
    assert os.geteuid() != 0 or (found.st_uid, found.st_gid) == (1234, 1234)


def test_a_link_is_followed_to_its_file(tmp_path: Path) -> None:
    (tmp_path / "real").mkdir()
    (tmp_path / "real" / "file.txt").write_text("old")
    (tmp_path / "link.txt").symlink_to(tmp_path / "real" / "file.txt")
    write(tmp_path / "link.txt")
    assert (tmp_path / "link.txt").is_symlink() and (tmp_path / "real" / "file.txt").read_text() == "new"
    assert [p.name for p in tmp_path.iterdir() if p.name.endswith(".partial")] == []


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can make a link of somebody else's")
def test_a_link_of_somebody_else_is_not_followed(tmp_path: Path) -> None:
    (tmp_path / "mine.txt").write_text("old")
    (tmp_path / "link.txt").symlink_to(tmp_path / "mine.txt")
    os.lchown(tmp_path / "link.txt", 1234, 1234)
    with pytest.raises(FileError, match="somebody else made"):
        write(tmp_path / "link.txt")
    assert (tmp_path / "mine.txt").read_text() == "old"


def test_what_is_no_file_stays_what_it_is(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "folder").mkdir()
    with socket.socket(socket.AF_UNIX) as server:
        server.bind(str(tmp_path / "socket"))
        for name, word in (("pipe", "a pipe"), ("folder", "a folder"), ("socket", "a socket")):
            with pytest.raises(FileError, match=word):
                check_place(tmp_path / name)
            with pytest.raises(FileError, match=word), whole_file(tmp_path / name):
                pass
    assert stat.S_ISFIFO((tmp_path / "pipe").stat().st_mode) and (tmp_path / "folder").is_dir()
    assert stat.S_ISCHR(Path("/dev/null").stat().st_mode)
    with pytest.raises(FileError, match="a device"):
        check_place(Path("/dev/null"))
    with pytest.raises(FileError, match="a device"):
        check_place(Path("/dev/zero"), streams=True)


def test_a_pipe_gets_what_was_written(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    reader = subprocess.Popen(["cat", str(tmp_path / "pipe")], stdout=subprocess.PIPE, text=True)
    write(tmp_path / "pipe", "through")
    assert reader.communicate(timeout=10)[0] == "through"
    write(Path("/dev/null"))
    assert stat.S_ISCHR(Path("/dev/null").stat().st_mode)


def test_a_failure_leaves_what_was_there(tmp_path: Path) -> None:
    path = tmp_path / "kept.txt"
    path.write_text("old")
    with pytest.raises(ValueError, match="half-way"), whole_file(path) as scratch:
        scratch.write_text("half")
        raise ValueError("half-way")
    assert path.read_text() == "old" and [p.name for p in tmp_path.iterdir()] == ["kept.txt"]


def test_half_files_of_the_dead_are_swept(tmp_path: Path) -> None:
    code = (
        "import os, sys\nfrom pathlib import Path\nfrom wendascope.files import whole_file\nwith"
        " whole_file(Path(sys.argv[1])) as s:\n    s.write_text('half'); os.kill(os.getpid(), 9)\n"
    )
    subprocess.run([sys.executable, "-c", code, str(tmp_path / "file.txt")], check=False)
    assert len([p for p in tmp_path.iterdir() if p.name.endswith(".partial")]) == 1
    with whole_file(tmp_path / "file.txt") as mine:
        mine.write_text("whole")
        assert [p for p in tmp_path.iterdir() if p.name.endswith(".partial")] == [mine], "that of a living writer stays"
    assert (tmp_path / "file.txt").read_text() == "whole"


# ---- folders ---------------------------------------------------------------------------------------


@pytest.fixture
def short_path() -> Iterator[Path]:
    """A folder whose path leaves room for a socket's, however deep the tests' own lie."""
    with tempfile.TemporaryDirectory(prefix="w") as folder:
        yield Path(folder)


def test_folders_of_the_dead_are_swept_and_those_of_the_living_stay(
    short_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    tmp_path = short_path
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    code = "import os\nfrom wendascope.files import OwnFolder\nOwnFolder()\nos.kill(os.getpid(), 9)\n"
    subprocess.run([sys.executable, "-c", code], check=False)
    assert len(list(tmp_path.iterdir())) == 1
    with OwnFolder() as mine:
        assert list(tmp_path.iterdir()) == [mine] and stat.S_IMODE(mine.stat().st_mode) == 0o700
        assert sweep(tmp_path) == 0
    assert list(tmp_path.iterdir()) == []
    young = tmp_path / "wendascope-own-young"
    young.mkdir()
    assert sweep(tmp_path) == 0, "it may be one that is being made"
    os.utime(young, (time.time() - 3600, time.time() - 3600))
    assert sweep(tmp_path) == 1


def test_sockets_go_where_their_paths_fit(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    long = tmp_path / ("x" * 120)
    long.mkdir()
    file, dangling = tmp_path / "file", tmp_path / "dangling"
    file.write_text("")
    dangling.symlink_to(tmp_path / "nowhere")
    for bad in (long, file, dangling, tmp_path / "missing", Path("relative")):
        monkeypatch.setenv("XDG_RUNTIME_DIR", str(bad))
        monkeypatch.setenv("TMPDIR", str(bad))
        with OwnFolder() as folder:
            assert len(os.fsencode(folder / "tap")) <= 107
        assert base_folder(40) != bad
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    assert base_folder() == tmp_path


def test_a_session_listens_all_the_same(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from wendascope.errors import TargetError
    from wendascope.tap.sessions import connect, listen, listening, runtime_folder

    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path / ("y" * 120)))
    with listen("elsewhere"):
        assert listening() == ["elsewhere"]
        connect("elsewhere").close()
    with tempfile.TemporaryDirectory(dir="/tmp") as short:
        monkeypatch.setenv("XDG_RUNTIME_DIR", short)
        (Path(short) / "wendascope").write_text("")
        with pytest.raises(TargetError, match=r"remove it|belongs to somebody"):
            runtime_folder()


def test_folders_and_files_that_are_just_made_are_swept_by_nobody(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Between making and locking one, others may look for what was left."""
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    lock = fcntl.flock

    def slowly(handle: int, how: int) -> None:
        if how == fcntl.LOCK_EX:  # of its owner
            assert sweep(tmp_path) == 0
            beside = tmp_path / "report.html"
            monkeypatch.setattr(fcntl, "flock", lock)
            write_atomically(beside, lambda scratch: scratch.write_text("another writer"))
        lock(handle, how)

    monkeypatch.setattr(fcntl, "flock", slowly)
    with OwnFolder() as folder:
        assert folder.is_dir()
    monkeypatch.setattr(fcntl, "flock", slowly)
    write_atomically(tmp_path / "report.html", lambda scratch: scratch.write_text("whole"))
    assert (tmp_path / "report.html").read_text() == "whole"
    assert [p.name for p in tmp_path.iterdir()] == ["report.html"]
