"""Making a desktop and a shell know the program: menu entry, file type, thumbnails, manual pages, completion."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, cast

from wendascope.cli._app import COMPLETION, JsonOption, app, emit, put, say, typer
from wendascope.errors import FileError
from wendascope.system_files import DESKTOP_ID

if TYPE_CHECKING:
    import click

_LIST = "share/wendascope/integrated-files.txt"
"""Which files were put under a prefix: what takes them away again goes by it."""
_PLACES = {
    f"{DESKTOP_ID}.desktop": "share/applications",
    f"{DESKTOP_ID}.svg": "share/icons/hicolor/scalable/apps",
    f"{DESKTOP_ID}.xml": "share/mime/packages",
    f"{DESKTOP_ID}.thumbnailer": "share/thumbnailers",
    f"{DESKTOP_ID}.metainfo.xml": "share/metainfo",
}
_UPDATES = (
    ("update-desktop-database", "-q", "share/applications"),
    ("update-mime-database", "share/mime"),
    ("gtk-update-icon-cache", "-q", "-t", "-f", "share/icons/hicolor"),
)
"""What a desktop reads its menu, file types and icons from is made anew by these, where they are installed."""


@app.command()
def integrate(
    prefix: Annotated[Path, typer.Option(help="Where share/ is that the desktop looks into.")] = Path("~/.local"),
    program: Annotated[
        str, typer.Option(help="How the menu entry calls the program; by default the path of this one.")
    ] = "",
    root: Annotated[
        Path | None, typer.Option(help="Put the files under this folder, as packagers do; nothing else is updated.")
    ] = None,
    remove: Annotated[bool, typer.Option("--remove", help="Take away what an earlier call put there.")] = False,
    json: JsonOption = False,
) -> None:
    """Add the program to the desktop and the shell: menu entry, file type, thumbnails, manual pages, completion."""
    prefix = prefix.expanduser().absolute()
    top = prefix if root is None else root / prefix.relative_to("/")
    if remove:
        files = _remove(top)
    else:
        files = _add(top, program or os.path.abspath(shutil.which(sys.argv[0]) or sys.argv[0]))  # noqa: PTH100 - links stay
    if root is None:
        _update(prefix)
    if json:
        emit({"prefix": str(prefix), "removed" if remove else "added": files})
        return
    put(f"{'removed' if remove else 'added'} {len(files)} files under {top / 'share'}")


@app.command(hidden=True)
def thumbnail(
    file: Path,
    out: Path,
    size: Annotated[int, typer.Option(help="Longest side in pixels.", min=1, max=2048)] = 256,
) -> None:
    """The picture of a captured frame, made small: what file managers call. Nothing is replayed."""
    from PIL import Image

    from wendascope.files import write_atomically
    from wendascope.frame.file import captured_picture

    picture = captured_picture(file)
    if picture is None:
        raise FileError(f"{file} has no picture of its window")
    image = Image.fromarray(picture.pixels[::-1, :, :3].copy())
    image.thumbnail((size, size))
    write_atomically(out, lambda path: image.save(path, "PNG"))


def share_files(program: str) -> dict[str, bytes]:
    """Path under a prefix -> contents, of all that desktops and shells look for."""
    from importlib.resources import files

    from typer.main import get_command

    from wendascope.cli.manual import manual_pages

    found = {
        f"{place}/{name}": (files("wendascope.system_files") / name)
        .read_text(encoding="utf-8")
        .replace("@program@", _quoted(program) if name.endswith((".desktop", ".thumbnailer")) else program)
        for name, place in _PLACES.items()
    }
    pages = manual_pages(cast("click.Group", get_command(app)))
    found |= {f"share/man/man1/{name}": page for name, page in pages.items()}
    found |= _completions()
    return {path: text.encode() for path, text in found.items()}


def _quoted(program: str) -> str:
    """A path as an entry of a menu takes it."""
    return program if all(c.isalnum() or c in "/._-+" for c in program) else f'"{program}"'


def _completions() -> dict[str, str]:
    from typer._completion_shared import get_completion_script

    places = {
        "bash": "share/bash-completion/completions/wendascope",
        "zsh": "share/zsh/site-functions/_wendascope",
        "fish": "share/fish/vendor_completions.d/wendascope.fish",
    }
    return {
        place: get_completion_script(prog_name="wendascope", complete_var=COMPLETION, shell=shell) + "\n"
        for shell, place in places.items()
    }


def _add(top: Path, program: str) -> list[str]:
    from wendascope.files import write_files

    contents = share_files(program)
    contents[_LIST] = "".join(f"{path}\n" for path in sorted([*contents, _LIST])).encode()
    for path, data in contents.items():
        write_files((top / path).parent, {Path(path).name: data})
    return sorted(contents)


def _remove(top: Path) -> list[str]:
    try:
        files = (top / _LIST).read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        raise FileError(f"nothing was added under {top}: {top / _LIST} cannot be read") from error
    # a list that was tampered with names nothing outside the folder that it is about
    files = [path for path in files if path.startswith("share/") and ".." not in Path(path).parts]
    for path in files:
        try:
            (top / path).unlink(missing_ok=True)
        except OSError as error:
            raise FileError(f"cannot remove {top / path}: {error.strerror}") from error
    with contextlib.suppress(OSError):
        (top / _LIST).parent.rmdir()
    return files


def _update(prefix: Path) -> None:
    for tool, *arguments, folder in _UPDATES:
        path = prefix / folder
        if shutil.which(tool) is not None and path.is_dir():
            done = subprocess.run([tool, *arguments, str(path)], capture_output=True, text=True, check=False)
            if done.returncode:
                say(f"{tool} {path}: {done.stderr.strip()}")
