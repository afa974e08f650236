"""Takes the snapshot of a context: its state, its objects and their contents, by ordinary GL queries.

Runs against anything that executes GL calls. Every batch sets up what it needs and puts back what it
touched, so that a batch which has been handed over never leaves a trace, whatever happens to us.
"""

from __future__ import annotations

import itertools
import struct
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal, TypeVar

from wendascope.errors import TargetError
from wendascope.frame.formats import Components, attachment_of, pixel_size, transfer_format, uniform_type
from wendascope.frame.journal import Journal
from wendascope.frame.objects import (
    AttachmentRecord,
    AttributeRecord,
    BlobStore,
    BufferRecord,
    ContextInfo,
    DefaultFramebuffer,
    FramebufferRecord,
    ImageRecord,
    LooseShaderRecord,
    Objects,
    ProgramRecord,
    RenderbufferRecord,
    SamplerRecord,
    TextureRecord,
    UniformRecord,
    VertexArrayRecord,
)
from wendascope.frame.packed import Batch, Executor, Out
from wendascope.frame.state_table import (
    BUFFER_TARGETS,
    INDEXED_BUFFER_TARGETS,
    PATTERNS,
    PIXEL_STORE,
    TEXTURE_TARGETS,
    capability_since,
)
from wendascope.registry import GL, tables

State = dict[str, dict[tuple[int, int], tuple[int, ...]]]
_T = TypeVar("_T")
_LIMITS = ["MAX_COMBINED_TEXTURE_IMAGE_UNITS", "MAX_VERTEX_ATTRIBS", "MAX_COLOR_ATTACHMENTS", "MAX_DRAW_BUFFERS", "MAX_TEXTURE_SIZE", "MAX_UNIFORM_BLOCK_SIZE", "MAX_UNIFORM_BUFFER_BINDINGS", "MAX_ARRAY_TEXTURE_LAYERS"]
_CUBE_FACES = tuple(range(GL.TEXTURE_CUBE_MAP_POSITIVE_X, GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6))
TEXTURE_PARAMETERS = (
    # name, values, kind, first version
    ("TEXTURE_MIN_FILTER", 1, "i", 11), ("TEXTURE_MAG_FILTER", 1, "i", 11), ("TEXTURE_WRAP_S", 1, "i", 11),
    ("TEXTURE_WRAP_T", 1, "i", 11), ("TEXTURE_WRAP_R", 1, "i", 12), ("TEXTURE_MIN_LOD", 1, "f", 12),
    ("TEXTURE_MAX_LOD", 1, "f", 12), ("TEXTURE_LOD_BIAS", 1, "f", 14), ("TEXTURE_COMPARE_MODE", 1, "i", 14),
    ("TEXTURE_COMPARE_FUNC", 1, "i", 14), ("TEXTURE_BORDER_COLOR", 4, "f", 11),
)  # fmt: skip
TEXTURE_ONLY_PARAMETERS = (
    ("TEXTURE_BASE_LEVEL", 1, "i", 12), ("TEXTURE_MAX_LEVEL", 1, "i", 12), ("TEXTURE_SWIZZLE_R", 1, "i", 33),
    ("TEXTURE_SWIZZLE_G", 1, "i", 33), ("TEXTURE_SWIZZLE_B", 1, "i", 33), ("TEXTURE_SWIZZLE_A", 1, "i", 33),
    ("DEPTH_STENCIL_TEXTURE_MODE", 1, "i", 43),
)  # fmt: skip
_EXTENSION_PARAMETERS = (
    ("TEXTURE_MAX_ANISOTROPY", 1, "f", "GL_EXT_texture_filter_anisotropic"),
    ("TEXTURE_SRGB_DECODE_EXT", 1, "i", "GL_EXT_texture_sRGB_decode"),
)
_MULTISAMPLE = (GL.TEXTURE_2D_MULTISAMPLE, GL.TEXTURE_2D_MULTISAMPLE_ARRAY)
_GETTERS = {"i": ("glGetIntegerv", 4), "f": ("glGetFloatv", 4), "d": ("glGetDoublev", 8), "b": ("glGetBooleanv", 1)}
_INDEXED_GETTERS = {"i": ("glGetIntegeri_v", 4), "f": ("glGetFloati_v", 4), "d": ("glGetDoublei_v", 8), "b": ("glGetBooleani_v", 1)}
_CONTENT_BATCH = 64 << 20
"""Contents are read in batches of about this many bytes, so that the shared memory stays small."""


@dataclass
class Snapshot:
    """What the snapshot found."""

    context: ContextInfo
    default_framebuffer: DefaultFramebuffer
    state: State
    objects: Objects
    blobs: BlobStore
    caveats: list[str] = field(default_factory=list)


def _raw(kind: str, data: bytes) -> tuple[int, ...]:
    """Raw slot values of a queried vector: floats keep their bits, ints are sign-extended."""
    if kind == "b":
        return tuple(int(b != 0) for b in data)
    width = 8 if kind == "d" else 4
    signed = kind == "i"
    return tuple(int.from_bytes(data[k : k + width], "little", signed=signed) for k in range(0, len(data), width))


def texture_parameters(context: ContextInfo) -> Iterator[tuple[str, int, str]]:
    """(name, values, kind) of every texture parameter that this context has."""
    for name, count, kind, since in (*TEXTURE_PARAMETERS, *TEXTURE_ONLY_PARAMETERS):
        if context.number >= since:
            yield name, count, kind
    yield from _extension_parameters(context)


def sampler_parameters(context: ContextInfo) -> Iterator[tuple[str, int, str]]:
    for name, count, kind, _ in TEXTURE_PARAMETERS:
        yield name, count, kind
    yield from _extension_parameters(context)


def _extension_parameters(context: ContextInfo) -> Iterator[tuple[str, int, str]]:
    for name, count, kind, extension in _EXTENSION_PARAMETERS:
        if extension in context.extensions:
            yield name, count, kind


