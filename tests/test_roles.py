"""What passes do in their frames, against programs that were read: the demo's own names, and scenes of glmark2."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest

from wendascope import records
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import AttachmentRecord, FramebufferRecord
from wendascope.demo.data import demo_files
from wendascope.desktop.models.document import Document
from wendascope.frame.blobs import BlobStore
from wendascope.frame.file import load
from wendascope.frame.passes import PassKey
from wendascope.frame.roles import ROLE_RECORD, GivenRole, Role, pass_names
from wendascope.registry import GL

from .conftest import Capture, program
from .synthetic import draw, frame_of, objects

R = Role
DEPOT = {
    "shadow": R.SHADOW,
    "camera": R.SECONDARY,
    "mirror": R.REFLECTION,
    "depot": R.MAIN,
    "rain": R.OVERLAY,
    "glow": R.DOWN,
    "soften across": R.FILTER,
    "soften down": R.FILTER,
    "grade": R.FINAL,
    "board": R.OVERLAY,
}
GLMARK = {
    "shadow": [R.CLEAR, R.SHADOW, R.MAIN],
    "refract": [R.CLEAR, R.SECONDARY, R.MAIN],
    "terrain": [R.CLEAR, R.FILTER, R.FILTER, R.MAIN, R.DOWN, R.FILTER, R.COMBINE, R.FILTER, R.FINAL],
    "desktop": [R.CLEAR, R.MAIN, *([R.DOWN, R.UP] * 4), R.FINAL],
    "build": [R.MAIN],
    "ideas": [R.MAIN],
}
"""By reading the scenes: what each does in the order in which it draws."""


def test_the_roles_of_the_demo_are_what_it_calls_its_passes() -> None:
    frame = load(demo_files()[0])
    roles = frame.pass_roles
    assert {name: role.role for name, role in zip(frame.passes.names, roles, strict=True)} == DEPOT
    assert all(role.evidence for role in roles)
    names = pass_names(frame, roles)
    assert (
        names[0] == "shadow, 323 draws" and names[3] == "main view, 324 draws" and names[5] == "down-sampling, 320x180"
    )
    assert all(len(name) < 40 for name in names)
    main = list(DEPOT).index("depot")
    assert roles[0].read_by == [1, 2, 3] and main in roles[8].reads
    mirror = list(DEPOT).index("mirror")
    assert "view_projection mirrors" in roles[mirror].evidence[0]
    seen, mirrored = (frame.uses.matrices(int(frame.passes.end[i]) - 1) for i in (main, mirror))
    assert {"model", "view_projection", "light_projection"} <= set(seen) and seen["model"].shape == (4, 4)
    assert np.linalg.det(seen["view_projection"]) * np.linalg.det(mirrored["view_projection"]) < 0


@pytest.mark.driver
@pytest.mark.parametrize("scene", GLMARK)
def test_scenes_that_others_wrote(capture: Capture, scene: str) -> None:
    _, frame = capture(["glmark2", "-s", "400x300", "-b", f"{scene}:duration=60.0"], 15)
    assert [role.role for role in frame.pass_roles] == GLMARK[scene]
    assert len(set(frame.passes.names)) == len(frame.passes)


def test_a_role_that_somebody_gives_is_kept_and_names_the_pass(tmp_path: Path) -> None:
    path = Path(shutil.copy(demo_files()[2], tmp_path / "box.wend"))
    document = Document(path)
    assert document.frame.passes.names == ["main view, 5,545 draws"]
    keys = document.frame.passes.keys
    document.give_role(0, Role.OVERLAY.value)
    assert document.frame.passes.names == ["overlay, 5,545 draws"]
    assert Document(path).frame.passes.keys == keys, "other frames still know the pass"
    again = Document(path)
    assert again.frame.pass_roles[0].role == R.OVERLAY and again.frame.pass_roles[0].evidence == ["Given by the user."]
    assert load(path).passes.names == ["overlay, 5,545 draws"], "for everybody who opens the file"
    assert records.GIVEN_ROLE.key_of(records.GIVEN_ROLE.version) == ROLE_RECORD
    again.give_role(0, "")
    assert Document(path).frame.passes.names == ["main view, 5,545 draws"]
    records.GIVEN_ROLE.keep(path, GivenRole(99, "overlay"))
    records.GIVEN_ROLE.keep(path, GivenRole(0, "no role of ours"))
    assert Document(path).frame.passes.names == ["main view, 5,545 draws"], "what does not fit counts nothing"


def test_passes_of_other_frames_are_known_by_what_they_draw_into() -> None:
    """Not by the images' names, which a program may use in turn, nor by how much is drawn."""

    def keys(first: int, second: int, draws: int) -> list[PassKey]:
        batch = CallBatch()
        for number in (1, 2):
            batch.call("glBindFramebuffer", GL.FRAMEBUFFER, number)
            for _ in range(draws):
                draw(batch, 1, 1, 1)
        return _frame(batch, one=[_colour(first)], two=[_colour(second)]).passes.keys

    one, other = keys(1, 2, 3)
    assert one != other and keys(2, 1, 5) == [one, other]


