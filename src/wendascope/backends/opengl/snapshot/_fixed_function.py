"""State of the fixed-function pipeline, as the calls that set it: matrices, lights, texture environments and the rest.

The calls are kept in the frame as its `setup` stream, in captured names, and run before every replay.
"""

from __future__ import annotations

import struct
from collections.abc import Callable

from wendascope.backends.opengl.calls.packed import CallBatch, CallStream, Out, Raw, merge_streams, stream_of
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.registry import GL

_TEXTURE_CAPS = ("TEXTURE_1D", "TEXTURE_2D", "TEXTURE_3D", "TEXTURE_CUBE_MAP", "TEXTURE_RECTANGLE")
_COORDINATES = ("S", "T", "R", "Q")
_LIGHT = (
    ("AMBIENT", 4),
    ("DIFFUSE", 4),
    ("SPECULAR", 4),
    ("POSITION", 4),
    ("SPOT_DIRECTION", 3),
    ("SPOT_EXPONENT", 1),
    ("SPOT_CUTOFF", 1),
    ("CONSTANT_ATTENUATION", 1),
    ("LINEAR_ATTENUATION", 1),
    ("QUADRATIC_ATTENUATION", 1),
)
_MATERIAL = (("AMBIENT", 4), ("DIFFUSE", 4), ("SPECULAR", 4), ("EMISSION", 4), ("SHININESS", 1), ("COLOR_INDEXES", 3))
_ENVIRONMENT = (
    "TEXTURE_ENV_MODE",
    "COMBINE_RGB",
    "COMBINE_ALPHA",
    "SRC0_RGB",
    "SRC1_RGB",
    "SRC2_RGB",
    "SRC0_ALPHA",
    "SRC1_ALPHA",
    "SRC2_ALPHA",
    "OPERAND0_RGB",
    "OPERAND1_RGB",
    "OPERAND2_RGB",
    "OPERAND0_ALPHA",
    "OPERAND1_ALPHA",
    "OPERAND2_ALPHA",
    "RGB_SCALE",
    "ALPHA_SCALE",
)
_FOG = (
    ("FOG_MODE", 1),
    ("FOG_COLOR", 4),
    ("FOG_DENSITY", 1),
    ("FOG_START", 1),
    ("FOG_END", 1),
    ("FOG_INDEX", 1),
    ("FOG_COORD_SRC", 1),
)
_TRANSFER = tuple(
    "MAP_COLOR MAP_STENCIL INDEX_SHIFT INDEX_OFFSET RED_SCALE GREEN_SCALE BLUE_SCALE ALPHA_SCALE DEPTH_SCALE RED_BIAS"
    " GREEN_BIAS BLUE_BIAS ALPHA_BIAS DEPTH_BIAS".split()
)
_PIXEL_MAPS = tuple(
    f"PIXEL_MAP_{m}" for m in "I_TO_I S_TO_S I_TO_R I_TO_G I_TO_B I_TO_A R_TO_R G_TO_G B_TO_B A_TO_A".split()
)
_MAPS = (
    ("VERTEX_3", 3),
    ("VERTEX_4", 4),
    ("INDEX", 1),
    ("COLOR_4", 4),
    ("NORMAL", 3),
    ("TEXTURE_COORD_1", 1),
    ("TEXTURE_COORD_2", 2),
    ("TEXTURE_COORD_3", 3),
    ("TEXTURE_COORD_4", 4),
)
_ARRAYS = (
    # array, command, whether it takes a size and a type
    ("VERTEX", "glVertexPointer", True, True),
    ("NORMAL", "glNormalPointer", False, True),
    ("COLOR", "glColorPointer", True, True),
    ("SECONDARY_COLOR", "glSecondaryColorPointer", True, True),
    ("FOG_COORD", "glFogCoordPointer", False, True),
    ("INDEX", "glIndexPointer", False, True),
    ("EDGE_FLAG", "glEdgeFlagPointer", False, False),
)
_IDENTITY = struct.pack("<16f", *(1.0 if i % 5 == 0 else 0.0 for i in range(16)))