class SnapshotTaker:
    """One snapshot of one context.

    `names` maps object classes (as in the registry) to the names alive; `journal` knows the programs.
    """

    def __init__(self, executor: Executor, names: dict[str, list[int]], journal: Journal, size: tuple[int, int]) -> None:
        self._executor = executor
        self._names = names
        self._journal = journal
        self._size = size
        self._blobs = BlobStore()
        self._caveats: list[str] = []
        self._context = ContextInfo()
        self._state: State = {}

    def take(self) -> Snapshot:
        """Raises TargetError or ReplayError when the executor goes away."""
        self._context = read_context(self._executor)
        if self._context.profile == "es" or self._context.number < 30:
            raise TargetError(f"the program draws with {self._context.version}; Wendascope captures OpenGL 3.0 and later so far, and no OpenGL ES")
        self._state = self._read_state()
        objects = Objects(
            textures=self._textures(),
            buffers=self._buffers(),
            samplers=self._samplers(),
            renderbuffers=self._renderbuffers(),
            framebuffers=self._framebuffers(),
            vertex_arrays=self._vertex_arrays(),
            programs=self._programs(),
            shaders=self._shaders(),
            queries=self._alive("query", "glIsQuery"),
        )
        self._renderbuffer_contents(objects)
        self._resolved_contents(objects)
        default = self._default_framebuffer()
        for class_name, what in (("program pipeline", "program pipelines"), ("transform feedback", "transform feedback objects")):
            if self._names.get(class_name):
                self._caveats.append(f"{what} are not rebuilt")
        return Snapshot(self._context, default, self._state, objects, self._blobs, self._caveats)

    # ---- batches that leave no trace ----------------------------------------------------------------

    def _batch(self) -> Batch:
        batch = Batch()
        call = batch.call
        if self._value("capability", GL.DEBUG_OUTPUT):
            call("glDisable", GL.DEBUG_OUTPUT)  # the program's own callback should not hear of our calls
        call("glBindBuffer", GL.PIXEL_PACK_BUFFER, 0)
        for name in PIXEL_STORE:
            if name.startswith("PACK"):
                call("glPixelStorei", getattr(GL, name), 1 if name == "PACK_ALIGNMENT" else 0)
        call("glActiveTexture", GL.TEXTURE0)
        return batch

    def _run(self, batch: Batch) -> None:
        """Append what puts everything back, and run."""
        call = batch.call
        for name in PIXEL_STORE:
            if name.startswith("PACK"):
                call("glPixelStorei", getattr(GL, name), self._value("pixel_store", getattr(GL, name)))
        for target in ("PIXEL_PACK_BUFFER", "COPY_READ_BUFFER"):
            call("glBindBuffer", getattr(GL, target), self._value("buffer", getattr(GL, target)))
        for target, (_, since) in TEXTURE_TARGETS.items():
            if self._context.number >= since:
                call("glBindTexture", getattr(GL, target), self._value("texture", GL.TEXTURE0, getattr(GL, target)))
        call("glActiveTexture", self._value("active_texture"))
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, self._value("framebuffer", GL.DRAW_FRAMEBUFFER))
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, self._value("framebuffer", GL.READ_FRAMEBUFFER))
        call("glBindRenderbuffer", GL.RENDERBUFFER, self._value("renderbuffer"))
        call("glBindVertexArray", self._value("vertex_array"))
        if self._value("capability", GL.DEBUG_OUTPUT):
            call("glEnable", GL.DEBUG_OUTPUT)
        self._executor.run(batch)

    def _value(self, pattern: str, i: int = 0, j: int = 0) -> int:
        return self._state.get(pattern, {}).get((i, j), (0,))[0]

    # ---- context state ----------------------------------------------------------------------------------

    def _read_state(self) -> State:
        """Read every pattern of the state table, then the bindings, which have shapes of their own."""
        number = self._context.number
        batch = Batch()
        state: State = {}
        pending: list[tuple[str, tuple[int, int], list[tuple[str, Out]]]] = []
        for pattern in PATTERNS.values():
            if not pattern.read or number < pattern.since:
                continue
            for i, j in pattern.domain:
                pending.append((pattern.name, (i, j), list(_query_pattern(batch, pattern.name, i, number))))
        capabilities = []
        for cap, _ in PATTERNS["capability"].domain:
            if number >= capability_since(cap):
                capabilities.append(((cap, 0), batch.call("glIsEnabled", cap)))
        indexed_caps = [
            (name, (i, 0), batch.call("glIsEnabledi", cap, i))
            for name, cap, since in (("blend_enabled", GL.BLEND, 30), ("scissor_test_enabled", GL.SCISSOR_TEST, 41))
            for i, _ in PATTERNS[name].domain
            if number >= since
        ]
        whole_scissor = batch.call("glIsEnabled", GL.SCISSOR_TEST)
        bindings = list(self._query_bindings(batch))
        debug = batch.call("glIsEnabled", GL.DEBUG_OUTPUT) if number >= 43 else None
        self._executor.run(batch)

        for name, key, outs in pending:
            raw = tuple(itertools.chain.from_iterable(_raw(kind, out.data) for kind, out in outs))
            state.setdefault(name, {})[key] = raw[: len(PATTERNS[name].kinds)]
        state["capability"] = {key: (result.value & 1,) for key, result in capabilities}
        for name, key, result in indexed_caps:
            state.setdefault(name, {})[key] = (result.value & 1,)
        if number < 41:
            state["scissor_test_enabled"] = {(0, 0): (whole_scissor.value & 1,)}
        for name, key, bound in bindings:
            value = tuple(int.from_bytes(out.data[: out.size], "little", signed=True) for out in bound)
            if any(value):
                state.setdefault(name, {})[key] = value
        if debug is not None and debug.value & 1:
            state["capability"][GL.DEBUG_OUTPUT, 0] = (1,)
        self._state = state
        self._read_texture_bindings()
        return state

    def _query_bindings(self, batch: Batch) -> Iterator[tuple[str, tuple[int, int], list[Out]]]:
        number = self._context.number

        def integer(name: int) -> Out:
            out = batch.out(4)
            batch.call("glGetIntegerv", name, out)
            return out

        for target, (binding, since) in BUFFER_TARGETS.items():
            if number >= since:
                yield "buffer", (getattr(GL, target), 0), [integer(getattr(GL, binding))]
        yield "framebuffer", (GL.DRAW_FRAMEBUFFER, 0), [integer(GL.DRAW_FRAMEBUFFER_BINDING)]
        yield "framebuffer", (GL.READ_FRAMEBUFFER, 0), [integer(GL.READ_FRAMEBUFFER_BINDING)]
        for target, (binding, start, size, limit, since) in INDEXED_BUFFER_TARGETS.items():
            if number < since:
                continue
            for index in range(min(self._context.limits.get(limit, 4), 96)):
                outs = []
                for name in (binding, start, size):
                    wide = name != binding
                    out = batch.out(8 if wide else 4)
                    batch.call("glGetInteger64i_v" if wide else "glGetIntegeri_v", getattr(GL, name), index, out)
                    outs.append(out)
                yield "indexed_buffer", (getattr(GL, target), index), outs
        if number >= 42:
            names = ("NAME", "LEVEL", "LAYERED", "LAYER", "ACCESS", "FORMAT")
            for unit in range(min(self._context.limits.get("MAX_IMAGE_UNITS", 8), 32)):
                outs = [batch.out(4) for _ in names]
                for name, out in zip(names, outs, strict=True):
                    batch.call("glGetIntegeri_v", getattr(GL, f"IMAGE_BINDING_{name}"), unit, out)
                yield "image", (unit, 0), outs

    def _read_texture_bindings(self) -> None:
        number = self._context.number
        units = self._context.limits["MAX_COMBINED_TEXTURE_IMAGE_UNITS"]
        batch = Batch()
        found: list[tuple[str, tuple[int, int], Out]] = []
        for unit in range(min(units, 192)):
            batch.call("glActiveTexture", GL.TEXTURE0 + unit)
            for target, (binding, since) in TEXTURE_TARGETS.items():
                if number >= since:
                    out = batch.out(4)
                    batch.call("glGetIntegerv", getattr(GL, binding), out)
                    found.append(("texture", (GL.TEXTURE0 + unit, getattr(GL, target)), out))
            if number >= 33:
                out = batch.out(4)
                batch.call("glGetIntegerv", GL.SAMPLER_BINDING, out)
                found.append(("sampler", (unit, 0), out))
        batch.call("glActiveTexture", self._value("active_texture"))
        self._executor.run(batch)
        for name, key, out in found:
            value = out.ints()[0]
            if value:
                self._state.setdefault(name, {})[key] = (value,)

    # ---- objects ----------------------------------------------------------------------------------------

    def _alive(self, class_name: str, test: str) -> list[int]:
        """Names that are really objects: a name that was only reserved is none yet."""
        names = sorted(self._names.get(class_name, []))
        batch = Batch()
        results = [batch.call(test, name) for name in names]
        self._executor.run(batch)
        return [name for name, result in zip(names, results, strict=True) if result.value & 1]

    def _labels(self, identifier: int, names: Sequence[int]) -> list[str]:
        if not names or (self._context.number < 43 and "GL_KHR_debug" not in self._context.extensions):
            return [""] * len(names)
        batch = Batch()
        outs = [batch.out(256) for _ in names]
        for name, out in zip(names, outs, strict=True):
            batch.call("glGetObjectLabel", identifier, name, 256, None, out)
        self._executor.run(batch)
        return [out.text() for out in outs]

    def _buffers(self) -> list[BufferRecord]:
        names = self._alive("buffer", "glIsBuffer")
        queries = ["BUFFER_SIZE", "BUFFER_USAGE", "BUFFER_MAPPED"]
        if self._context.number >= 44 or "GL_ARB_buffer_storage" in self._context.extensions:
            queries += ["BUFFER_IMMUTABLE_STORAGE", "BUFFER_STORAGE_FLAGS"]
        batch = self._batch()
        rows = []
        for name in names:
            batch.call("glBindBuffer", GL.COPY_READ_BUFFER, name)
            outs = [batch.out(4) for _ in queries]
            for query, out in zip(queries, outs, strict=True):
                batch.call("glGetBufferParameteriv", GL.COPY_READ_BUFFER, getattr(GL, query), out)
            rows.append(outs)
        self._run(batch)
        records = []
        for name, outs, label in zip(names, rows, self._labels(GL.BUFFER, names), strict=True):
            size, usage, mapped, *storage = (out.ints()[0] for out in outs)
            immutable, flags = storage or (0, 0)
            if mapped:
                self._caveats.append(f"buffer {name} is mapped across the frame boundary: writes through the mapping are not recorded")
            records.append(BufferRecord(name, size, usage, bool(immutable), flags, label=label))

        def read(record: BufferRecord, batch: Batch) -> Out:
            out = batch.out(record.size)
            batch.call("glBindBuffer", GL.COPY_READ_BUFFER, record.name)
            batch.call("glGetBufferSubData", GL.COPY_READ_BUFFER, 0, record.size, out)
            return out

        filled = [r for r in records if r.size > 0]
        for record, out in self._contents(filled, lambda r: r.size, read):
            record.contents = self._blobs.put(out.data)
        return records

    def _contents(
        self, items: Iterable[_T], size: Callable[[_T], int], read: Callable[[_T, Batch], Out]
    ) -> Iterator[tuple[_T, Out]]:
        """Read contents in batches of bounded size."""
        batch, total = self._batch(), 0
        pending: list[tuple[_T, Out]] = []
        for item in items:
            if pending and total + size(item) > _CONTENT_BATCH:
                self._run(batch)
                yield from pending
                batch, pending, total = self._batch(), [], 0
            pending.append((item, read(item, batch)))
            total += size(item)
        if pending:
            self._run(batch)
            yield from pending

    def _texture_targets(self, names: list[int]) -> dict[int, int]:
        """Target of each texture, by binding it where it may belong: the wrong target is an error that changes nothing."""
        targets: dict[int, int] = {}
        order = ["TEXTURE_2D", *(t for t in TEXTURE_TARGETS if t != "TEXTURE_2D")]
        for target in order:
            missing = [name for name in names if name not in targets]
            if not missing or self._context.number < TEXTURE_TARGETS[target][1]:
                continue
            batch = self._batch()
            batch.call("glIsEnabled", GL.BLEND, check=True)  # clear any error of the calls before
            results = [(name, batch.call("glBindTexture", getattr(GL, target), name, check=True)) for name in missing]
            self._run(batch)
            for name, result in results:
                if result.error == 0:
                    targets[name] = getattr(GL, target)
        return targets

    def _textures(self) -> list[TextureRecord]:
        names = self._alive("texture", "glIsTexture")
        targets = self._texture_targets(names)
        records = {name: TextureRecord(name, target) for name, target in targets.items()}
        self._texture_parameters(list(records.values()))
        self._texture_images(list(records.values()))
        for record, label in zip(records.values(), self._labels(GL.TEXTURE, list(records)), strict=True):
            record.label = label
        return list(records.values())

    def _texture_parameters(self, records: list[TextureRecord]) -> None:
        wanted = list(texture_parameters(self._context))
        batch = self._batch()
        rows: list[tuple[TextureRecord, str, str, Out]] = []
        immutable = []
        for record in records:
            if record.target == GL.TEXTURE_BUFFER:
                continue
            batch.call("glBindTexture", record.target, record.name)
            for name, count, kind in wanted:
                if record.target in _MULTISAMPLE and not name.startswith(("TEXTURE_SWIZZLE", "TEXTURE_BASE", "TEXTURE_MAX_LEVEL", "DEPTH")):
                    continue
                out = batch.out(4 * count)
                batch.call(f"glGetTexParameter{kind}v", record.target, getattr(GL, name), out)
                rows.append((record, name, kind, out))
            if self._context.number >= 42:
                flag, levels = batch.out(4), batch.out(4)
                batch.call("glGetTexParameteriv", record.target, GL.TEXTURE_IMMUTABLE_FORMAT, flag)
                batch.call("glGetTexParameteriv", record.target, GL.TEXTURE_IMMUTABLE_LEVELS, levels)
                immutable.append((record, flag, levels))
        self._run(batch)
        for record, name, kind, out in rows:
            record.parameters[name] = [float(v) for v in (out.floats() if kind == "f" else out.ints())]
        for record, flag, levels in immutable:
            if flag.ints()[0]:
                record.immutable_levels = max(1, levels.ints()[0])

    def _texture_images(self, records: list[TextureRecord]) -> None:
        batch = self._batch()
        base = []
        for record in records:
            batch.call("glBindTexture", record.target, record.name)
            if record.target == GL.TEXTURE_BUFFER:
                continue
            for image_target in _image_targets(record.target):
                base.append((record, image_target, _query_image(batch, image_target, 0)))
        buffers = [(r, self._query_buffer_texture(batch, r)) for r in records if r.target == GL.TEXTURE_BUFFER]
        self._run(batch)
        for record, outs in buffers:
            record.buffer, internal_format, offset, size = (out.ints()[0] for out in outs)
            record.buffer_range = (offset, size)
            record.images = [ImageRecord(GL.TEXTURE_BUFFER, 0, 0, 1, 1, internal_format)]
        batch = self._batch()
        rest = []
        for record, image_target, query in base:
            width, height, depth = query.size
            record.images += query.records(image_target, 0)
            extent = max(width, height if record.target != GL.TEXTURE_1D_ARRAY else 1, depth if record.target == GL.TEXTURE_3D else 1)
            levels = extent.bit_length() if record.target not in (*_MULTISAMPLE, GL.TEXTURE_RECTANGLE) else 1
            batch.call("glBindTexture", record.target, record.name)
            # a texture may lack level 0; look a little further then
            for level in range(1, levels if width else 4):
                rest.append((record, image_target, level, _query_image(batch, image_target, level)))
        self._run(batch)
        for record, image_target, level, query in rest:
            record.images += query.records(image_target, level)
        readable = []
        for record in records:
            for image in record.images:
                if record.target in _MULTISAMPLE:
                    image.samples = max(image.samples, 1)
                elif image.compressed or image.format:
                    readable.append((record, image))
                elif record.target != GL.TEXTURE_BUFFER:
                    self._caveats.append(f"texture {record.name}: contents of format {tables().enum_name(image.internal_format, 'InternalFormat')} are not kept")

        def read(item: tuple[TextureRecord, ImageRecord], batch: Batch) -> Out:
            record, image = item
            batch.call("glBindTexture", record.target, record.name)
            out = batch.out(_image_bytes(image))
            if image.compressed:
                batch.call("glGetCompressedTexImage", image.target, image.level, out)
            else:
                batch.call("glGetTexImage", image.target, image.level, image.format, image.type, out)
            return out

        for (_, image), out in self._contents(readable, lambda item: _image_bytes(item[1]), read):
            image.contents = self._blobs.put(out.data)
            if image.compressed:
                image.format = image.type = 0

    def _query_buffer_texture(self, batch: Batch, record: TextureRecord) -> list[Out]:
        batch.call("glBindTexture", record.target, record.name)
        outs = [batch.out(4) for _ in range(4)]
        names = ["TEXTURE_BUFFER_DATA_STORE_BINDING", "TEXTURE_INTERNAL_FORMAT"]
        if self._context.number >= 43:
            names += ["TEXTURE_BUFFER_OFFSET", "TEXTURE_BUFFER_SIZE"]
        for name, out in zip(names, outs, strict=False):
            batch.call("glGetTexLevelParameteriv", record.target, 0, getattr(GL, name), out)
        return outs

    def _samplers(self) -> list[SamplerRecord]:
        if self._context.number < 33:
            return []
        names = self._alive("sampler", "glIsSampler")
        wanted = list(sampler_parameters(self._context))
        batch = Batch()
        rows = []
        for name in names:
            for parameter, count, kind in wanted:
                out = batch.out(4 * count)
                batch.call(f"glGetSamplerParameter{kind}v", name, getattr(GL, parameter), out)
                rows.append((name, parameter, kind, out))
        self._executor.run(batch)
        records = {name: SamplerRecord(name) for name in names}
        for name, parameter, kind, out in rows:
            records[name].parameters[parameter] = [float(v) for v in (out.floats() if kind == "f" else out.ints())]
        return list(records.values())

    def _renderbuffers(self) -> list[RenderbufferRecord]:
        names = self._alive("renderbuffer", "glIsRenderbuffer")
        queries = ("WIDTH", "HEIGHT", "INTERNAL_FORMAT", "SAMPLES", "RED_SIZE", "GREEN_SIZE", "BLUE_SIZE", "ALPHA_SIZE", "DEPTH_SIZE", "STENCIL_SIZE")
        batch = self._batch()
        rows = []
        for name in names:
            batch.call("glBindRenderbuffer", GL.RENDERBUFFER, name)
            outs = [batch.out(4) for _ in queries]
            for query, out in zip(queries, outs, strict=True):
                batch.call("glGetRenderbufferParameteriv", GL.RENDERBUFFER, getattr(GL, f"RENDERBUFFER_{query}"), out)
            rows.append(outs)
        self._run(batch)
        records = []
        for name, outs in zip(names, rows, strict=True):
            width, height, internal_format, samples, red, green, blue, alpha, depth, stencil = (out.ints()[0] for out in outs)
            record = RenderbufferRecord(name, width, height, internal_format, samples)
            component_type, depth_type = _renderbuffer_types(internal_format)
            chosen = transfer_format(internal_format, Components(red, green, blue, alpha, depth, stencil, component_type, depth_type))
            if chosen:
                record.format, record.type = chosen
            records.append(record)
        return records

    def _renderbuffer_contents(self, objects: Objects) -> None:
        """Read renderbuffers through a framebuffer that has them attached; others nobody can see."""
        by_name = {r.name: r for r in objects.renderbuffers}
        readable = []
        for framebuffer in objects.framebuffers:
            for attachment in framebuffer.attachments:
                record = by_name.get(attachment.name) if attachment.kind == "renderbuffer" else None
                if record and record.format and record.samples == 0 and record.width:
                    readable.append((framebuffer, attachment, record))
                    del by_name[record.name]

        def read(item: tuple[FramebufferRecord, AttachmentRecord, RenderbufferRecord], batch: Batch) -> Out:
            framebuffer, attachment, record = item
            out = batch.out(record.width * record.height * pixel_size(record.format, record.type))
            batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, framebuffer.name)
            color = attachment.point not in (GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT)
            if color:
                batch.call("glReadBuffer", attachment.point)
            batch.call("glReadPixels", 0, 0, record.width, record.height, record.format, record.type, out)
            if color:
                batch.call("glReadBuffer", framebuffer.read_buffer)
            return out

        size = lambda item: item[2].width * item[2].height * 8  # noqa: E731
        for (_, _, record), out in self._contents(readable, size, read):
            record.contents = self._blobs.put(out.data)

    def _resolved_contents(self, objects: Objects) -> None:
        """Multisampled textures and renderbuffers, resolved by a blit into a texture that lives as long as the batch."""
        wanted: list[tuple[str, int, ImageRecord | RenderbufferRecord]] = []
        for texture in objects.textures:
            if texture.target == GL.TEXTURE_2D_MULTISAMPLE and texture.images and texture.images[0].format:
                wanted.append(("texture", texture.name, texture.images[0]))
        wanted += [("renderbuffer", r.name, r) for r in objects.renderbuffers if r.samples and r.format and r.width]
        for kind, name, record in wanted:
            reserve = Batch()
            temporary, framebuffers = reserve.out(4), reserve.out(8)
            reserve.call("glGenTextures", 1, temporary)
            reserve.call("glGenFramebuffers", 2, framebuffers)
            self._executor.run(reserve)
            out = self._resolve(kind, name, record, temporary.uints()[0], framebuffers.uints())
            record.contents = self._blobs.put(out.data)

    def _resolve(self, kind: str, name: int, record: ImageRecord | RenderbufferRecord, temporary: int, framebuffers: list[int]) -> Out:
        batch = self._batch()
        call, size = batch.call, (record.width, record.height)
        read, draw = framebuffers
        point, mask = attachment_of(record.format)
        call("glBindBuffer", GL.PIXEL_UNPACK_BUFFER, 0)
        call("glBindTexture", GL.TEXTURE_2D, temporary)
        call("glTexImage2D", GL.TEXTURE_2D, 0, record.internal_format, *size, 0, record.format, record.type, None)
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, read)
        if kind == "texture":
            call("glFramebufferTexture2D", GL.READ_FRAMEBUFFER, point, GL.TEXTURE_2D_MULTISAMPLE, name, 0)
        else:
            call("glFramebufferRenderbuffer", GL.READ_FRAMEBUFFER, point, GL.RENDERBUFFER, name)
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, draw)
        call("glFramebufferTexture2D", GL.DRAW_FRAMEBUFFER, point, GL.TEXTURE_2D, temporary, 0)
        for cap in (GL.SCISSOR_TEST, GL.FRAMEBUFFER_SRGB):
            call("glDisable", cap)
        call("glBlitFramebuffer", 0, 0, *size, 0, 0, *size, mask, GL.NEAREST)
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, draw)
        out = batch.out(record.width * record.height * pixel_size(record.format, record.type))
        call("glReadPixels", 0, 0, *size, record.format, record.type, out)
        call("glDeleteFramebuffers", 2, struct.pack("<II", read, draw))
        call("glDeleteTextures", 1, struct.pack("<I", temporary))
        call("glBindBuffer", GL.PIXEL_UNPACK_BUFFER, self._value("buffer", GL.PIXEL_UNPACK_BUFFER))
        if self._value("capability", GL.FRAMEBUFFER_SRGB):
            call("glEnable", GL.FRAMEBUFFER_SRGB)
        for (viewport, _), (on,) in self._state["scissor_test_enabled"].items():
            if on and self._context.number >= 41:
                call("glEnablei", GL.SCISSOR_TEST, viewport)
            elif on:
                call("glEnable", GL.SCISSOR_TEST)
        self._run(batch)
        return out

    def _framebuffers(self) -> list[FramebufferRecord]:
        names = self._alive("framebuffer", "glIsFramebuffer")
        colors = min(self._context.limits.get("MAX_COLOR_ATTACHMENTS", 8), 32)
        buffers = min(self._context.limits.get("MAX_DRAW_BUFFERS", 8), 32)
        points = [*(GL.COLOR_ATTACHMENT0 + i for i in range(colors)), GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT]
        batch = self._batch()
        rows = []

        def query(point: int, name: str) -> Out:
            out = batch.out(4)
            batch.call("glGetFramebufferAttachmentParameteriv", GL.DRAW_FRAMEBUFFER, point, getattr(GL, name), out)
            return out

        for name in names:
            batch.call("glBindFramebuffer", GL.FRAMEBUFFER, name)
            kinds = [query(point, "FRAMEBUFFER_ATTACHMENT_OBJECT_TYPE") for point in points]
            draws = [batch.out(4) for _ in range(buffers)]
            for i, out in enumerate(draws):
                batch.call("glGetIntegerv", GL.DRAW_BUFFER0 + i, out)
            read = batch.out(4)
            batch.call("glGetIntegerv", GL.READ_BUFFER, read)
            rows.append((kinds, draws, read))
        self._run(batch)
        records = []
        batch = self._batch()
        details = []
        for name, (kinds, draws, read) in zip(names, rows, strict=True):
            draw_buffers = [out.ints()[0] for out in draws]
            while len(draw_buffers) > 1 and draw_buffers[-1] == GL.NONE:
                draw_buffers.pop()
            record = FramebufferRecord(name, [], draw_buffers, read.ints()[0])
            records.append(record)
            batch.call("glBindFramebuffer", GL.FRAMEBUFFER, name)
            for point, kind in zip(points, kinds, strict=True):
                if kind.ints()[0] not in (GL.TEXTURE, GL.RENDERBUFFER):
                    continue
                texture = kind.ints()[0] == GL.TEXTURE
                outs = [query(point, "FRAMEBUFFER_ATTACHMENT_OBJECT_NAME")]
                if texture:
                    outs += [
                        query(point, f"FRAMEBUFFER_ATTACHMENT_{q}")
                        for q in ("TEXTURE_LEVEL", "TEXTURE_CUBE_MAP_FACE", "TEXTURE_LAYER", "LAYERED")
                    ]
                details.append((record, point, _attached_kind(texture), outs))
        self._run(batch)
        for record, point, object_kind, outs in details:
            name, level, face, layer, layered = [out.ints()[0] for out in outs] + [0] * (5 - len(outs))
            record.attachments.append(AttachmentRecord(point, object_kind, name, level, face, layer, bool(layered)))
        for record, label in zip(records, self._labels(GL.FRAMEBUFFER, names), strict=True):
            record.label = label
        return records

    def _vertex_arrays(self) -> list[VertexArrayRecord]:
        names = self._alive("vertex array", "glIsVertexArray")
        if self._context.profile != "core":
            names.insert(0, 0)
        count = min(self._context.limits["MAX_VERTEX_ATTRIBS"], 32)
        separate = self._context.number >= 43
        batch = self._batch()
        first = []

        def query(index: int, name: str) -> Out:
            out = batch.out(16)
            batch.call("glGetVertexAttribiv", index, getattr(GL, name), out)
            return out

        for name in names:
            batch.call("glBindVertexArray", name)
            elements = batch.out(4)
            batch.call("glGetIntegerv", GL.ELEMENT_ARRAY_BUFFER_BINDING, elements)
            used = [(query(i, "VERTEX_ATTRIB_ARRAY_ENABLED"), query(i, "VERTEX_ATTRIB_ARRAY_BUFFER_BINDING")) for i in range(count)]
            first.append((name, elements, used))
        self._run(batch)
        batch = self._batch()
        details = []
        records = []
        wanted = ["SIZE", "TYPE", "NORMALIZED", "INTEGER", "STRIDE", "DIVISOR"] + (["LONG"] if self._context.number >= 41 else [])
        for name, elements, used in first:
            record = VertexArrayRecord(name, [], elements.ints()[0])
            records.append(record)
            batch.call("glBindVertexArray", name)
            for index, (enabled, buffer) in enumerate(used):
                if not enabled.ints()[0] and not buffer.ints()[0]:
                    continue
                outs = [query(index, f"VERTEX_ATTRIB_ARRAY_{q}") for q in wanted]
                pointer = batch.out(8)
                batch.call("glGetVertexAttribPointerv", index, GL.VERTEX_ATTRIB_ARRAY_POINTER, pointer)
                binding = [query(index, "VERTEX_ATTRIB_BINDING"), query(index, "VERTEX_ATTRIB_RELATIVE_OFFSET")] if separate else []
                details.append((record, index, enabled, buffer, outs, pointer, binding))
        self._run(batch)
        bindings = self._vertex_bindings([d[0].name for d in details], [d[6][0].ints()[0] if d[6] else -1 for d in details])
        for (record, index, enabled, buffer, outs, pointer, binding), found in zip(details, bindings, strict=True):
            size, type_, normalized, integer, stride, divisor, *long = (out.ints()[0] for out in outs)
            attribute = AttributeRecord(
                index, bool(enabled.ints()[0]), size, type_, bool(normalized), bool(integer), bool(long and long[0]),
                stride, pointer.int64(), divisor, buffer.ints()[0],
            )  # fmt: skip
            if found is not None:
                offset, attribute.stride = found
                attribute.binding, attribute.relative_offset = (out.ints()[0] for out in binding)
                attribute.offset = offset + attribute.relative_offset
            record.attributes.append(attribute)
        for record, label in zip(records, self._labels(GL.VERTEX_ARRAY, names), strict=True):
            record.label = label
        return records

    def _vertex_bindings(self, names: list[int], bindings: list[int]) -> list[tuple[int, int] | None]:
        """(offset, stride) of each attribute's binding point; None where the context has no such thing."""
        batch = self._batch()
        rows: list[tuple[Out, Out] | None] = []
        for name, binding in zip(names, bindings, strict=True):
            if binding < 0:
                rows.append(None)
                continue
            batch.call("glBindVertexArray", name)
            offset, stride = batch.out(8), batch.out(4)
            batch.call("glGetInteger64i_v", GL.VERTEX_BINDING_OFFSET, binding, offset)
            batch.call("glGetIntegeri_v", GL.VERTEX_BINDING_STRIDE, binding, stride)
            rows.append((offset, stride))
        self._run(batch)
        return [None if row is None else (row[0].int64(), row[1].ints()[0]) for row in rows]

    # ---- programs ------------------------------------------------------------------------------------------

    def _shaders(self) -> list[LooseShaderRecord]:
        records = (self._journal.loose_shader(name) for name in self._alive("shader", "glIsShader"))
        return [record for record in records if record is not None]

    def _programs(self) -> list[ProgramRecord]:
        records = []
        for name in self._alive("program", "glIsProgram"):
            record = self._journal.program(name)
            if record is None:
                caveat = self._journal.program_caveat(name)
                if caveat:
                    self._caveats.append(f"program {name}: {caveat}")
                continue
            records.append(record)
        self._active_names(records)
        self._uniform_values(records)
        for record, label in zip(records, self._labels(GL.PROGRAM, [r.name for r in records]), strict=True):
            record.label = label
        return records

    def _active_names(self, records: list[ProgramRecord]) -> None:
        counts = {}
        batch = Batch()
        queries = ("LINK_STATUS", "ACTIVE_ATTRIBUTES", "ACTIVE_UNIFORMS", "ACTIVE_UNIFORM_BLOCKS")
        for record in records:
            counts[record.name] = [batch.out(4) for _ in queries]
            for query, out in zip(queries, counts[record.name], strict=True):
                batch.call("glGetProgramiv", record.name, getattr(GL, query), out)
        self._executor.run(batch)
        batch = Batch()
        rows: list[tuple[ProgramRecord, str, int, list[Out]]] = []
        for record in records:
            linked, attributes, uniforms, blocks = (out.ints()[0] for out in counts[record.name])
            record.linked = bool(linked)
            for command, count in (("glGetActiveAttrib", attributes), ("glGetActiveUniform", uniforms)):
                for index in range(count):
                    size, type_, name = batch.out(4), batch.out(4), batch.out(256)
                    batch.call(command, record.name, index, 256, None, size, type_, name)
                    rows.append((record, command, index, [size, type_, name]))
            for index in range(blocks):
                name, binding = batch.out(256), batch.out(4)
                batch.call("glGetActiveUniformBlockName", record.name, index, 256, None, name)
                batch.call("glGetActiveUniformBlockiv", record.name, index, GL.UNIFORM_BLOCK_BINDING, binding)
                rows.append((record, "block", index, [name, binding]))
        self._executor.run(batch)
        self._locations(rows)
        if self._context.number >= 43:
            self._storage_blocks(records)

    def _locations(self, rows: list[tuple[ProgramRecord, str, int, list[Out]]]) -> None:
        batch = Batch()
        asked = []
        for record, command, index, outs in rows:
            if command == "block":
                record.blocks[outs[0].text()] = (index, outs[1].ints()[0])
                continue
            name = outs[2].text()
            if command == "glGetActiveAttrib":
                if not name.startswith("gl_"):
                    asked.append((record, name, 1, 0, [batch.call("glGetAttribLocation", record.name, name.encode() + b"\0")]))
                continue
            size, type_ = outs[0].ints()[0], outs[1].ints()[0]
            base = name.removesuffix("[0]")
            elements = [name] + [f"{base}[{k}]" for k in range(1, size)]
            results = [batch.call("glGetUniformLocation", record.name, e.encode() + b"\0") for e in elements]
            asked.append((record, name, size, type_, results))
        self._executor.run(batch)
        for record, name, size, type_, results in asked:
            locations = [int.from_bytes((r.value & 0xFFFFFFFF).to_bytes(4, "little"), "little", signed=True) for r in results]
            if type_ == 0:
                record.attributes[name] = locations[0]
            elif locations[0] >= 0:
                record.uniforms.append(UniformRecord(name, type_, size, locations))

    def _uniform_values(self, records: list[ProgramRecord]) -> None:
        batch = Batch()
        rows: list[tuple[UniformRecord, int, list[Out]]] = []
        getters = {"f": "glGetUniformfv", "i": "glGetUniformiv", "u": "glGetUniformuiv", "d": "glGetUniformdv"}
        for record in records:
            for uniform in record.uniforms:
                letter, count = uniform_type(uniform.type)
                width = count * (8 if letter[0] == "d" else 4)
                outs = []
                for location in uniform.locations:
                    out = batch.out(width)
                    batch.call(getters[letter[0]], record.name, location, out)
                    outs.append(out)
                rows.append((uniform, width, outs))
        self._executor.run(batch)
        for uniform, width, outs in rows:
            uniform.values = b"".join(out.data[:width] for out in outs)

    def _storage_blocks(self, records: list[ProgramRecord]) -> None:
        batch = Batch()
        counts = []
        for record in records:
            out = batch.out(4)
            batch.call("glGetProgramInterfaceiv", record.name, GL.SHADER_STORAGE_BLOCK, GL.ACTIVE_RESOURCES, out)
            counts.append(out)
        self._executor.run(batch)
        batch = Batch()
        rows = []
        for record, count in zip(records, counts, strict=True):
            for index in range(count.ints()[0]):
                name, binding = batch.out(256), batch.out(4)
                batch.call("glGetProgramResourceName", record.name, GL.SHADER_STORAGE_BLOCK, index, 256, None, name)
                properties = GL.BUFFER_BINDING.to_bytes(4, "little")
                batch.call("glGetProgramResourceiv", record.name, GL.SHADER_STORAGE_BLOCK, index, 1, properties, 1, None, binding)
                rows.append((record, index, name, binding))
        self._executor.run(batch)
        for record, index, name, binding in rows:
            record.storage_blocks[name.text()] = (index, binding.ints()[0])

    # ---- the default framebuffer ------------------------------------------------------------------------------

    def _default_framebuffer(self) -> DefaultFramebuffer:
        width, height = self._size
        framebuffer = describe_default_framebuffer(self._executor, self._context, self._state)
        framebuffer.width, framebuffer.height = width, height
        if not width or not height:
            return framebuffer
        if framebuffer.samples:
            return framebuffer
        batch = self._batch()
        batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, 0)
        before = batch.out(4)
        batch.call("glGetIntegerv", GL.READ_BUFFER, before)
        self._run(batch)
        batch = self._batch()
        batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, 0)
        batch.call("glReadBuffer", GL.BACK if framebuffer.double else GL.FRONT)
        color = batch.out(width * height * 4)
        batch.call("glReadPixels", 0, 0, width, height, GL.RGBA, GL.UNSIGNED_BYTE, color)
        depth = stencil = None
        if framebuffer.depth:
            depth = batch.out(width * height * 4)
            batch.call("glReadPixels", 0, 0, width, height, GL.DEPTH_COMPONENT, GL.UNSIGNED_INT, depth)
        if framebuffer.stencil:
            stencil = batch.out(width * height)
            batch.call("glReadPixels", 0, 0, width, height, GL.STENCIL_INDEX, GL.UNSIGNED_BYTE, stencil)
        batch.call("glReadBuffer", before.ints()[0])
        self._run(batch)
        framebuffer.color = self._blobs.put(color.data)
        if depth:
            framebuffer.depth_contents = self._blobs.put(depth.data)
        if stencil:
            framebuffer.stencil_contents = self._blobs.put(stencil.data)
        return framebuffer


