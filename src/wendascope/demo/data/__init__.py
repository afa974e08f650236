"""The captured frames of the demo, as files of this folder."""

from pathlib import Path

from wendascope.frame.places import frame_path

PLATFORM_FRAMES = 8
"""That the sequence of the platform holds."""


def shipped_file(name: str) -> Path:
    """A captured frame as it came, which is not written to."""
    return Path(__file__).parent / name


def demo_files() -> list[Path]:
    """The depot as it is, then with every flaw off, then the yard from the signal box, then the last of eight frames of
    the platform, then the store room; copies that may be written to.

    The shipped files stay as they are; what is measured is kept in copies in the user's data folder.
    """
    import shutil

    import platformdirs

    folder = platformdirs.user_data_path("wendascope", ensure_exists=True) / "demo"
    folder.mkdir(parents=True, exist_ok=True)
    copies = []
    for name in ("depot.wend", "depot-better.wend", "signal-box.wend", "platform.wend", "store.wend"):
        shipped, copy = shipped_file(name), folder / name
        if not copy.exists() or copy.stat().st_mtime < shipped.stat().st_mtime:
            shutil.copyfile(shipped, copy)
        copies.append(copy)
    return [frame_path(copy, PLATFORM_FRAMES) if copy.name == "platform.wend" else copy for copy in copies]