class _Questions:
    """Queries now, and what to do with each answer later, in order."""

    def __init__(self, reader: Reader) -> None:
        self.reader = reader
        self.batch = reader.batch()
        self.later: list[Callable[[], object]] = []

    def floats(self, command: str, *arguments: int, count: int) -> Out:
        out = self.batch.out(4 * count)
        self.batch.out(64)  # glGet may write more than asked
        self.batch.call(command, *arguments, out)
        return out

    def get(self, name: str, count: int = 1) -> Out:
        """One value of glGet as floats; zeros where the context has no such thing."""
        out = self.batch.out(4 * count)
        self.batch.out(64)
        if self.reader.offers.value(getattr(GL, name)):
            self.batch.call("glGetFloatv", getattr(GL, name), out)
        return out

    def run(self) -> None:
        self.reader.run(self.batch)
        self.batch = self.reader.batch()


def read_fixed_function(reader: Reader) -> CallStream:
    """Calls that set the fixed-function state as it is; none for contexts without one."""
    if reader.context.profile != "compatibility":
        return merge_streams([])
    counts = _Questions(reader)
    names = (
        "MAX_TEXTURE_COORDS",
        "MAX_TEXTURE_UNITS",
        "MATRIX_MODE",
        "MODELVIEW_STACK_DEPTH",
        "PROJECTION_STACK_DEPTH",
        "ATTRIB_STACK_DEPTH",
        "CLIENT_ATTRIB_STACK_DEPTH",
        "CLIENT_ACTIVE_TEXTURE",
    )
    asked = {name: counts.get(name) for name in names}
    counts.run()
    value = {name: int(out.floats()[0]) for name, out in asked.items()}
    if value["ATTRIB_STACK_DEPTH"] or value["CLIENT_ATTRIB_STACK_DEPTH"]:
        reader.caveats.append("attributes pushed before the frame and popped in it are not kept")
    units, coordinates = min(value["MAX_TEXTURE_UNITS"], 8), min(max(value["MAX_TEXTURE_COORDS"], 1), 8)
    setup = CallBatch()
    # lights, planes and generated coordinates are kept in eye space
    setup.call("glMatrixMode", GL.MODELVIEW)
    setup.call("glLoadMatrixf", _IDENTITY)
    for part in (_lights, _raster, _pixels, _evaluators):
        _ask(reader, part, setup)
    _texture_units(reader, setup, max(units, coordinates), units, coordinates)
    _assembly_programs(reader, setup)
    _current_values(reader, setup, coordinates)
    _matrices(reader, setup, coordinates)
    setup.call("glMatrixMode", value["MATRIX_MODE"])
    setup.call("glClientActiveTexture", value["CLIENT_ACTIVE_TEXTURE"])
    setup.call("glActiveTexture", reader.value("active_texture"))
    return stream_of(setup)


def read_fixed_arrays(reader: Reader) -> CallStream:
    """Calls that set the arrays of fixed attributes of every vertex array; none for contexts without such."""
    if reader.context.profile != "compatibility":
        return merge_streams([])
    setup = CallBatch()
    _ask(reader, _vertex_arrays, setup)
    return stream_of(setup)


def _ask(reader: Reader, part: Callable[[_Questions, CallBatch], None], setup: CallBatch) -> None:
    questions = _Questions(reader)
    part(questions, setup)
    questions.run()
    for step in questions.later:
        step()


def _vector(out: Out) -> bytes:
    return out.data


def _lights(q: _Questions, setup: CallBatch) -> None:
    def later(command: str, arguments: tuple[int, ...], out: Out) -> None:
        q.later.append(lambda: setup.call(command, *arguments, _vector(out)))

    for i in range(8):
        for name, count in _LIGHT:
            later(
                "glLightfv",
                (GL.LIGHT0 + i, getattr(GL, name)),
                q.floats("glGetLightfv", GL.LIGHT0 + i, getattr(GL, name), count=count),
            )
    q.later.append(lambda: setup.call("glDisable", GL.COLOR_MATERIAL))
    for face in (GL.FRONT, GL.BACK):
        for name, count in _MATERIAL:
            later(
                "glMaterialfv",
                (face, getattr(GL, name)),
                q.floats("glGetMaterialfv", face, getattr(GL, name), count=count),
            )
    for name, count in (
        ("LIGHT_MODEL_AMBIENT", 4),
        ("LIGHT_MODEL_LOCAL_VIEWER", 1),
        ("LIGHT_MODEL_TWO_SIDE", 1),
        ("LIGHT_MODEL_COLOR_CONTROL", 1),
    ):
        later("glLightModelfv", (getattr(GL, name),), q.get(name, count))
    for i in range(6):
        plane = q.batch.out(32)
        q.batch.call("glGetClipPlane", GL.CLIP_DISTANCE0 + i, plane)
        later("glClipPlane", (GL.CLIP_DISTANCE0 + i,), plane)
    which, mode = q.get("COLOR_MATERIAL_FACE"), q.get("COLOR_MATERIAL_PARAMETER")

    def color_material() -> None:
        setup.call("glColorMaterial", int(which.floats()[0]), int(mode.floats()[0]))
        if q.reader.value("capability", GL.COLOR_MATERIAL):
            setup.call("glEnable", GL.COLOR_MATERIAL)

    q.later.append(color_material)


