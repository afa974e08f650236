"""What popping attributes brings back: a pattern's values as they were when they were pushed."""

from __future__ import annotations

import bisect
import functools
import itertools

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallStream
from wendascope.backends.opengl.state.state_table import CAPABILITIES
from wendascope.registry import GL

Ints = npt.NDArray[np.int64]

_BITS = {
    "POINT_BIT": "point_size point_parameter point_attenuation",
    "LINE_BIT": "line_width line_stipple",
    "POLYGON_BIT": "cull_face_mode front_face polygon_mode polygon_offset polygon_offset_clamp",
    "LIGHTING_BIT": "shade_model",
    "DEPTH_BUFFER_BIT": "depth_func depth_mask clear_depth",
    "STENCIL_BUFFER_BIT": "stencil_func stencil_op stencil_mask clear_stencil",
    "VIEWPORT_BIT": "viewport depth_range",
    "ENABLE_BIT": "capability blend_enabled scissor_test_enabled",
    "COLOR_BUFFER_BIT": (
        "blend_enabled blend_func blend_equation blend_color color_mask logic_op alpha_func clear_color draw_buffers"
        " clamp_color"
    ),
    "HINT_BIT": "hint",
    "TEXTURE_BIT": "active_texture texture",
    "SCISSOR_BIT": "scissor scissor_test_enabled",
    "MULTISAMPLE_BIT": "sample_coverage",
}
"""Bit of what is pushed -> the patterns that it holds."""
_CLIENT_BITS = {
    "CLIENT_PIXEL_STORE_BIT": "pixel_store",
    "CLIENT_VERTEX_ARRAY_BIT": (
        "vertex_array buffer attribute_layout attribute_binding vertex_buffer binding_divisor attribute_enabled"
        " element_buffer"
    ),
}
_CAPABILITY_BITS = {
    "POINT_BIT": "POINT_SMOOTH POINT_SPRITE",
    "LINE_BIT": "LINE_SMOOTH LINE_STIPPLE",
    "POLYGON_BIT": (
        "CULL_FACE POLYGON_SMOOTH POLYGON_STIPPLE POLYGON_OFFSET_FILL POLYGON_OFFSET_LINE POLYGON_OFFSET_POINT"
    ),
    "LIGHTING_BIT": "LIGHTING COLOR_MATERIAL LIGHT0 LIGHT1 LIGHT2 LIGHT3 LIGHT4 LIGHT5 LIGHT6 LIGHT7",
    "FOG_BIT": "FOG",
    "DEPTH_BUFFER_BIT": "DEPTH_TEST",
    "STENCIL_BUFFER_BIT": "STENCIL_TEST",
    "TRANSFORM_BIT": "NORMALIZE RESCALE_NORMAL DEPTH_CLAMP " + " ".join(f"CLIP_DISTANCE{k}" for k in range(8)),
    "COLOR_BUFFER_BIT": "ALPHA_TEST DITHER COLOR_LOGIC_OP INDEX_LOGIC_OP FRAMEBUFFER_SRGB",
    "MULTISAMPLE_BIT": "MULTISAMPLE SAMPLE_ALPHA_TO_COVERAGE SAMPLE_ALPHA_TO_ONE SAMPLE_COVERAGE",
}
"""The same for single capabilities, all of which `ENABLE_BIT` holds."""


@functools.cache
def _mask(pattern: str, i: int) -> tuple[int, int]:
    """(bits, bits of the client's) that hold one key of a pattern: pixel stores and arrays are the client's."""
    names = {name for name, patterns in _BITS.items() if pattern in patterns.split()}
    if pattern == "capability":
        cap = next((c for c in CAPABILITIES if getattr(GL, c) == i), "")
        names |= {name for name, caps in _CAPABILITY_BITS.items() if cap in caps.split()}
    client = {name for name, patterns in _CLIENT_BITS.items() if pattern in patterns.split()}
    if pattern == "buffer" and i != GL.ARRAY_BUFFER:
        client = set()
    both = [sum(int(getattr(GL, name)) for name in found) for found in (names, client)]
    return both[0], both[1]


Pairs = list[tuple[int, int, int]]
"""(push, pop, mask) of what is pushed and popped again, in order of the pops."""


def popped_pairs(calls: CallStream) -> tuple[Pairs, Pairs]:
    """What the frame pushes and pops of the context's attributes, and of the client's."""
    return _pairs(calls, "glPushAttrib", "glPopAttrib"), _pairs(calls, "glPushClientAttrib", "glPopClientAttrib")


def _pairs(calls: CallStream, push: str, pop: str) -> Pairs:
    marks = np.sort(np.concatenate([calls.calls_of(push), calls.calls_of(pop)]))
    pushed: list[int] = []
    found = []
    for call in marks.tolist():
        if calls.command(call).canonical == push:
            pushed.append(call)
        elif pushed:
            begun = pushed.pop()
            found.append((begun, call, int(calls.argument(begun, "mask"))))
    return found


def with_popped(
    pairs: tuple[Pairs, Pairs], pattern: str, keys: Ints, at: Ints, values: npt.NDArray[np.uint64]
) -> tuple[Ints, Ints, npt.NDArray[np.uint64]]:
    """The events of a pattern, sorted by key and then by call, with those that pops add: each sets what the push before
    it found. Shapes (n,), (n,), (n, width).
    """
    if not any(pairs) or len(keys) == 0:
        return keys, at, values
    edges = [0, *(np.flatnonzero(np.diff(keys)) + 1).tolist(), len(keys)]
    more: list[tuple[int, int, int]] = []  # key, call, row of the value
    for start, end in itertools.pairwise(edges):
        key = int(keys[start])
        wanted = _mask(pattern, key >> 32)
        when, rows = at[start:end].tolist(), list(range(start, end))
        for of, bits in zip(pairs, wanted, strict=True):
            for push, pop, mask in of if bits else ():
                before, now = bisect.bisect_left(when, push) - 1, bisect.bisect_left(when, pop)
                if mask & bits and before >= 0 and now > before + 1:
                    when.insert(now, pop)
                    rows.insert(now, rows[before])
                    more.append((key, pop, rows[before]))
    if not more:
        return keys, at, values
    keys = np.concatenate([keys, [m[0] for m in more]])
    at = np.concatenate([at, [m[1] for m in more]])
    values = np.concatenate([values, values[[m[2] for m in more]]])
    order = np.lexsort((at, keys))
    return keys[order], at[order], values[order]
