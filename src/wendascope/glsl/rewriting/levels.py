"""Fragment shaders that note which mip levels each of their samplers reads."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from wendascope.errors import TrialError
from wendascope.glsl.globals import Globals
from wendascope.glsl.rewriting._parts import OUR_PREFIX, at_top, closing, read, spliced
from wendascope.glsl.rewriting.es_version import VERSION, colour_output, in_es_310, with_extensions
from wendascope.glsl.rewriting.handed_on import HandedOn, handed_on
from wendascope.glsl.rewriting.samples import LookUp, sampler_types, texture_samples
from wendascope.glsl.words import Token

SCALE, OFFSET = 256, 32
"""Levels are noted as whole numbers: (level + OFFSET) * SCALE."""
NUMBERS = 4
"""Noted for each sampler: the finest level read, the finest that would be read if there were levels enough, how many
samples some of the fragments make, and of them those that come to level 1 or more."""
_NO_SLOT = -1
"""Of a sampler that is handed on and not noted."""
_EXTENSIONS = (
    "shader_storage_buffer_object",
    "texture_query_lod",
    "shading_language_420pack",
    "shader_image_load_store",
)
ES_QUERY = "GL_EXT_texture_query_lod"
"""Without which shaders of OpenGL ES cannot tell levels."""
_COORDINATES = {
    "1D": ("float", "c"), "2D": ("vec2", "c"), "3D": ("vec3", "c"), "Cube": ("vec3", "c"), "1DArray": ("vec2", "c.x"),
    "2DArray": ("vec3", "c.xy"), "CubeArray": ("vec4", "c.xyz"), "1DShadow": ("vec3", "c.x"),
    "2DShadow": ("vec3", "c.xy"), "CubeShadow": ("vec4", "c.xyz"), "1DArrayShadow": ("vec3", "c.x"),
    "2DArrayShadow": ("vec4", "c.xy"),
}  # fmt: skip
"""Kind of a sampler -> (type of the coordinates that `texture` takes, those of them that tell the level)."""
_PROJECTED = {
    "1D": (("vec2", "c.x / c.y"), ("vec4", "c.x / c.w")),
    "2D": (("vec3", "c.xy / c.z"), ("vec4", "c.xy / c.w")),
    "3D": (("vec4", "c.xyz / c.w"),),
    "1DShadow": (("vec4", "c.x / c.w"),),
    "2DShadow": (("vec4", "c.xy / c.w"),),
}
_PLAIN = re.compile(r"(?:texture|shadow)(?:[123]D|Cube|[12]DArray)?(Proj)?(Lod)?(?:Offset)?(?:EXT|ARB)?$")

COUNTED_EACH_WAY = 4
"""Of so many pixels along each side one notes what it samples."""


def noted_samplers(source: str) -> list[str]:
    """Samplers of a fragment shader all of whose texture samples can be noted, in the order of their declarations.
    Raises TrialError.
    """
    found = read(source)
    types = sampler_types(found)
    code = [t for _, t in found.code()]
    rows = texture_samples(found)
    known = {row.sampler_at for row in rows if _query(source, code, row) is not None}
    handed = _followed(found, source, code)
    known |= {argument.at for argument in handed.arguments}
    unclear: set[str] = set()
    declared = [(d.first, d.end) for d in found.declarations]
    sizes = {code[k + 2].at for k, t in enumerate(code[:-2]) if t.text == "textureSize" and code[k + 1].text == "("}
    for token in code:
        if token.text in types and token.at not in known | sizes and not _within(token.at, declared):
            unclear.add(token.text)
    unclear |= found.directive_words()  # a macro samples where no token shows it
    return [name for name, kind in types.items() if _kind(kind) in _COORDINATES and name not in unclear]


def names_beyond_declarations(source: str, name: str) -> bool:
    """Whether a shader says a global name anywhere but where it is declared; also where that cannot be told."""
    if not re.search(rf"\b{re.escape(name)}\b", source):
        return False
    try:
        found = read(source)
    except TrialError:
        return True
    declared = [(d.first, d.end) for d in found.declarations]
    said = any(t.text == name and not _within(t.at, declared) for _, t in found.code())
    return said or name in found.directive_words()


def _within(at: int, places: Iterable[tuple[int, int]]) -> bool:
    return any(first <= at < end for first, end in places)


def with_levels_noted(source: str, slots: Mapping[str, int], binding: int, early: bool, es: bool = False) -> str:
    """The same shader, which notes the levels that it reads, `NUMBERS` whole numbers a sampler, in the storage buffer
    of a binding. `slots` gives each sampler its place. `early`: fragments that fail the depth test note nothing. `es`:
    it is of OpenGL ES; other shaders of its program have to be raised to its version. Raises TrialError.
    """
    found = read(source)
    types = sampler_types(found)
    code = [t for _, t in found.code()]
    pieces = []
    handed = _followed(found, source, code)
    rows = [(str(slots[row.sampler]), row) for row in texture_samples(found) if row.sampler in slots]
    for slot, row in (*rows, *((_slot(p.name), row) for p, row in handed.samples)):
        query = _query(source, code, row)
        if query is not None:
            pieces.append((row.first, row.first, f"({OUR_PREFIX}saw({slot}, {query}), "))
            pieces.append((row.end, row.end, ")"))
    pieces += [(p.end, p.end, f", int {_slot(p.name)}") for p in handed.parameters]
    for given in handed.arguments:
        slot = _slot(given.sampler) if given.inside else str(slots.get(given.sampler, _NO_SLOT))
        pieces.append((given.end, given.end, f", {slot}"))
    if not pieces:
        raise TrialError("the fragment shader samples no texture in a way that can be noted")
    used = sorted({types[name] for name in slots} | {p.type for p in handed.parameters})
    asking = "textureQueryLOD" if es else _asking(source)
    declared = (colour_output(source) if es else "") + _declared(used, binding, early, asking, "highp " if es else "")
    pieces.append(at_top(found, declared))
    noting = spliced_in_order(source, pieces)
    return in_es_310(noting, fragment=True, extensions=(ES_QUERY,)) if es else with_extensions(noting, _EXTENSIONS)


def _slot(parameter: str) -> str:
    """Which place the sampler has that is given for a parameter."""
    return f"{OUR_PREFIX}slot_{parameter}"


def _followed(found: Globals, source: str, code: list[Token]) -> HandedOn:
    """Samplers that are handed on, where all samples of them can be noted; nothing otherwise."""
    handed = handed_on(found)
    kinds = {_kind(p.type) for p in handed.parameters}
    known = all(_query(source, code, row) is not None for _, row in handed.samples)
    return handed if known and kinds <= _COORDINATES.keys() else HandedOn()


def spliced_in_order(source: str, pieces: list[tuple[int, int, str]]) -> str:
    """`spliced` for insertions that may stand at one place: those that come first in the list end up first."""
    merged: dict[tuple[int, int], str] = {}
    for first, end, text in pieces:
        merged[first, end] = merged.get((first, end), "") + text
    return spliced(source, [(first, end, text) for (first, end), text in merged.items()])


def _kind(sampler: str) -> str:
    return sampler.lstrip("iu").removeprefix("sampler")


def _query(source: str, code: list[Token], row: LookUp) -> str | None:
    """What tells (level read, level without bounds) of a sample; None where this is not known here."""
    at = next(k for k, token in enumerate(code) if token.at == row.first)
    arguments = _arguments(source, code, at + 1)
    if row.function.startswith("texelFetch"):
        return f"vec2(float({arguments[2]}))" if len(arguments) > 2 else None
    if row.function.startswith("textureGather"):
        return "vec2(0.0)"
    found = _PLAIN.match(row.function)
    if found is None or len(arguments) < 2:
        return None
    if found[2]:
        return f"vec2(float({arguments[2]}))" if len(arguments) > 2 else None
    name = f"{OUR_PREFIX}lod{'_proj' if found[1] else ''}"
    asked = f"{name}({arguments[0]}, {arguments[1]})"
    bias = 3 if "Offset" in row.function else 2
    return f"({asked} + float({arguments[bias]}))" if len(arguments) > bias else asked


def _arguments(source: str, code: list[Token], opening: int) -> list[str]:
    """The arguments of a call as they are written."""
    last, depth, first = closing(code, opening), 0, code[opening].at + 1
    found = []
    for token in code[opening + 1 : last]:
        depth += (token.text in "([{") - (token.text in ")]}")
        if token.text == "," and depth == 0:
            found.append(source[first : token.at])
            first = token.at + 1
    return [*found, source[first : code[last].at]]


def _declared(samplers: list[str], binding: int, early: bool, asked: str, exact: str) -> str:
    """On one line, so that lines stay what they are. `exact` stands before types whose default may have few bits."""
    name = OUR_PREFIX
    parts = ["layout(early_fragment_tests) in;"] if early else []
    parts.append(f"layout(std430, binding = {binding}) buffer {name}levels_block {{ {exact}uint {name}levels[]; }};")
    noted = f"{name}levels[slot * {NUMBERS}"
    parts += [
        f"int {name}saw(int slot, {exact}vec2 level) {{ if (slot < 0) return slot;",
        f"{exact}uvec2 found = uvec2(clamp(level + {OFFSET}.0, 0.0, 96.0) * {SCALE}.0);",
        # looking first is cheaper by far where many fragments wait for one place
        f"if (found.x < {noted}]) atomicMin({noted}], found.x);",
        f"if (found.y < {noted} + 1]) atomicMin({noted} + 1], found.y);",
        f"if (((int(gl_FragCoord.x) | int(gl_FragCoord.y)) & {COUNTED_EACH_WAY - 1}) == 0)",
        f"{{ atomicAdd({noted} + 2], 1u);",
        f"if (level.y >= 1.0) atomicAdd({noted} + 3], 1u); }} return slot; }}",
    ]
    for sampler in samplers:
        kind = _kind(sampler)
        rows = [("", *_COORDINATES[kind]), *(("_proj", *row) for row in _PROJECTED.get(kind, ()))]
        parts += [
            f"{exact}vec2 {name}lod{suffix}({exact}{sampler} s, {exact}{type_} c) {{ return {asked}(s, {part}); }}"
            for suffix, type_, part in rows
        ]
    return " ".join(parts)


def _asking(source: str) -> str:
    """The function that tells levels: the extension, for older versions, spells it otherwise."""
    found = VERSION.search(source)
    return "textureQueryLod" if found and int(found[1]) >= 400 else "textureQueryLOD"


def reads_early(found: Globals, source: str) -> bool:
    """Whether depth can be tested before the shader runs without changing the picture."""
    words = {t.text for _, t in found.code()}
    return not words & {"discard", "gl_FragDepth", "gl_SampleMask"} and "early_fragment_tests" not in source
