"""What the demo does badly on purpose, each with the name that switches it off."""

from __future__ import annotations

FLAWS = {
    "instancing": "sleepers and bolts are drawn one by one",
    "merging": "tram bodies are many small meshes that share a material",
    "atlas": "every poster has a texture of its own",
    "shadow": "the shadow pass draws everything, bolts and posters too",
    "mirror": "the wet floor's mirror pass is drawn at full size",
    "camera": "the security camera's view is drawn every frame, though it is hardly seen",
    "rain": "sheets of rain and steam are drawn over the whole screen",
    "ballast": "ballast stones are far finer than a pixel",
    "board": "the departures board is drawn one quad at a time",
    "grade": "the grading pass runs a long loop",
    "clear": "the window is cleared although the grading pass covers all of it",
    "state": "state is set again and again",
    "shaders": "shaders compute for every fragment what never changes",
    "timetable": "the platform's timetable is drawn in every frame, though it never changes",
    "panorama": "the town behind the platform is drawn anew in every frame, moved by two pixels",
    "monitor": "the monitor on the platform is drawn in every frame",
    "casters": "all shadows of the platform are drawn in every frame, though only the tram moves",
    "spare-lamp": "a lamp behind a closed door is computed for every fragment of the platform",
    "hitch": "every fifth frame of the platform loads a poster and compiles a program",
    "poster": "a poster of the store room is 2048 texels wide, and shown 40 pixels wide",
    "twins": "one texture of the store room's crates is there twice",
    "deep-target": "the store room is drawn into 32-bit floats, which its values do not need",
    "mip-levels": "the store room's floor has no mip levels, and is shown eight times smaller",
    "stock": "a buffer holds ten kinds of wheels, of which the store room shows one",
}
WORSE = {"leak": "the store room loads a texture each second, and never frees it"}
"""What is done badly only when it is asked for."""


def parse_worse(text: str) -> frozenset[str]:
    """The flaws to add: names of `WORSE` separated by commas. Raises ValueError naming an unknown one."""
    names = frozenset(name.strip() for name in text.split(",") if name.strip())
    unknown = sorted(names - set(WORSE))
    if unknown:
        raise ValueError(f"no further flaw is called {unknown[0]}; there is {', '.join(WORSE)}")
    return names


def parse_better(text: str) -> frozenset[str]:
    """The flaws to leave out: names separated by commas, or `all`. Raises ValueError naming an unknown one."""
    names = frozenset(name.strip() for name in text.split(",") if name.strip())
    if names == {"all"}:
        return frozenset(FLAWS)
    unknown = sorted(names - set(FLAWS))
    if unknown:
        raise ValueError(f"no flaw is called {unknown[0]}; there are {', '.join(FLAWS)}")
    return names
