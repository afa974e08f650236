"""The mesh of one step: its attributes with values, and pictures of it from any side."""

from __future__ import annotations

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.gl_helpers import small_program
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.objects.objects import DefaultFramebuffer
from wendascope.backends.opengl.objects.primitives import restart_index, triangles
from wendascope.backends.opengl.rebuild.context import PbufferContext
from wendascope.backends.opengl.rebuild.executor import LocalExecutor
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.running.walk import Walk
from wendascope.backends.opengl.tables.vertex_inputs import vertex_inputs
from wendascope.backends.opengl.tables.written import written_objects
from wendascope.backends.slots import Slot
from wendascope.errors import ReplayError
from wendascope.frame.context import ContextInfo
from wendascope.frame.resources import VertexInput
from wendascope.measure.indices import draw_indices
from wendascope.measure.overdraw import geometry_of
from wendascope.registry import GL
from wendascope.replay.jobs import remote
from wendascope.replay.progress import Job

_MOST_ROWS = 5000
_LARGEST = 1024
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
_STUDIO: Slot[_Studio] = Slot("studio")


@remote
def mesh_table(session: ReplaySession, job: Job, step: int) -> MeshTable:
    """Attributes of a draw with values. Raises ReplayError for other steps."""
    table = _mesh(session, job, step).table
    assert table is not None
    return table


def _mesh(session: ReplaySession, job: Job, step: int) -> _Mesh:
    latest = session.slots.get(_LATEST, lambda: (step, _read(session, job, step)))
    if latest[0] != step:
        latest = session.slots.put(_LATEST, (step, _read(session, job, step)))
    return latest[1]


def _read(session: ReplaySession, job: Job, step: int) -> _Mesh:
    frame = session.frame
    if frame.steps.kind_name(step) != "draw":
        raise ReplayError("this step draws no mesh; choose a draw")
    job.progress("reading the mesh", 0.0)
    call = int(frame.steps.call[step])
    inputs = vertex_inputs(frame, step)
    written = written_objects(frame).buffers
    names = {p.name for p in frame.calls.command(call).parameters}
    if any(row.buffer in written for row in inputs) or "indices" in names:
        Walk(session).run_to(int(frame.steps.begin[step]))
    indices = draw_indices(session, step)
    first = 0
    if (
        indices is None
        and "first" in names
        and "count" in names
        and not isinstance(frame.calls.argument(call, "first"), bytes)
    ):
        first = int(frame.calls.argument(call, "first"))
        indices = np.arange(max(int(frame.calls.argument(call, "count")), 0), dtype=np.uint32)
    notes = []
    mesh = _Mesh()
    base = int(frame.calls.argument(call, "basevertex")) if "basevertex" in names else 0
    columns: list[str] = []
    values: list[npt.NDArray[np.float64]] = []
    position: tuple[VertexInput, npt.NDArray[np.float64]] | None = None
    if indices is None:
        notes.append("several ranges, or counts from a buffer: the attributes are not listed")
    else:
        used = indices.astype(np.int64) + base + first
        low, count = int(used.min(initial=0)), int(np.ptp(used)) + 1 if len(used) else 0
        for row in inputs:
            data = _values(session, row, low, count)
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
        if position is not None and len(used):
            corners = triangles(int(frame.calls.argument(call, "mode")), indices, restart_index(frame, call))
            at = np.clip(corners.astype(np.int64) + base + first - low, 0, len(position[1]) - 1)
            points = np.zeros((len(position[1]), 3), np.float32)
            points[:, : min(position[1].shape[1], 3)] = position[1][:, :3]
            mesh.object = points[at]
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


def _values(session: ReplaySession, row: VertexInput, first: int, count: int) -> npt.NDArray[np.float64] | None:
    """Values of one attribute from vertex `first` on, shape (count, size), as the shader sees them."""
    dtype = row.dtype
    if dtype is None or not row.buffer or count <= 0:
        return None
    if row.divisor:
        first, count = 0, min(count, 1)
    record = session.frame.objects.buffer(row.buffer)
    offset = row.offset + first * row.stride
    size = (count - 1) * row.stride + row.bytes
    if record is None or size <= 0 or offset < 0 or size > 1 << 30:
        return None
    batch = CallBatch(session.offers)
    length = batch.out(8)
    batch.call("glBindBuffer", GL.COPY_READ_BUFFER, session.names.get("buffer", row.buffer))
    batch.call("glGetBufferParameteriv", GL.COPY_READ_BUFFER, GL.BUFFER_SIZE, length)
    session.run_batch(batch)
    if offset + size > length.ints()[0]:
        return None
    batch = CallBatch(session.offers)
    out = batch.out(size)
    batch.call("wendaReadBuffer", session.names.get("buffer", row.buffer), offset, size, out)
    session.run_batch(batch)
    raw = np.frombuffer(out.data, np.uint8, size)
    padded = np.zeros(count * row.stride, np.uint8)
    padded[: len(raw)] = raw[: len(padded)]
    rows = np.ascontiguousarray(padded.reshape(count, row.stride)[:, : row.bytes]) if row.stride >= row.bytes else None
    if rows is None:
        return None
    values = rows.view(dtype).reshape(count, row.size).astype(np.float64)
    if row.normalized and dtype.kind in "iu":
        values = np.maximum(values / np.iinfo(dtype.str).max, -1.0)
    return values


# ---- pictures --------------------------------------------------------------------------------------------

