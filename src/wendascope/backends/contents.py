"""What a run of a frame leaves behind, and images that one frame hands to another."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec

OTHER_WINDOW = "another window"
WINDOW = ("window colour", "window depth", "window stencil")
READ_PIXELS = "what is read back by call"
"""Kind of a store: what the program got into its own memory."""
PATTERNS = (1, 2)
"""What stores can be filled with: what comes out alike from both was not read."""


@dataclass(frozen=True, order=True)
class Store:
    """Something that holds contents: a `texture`, `renderbuffer`, `buffer` or `query` by captured name, a part of the
    window, or another window by its number.
    """

    kind: str
    name: int = 0

    def __str__(self) -> str:
        return self.kind if self.kind in WINDOW else f"{self.kind} {self.name}"


Contents = dict[tuple[Store, str], bytes]
"""(what, which part of it) -> the digest of its bytes; of other windows, which are shown, the pixels."""


def differing(a: Contents, b: Contents) -> list[Store]:
    """What holds other contents in one than in the other, in order."""
    return sorted({key[0] for key in a.keys() | b.keys() if a.get(key) != b.get(key)})


class KeptImage(msgspec.Struct):
    """An image with its contents, by the name that it has in the captured program."""

    kind: str
    name: int
    record: bytes
    """As the backend describes it."""
    contents: list[str]
    """Hashes of the contents of its levels and layers."""
    colour: bool
    size: tuple[int, int] | None = None
    """(width, height) of one that has a single level and layer."""


class StoredImages(msgspec.Struct):
    """Images that are handed from one frame to another."""

    images: list[KeptImage] = []
    data: dict[str, bytes] = {}
    """Hash -> contents."""

    @property
    def names(self) -> set[tuple[str, int]]:
        """(kind, name) of each."""
        return {(image.kind, image.name) for image in self.images}

    def only(self, names: set[tuple[str, int]]) -> StoredImages:
        """Those of some names."""
        images = [image for image in self.images if (image.kind, image.name) in names]
        return StoredImages(images, {digest: self.data[digest] for image in images for digest in image.contents})

    def joined(self, other: StoredImages) -> StoredImages:
        """These and others, which take the place of those of their names."""
        images = [image for image in self.images if (image.kind, image.name) not in other.names]
        return StoredImages([*images, *other.images], {**self.data, **other.data})
