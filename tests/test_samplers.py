"""Which texture unit every sampler reads: one resolver, held against the driver's own answer."""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from wendascope.backends.opengl.calls.packed import CallBatch, stream_of
from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import (
    DefaultFramebuffer,
    Objects,
    ProgramRecord,
    ShaderRecord,
    UniformRecord,
)
from wendascope.backends.opengl.rebuild.executor import LocalExecutor
from wendascope.backends.opengl.tables.inputs import sampler_uses
from wendascope.frame.blobs import BlobStore
from wendascope.frame.context import ContextInfo
from wendascope.frame.frame import Metadata
from wendascope.registry import GL

VERTEX = "#version 450\nvoid main() { gl_Position = vec4(0.0); }\n"
FRAGMENT = (
    "#version 450\nuniform sampler2D one;\nuniform sampler2D some[4];\nout vec4 c;\nvoid main() { c = texture(one,"
    " vec2(0)) + texture(some[0], vec2(0)) + texture(some[1], vec2(0)) + texture(some[2], vec2(0)) + texture(some[3],"
    " vec2(0)); }\n"
)
UNITS = 8


class _Driver:
    """A program in a context of ours: its locations, and what its samplers hold after some calls."""

    def __init__(self) -> None:
        self.context = PbufferContext(
            ContextInfo(major=4, minor=5), DefaultFramebuffer(width=16, height=16, alpha=8, depth=24, stencil=8)
        )
        self.executor = LocalExecutor()
        batch = CallBatch()
        shaders = [batch.call("glCreateShader", kind) for kind in (GL.VERTEX_SHADER, GL.FRAGMENT_SHADER)]
        program = batch.call("glCreateProgram")
        self.executor.run(batch)
        self.program = program.value
        batch = CallBatch()
        for shader, text in zip(shaders, (VERTEX.encode(), FRAGMENT.encode()), strict=True):
            batch.call("glShaderSource", shader.value, 1, [text], struct.pack("<i", len(text)))
            batch.call("glCompileShader", shader.value)
            batch.call("glAttachShader", self.program, shader.value)
        batch.call("glLinkProgram", self.program)
        names = ["one", *(f"some[{k}]" for k in range(4))]
        found = [batch.call("glGetUniformLocation", self.program, name.encode() + b"\0") for name in names]
        self.executor.run(batch)
        self.locations = [result.value & 0xFFFFFFFF for result in found]
        assert all(location < 1 << 31 for location in self.locations)

    def units(self) -> list[int]:
        batch = CallBatch()
        outs = [batch.out(4) for _ in self.locations]
        for location, out in zip(self.locations, outs, strict=True):
            batch.call("glGetUniformiv", self.program, location, out)
        self.executor.run(batch)
        return [out.ints()[0] for out in outs]


@pytest.fixture(scope="module")
def driver() -> Iterator[_Driver]:
    made = _Driver()
    yield made
    made.context.make_current()
    made.context.close()


_setting = st.one_of(
    st.tuples(st.just("glUniform1i"), st.integers(0, 4), st.lists(st.integers(0, UNITS - 1), min_size=1, max_size=1)),
    st.tuples(st.just("glUniform1iv"), st.integers(0, 4), st.lists(st.integers(0, UNITS - 1), min_size=1, max_size=6)),
    st.tuples(
        st.just("glProgramUniform1i"), st.integers(0, 4), st.lists(st.integers(0, UNITS - 1), min_size=1, max_size=1)
    ),
    st.tuples(
        st.just("glProgramUniform1iv"), st.integers(0, 4), st.lists(st.integers(0, UNITS - 1), min_size=1, max_size=6)
    ),
)


def _call(batch: CallBatch, driver: _Driver, name: str, which: int, units: list[int]) -> None:
    first = [driver.program] if "Program" in name else []
    location = driver.locations[which]
    if name.endswith("v"):
        count = len(units) if which else 1  # an element of an array, or what is none
        batch.call(name, *first, location, count, np.array(units[:count], np.int32).tobytes())
    else:
        batch.call(name, *first, location, units[0])


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(_setting, max_size=4), st.lists(st.lists(_setting, max_size=5), min_size=1, max_size=4))
def test_units_are_those_of_the_driver(driver: _Driver, before: list, between: list) -> None:
    driver.context.make_current()
    batch = CallBatch()
    batch.call("glUseProgram", driver.program)
    for setting in before:
        _call(batch, driver, *setting)
    driver.executor.run(batch)
    start, expected = driver.units(), []
    frame_calls = CallBatch()
    for settings_ in between:  # one draw after each group
        batch = CallBatch()
        for setting in settings_:
            _call(batch, driver, *setting)
            _call(frame_calls, driver, *setting)
        driver.executor.run(batch)
        expected.append(driver.units())
        frame_calls.call("glDrawArrays", GL.TRIANGLES, 0, 3)
    values = [struct.pack("<i", unit) for unit in start]
    uniforms = [
        UniformRecord("one", GL.SAMPLER_2D, 1, driver.locations[:1], values[0]),
        UniformRecord("some[0]", GL.SAMPLER_2D, 4, driver.locations[1:], b"".join(values[1:])),
    ]
    record = ProgramRecord(
        driver.program,
        [ShaderRecord(GL.VERTEX_SHADER, VERTEX), ShaderRecord(GL.FRAGMENT_SHADER, FRAGMENT)],
        True,
        uniforms=uniforms,
    )
    state = {"program": {(0, 0): (driver.program,)}} | {
        "texture": {(GL.TEXTURE0 + unit, GL.TEXTURE_2D): (100 + unit,) for unit in range(UNITS)}
    }
    frame = OpenGLFrame(
        Metadata(),
        ContextInfo(major=4, minor=5),
        DefaultFramebuffer(),
        state,
        Objects(programs=[record]),
        BlobStore(),
        stream_of(frame_calls),
    )
    uses = {use.sampler: use for use in sampler_uses(frame)}
    for column, name in enumerate(["one", *(f"some[{k}]" for k in range(4))]):
        assert uses[name].units.tolist() == [row[column] for row in expected], name
        assert uses[name].textures.tolist() == [100 + row[column] for row in expected], name
