"""The generated tables and the library that was built from the same registry."""

from __future__ import annotations

import ctypes
import subprocess

from wendascope.registry import GL, native_library, tables
from wendascope.registry.rules import LOST


def test_every_command_is_exported_by_the_tap() -> None:
    listed = subprocess.run(
        ["nm", "-D", "--defined-only", str(native_library())], capture_output=True, text=True, check=True
    ).stdout
    exported = {line.split()[-1] for line in listed.splitlines()}
    missing = [c.name for c in tables().commands if c.name.startswith("gl") and c.name not in exported]
    assert missing == []
    for name in ("glXSwapBuffers", "glXGetProcAddressARB", "eglSwapBuffers", "eglGetProcAddress", "dlsym"):
        assert name in exported


def test_core_commands_have_a_rule_for_every_pointer() -> None:
    """Only vendors' and imaging extensions may lack one."""
    suffixes = (
        "NV",
        "NVX",
        "EXT",
        "ARB",
        "AMD",
        "APPLE",
        "ATI",
        "IBM",
        "INTEL",
        "SUN",
        "SGIX",
        "SGIS",
        "OES",
        "QCOM",
        "PGI",
    )
    imaging = {"glColorSubTable", "glSeparableFilter2D"}
    lost = {c.name for c in tables().commands for p in c.parameters if p.role == LOST and not c.name.endswith(suffixes)}
    assert lost <= imaging


def test_values_and_names_agree() -> None:
    assert GL.TEXTURE_2D == 0x0DE1
    assert tables().enum_name(0x0DE1, "TextureTarget") == "GL_TEXTURE_2D"
    assert tables().enum_name(0x0004, "PrimitiveType") == "GL_TRIANGLES"
    assert (
        tables().bit_names(GL.COLOR_BUFFER_BIT | GL.DEPTH_BUFFER_BIT, "ClearBufferMask")
        == "GL_COLOR_BUFFER_BIT | GL_DEPTH_BUFFER_BIT"
    )


def test_aliases_are_found() -> None:
    assert tables()["glBindBufferARB"].canonical == "glBindBuffer"
    assert "glUseProgramObjectARB" in [c.name for c in tables().commands_like("glUseProgram")]


def test_executor_refuses_what_it_must() -> None:
    """Malformed calls come back as errors with their index, never as a crash."""
    library = ctypes.CDLL(str(native_library()))
    library.tap_execute.restype = ctypes.c_int64
    error = ctypes.c_int32()
    for word in (0, 0xFFFF, 3 << 32, (1 << 63)):
        words = (ctypes.c_uint64 * 6)(word)
        done = library.tap_execute(
            words, ctypes.c_uint64(6), None, ctypes.c_uint64(0), None, ctypes.c_uint64(0), 0, None, ctypes.byref(error)
        )
        assert done == 0 and error.value == 1
