"""What is read out of a frame's calls, on frames made for it: passes, what is written, what is sampled, what nothing
needs, and what calls become on their way to the replay.
"""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from tests.synthetic import SURFACE, draw, frame_of, objects
from wendascope.backends.opengl.calls.journal import Journal
from wendascope.backends.opengl.calls.packed import CallBatch, CallStream, Raw, stream_of
from wendascope.backends.opengl.calls.prune import drop_unseen_contents, drop_unused_contents, unused_bytes
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import (
    AttachmentRecord,
    DefaultFramebuffer,
    FramebufferRecord,
    Objects,
    RenderbufferRecord,
)
from wendascope.backends.opengl.rebuild.deletions import unbinding_calls
from wendascope.backends.opengl.rebuild.names import NameMap
from wendascope.backends.opengl.rebuild.translate import Translator, drop_mask
from wendascope.backends.opengl.running.edit import own_calls
from wendascope.backends.opengl.tables.inputs import sampler_uses
from wendascope.backends.opengl.tables.written import buffer_writes, written_objects
from wendascope.frame.blobs import BlobStore
from wendascope.registry import GL

TARGET, DEPTH = 5, 6
"""A framebuffer with texture 2 as its colour, and its renderbuffer."""


def _with_target(batch: CallBatch, **state: dict[tuple[int, int], tuple[int, ...]]) -> OpenGLFrame:
    blobs = BlobStore()
    held = objects(blobs, meshes=2, textures=3)
    attached = [
        AttachmentRecord(GL.COLOR_ATTACHMENT0, "texture", 2, 0, 0, 0),
        AttachmentRecord(GL.DEPTH_ATTACHMENT, "renderbuffer", DEPTH, 0, 0, 0),
    ]
    held.framebuffers.append(FramebufferRecord(TARGET, attached))
    depth = RenderbufferRecord(DEPTH, 8, 8, GL.DEPTH_COMPONENT24, 0)
    depth.contents = blobs.put(bytes(256))
    held.renderbuffers.append(depth)
    return frame_of(batch, held, blobs, color_mask={(0, 0): (1, 1, 1, 1)}, **state)


def _bind(batch: CallBatch, framebuffer: int, clear: int = GL.COLOR_BUFFER_BIT | GL.DEPTH_BUFFER_BIT) -> None:
    batch.call("glBindFramebuffer", GL.FRAMEBUFFER, framebuffer)
    if clear:
        batch.call("glClear", clear)


def _two_passes(sample: int = 2) -> CallBatch:
    batch = CallBatch()
    _bind(batch, TARGET)
    draw(batch, 1, 1, 1)
    _bind(batch, 0)
    draw(batch, 1, 2, sample)
    return batch


# ---- passes ------------------------------------------------------------------------------------------------


def test_a_pass_is_a_target_or_a_clear_of_what_was_drawn() -> None:
    batch = _two_passes()
    batch.call("glClear", GL.COLOR_BUFFER_BIT)
    draw(batch, 1, 1, 1)
    frame = _with_target(batch)
    passes = frame.passes
    assert passes.first.tolist() == [0, 2, 4] and passes.end.tolist() == [2, 4, 6]
    assert passes.of_step.tolist() == [0, 0, 1, 1, 2, 2]
    assert [t.framebuffer for t in passes.targets] == [TARGET, 0, 0]
    assert (passes.targets[0].width, passes.targets[1].width) == (8, 64)
    assert passes.names[0].endswith("view, 1 draw") and len(set(passes.names)) == 3


def test_debug_groups_name_passes_and_split_them() -> None:
    batch = CallBatch()
    for name in (b"sleepers", b"rails"):
        batch.call("glPushDebugGroup", GL.DEBUG_SOURCE_APPLICATION, 1, len(name), name)
        draw(batch, 1, 1, 1)
        draw(batch, 1, 1, 1)
        batch.call("glPopDebugGroup")
    passes = _with_target(batch).passes
    assert passes.names == ["sleepers", "rails"] and passes.of_step.tolist() == [0, 0, 1, 1]


