"""How long is what a pointer parameter points to?

The Khronos XML answers for most parameters (`len="count*4"`); the rest follow patterns (pixel
rectangles, strings, `pname` vectors) or stand in the table at the end. Every answer is a C
expression over the parameter names, so that the recorder and the executor share it: the recorder
copies that many bytes, the executor refuses a blob that is shorter.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

# What a pointer parameter is, in the words the generated C code uses.
IN = "in"  # read by GL: copied into the arena
OUT = "out"  # written by GL: nothing kept, unless it returns object names
NAMES = "names"  # written by GL, and kept: names of objects just made
STRINGS = "strings"  # array of strings
PIXELS = "pixels"  # read by GL, or an offset when a pixel unpack buffer is bound
PACK = "pack"  # written by GL, or an offset when a pixel pack buffer is bound
ELEMENTS = "elements"  # indices, or an offset when an element buffer is bound
INDIRECT = "indirect"  # draw parameters, or an offset when an indirect buffer is bound
ARRAY = "array"  # vertex array pointer: an offset, or client memory
RESULT = "result"  # query result, or an offset when a query buffer is bound
OFFSETS = "offsets"  # array of offsets into the buffer of indices; never addresses
RETAINED = "retained"  # written by GL whenever it likes from then on
OPAQUE = "opaque"  # a pointer nobody may follow: user data, function pointers
LOST = "lost"  # length unknown: the call is recorded without it and the frame says so


ALL_LEVELS, MIPMAPS = 255, 254
"""Levels of a kept texture image that stand for a call about every level."""


@dataclass(frozen=True)
class PointerRule:
    """Role of one pointer parameter and a C expression for its length in bytes."""

    role: str
    length: str = "0"


BUFFERS = {
    PIXELS: "UNPACK",
    PACK: "PACK",
    ELEMENTS: "ELEMENTS",
    INDIRECT: "INDIRECT",
    ARRAY: "ARRAYS",
    RESULT: "QUERY",
}
"""Role of a pointer that may be an offset -> the binding of the buffer that it is an offset into, as the C code
calls it.
"""

READ_ONLY = (IN, STRINGS, PIXELS, ELEMENTS, INDIRECT, ARRAY, OFFSETS)
"""Roles of pointers that GL only reads through, at the call."""

_PIXEL_DIMS = ("width", "height", "depth")
_QUERY_RESULT = re.compile(r"^glGetQueryObject\w+v(ARB|EXT)?$")
_TABLE: dict[tuple[str, str], PointerRule] = {
    ("glBitmap", "bitmap"): PointerRule(PIXELS, "tap_image_size(GL_COLOR_INDEX, GL_BITMAP, width, height, 1, 2)"),
    ("glPolygonStipple", "mask"): PointerRule(PIXELS, "tap_image_size(GL_COLOR_INDEX, GL_BITMAP, 32, 32, 1, 2)"),
    ("glFeedbackBuffer", "buffer"): PointerRule(RETAINED, "tap_count(size) * 4"),
    ("glSelectBuffer", "buffer"): PointerRule(RETAINED, "tap_count(size) * 4"),
    ("glCallLists", "lists"): PointerRule(IN, "tap_count(n) * tap_type_size(type)"),
    ("glDepthRangeArrayv", "v"): PointerRule(IN, "tap_count(count) * 16"),
    ("glViewportArrayv", "v"): PointerRule(IN, "tap_count(count) * 16"),
    ("glScissorArrayv", "v"): PointerRule(IN, "tap_count(count) * 16"),
    ("glGetUniformIndices", "uniformNames"): PointerRule(STRINGS, "tap_count(uniformCount)"),
    ("glDebugMessageCallback", "userParam"): PointerRule(OPAQUE),
    ("glDebugMessageCallbackARB", "userParam"): PointerRule(OPAQUE),
    ("glDebugMessageCallbackKHR", "userParam"): PointerRule(OPAQUE),
    ("glDebugMessageControlKHR", "ids"): PointerRule(IN, "tap_count(count) * 4"),
    ("glInterleavedArrays", "pointer"): PointerRule(ARRAY),
    ("glNamedBufferDataEXT", "data"): PointerRule(IN, "tap_count(size)"),
    ("glNamedBufferSubDataEXT", "data"): PointerRule(IN, "tap_count(size)"),
    ("glObjectPtrLabel", "ptr"): PointerRule(OPAQUE),
    ("glObjectPtrLabelKHR", "ptr"): PointerRule(OPAQUE),
    ("glGetObjectPtrLabel", "ptr"): PointerRule(OPAQUE),
    ("glGetObjectPtrLabelKHR", "ptr"): PointerRule(OPAQUE),
    ("glMap1d", "points"): PointerRule(IN, "tap_map_size(target, 8, stride, order, 0, 1)"),
    ("glMap1f", "points"): PointerRule(IN, "tap_map_size(target, 4, stride, order, 0, 1)"),
    ("glMap2d", "points"): PointerRule(IN, "tap_map_size(target, 8, ustride, uorder, vstride, vorder)"),
    ("glMap2f", "points"): PointerRule(IN, "tap_map_size(target, 4, ustride, uorder, vstride, vorder)"),
}


def pointer_rule(command: str, name: str, ctype: str, length: str | None, siblings: dict[str, str]) -> PointerRule:
    """The rule for one pointer parameter.

    `ctype` is the C type as written ("const GLfloat *"), `length` the XML `len` attribute and
    `siblings` the C type of every parameter of the command by name.
    """
    if (command, name) in _TABLE:
        return _TABLE[command, name]
    const = "const" in ctype
    stars = ctype.count("*")
    element = re.sub(r"const|\*|\[.*?\]", "", ctype).strip()
    if "proc" in element.lower() or element.startswith("struct"):
        return PointerRule(OPAQUE)
    if stars == 2:
        return _array_of_pointers(command, name, element, length, const, siblings)
    if _is_vertex_pointer(command, name):
        return PointerRule(ARRAY)
    if name == "indirect":
        return PointerRule(INDIRECT, _indirect_length(command, siblings))
    if name in ("indices", "indexes") and "Elements" in command:
        return PointerRule(ELEMENTS, "tap_count(count) * tap_type_size(type)")
    pixel_size = _pixel_length(command, name, siblings)
    if pixel_size is not None:
        return PointerRule(PIXELS if const else PACK, pixel_size)
    if not const:
        return _output(command, name, element, length, siblings)
    size = _plain_length(length, element, siblings)
    if size is not None:
        if element in ("GLchar", "GLcharARB") and length in siblings:
            size = f"tap_string_size({name}, {length})"
        return PointerRule(IN, size)
    if element in ("GLchar", "GLcharARB"):
        counted = "length" in (length or "")
        return PointerRule(IN, f"tap_string_size({name}, {'length' if counted else -1})")
    if length == "COMPSIZE(pname)" or (length or "").endswith(",pname)"):
        return PointerRule(IN, f"tap_pname_count(pname) * sizeof(*{name})")
    if length == "COMPSIZE(buffer)":
        return PointerRule(IN, "(buffer == GL_COLOR ? 16 : 4)")
    if length == "COMPSIZE(format,type)":
        return PointerRule(IN, "tap_pixel_size(format, type)")
    return PointerRule(LOST)


def _array_of_pointers(
    command: str, name: str, element: str, length: str | None, const: bool, siblings: dict[str, str]
) -> PointerRule:
    if not const:
        return PointerRule(OUT, "8") if command.startswith("glGet") else PointerRule(LOST)
    if element in ("GLchar", "GLcharARB"):
        counter = next((c for c in (length, "count", "uniformCount") if c in siblings), None)
        return PointerRule(STRINGS, f"tap_count({counter})") if counter else PointerRule(LOST)
    if name == "indices" and "Elements" in command:
        counter = next((c for c in ("drawcount", "primcount") if c in siblings), None)
        return PointerRule(OFFSETS, f"tap_count({counter}) * 8") if counter else PointerRule(LOST)
    return PointerRule(LOST)


def _is_vertex_pointer(command: str, name: str) -> bool:
    return name == "pointer" and re.search(r"Pointer(v|OES|EXT|ARB|NV)?$", command) is not None and "Get" not in command


def _indirect_length(command: str, siblings: dict[str, str]) -> str:
    if "stride" not in siblings:
        return {"glDrawArraysIndirect": "16", "glDrawElementsIndirect": "20"}.get(command, "0")
    counter = next((c for c in ("drawcount", "primcount", "maxdrawcount") if c in siblings), "0")
    unit = 20 if "Elements" in command else 16
    return f"tap_count({counter}) * (stride ? (uint64_t)stride : {unit})"


def _pixel_length(command: str, name: str, siblings: dict[str, str]) -> str | None:
    """Bytes of a pixel rectangle under the current pack or unpack state."""
    if name not in ("pixels", "image", "table", "data", "row", "column", "img", "values") or "type" not in siblings:
        return None
    if "format" not in siblings or siblings["type"] != "GLenum":
        return None
    if re.search(r"Clear(Named)?(Buffer|Tex)", command) or "bufSize" in siblings:
        return None
    if re.search(r"SeparableFilter|TexImage4D|TexSubImage4D", command):
        return None
    dims = [d for d in _PIXEL_DIMS if d in siblings]
    if not dims:
        return "0" if command.startswith("glGet") else None
    sizes = [d if d in siblings else "1" for d in _PIXEL_DIMS]
    kind = "tap_packed_image_size" if command == "glReadPixels" else "tap_image_size"
    return f"{kind}(format, type, {', '.join(sizes)}, {len(dims)})"


def _output(command: str, name: str, element: str, length: str | None, siblings: dict[str, str]) -> PointerRule:
    if _QUERY_RESULT.match(command):
        return PointerRule(RESULT, "8")
    if name in ("img", "pixels") and command.startswith("glGet"):
        # The image readers without a type parameter, and the robust ones, still honour a pack buffer.
        return PointerRule(PACK, _plain_length(length, element, siblings) or "0")
    size = _plain_length(length, element, siblings)
    if re.match(r"gl(Gen|Create)[A-Z]", command) and size is not None:
        return PointerRule(NAMES, size)
    return PointerRule(OUT, size or "0")


def _plain_length(length: str | None, element: str, siblings: dict[str, str]) -> str | None:
    """Bytes for a `len` that is a number, a parameter, or a product or quotient of the two."""
    if not length or "COMPSIZE" in length:
        return None
    unit = "1" if element in ("void", "GLvoid") else f"sizeof({element})"
    divisor = re.fullmatch(r"(\w+) / (\d+)", length)
    if divisor and divisor[1] in siblings:
        return f"tap_count({divisor[1]})"
    factors = []
    for factor in length.split("*"):
        factor = factor.strip()
        if factor.isdigit():
            factors.append(factor)
        elif factor in siblings and "*" not in siblings[factor]:
            factors.append(f"tap_count({factor})")
        elif factor in siblings:
            factors.append(f"tap_count({factor} ? *{factor} : 0)")
        else:
            return None
    return " * ".join([*factors, unit])