_VERTEX = (
    "#version 330\nlayout(location = 0) in vec3 point; uniform mat4 view; out vec3 place; void main() { place = point;"
    " gl_Position = view * vec4(point, 1.0); }\n"
)
_SHADED = """#version 330
in vec3 place; out vec4 colour; uniform mat4 view; uniform vec4 tint; uniform float flatness;
void main() {
  vec3 towards = normalize(vec3(view[0][2], view[1][2], view[2][2]));
  float facing = abs(dot(normalize(cross(dFdx(place), dFdy(place)) + vec3(0.0, 0.0, 1e-20)), towards));
  float light = mix(0.4 + 0.6 * facing, 1.0, flatness);
  colour = vec4(tint.rgb * light * (gl_FrontFacing ? 1.0 : 0.72), 1.0);
}
"""


class _Studio:
    """A context of its own in which meshes are drawn."""

    def __init__(self) -> None:
        self.context = PbufferContext(
            ContextInfo(major=3, minor=3), DefaultFramebuffer(_LARGEST, _LARGEST, alpha=8, depth=24)
        )
        self._executor = LocalExecutor()
        make = CallBatch()
        array, buffer = make.out(4), make.out(4)
        make.call("glGenVertexArrays", 1, array)
        make.call("glGenBuffers", 1, buffer)
        self.run(make)
        self.array, self.buffer = array.uints()[0], buffer.uints()[0]
        sources = ((GL.VERTEX_SHADER, _VERTEX), (GL.FRAGMENT_SHADER, _SHADED))
        self.program = small_program(self._executor, sources)
        asked = CallBatch()
        where = {
            name: asked.call("glGetUniformLocation", self.program, name.encode() + b"\0")
            for name in ("view", "tint", "flatness")
        }
        self.run(asked)
        self.uniforms = {name: result.value for name, result in where.items()}
        self.held: tuple[int, str] | None = None
        self.count = 0

    def run(self, batch: CallBatch) -> None:
        self._executor.run(batch)

    def upload(self, key: tuple[int, str], corners: Floats) -> None:
        if self.held == key:
            return
        batch = CallBatch()
        data = np.ascontiguousarray(corners, np.float32).tobytes()
        batch.call("glBindVertexArray", self.array)
        batch.call("glBindBuffer", GL.ARRAY_BUFFER, self.buffer)
        batch.call("glBufferData", GL.ARRAY_BUFFER, len(data), data, GL.STATIC_DRAW)
        batch.call("glVertexAttribPointer", 0, 3, GL.FLOAT, 0, 12, Raw(0))
        batch.call("glEnableVertexAttribArray", 0)
        self.run(batch)
        self.held, self.count = key, corners.shape[0] * 3

    def draw(
        self, view: Floats, size: tuple[int, int], colours: dict[str, str], shaded: bool, wire: bool
    ) -> npt.NDArray[np.uint8]:
        batch = CallBatch()
        call = batch.call
        rgb = {name: tuple(int(value[i : i + 2], 16) / 255 for i in (1, 3, 5)) for name, value in colours.items()}
        call("glViewport", 0, 0, *size)
        call("glClearColor", *rgb["ground"], 1.0)
        call("glClear", GL.COLOR_BUFFER_BIT | GL.DEPTH_BUFFER_BIT)
        call("glEnable", GL.DEPTH_TEST)
        call("glDepthFunc", GL.LEQUAL)
        call("glUseProgram", self.program)
        call("glBindVertexArray", self.array)
        call("glUniformMatrix4fv", self.uniforms["view"], 1, 1, view.astype(np.float32).tobytes())
        for wanted, mode, tint, flat in ((shaded, GL.FILL, rgb["mesh"], 0.0), (wire, GL.LINE, rgb["wire"], 1.0)):
            if not wanted:
                continue
            call("glPolygonMode", GL.FRONT_AND_BACK, mode)
            call("glEnable" if mode == GL.FILL else "glDisable", GL.POLYGON_OFFSET_FILL)
            call("glPolygonOffset", 1.0, 2.0)
            call("glUniform4f", self.uniforms["tint"], *tint, 1.0)
            call("glUniform1f", self.uniforms["flatness"], flat)
            call("glDrawArrays", GL.TRIANGLES, 0, self.count)
        out = batch.out(size[0] * size[1] * 4)
        call("glPixelStorei", GL.PACK_ALIGNMENT, 1)
        call("glReadPixels", 0, 0, *size, GL.RGBA, GL.UNSIGNED_BYTE, out)
        self.run(batch)
        return np.frombuffer(out.data, np.uint8, size[0] * size[1] * 4).reshape(size[1], size[0], 4)


@remote
def mesh_picture(
    session: ReplaySession,
    job: Job,
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
    size = (max(1, min(width, _LARGEST)), max(1, min(height, _LARGEST)))
    if space == "screen":
        target = session.frame.passes.targets[int(session.frame.passes.of_step[step])]
        stretch = np.array([target.width / max(target.height, 1), 1.0, 1.0], np.float32)
        shown = np.clip(corners, -4, 4) * stretch
    else:
        shown = corners
    points = shown.reshape(-1, 3).astype(np.float64)
    low, high = points.min(axis=0), points.max(axis=0)
    radius = max(float(np.linalg.norm(high - low)) / 2, 1e-9)
    studio = _studio(session)
    with session.elsewhere(studio.context):
        studio.upload((step, space), shown)
        return studio.draw(
            _view(yaw, pitch, zoom, (low + high) / 2, radius, size, space == "screen"), size, colours, shaded, wire
        )


def _studio(session: ReplaySession) -> _Studio:

    def make() -> _Studio:
        studio = _Studio()
        with session.elsewhere(studio.context):
            pass  # making it made it current
        return studio

    return session.slots.get(_STUDIO, make)


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