def test_another_attachment_is_another_target() -> None:
    batch = CallBatch()
    _bind(batch, TARGET, 0)
    draw(batch, 1, 1, 1)
    batch.call("glFramebufferTexture2D", GL.FRAMEBUFFER, GL.COLOR_ATTACHMENT0, GL.TEXTURE_2D, 3, 0)
    draw(batch, 1, 1, 1)
    passes = _with_target(batch).passes
    assert [t.attachments[0].name for t in passes.targets] == [2, 3]


def test_a_frame_without_steps_has_no_passes() -> None:
    batch = CallBatch()
    batch.call("glFlush")
    assert len(_with_target(batch).passes) == 0


# ---- inputs and what is written ------------------------------------------------------------------------------


def test_samplers_read_what_is_bound_at_each_step() -> None:
    batch = _two_passes(sample=3)
    batch.call("glActiveTexture", GL.TEXTURE0 + 4)
    batch.call("glBindTexture", GL.TEXTURE_2D, 2)
    batch.call("glUniform1i", SURFACE, 4)
    batch.call("glDrawElements", GL.TRIANGLES, 3, GL.UNSIGNED_SHORT, Raw(0))
    (use,) = sampler_uses(_with_target(batch))
    assert (use.program, use.sampler, use.target) == (1, "surface", GL.TEXTURE_2D)
    assert use.textures.tolist() == [1, 3, 2] and use.units.tolist() == [0, 0, 4]


def test_what_is_drawn_into_and_uploaded_is_written() -> None:
    batch = _two_passes()
    batch.call("glBindBuffer", GL.ARRAY_BUFFER, 2)
    batch.call("glBufferSubData", GL.ARRAY_BUFFER, 0, 4, bytes(4))
    batch.call("glTexSubImage2D", GL.TEXTURE_2D, 0, 0, 0, 1, 1, GL.RGBA, GL.UNSIGNED_BYTE, bytes(4))
    batch.call("glBindVertexArray", 2)
    batch.call("glBindBuffer", GL.ELEMENT_ARRAY_BUFFER, 3)
    batch.call("glBufferSubData", GL.ELEMENT_ARRAY_BUFFER, 0, 2, bytes(2))
    frame = _with_target(batch)
    written = written_objects(frame)
    assert written.textures == {2} and written.renderbuffers == {DEPTH}
    assert written.buffers == {2, 3, 5}, "and what the vertex array had bound before: rather one too many"
    assert 2 in written.vertex_arrays and not written.lists and not written.redefined_textures
    uploads = {
        name: [frame.calls.command(c).name for c in calls.tolist()] for name, calls in buffer_writes(frame).items()
    }
    assert uploads == {2: ["glBufferSubData"], 3: ["glBufferSubData"]}


def test_what_is_bound_for_shaders_to_write_is_written() -> None:
    batch = CallBatch()
    batch.call("glBindBufferBase", GL.SHADER_STORAGE_BUFFER, 3, 4)
    batch.call("glBindBufferBase", GL.UNIFORM_BUFFER, 3, 2)
    batch.call("glBindImageTexture", 0, 3, 0, 0, 0, GL.WRITE_ONLY, GL.RGBA8)
    draw(batch, 1, 1, 1)
    written = written_objects(_with_target(batch))
    assert written.buffers == {4} and written.textures == {3}


# ---- contents that may stay away -------------------------------------------------------------------------------


def test_contents_cleared_before_they_are_read_are_left_out() -> None:
    frame = _with_target(_two_passes())
    assert set(drop_unseen_contents(frame)) == {"texture 2", f"renderbuffer {DEPTH}"}
    assert frame.objects.texture(2).images[0].contents is None  # type: ignore[union-attr]


