"""Hostile frames: whole, true to their digests, and made to do harm where they are run."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from tests.attacks import Tally
from tests.attacks.running import run_on
from tests.conftest import load_opengl
from wendascope.backends.opengl.calls.packed import CallBatch, CallStream, Out, Raw, merge_streams, stream_of
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import ProgramRecord, ShaderRecord, UniformRecord
from wendascope.errors import WendascopeError
from wendascope.frame.file import save
from wendascope.registry import GL, tables
from wendascope.registry.numbers import HEADER_WORDS
from wendascope.registry.rules import BUFFERS

Change = Callable[[OpenGLFrame], None]
_ADDRESSES = (1, 0x400000, 0x55_5555_555000, 0x7FFF_FFFF_F000, (1 << 63) + 8)

# A pointer of each kind: command -> its arguments, with the pointer last to be replaced.
_POINTERS: dict[str, tuple[str, tuple[object, ...]]] = {
    "pixels read back": ("glReadPixels", (0, 0, 8, 8, GL.RGBA, GL.UNSIGNED_BYTE)),
    "texel data": ("glTexSubImage2D", (GL.TEXTURE_2D, 0, 0, 0, 8, 8, GL.RGBA, GL.UNSIGNED_BYTE)),
    "texel data of an image": ("glTexImage2D", (GL.TEXTURE_2D, 0, GL.RGBA, 8, 8, 0, GL.RGBA, GL.UNSIGNED_BYTE)),
    "indices": ("glDrawElements", (GL.TRIANGLES, 6, GL.UNSIGNED_INT)),
    "client vertices": ("glVertexPointer", (3, GL.FLOAT, 0)),
    "client attributes": ("glVertexAttribPointer", (0, 3, GL.FLOAT, 0, 0)),
    "draw parameters": ("glDrawArraysIndirect", (GL.TRIANGLES,)),
    "feedback": ("glFeedbackBuffer", (1024, 0x0600)),
    "selection": ("glSelectBuffer", (1024,)),
    "image of a texture": ("glGetTexImage", (GL.TEXTURE_2D, 0, GL.RGBA, GL.UNSIGNED_BYTE)),
    "compressed image": ("glGetCompressedTexImage", (GL.TEXTURE_2D, 0)),
    "contents of a buffer": ("glGetBufferSubData", (GL.ARRAY_BUFFER, 0, 64)),
    "result of a query": ("glGetQueryObjectuiv", (1, GL.QUERY_RESULT)),
    "state": ("glGetIntegerv", (GL.VIEWPORT,)),
    "pixel map": ("glPixelMapfv", (GL.PIXEL_MAP_I_TO_R, 64)),
    "uniform": ("glUniform4fv", (0, 4)),
    "buffer data": ("glBufferData", (GL.ARRAY_BUFFER, 4096, GL.STATIC_DRAW)),
    "evaluator": ("glMap1f", (GL.MAP1_VERTEX_3, 0.0, 1.0, 3, 4)),
}  # fmt: skip


def _call(name: str, arguments: tuple[object, ...], pointer: object) -> CallBatch:
    """A call with a pointer in the place that the command has for one; `arguments` are the others in order."""
    batch, rest = CallBatch(), list(arguments)
    values = [pointer if p.kind == "pointer" else rest.pop(0) for p in tables()[name].parameters]
    batch.call(name, *values)
    return batch


def _in_front(calls: CallStream, batch: CallBatch) -> CallStream:
    return merge_streams([stream_of(batch), calls])


def _into(part: str, batch: CallBatch) -> Change:
    def change(frame: OpenGLFrame) -> None:
        setattr(frame, part, _in_front(getattr(frame, part), batch))

    return change


def pointers() -> Iterator[tuple[str, Change]]:
    """Addresses of another process, and memory that is not the call's, in every stream of a file."""
    for what, (name, arguments) in _POINTERS.items():
        for address in _ADDRESSES:
            yield f"{what} at {address:#x}", _into("calls", _call(name, arguments, Raw(address)))
        for part in ("setup", "lists", "following"):
            yield f"{what} at an address, in {part}", _into(part, _call(name, arguments, Raw(0x7FFF_0000_1000)))
        yield f"{what} far into the output", _into("calls", _call(name, arguments, Out(1 << 40, 1 << 20)))
        yield f"{what} with too little data", _into("calls", _call(name, arguments, b"\1\2\3"))


def _callback(frame: OpenGLFrame) -> None:
    batch = CallBatch()
    batch.call("glDebugMessageCallback", 0x41414141, Raw(0x42424242))
    frame.setup = _in_front(frame.setup, batch)


