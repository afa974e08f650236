"""Lights, and parts of secondary views, that no pixel of the finished picture needs: found by trying without them."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.left_out import LIGHTS, Kind, LeftOut
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.draws.liveness import without_effect
from wendascope.texts import plural, verb


@finding(Rule("light-without-effect", "Over time", Side.GPU, Effort.CODE))
def needless_lights(case: Case) -> Iterator[Finding]:
    """Shadow maps, lights drawn by themselves, and lights of shaders, without which the picture stays the same."""
    for item in _needless(case):
        if item.kind not in LIGHTS:
            continue
        what, why = _WORDS[item.kind]
        yield Finding(
            id=f"light-without-effect-{_key(item)}",
            rule="light-without-effect",
            title=f"{item.name}: {what}",
            why=f"{why} Replayed without it, the finished picture is the same.",
            steps=item.steps,
            evidence={
                "steps that use it": len(item.steps),
                "pixels that differ without it": item.pixels,
                **_frames(item),
            },
            estimate_ms=item.ms,
            how=_HOW.get(item.kind, "the time of its steps"),
            price=_price(item),
            conditions=_CONDITIONS.get(item.kind, "") + _REACH,
            remedy=item.remedy,
        )


@finding(Rule("view-without-effect", "Over time", Side.GPU, Effort.CODE, leaves_out=True))
def needless_views(case: Case) -> Iterator[Finding]:
    """Secondary views and reflections that nothing of the picture shows: hidden, or out of sight."""
    for item in _needless(case):
        if item.kind == Kind.VIEW:
            yield Finding(
                id=f"view-without-effect-{item.steps[0]}",
                rule="view-without-effect",
                title=f"{item.name}: {plural(len(item.steps), 'draw')} for a view that no pixel of the picture shows",
                why="What shows it is hidden or out of sight. Replayed without it, the finished picture is the same.",
                steps=item.steps,
                evidence={"draws": len(item.steps), "pixels that differ without it": item.pixels, **_frames(item)},
                estimate_ms=item.ms,
                how="the time of its draws",
                price="the view has to be drawn again before what shows it comes into sight",
                conditions="skip it while its surface is out of sight, which the program has to find out",
                remedy=item.remedy,
            )


@finding(Rule("view-part-without-effect", "Over time", Side.GPU, Effort.CODE, leaves_out=True))
def needless_parts(case: Case) -> Iterator[Finding]:
    """Draws of a secondary view, reflection or shadow, without which the picture stays the same."""
    needless = list(_needless(case))
    views = (Kind.SHADOW, Kind.VIEW)
    whole = {step for item in needless if item.kind in views for step in item.steps}
    for item in needless:
        if item.kind != Kind.PART or set(item.steps) <= whole:
            continue
        draws = len(item.steps)
        yield Finding(
            id=f"view-part-without-effect-{item.steps[0]}",
            rule="view-part-without-effect",
            title=f"{item.view}: {plural(draws, 'draw')} of {item.name} {verb(draws, 'changes', 'change')} no pixel",
            why="The view is drawn with them, but nothing that the finished picture takes from it shows them.",
            steps=item.steps,
            evidence={
                "draws": draws,
                "vertices": int(case.frame.steps.vertices[item.steps].sum()),
                "pixels that differ without them": item.pixels,
                **_frames(item),
            },
            estimate_ms=item.ms,
            how="the time of the draws",
            price=_price(item),
            conditions="seen from elsewhere they may show: leave out by size, by distance or by kind, and compare",
            remedy=item.remedy,
        )


_WORDS = {
    Kind.SHADOW: ("no pixel of the picture is in this shadow", "The shadow map is drawn, and what reads it is lit."),
    Kind.LIGHT_DRAW: ("this light adds nothing to the picture", "The draw adds light that nothing shows."),
    Kind.ELEMENT: ("no pixel of the picture needs this light", "Shaders compute it for every fragment."),
    Kind.FIXED: ("no pixel of the picture needs this light", "It is computed for every vertex."),
}
_REACH = "it reaches nothing that this frame shows: leave lights out by distance, or by what is in view"
_CONDITIONS = {
    Kind.ELEMENT: "drivers may run as many rounds as the array has elements: make it as short as its lights need; "
}
_HOW = {Kind.ELEMENT: "its rounds' part of the shaders' cost, by the model"}


def _needless(case: Case) -> Iterator[LeftOut]:
    if not any(item.needless for item in case.left_out):
        return
    dead = without_effect(case.frame)
    for item in case.left_out:
        if item.needless and not all(dead[step] for step in item.steps):
            yield item


def _frames(item: LeftOut) -> dict[str, int]:
    """Evidence from the rest of a sequence."""
    return {"other frames that do not need it, tried": item.frames_tried} if item.frames_tried else {}


def _price(item: LeftOut) -> str:
    return "none in this frame" + (f", nor in {item.frames_tried} others of the sequence" if item.frames_tried else "")


def _key(item: LeftOut) -> str:
    """What tells it from others of the frame."""
    if item.remedy.names:
        return f"{item.remedy.names[0]}-{int(item.remedy.values['element'])}"
    return f"{item.steps[0]}" + (f"-{int(item.remedy.values['light'])}" if item.remedy.values else "")
