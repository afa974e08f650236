"""Atlas pages for textures that are drawn together: who shares a page, where each lies, and what it costs in memory."""

from __future__ import annotations

import contextlib
import csv
import io
import re
from dataclasses import dataclass

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.guidelines import guidelines
from wendascope.frame.frame import Frame
from wendascope.frame.page_packing import pack, power_of_two
from wendascope.frame.resources import Texture
from wendascope.frame.uses import UnknownContentsError

COMPRESSED = {
    "BC1": 0.5,
    "BC3, BC7": 1.0,
    "ETC2 RGB": 0.5,
    "ETC2 RGBA": 1.0,
    "ASTC 4x4": 1.0,
    "ASTC 6x6": 16 / 36,
    "ASTC 8x8": 0.25,
    "PVRTC 4 bits": 0.5,
}
"""Bytes a texel of common compressed formats."""
_MIPMAPS = 4 / 3


class Options(msgspec.Struct, frozen=True):
    page: int = 0
    """Largest width and height of a page; 0 for the guideline."""
    padding: int = 2
    """Pixels kept free round each texture, for its border repeated."""
    rotation: bool = False
    power_of_two: bool = False
    """Pages are as wide and high as a power of two."""

    @property
    def size(self) -> int:
        return self.page or guidelines().batches.atlas_page


class Place(msgspec.Struct):
    """Where a texture lies on its page; pixels, from the lower left, without padding."""

    texture: int
    label: str
    x: int
    y: int
    width: int
    height: int
    rotated: bool
    """Turned by a quarter: `width` and `height` are as on the page."""


class Page(msgspec.Struct):
    width: int
    height: int
    places: list[Place]

    @property
    def wasted(self) -> float:
        """Share of the area that no texture covers."""
        return 1.0 - sum(p.width * p.height for p in self.places) / (self.width * self.height)


class AtlasPlan(msgspec.Struct):
    """Textures that are drawn with each other, and pages for them. Bytes with all levels."""

    title: str
    steps: list[int]
    """The draws that read them."""
    draws_then: int
    """Draws when each page is one batch."""
    pages: list[Page]
    left_out: dict[str, list[int]]
    """Reason -> textures that cannot be on a page."""
    bytes_before: int
    bytes_after: int
    mipmaps: bool
    caveats: list[str]

    @property
    def textures(self) -> int:
        return sum(len(page.places) for page in self.pages)

    def compressed(self) -> dict[str, tuple[int, int]]:
        """Format -> (bytes before, bytes after), by arithmetic: nothing is compressed."""
        factor = _MIPMAPS if self.mipmaps else 1.0
        before = sum(p.width * p.height for page in self.pages for p in page.places)
        after = sum(page.width * page.height for page in self.pages)
        return {name: (int(before * each * factor), int(after * each * factor)) for name, each in COMPRESSED.items()}


@dataclass
class _Group:
    title: str
    steps: list[int]
    textures: list[int]


def plan_atlases(sharing: Sharing, options: Options | None = None) -> list[AtlasPlan]:
    """One plan for each set of textures that steps of one kind read; the largest first."""
    options = options or Options()
    plans = [_plan(sharing, group, options) for group in _groups(sharing)]
    return sorted((p for p in plans if p.textures > 1), key=lambda p: -(len(p.steps) - p.draws_then))


def _groups(sharing: Sharing) -> list[_Group]:
    """Textures by who is drawn with whom: those that one sampler reads in steps which share all else."""
    family = sharing.family(ordered=False)
    of_step, names = sharing.frame.passes.of_step, sharing.frame.passes.short_names
    joined: dict[frozenset[int], _Group] = {}
    for use in sharing.samplers:
        if not use.plain:
            continue
        rows = sharing.draws[use.steps]
        steps, textures = use.steps[rows], use.textures[rows]
        for kind in np.unique(family[steps]).tolist():
            mine = family[steps] == np.uint64(kind)
            found = np.unique(textures[mine])
            found = found[found != 0]
            if len(found) < 2:
                continue
            key = frozenset(found.tolist())
            title = f"{names[int(of_step[steps[mine][0]])]}, {use.sampler}"
            group = joined.setdefault(key, _Group(title, [], found.tolist()))
            if group.steps and title not in group.title:
                group.title += f"; {title}"
            group.steps += steps[mine].tolist()
    return list(joined.values())


def coordinate_reach(sharing: Sharing, steps: list[int]) -> float:
    """How far from 0 to 1 the texture coordinates of some steps go: 1 where they stay within, or where nothing is
    known of them.

    Coordinates are attributes of two floats, by their names where any looks like one, that the draws read from buffers.
    """
    which, inputs = sharing.arrays
    farthest = 1.0
    for step in steps[:_MOST_LOOKED_AT]:
        pairs = [
            a for a in inputs[int(which[step])] if a.size == 2 and a.dtype == np.float32 and not a.divisor and a.index
        ]
        for attribute in [a for a in pairs if _COORDINATE.search(a.name)] or pairs:
            with contextlib.suppress(UnknownContentsError, ValueError):
                farthest = max(farthest, _reach(sharing.uses.vertex_values(step, attribute)))
    return farthest


_MOST_LOOKED_AT = 256
_COORDINATE = re.compile(r"uv|tex|coord|st\b", re.IGNORECASE)


