"""The state table against the registry: nothing that a context has is left out without a reason."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import wendascope.backends.opengl.snapshot as snapshot
from wendascope.backends.opengl.state import state_table
from wendascope.backends.opengl.state.untracked import untracked_commands
from wendascope.registry import is_offered, tables
from wendascope.registry.xml import read_registry

from .known._state_changes import DEPENDS

CONTEXTS = {"core": ("gl", 46, True), "compatibility": ("gl", 46, False), "es": ("es", 32, False)}
NOT_FOLLOWED_IN_CORE = {
    # of what comes after these, nothing is said
    "glUseProgramStages", "glActiveShaderProgram", "glTextureView", "glTransformFeedbackBufferBase",
    "glTransformFeedbackBufferRange",
}  # fmt: skip
NO_STATE = re.compile(
    r"MAX_|MIN_(PROGRAM|MAP|FRAGMENT)|NUM_|\w+_BITS$|\w+_RANGE$|\w+_GRANULARITY$|\w+_FORMATS$|(MAJOR|MINOR)_VERSION"
    r"|\w+_OFFSET_ALIGNMENT|\w*SUBPIXEL_BITS|DOUBLEBUFFER|STEREO|AUX_BUFFERS|(RGBA|INDEX)_MODE|SHADER_COMPILER"
    r"|IMPLEMENTATION_|(LAYER|VIEWPORT_INDEX)_PROVOKING|SAMPLE_BUFFERS$|SAMPLES$|PRIMITIVE_RESTART_FOR|CONTEXT_"
    r"|RESET_NOTIF|TIMESTAMP|GPU_DISJOINT"
)
"""What a context is, and what it counts."""
BY_OTHER_NAMES = re.compile(
    r"CLIP_PLANE\d|(UN)?PACK_|STENCIL_BACK_|(MODELVIEW|PROJECTION|TEXTURE)_(MATRIX|STACK_DEPTH)|PIXEL_MAP_|MAP[12]_"
    r"|TEXTURE_GEN_|(COLOR|EDGE_FLAG|INDEX|NORMAL|TEXTURE_COORD|VERTEX)_ARRAY(_SIZE|_STRIDE|_TYPE)?$"
    r"|BLEND_(DST|SRC|EQUATION)$|LOGIC_OP$|DRAW_FRAMEBUFFER_BINDING|VERTEX_BINDING_DIVISOR"
)
"""What the snapshot reads by names that it puts together, or that are older ones of others."""
LEFT_OUT = {
    "CURRENT_RASTER_DISTANCE": "follows from the raster position",
    "CURRENT_RASTER_INDEX": "colours by index are not drawn any more",
    "INDEX_WRITEMASK": "colours by index are not drawn any more",
    "DEBUG_GROUP_STACK_DEPTH": "names of passes, which the calls tell",
    "FEEDBACK_BUFFER_SIZE": "feedback draws nothing",
    "FEEDBACK_BUFFER_TYPE": "feedback draws nothing",
    "SELECTION_BUFFER_SIZE": "selecting draws nothing",
    "NAME_STACK_DEPTH": "selecting draws nothing",
    "RENDER_MODE": "between frames programs draw",
    "LIST_INDEX": "no list is being made between frames",
    "LIST_MODE": "no list is being made between frames",
}


@pytest.mark.parametrize("name", CONTEXTS)
def test_every_value_that_a_context_has_is_read(name: str) -> None:
    folder = Path(snapshot.__file__).parent
    texts = [Path(state_table.__file__).read_text(), *(path.read_text() for path in folder.glob("*.py"))]
    read = {word for text in texts for word in re.findall(r"[A-Z][A-Z0-9_]+", text)}
    asked = [
        full.removeprefix("GL_")
        for full, _, groups in read_registry().enums
        if "GetPName" in groups and is_offered(full, *CONTEXTS[name], frozenset())
    ]
    assert len(asked) > 100
    missing = [
        what
        for what in asked
        if what not in read and not NO_STATE.match(what) and not BY_OTHER_NAMES.match(what) and what not in LEFT_OUT
    ]
    assert not missing


@pytest.mark.parametrize("name", ["core", "es"])
def test_every_command_is_followed_or_nothing_is_said_after_it(name: str) -> None:
    untracked = untracked_commands()
    found = {
        command.name
        for command in tables().commands
        if command.name == command.canonical
        and untracked[command.id]
        and not re.search(r"P\duiv?$", command.name)  # packed vertices, which no core context draws
        and is_offered(command.name, *CONTEXTS[name], frozenset())
    }
    assert found <= NOT_FOLLOWED_IN_CORE


def test_fixed_function_state_is_not_followed() -> None:
    untracked = untracked_commands()
    for name in ("glLightfv", "glLoadMatrixf", "glColor4f", "glTexEnvi", "glClipPlane", "glVertexPointer", "glFogf"):
        assert untracked[tables()[name].id], name


def test_every_pattern_that_draws_depend_on_is_changed_in_a_program() -> None:
    """`DEPENDS` names what is changed in each; here only that no pattern was forgotten."""
    text = Path(__file__).with_name("known").joinpath("_state_changes.py").read_text()
    without = [
        pattern.name
        for pattern in state_table.PATTERNS.values()
        if not any(f"GL.{setter}" in text or f'"{setter}"' in text for setter in pattern.setters)
        and pattern.name not in ("drawable", "hint", "transform_feedback", "renderbuffer", "primitive_bounding_box")
    ]
    assert not without and len(DEPENDS) > 150
