"""Fragment shaders that note how often each of their loops runs."""

from __future__ import annotations

from wendascope.errors import TrialError
from wendascope.glsl.rewriting._parts import OUR_PREFIX, at_top, read
from wendascope.glsl.rewriting.es_version import colour_output, in_es_310, with_extensions
from wendascope.glsl.rewriting.iterations import Loop, loops_of
from wendascope.glsl.rewriting.levels import reads_early, spliced_in_order

_EXTENSIONS = ("shader_storage_buffer_object", "shading_language_420pack", "shader_image_load_store")


def noted_loops(source: str) -> list[Loop]:
    """The `for` and `while` loops of a source, in its order. Raises TrialError where it is not understood."""
    return loops_of(source, [token for _, token in read(source).code()])


def with_loops_noted(source: str, first_slot: int, binding: int, es: bool = False) -> str:
    """The same shader, which notes for each of its loops (see `noted_loops`) the most rounds that a fragment runs, in
    the whole numbers of the storage buffer of a binding, from `first_slot` on. `es`: it is of OpenGL ES; other shaders
    of its program have to be raised to its version. Raises TrialError where there is none.
    """
    found = read(source)
    loops = noted_loops(source)
    if not loops:
        raise TrialError("the fragment shader has no loop")
    pieces = []
    for number, loop in enumerate(loops):
        counter = f"{OUR_PREFIX}ran_{number}"
        condition = source[slice(*loop.condition)]
        note = f"{OUR_PREFIX}round({first_slot + number}, ++{counter})"
        pieces += [
            (loop.first, loop.first, f"{{ int {counter} = 0; "),
            (*loop.condition, f"({condition}) && {note}" if condition.strip() else note + condition),
            (loop.end, loop.end, " }"),
        ]
    exact = "highp " if es else ""
    parts = ["layout(early_fragment_tests) in;"] if reads_early(found, source) else []
    parts += [
        f"layout(std430, binding = {binding}) buffer {OUR_PREFIX}loops_block {{ {exact}uint {OUR_PREFIX}loops[]; }};",
        f"bool {OUR_PREFIX}round(int slot, {exact}int n) {{",
        # looking first is cheaper by far where many fragments wait for one place
        f"if (uint(n) > {OUR_PREFIX}loops[slot]) atomicMax({OUR_PREFIX}loops[slot], uint(n)); return true; }}",
    ]
    pieces.append(at_top(found, (colour_output(source) if es else "") + " ".join(parts)))
    noting = spliced_in_order(source, pieces)
    return in_es_310(noting, fragment=True) if es else with_extensions(noting, _EXTENSIONS)