def _reach(values: npt.NDArray[np.generic]) -> float:
    """How far from 0 to 1 pairs of coordinates go, shape (n, 2)."""
    numbers = values.astype(np.float32)
    numbers = numbers[np.isfinite(numbers).all(axis=1)]
    return float(max(numbers.max(initial=0.0), 1.0 - numbers.min(initial=0.0)))


def _plan(sharing: Sharing, group: _Group, options: Options) -> AtlasPlan:
    frame = sharing.frame
    attached = {a.name for t in frame.passes.targets for a in t.attachments if a.kind == "texture"}
    limit = min(options.size, frame.context.largest_texture or options.size)
    left: dict[str, list[int]] = {}
    chosen: list[Texture] = []
    formats: dict[int, int] = {}
    repeated = any(record is not None and record.repeats for record in map(frame.textures.get, group.textures))
    reach = coordinate_reach(sharing, group.steps) if repeated else 1.0
    for name in group.textures:
        record = frame.textures.get(name)
        reason = _refused(record, attached, limit, options)
        if not reason and record is not None and record.repeats and reach > 1.0:
            reason = f"it repeats, and its coordinates go to {reach:.3g}"
        if reason or record is None:
            left.setdefault(reason, []).append(name)
            continue
        chosen.append(record)
        formats[record.format] = formats.get(record.format, 0) + 1
    common = max(formats, key=lambda f: formats[f], default=0)
    for record in [r for r in chosen if r.format != common]:
        left.setdefault("another format than the others", []).append(record.name)
        chosen.remove(record)
    pages = _pack(chosen, limit, options)
    mipmaps = any(r.levels > 1 for r in chosen)
    caveats = []
    if any(r.repeats for r in chosen):
        caveats.append("some of them repeat; what the coordinates are is not known, and they must stay within 0 and 1")
    if mipmaps:
        caveats.append("small levels of neighbours run into each other: keep padding, or fewer levels")
    each = sum(r.stored_bytes for r in chosen)
    texel = each / max(sum(r.texels for r in chosen), 1) or 4.0
    after = int(sum(p.width * p.height for p in pages) * texel * (_MIPMAPS if mipmaps else 1.0))
    draws = len(pages) + len({t for names in left.values() for t in names})
    return AtlasPlan(
        group.title, sorted(group.steps), min(draws, len(group.steps)), pages, left, each, after, mipmaps, caveats
    )


def _refused(record: Texture | None, attached: set[int], limit: int, options: Options) -> str:
    if record is None or not record.plain:
        return "no plain two-dimensional texture"
    if record.name in attached:
        return "drawn into by the frame"
    if max(record.width, record.height) + 2 * options.padding > limit:
        return f"larger than a page of {limit} pixels"
    return ""


def _pack(records: list[Texture], limit: int, options: Options) -> list[Page]:
    pad = options.padding
    labels = {r.name: r.label or f"texture {r.name}" for r in records}
    sizes = {r.name: (r.width, r.height) for r in records}
    pages = []
    for found in pack(sizes, limit, pad, options.rotation):
        places = []
        for name, x, y, turned in found:
            width, height = sizes[name][::-1] if turned else sizes[name]
            places.append(Place(name, labels[name], x, y, width, height, turned))
        width = max(p.x + p.width for p in places) + pad
        height = max(p.y + p.height for p in places) + pad
        if options.power_of_two:
            width, height = power_of_two(width), power_of_two(height)
        pages.append(Page(width, height, places))
    return pages


# ---- handing out ---------------------------------------------------------------------------------------


def plan_csv(plan: AtlasPlan) -> str:
    """One line a texture."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["texture", "label", "page", "x", "y", "width", "height", "rotated"])
    for number, page in enumerate(plan.pages):
        for p in page.places:
            writer.writerow([p.texture, p.label, number, p.x, p.y, p.width, p.height, int(p.rotated)])
    return out.getvalue()


def plan_json(plan: AtlasPlan) -> bytes:
    """The plan with its pages and rectangles; rectangles also in shares of the page, as shaders take them."""
    plain = msgspec.to_builtins(plan)
    for page in plain["pages"]:
        for p in page["places"]:
            p["u0"], p["v0"] = p["x"] / page["width"], p["y"] / page["height"]
            p["u1"], p["v1"] = (p["x"] + p["width"]) / page["width"], (p["y"] + p["height"]) / page["height"]
    plain["compressed_by_arithmetic"] = {
        name: {"bytes_before": a, "bytes_after": b} for name, (a, b) in plan.compressed().items()
    }
    return msgspec.json.format(msgspec.json.encode(plain), indent=2)


def page_picture(frame: Frame, page: Page, padding: int) -> npt.NDArray[np.uint8]:
    """The page as it would be, array (height, width, 4), bottom row first; textures that cannot be read here are
    grey.
    """
    image = np.zeros((page.height, page.width, 4), np.uint8)
    for place in page.places:
        pixels = frame.texture_pixels(place.texture)
        if pixels is None:
            pixels = np.full((place.height, place.width, 4), 128, np.uint8)
        elif place.rotated:
            pixels = np.rot90(pixels)
        x, y = place.x, place.y
        padded = np.pad(pixels, ((padding, padding), (padding, padding), (0, 0)), mode="edge")
        image[y - padding : y + place.height + padding, x - padding : x + place.width + padding] = padded
    return image