# ---- pieces that need no snapshot -----------------------------------------------------------------------------


def read_context(executor: Executor) -> ContextInfo:
    """Version, profile, limits and extensions of the current context."""
    batch = Batch()
    integers = {name: batch.out(4) for name in ("MAJOR_VERSION", "MINOR_VERSION", "CONTEXT_FLAGS", "NUM_EXTENSIONS", "CONTEXT_PROFILE_MASK")}
    for name, out in integers.items():
        batch.call("glGetIntegerv", getattr(GL, name), out)
    limits = {}
    for name in (*_LIMITS, *(row[3] for row in INDEXED_BUFFER_TARGETS.values()), "MAX_IMAGE_UNITS"):
        limits[name] = batch.out(4)
        batch.call("glGetIntegerv", getattr(GL, name), limits[name])
    executor.run(batch)
    number = {name: out.ints()[0] for name, out in integers.items()}
    strings = read_strings(executor, number["NUM_EXTENSIONS"])
    version = strings["VERSION"]
    es = version.startswith("OpenGL ES")
    profile = "es" if es else "compatibility" if number["CONTEXT_PROFILE_MASK"] & 2 else "core"
    if not es and (number["MAJOR_VERSION"], number["MINOR_VERSION"]) < (3, 2):
        profile = "compatibility" if "GL_ARB_compatibility" in strings["EXTENSIONS"].split() else "core"
    return ContextInfo(
        api="OpenGL ES" if es else "OpenGL",
        major=number["MAJOR_VERSION"],
        minor=number["MINOR_VERSION"],
        profile=profile,
        flags=number["CONTEXT_FLAGS"],
        version=version,
        shading_language=strings["SHADING_LANGUAGE_VERSION"],
        renderer=strings["RENDERER"],
        vendor=strings["VENDOR"],
        extensions=strings["EXTENSIONS"].split(),
        limits={name: out.ints()[0] for name, out in limits.items()},
    )


