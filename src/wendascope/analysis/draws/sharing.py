"""What the steps of a frame share: for every aspect that keeps draws apart, one number a step, equal where it is
equal; and which of them may change places.
"""

from __future__ import annotations

import functools

import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.numbers import Ints, Mask, Numbers, combined, numbered
from wendascope.frame.resources import Program, Shader, Texture, VertexInput
from wendascope.frame.steps import KINDS
from wendascope.frame.uses import FAR_FIRST, NEAR_FIRST, STATE_ASPECTS, Compare, Detail, TextureUse
from wendascope.glsl.preprocessor import compiled_text
from wendascope.glsl.words import fragment_habits

ASPECTS = ("target", "program", "texture", "uniform", "block", "geometry", *STATE_ASPECTS, "kind")
"""What two steps can differ in. `target` is the pass, `kind` that one of them is no draw."""


class Sharing:
    """Columns over all steps of a frame, each computed when first asked for."""

    def __init__(self, frame: Frame) -> None:
        self.frame = frame
        self.uses = frame.uses
        self.programs: dict[int, Program] = dict(frame.programs)
        self.draws: Mask = np.asarray(frame.steps.kind == KINDS.index("draw"))

    @functools.cached_property
    def calls(self) -> Ints:
        return np.asarray(self.frame.steps.call, np.int64)

    @functools.cached_property
    def columns(self) -> dict[str, Numbers]:
        """Aspect -> one number a step."""
        count = len(self.frame.steps)
        found = {name: np.zeros(count, np.uint64) for name in ASPECTS}
        found["target"] = np.asarray(self.frame.passes.of_step, np.uint64)
        found["program"] = self.uses.pipeline
        found["kind"] = np.where(self.draws, np.uint64(0), np.arange(count, dtype=np.uint64) + np.uint64(1))
        found["geometry"] = self.geometry
        found |= self.uses.state
        for detail in self.details:
            found[detail.aspect][detail.steps] = combined(found[detail.aspect][detail.steps], detail.numbers)
        return found

    @property
    def samplers(self) -> list[TextureUse]:
        return self.uses.textures

    @functools.cached_property
    def details(self) -> list[Detail]:
        """Every sampler, uniform and block that may differ between steps."""
        samplers = [Detail("texture", use.sampler, use.program, use.steps, use.numbers) for use in self.samplers]
        return [*samplers, *self.uses.values]

    @property
    def arrays(self) -> tuple[Ints, list[list[VertexInput]]]:
        """(index into the list for each step, the attributes that its program reads)."""
        return self.uses.inputs

    def inputs_of(self, step: int) -> list[VertexInput]:
        """The attributes that the program of a step reads: none where its shader makes vertices up."""
        which, inputs = self.arrays
        return inputs[int(which[step])]

    @functools.cached_property
    def geometry(self) -> Numbers:
        """What is drawn: constant attributes are a part of it, as a merged draw has them beside its vertices."""
        return combined(self.uses.geometry, self.uses.constant_inputs)

    @property
    def layout(self) -> Numbers:
        return self.uses.layout

    @property
    def primitive(self) -> Ints:
        return self.uses.primitive

    # ---- what may change places -------------------------------------------------------------------------

    @functools.cached_property
    def order_free(self) -> Mask:
        """Steps whose place among others of their kind does not matter, by their state: opaque, tested and written by
        depth, without stencil or blending, and not reading what they write."""
        depth = self.uses.depth
        free = depth.tests & depth.writes & np.isin(depth.compare, (*NEAR_FIRST, *FAR_FIRST))
        return np.asarray(free & ~self.uses.stencil & ~self.uses.mixes_colours & ~self._unclear)

    @functools.cached_property
    def _reads_target(self) -> Mask:
        found = np.zeros(len(self.calls), bool)
        attached = [{a.name for a in t.attachments if a.kind == "texture"} for t in self.frame.passes.targets]
        of_step = self.frame.passes.of_step
        for use in self.samplers:
            for index in np.unique(of_step[use.steps]).tolist():
                if attached[index]:
                    mine = of_step[use.steps] == index
                    found[use.steps[mine]] |= np.isin(use.textures[mine], list(attached[index]))
        return found

    @functools.cached_property
    def epoch(self) -> Ints:
        """Steps of one pass with the same number may change places; every other step has a number of its own kind.

        It grows at each step that must keep its place, where the depth function or the parts of colours that are
        written change, and at every call between steps whose effect nobody tracks.
        """
        frame = self.frame
        func = self._opaque_class
        grows = ~self.order_free
        grows[1:] |= ~self.order_free[:-1]
        grows[1:] |= func[1:] != func[:-1]
        grows[1:] |= frame.passes.of_step[1:] != frame.passes.of_step[:-1]
        grows[1:] |= self._separated
        return np.cumsum(grows)

    def family(self, ordered: bool) -> Numbers:
        """Equal for draws that could be one, but for their textures, uniforms, blocks and geometry.

        With `ordered`, only for those that may also be drawn at one place: steps of one epoch, and of the others
        those that follow each other.
        """
        columns = self.columns
        kept = [columns[name] for name in ASPECTS if name not in ("texture", "uniform", "block", "geometry")]
        family = combined(*kept, self.layout)
        if not ordered:
            return family
        place = self.epoch.astype(np.uint64)
        fixed = ~self.order_free
        runs = np.zeros(len(family), np.int64)
        if len(family):
            runs[1:] = np.cumsum((family[1:] != family[:-1]) | (fixed[1:] != fixed[:-1]) | self._separated)
        return combined(family, np.where(fixed, runs.astype(np.uint64) | np.uint64(1 << 63), place))

    @functools.cached_property
    def movable(self) -> Mask:
        """Single draws that may change places with others at all."""
        single = np.asarray(self.frame.steps.begin) == self.calls
        return np.asarray(self.draws & single & ~self._unclear)

    @functools.cached_property
    def sides(self) -> Ints:
        """Equal for movable steps of one pass without a call or a step between them that keeps them on their sides."""
        found = np.zeros(len(self.calls), np.int64)
        still = ~self.movable
        of_step = self.frame.passes.of_step
        found[1:] = np.cumsum(self._separated | still[1:] | still[:-1] | (of_step[1:] != of_step[:-1]))
        return found

    @functools.cached_property
    def commuting(self) -> Ints:
        """Equal and not 0 for steps that may change places even where they lie over each other: opaque ones of one
        depth test and one colour mask, and ones that only add, or only take the larger or the smaller.
        """
        opaque = np.where(self.order_free, self._opaque_class, 0)
        adds = self.uses.adds & ~self._unclear & ~self.uses.stencil
        changing = combined(np.full(len(self.calls), 7, np.uint64), self.columns["blend"]) >> np.uint64(2)
        return np.asarray(np.where(adds, changing.astype(np.int64) | (1 << 61), opaque))

    @property
    def _opaque_class(self) -> Ints:
        """Equal for opaque steps of one depth test that write the same parts of colours; never 0."""
        pair = combined(np.asarray(self.uses.depth.compare, np.uint64), self.uses.colour_mask)
        return (pair >> np.uint64(3)).astype(np.int64) | 1

    @functools.cached_property
    def hiders(self) -> Mask:
        """Steps that write depth without their colour covering what lies behind: what they hide would show through, or
        stay, if it came before them.
        """
        depth = self.uses.depth
        return np.asarray(self.draws & depth.tests & depth.writes & (~self.order_free | (self.uses.colour_mask != 0)))

    @functools.cached_property
    def hidden_by_depth(self) -> Mask:
        """Steps some of whose fragments such a one may hide: depth-tested ones of its pass."""
        passes = np.asarray(self.frame.passes.of_step)
        depth = self.uses.depth
        of_hiders = np.isin(passes, passes[self.hiders])
        return np.asarray(self.movable & of_hiders & depth.tests & (depth.compare != Compare.ALWAYS))

    @property
    def _separated(self) -> Mask:
        return self.uses.separated

    def _writes(self, shader: Shader) -> bool:
        return fragment_habits(compiled_text(shader.source, self.frame.context.dialect)).side_effects

    @functools.cached_property
    def _unclear(self) -> Mask:
        """Steps that nothing may change places with: no draws, those with effects beyond their colours, those that
        read their target or leave a colour of it undefined.
        """
        writers = [p.name for p in self.programs.values() if any(self._writes(shader) for shader in p.shaders)]
        programs = self.frame.steps.program
        return np.asarray(
            ~self.draws
            | np.isin(programs, writers)
            | ~np.isin(programs, list(self.programs))
            | self._reads_target
            | self.uses.undefined_colours
        )

    @functools.cached_property
    def texture_shapes(self) -> Numbers:
        """Equal where the textures of two steps could be layers of arrays: sizes, formats, levels and parameters;
        contents known and not written by the frame, and shaders that know arrays.
        """
        shapes = {name: hash(t.shape) & (1 << 63) - 1 for name, t in self._kept_textures.items()}
        knowing = np.array([self.uses.knows_arrays(int(p)) for p in self.frame.steps.program.tolist()], bool)
        return np.where(knowing, self._of_textures(shapes), self.columns["texture"])

    @functools.cached_property
    def texture_looks(self) -> Numbers:
        """Equal where they could share an atlas page: format and parameters alike, contents known and not drawn by
        the frame.
        """
        looks = {
            name: hash(t.look) & (1 << 63) - 1 for name, t in self._kept_textures.items() if t.plain and t.readable
        }
        return self._of_textures(looks)

    @functools.cached_property
    def _kept_textures(self) -> dict[int, Texture]:
        """Textures whose contents are those captured, the whole frame long."""
        attached = {a.name for t in self.frame.passes.targets for a in t.attachments if a.kind == "texture"}
        changing = attached | self.uses.written_textures
        return {name: t for name, t in self.frame.textures.items() if name not in changing and t.stored_bytes}

    def _of_textures(self, numbers: dict[int, int]) -> Numbers:
        """Numbers of textures put together over all samplers of each step; other textures are numbered by their
        names.
        """
        found = np.zeros(len(self.calls), np.uint64)
        for use in self.samplers:
            first, which = numbered(use.textures.astype(np.uint64))
            table = np.array([numbers.get(name, name) for name in use.textures[first].tolist()], np.uint64)
            found[use.steps] = combined(found[use.steps], table[which])
        return found