# ---- frames made up ------------------------------------------------------------------------------------------


def _frame(batch: CallBatch, **attached: list[AttachmentRecord]) -> OpenGLFrame:
    blobs = BlobStore()
    made = objects(blobs, programs=2, meshes=2, textures=6)
    for number, attachments in enumerate(attached.values(), 1):
        made.framebuffers.append(FramebufferRecord(number, attachments))
    return frame_of(batch, made, blobs)


def _colour(texture: int) -> AttachmentRecord:
    return AttachmentRecord(GL.COLOR_ATTACHMENT0, "texture", texture)


def _depth(texture: int) -> AttachmentRecord:
    return AttachmentRecord(GL.DEPTH_ATTACHMENT, "texture", texture)


def _into(batch: CallBatch, framebuffer: int, texture: int = 1, count: int = 3) -> None:
    batch.call("glBindFramebuffer", GL.FRAMEBUFFER, framebuffer)
    for _ in range(count):
        draw(batch, 1, 1, texture)


def _roles(frame: OpenGLFrame) -> list[Role]:
    return [item.role for item in frame.pass_roles]


def test_depth_that_colour_is_drawn_against_again_is_a_prepass() -> None:
    batch = CallBatch()
    batch.call("glColorMask", 0, 0, 0, 0)
    _into(batch, 1)
    batch.call("glClear", GL.STENCIL_BUFFER_BIT)
    batch.call("glColorMask", 1, 1, 1, 1)
    _into(batch, 1)
    _into(batch, 0, texture=2)
    frame = _frame(batch, view=[_colour(2), _depth(3)])
    assert _roles(frame)[:2] == [R.PREPASS, R.MAIN] or _roles(frame)[0] == R.PREPASS


def test_cascades_in_one_texture_are_parts_of_one_light() -> None:
    batch = CallBatch()
    for _ in range(3):
        _into(batch, 1)
        batch.call("glClear", GL.DEPTH_BUFFER_BIT)
    _into(batch, 2)
    _into(batch, 0, texture=3)
    frame = _frame(batch, light=[_depth(3)], lamp=[_depth(4)])
    names = frame.passes.names
    assert _roles(frame)[:3] == [R.SHADOW] * 3 and names[0].startswith("shadow 1 (1/3)")
    assert any(name.startswith("shadow 2") for name in names)
    unread = frame.pass_roles[-2]
    assert unread.role == R.SHADOW and "Nothing in this frame reads that depth." in unread.evidence


def test_a_quad_over_the_window_that_reads_the_view_is_the_final_image() -> None:
    batch = CallBatch()
    _into(batch, 1)
    batch.call("glBindFramebuffer", GL.FRAMEBUFFER, 0)
    batch.call("glUseProgram", 1)
    batch.call("glActiveTexture", GL.TEXTURE0)
    batch.call("glBindTexture", GL.TEXTURE_2D, 2)
    batch.call("glBindVertexArray", 1)
    batch.call("glDrawElements", GL.TRIANGLES, 6, GL.UNSIGNED_SHORT, Raw(0))
    frame = _frame(batch, view=[_colour(2)])
    assert _roles(frame) == [R.MAIN, R.FINAL] and frame.passes.names == ["main view, 3 draws", "final image, 64²"]


def test_a_view_that_only_another_view_reads_is_secondary() -> None:
    batch = CallBatch()
    _into(batch, 1)
    _into(batch, 0, texture=2)
    assert _roles(_frame(batch, mirror=[_colour(2)])) == [R.SECONDARY, R.MAIN]


@pytest.mark.driver
@pytest.mark.parametrize(
    ("which", "roles"),
    [
        ("packed", [R.SHADOW, R.MAIN]),
        ("resolved", [R.MAIN, R.OVERLAY]),
        ("chain", [R.MAIN, R.DOWN, R.DOWN, R.DOWN, R.FINAL]),
    ],
)
def test_passes_that_are_easily_taken_for_something_else(capture: Capture, which: str, roles: list[Role]) -> None:
    """Distances packed into colours and wound the other way; a view resolved by a blit; images made by grids."""
    _, frame = capture(program("roles", which))
    assert [item.role for item in frame.pass_roles] == roles, [item.evidence for item in frame.pass_roles]
