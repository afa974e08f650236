"""Context state, by the one state table."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

from wendascope.frame.packed import Batch, Out
from wendascope.frame.state_table import (
    BUFFER_TARGETS,
    INDEXED_BUFFER_TARGETS,
    PATTERNS,
    TEXTURE_TARGETS,
    capability_since,
)
from wendascope.registry import GL
from wendascope.tap.snapshot._reader import Reader, State

_GETTERS = {"i": ("glGetIntegerv", 4), "f": ("glGetFloatv", 4), "d": ("glGetDoublev", 8), "b": ("glGetBooleanv", 1)}
_INDEXED_GETTERS = {"i": ("glGetIntegeri_v", 4), "f": ("glGetFloati_v", 4), "d": ("glGetDoublei_v", 8), "b": ("glGetBooleani_v", 1)}


def read_state(reader: Reader) -> State:
    """Read every pattern of the state table, then the bindings, which have shapes of their own."""
    number = reader.context.number
    batch = Batch()
    state: State = {}
    pending: list[tuple[str, tuple[int, int], list[tuple[str, Out]]]] = []
    for pattern in PATTERNS.values():
        if not pattern.read or number < pattern.since:
            continue
        for i, j in pattern.domain:
            pending.append((pattern.name, (i, j), list(_query_pattern(batch, pattern.name, i, number))))
    capabilities = []
    for cap, _ in PATTERNS["capability"].domain:
        if number >= capability_since(cap):
            capabilities.append(((cap, 0), batch.call("glIsEnabled", cap)))
    indexed_caps = [
        (name, (i, 0), batch.call("glIsEnabledi", cap, i))
        for name, cap, since in (("blend_enabled", GL.BLEND, 30), ("scissor_test_enabled", GL.SCISSOR_TEST, 41))
        for i, _ in PATTERNS[name].domain
        if number >= since
    ]
    whole_scissor = batch.call("glIsEnabled", GL.SCISSOR_TEST)
    # values of attributes that no array feeds; attribute 0 of a compatibility context is a vertex, not a value
    first = 0 if reader.context.profile == "core" else 1
    constants = [(index, batch.out(16)) for index in range(first, min(reader.context.limits["MAX_VERTEX_ATTRIBS"], 32))]
    for index, out in constants:
        batch.call("glGetVertexAttribfv", index, GL.CURRENT_VERTEX_ATTRIB, out)
    bindings = list(_query_bindings(reader, batch))
    debug = batch.call("glIsEnabled", GL.DEBUG_OUTPUT) if number >= 43 else None
    reader.executor.run(batch)

    for name, key, outs in pending:
        raw = tuple(itertools.chain.from_iterable(_raw(kind, out.data) for kind, out in outs))
        state.setdefault(name, {})[key] = raw[: len(PATTERNS[name].kinds)]
    state["capability"] = {key: (result.value & 1,) for key, result in capabilities}
    for name, key, result in indexed_caps:
        state.setdefault(name, {})[key] = (result.value & 1,)
    state["attribute_value"] = {(index, 0): _raw("f", out.data) for index, out in constants}
    if number < 41:
        state["scissor_test_enabled"] = {(0, 0): (whole_scissor.value & 1,)}
    for name, key, bound in bindings:
        value = tuple(int.from_bytes(out.data[: out.size], "little", signed=True) for out in bound)
        if any(value):
            state.setdefault(name, {})[key] = value
    if debug is not None and debug.value & 1:
        state["capability"][GL.DEBUG_OUTPUT, 0] = (1,)
    reader.state = state
    _read_texture_bindings(reader)
    return state


def _query_bindings(reader: Reader, batch: Batch) -> Iterator[tuple[str, tuple[int, int], list[Out]]]:
    number = reader.context.number

    def integer(name: int) -> Out:
        out = batch.out(4)
        batch.call("glGetIntegerv", name, out)
        return out

    for target, (binding, since) in BUFFER_TARGETS.items():
        if number >= since:
            yield "buffer", (getattr(GL, target), 0), [integer(getattr(GL, binding))]
    yield "framebuffer", (GL.DRAW_FRAMEBUFFER, 0), [integer(GL.DRAW_FRAMEBUFFER_BINDING)]
    yield "framebuffer", (GL.READ_FRAMEBUFFER, 0), [integer(GL.READ_FRAMEBUFFER_BINDING)]
    for target, (binding, start, size, limit, since) in INDEXED_BUFFER_TARGETS.items():
        if number < since:
            continue
        for index in range(min(reader.context.limits.get(limit, 4), 96)):
            outs = []
            for name in (binding, start, size):
                wide = name != binding
                out = batch.out(8 if wide else 4)
                batch.call("glGetInteger64i_v" if wide else "glGetIntegeri_v", getattr(GL, name), index, out)
                outs.append(out)
            yield "indexed_buffer", (getattr(GL, target), index), outs
    if number >= 42:
        names = ("NAME", "LEVEL", "LAYERED", "LAYER", "ACCESS", "FORMAT")
        for unit in range(min(reader.context.limits.get("MAX_IMAGE_UNITS", 8), 32)):
            outs = [batch.out(4) for _ in names]
            for name, out in zip(names, outs, strict=True):
                batch.call("glGetIntegeri_v", getattr(GL, f"IMAGE_BINDING_{name}"), unit, out)
            yield "image", (unit, 0), outs


def _read_texture_bindings(reader: Reader) -> None:
    number = reader.context.number
    units = reader.context.limits["MAX_COMBINED_TEXTURE_IMAGE_UNITS"]
    batch = Batch()
    found: list[tuple[str, tuple[int, int], Out]] = []
    for unit in range(min(units, 192)):
        batch.call("glActiveTexture", GL.TEXTURE0 + unit)
        for target, (binding, since) in TEXTURE_TARGETS.items():
            if number >= since:
                out = batch.out(4)
                batch.call("glGetIntegerv", getattr(GL, binding), out)
                found.append(("texture", (GL.TEXTURE0 + unit, getattr(GL, target)), out))
        if number >= 33:
            out = batch.out(4)
            batch.call("glGetIntegerv", GL.SAMPLER_BINDING, out)
            found.append(("sampler", (unit, 0), out))
    batch.call("glActiveTexture", reader.value("active_texture"))
    reader.executor.run(batch)
    for name, key, out in found:
        value = out.ints()[0]
        if value:
            reader.state.setdefault(name, {})[key] = (value,)


def _raw(kind: str, data: bytes) -> tuple[int, ...]:
    """Raw slot values of a queried vector: floats keep their bits, ints are sign-extended."""
    if kind == "b":
        return tuple(int(b != 0) for b in data)
    width = 8 if kind == "d" else 4
    signed = kind == "i"
    return tuple(int.from_bytes(data[k : k + width], "little", signed=signed) for k in range(0, len(data), width))


def _query_pattern(batch: Batch, name: str, i: int, number: int) -> Iterator[tuple[str, Out]]:
    """Ask for the values of one key of a pattern of the state table."""
    pattern = PATTERNS[name]
    # per draw buffer and per viewport state is asked by index where the context has that
    since = {"blend_func": 40, "blend_equation": 40, "color_mask": 30, "depth_range": 41, "viewport": 41, "scissor": 41, "sample_mask": 32}
    indexed = name in since and number >= since[name]
    if name in since and not indexed and i > 0:
        for kind in pattern.kinds:
            yield kind, Out(0, 0)
        return
    reads = pattern.read
    per_value = len(reads) == len(pattern.kinds)
    for position, read in enumerate(reads):
        if pattern.name in ("stencil_func", "stencil_op", "stencil_mask") and i == GL.BACK:
            read = read.replace("STENCIL_", "STENCIL_BACK_", 1)
        pname = i if read == "" else getattr(GL, read)
        kind = pattern.kinds[position] if per_value else pattern.kinds[0]
        kind = "i" if kind in "eo" else kind
        count = 1 if per_value else len(pattern.kinds)
        command, width = (_INDEXED_GETTERS if indexed else _GETTERS)[kind]
        out = batch.out(width * count)
        # glGet may write more than asked where a vector has more values than the pattern keeps
        batch.out(64)
        arguments = (pname, i, out) if indexed else (pname, out)
        batch.call(command, *arguments)
        yield kind, out