def _raster(q: _Questions, setup: CallBatch) -> None:
    polygon = q.get("POLYGON_MODE", 2)
    stipple = q.batch.out(128)
    q.batch.call("glGetPolygonStipple", stipple)
    fog = [(name, q.get(name, count)) for name, count in _FOG]
    accumulate, index, base = q.get("ACCUM_CLEAR_VALUE", 4), q.get("INDEX_CLEAR_VALUE"), q.get("LIST_BASE")

    def later() -> None:
        call = setup.call
        front, back = (int(v) for v in polygon.floats())
        call("glPolygonMode", GL.FRONT, front)
        call("glPolygonMode", GL.BACK, back)
        call("glPixelStorei", GL.UNPACK_ALIGNMENT, 1)
        call("glPolygonStipple", stipple.data)
        call("glPixelStorei", GL.UNPACK_ALIGNMENT, q.reader.value("pixel_store", GL.UNPACK_ALIGNMENT))
        for name, out in fog:
            call("glFogfv", getattr(GL, name), out.data)
        call("glClearAccum", *accumulate.floats())
        call("glClearIndex", index.floats()[0])
        call("glListBase", int(base.floats()[0]))

    q.later.append(later)


def _pixels(q: _Questions, setup: CallBatch) -> None:
    transfers = [(name, q.get(name)) for name in _TRANSFER]
    zoom = q.get("ZOOM_X"), q.get("ZOOM_Y")
    # a map may have been made larger than the one value it starts with
    maps = []
    for name in _PIXEL_MAPS:
        size = q.get(f"{name}_SIZE")
        values = q.batch.out(4 * 4096)
        q.batch.call("glGetPixelMapfv", getattr(GL, name), values)
        maps.append((name, size, values))

    def later() -> None:
        for name, out in transfers:
            setup.call("glPixelTransferf", getattr(GL, name), out.floats()[0])
        setup.call("glPixelZoom", zoom[0].floats()[0], zoom[1].floats()[0])
        for name, size, values in maps:
            count = int(size.floats()[0])
            if 1 <= count <= 4096:
                setup.call("glPixelMapfv", getattr(GL, name), count, values.data[: 4 * count])

    q.later.append(later)


def _evaluators(q: _Questions, setup: CallBatch) -> None:
    rows = []
    for dimensions in (1, 2):
        for name, values in _MAPS:
            target = getattr(GL, f"MAP{dimensions}_{name}")
            order = q.batch.out(4 * dimensions)
            q.batch.call("glGetMapiv", target, GL.ORDER, order)
            domain = q.floats("glGetMapfv", target, GL.DOMAIN, count=2 * dimensions)
            points = q.batch.out(4 * values * 40**dimensions)
            q.batch.call("glGetMapfv", target, GL.COEFF, points)
            rows.append((dimensions, target, values, order, domain, points))
    enabled = [
        (getattr(GL, f"MAP{d}_{name}"), q.batch.call("glIsEnabled", getattr(GL, f"MAP{d}_{name}")))
        for d in (1, 2)
        for name, _ in _MAPS
    ]
    grid = [
        q.get(name, count)
        for name, count in (
            ("MAP1_GRID_DOMAIN", 2),
            ("MAP1_GRID_SEGMENTS", 1),
            ("MAP2_GRID_DOMAIN", 4),
            ("MAP2_GRID_SEGMENTS", 2),
        )
    ]

    def later() -> None:
        for dimensions, target, values, order, domain, points in rows:
            orders, d = order.ints(), domain.floats()
            if max(orders) <= 1 or max(orders) > 40:
                continue  # as it starts
            if dimensions == 1:
                setup.call("glMap1f", target, d[0], d[1], values, orders[0], points.data[: 4 * values * orders[0]])
            else:
                size = 4 * values * orders[0] * orders[1]
                setup.call(
                    "glMap2f",
                    target,
                    d[0],
                    d[1],
                    values * orders[1],
                    orders[0],
                    d[2],
                    d[3],
                    values,
                    orders[1],
                    points.data[:size],
                )
        for cap, on in enabled:
            if on.value & 1:
                setup.call("glEnable", cap)
        g1, n1, g2, n2 = (out.floats() for out in grid)
        setup.call("glMapGrid1f", int(n1[0]), *g1)
        setup.call("glMapGrid2f", int(n2[0]), g2[0], g2[1], int(n2[1]), g2[2], g2[3])

    q.later.append(later)


