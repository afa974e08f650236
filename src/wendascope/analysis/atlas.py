"""Atlas pages for textures that are drawn together: who shares a page, where each lies, and what it costs in memory."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass

import msgspec
import numpy as np
import numpy.typing as npt
import rectpack

from wendascope.analysis.sharing import Sharing
from wendascope.analysis.yardsticks import yardsticks
from wendascope.frame.frame import Frame
from wendascope.frame.objects import TextureRecord
from wendascope.registry import GL

COMPRESSED = {
    "BC1": 0.5, "BC3, BC7": 1.0, "ETC2 RGB": 0.5, "ETC2 RGBA": 1.0, "ASTC 4x4": 1.0, "ASTC 6x6": 16 / 36, "ASTC 8x8": 0.25, "PVRTC 4 bits": 0.5,
}  # fmt: skip
"""Bytes a texel of common compressed formats."""
_MIPMAPS = 4 / 3
_CHANNELS = {GL.RED: 1, GL.RG: 2, GL.RGB: 3, GL.RGBA: 4, GL.BGRA: 4, GL.BGR: 3, GL.LUMINANCE: 1, GL.ALPHA: 1, GL.LUMINANCE_ALPHA: 2}


class Options(msgspec.Struct, frozen=True):
    page: int = 0
    """Largest width and height of a page; 0 for the yardstick."""
    padding: int = 2
    """Pixels kept free round each texture, for its border repeated."""
    rotation: bool = False
    power_of_two: bool = False
    """Pages are as wide and high as a power of two."""

    @property
    def size(self) -> int:
        return self.page or yardsticks().batches.atlas_page


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
    plans = [_plan(sharing.frame, group, options) for group in _groups(sharing)]
    return sorted((p for p in plans if p.textures > 1), key=lambda p: -(len(p.steps) - p.draws_then))


def _groups(sharing: Sharing) -> list[_Group]:
    """Textures by who is drawn with whom: those that one sampler reads in steps which share all else."""
    family = sharing.family(ordered=False)
    of_step, names = sharing.frame.passes.of_step, sharing.frame.passes.names
    joined: dict[frozenset[int], _Group] = {}
    for use in sharing.samplers:
        if use.target != GL.TEXTURE_2D:
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


def _plan(frame: Frame, group: _Group, options: Options) -> AtlasPlan:
    attached = {a.name for t in frame.passes.targets for a in t.attachments if a.kind == "texture"}
    limit = min(options.size, frame.context.limits.get("MAX_TEXTURE_SIZE", options.size))
    left: dict[str, list[int]] = {}
    chosen: list[TextureRecord] = []
    formats: dict[int, int] = {}
    for name in group.textures:
        record = frame.objects.texture(name)
        reason = _refused(record, attached, limit, options)
        if reason or record is None:
            left.setdefault(reason, []).append(name)
            continue
        chosen.append(record)
        formats[record.images[0].internal_format] = formats.get(record.images[0].internal_format, 0) + 1
    common = max(formats, key=lambda f: formats[f], default=0)
    for record in [r for r in chosen if r.images[0].internal_format != common]:
        left.setdefault("another format than the others", []).append(record.name)
        chosen.remove(record)
    pages = _pack(chosen, limit, options)
    mipmaps = any(r.levels > 1 for r in chosen)
    caveats = []
    repeated = [r.name for r in chosen if _wraps(r)]
    if repeated:
        caveats.append(f"{len(repeated)} of them repeat: their coordinates must stay within 0 and 1")
    if mipmaps:
        caveats.append("small levels of neighbours run into each other: keep padding, or fewer levels")
    each = sum(i.contents.size if i.contents else 0 for r in chosen for i in r.images)
    texel = each / max(sum(i.width * i.height for r in chosen for i in r.images), 1) or 4.0
    after = int(sum(p.width * p.height for p in pages) * texel * (_MIPMAPS if mipmaps else 1.0))
    draws = len(pages) + len({t for names in left.values() for t in names})
    return AtlasPlan(group.title, sorted(group.steps), min(draws, len(group.steps)), pages, left, each, after, mipmaps, caveats)


def _refused(record: TextureRecord | None, attached: set[int], limit: int, options: Options) -> str:
    if record is None or not record.images or record.target != GL.TEXTURE_2D:
        return "no plain two-dimensional texture"
    if record.name in attached:
        return "drawn into by the frame"
    if max(record.width, record.height) + 2 * options.padding > limit:
        return f"larger than a page of {limit} pixels"
    return ""


def _wraps(record: TextureRecord) -> bool:
    return any(int(record.parameters.get(name, [GL.REPEAT])[0]) in (GL.REPEAT, GL.MIRRORED_REPEAT) for name in ("TEXTURE_WRAP_S", "TEXTURE_WRAP_T"))


def _pack(records: list[TextureRecord], limit: int, options: Options) -> list[Page]:
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


def pack(sizes: dict[int, tuple[int, int]], limit: int, pad: int, rotation: bool = False, align: int = 1) -> list[list[tuple[int, int, int, bool]]]:
    """Pages of (name, x, y, whether it is turned) for rectangles of (width, height), `pad` pixels kept free round each.

    Every place is a multiple of `align`, which `pad` must be as well.
    """
    taken = {name: tuple(-(-(side + 2 * pad) // align) * align for side in size) for name, size in sizes.items()}
    # about as wide as high, where one page is enough
    area = sum(width * height for width, height in taken.values())
    widest = max((size[0] for size in taken.values()), default=1)
    packer = rectpack.newPacker(rotation=rotation)
    for name, (width, height) in taken.items():
        packer.add_rect(width, height, name)
    packer.add_bin(min(limit, max(widest, power_of_two(int(area**0.5)))), limit, count=float("inf"))
    packer.pack()
    return [[(r.rid, r.x + pad, r.y + pad, (r.width, r.height) != taken[r.rid]) for r in page] for page in packer]


def power_of_two(value: int) -> int:
    """The smallest power of two that is not smaller."""
    return 1 << max(value - 1, 0).bit_length()


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
    plain["compressed_by_arithmetic"] = {name: {"bytes_before": a, "bytes_after": b} for name, (a, b) in plan.compressed().items()}
    return msgspec.json.format(msgspec.json.encode(plain), indent=2)


def page_picture(frame: Frame, page: Page, padding: int) -> npt.NDArray[np.uint8]:
    """The page as it would be, array (height, width, 4), bottom row first; textures that cannot be read here are grey."""
    image = np.zeros((page.height, page.width, 4), np.uint8)
    for place in page.places:
        pixels = texture_pixels(frame, place.texture)
        if pixels is None:
            pixels = np.full((place.height, place.width, 4), 128, np.uint8)
        elif place.rotated:
            pixels = np.rot90(pixels)
        x, y = place.x, place.y
        padded = np.pad(pixels, ((padding, padding), (padding, padding), (0, 0)), mode="edge")
        image[y - padding : y + place.height + padding, x - padding : x + place.width + padding] = padded
    return image


def texture_pixels(frame: Frame, name: int) -> npt.NDArray[np.uint8] | None:
    """The first level of a texture with eight bits a channel as RGBA, bottom row first; None where that is not known."""
    record = frame.objects.texture(name)
    image = record.images[0] if record and record.images else None
    if image is None or image.contents is None or image.compressed or image.type != GL.UNSIGNED_BYTE or image.format not in _CHANNELS:
        return None
    channels = _CHANNELS[image.format]
    data = np.frombuffer(frame.blobs.get(image.contents), np.uint8)
    if len(data) < image.width * image.height * channels:
        return None
    pixels = data[: image.width * image.height * channels].reshape(image.height, image.width, channels)
    full = np.full((image.height, image.width, 4), 255, np.uint8)
    full[..., : min(channels, 4)] = pixels
    if channels == 1:
        full[..., 1] = full[..., 2] = pixels[..., 0]
    if image.format in (GL.BGRA, GL.BGR):
        full[..., :3] = full[..., 2::-1]
    return full

