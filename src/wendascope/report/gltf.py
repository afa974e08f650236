"""Meshes as binary glTF 2.0 (ISO/IEC 12113): one mesh, one node, no material."""

from __future__ import annotations

import re
import struct

import msgspec
import numpy as np

from wendascope.frame.mesh import StepMesh

MAGIC, _VERSION, _JSON, _BINARY = 0x46546C67, 2, 0x4E4F534A, 0x004E4942
_FLOAT, _UNSIGNED_INT, _VERTICES, _ELEMENTS = 5126, 5125, 34962, 34963
_KINDS = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}


def glb(mesh: StepMesh) -> bytes:
    """The whole file. Attributes that glTF has no name for begin with an underscore, as it asks."""
    binary = bytearray()
    views: list[dict[str, int]] = []
    accessors: list[dict[str, object]] = []
    attributes: dict[str, int] = {}

    def add(values: np.ndarray, target: int, **more: object) -> int:
        data = np.ascontiguousarray(values).tobytes()
        views.append({"buffer": 0, "byteOffset": len(binary), "byteLength": len(data), "target": target})
        binary.extend(data + bytes(-len(data) % 4))
        size = values.shape[1] if values.ndim == 2 else 1
        accessors.append({"bufferView": len(views) - 1, "count": len(values), "type": _KINDS[size], **more})
        return len(accessors) - 1

    for name, values in mesh.attributes.items():
        finite = np.nan_to_num(values.astype("<f4"))
        if name == mesh.positions:
            place = np.zeros((len(finite), 3), "<f4")
            place[:, : min(finite.shape[1], 3)] = finite[:, :3]
            ends = {"min": place.min(axis=0).tolist(), "max": place.max(axis=0).tolist()}
            attributes["POSITION"] = add(place, _VERTICES, componentType=_FLOAT, **ends)
        else:
            attributes[_semantic(name, finite, attributes)] = add(finite, _VERTICES, componentType=_FLOAT)
    indices = add(mesh.triangles.reshape(-1).astype("<u4"), _ELEMENTS, componentType=_UNSIGNED_INT)
    document = {
        "asset": {"version": "2.0", "generator": "Wendascope"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0, "name": mesh.name}],
        "meshes": [{"name": mesh.name, "primitives": [{"attributes": attributes, "indices": indices, "mode": 4}]}],
        "accessors": accessors,
        "bufferViews": views,
        "buffers": [{"byteLength": len(binary)}],
    }
    text = msgspec.json.encode(document)
    text += b" " * (-len(text) % 4)
    whole = 12 + 8 + len(text) + 8 + len(binary)
    head = struct.pack("<3I", MAGIC, _VERSION, whole)
    return head + struct.pack("<2I", len(text), _JSON) + text + struct.pack("<2I", len(binary), _BINARY) + bytes(binary)


def _semantic(name: str, values: np.ndarray, taken: dict[str, int]) -> str:
    """What glTF calls an attribute, by its name and size."""
    lower, size = name.lower(), values.shape[1]
    lengths = np.linalg.norm(values[:, :3], axis=1)
    known = ""
    if "norm" in lower and size == 3 and bool((np.abs(lengths - 1) < 1e-3).all()):
        known = "NORMAL"
    elif ("uv" in lower or "coord" in lower or "tex" in lower) and size == 2:
        known = "TEXCOORD_0"
    elif "col" in lower and size in (3, 4):
        known = "COLOR_0"
    if known and known not in taken:
        return known
    plain = "_" + re.sub(r"\W+", "_", name).upper().strip("_")
    return plain if plain not in taken else f"{plain}_{len(taken)}"