def _vertex_arrays(q: _Questions, setup: CallBatch) -> None:
    """The arrays of fixed attributes, where they lie in buffers; those in client memory come with each draw."""
    reader = q.reader
    names = [0, *reader.alive("vertex array", "glIsVertexArray")]
    coordinates = min(max(reader.context.limits.get("MAX_TEXTURE_COORDS", 8), 1), 8)
    first = _Questions(reader)
    asked = first.get("CLIENT_ACTIVE_TEXTURE")
    first.run()
    active = int(asked.floats()[0]) or GL.TEXTURE0
    rows = []
    for name in names:
        q.batch.call("glBindVertexArray", name)
        for array, command, sized, typed in _ARRAYS:
            rows.append((name, array, 0, command, sized, typed, _array(q, array, sized, typed)))
        for unit in range(coordinates):
            q.batch.call("glClientActiveTexture", GL.TEXTURE0 + unit)
            rows.append(
                (name, "TEXTURE_COORD", unit, "glTexCoordPointer", True, True, _array(q, "TEXTURE_COORD", True, True))
            )
    q.batch.call("glClientActiveTexture", active)

    def later() -> None:
        call = setup.call
        if len(names) > 1 or reader.offers("glBindVertexArray"):
            call("glBindVertexArray", 0)
        bound = 0
        for name, array, unit, command, sized, typed, (enabled, buffer, size, type_, stride, pointer) in rows:
            if name != bound:
                call("glBindVertexArray", name)
                bound = name
            if array == "TEXTURE_COORD":
                call("glClientActiveTexture", GL.TEXTURE0 + unit)
            call("glEnableClientState" if enabled.value & 1 else "glDisableClientState", getattr(GL, f"{array}_ARRAY"))
            if not buffer.ints()[0]:
                continue
            call("glBindBuffer", GL.ARRAY_BUFFER, buffer.ints()[0])
            arguments = ([size.ints()[0]] if sized else []) + ([type_.ints()[0]] if typed else [])
            call(command, *arguments, stride.ints()[0], Raw(pointer.int64()))
        call("glClientActiveTexture", active)
        if reader.offers("glBindVertexArray"):
            call("glBindVertexArray", reader.value("vertex_array"))
        call("glBindBuffer", GL.ARRAY_BUFFER, reader.value("buffer", GL.ARRAY_BUFFER))

    q.later.append(later)


def _array(q: _Questions, array: str, sized: bool, typed: bool) -> tuple:  # type: ignore[type-arg]
    def integer(name: str) -> Out:
        out = q.batch.out(4)
        q.batch.call("glGetIntegerv", getattr(GL, name), out)
        return out

    enabled = q.batch.call("glIsEnabled", getattr(GL, f"{array}_ARRAY"))
    buffer, stride = integer(f"{array}_ARRAY_BUFFER_BINDING"), integer(f"{array}_ARRAY_STRIDE")
    size = integer(f"{array}_ARRAY_SIZE") if sized else None
    type_ = integer(f"{array}_ARRAY_TYPE") if typed else None
    pointer = q.batch.out(8)
    q.batch.call("glGetPointerv", getattr(GL, f"{array}_ARRAY_POINTER"), pointer)
    return enabled, buffer, size, type_, stride, pointer


