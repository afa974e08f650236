"""Vertex attributes of 32-bit floats whose values narrower ones would hold."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.frame.memory import MemoryItem
from wendascope.frame.remedy import Remedy
from wendascope.frame.vertex_widths import Narrower, float_columns, narrower, values_of
from wendascope.texts import memory, plural

_LEAST_SAVED = 64 << 10
_MOST_BUFFERS = 2000


@dataclass(frozen=True)
class _Mesh:
    item: MemoryItem
    stride: int
    parts: list[Narrower]

    @property
    def stride_then(self) -> int:
        return self.stride - sum(part.bytes_now - part.bytes for part in self.parts)

    @property
    def saved(self) -> int:
        return self.item.size // self.stride * (self.stride - self.stride_then)


@finding(Rule("wide-attributes", "Memory", Side.MEMORY, Effort.ASSET, Verify.ADVICE))
def wide_attributes(case: Case) -> Iterator[Finding]:
    """Buffers of one layout together, by the layout that they could have."""
    groups: dict[tuple[object, ...], list[_Mesh]] = {}
    buffers = [i for i in case.frame.memory if set(i.read_parts) == {"vertices"} and i.written_by < 0 and i.followed]
    for item in sorted(buffers, key=lambda item: -item.size)[:_MOST_BUFFERS]:
        mesh = _mesh(case, item)
        if mesh is not None:
            key = (mesh.stride, *((part.attribute, part.kind) for part in mesh.parts))
            groups.setdefault(key, []).append(mesh)
    for meshes in groups.values():
        saved = sum(mesh.saved for mesh in meshes)
        if saved >= _LEAST_SAVED:
            yield _finding(meshes, saved)


def _mesh(case: Case, item: MemoryItem) -> _Mesh | None:
    stride, columns = float_columns(case.frame, item)
    data = case.frame.buffer_bytes(item.name) if columns else None
    if data is None:
        return None
    found = [narrower(column, values_of(data, column, stride)) for column in columns]
    parts = [part for part in found if part is not None]
    return _Mesh(item, stride, parts) if parts else None


def _finding(meshes: list[_Mesh], saved: int) -> Finding:
    first = meshes[0]
    steps = sorted({int(step) for mesh in meshes for step in mesh.item.reads})
    evidence: dict[str, int | float | str] = {
        "buffers": len(meshes),
        "bytes per vertex now": first.stride,
        "bytes per vertex then": first.stride_then,
        "bytes saved": saved,
    }
    for k, part in enumerate(first.parts):
        error = max(mesh.parts[k].error for mesh in meshes)
        of = "of its extent" if part.kind == "box16" else ""
        evidence[f"{part.attribute}, largest error"] = f"{error:.2g} {of}".strip()
    kinds = "; ".join(f"{part.attribute} in {part.words}" for part in first.parts)
    return Finding(
        id=f"wide-attributes-{first.item.name}",
        rule="wide-attributes",
        title=(
            f"{plural(len(meshes), 'vertex buffer')} of {first.stride} bytes per vertex could have {first.stride_then}:"
            f" {memory(saved)} less"
        ),
        why=f"Their values fit: {kinds}. Fewer bytes are fetched for every vertex that is not in the cache.",
        steps=steps,
        evidence=evidence,
        estimate_ms=None,
        how="counted, with the largest error of rounding all values",
        price="positions within their box need its place and size in the model matrix",
        conditions="other meshes of the same format have values of the same kind",
        remedy=Remedy("round-vertices", steps, names=[str(mesh.item.name) for mesh in meshes]),
        less_bytes=saved,
    )
