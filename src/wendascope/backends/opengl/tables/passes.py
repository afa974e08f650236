"""Finds passes: where the target changes or is cleared, named by the program's debug groups where it has them."""

from __future__ import annotations

import itertools
from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallStream
from wendascope.backends.opengl.objects.records import AttachmentRecord, DefaultFramebuffer, FramebufferRecord, Objects
from wendascope.backends.opengl.state.tracker import StateHistory
from wendascope.frame.passes import PassTable, Target
from wendascope.frame.steps import KINDS, StepTable
from wendascope.registry import GL, tables

Ints = npt.NDArray[np.int64]
MOST_GROUP_PASSES = 64
"""More outermost debug groups than this name groups inside passes instead of splitting passes."""
_CLEAR, _DRAW = KINDS.index("clear"), KINDS.index("draw")


def derive_passes(
    calls: CallStream,
    history: StateHistory,
    steps: StepTable,
    objects: Objects,
    default: DefaultFramebuffer,
    owner: Ints,
) -> PassTable:
    """Split the steps where the target changes, where a drawn target is cleared, and between outer groups.

    `owner`, shape (steps,), says whose each step is: 0 for the frame's own context, else the others counted from 1.
    """
    n = len(steps)
    if n == 0:
        empty = np.zeros(0, np.int64)
        return PassTable([], [], empty, empty, empty, 0)
    targets, target_of = _targets(calls, history, steps, objects, default)
    depth = _common_depth(steps.group)
    outer = [group[depth] if len(group) > depth else "" for group in steps.group]
    group_change = np.array([False] + [a != b for a, b in itertools.pairwise(outer)])
    use_groups = 0 < int(group_change.sum()) < MOST_GROUP_PASSES
    split = np.zeros(n, bool)
    split[0] = True
    split[1:] = (target_of[1:] != target_of[:-1]) | (owner[1:] != owner[:-1])
    if use_groups:
        split |= group_change
    kind = np.asarray(steps.kind)
    if not use_groups:  # the first clear after a draw, since the target changed or was cleared last, begins a pass
        drawn = False
        for step in np.flatnonzero(split | (kind == _CLEAR) | _begins(kind == _DRAW)).tolist():
            if split[step]:
                drawn = False
            elif kind[step] == _CLEAR and drawn:
                split[step], drawn = True, False
            drawn = drawn or bool(kind[step] == _DRAW)
    first = np.flatnonzero(split)
    end = np.append(first[1:], n)
    of_step = np.cumsum(split) - 1
    chosen = [targets[int(target_of[f])] for f in first]
    given = [outer[a] if use_groups or len(set(outer[a:b])) == 1 else "" for a, b in zip(first, end, strict=True)]
    return PassTable(given, chosen, first, end, of_step, depth + 1 if use_groups else depth, contexts=owner[first])


