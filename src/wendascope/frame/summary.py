"""What `show` tells of a frame."""

from __future__ import annotations

import msgspec

from wendascope.frame.frame import Frame


class PassSummary(msgspec.Struct):
    index: int
    name: str
    steps: int
    target: str
    width: int
    height: int
    role: str
    """What it does in the frame."""
    evidence: list[str]


class Summary(msgspec.Struct):
    program: str
    captured_at: str
    frame_number: int
    api: str
    profile: str
    renderer: str
    width: int
    height: int
    calls: int
    steps: int
    vertices: int
    triangles: int
    objects: dict[str, int]
    target_frame_ms: float | None
    passes: list[PassSummary]
    caveats: list[str]


def summarise(frame: Frame) -> Summary:
    """Count what is in a frame. Reads no contents."""
    table, steps = frame.passes, frame.steps
    width, height = frame.size
    passes = [
        PassSummary(
            i,
            table.names[i],
            int(table.end[i] - table.first[i]),
            t.name,
            t.width,
            t.height,
            role.role.value,
            role.evidence,
        )
        for i, (t, role) in enumerate(zip(table.targets, frame.pass_roles, strict=True))
    ]
    return Summary(
        program=" ".join([frame.metadata.program, *frame.metadata.arguments]),
        captured_at=frame.metadata.captured_at,
        frame_number=frame.metadata.frame_number,
        api=str(frame.context),
        profile=frame.context.profile,
        renderer=frame.context.renderer,
        width=width,
        height=height,
        calls=frame.call_count,
        steps=len(steps),
        vertices=int(steps.vertices.sum()),
        triangles=int(steps.triangles.sum()),
        objects={k: v for k, v in frame.object_counts.items() if v},
        target_frame_ms=frame.target_frame_ms,
        passes=passes,
        caveats=frame.caveats,
    )
