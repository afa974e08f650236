"""GLSL rewritten so that uniforms which differ from draw to draw are read from data of each draw.

A uniform becomes a global variable that the beginning of main fills: nothing else of the shader changes, whatever it
calls its locals or hides in macros. A sampler becomes an array sampler, and every texture sample gets the layer.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from wendascope.backends.opengl.objects.uniform_values import variable_of
from wendascope.errors import TrialError
from wendascope.glsl.globals import Block, Declaration, Globals, UnclearSourceError
from wendascope.glsl.std140 import Member, from_texels, glsl_type, texels_of
from wendascope.glsl.versions import Version, version_of
from wendascope.glsl.words import Token, tokens
from wendascope.registry import GL

_WRAPPED = {
    "texture": "vec3({at}, float({layer}))",
    "textureLod": "vec3({at}, float({layer}))",
    "textureGrad": "vec3({at}, float({layer}))",
    "textureOffset": "vec3({at}, float({layer}))",
    "textureLodOffset": "vec3({at}, float({layer}))",
    "textureGradOffset": "vec3({at}, float({layer}))",
    "textureGather": "vec3({at}, float({layer}))",
    "texelFetch": "ivec3({at}, {layer})",
    "texelFetchOffset": "ivec3({at}, {layer})",
}
"""How the place of a texture sample is written with a layer."""
_PLACED = ("texture", "texture2D", "textureLod", "texture2DLod")
"""Look-ups whose place can be moved onto a page."""
_READ_BY_NUMBER: dict[str, tuple[tuple[str, ...], ...]] = {
    "texture": (("vec2",), ("vec2", "float")),
    "texture2D": (("vec2",), ("vec2", "float")),
    "textureLod": ((), ("vec2", "float")),
    "texture2DLod": ((), ("vec2", "float")),
    "textureGrad": ((), (), ("vec2", "vec2", "vec2")),
    "texelFetch": ((), ("ivec2", "int")),
    "textureSize": (("int",),),
}
"""Function -> by how many arguments come after the sampler, their types."""
_AS_THEY_ARE = ("textureQueryLod", "textureQueryLevels")
STAGES = {GL.VERTEX_SHADER: "vertex", GL.FRAGMENT_SHADER: "fragment"}


class Store(StrEnum):
    """Where shaders read the data of each draw."""

    BLOCK = "uniform block"
    TEXELS = "buffer texture"
    """More than a block holds: texels of four words, in which structures lie as they do in a block."""
    ARRAYS = "arrays of uniforms"
    """For GLSL without blocks."""


@dataclass(frozen=True)
class DrawData:
    """What each draw reads of its own."""

    members: tuple[Member, ...]
    places: dict[str, str]
    """Member -> what main fills with it: a uniform, or a part of one. Layers of samplers are not among them."""
    layers: tuple[str, ...]
    """Samplers that read a layer which is a member."""
    pages: tuple[str, ...]
    """Samplers that read a place on an atlas page, which is a member."""
    several: dict[str, int]
    """Samplers that become so many, of which a member says which one is read."""
    blocks: dict[str, str]
    """Uniform blocks that become variables -> the name they are used by; empty for none. Their members are in
    `places`.
    """
    stride: int
    """Bytes of the data of one draw."""
    draws: int
    by_instance: bool
    """The number of the draw is that of the instance; otherwise an attribute tells it."""
    store: Store
    names: Names

    @property
    def variables(self) -> set[str]:
        """The uniforms that become variables."""
        return {variable_of(place) for place in self.places.values()}


@dataclass(frozen=True)
class Names:
    """Names that the rewriting brings in, none of which the shaders use already."""

    struct: str = "PerDraw"
    block: str = "PerDrawData"
    array: str = "per_draw"
    attribute: str = "draw_number"
    index: str = "draw_index"
    layer: str = "_layer"
    place: str = "_place"
    unit: str = "_unit"

    @classmethod
    def free_of(cls, words: set[str]) -> Names:
        plain = cls()
        for suffix in ("", *map(str, range(2, 100))):
            chosen = cls(
                *(
                    getattr(plain, f) + suffix
                    for f in ("struct", "block", "array", "attribute", "index", "layer", "place", "unit")
                )
            )
            if not {chosen.struct, chosen.block, chosen.attribute, chosen.index} & words and not any(
                w.endswith((chosen.layer, chosen.place)) or chosen.unit in w or w.startswith(chosen.array)
                for w in words
            ):
                return chosen
        raise TrialError("the shaders use every name that the rewriting could take")

    def layer_of(self, sampler: str) -> str:
        return sampler + self.layer

    def place_of(self, sampler: str) -> str:
        return sampler + self.place

    def unit_of(self, sampler: str) -> str:
        return sampler + self.unit

    def texel(self, number: int) -> str:
        """The variable that holds one texel of the data of a draw."""
        return f"{self.array}_{number}"

    def sampler(self, sampler: str, number: int) -> str:
        """One of those that a sampler becomes."""
        return f"{self.unit_of(sampler)}{number}"


@dataclass
class Source:
    """One shader that may be rewritten."""

    stage: int
    text: str
    es: bool

    def __post_init__(self) -> None:
        try:
            self.globals = Globals(self.text)
        except UnclearSourceError as error:
            raise TrialError(f"the {STAGES.get(self.stage, 'other')} shader cannot be rewritten: {error}") from error

    @functools.cached_property
    def version(self) -> Version:
        return version_of(self.text, self.es)

    def uniforms(self, wanted: set[str]) -> list[Declaration]:
        """Declarations that declare some of the uniforms."""
        return [d for d in self.globals.declarations if d.has("uniform") and any(n.text in wanted for n in d.names)]

    def declared(self, wanted: set[str]) -> set[str]:
        return {n.text for d in self.uniforms(wanted) for n in d.names if n.text in wanted}

    def block(self, name: str) -> Block | None:
        return next((b for b in self.globals.blocks if b.name == name), None)

    def in_blocks(self, names: Iterable[str]) -> set[str]:
        """Variables that these blocks declare: their members, or the name they are used by."""
        found: set[str] = set()
        for name in names:
            block = self.block(name)
            if block is not None:
                found |= {block.instance} if block.instance else {member for _, member, _ in block.members}
        return found


def rewrite(source: Source, data: DrawData, reads_index: bool) -> str:
    """The source as it is with data of each draw. `reads_index`: another stage needs the number of the draw as well.

    Raises TrialError, saying what of the shader stands in the way.
    """
    return _Rewriter(source, data, reads_index).text()


_BUILT_IN = re.compile(r"float|int|uint|bool|double|[biud]?vec[234]|d?mat[234](x[234])?|[iu]?sampler\w+")


class _Rewriter:
    def __init__(self, source: Source, data: DrawData, reads_index: bool) -> None:
        self._source, self._data = source, data
        self._reads_index = reads_index
        self._samplers = {name for name in data.layers if source.declared({name})}
        self._paged = {name for name in data.pages if source.declared({name})}
        self._several = {name for name in data.several if source.declared({name})}
        self._reads: dict[str, list[tuple[str, int]]] = {}
        """Sampler that becomes several -> (function, arguments after the sampler) of every texture sample."""
        self._variables = source.declared(data.variables) | (source.in_blocks(data.blocks) & data.variables)
        self._mine = [
            m for m in data.members if m.name in data.places and variable_of(data.places[m.name]) in self._variables
        ]
        self._edits: list[tuple[int, int, str]] = []
        self._early: list[str] = []
        """Declarations that go before everything."""

    def text(self) -> str:
        source = self._source
        found = source.globals
        if found.main is None:
            raise TrialError(f"the {STAGES[source.stage]} shader has no main that can be seen")
        vertex = source.stage == GL.VERTEX_SHADER
        uses = bool(self._mine or self._samplers or self._paged or self._several)
        if uses or (vertex and self._reads_index):
            self._check_initialisers()
            self._check_sampler_arrays()
            self._look_ups()
            self._declarations()
            self._open_blocks()
            self._edits.append((found.head, found.head, self._header(uses, vertex)))
            self._edits.append((found.main, found.main, self._beginning(vertex)))
        text = source.text
        for first, end, new in sorted(self._edits, key=lambda e: (e[0], e[1]), reverse=True):
            text = text[:first] + new + text[end:]
        return text

    def _open_blocks(self) -> None:
        """Blocks that differ from draw to draw become plain variables of the same names."""
        for name in self._data.blocks:
            block = self._source.block(name)
            if block is None:
                continue
            precise = "highp " if self._source.version.es else ""
            members = " ".join(f"{precise}{type_} {member}{array};" for type_, member, array in block.members)
            text = f"struct {name}_ {{ {members} }}; {name}_ {block.instance};" if block.instance else members
            self._edits.append((block.first, block.end, text))

    # ---- declarations -----------------------------------------------------------------------------------

    def _declarations(self) -> None:
        wanted = self._variables | self._samplers | self._several
        for declaration in self._source.uniforms(wanted | self._paged):
            kept, precision = declaration.without(wanted), declaration.precision
            # sources put together from parts may declare it after main, which is where it gets its value
            late = self._source.globals.main is not None and declaration.first > self._source.globals.main
            lines: list[str] = [] if late else kept
            for name in declaration.names:
                if name.text in self._paged:
                    lines.append(
                        f"{'highp ' if self._source.version.es else ''}vec4 {self._data.names.place_of(name.text)};"
                    )
                elif name.text in self._several:
                    lines += self._side_by_side(name.text, declaration.type, precision)
                elif name.text in self._samplers:
                    given = precision or ("lowp " if self._source.version.es else "")
                    lines.append(f"uniform {given}sampler2DArray {name.text};")
                    lines.append(f"int {self._data.names.layer_of(name.text)};")
                elif name.text in wanted:
                    given = precision or ("highp " if late and self._source.version.es else "")
                    lines.append(f"{given}{declaration.type} {name.text}{name.array};")
            if late:
                if not _BUILT_IN.fullmatch(declaration.type):
                    raise TrialError(f"a uniform of the structure {declaration.type} is declared after main")
                self._early += lines
                lines = kept
            self._edits.append((declaration.first, declaration.end, " ".join(lines)))

    def _side_by_side(self, sampler: str, type_: str, precision: str) -> list[str]:
        """The samplers in place of one, the number of the one to read, and the functions that read it."""
        names, count = self._data.names, self._data.several[sampler]
        number, precise = names.unit_of(sampler), "highp " if self._source.version.es else ""
        lines = [f"uniform {precision}{type_} {names.sampler(sampler, k)};" for k in range(count)]
        lines.append(f"int {number};")
        result = {"i": "ivec4", "u": "uvec4"}.get(type_[0], "vec4")
        for function, arguments in dict.fromkeys(self._reads.get(sampler, [])):
            types = _READ_BY_NUMBER[function][arguments - 1]
            given = ", ".join(f"{precise if t != 'int' else ''}{t} a{k}" for k, t in enumerate(types))
            passed = ", ".join(f"a{k}" for k in range(len(types)))
            # what a sample is rounded to goes by its sampler, which is coarse where nothing else is said
            rounded = precision or ("lowp " if self._source.version.es else "")
            returned = precise + "ivec2" if function == "textureSize" else rounded + result
            reads = [f"return {function}({names.sampler(sampler, k)}, {passed});" for k in range(count)]
            body = " ".join([*(f"if ({number} == {k}) {read}" for k, read in enumerate(reads[:-1])), reads[-1]])
            lines.append(f"{returned} {number}_{function}({given}) {{ {body} }}")
        return lines

    def _check_initialisers(self) -> None:
        """No global may be computed from what main fills only later."""
        wanted = self._variables | self._samplers
        for declaration in self._source.globals.declarations:
            if declaration.has("uniform"):
                continue
            for name in declaration.names:
                if wanted & set(re.findall(r"[A-Za-z_]\w*", name.initial)):
                    raise TrialError(
                        f"the {STAGES[self._source.stage]} shader computes {name.text} from a uniform that differs,"
                        " before main begins"
                    )

    def _check_sampler_arrays(self) -> None:
        """Within one draw an array of samplers takes an index that is the same for all its invocations: data of
        each draw is not.
        """
        arrays = {
            n.text
            for d in self._source.globals.declarations
            if d.has("uniform") and "sampler" in d.type
            for n in d.names
            if n.array
        }
        if not arrays or not self._variables:
            return
        code = [t for t in tokens(self._source.text) if t.kind not in ("comment", "space")]
        for at, token in enumerate(code[:-1]):
            if token.text not in arrays or code[at + 1].text != "[":
                continue
            end = next((k for k in range(at + 2, len(code)) if code[k].text == "]"), len(code))
            index = [t.text for t in code[at + 2 : end] if t.kind == "word"]
            if index:
                raise TrialError(
                    f"{token.text}[{' '.join(index)}] picks a sampler by a value that may differ between the draws:"
                    " within one draw that is undefined"
                )

    def _header(self, uses: bool, vertex: bool) -> str:
        data, names, source = self._data, self._data.names, self._source
        lines = []
        precise = "highp " if source.version.es else ""
        if uses and data.store == Store.BLOCK:
            members = " ".join(precise + m.glsl for m in data.members)
            lines += [
                f"struct {names.struct} {{ {members} }};",
                f"layout(std140) uniform {names.block} {{ {names.struct} {names.array}[{data.draws}]; }};",
            ]
        elif uses and data.store == Store.TEXELS:
            lines.append(f"uniform {precise}usamplerBuffer {names.array};")
        elif uses:
            lines += [
                f"uniform {precise}{glsl_type(m.type)} {m.name}_of_draw[{data.draws}];" for m in self._members_read()
            ]
        if vertex and not data.by_instance:
            lines.append(
                f"in int {names.attribute};"
                if source.version.has_flat
                else f"attribute {precise}float {names.attribute};"
            )
        if vertex and self._reads_index:
            lines.append(
                f"flat out {precise}int {names.index};"
                if source.version.has_flat
                else f"varying {precise}float {names.index};"
            )
        if not vertex:
            lines.append(
                f"flat in {precise}int {names.index};"
                if source.version.has_flat
                else f"varying {precise}float {names.index};"
            )
        return "\n".join([*lines, *self._early]) + "\n"

    def _members_read(self) -> list[Member]:
        """Members that the shader reads: what main fills, and what belongs to its samplers."""
        names = self._data.names
        own = {
            *map(names.layer_of, self._samplers),
            *map(names.place_of, self._paged),
            *map(names.unit_of, self._several),
        }
        return [m for m in self._data.members if m in self._mine or m.name in own]

    def _beginning(self, vertex: bool) -> str:
        """What main does first."""
        data, names, source = self._data, self._data.names, self._source
        lines = []
        index = names.index
        precise = "highp " if source.version.es else ""
        if vertex:
            number = "gl_InstanceID" if data.by_instance else names.attribute
            if self._reads_index:
                lines.append(f"{names.index} = {number};")
            elif source.version.has_flat:
                lines.append(f"int {names.index} = {number};")
            if not source.version.has_flat:
                index = f"int({names.attribute} + 0.5)"
        elif not source.version.has_flat:
            index = f"int({names.index} + 0.5)"
        read = self._members_read()
        if data.store == Store.TEXELS:
            wide = data.stride // 16
            lines += [
                f"{precise}uvec4 {names.texel(k)} = texelFetch({names.array}, {index} * {wide} + {k});"
                for k in sorted(set[int]().union(*(texels_of(m) for m in read)))
            ]
        for m in read:
            place = data.places.get(m.name, m.name)
            if m.array and data.store == Store.ARRAYS:
                raise TrialError(f"{place} is an array, and GLSL before 1.40 has no blocks to keep one for each draw")
            if m.array:
                lines += [f"{place}[{k}] = {self._value(m, index, k)};" for k in range(m.count)]
            else:
                lines.append(f"{place} = {self._value(m, index)};")
        return "".join("\n    " + line for line in lines)

    def _value(self, member: Member, index: str, element: int | None = None) -> str:
        """What one draw has of a member, or of one element of an array."""
        names = self._data.names
        if self._data.store == Store.TEXELS:
            return from_texels(member, element or 0, names.texel)
        if self._data.store == Store.ARRAYS:
            return f"{member.name}_of_draw[{index}]"
        return f"{names.array}[{index}].{member.name}" + ("" if element is None else f"[{element}]")

    # ---- texture samples ---------------------------------------------------------------------------------------

    def _look_ups(self) -> None:
        found = self._source.globals
        changed = self._samplers | self._paged | self._several
        hidden = changed & found.directive_words()
        if hidden:
            raise TrialError(f"{min(hidden)} is used in a macro, where its texture samples cannot be seen")
        code = [token for _, token in found.code()]
        spans = [(d.first, d.end) for d in self._source.uniforms(changed)]
        for at, token in enumerate(code):
            if token.kind != "word" or token.text not in changed or any(a <= token.at < b for a, b in spans):
                continue
            function = code[at - 2].text if at >= 2 and code[at - 1].text == "(" else ""
            self._look_up(code, at, token, function)

    def _look_up(self, code: list[Token], at: int, token: Token, function: str) -> None:
        layer = self._data.names.layer_of(token.text)
        if token.text in self._several:
            self._read_by_number(code, at, token, function)
            return
        if token.text in self._paged:
            if function not in _PLACED:
                raise TrialError(
                    f"{token.text} is handed to {function or 'something that is not a texture sample'}, which cannot be"
                    " moved onto a page"
                )
            place = self._data.names.place_of(token.text)
            first, last = at + 2, _argument_end(code, at + 2)
            self._edits.append((code[first].at, code[first].at, f"{place}.xy + clamp("))
            self._edits.append((code[last].at, code[last].at, f", 0.0, 1.0) * {place}.zw"))
            return
        if function == "textureSize":
            end = _closing(code, at - 1)
            self._edits.append((code[end].at + 1, code[end].at + 1, ".xy"))
            return
        if function in _AS_THEY_ARE:
            return
        wrapped = _WRAPPED.get(function)
        if wrapped is None:
            raise TrialError(
                f"{token.text} is handed to {function or 'something that is not a texture sample'}, which takes no"
                " texture array"
            )
        first, last = at + 2, _argument_end(code, at + 2)
        before, after = wrapped.format(at="\0", layer=layer).split("\0")
        self._edits.append((code[first].at, code[first].at, before))
        self._edits.append((code[last].at, code[last].at, after))

    def _read_by_number(self, code: list[Token], at: int, token: Token, function: str) -> None:
        forms = _READ_BY_NUMBER.get(function)
        arguments, end = 0, at
        while forms and code[end + 1].text == ",":
            arguments += 1
            end = _argument_end(code, end + 2) - 1
        if forms is None or not 0 < arguments <= len(forms) or not forms[arguments - 1]:
            raise TrialError(
                f"{token.text} is handed to {function or 'something that is not a texture sample'}, which cannot pick"
                " one of several textures"
            )
        self._reads.setdefault(token.text, []).append((function, arguments))
        name = f"{self._data.names.unit_of(token.text)}_{function}"
        self._edits.append((code[at - 2].at, code[at + 2].at, f"{name}("))


def _closing(code: list[Token], opening: int) -> int:
    depth = 0
    for at in range(opening, len(code)):
        depth += (code[at].text == "(") - (code[at].text == ")")
        if depth == 0:
            return at
    raise TrialError("the brackets of a texture sample do not match")


def _argument_end(code: list[Token], first: int) -> int:
    """Index of the comma or bracket after the argument that begins at `first`."""
    depth = 0
    for at in range(first, len(code)):
        text = code[at].text
        if depth == 0 and text in ",)":
            return at
        depth += (text in "([{") - (text in ")]}")
    raise TrialError("the brackets of a texture sample do not match")
