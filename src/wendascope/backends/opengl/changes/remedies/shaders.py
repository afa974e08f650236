"""Draw with changed shaders: with values of the frame written in, sources that somebody edited, or sources
rewritten here.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import msgspec

from wendascope.backends.opengl.changes.baking import baked, constant_texts
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.glsl import rewriting
from wendascope.glsl.stages import STAGE_NAMES
from wendascope.registry import GL


@lowers("bake-uniforms")
def bake_uniforms(change: FrameChange, item: Remedy) -> None:
    """Write the values of uniforms into the source as constants."""
    record = change.program(item.program)
    steps = [s for s in range(len(change.frame.steps)) if int(change.frame.steps.program[s]) == item.program]
    constants = constant_texts(change.frame, record, steps, item.values)
    if not constants:
        raise TrialError("no uniform of the program has one value in all its steps")
    shaders = [msgspec.structs.replace(s, source=baked(s.source, constants)) if s.source else s for s in record.shaders]
    change.replace_program(item.program, msgspec.structs.replace(record, shaders=shaders))


@lowers("edit-shader")
def edit_shader(change: FrameChange, item: Remedy) -> None:
    """Take the sources of an edit."""
    record = change.program(item.program)
    known = {shader.type for shader in record.shaders}
    if not {s.stage for s in item.sources} <= known:
        raise TrialError("the program has no such stage")
    if item.program in change.new.changed_programs:
        raise TrialError("two trials hold the whole source of one program")
    _replace_sources(change, item.program, {s.stage: s.text for s in item.sources})


@lowers("flat-colour")
def flat_colour(change: FrameChange, item: Remedy) -> None:
    """Every fragment becomes one colour."""
    _rewrite_fragments(change, item, rewriting.flat_colour)


@lowers("no-lookups")
def no_samples(change: FrameChange, item: Remedy) -> None:
    """Texture samples become constants."""
    _rewrite_fragments(change, item, rewriting.without_samples)


@lowers("drop-loops")
def drop_loops(change: FrameChange, item: Remedy) -> None:
    """Loops that nothing reaches do not run."""
    cut_loops(change, item)


@lowers("cut-loops")
def cut_loops(change: FrameChange, item: Remedy) -> None:
    """Loops run fewer iterations."""
    _rewrite_fragments(change, item, lambda source: rewriting.fewer_iterations(source, item.loops))


@lowers("simple-powers")
def simple_powers(change: FrameChange, item: Remedy) -> None:
    """Powers with small constant exponents become products and roots."""
    _rewrite_fragments(change, item, lambda source: rewriting.simple_powers(source, item.lines))


@lowers("medium-precision")
def medium_precision(change: FrameChange, item: Remedy) -> None:
    """Fragments are computed in medium precision."""
    _rewrite_fragments(change, item, rewriting.medium_precision)


@lowers("early-test")
def early_test(change: FrameChange, item: Remedy) -> None:
    """Ask for depth tests ahead of the fragment shader."""
    _rewrite_fragments(change, item, rewriting.early_tests)


@lowers("drop-varyings")
def drop_varyings(change: FrameChange, item: Remedy) -> None:
    """Vertices hand on no more than fragments read."""
    _rewrite(change, item, GL.VERTEX_SHADER, lambda source: rewriting.without_outputs(source, item.names))


@lowers("drop-outputs")
def drop_outputs(change: FrameChange, item: Remedy) -> None:
    """Fragments write no more than is attached."""
    _rewrite_fragments(change, item, lambda source: rewriting.without_outputs(source, item.names))


@lowers("move-to-vertices")
def move_to_vertices(change: FrameChange, item: Remedy) -> None:
    """Move expressions from fragments to vertices. Raises TrialError where the program has other stages."""
    sources = _sources(change, item.program)
    if set(sources) != {GL.VERTEX_SHADER, GL.FRAGMENT_SHADER}:
        raise TrialError("the program has other stages between its vertices and its fragments")
    fragment, vertex = rewriting.moved_to_vertices(sources[GL.FRAGMENT_SHADER], sources[GL.VERTEX_SHADER], item.lines)
    _replace_sources(change, item.program, {GL.FRAGMENT_SHADER: fragment, GL.VERTEX_SHADER: vertex})


def _sources(change: FrameChange, program: int) -> dict[int, str]:
    """Stage -> its source. Raises TrialError where a stage has none, or is put together from several."""
    record = change.program(program)
    found = {shader.type: shader.source for shader in record.shaders}
    if record.binary or not all(found.values()) or len(found) != len(record.shaders):
        raise TrialError(
            "the program was loaded as binary or SPIR-V, or a stage is put together from several shaders: there is no"
            " source to rewrite"
        )
    return found


def _rewrite_fragments(change: FrameChange, item: Remedy, how: Callable[[str], str]) -> None:
    _rewrite(change, item, GL.FRAGMENT_SHADER, how)


def _rewrite(change: FrameChange, item: Remedy, stage: int, how: Callable[[str], str]) -> None:
    source = _sources(change, item.program).get(stage)
    if source is None:
        raise TrialError(f"the program has no {STAGE_NAMES[stage]} shader")
    _replace_sources(change, item.program, {stage: how(source)})


def _replace_sources(change: FrameChange, program: int, texts: Mapping[int, str]) -> None:
    record = change.program(program)
    shaders = [
        msgspec.structs.replace(s, source=texts.get(s.type, s.source), spirv=b"" if s.type in texts else s.spirv)
        for s in record.shaders
    ]
    change.replace_program(program, msgspec.structs.replace(record, shaders=shaders, binary=b""))