def read_strings(executor: Executor, extensions: int) -> dict[str, str]:
    """glGetString values; strings live in the driver, so the executor copies them out."""
    batch = Batch()
    names = ("VERSION", "SHADING_LANGUAGE_VERSION", "RENDERER", "VENDOR")
    outs = {name: batch.out(256) for name in names}
    for name, out in outs.items():
        batch.call("wendaString", getattr(GL, name), -1, 256, out)
    found = [batch.out(96) for _ in range(extensions)]
    for index, out in enumerate(found):
        batch.call("wendaString", GL.EXTENSIONS, index, 96, out)
    executor.run(batch)
    return {**{name: out.text() for name, out in outs.items()}, "EXTENSIONS": " ".join(out.text() for out in found)}


def describe_default_framebuffer(executor: Executor, context: ContextInfo, state: State) -> DefaultFramebuffer:
    """Component sizes of the default framebuffer, without its contents."""
    batch = Batch()
    batch.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, 0)
    double, samples = batch.out(4), batch.out(4)
    batch.call("glGetIntegerv", GL.DOUBLEBUFFER, double)
    batch.call("glGetIntegerv", GL.SAMPLES, samples)
    sizes = {}
    # the names of the default framebuffer's buffers; both are asked, since a single-buffered one has no back
    for side in ("BACK_LEFT", "FRONT_LEFT"):
        for point, name in ((side, "RED"), (side, "GREEN"), (side, "BLUE"), (side, "ALPHA"), ("DEPTH", "DEPTH"), ("STENCIL", "STENCIL")):
            kind, out, encoding = batch.out(4), batch.out(4), batch.out(4)
            arguments = (GL.DRAW_FRAMEBUFFER, getattr(GL, point))
            batch.call("glGetFramebufferAttachmentParameteriv", *arguments, GL.FRAMEBUFFER_ATTACHMENT_OBJECT_TYPE, kind)
            batch.call("glGetFramebufferAttachmentParameteriv", *arguments, getattr(GL, f"FRAMEBUFFER_ATTACHMENT_{name}_SIZE"), out)
            batch.call("glGetFramebufferAttachmentParameteriv", *arguments, GL.FRAMEBUFFER_ATTACHMENT_COLOR_ENCODING, encoding)
            sizes[side, name] = (kind, out, encoding)
    batch.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, state.get("framebuffer", {}).get((GL.DRAW_FRAMEBUFFER, 0), (0,))[0])
    executor.run(batch)
    side = "BACK_LEFT" if double.ints()[0] else "FRONT_LEFT"
    bits = {
        name: (out.ints()[0] if kind.ints()[0] != GL.NONE else 0)
        for (where, name), (kind, out, _) in sizes.items()
        if where == side
    }
    return DefaultFramebuffer(
        red=bits["RED"], green=bits["GREEN"], blue=bits["BLUE"], alpha=bits["ALPHA"],
        depth=bits["DEPTH"], stencil=bits["STENCIL"], samples=samples.ints()[0],
        srgb=sizes[side, "RED"][2].ints()[0] == GL.SRGB, double=bool(double.ints()[0]),
    )  # fmt: skip


