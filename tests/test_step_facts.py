"""What decides whether draws may be touched: constant attributes, texture parameters, undefined colours, masks."""

from __future__ import annotations

import numpy as np
import pytest

from wendascope.analysis.draws.batches import find_batches
from wendascope.analysis.draws.sharing import Sharing
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.batching import NewObjects, plan_batch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import AttachmentRecord, FramebufferRecord, ShaderRecord
from wendascope.backends.opengl.state.texture_parameters import parameter_calls
from wendascope.errors import TrialError
from wendascope.frame.blobs import BlobStore
from wendascope.frame.remedy import MERGE, Part
from wendascope.registry import GL

from .synthetic import FRAGMENT, draw, frame_of, objects

SHADED = """#version 330 core
layout(location = 0) in vec3 position;
in vec4 shade;
uniform mat4 model;
out vec4 given;
void main() { given = shade; gl_Position = model * vec4(position, 1.0); }
"""


def _frame(batch: CallBatch, textures: int = 2) -> OpenGLFrame:
    blobs = BlobStore()
    return frame_of(batch, objects(blobs, programs=2, meshes=2, textures=textures), blobs)


# ---- attributes without an array -----------------------------------------------------------------------------


def _with_constants(calls: list[tuple[str, object]]) -> OpenGLFrame:
    batch = CallBatch()
    for name, value in calls:
        batch.call(name, 5, *(value if isinstance(value, tuple) else (value,)))
        draw(batch, 1, 1, 1)
    frame = _frame(batch)
    program = frame.objects.programs[0]
    program.attributes = {"position": 0, "shade": 5}
    program.shaders = [ShaderRecord(GL.VERTEX_SHADER, SHADED), ShaderRecord(GL.FRAGMENT_SHADER, FRAGMENT)]
    return frame


def test_constants_given_one_by_one_and_by_pointer_are_the_same_values() -> None:
    frame = _with_constants(
        [
            ("glVertexAttrib3f", (0.5, 0.25, 1.0)),
            ("glVertexAttrib3fv", np.array([0.5, 0.25, 1.0], np.float32).tobytes()),
            ("glVertexAttrib4fv", np.array([0.5, 0.25, 1.0, 0.0], np.float32).tobytes()),
        ]
    )
    numbers = frame.uses.constant_inputs
    assert numbers[0] == numbers[1] != numbers[2]
    values = [frame.history.value("attribute_value", int(c), 5) for c in frame.steps.call]
    assert values[0] == values[1] and values[2] is not None and values[2][3] == 0
    assert values[0] is not None and values[0][3] == 0x3F800000, "what is not given is one"


def test_draws_that_differ_in_a_constant_are_merged_with_it_beside_their_vertices() -> None:
    frame = _with_constants([("glVertexAttrib4f", (0.1 * k, 0.0, 0.0, 1.0)) for k in range(4)])
    (batch,) = find_batches(Sharing(frame)).batches
    assert batch.how == MERGE and batch.steps == [0, 1, 2, 3], "no instances: what is drawn is not the same"
    new = NewObjects(frame)
    plan_batch(frame, Part(MERGE, batch.steps), new)
    attributes = {a.index: a for a in new.objects.vertex_arrays[0].attributes}
    assert set(attributes) == {0, 5, 15} and attributes[5].size == 4 and attributes[5].type == GL.FLOAT
    made = next(b for b in new.objects.buffers if b.name == attributes[5].buffer)
    assert made.contents is not None
    rows = np.frombuffer(frame.blobs.get(made.contents), np.uint8).reshape(-1, attributes[5].stride)
    values = rows[:, attributes[5].offset : attributes[5].offset + 16].copy().view(np.float32)
    assert np.unique(values[:, 0]).tolist() == pytest.approx([0.0, 0.1, 0.2, 0.3])


def test_constants_that_are_no_floats_are_refused_by_name() -> None:
    frame = _with_constants([("glVertexAttribI4i", (k, 0, 0, 1)) for k in range(2)])
    with pytest.raises(TrialError, match="shade has one value, given by glVertexAttribI4i"):
        plan_batch(frame, Part(MERGE, [0, 1]), NewObjects(frame))


# ---- parameters of textures ----------------------------------------------------------------------------------


