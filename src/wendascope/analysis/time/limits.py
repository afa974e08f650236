"""What a shader is bound by, from what experiments on it save."""

from __future__ import annotations

from collections.abc import Mapping

from wendascope.texts import share

LEFT_OUT, TINY, FLAT, NO_LOOKUPS, ONE_TEXEL, HALF, QUARTER, BAKED, CUT = (
    "left-out",
    "tiny-viewport",
    "flat-colour",
    "no-lookups",
    "one-texel",
    "half-size",
    "quarter-size",
    "baked",
    "cut-loops",
)
TITLES = {
    LEFT_OUT: "its draws left out",
    TINY: "a viewport of one pixel",
    FLAT: "flat colour",
    NO_LOOKUPS: "constants for texture samples",
    ONE_TEXEL: "one-texel textures",
    HALF: "half width and height",
    QUARTER: "a quarter of width and height",
    BAKED: "uniforms as constants",
    CUT: "one iteration per loop",
}
_PLURAL = (NO_LOOKUPS, ONE_TEXEL)
_MOST = 0.5
"""Of what contains it: from here on a part is what binds."""


def limit_of(saved: Mapping[str, float]) -> tuple[str, list[str]]:
    """(what binds, the experiments that show it), from the shares that experiments save of what leaving the steps
    out saves.

    The largest of three parts binds: what a viewport of one pixel does not save (vertices and calls), what a flat
    colour saves (shading), and what lies between (covering, testing, blending and writing pixels). Shading is told
    apart by loops and texture samples. Experiments that could not be made are missing.
    """
    tiny, flat = saved.get(TINY), saved.get(FLAT)
    if tiny is None and flat is None:
        return "", []
    shading = max(flat or 0.0, 0.0)
    if tiny is None:
        if shading < _MOST:
            return "its vertices, its calls or its pixel output", [FLAT]
    elif 1.0 - tiny >= max(shading, tiny - shading):
        return "its vertices and calls", [TINY, FLAT]
    elif tiny - shading > shading:
        return "rasterisation, tests and blending", [TINY, FLAT]
    texture_samples, texels, loops = (max(saved.get(name, 0.0), 0.0) for name in (NO_LOOKUPS, ONE_TEXEL, CUT))
    arithmetic = shading - texture_samples
    fetching = texture_samples >= arithmetic
    # loops that save no more than all arithmetic may hold no texture sample at all
    in_loops = loops - arithmetic >= _MOST * texture_samples if fetching else loops >= _MOST * arithmetic
    shown = [FLAT, *([CUT] if in_loops else []), *(name for name in (NO_LOOKUPS, ONE_TEXEL) if name in saved)]
    if fetching:
        what = "waiting for texels" if texels >= _MOST * texture_samples else "texture sampling"
    else:
        what = "arithmetic"
    return what + (" in its loops" if in_loops else ""), shown


def limit_answer(label: str, saved: Mapping[str, float], certain: bool) -> str:
    """One sentence: what binds, and the experiments that say so. `certain`: the steps take measurable time at all."""
    name = label[:1].upper() + label[1:]
    if not certain:
        return f"{name} takes too little time here to tell what limits it: leaving its draws out shows no gain."
    what, shown = limit_of(saved)
    if not what:
        return f"What limits {label} cannot be told: neither a tiny viewport nor a flat colour could be tried."
    parts = [f"{TITLES[key]} save{'' if key in _PLURAL else 's'} {_share(saved[key])}" for key in shown if key in saved]
    return f"{name} is bound by {what}: {', '.join(parts)} of its draw time."


def _share(value: float) -> str:
    return f"{share(value)}" if value >= 0.005 else "nothing"