def _many_pointers(frame: OpenGLFrame) -> None:
    batch = CallBatch()
    batch.call("glBindBuffer", GL.ELEMENT_ARRAY_BUFFER, 0)
    offsets = np.full(4, 0x7FFF_0000_0000, np.uint64).tobytes()
    batch.call("glMultiDrawElements", GL.TRIANGLES, np.full(4, 6, np.int32).tobytes(), GL.UNSIGNED_INT, offsets, 4)
    frame.calls = _in_front(frame.calls, batch)


def _short_client_array(frame: OpenGLFrame) -> None:
    batch = CallBatch()
    batch.call("wendaClientArray", 0, 0, 3, GL.FLOAT, 0, 0, 0, 0, 36, bytes(36))
    batch.call("glDrawArrays", GL.TRIANGLES, 0, 1 << 24)
    frame.calls = _in_front(frame.calls, batch)


def _lengths_that_lie(frame: OpenGLFrame) -> None:
    batch = CallBatch()
    batch.call("glShaderSource", 1, 1, [b"void main() {}"], np.array([1 << 30], np.int32).tobytes())
    frame.calls = _in_front(frame.calls, batch)


def _map_and_write(frame: OpenGLFrame) -> None:
    batch = CallBatch()
    name = frame.objects.buffers[0].name
    batch.call("glBindBuffer", GL.ARRAY_BUFFER, name)
    batch.call("glMapBufferRange", GL.ARRAY_BUFFER, 0, 16, 2)
    batch.call("wendaWriteBuffer", name, 1 << 40, 64, bytes(64))
    batch.call("wendaWriteBuffer", name, 0, 1 << 20, bytes(1 << 20))
    frame.calls = _in_front(frame.calls, batch)


# ---- shaders ---------------------------------------------------------------------------------------

_HEAD = "#version 330 core\nout vec4 colour;\n"


def _shader(body: str) -> Change:
    """Every program of the frame gets this fragment shader."""

    def change(frame: OpenGLFrame) -> None:
        for program in frame.objects.programs:
            program.shaders = [
                msgspec.structs.replace(s, source=body) if s.type == GL.FRAGMENT_SHADER else s for s in program.shaders
            ]

    return change


def _macro_bomb(levels: int, width: int) -> str:
    lines = [_HEAD, "#define A0 colour += vec4(0.1);"]
    lines += [f"#define A{i} {' '.join([f'A{i - 1}'] * width)}" for i in range(1, levels)]
    return "\n".join([*lines, f"void main() {{ colour = vec4(0.0); A{levels - 1} }}"])


def _unrolled(depth: int, count: int) -> str:
    loops = "".join(f"for (int i{d} = 0; i{d} < {count}; ++i{d}) " for d in range(depth))
    return f"{_HEAD}void main() {{ vec4 c = vec4(0.0); {loops} c += sin(c + float(i0)); colour = c; }}"


def _functions(count: int) -> str:
    parts = [_HEAD, "vec4 f0(vec4 v) { return v * 1.01; }"]
    parts += [
        f"vec4 f{i}(vec4 v) {{ return f{i - 1}(v) + f{max(0, i - 2)}(v.yzwx) * {i}.0; }}" for i in range(1, count)
    ]
    return "\n".join([*parts, f"void main() {{ colour = f{count - 1}(gl_FragCoord); }}"])


