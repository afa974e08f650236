"""Rectangles side by side on pages."""

from __future__ import annotations

import rectpack


def pack(
    sizes: dict[int, tuple[int, int]], limit: int, pad: int, rotation: bool = False, align: int = 1
) -> list[list[tuple[int, int, int, bool]]]:
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