def _begins(marked: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
    """The first of each run of marked ones."""
    return np.asarray(marked & ~np.append(False, marked[:-1]))


def _common_depth(groups: list[tuple[str, ...]]) -> int:
    """How many outer groups hold every step of the frame, and so tell nothing."""
    depth = 0
    while all(len(g) > depth for g in groups) and len({g[depth] for g in groups}) == 1:
        depth += 1
    return depth


_REATTACH = (
    "glFramebufferTexture glFramebufferTexture1D glFramebufferTexture2D glFramebufferTexture3D "
    "glFramebufferTextureLayer glFramebufferRenderbuffer glNamedFramebufferTexture glNamedFramebufferTextureLayer "
    "glNamedFramebufferRenderbuffer"
).split()


def _targets(
    calls: CallStream, history: StateHistory, steps: StepTable, objects: Objects, default: DefaultFramebuffer
) -> tuple[list[Target], Ints]:
    """Targets of the frame and which of them each step draws into."""
    framebuffer = history.column("framebuffer", steps.call, GL.DRAW_FRAMEBUFFER)
    attachments: dict[int, dict[int, AttachmentRecord]] = {
        f.name: {a.point: a for a in f.attachments} for f in objects.framebuffers
    }
    version: dict[int, int] = {}
    found: dict[tuple[int, int, int], int] = {}
    targets: list[Target] = []
    window = history.column("drawable", steps.call)
    window_sizes = {
        int(calls.argument(c, "drawable")): (int(calls.argument(c, "width")), int(calls.argument(c, "height")))
        for c in calls.calls_of("wendaDrawable").tolist()
    }
    window_sizes[0] = (default.width, default.height)
    made = _sizes_made(calls, history)
    reattachments = calls.calls_of(
        *(command.name for name in _REATTACH for command in tables().commands_like(name))
    ).tolist()
    target_of = np.zeros(len(steps), np.int64)
    before = np.searchsorted(reattachments, steps.call)  # how many there were before each step
    changes = np.flatnonzero(np.diff(np.stack([before, framebuffer, window]), axis=1).any(axis=0)) + 1
    row = 0
    for step, after in itertools.pairwise([0, *changes.tolist(), len(steps)]):
        for call in reattachments[row : int(before[step])]:
            changed = _reattach(calls, history, call, attachments)
            version[changed] = version.get(changed, 0) + 1
        row = int(before[step])
        name = int(framebuffer[step])
        shown = 0 if name else int(window[step])
        key = (name, version.get(name, 0), shown)
        if key not in found:
            found[key] = len(targets)
            parts = tuple(attachments.get(name, {}).values())
            record = FramebufferRecord(name, list(parts))
            width, height = framebuffer_size(record, objects, made) if name else window_sizes.get(shown, (0, 0))
            targets.append(Target(name, parts, width, height, shown))
        target_of[step:after] = found[key]
    return targets, target_of


def _reattach(
    calls: CallStream, history: StateHistory, call: int, attachments: dict[int, dict[int, AttachmentRecord]]
) -> int:
    """Apply one glFramebuffer... call; returns the framebuffer it changed."""
    command = calls.command(call)
    values = {p.name: calls.argument(call, p.name) for p in command.parameters}
    if "framebuffer" in values:
        name = int(values["framebuffer"])
    else:
        target = GL.READ_FRAMEBUFFER if values["target"] == GL.READ_FRAMEBUFFER else GL.DRAW_FRAMEBUFFER
        name = history.number("framebuffer", call, target)
    points = [values["attachment"]]
    if points == [GL.DEPTH_STENCIL_ATTACHMENT]:
        points = [GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT]
    attached = attachments.setdefault(name, {})
    for point in points:
        if "renderbuffer" in values:
            kind, what = "renderbuffer", int(values["renderbuffer"])
        else:
            kind, what = "texture", int(values["texture"])
        if what == 0:
            attached.pop(point, None)
            continue
        textarget = values.get("textarget", 0)
        face = textarget if GL.TEXTURE_CUBE_MAP_POSITIVE_X <= textarget < GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6 else 0
        layer = int(values.get("layer", values.get("zoffset", 0)))
        attached[point] = AttachmentRecord(point, kind, what, int(values.get("level", 0)), face, layer)  # type: ignore[arg-type]
    return name


_DEFINES = {
    # command: what it defines, and the target parameter by which what is bound is found
    "glTexImage2D": "texture",
    "glTexStorage2D": "texture",
    "glTexImage2DMultisample": "texture",
    "glTexStorage2DMultisample": "texture",
    "glTextureStorage2D": "texture",
    "glRenderbufferStorage": "renderbuffer",
    "glRenderbufferStorageMultisample": "renderbuffer",
    "glNamedRenderbufferStorage": "renderbuffer",
}


def _sizes_made(calls: CallStream, history: StateHistory) -> dict[tuple[str, int], tuple[int, int]]:
    """Sizes of images that the frame itself defines: (kind, name) -> (width, height) of the base level."""
    sizes = {}
    for canonical, kind in _DEFINES.items():
        for command in tables().commands_like(canonical):
            for call in calls.calls_of(command.name).tolist():
                values = {p.name: calls.argument(call, p.name) for p in command.parameters if p.kind != "pointer"}
                if values.get("level"):
                    continue
                if kind in values:
                    name = int(values[kind])
                elif kind == "renderbuffer":
                    name = history.number("renderbuffer", call)
                else:
                    unit = history.number("active_texture", call, missing=GL.TEXTURE0)
                    name = history.number("texture", call, unit, int(values["target"]))
                sizes[kind, name] = (int(values["width"]), int(values["height"]))
    return sizes


def framebuffer_size(
    framebuffer: FramebufferRecord, objects: Objects, made: Mapping[tuple[str, int], tuple[int, int]] | None = None
) -> tuple[int, int]:
    """Width and height that all attachments share, those `made` in the frame first; (0, 0) without any."""
    sizes = []
    for attachment in framebuffer.attachments:
        if made and (attachment.kind, attachment.name) in made:
            width, height = made[attachment.kind, attachment.name]
            sizes.append((max(1, width >> attachment.level), max(1, height >> attachment.level)))
        elif attachment.kind == "texture":
            texture = objects.texture(attachment.name)
            image = next((i for i in texture.images if i.level == attachment.level), None) if texture else None
            if image:
                sizes.append((image.width, image.height))
        else:
            renderbuffer = next((r for r in objects.renderbuffers if r.name == attachment.name), None)
            if renderbuffer:
                sizes.append((renderbuffer.width, renderbuffer.height))
    if not sizes:
        return framebuffer.default_size[:2]
    return min(s[0] for s in sizes), min(s[1] for s in sizes)