def _query_pattern(batch: Batch, name: str, i: int, number: int) -> Iterator[tuple[str, Out]]:
    """Ask for the values of one key of a pattern of the state table."""
    pattern = PATTERNS[name]
    # per draw buffer and per viewport state is asked by index where the context has that
    since = {"blend_func": 40, "blend_equation": 40, "color_mask": 30, "depth_range": 41, "viewport": 41, "scissor": 41, "sample_mask": 32}
    indexed = name in since and number >= since[name]
    if name in since and not indexed and i > 0:
        for kind in pattern.kinds:
            yield kind, Out(0, 0)
        return
    reads = pattern.read
    per_value = len(reads) == len(pattern.kinds)
    for position, read in enumerate(reads):
        if pattern.name in ("stencil_func", "stencil_op", "stencil_mask") and i == GL.BACK:
            read = read.replace("STENCIL_", "STENCIL_BACK_", 1)
        pname = i if read == "" else getattr(GL, read)
        kind = pattern.kinds[position] if per_value else pattern.kinds[0]
        kind = "i" if kind in "eo" else kind
        count = 1 if per_value else len(pattern.kinds)
        command, width = (_INDEXED_GETTERS if indexed else _GETTERS)[kind]
        out = batch.out(width * count)
        # glGet may write more than asked where a vector has more values than the pattern keeps
        batch.out(64)
        arguments = (pname, i, out) if indexed else (pname, out)
        batch.call(command, *arguments)
        yield kind, out