def shaders() -> Iterator[tuple[str, Change]]:
    """Sources that take long to read, to compile or to run."""
    yield "nested macros", _shader(_macro_bomb(12, 8))
    yield "nested macros, wide", _shader(_macro_bomb(5, 60))
    yield (
        "macro that names itself",
        _shader(f"{_HEAD}#define f(x) f(f(x))\nvoid main() {{ colour = vec4(f(f(f(f(1.0))))); }}"),
    )
    yield "loops that unroll", _shader(_unrolled(4, 64))
    yield "loops that unroll, flat", _shader(_unrolled(1, 1 << 20))
    yield "thousands of functions", _shader(_functions(3000))
    yield "calls that double", _shader(_functions(40))
    yield (
        "a loop without end",
        _shader(
            f"{_HEAD}uniform float stop;\nvoid main() {{ colour = vec4(0.0); while (stop < 1.0) colour += vec4(0.1); }}"
        ),
    )
    yield "deep brackets", _shader(f"{_HEAD}void main() {{ colour = vec4({'(' * 20000}1.0{')' * 20000}); }}")
    yield "deep blocks", _shader(f"{_HEAD}void main() {{ {'{' * 20000}{'}' * 20000} }}")
    yield (
        "a line of a million characters",
        _shader(f"{_HEAD}void main() {{ colour = vec4({'+'.join(['1.0'] * 250_000)}); }}"),
    )
    yield "a million lines", _shader(_HEAD + "\n" * 1_000_000 + "void main() { colour = vec4(1.0); }")
    yield "comments that never end", _shader(_HEAD + "/*" * 200_000)
    yield "directives without end", _shader(_HEAD + "#if 1\n" * 50_000 + "void main() {}")
    yield "a long name", _shader(f"{_HEAD}float {'a' * 500_000};\nvoid main() {{ colour = vec4(1.0); }}")
    yield (
        "a huge array",
        _shader(f"{_HEAD}uniform float big[268435455];\nvoid main() {{ colour = vec4(big[int(gl_FragCoord.x)]); }}"),
    )
    yield (
        "a huge local array",
        _shader(
            f"{_HEAD}void main() {{ float a[4194304]; for (int i = 0; i < 4194304; ++i) a[i] = float(i); colour ="
            " vec4(a[int(gl_FragCoord.x)]); }"
        ),
    )
    yield (
        "many samplers",
        _shader(
            _HEAD
            + "".join(f"uniform sampler2D s{i};\n" for i in range(4096))
            + "void main() { colour = texture(s9, vec2(0.0)); }"
        ),
    )
    yield (
        "deep structures",
        _shader(
            _HEAD
            + "struct S0 { vec4 a; };\n"
            + "".join(f"struct S{i} {{ S{i - 1} a[8]; }};\n" for i in range(1, 9))
            + "uniform S8 s;\nvoid main() { colour = vec4(1.0); }"
        ),
    )
    yield (
        "many cases",
        _shader(
            _HEAD
            + "void main() { switch (int(gl_FragCoord.x)) {"
            + "".join(f"case {i}: colour = vec4({i}.0); break;" for i in range(20000))
            + "default: break; } }"
        ),
    )
    yield "no text at all", _shader("")
    yield "bytes that are no text", _shader(_HEAD + "\ud7ff\x01\x02\x7f" * 1000)


# ---- records -----------------------------------------------------------------------------------------


def _uniforms(frame: OpenGLFrame) -> None:
    names = [UniformRecord(f"u{i}", GL.FLOAT_VEC4, 1, [i], bytes(16)) for i in range(1 << 17)]
    frame.objects.programs.append(
        ProgramRecord(9999, [ShaderRecord(GL.VERTEX_SHADER, "void main() {}")], True, uniforms=names)
    )


def _locations(frame: OpenGLFrame) -> None:
    frame.objects.programs[0].uniforms = [
        UniformRecord("u", GL.FLOAT, 1, list(range(65536)), bytes(4 * 65536)) for _ in range(40)
    ]


def _field(what: str, **values: object) -> Change:
    return _each(lambda frame: getattr(frame.objects, what), **values)


def _calls_of(batch_of: Callable[[CallBatch], None]) -> Change:
    def change(frame: OpenGLFrame) -> None:
        batch = CallBatch()
        batch_of(batch)
        frame.calls = _in_front(frame.calls, batch)

    return change


def _huge_textures(batch: CallBatch) -> None:
    for level in range(64):
        batch.call("glTexImage3D", GL.TEXTURE_3D, 0, GL.RGBA32F, 2048, 2048, 2048 + level, 0, GL.RGBA, GL.FLOAT, None)


def _huge_buffers(batch: CallBatch) -> None:
    for _ in range(64):
        batch.call("glBufferData", GL.ARRAY_BUFFER, 1 << 34, None, GL.STATIC_DRAW)


def _huge_draws(batch: CallBatch) -> None:
    for _ in range(4):
        batch.call("glDrawArraysInstanced", GL.TRIANGLES, 0, (1 << 31) - 1, (1 << 31) - 1)


def _list_in_list(frame: OpenGLFrame) -> None:
    batch = CallBatch()
    for name in range(1, 200):
        batch.call("glNewList", name, GL.COMPILE)
        batch.call("glCallList", name + 1)
        batch.call("glCallList", name + 1)
        batch.call("glEndList")
    frame.lists = _in_front(frame.lists, batch)
    calls = CallBatch()
    calls.call("glCallList", 1)
    frame.calls = _in_front(frame.calls, calls)


def _windows(batch: CallBatch) -> None:
    for number in range(1, 4000):
        batch.call("wendaDrawable", number, 16384, 16384)


def _strange_numbers(frame: OpenGLFrame) -> None:
    """Every slot of every tenth call that is not a pointer is as large as can be."""
    words = frame.calls.words.copy()
    for call in range(0, len(frame.calls), 10):
        at = int(frame.calls.offsets[call]) + HEADER_WORDS
        for parameter in frame.calls.command(call).parameters:
            if parameter.kind != "pointer":
                words[at + parameter.slot] = np.uint64((1 << 64) - 1)
    frame.calls = CallStream(words, frame.calls.arena, frame.calls.offsets)


