"""Names in the captured frame and what they are called here."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import Words

_DIRECT = 1 << 20
"""Names below this are looked up in an array; larger ones (compatibility contexts) by search."""

_SHARED_NAMESPACE = {"shader": "program", "program": "program"}


@dataclass
class NameMap:
    """Captured name -> name here, by object class. 0 is 0 in every class."""

    by_class: dict[str, dict[int, int]] = field(default_factory=dict)
    locations: dict[int, dict[int, int]] = field(default_factory=dict)
    """Captured program -> captured uniform location -> location here."""
    created: dict[str, list[tuple[int, int, int]]] = field(default_factory=dict)
    """Objects made inside the frame, in order: (call that made it, captured name, name here)."""
    blocks: dict[int, dict[int, int]] = field(default_factory=dict)
    """Captured program -> captured uniform block index -> index here."""

    def set(self, class_name: str, captured: int, here: int) -> None:
        self.by_class.setdefault(_SHARED_NAMESPACE.get(class_name, class_name), {})[captured] = here

    def get(self, class_name: str, captured: int) -> int:
        """The name here; a name that was never an object stays itself, and GL refuses it as it did there."""
        return self.by_class.get(_SHARED_NAMESPACE.get(class_name, class_name), {}).get(captured, captured)

    def create(self, class_name: str, call: int, captured: int, here: int) -> None:
        """An object that call number `call` makes. A name can be made more than once in a frame."""
        space = _SHARED_NAMESPACE.get(class_name, class_name)
        self.created.setdefault(space, []).append((call, captured, here))
        self.created[space].sort()
        self.by_class.setdefault(space, {}).setdefault(captured, here)

    def translate(
        self, class_name: str, names: Words | npt.NDArray[np.uint32], calls: npt.NDArray[np.int64] | int
    ) -> npt.NDArray[np.uint64]:
        """The same for an array of names, shape (n,), as each of the captured `calls` means them."""
        space = _SHARED_NAMESPACE.get(class_name, class_name)
        here = translate(self.by_class.get(space, {}), names)
        for call, captured, made in self.created.get(space, []):
            here[(names == captured) & (calls > call)] = made
        return here


def translate(mapping: dict[int, int], values: npt.NDArray[np.unsignedinteger]) -> npt.NDArray[np.uint64]:
    """Replace every value that is a key of the mapping, shape (n,)."""
    values = values.astype(np.uint64)
    if not mapping:
        return values
    keys = np.array(sorted(mapping), np.uint64)
    images = np.array([mapping[k] for k in keys.tolist()], np.uint64)
    if int(keys[-1]) < _DIRECT:
        table = np.arange(int(keys[-1]) + 1, dtype=np.uint64)
        table[keys.astype(np.int64)] = images
        known = values < len(table)
        return np.where(known, table[np.where(known, values, 0).astype(np.int64)], values)
    at = np.minimum(np.searchsorted(keys, values), len(keys) - 1)
    return np.where(keys[at] == values, images[at], values)
