"""Context state, by the one state table."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import numpy as np

from wendascope.backends.opengl.calls.packed import CallBatch, Out
from wendascope.backends.opengl.snapshot._reader import Reader, State
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.state_table import (
    BUFFER_TARGETS,
    INDEXED,
    INDEXED_BUFFER_TARGETS,
    PATTERNS,
    TEXTURE_TARGETS,
)
from wendascope.registry import GL

_GETTERS = {
    "i": ("glGetIntegerv", 4),
    "f": ("glGetFloatv", 4),
    "d": ("glGetDoublev", 8),
    "b": ("glGetBooleanv", 1),
    "single": ("glGetFloatv", 4),
}
_INDEXED_GETTERS = {
    "i": ("glGetIntegeri_v", 4),
    "f": ("glGetFloati_v", 4),
    "d": ("glGetDoublei_v", 8),
    "b": ("glGetBooleani_v", 1),
}


def read_state(reader: Reader) -> State:
    """Read every pattern of the state table, then the bindings, which have shapes of their own."""
    offers = reader.offers
    batch = reader.plain()
    state: State = {}
    pending: list[tuple[str, tuple[int, int], list[tuple[str, Out]]]] = []
    for pattern in PATTERNS.values():
        if not pattern.read or not all(offers.value(getattr(GL, name)) for name in pattern.read if name):
            continue
        for i, j in pattern.domain:
            if "" not in pattern.read or offers.value(i):
                pending.append((pattern.name, (i, j), list(_query_pattern(batch, pattern.name, i, offers))))
    capabilities = []
    for cap, _ in PATTERNS["capability"].domain:
        if offers.value(cap):
            capabilities.append(((cap, 0), batch.call("glIsEnabled", cap)))
    indexed_caps = [
        (name, (i, 0), batch.call("glIsEnabledi", cap, i) if offers(indexed) else batch.call("glIsEnabled", cap))
        for name, cap, indexed in (
            ("blend_enabled", GL.BLEND, "glEnablei"),
            ("scissor_test_enabled", GL.SCISSOR_TEST, "glScissorIndexed"),
        )
        for i, _ in PATTERNS[name].domain
        if offers(indexed) or i == 0
    ]
    # values of attributes that no array feeds; attribute 0 of a compatibility context is a vertex, not a value
    first = 1 if reader.context.profile == "compatibility" else 0
    constants = [
        (index, batch.out(16)) for index in range(first, min(reader.context.limits.get("MAX_VERTEX_ATTRIBS", 0), 32))
    ]
    for index, out in constants:
        batch.call("glGetVertexAttribfv", index, GL.CURRENT_VERTEX_ATTRIB, out)
    bindings = list(_query_bindings(reader, batch))
    debug = batch.call("glIsEnabled", GL.DEBUG_OUTPUT) if offers.value(GL.DEBUG_OUTPUT) else None
    reader.executor.run(batch)

    for name, key, outs in pending:
        raw = tuple(itertools.chain.from_iterable(_raw(kind, out.data) for kind, out in outs))
        state.setdefault(name, {})[key] = raw[: len(PATTERNS[name].kinds)]
    state["capability"] = {key: (result.value & 1,) for key, result in capabilities}
    for name, key, result in indexed_caps:
        state.setdefault(name, {})[key] = (result.value & 1,)
    state["attribute_value"] = {(index, 0): _raw("f", out.data) for index, out in constants}
    for name, key, bound in bindings:
        value = tuple(int.from_bytes(out.data[: out.size], "little", signed=True) for out in bound)
        if any(value):
            state.setdefault(name, {})[key] = value
    if debug is not None and debug.value & 1:
        state["capability"][GL.DEBUG_OUTPUT, 0] = (1,)
    reader.state = state
    _read_texture_bindings(reader)
    return state


def _query_bindings(reader: Reader, batch: CallBatch) -> Iterator[tuple[str, tuple[int, int], list[Out]]]:
    offers = reader.offers

    def integer(name: int) -> Out:
        out = batch.out(4)
        batch.call("glGetIntegerv", name, out)
        return out

    for target, binding in BUFFER_TARGETS.items():
        if offers.value(getattr(GL, target)):
            yield "buffer", (getattr(GL, target), 0), [integer(getattr(GL, binding))]
    if offers.value(GL.FRAMEBUFFER_BINDING):
        yield "framebuffer", (GL.DRAW_FRAMEBUFFER, 0), [integer(GL.FRAMEBUFFER_BINDING)]
        separate = offers.value(GL.READ_FRAMEBUFFER_BINDING)
        yield (
            "framebuffer",
            (GL.READ_FRAMEBUFFER, 0),
            [integer(GL.READ_FRAMEBUFFER_BINDING if separate else GL.FRAMEBUFFER_BINDING)],
        )
    for target, (binding, start, size, limit) in INDEXED_BUFFER_TARGETS.items():
        if not offers.value(getattr(GL, binding)) or not offers("glBindBufferRange"):
            continue
        for index in range(min(reader.context.limits.get(limit, 4), 96)):
            outs = []
            for name in (binding, start, size):
                wide = name != binding and offers("glGetInteger64i_v")
                out = batch.out(8 if wide else 4)
                batch.call("glGetInteger64i_v" if wide else "glGetIntegeri_v", getattr(GL, name), index, out)
                outs.append(out)
            yield "indexed_buffer", (getattr(GL, target), index), outs
    if offers("glBindImageTexture"):
        names = ("NAME", "LEVEL", "LAYERED", "LAYER", "ACCESS", "FORMAT")
        for unit in range(min(reader.context.limits.get("MAX_IMAGE_UNITS", 8), 32)):
            outs = [batch.out(4) for _ in names]
            for name, out in zip(names, outs, strict=True):
                batch.call("glGetIntegeri_v", getattr(GL, f"IMAGE_BINDING_{name}"), unit, out)
            yield "image", (unit, 0), outs


def _read_texture_bindings(reader: Reader) -> None:
    units = max(reader.context.limits.get("MAX_COMBINED_TEXTURE_IMAGE_UNITS", 0), 1)
    batch = reader.plain()
    found: list[tuple[str, tuple[int, int], Out]] = []
    for unit in range(min(units, 192)):
        batch.call("glActiveTexture", GL.TEXTURE0 + unit)
        for target, binding in TEXTURE_TARGETS.items():
            if reader.offers.value(getattr(GL, binding)):
                out = batch.out(4)
                batch.call("glGetIntegerv", getattr(GL, binding), out)
                found.append(("texture", (GL.TEXTURE0 + unit, getattr(GL, target)), out))
        if reader.offers("glBindSampler"):
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
    if kind == "single":  # doubles that the context tells as floats
        return tuple(int(np.float64(v).view(np.uint64)) for v in np.frombuffer(data, np.float32))
    width = 8 if kind == "d" else 4
    signed = kind == "i"
    return tuple(int.from_bytes(data[k : k + width], "little", signed=signed) for k in range(0, len(data), width))


def _query_pattern(batch: CallBatch, name: str, i: int, offers: Offers) -> Iterator[tuple[str, Out]]:
    """Ask for the values of one key of a pattern of the state table."""
    pattern = PATTERNS[name]
    indexed = name in INDEXED and offers(INDEXED[name])
    if name in INDEXED and not indexed and i > 0:
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
        if kind == "d" and not offers("glGetDoublev"):
            kind = "single"
        count = 1 if per_value else len(pattern.kinds)
        command, width = (_INDEXED_GETTERS if indexed else _GETTERS)[kind]
        out = batch.out(width * count)
        # glGet may write more than asked where a vector has more values than the pattern keeps
        batch.out(64)
        arguments = (pname, i, out) if indexed else (pname, out)
        batch.call(command, *arguments)
        yield kind, out
