"""The mesh of one step: its attributes with values, and pictures of it from any side."""

from __future__ import annotations

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Session
from wendascope.backends.slots import Slot
from wendascope.errors import ReplayError
from wendascope.frame.resources import VertexInput
from wendascope.measure.overdraw import geometry_of
from wendascope.replay.jobs import remote
from wendascope.task import Task

_MOST_ROWS = 5000
Floats = npt.NDArray[np.float32]


class MeshTable(msgspec.Struct):
    """What a step fetches."""

    step: int
    triangles: int
    vertices: int
    attributes: list[str]
    """One title a column: name, or attribute and its number, and the component."""
    rows: list[list[float]]
    """Values of the first vertices in the order of the buffer."""
    position: str
    """The attribute taken for the position in object space; empty where none was found."""
    low: tuple[float, float, float]
    high: tuple[float, float, float]
    notes: list[str]


class _Mesh:
    """Corners of a step's triangles in object space and as projected, shape (triangles, 3, 3), where known."""

    def __init__(self) -> None:
        self.table: MeshTable | None = None
        self.object: Floats | None = None
        self.screen: Floats | None = None


_LATEST: Slot[tuple[int, _Mesh]] = Slot("latest mesh")


@remote
def mesh_table(session: Session, job: Task, step: int) -> MeshTable:
    """Attributes of a draw with values. Raises ReplayError for other steps."""
    table = _mesh(session, job, step).table
    assert table is not None
    return table


def _mesh(session: Session, job: Task, step: int) -> _Mesh:
    latest = session.slots.get(_LATEST, lambda: (step, _read(session, job, step)))
    if latest[0] != step:
        latest = session.slots.put(_LATEST, (step, _read(session, job, step)))
    return latest[1]


def _read(session: Session, job: Task, step: int) -> _Mesh:
    frame = session.frame
    if frame.steps.kind_name(step) != "draw":
        raise ReplayError("this step draws no mesh; choose a draw")
    job.progress("reading the mesh", 0.0)
    fetched = session.mesh(step)
    notes = []
    mesh = _Mesh()
    columns: list[str] = []
    values: list[npt.NDArray[np.float64]] = []
    position: tuple[VertexInput, npt.NDArray[np.float64]] | None = None
    if fetched.corners is None:
        notes.append("several ranges, or counts from a buffer: the attributes are not listed")
    for row, data in fetched.inputs if fetched.corners is not None else ():
        if data is None:
            notes.append(f"attribute {row.index} is in client memory, packed or out of its buffer")
            continue
        label = row.name or f"attribute {row.index}"
        columns += [label] if row.size == 1 else [f"{label}.{'xyzw'[k]}" for k in range(row.size)]
        values.append(data[:_MOST_ROWS])
        if (
            not row.divisor
            and row.size >= 2
            and (position is None or _looks_like_position(row) > _looks_like_position(position[0]))
        ):
            position = (row, data)
    if position is not None and fetched.corners is not None and len(fetched.corners):
        points = np.zeros((len(position[1]), 3), np.float32)
        points[:, : min(position[1].shape[1], 3)] = position[1][:, :3]
        mesh.object = points[np.clip(fetched.corners, 0, len(points) - 1)]
    clip = geometry_of(session, job).positions.clip.get(step)
    if clip is not None and clip.shape[1] == 3:
        infront = (clip[..., 3] > 1e-6).all(axis=1)
        mesh.screen = (clip[infront, :, :3] / clip[infront, :, 3:4]).astype(np.float32)
    rows = np.hstack([v[: min(map(len, values))] for v in values]).tolist() if values else []
    box = mesh.object if mesh.object is not None and len(mesh.object) else np.zeros((1, 3, 3), np.float32)
    corner = [tuple(float(v) for v in getattr(box.reshape(-1, 3), side)(axis=0)) for side in ("min", "max")]
    mesh.table = MeshTable(
        step, int(frame.steps.triangles[step]), int(frame.steps.vertices[step]), columns, rows,
        position[0].name or f"attribute {position[0].index}" if position else "", corner[0], corner[1], notes,  # type: ignore[arg-type]
    )  # fmt: skip
    return mesh


def _looks_like_position(row: VertexInput) -> int:
    name = row.name.lower()
    return (
        2 * (("pos" in name) or ("vert" in name) or name in ("p", "xyz", "corner")) + (row.index == 0) + (row.size >= 3)
    )


# ---- pictures --------------------------------------------------------------------------------------------


@remote
def mesh_picture(
    session: Session,
    job: Task,
    step: int,
    space: str,
    yaw: float,
    pitch: float,
    zoom: float,
    width: int,
    height: int,
    colours: dict[str, str],
    shaded: bool,
    wire: bool,
) -> npt.NDArray[np.uint8]:
    """Shape (h, w, 4), bottom row first. Angles in degrees; `space` is `object` or `screen`; zoom 1 fits the mesh.

    `colours` are those of `ground`, `mesh` and `wire` as #RRGGBB. Raises ReplayError where the step has no such mesh.
    """
    mesh = _mesh(session, job, step)
    corners = mesh.object if space == "object" else mesh.screen
    if corners is None or len(corners) == 0:
        raise ReplayError(
            "the positions of this step are not known"
            if space == "object"
            else "no triangle of this step lies before the viewer"
        )
    studio = session.studio()
    size = (max(1, min(width, studio.largest)), max(1, min(height, studio.largest)))
    if space == "screen":
        target = session.frame.passes.targets[int(session.frame.passes.of_step[step])]
        stretch = np.array([target.width / max(target.height, 1), 1.0, 1.0], np.float32)
        shown = np.clip(corners, -4, 4) * stretch
    else:
        shown = corners
    points = shown.reshape(-1, 3).astype(np.float64)
    low, high = points.min(axis=0), points.max(axis=0)
    radius = max(float(np.linalg.norm(high - low)) / 2, 1e-9)
    view = _view(yaw, pitch, zoom, (low + high) / 2, radius, size, space == "screen")
    return studio.picture((step, space), shown, view, size, colours, shaded, wire)


def _view(
    yaw: float,
    pitch: float,
    zoom: float,
    centre: npt.NDArray[np.float64],
    radius: float,
    size: tuple[int, int],
    mirrored: bool,
) -> Floats:
    """A turned parallel projection that fits a ball round the mesh, as a row-major matrix."""
    a, b = np.radians(yaw), np.radians(pitch)
    around = np.array([[np.cos(a), 0, np.sin(a)], [0, 1, 0], [-np.sin(a), 0, np.cos(a)]])
    over = np.array([[1, 0, 0], [0, np.cos(b), -np.sin(b)], [0, np.sin(b), np.cos(b)]])
    turn = over @ around
    if mirrored:
        turn = turn @ np.diag([1.0, 1.0, -1.0])  # projected depth grows away from the viewer
    scale = zoom / radius
    aspect = size[0] / size[1]
    shape = np.array([scale / max(aspect, 1.0), scale * min(aspect, 1.0), -scale / 8 / max(zoom, 1.0)])
    view = np.eye(4)
    view[:3, :3] = shape[:, None] * turn
    view[:3, 3] = -view[:3, :3] @ centre
    return view.astype(np.float32)