@dataclass
class _ImageQuery:
    outs: dict[str, Out]

    @property
    def size(self) -> tuple[int, int, int]:
        return tuple(self.outs[n].ints()[0] for n in ("WIDTH", "HEIGHT", "DEPTH"))  # type: ignore[return-value]

    def records(self, image_target: int, level: int) -> list[ImageRecord]:
        value = {name: out.ints()[0] for name, out in self.outs.items()}
        if not value["WIDTH"]:
            return []
        image = ImageRecord(
            image_target, level, value["WIDTH"], value["HEIGHT"], value["DEPTH"], value["INTERNAL_FORMAT"],
            compressed=bool(value["COMPRESSED"]), samples=value["SAMPLES"],
            fixed_locations=bool(value["FIXED_SAMPLE_LOCATIONS"]),
        )  # fmt: skip
        if image.compressed:
            image.format, image.type = value["COMPRESSED_IMAGE_SIZE"], 0
            return [image]
        types = [value[f"{c}_TYPE"] for c in ("RED", "GREEN", "BLUE", "ALPHA") if value[f"{c}_TYPE"] != GL.NONE]
        components = Components(
            value["RED_SIZE"], value["GREEN_SIZE"], value["BLUE_SIZE"], value["ALPHA_SIZE"],
            value["DEPTH_SIZE"], value["STENCIL_SIZE"], types[0] if types else 0, value["DEPTH_TYPE"],
        )  # fmt: skip
        chosen = transfer_format(image.internal_format, components)
        if chosen:
            image.format, image.type = chosen
        return [image]


