"""A stranger's frame in the window: introduced above all pages when it is opened first, until that was read."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from wendascope.desktop.window.main_window import MainWindow
from wendascope.frame.file import content_of
from wendascope.frame.origins import SEEN, origin


def test_it_is_introduced_once(
    window: MainWindow, qtbot: Any, own_small: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    notice = window.header.notice
    window.open_files([own_small])
    assert not notice.isVisible(), "it was made here"
    window.close_current()
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "somebody-else"))
    window.open_files([own_small])
    assert (
        notice.isVisible()
        and "not captured here" in notice.text()
        and "1 GPU program that came with it is compiled" in notice.text()
    )
    qtbot.waitUntil(lambda: "confine" in notice.text(), timeout=20_000)
    assert origin(content_of(own_small)) == SEEN
    notice.linkActivated.emit("read")
    assert not notice.isVisible()
    window.close_current()
    window.open_files([own_small])
    assert not notice.isVisible(), "said once"


def test_a_picture_is_saved_where_a_file_can_be(
    window: MainWindow, qtbot: Any, own_small: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from PySide6.QtGui import QImage
    from PySide6.QtWidgets import QFileDialog

    window.open_files([own_small])
    qtbot.waitUntil(lambda: window.picture.view.image is not None, timeout=20_000)
    said: list[str] = []
    monkeypatch.setattr(window, "_complain", lambda _title, text: said.append(text))
    for place in (tmp_path / "picture.png", Path("/dev/zero"), tmp_path):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_args, place=place: (str(place), ""))
        window.save_picture()
    assert not QImage(str(tmp_path / "picture.png")).isNull()
    assert len(said) == 2 and "a device" in said[0] and "a folder" in said[1]