def _texture_units(reader: Reader, setup: CallBatch, all_units: int, units: int, coordinates: int) -> None:
    q = _Questions(reader)
    rows = []
    for unit in range(all_units):
        q.batch.call("glActiveTexture", GL.TEXTURE0 + unit)
        caps = []
        if unit < units:
            names = [c for c in _TEXTURE_CAPS if reader.offers.value(getattr(GL, c))]
            caps = [(getattr(GL, c), q.batch.call("glIsEnabled", getattr(GL, c))) for c in names]
        environment = [
            (GL.TEXTURE_ENV, getattr(GL, n), q.floats("glGetTexEnvfv", GL.TEXTURE_ENV, getattr(GL, n), count=1))
            for n in _ENVIRONMENT
        ]
        environment.append(
            (
                GL.TEXTURE_ENV,
                GL.TEXTURE_ENV_COLOR,
                q.floats("glGetTexEnvfv", GL.TEXTURE_ENV, GL.TEXTURE_ENV_COLOR, count=4),
            )
        )
        environment.append(
            (
                GL.TEXTURE_FILTER_CONTROL,
                GL.TEXTURE_LOD_BIAS,
                q.floats("glGetTexEnvfv", GL.TEXTURE_FILTER_CONTROL, GL.TEXTURE_LOD_BIAS, count=1),
            )
        )
        if reader.offers.value(GL.POINT_SPRITE):
            environment.append(
                (
                    GL.POINT_SPRITE,
                    GL.COORD_REPLACE,
                    q.floats("glGetTexEnvfv", GL.POINT_SPRITE, GL.COORD_REPLACE, count=1),
                )
            )
        generation = []
        if unit < coordinates:
            for c in _COORDINATES:
                coordinate = getattr(GL, c)
                caps.append(
                    (getattr(GL, f"TEXTURE_GEN_{c}"), q.batch.call("glIsEnabled", getattr(GL, f"TEXTURE_GEN_{c}")))
                )
                for name, count in ((GL.TEXTURE_GEN_MODE, 1), (GL.OBJECT_PLANE, 4), (GL.EYE_PLANE, 4)):
                    generation.append((coordinate, name, q.floats("glGetTexGenfv", coordinate, name, count=count)))
        rows.append((unit, caps, environment, generation))
    q.run()
    for unit, caps, environment, generation in rows:
        setup.call("glActiveTexture", GL.TEXTURE0 + unit)
        for cap, on in caps:
            setup.call("glEnable" if on.value & 1 else "glDisable", cap)
        if unit < units:
            for target, name, out in environment:
                setup.call("glTexEnvfv", target, name, out.data)
        for coordinate, name, out in generation:
            setup.call("glTexGenfv", coordinate, name, out.data)


def _current_values(reader: Reader, setup: CallBatch, coordinates: int) -> None:
    q = _Questions(reader)
    names = (
        ("CURRENT_RASTER_POSITION", 4),
        ("CURRENT_RASTER_COLOR", 4),
        ("CURRENT_COLOR", 4),
        ("CURRENT_SECONDARY_COLOR", 4),
        ("CURRENT_NORMAL", 3),
        ("CURRENT_FOG_COORD", 1),
        ("EDGE_FLAG", 1),
        ("CURRENT_INDEX", 1),
        ("CURRENT_RASTER_POSITION_VALID", 1),
    )
    out = {name: q.get(name, count) for name, count in names}
    textures = []
    for unit in range(coordinates):
        q.batch.call("glActiveTexture", GL.TEXTURE0 + unit)
        textures.append((q.get("CURRENT_RASTER_TEXTURE_COORDS", 4), q.get("CURRENT_TEXTURE_COORDS", 4)))
    q.run()
    call = setup.call
    if out["CURRENT_RASTER_POSITION_VALID"].floats()[0]:
        # a raster position takes the current values with it
        call("glColor4fv", out["CURRENT_RASTER_COLOR"].data)
        for unit, (raster, _) in enumerate(textures):
            call("glMultiTexCoord4fv", GL.TEXTURE0 + unit, raster.data)
        call("glWindowPos3fv", out["CURRENT_RASTER_POSITION"].data[:12])
    call("glColor4fv", out["CURRENT_COLOR"].data)
    call("glSecondaryColor3fv", out["CURRENT_SECONDARY_COLOR"].data[:12])
    call("glNormal3fv", out["CURRENT_NORMAL"].data)
    call("glFogCoordfv", out["CURRENT_FOG_COORD"].data)
    call("glEdgeFlag", int(out["EDGE_FLAG"].floats()[0]))
    call("glIndexfv", out["CURRENT_INDEX"].data)
    for unit, (_, current) in enumerate(textures):
        call("glMultiTexCoord4fv", GL.TEXTURE0 + unit, current.data)