def _far_offsets(frame: OpenGLFrame) -> None:
    """Every offset into a buffer lies far behind its end."""
    words = frame.calls.words.copy()
    for call in range(len(frame.calls)):
        at = int(frame.calls.offsets[call]) + HEADER_WORDS
        for parameter in frame.calls.command(call).parameters:
            if parameter.role in BUFFERS and int(words[at + parameter.slot]) >> 60 == 0:
                words[at + parameter.slot + 1] = np.uint64(0x3F_0000_0000)
    frame.calls = CallStream(words, frame.calls.arena, frame.calls.offsets)


def records() -> Iterator[tuple[str, Change]]:
    """Objects, sizes, counts and calls that ask for more than there is."""
    yield "a callback", _callback
    yield "many pointers in one call", _many_pointers
    yield "a client array that is too short", _short_client_array
    yield "lengths that lie", _lengths_that_lie
    yield "a mapping written beyond its end", _map_and_write
    yield "more uniforms than memory", _uniforms
    yield "very many locations", _locations
    yield "textures of 128 GiB", _calls_of(_huge_textures)
    yield "buffers of 16 GiB", _calls_of(_huge_buffers)
    yield "draws without end", _calls_of(_huge_draws)
    yield "lists that double", _list_in_list
    yield "thousands of windows", _calls_of(_windows)
    yield "numbers as large as can be", _strange_numbers
    yield "offsets far behind", _far_offsets
    yield "attributes with huge strides", _each(_attributes, stride=1 << 30)
    yield "attributes of a thousand parts", _each(_attributes, size=1000)
    yield "textures of no kind", _field("textures", target=0x1234)
    yield "textures that view themselves", _view_themselves
    yield "names as large as can be", _field("buffers", name=(1 << 32) - 1)
    yield "negative names", _field("textures", name=-5)
    yield "programs that are no programs", _field("programs", shaders=[])
    yield "a program of any bytes", _field("programs", binary=bytes(range(256)) * 64, binary_format=0x875F)
    yield (
        "modules of any bytes",
        _each(lambda f: [s for p in f.objects.programs for s in p.shaders], spirv=b"\x03\x02\x23\x07" + bytes(400)),
    )
    yield "a window of no size", _each(lambda f: [f.default_framebuffer], width=0, height=0)
    yield "a window as large as can be", _each(lambda f: [f.default_framebuffer], width=1 << 30, height=1 << 30)
    yield "a window of many samples", _each(lambda f: [f.default_framebuffer], samples=1 << 20)
    yield "a version of the future", _each(lambda f: [f.context], major=99)
    yield "frames of years", _each(lambda f: f.frame_statistics, cpu_ns=(1 << 63) - 1)
    yield "a program with a long name", _each(lambda f: [f.metadata], program="x" * 1_000_000)
    yield (
        "a program with a name of marks",
        _each(lambda f: [f.metadata], program="<script>alert(1)</script>\x1b]0;title\x07\n\x00"),
    )
    yield "times before time", _each(lambda f: [f.metadata], recorded_ns=-(1 << 62), began_ns=1 << 63)


def _attributes(frame: OpenGLFrame) -> list[Any]:
    return [a for v in frame.objects.vertex_arrays for a in v.attributes]


def _view_themselves(frame: OpenGLFrame) -> None:
    for texture in frame.objects.textures:
        texture.view_of = texture.name


def _each(chosen: Callable[[OpenGLFrame], Iterable[Any]], **values: Any) -> Change:
    """Give some fields of some records other values."""

    def change(frame: OpenGLFrame) -> None:
        for record in chosen(frame):
            for name, value in values.items():
                setattr(record, name, value)

    return change


def all_hostile() -> dict[str, Change]:
    return dict([*records(), *shaders(), *pointers()])


def make(original: Path, change: Change, path: Path) -> None:
    """Raises WendascopeError or what the writer raises where the frame cannot even be written."""
    frame = load_opengl(original)
    for ref in frame.objects.blob_refs():
        frame.blobs.get(ref)
    change(frame)
    save(frame, path)


def attack(original: Path, names: list[str], folder: Path) -> Tally:
    tally, changes = Tally(), all_hostile()
    for name in names:
        path = folder / "hostile.wend"
        try:
            make(original, changes[name], path)
            load_opengl(path)
        except WendascopeError as error:
            if "\n" in str(error):
                tally.harmed(f"{name}: the error has several lines: {error}")
            else:
                tally.note("refused when opened")
            continue
        except (OverflowError, ValueError, KeyError, AttributeError):
            tally.note("cannot be written by our own writer")
            continue
        run_on(path, tally, name)
    return tally
