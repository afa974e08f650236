"""What is handed out: wheel, source distribution, Debian package, and what desktops and shells know the program by."""

import os
import shutil
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path
from typing import cast

import click
import numpy as np
import pytest
from click.testing import CliRunner
from PIL import Image
from typer.main import get_command

import wendascope
from wendascope import errors
from wendascope.cli._app import app
from wendascope.cli.integration import share_files
from wendascope.cli.manual import manual_pages
from wendascope.demo.data import shipped_file
from wendascope.frame.file import captured_picture

_ROOT = Path(__file__).parent.parent
_PLAIN = {**os.environ, "LC_ALL": "C.UTF-8", "MANWIDTH": "100"}
_CLEAN = {"PATH": "/usr/bin:/bin"}
_ID = "org.wendascope.Wendascope"


def _run(*command, **more):
    return subprocess.run([str(c) for c in command], capture_output=True, text=True, check=False, timeout=390, **more)


def _program(*arguments, **more):
    return _run(sys.executable, "-m", "wendascope.cli", *arguments, **more)


def _needs(tool):
    if shutil.which(tool) is None:
        pytest.skip(f"{tool} is not installed")
    return tool


@pytest.fixture(scope="module")
def prefix(tmp_path_factory):
    """A prefix that a desktop would look into."""
    folder = tmp_path_factory.mktemp("prefix with blank")
    done = _program("integrate", "--prefix", folder)
    assert done.returncode == 0, done.stderr
    return folder


def test_the_menu_entry_is_valid_and_starts_this_program(prefix):
    entry = prefix / "share/applications" / f"{_ID}.desktop"
    done = _run(_needs("desktop-file-validate"), entry)
    assert (done.returncode, done.stdout + done.stderr) == (0, "")
    assert "@" not in entry.read_text()
    assert "\nExec=/" in entry.read_text()
    assert (prefix / f"share/icons/hicolor/scalable/apps/{_ID}.svg").is_file()


def test_a_path_with_a_blank_is_quoted_in_the_menu_entry(tmp_path):
    entry = share_files("/opt/my tools/wendascope")[f"share/applications/{_ID}.desktop"].decode()
    assert 'Exec="/opt/my tools/wendascope" %F' in entry
    path = tmp_path / "quoted.desktop"
    path.write_text(entry)
    assert _run(_needs("desktop-file-validate"), path).stdout == ""


def test_the_description_for_software_catalogues_is_valid(prefix):
    path = prefix / "share/metainfo" / f"{_ID}.metainfo.xml"
    done = _run(_needs("appstreamcli"), "validate", "--no-net", path)
    assert done.returncode == 0, done.stdout
    assert "W:" not in done.stdout and "E:" not in done.stdout
    assert f'<release version="{wendascope.__version__}"' in path.read_text()


def test_a_frame_is_known_by_what_is_in_it(prefix):
    assert (prefix / "share/mime/packages" / f"{_ID}.xml").is_file()
    _needs("update-mime-database")
    magic = (prefix / "share/mime/magic").read_bytes()
    assert b"application/x-wendascope-frame" in magic
    with shipped_file("depot.wend").open("rb") as file:
        head = file.read(100)
    assert head.startswith(b"SQLite format 3") and head[68:72] == b"WEND"


def test_each_command_has_a_manual_page_without_a_warning(prefix):
    command = cast(click.Group, get_command(app))
    folder = prefix / "share/man/man1"
    assert {path.name for path in folder.iterdir()} == {"wendascope.1"} | {
        f"wendascope-{name}.1" for name, each in command.commands.items() if not each.hidden
    }
    tool = _needs("man")
    for path in sorted(folder.iterdir()):
        done = _run(tool, "--warnings", "-E", "UTF-8", "-l", "-Tutf8", "-Z", path, env=_PLAIN)
        assert (done.returncode, done.stderr) == (0, ""), path.name
    text = _run(tool, "-l", folder / "wendascope-plan.1", env=_PLAIN).stdout
    assert "--prove" in text and "\\" not in text


def test_commands_stand_in_the_order_in_which_one_meets_them():
    from wendascope.cli import _ORDER

    shown = [name for name, each in cast(click.Group, get_command(app)).commands.items() if not each.hidden]
    assert shown == _ORDER, "each has its place"