def _matrices(reader: Reader, setup: CallBatch, coordinates: int) -> None:
    """Whole stacks: each is taken down and built up again in one batch, by what it gave on the way."""
    stacks = [
        (GL.MODELVIEW, "MODELVIEW", 0),
        (GL.PROJECTION, "PROJECTION", 0),
        *((GL.TEXTURE, "TEXTURE", u) for u in range(coordinates)),
    ]
    q = _Questions(reader)
    depths = []
    for _, name, unit in stacks:
        q.batch.call("glActiveTexture", GL.TEXTURE0 + unit)
        depths.append(q.get(f"{name}_STACK_DEPTH"))
    mode = q.get("MATRIX_MODE")
    q.run()
    found = []
    for (kind, name, unit), depth_out in zip(stacks, depths, strict=True):
        depth = max(1, min(int(depth_out.floats()[0]), 128))
        call = q.batch.call
        call("glActiveTexture", GL.TEXTURE0 + unit)
        call("glMatrixMode", kind)
        levels = []
        for level in range(depth):
            levels.append(q.get(f"{name}_MATRIX", 16))
            if level + 1 < depth:
                call("glPopMatrix")
        for matrix in reversed(levels[:-1]):
            call("glPushMatrix")
            call("glLoadMatrixf", matrix)
        found.append((kind, unit, levels))
    q.batch.call("glMatrixMode", int(mode.floats()[0]))
    q.run()
    for kind, unit, levels in found:
        if kind == GL.TEXTURE:
            setup.call("glActiveTexture", GL.TEXTURE0 + unit)
        setup.call("glMatrixMode", kind)
        for _ in range(32):  # whatever the run before left pushed; too many are harmless
            setup.call("glPopMatrix")
        for level, matrix in enumerate(reversed(levels)):
            if level:
                setup.call("glPushMatrix")
            setup.call("glLoadMatrixf", matrix.data)


def _assembly_programs(reader: Reader, setup: CallBatch) -> None:
    """Programs of ARB_vertex_program and ARB_fragment_program: text, parameters, and which are bound."""
    for kind in ("VERTEX_PROGRAM_ARB", "FRAGMENT_PROGRAM_ARB"):
        target = getattr(GL, kind)
        if not reader.offers.value(target) or not reader.offers("glProgramStringARB"):
            continue
        names = reader.alive("assembly program", "glIsProgramARB")
        q = _Questions(reader)
        binding, environment = q.batch.out(4), q.batch.out(4)
        q.batch.call("glGetProgramivARB", target, GL.PROGRAM_BINDING_ARB, binding)
        q.batch.call("glGetProgramivARB", target, GL.MAX_PROGRAM_ENV_PARAMETERS_ARB, environment)
        q.run()
        bound, count = binding.ints()[0], min(environment.ints()[0], 256)
        values = []
        for index in range(count if names or bound else 0):
            values.append(q.floats("glGetProgramEnvParameterfvARB", target, index, count=4))
        q.run()
        for index, out in enumerate(values):
            setup.call("glProgramEnvParameter4fvARB", target, index, out.data)
        for name in names:
            _assembly_program(reader, setup, target, name, bound)
        setup.call("glBindProgramARB", target, bound)


def _assembly_program(reader: Reader, setup: CallBatch, target: int, name: int, bound: int) -> None:
    q = _Questions(reader)
    length, locals_ = q.batch.out(4), q.batch.out(4)
    mine = q.batch.call("glBindProgramARB", target, name, check=True)
    q.batch.call("glGetProgramivARB", target, GL.PROGRAM_LENGTH_ARB, length)
    q.batch.call("glGetProgramivARB", target, GL.MAX_PROGRAM_LOCAL_PARAMETERS_ARB, locals_)
    q.batch.call("glBindProgramARB", target, bound)
    q.run()
    if mine.error or length.ints()[0] <= 0:
        return  # a program of the other target
    text = q.batch.out(length.ints()[0] + 1)
    q.batch.call("glBindProgramARB", target, name)
    q.batch.call("glGetProgramStringARB", target, GL.PROGRAM_STRING_ARB, text)
    values = [
        q.floats("glGetProgramLocalParameterfvARB", target, i, count=4) for i in range(min(locals_.ints()[0], 256))
    ]
    q.batch.call("glBindProgramARB", target, bound)
    q.run()
    setup.call("glBindProgramARB", target, name)
    setup.call(
        "glProgramStringARB", target, GL.PROGRAM_FORMAT_ASCII_ARB, length.ints()[0], text.data[: length.ints()[0]]
    )
    for index, out in enumerate(values):
        if any(out.data):
            setup.call("glProgramLocalParameter4fvARB", target, index, out.data)