def test_contents_that_are_read_or_drawn_over_stay() -> None:
    sampled_first = CallBatch()
    draw(sampled_first, 1, 2, 2)
    _bind(sampled_first, TARGET)
    draw(sampled_first, 1, 1, 1)
    assert "texture 2" not in drop_unseen_contents(_with_target(sampled_first))
    drawn_over = CallBatch()
    _bind(drawn_over, TARGET, GL.COLOR_BUFFER_BIT)
    draw(drawn_over, 1, 1, 1)
    assert drop_unseen_contents(_with_target(drawn_over)) == ["texture 2"], "its depth is tested against"
    part = CallBatch()
    part.call("glEnable", GL.SCISSOR_TEST)
    part.call("glScissor", 0, 0, 4, 4)
    _bind(part, TARGET)
    draw(part, 1, 1, 1)
    assert drop_unseen_contents(_with_target(part)) == [], "only a part is cleared"
    masked = CallBatch()
    masked.call("glColorMask", 1, 1, 1, 0)
    _bind(masked, TARGET)
    draw(masked, 1, 1, 1)
    assert "texture 2" not in drop_unseen_contents(_with_target(masked))


def test_what_no_call_names_is_left_out() -> None:
    batch = CallBatch()
    draw(batch, 1, 1, 1)
    frame = _with_target(batch)
    unused = 4 * 8 * 8
    assert unused_bytes(frame) == unused, "texture 3; texture 2 is attached, and the buffers belong to vertex arrays"
    assert drop_unused_contents(frame) == ["texture 3"] and unused_bytes(frame) == 0


# ---- on the way to the replay -----------------------------------------------------------------------------------


def _translated(frame: OpenGLFrame, names: NameMap) -> CallStream:
    calls = frame.calls
    translator = Translator(frame, names, single_buffered=False)
    found, _ = translator.translate(calls.words, calls.arena, calls.offsets, np.arange(len(calls)), 0)
    return found


@given(st.dictionaries(st.integers(1, 3), st.integers(100, 2**31), min_size=3, max_size=3))
def test_names_and_locations_become_those_of_this_context(mapping: dict[int, int]) -> None:
    names = NameMap()
    for name, here in mapping.items():
        for kind in ("texture", "program", "vertex array", "buffer"):
            names.set(kind, name, here)
    names.locations[1] = {SURFACE: 77}
    batch = CallBatch()
    draw(batch, 1, 2, 3)
    batch.call("glDeleteTextures", 2, np.array([1, 3], np.uint32).tobytes())
    found = _translated(_with_target(batch), names)
    told = {found.command(c).name: c for c in range(len(found))}
    assert found.argument(told["glUseProgram"], "program") == mapping[1]
    assert found.argument(told["glBindTexture"], "texture") == mapping[3]
    assert found.argument(told["glBindVertexArray"], "array") == mapping[2]
    assert found.argument(told["glUniform1i"], "location") == 77
    assert np.frombuffer(found.argument(told["glDeleteTextures"], "textures"), np.uint32).tolist() == [
        mapping[1], mapping[3],
    ]  # fmt: skip


def test_nothing_is_translated_where_names_are_the_same() -> None:
    frame = _with_target(_two_passes())
    assert np.array_equal(_translated(frame, NameMap()).words, frame.calls.words)


def _last_arguments(calls: CallStream) -> list[tuple[str, object]]:
    commands = [calls.command(i) for i in range(len(calls))]
    return [(c.name, calls.argument(i, c.parameters[-1].name)) for i, c in enumerate(commands)]


def test_deletes_are_not_replayed_but_unbind() -> None:
    batch = CallBatch()
    draw(batch, 1, 1, 2)
    batch.call("glDeleteTextures", 1, np.array([2], np.uint32).tobytes())
    batch.call("glDeleteTextures", 1, np.array([3], np.uint32).tobytes())
    batch.call("glDeleteVertexArrays", 1, np.array([1], np.uint32).tobytes())
    frame = _with_target(batch)
    dropped = {frame.calls.command(c).name for c in np.flatnonzero(drop_mask(frame)).tolist()}
    assert dropped == {"glDeleteTextures", "glDeleteVertexArrays"}
    unbound = [
        (
            insertion.before,
            [(c.command(i).name, c.argument(i, c.command(i).parameters[-1].name)) for i in range(len(c))],
        )
        for insertion in unbinding_calls(frame)
        for c in [stream_of(own_calls(insertion.calls))]
    ]
    first = int(frame.calls.calls_of("glDeleteTextures")[0])
    assert unbound == [
        (first, [("glActiveTexture", GL.TEXTURE0), ("glBindTexture", 0), ("glActiveTexture", GL.TEXTURE0)]),
        (first + 2, [("glBindVertexArray", 0)]),
    ], "what is bound nowhere needs nothing"