def test_a_manual_page_takes_no_text_for_a_request():
    @click.group()
    def group() -> None:
        """Says .so."""

    @group.command()
    @click.option("--odd", help=r"a \ and" "\n.so /etc/passwd")
    def one(odd: str) -> None:
        """One.

        .so /etc/passwd
        'br
        """

    page = manual_pages(group)["wendascope-one.1"]
    assert not [line for line in page.splitlines() if line.startswith((".so", "'"))]
    assert r"\e and" in page


def test_exit_codes_of_the_manual_are_those_of_the_errors():
    kinds = [
        kind for kind in vars(errors).values() if isinstance(kind, type) and issubclass(kind, errors.WendascopeError)
    ]
    assert {kind.exit_code for kind in kinds} | {0} == set(errors.EXIT_CODES)


def test_bash_completes_commands_and_options(prefix, tmp_path):
    # the script calls the program by its name
    (tmp_path / "wendascope").write_text(f'#!/bin/sh\nexec "{sys.executable}" -m wendascope.cli "$@"\n')
    (tmp_path / "wendascope").chmod(0o755)
    script = prefix / "share/bash-completion/completions/wendascope"
    for words, expected in ((["wendascope", "pl"], "plan"), (["wendascope", "plan", "--pro"], "--prove")):
        code = (
            f'source "{script}"; COMP_WORDS=({" ".join(words)}); COMP_CWORD={len(words) - 1};'
            ' _wendascope_completion wendascope; echo "${COMPREPLY[@]}"'
        )
        done = _run("bash", "-c", code, env={**os.environ, "PATH": f"{tmp_path}:{os.environ['PATH']}"})
        assert done.stdout.split() == [expected], done.stderr


def test_what_was_added_is_taken_away_and_nothing_else(tmp_path):
    other = tmp_path / "share/applications/other.desktop"
    other.parent.mkdir(parents=True)
    other.write_text("[Desktop Entry]\n")
    assert _program("integrate", "--prefix", "/usr", "--root", tmp_path / "root").returncode == 0
    assert (tmp_path / "root/usr/share/man/man1/wendascope.1").is_file()
    assert _program("integrate", "--prefix", tmp_path).returncode == 0
    done = _program("integrate", "--prefix", tmp_path, "--remove")
    assert done.returncode == 0 and done.stderr == ""
    left = {path.name for path in (tmp_path / "share").rglob("*") if path.is_file()}
    assert not [name for name in left if "endascope.Wend" in name or name.startswith("wendascope")]
    assert other.is_file()
    done = _program("integrate", "--prefix", tmp_path, "--remove")
    assert done.returncode == 3 and "nothing was added" in done.stderr


def test_a_list_that_was_tampered_with_takes_nothing_else_away(tmp_path):
    assert _program("integrate", "--prefix", "/p", "--root", tmp_path).returncode == 0
    kept = tmp_path / "kept"
    kept.write_text("")
    names = tmp_path / "p/share/wendascope/integrated-files.txt"
    names.write_text(names.read_text() + "share/../../kept\n../kept\n/kept\n")
    assert _program("integrate", "--prefix", "/p", "--root", tmp_path, "--remove").returncode == 0
    assert kept.exists()


def test_a_thumbnail_is_the_captured_picture(tmp_path):
    file, out = shipped_file("depot.wend"), tmp_path / "small.png"
    result = CliRunner().invoke(get_command(app), ["thumbnail", str(file), str(out), "--size", "128"])
    assert result.exit_code == 0, result.output
    captured = captured_picture(file)
    assert captured is not None
    small, whole = np.asarray(Image.open(out)).astype(float), captured.pixels[::-1, :, :3].astype(float)
    assert small.shape == (72, 128, 3)
    blocks = whole.reshape(72, 10, 128, 10, 3).mean(axis=(1, 3))
    assert np.abs(small - blocks).mean() < 4


def test_no_thumbnail_of_what_is_no_frame(tmp_path):
    (tmp_path / "bad.wend").write_bytes(b"SQLite format 3\0" + bytes(4000))
    done = _program("thumbnail", tmp_path / "bad.wend", tmp_path / "out.png")
    assert done.returncode == 3 and len(done.stderr.splitlines()) == 1
    assert not (tmp_path / "out.png").exists()


