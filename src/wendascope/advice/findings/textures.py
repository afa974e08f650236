"""Grey textures that fit in the channels of one."""

from __future__ import annotations

from collections.abc import Hashable, Iterator

import numpy as np

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.frame.remedy import Remedy

_LEAST_BYTES = 4096


@finding(Rule("plain-texture", "Shaders", Side.GPU, Effort.ASSET))
def plain_textures(case: Case) -> Iterator[Finding]:
    """By their contents: what samplers of this frame read, and the frame does not draw itself."""
    drawn = {a.name for t in case.frame.passes.targets for a in t.attachments if a.kind == "texture"}
    users: dict[int, set[int]] = {}
    samplers: dict[int, set[str]] = {}
    for use in case.sharing.samplers:
        for name in np.unique(use.textures).tolist():
            if name and name not in drawn:
                users.setdefault(name, set()).update(use.steps[use.textures == name].tolist())
                samplers.setdefault(name, set()).add(use.sampler)
    grey = []
    for name in sorted(users):
        pixels = case.frame.texture_pixels(name)
        record = case.frame.textures.get(name)
        if pixels is None or record is None or record.stored_bytes < _LEAST_BYTES or (pixels == pixels[0, 0]).all():
            continue
        if case.frame.texture_channels(name) >= 3 and _grey(pixels):
            grey.append((name, record.stored_bytes))
    for group in _groups(case, [name for name, _ in grey]):
        size = sum(s for name, s in grey if name in group)
        names = ", ".join(f"{n} ({', '.join(sorted(samplers[n]))})" for n in group)
        steps = sorted({s for name in group for s in users[name]})
        yield Finding(
            id=f"grey-textures-{group[0]}",
            rule="plain-texture",
            title=f"{len(group)} textures are grey: {names}; they fit in the channels of one",
            why=(
                "Red, green and blue are equal in every texel, and alpha is constant. One channel of a texture holds"
                " the same, and textures read at the same place can share one texture sample."
            ),
            steps=steps,
            evidence={"textures": len(group), "bytes now": size, "bytes with one channel each": size // 4},
            estimate_ms=None,
            how="",
            price="the shaders read channels of one texture",
            conditions="sizes, filters and repeats agree",
            remedy=Remedy("pack-channels", steps, textures=group),
        )


def _groups(case: Case, grey: list[int]) -> list[list[int]]:
    """Up to four each that agree in all but their contents, and are read by samplers that read nothing else."""
    wandering = {
        t for use in case.sharing.samplers for t in np.unique(use.textures).tolist() if len(np.unique(use.textures)) > 1
    }
    alike: dict[Hashable, list[int]] = {}
    for name in grey:
        record = case.frame.textures.get(name)
        if record is not None and name not in wandering:
            alike.setdefault(record.shape, []).append(name)
    return [
        names[at : at + 4] for names in alike.values() for at in range(0, len(names), 4) if len(names[at : at + 4]) > 1
    ]


def _grey(pixels: np.ndarray) -> bool:
    return bool(
        (pixels[..., 0] == pixels[..., 1]).all()
        and (pixels[..., 0] == pixels[..., 2]).all()
        and (pixels[..., 3] == pixels[0, 0, 3]).all()
    )