def test_parameters_that_are_what_they_were_keep_nothing_apart() -> None:
    batch = CallBatch()
    for value in (GL.CLAMP_TO_EDGE, GL.CLAMP_TO_EDGE, GL.REPEAT, GL.REPEAT):
        batch.call("glActiveTexture", GL.TEXTURE0)
        batch.call("glBindTexture", GL.TEXTURE_2D, 1)
        batch.call("glTexParameteri", GL.TEXTURE_2D, GL.TEXTURE_WRAP_S, value)
        draw(batch, 1, 1, 1)
    frame = _frame(batch)
    sets, changes = parameter_calls(frame)
    assert sets.sum() == 4 and np.flatnonzero(changes).tolist() == [int(np.flatnonzero(sets)[2])]
    assert frame.uses.separated.tolist() == [False, True, False]


def test_parameters_of_names_that_come_back_are_not_followed() -> None:
    batch = CallBatch()
    draw(batch, 1, 1, 1)
    batch.call("glDeleteTextures", 1, np.array([2], np.uint32).tobytes())
    batch.call("glBindTexture", GL.TEXTURE_2D, 2)
    batch.call("glTexParameteri", GL.TEXTURE_2D, GL.TEXTURE_WRAP_S, GL.CLAMP_TO_EDGE)
    draw(batch, 1, 1, 1)
    _, changes = parameter_calls(_frame(batch))
    assert changes.sum() == 1, "what the new texture holds is not known"


# ---- colours ---------------------------------------------------------------------------------------------------


def _two_colours(outputs: dict[str, tuple[int, int]], *calls: tuple[str, tuple[object, ...]]) -> OpenGLFrame:
    batch = CallBatch()
    batch.call("glBindFramebuffer", GL.FRAMEBUFFER, 9)
    for name, arguments in calls:
        batch.call(name, *arguments)
    for _ in range(3):
        draw(batch, 1, 1, 1)
    frame = _frame(batch, textures=5)
    attached = [AttachmentRecord(GL.COLOR_ATTACHMENT0 + k, "texture", 3 + k) for k in range(2)]
    both = [GL.COLOR_ATTACHMENT0, GL.COLOR_ATTACHMENT0 + 1]
    frame.objects.framebuffers.append(FramebufferRecord(9, attached, both))
    frame.objects.programs[0].outputs = outputs
    return frame


def test_a_shader_that_leaves_a_colour_undefined_is_in_no_batch() -> None:
    one = _two_colours({"colour": (0, 0)})
    assert one.uses.undefined_colours.all() and find_batches(Sharing(one)).batches == []
    reasons = find_batches(Sharing(one)).single_draws
    assert any("leaves a colour of the target undefined" in reason for reason in reasons)
    both = _two_colours({"colour": (0, 0), "other": (1, 0)})
    assert not both.uses.undefined_colours.any() and len(find_batches(Sharing(both)).batches) == 1


@pytest.mark.parametrize(
    "call",
    [
        ("glDrawBuffers", (1, np.array([GL.COLOR_ATTACHMENT0], np.uint32).tobytes())),
        ("glDrawBuffer", (GL.COLOR_ATTACHMENT0,)),
        ("glColorMaski", (1, 0, 0, 0, 0)),
    ],
)
def test_colours_that_are_not_drawn_into_are_not_undefined(call: tuple[str, tuple[object, ...]]) -> None:
    frame = _two_colours({"colour": (0, 0)}, call)
    assert not frame.uses.undefined_colours.any() and frame.uses.colours_taken(0) == {0}


def test_opaque_draws_with_other_colour_masks_do_not_commute() -> None:
    batch = CallBatch()
    for mask in (1, 0, 1):
        batch.call("glColorMask", mask, mask, mask, mask)
        draw(batch, 1, 1, 1)
    sharing = Sharing(_frame(batch))
    commuting = sharing.commuting
    assert commuting[0] == commuting[2] != commuting[1] != 0
    assert sharing.hiders.tolist() == [False, True, False] and sharing.hidden_by_depth.all()
    assert sharing.uses.writes_no_colour.tolist() == [False, True, False]
    assert len(set(sharing.epoch.tolist())) == 3
