"""What the steps of a frame read and write: samplers, image units, targets, blits, copies, mipmaps, readbacks, views.

What is not certain counts as read, or as an effect.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.enclosed import within_feedback, within_queries
from wendascope.backends.opengl.objects.compiled import compiled_program
from wendascope.backends.opengl.objects.records import ProgramRecord
from wendascope.backends.opengl.tables.inputs import sampler_uses
from wendascope.backends.opengl.tables.overwriting import overwriting_steps
from wendascope.frame.resource_flow import ResourceFlow
from wendascope.frame.steps import KINDS
from wendascope.glsl.words import words_of
from wendascope.registry import GL, Command, Role

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

Ints = npt.NDArray[np.int64]
Resource = tuple[str, int]
"""(`texture` or `renderbuffer`, name)."""
WINDOW: Resource = ("window", 0)

_WORDS = re.compile(r"\w*image(1D|2D|3D|Cube|Buffer|2DRect|1DArray|2DArray|CubeArray|2DMS|2DMSArray)$")
_DRAW, _CLEAR, _DISPATCH, _BLIT, _COPY, _MIPMAPS = (
    KINDS.index(k) for k in ("draw", "clear", "dispatch", "blit", "copy", "mipmaps")
)


def resource_flow(frame: OpenGLFrame) -> ResourceFlow:
    """Gather what every step, transfer and readback of a frame reads and writes."""
    return _Gathering(frame).flow()


class _Gathering:
    def __init__(self, frame: OpenGLFrame) -> None:
        self._frame = frame
        self._numbers: dict[Resource, int] = {}
        self._reads: list[tuple[Ints, Ints]] = []  # (steps, resources), pair by pair
        self._writes: list[tuple[Ints, Ints]] = []
        self._views = {t.name: t.view_of for t in frame.objects.textures if t.view_of}
        self._roots = np.zeros(len(frame.steps), bool)
        self._read_back: set[tuple[int, int]] = set()
        """(call, resource) of everything that is read into memory or a buffer; call -1 where it may be read at any
        time.
        """
        self._attached = self._attachments()

    def flow(self) -> ResourceFlow:
        frame = self._frame
        for row in np.flatnonzero(np.isin(frame.steps.kind, (_BLIT, _COPY, _MIPMAPS))).tolist():
            self._transfer(row, int(frame.steps.kind[row]))
        self._targets()
        self._samplers()
        self._images_and_buffers()
        self._queries()
        self._transfers_to_the_program()
        targets = [
            [self._numbers[r] for r in self._resources_of(target.framebuffer) if r in self._numbers]
            for target in frame.passes.targets
        ]
        back = np.array(sorted(self._read_back), np.int64).reshape(-1, 2)
        followed = not frame.calls.having(Role.UNFOLLOWED_READS).any()
        reads, writes = _joined(self._reads), _joined(self._writes)
        overwritten = overwriting_steps(frame, writes, self._numbers, {*self._views, *self._views.values()})
        return ResourceFlow(
            reads, writes, self._roots, (back[:, 0], back[:, 1]), targets, overwritten, list(self._numbers), followed
        )

    # ---- what there is --------------------------------------------------------------------------------

    def _resources_of(self, framebuffer: int) -> set[Resource]:
        """What is attached to a framebuffer; the window is a resource of its own."""
        found = {
            (kind, self._views.get(name, name) if kind == "texture" else name)
            for kind, name in self._attached.get(framebuffer, ())
        }
        return found if framebuffer else {WINDOW}

    def _number(self, resource: Resource) -> int:
        kind, name = resource
        if kind == "texture":
            name = self._views.get(name, name)
        return self._numbers.setdefault((kind, name), len(self._numbers))

    def _attachments(self) -> dict[int, set[Resource]]:
        """Framebuffer -> everything that is attached to it at any time."""
        found: dict[int, set[Resource]] = {}
        for record in self._frame.objects.framebuffers:
            found.setdefault(record.name, set()).update((a.kind, a.name) for a in record.attachments)
        for target in self._frame.passes.targets:
            found.setdefault(target.framebuffer, set()).update((a.kind, a.name) for a in target.attachments)
        return found

    def _add(self, pairs: list[tuple[Ints, Ints]], steps: Iterable[int] | Ints, resources: Iterable[Resource]) -> None:
        rows = np.asarray(list(steps) if not isinstance(steps, np.ndarray) else steps, np.int64)
        for resource in resources:
            pairs.append((rows, np.full(len(rows), self._number(resource))))

    def _into(self, steps: Ints, framebuffer: int) -> None:
        """Steps that write what is attached to a framebuffer; the window is what all is for."""
        if framebuffer in (0, self._frame.reference_framebuffer):
            self._roots[steps] = True
        self._add(self._writes, steps, self._attached.get(framebuffer, ()))

    # ---- steps ----------------------------------------------------------------------------------------

    def _targets(self) -> None:
        passes = self._frame.passes
        for index, target in enumerate(passes.targets):
            rows = np.arange(int(passes.first[index]), int(passes.end[index]))
            rows = rows[np.isin(self._frame.steps.kind[rows], (_DRAW, _CLEAR))]
            self._into(rows, target.framebuffer)
        by_name = ~self._frame.calls.having(Role.CLEARS_BOUND)[np.asarray(self._frame.steps.call)]
        self._roots |= (self._frame.steps.kind == _CLEAR) & by_name  # buffers, textures, framebuffers: left alone

    def _samplers(self) -> None:
        frame = self._frame
        for use in sampler_uses(frame):
            names = np.unique(use.textures)
            for name in names[names > 0].tolist():
                self._add(self._reads, use.steps[use.textures == name], [("texture", name)])
        known = [p.name for p in frame.objects.programs]
        drawing = np.isin(frame.steps.kind, (_DRAW, _DISPATCH))
        unclear = np.flatnonzero(drawing & ~np.isin(frame.steps.program, known))
        if len(
            unclear
        ):  # fixed function, pipelines, programs of which only the sources are known: they may sample whatever is bound
            for unit, target in frame.history.keys("texture"):
                bound = frame.history.column("texture", frame.steps.call[unclear], unit, target)
                for name in np.unique(bound[bound > 0]).tolist():
                    self._add(self._reads, unclear[bound == name], [("texture", name)])

    def _images_and_buffers(self) -> None:
        frame = self._frame
        images, buffers = set(), set()
        for program in frame.objects.programs:
            known_sources = all(s.source for s in program.shaders)
            to_images, to_buffers = self._writes_beyond_colours(program) if known_sources else (True, True)
            if to_images:
                images.add(program.name)
            if to_buffers or program.feedback_varyings:
                buffers.add(program.name)
        known = [p.name for p in frame.objects.programs]
        steps = frame.steps
        drawing = np.isin(steps.kind, (_DRAW, _DISPATCH))
        unclear = ~np.isin(steps.program, known) & (steps.program > 0) | (steps.program == 0) & (
            steps.kind == _DISPATCH
        )
        unclear |= frame.history.column("pipeline", steps.call) > 0
        with_images = np.flatnonzero(drawing & (np.isin(steps.program, list(images)) | unclear))
        for unit, _ in frame.history.keys("image"):
            bound = frame.history.column("image", steps.call[with_images], unit)
            for name in np.unique(bound[bound > 0]).tolist():
                for pairs in (self._reads, self._writes):
                    self._add(pairs, with_images[bound == name], [("texture", name)])
        if len(frame.calls.calls_of("glBindImageTextures")):  # bindings that are not tracked
            self._roots[with_images] = True
            self._read_back |= {(-1, self._number(("texture", t.name))) for t in frame.objects.textures}
        self._roots[drawing & (np.isin(steps.program, list(buffers)) | unclear)] = True

    def _writes_beyond_colours(self, program: ProgramRecord) -> tuple[bool, bool]:
        """Whether a program names images, and buffers, in what of its sources is compiled."""

        def named(sources: ProgramRecord) -> tuple[bool, bool]:
            words = frozenset[str]().union(*(words_of(s.source) for s in sources.shaders))
            return any(_WORDS.match(word) for word in words), bool(words & {"buffer", "atomic_uint"})

        # what the whole sources do not name, those without their conditions do not either
        pasted = any("##" in s.source for s in program.shaders)
        if not any(named(program)) and not pasted:
            return False, False
        return named(compiled_program(program, self._frame.context.dialect))

    def _queries(self) -> None:
        """What is counted or fed back has an effect: on the count, or the buffer."""
        self._roots |= within_queries(self._frame) | within_feedback(self._frame)

    # ---- transfers ------------------------------------------------------------------------------------

    def _transfer(self, row: int, kind: int) -> None:
        call = int(self._frame.steps.call[row])
        command = self._frame.calls.command(call)
        rows = np.array([row])
        if kind == _BLIT:
            source, drain = (
                self._framebuffer(command, call, "readFramebuffer", GL.READ_FRAMEBUFFER),
                self._framebuffer(command, call, "drawFramebuffer", GL.DRAW_FRAMEBUFFER),
            )
            self._add(self._reads, rows, self._resources_of(source))
            self._into(rows, drain)
        elif "CopyImageSubData" in command.name:
            for name, target, pairs in (("srcName", "srcTarget", self._reads), ("dstName", "dstTarget", self._writes)):
                of = "renderbuffer" if int(self._frame.calls.argument(call, target)) == GL.RENDERBUFFER else "texture"
                self._add(pairs, rows, [(of, int(self._frame.calls.argument(call, name)))])
        elif kind == _COPY and "Tex" in command.name:
            self._add(self._reads, rows, self._resources_of(self._framebuffer(command, call, "", GL.READ_FRAMEBUFFER)))
            self._add(self._writes, rows, self._textures(command, call))
        elif kind == _MIPMAPS:
            for pairs in (self._reads, self._writes):
                self._add(pairs, rows, self._textures(command, call))
        else:
            self._roots[row] = True  # between buffers, or pixels of the window

    def _transfers_to_the_program(self) -> None:
        """What is read back, into memory or a buffer."""
        frame = self._frame
        for call in np.flatnonzero(frame.calls.having(Role.READS_PIXELS)).tolist():
            framebuffer = frame.history.number("framebuffer", call, GL.READ_FRAMEBUFFER)
            self._read_back |= {(call, self._number(r)) for r in self._resources_of(framebuffer)}
        for call in np.flatnonzero(frame.calls.having(Role.READS_BACK)).tolist():
            self._read_back |= {(call, self._number(r)) for r in self._textures(frame.calls.command(call), call)}

    def _framebuffer(self, command: Command, call: int, parameter: str, target: int) -> int:
        if any(p.name == parameter for p in command.parameters):
            return int(self._frame.calls.argument(call, parameter))
        return self._frame.history.number("framebuffer", call, target)

    def _textures(self, command: Command, call: int) -> set[Resource]:
        """The texture that a call works on: named, or bound."""
        frame = self._frame
        names = [p.name for p in command.parameters]
        named = next((name for name in ("texture", "destinationTexture") if name in names), "")
        if named:
            return {("texture", int(frame.calls.argument(call, named)))}
        if "target" not in names:
            return set()
        target = int(frame.calls.argument(call, "target"))
        if GL.TEXTURE_CUBE_MAP_POSITIVE_X <= target < GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6:
            target = GL.TEXTURE_CUBE_MAP
        unit = frame.history.number("active_texture", call, missing=GL.TEXTURE0)
        bound = frame.history.number("texture", call, unit, target)
        return {("texture", bound)} if bound else set()


def _joined(pairs: list[tuple[Ints, Ints]]) -> tuple[Ints, Ints]:
    empty = np.zeros(0, np.int64)
    return (np.concatenate([p[0] for p in pairs]), np.concatenate([p[1] for p in pairs])) if pairs else (empty, empty)