# ---- the journal --------------------------------------------------------------------------------------------------


def _made(batch: CallBatch, results: dict[int, int]) -> CallStream:
    """A journal, with what its calls returned."""
    calls = stream_of(batch)
    for call, value in results.items():
        calls.words[calls.offsets[call] + 4 + calls.command(call).slots - 1] = value
    return calls


def _source(batch: CallBatch, shader: int, text: bytes) -> None:
    batch.call("glShaderSource", shader, 1, [text], np.array([len(text)], np.int32).tobytes())


def test_a_program_is_what_its_last_link_made_it() -> None:
    batch = CallBatch()
    batch.call("glCreateShader", GL.VERTEX_SHADER)
    batch.call("glCreateProgram")
    _source(batch, 3, b"first")
    batch.call("glCompileShader", 3)
    batch.call("glAttachShader", 4, 3)
    batch.call("glBindAttribLocation", 4, 2, b"position\0")
    batch.call("glLinkProgram", 4)
    _source(batch, 3, b"second")  # neither compiled nor linked
    batch.call("glBindAttribLocation", 4, 5, b"position\0")
    journal = Journal(_made(batch, {0: 3, 1: 4}), 0)
    program = journal.program(4)
    assert program is not None and program.linked and program.attributes == {"position": 2}
    assert [(s.type, s.source) for s in program.shaders] == [(GL.VERTEX_SHADER, "first")]
    loose = journal.loose_shader(3)
    assert loose is not None and loose.source == "second"
    again = CallBatch()
    again.call("glCompileShader", 3)
    again.call("glLinkProgram", 4)
    ((call, relinked),) = journal.follow(stream_of(again))
    assert call == 1 and relinked.shaders[0].source == "second" and relinked.attributes == {"position": 5}


def test_what_the_journal_cannot_follow_is_said() -> None:
    batch = CallBatch()
    batch.call("glCreateProgram")
    batch.call("glProgramBinary", 9, 1234, b"\1\2\3", 3)
    batch.call("glCreateProgram")
    journal = Journal(_made(batch, {0: 9, 2: 10}), 0)
    program = journal.program(9)
    assert program is not None and program.binary == b"\1\2\3" and "loaded from a binary" in journal.program_caveat(9)
    assert journal.program(10) is None and journal.program(11) is None
    assert "before the tap saw it" in journal.program_caveat(11)


def test_detached_shaders_and_other_groups_do_not_count() -> None:
    batch = CallBatch()
    batch.call("glCreateShader", GL.VERTEX_SHADER)
    batch.call("glCreateShader", GL.FRAGMENT_SHADER)
    batch.call("glCreateProgram")
    for shader in (1, 2):
        batch.call("glAttachShader", 3, shader)
    batch.call("glDetachShader", 3, 1)
    batch.call("glLinkProgram", 3)
    calls = _made(batch, {0: 1, 1: 2, 2: 3})
    program = Journal(calls, 0).program(3)
    assert program is not None and [s.type for s in program.shaders] == [GL.FRAGMENT_SHADER]
    assert Journal(calls, 1).program(3) is None


def test_the_window_is_a_target_of_its_own_size() -> None:
    batch = CallBatch()
    draw(batch, 1, 1, 1)
    frame = frame_of(batch, Objects(programs=objects(BlobStore()).programs))
    assert isinstance(frame.default_framebuffer, DefaultFramebuffer)
    assert (frame.passes.targets[0].framebuffer, frame.passes.targets[0].width) == (0, 64)
