"""A fragment shader that gives one colour and does nothing else."""

from __future__ import annotations

from wendascope.errors import TrialError
from wendascope.glsl.rewriting._parts import OUR_PREFIX, functions, read, spliced

_COLOURS = {"vec4": "vec4(0.5, 0.5, 0.5, 1.0)", "vec3": "vec3(0.5)", "vec2": "vec2(0.5)", "float": "0.5"}


def flat_colour(source: str) -> str:
    """The captured main stays in the source and is not called. Raises TrialError where no colour is written."""
    found = read(source)
    code = [t for _, t in found.code()]
    main = [f for f in functions(code) if f.name == "main"]
    if len(main) != 1:
        raise TrialError("the fragment shader has several functions called main, or none")
    words = found.words()
    writes = []
    for declaration in found.declarations:
        if not declaration.has("out"):
            continue
        for name in declaration.names:
            places = [name.text] if not name.array else [f"{name.text}[{k}]" for k in range(_length(name.array))]
            writes += [f"{place} = {_COLOURS.get(declaration.type) or declaration.type + '(1)'};" for place in places]
    if "gl_FragData" in words:
        numbers = {
            code[k + 2].text
            for k, t in enumerate(code[:-3])
            if t.text == "gl_FragData" and code[k + 2].kind == "number"
        }
        writes += [f"gl_FragData[{number}] = {_COLOURS['vec4']};" for number in sorted(numbers or {"0"})]
    elif "gl_FragColor" in words:
        writes.append(f"gl_FragColor = {_COLOURS['vec4']};")
    if not writes:
        raise TrialError("the fragment shader writes no colour")
    called = code[main[0].first + 1]
    renamed = spliced(source, [(called.at, called.at + len(called.text), OUR_PREFIX + "captured_main")])
    return renamed.rstrip() + "\nvoid main() { " + " ".join(writes) + " }\n"


def _length(array: str) -> int:
    inside = array.strip("[] \t")
    if not inside.isdigit():
        raise TrialError("an output is an array whose length is not a number")
    return int(inside)