@pytest.fixture(scope="module")
def checkout(tmp_path_factory):
    """The files of the project without what is made of them, but with the library: compiling it is tested elsewhere."""
    folder = tmp_path_factory.mktemp("checkout") / "wendascope"
    made = shutil.ignore_patterns(".*", "build", "dist", "out", "*.egg-info", "__pycache__")
    shutil.copytree(_ROOT, folder, ignore=made)
    return folder


@pytest.mark.driver
def test_make_install_gives_a_program_that_works_and_uninstall_takes_it_away(checkout, tmp_path):
    prefix = tmp_path / "prefix"
    where = ["make", "-s", "-C", checkout, f"PREFIX={prefix}", f"DIST={tmp_path / 'dist'}", f"PYTHON={sys.executable}"]
    done = _run(*where, "install")
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    (wheel,) = (tmp_path / "dist").iterdir()
    assert wheel.name.startswith(f"wendascope-{wendascope.__version__}-py3-none-linux_")
    names = zipfile.ZipFile(wheel).namelist()
    assert "wendascope/_built/libwendatap.so" in names and not [name for name in names if "purelib" in name]

    clean = {**_CLEAN, "HOME": str(tmp_path)}
    shutil.copy(shipped_file("store.wend"), tmp_path / "store.wend")
    assert _run(prefix / "bin/wendascope", "--version", env=clean).stdout == f"{wendascope.__version__}\n"
    done = _run(prefix / "bin/wendascope", "verify", tmp_path / "store.wend", env=clean)
    assert "identical" in done.stdout, done.stderr
    assert (prefix / "share/applications" / f"{_ID}.desktop").is_file()

    done = _run(*where, "uninstall")
    assert done.returncode == 0, done.stderr
    assert not (prefix / "bin/wendascope").exists() and not (prefix / "lib/wendascope").exists()
    assert not list(prefix.rglob(f"{_ID}.desktop"))


@pytest.mark.driver
def test_the_source_distribution_holds_all_that_a_wheel_is_built_of(checkout, tmp_path):
    done = _run(sys.executable, "-m", "build", "--sdist", "--outdir", tmp_path, checkout)
    assert done.returncode == 0, done.stderr[-2000:]
    (archive,) = tmp_path.glob("*.tar.gz")
    with tarfile.open(archive) as file:
        names = {name.partition("/")[2] for name in file.getnames()}
    sources = {
        str(path.relative_to(checkout))
        for path in (checkout / "src").rglob("*")
        if path.is_file() and not {"_built", "__pycache__", "wendascope.egg-info"} & set(path.parts)
    }
    assert sources - names == set()
    assert {"setup.py", "Makefile", "tests/test_install.py", "debian/rules", "docs/ci.md"} <= names
    assert not [name for name in names if "_built" in name]


@pytest.mark.driver
def test_the_debian_package_is_clean_and_has_all_that_the_window_needs(checkout, tmp_path):
    _needs("dpkg-buildpackage")
    _needs("dh")
    done = _run("dpkg-buildpackage", "-b", "-us", "-uc", cwd=checkout)
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    (package,) = checkout.parent.glob("*.deb")
    (changes,) = checkout.parent.glob("*.changes")
    done = _run(_needs("lintian"), "--allow-root", changes)
    assert (done.returncode, done.stdout) == (0, ""), done.stdout

    assert _run("dpkg-deb", "-x", package, tmp_path).returncode == 0
    own = tmp_path / "usr/lib/wendascope/lib"
    (packages,) = own.glob("python3.*/site-packages")
    code = (
        "from wendascope.desktop.window.application import make_application; app = make_application();"
        "from wendascope.desktop.window.main_window import MainWindow; window = MainWindow(); window.show();"
        "print(app.windowIcon().pixmap(64, 64).width(), window.isVisible())"
    )
    clean = {**_CLEAN, "HOME": str(tmp_path), "PYTHONPATH": str(packages), "QT_QPA_PLATFORM": "offscreen"}
    done = _run("/usr/bin/python3", "-c", code, env=clean)
    assert done.stdout == "64 True\n", done.stderr[-2000:]