_IMAGE_QUERIES = ["WIDTH", "HEIGHT", "DEPTH", "INTERNAL_FORMAT", "COMPRESSED", "COMPRESSED_IMAGE_SIZE", "SAMPLES", "FIXED_SAMPLE_LOCATIONS", "RED_SIZE", "GREEN_SIZE", "BLUE_SIZE", "ALPHA_SIZE", "DEPTH_SIZE", "STENCIL_SIZE", "RED_TYPE", "GREEN_TYPE", "BLUE_TYPE", "ALPHA_TYPE", "DEPTH_TYPE"]


def _query_image(batch: Batch, image_target: int, level: int) -> _ImageQuery:
    outs = {}
    for name in _IMAGE_QUERIES:
        out = outs[name] = batch.out(4)
        batch.call("glGetTexLevelParameteriv", image_target, level, getattr(GL, f"TEXTURE_{name}"), out)
    return _ImageQuery(outs)


def _attached_kind(texture: bool) -> Literal["texture", "renderbuffer"]:
    return "texture" if texture else "renderbuffer"


def _image_targets(target: int) -> tuple[int, ...]:
    return _CUBE_FACES if target == GL.TEXTURE_CUBE_MAP else (target,)


def _image_bytes(image: ImageRecord) -> int:
    if image.compressed:
        return image.format  # the size that GL gave, until the contents are read
    return image.width * image.height * image.depth * pixel_size(image.format, image.type)


def _renderbuffer_types(internal_format: int) -> tuple[int, int]:
    """Component type of a renderbuffer, which GL does not tell: from the name of its format."""
    name = tables().enum_name(internal_format, "InternalFormat").removeprefix("GL_")
    if name.endswith("UI") or "UI_" in name:
        color = GL.UNSIGNED_INT
    elif name.endswith("I"):
        color = GL.INT
    elif name.endswith("F") or "F_" in name:
        color = GL.FLOAT
    elif name.endswith("SNORM"):
        color = GL.SIGNED_NORMALIZED
    else:
        color = GL.UNSIGNED_NORMALIZED
    return color, GL.FLOAT if "32F" in name else GL.UNSIGNED_NORMALIZED
