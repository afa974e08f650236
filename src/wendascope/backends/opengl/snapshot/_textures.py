"""Textures and samplers: parameters, levels, contents."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from wendascope.backends.opengl.calls.packed import CallBatch, Out
from wendascope.backends.opengl.objects.formats import Components, named_types, pixel_size, transfer_format
from wendascope.backends.opengl.objects.records import DEFAULT_TEXTURES, ImageRecord, SamplerRecord, TextureRecord
from wendascope.backends.opengl.snapshot._es_images import read_es_images
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.backends.opengl.state.state_table import TEXTURE_TARGETS
from wendascope.registry import GL, tables

_CUBE_FACES = tuple(range(GL.TEXTURE_CUBE_MAP_POSITIVE_X, GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6))
TEXTURE_PARAMETERS = (
    # name, values, type
    ("TEXTURE_MIN_FILTER", 1, "i"), ("TEXTURE_MAG_FILTER", 1, "i"), ("TEXTURE_WRAP_S", 1, "i"),
    ("TEXTURE_WRAP_T", 1, "i"), ("TEXTURE_WRAP_R", 1, "i"), ("TEXTURE_MIN_LOD", 1, "f"),
    ("TEXTURE_MAX_LOD", 1, "f"), ("TEXTURE_LOD_BIAS", 1, "f"), ("TEXTURE_COMPARE_MODE", 1, "i"),
    ("TEXTURE_COMPARE_FUNC", 1, "i"), ("TEXTURE_BORDER_COLOR", 4, "f"), ("TEXTURE_MAX_ANISOTROPY", 1, "f"),
    ("TEXTURE_SRGB_DECODE_EXT", 1, "i"), ("GENERATE_MIPMAP", 1, "i"), ("TEXTURE_PRIORITY", 1, "f"),
)  # fmt: skip
_NOT_OF_SAMPLERS = ("GENERATE_MIPMAP", "TEXTURE_PRIORITY")
TEXTURE_ONLY_PARAMETERS = (
    ("TEXTURE_BASE_LEVEL", 1, "i"), ("TEXTURE_MAX_LEVEL", 1, "i"), ("TEXTURE_SWIZZLE_R", 1, "i"),
    ("TEXTURE_SWIZZLE_G", 1, "i"), ("TEXTURE_SWIZZLE_B", 1, "i"), ("TEXTURE_SWIZZLE_A", 1, "i"),
    ("DEPTH_STENCIL_TEXTURE_MODE", 1, "i"), ("DEPTH_TEXTURE_MODE", 1, "i"),
)  # fmt: skip
_DEFAULT_TARGETS = (GL.TEXTURE_1D, GL.TEXTURE_2D, GL.TEXTURE_3D, GL.TEXTURE_CUBE_MAP, GL.TEXTURE_RECTANGLE)
_MULTISAMPLE = (GL.TEXTURE_2D_MULTISAMPLE, GL.TEXTURE_2D_MULTISAMPLE_ARRAY)
_GREY = (GL.LUMINANCE, GL.ALPHA, GL.LUMINANCE_ALPHA)
"""Formats that OpenGL ES keeps as they were named."""
_OF_AN_IMAGE = (
    "WIDTH HEIGHT DEPTH INTERNAL_FORMAT COMPRESSED COMPRESSED_IMAGE_SIZE SAMPLES FIXED_SAMPLE_LOCATIONS".split()
)
_OF_A_FORMAT = (
    "RED_SIZE GREEN_SIZE BLUE_SIZE ALPHA_SIZE LUMINANCE_SIZE INTENSITY_SIZE DEPTH_SIZE STENCIL_SIZE LUMINANCE_TYPE"
    " INTENSITY_TYPE RED_TYPE ALPHA_TYPE DEPTH_TYPE"
).split()
"""The same for all images of one sized format."""
_OF_EACH_LEVEL = ("HEIGHT", "DEPTH", "INTERNAL_FORMAT", "COMPRESSED_IMAGE_SIZE")
"""Beside the width, by which levels are found."""
_UNSIZED = {1, 2, 3, 4, *range(0x1900, 0x190B), 0x8049, 0x8227, 0x8228, 0x84F9, 0x8C40, 0x8C42, 0x8C44, 0x8C46}
"""Formats of which the driver chooses the sizes, for each image anew."""


def read_textures(reader: Reader) -> list[TextureRecord]:
    names = reader.alive("texture", "glIsTexture")
    targets = _texture_targets(reader, names)
    records = [TextureRecord(name, target) for name, target in targets.items()]
    defaults = [TextureRecord(DEFAULT_TEXTURES + target, target) for target in _defaults(reader)]
    _texture_parameters(reader, [*records, *defaults])
    _texture_images(reader, [*records, *defaults])
    for record, label in zip(records, reader.labels(GL.TEXTURE, [r.name for r in records]), strict=True):
        record.label = label
    return [*records, *(record for record in defaults if record.images)]


def _defaults(reader: Reader) -> list[int]:
    """Targets whose texture 0 may have images. On OpenGL ES, which reads through framebuffers, none can be read."""
    if reader.own or reader.context.es or not reader.offers("glGetTexLevelParameteriv"):
        return []
    return [t for t in _DEFAULT_TARGETS if reader.offers.value(t)]


def _texture_targets(reader: Reader, names: list[int]) -> dict[int, int]:
    """Target of each texture, by binding it where it may belong: the wrong target is an error that changes nothing."""
    targets: dict[int, int] = {}
    order = ["TEXTURE_2D", *(t for t in TEXTURE_TARGETS if t != "TEXTURE_2D")]
    for target in order:
        missing = [name for name in names if name not in targets]
        if not missing or not reader.offers.value(getattr(GL, TEXTURE_TARGETS[target])):
            continue
        batch = reader.batch()
        batch.call("glIsEnabled", GL.BLEND, check=True)  # clear any error of the calls before
        results = [(name, batch.call("glBindTexture", getattr(GL, target), name, check=True)) for name in missing]
        reader.run(batch)
        for name, result in results:
            if result.error == 0:
                targets[name] = getattr(GL, target)
    return targets


def _texture_parameters(reader: Reader, records: list[TextureRecord]) -> None:
    wanted = [
        row for row in (*TEXTURE_PARAMETERS, *TEXTURE_ONLY_PARAMETERS) if reader.offers.value(getattr(GL, row[0]))
    ]
    batch = reader.batch()
    rows: list[tuple[TextureRecord, str, str, Out]] = []
    immutable = []
    for record in records:
        if record.target == GL.TEXTURE_BUFFER:
            continue
        batch.call("glBindTexture", record.target, record.bound_name)
        for name, count, kind in wanted:
            if record.target in _MULTISAMPLE and not name.startswith(
                ("TEXTURE_SWIZZLE", "TEXTURE_BASE", "TEXTURE_MAX_LEVEL", "DEPTH")
            ):
                continue
            out = batch.ask(f"glGetTexParameter{kind}v", record.target, getattr(GL, name), size=4 * count)
            rows.append((record, name, kind, out))
        if reader.offers.value(GL.TEXTURE_IMMUTABLE_LEVELS):
            flag = batch.ask("glGetTexParameteriv", record.target, GL.TEXTURE_IMMUTABLE_FORMAT)
            levels = batch.ask("glGetTexParameteriv", record.target, GL.TEXTURE_IMMUTABLE_LEVELS)
            immutable.append((record, flag, levels))
    reader.run(batch)
    for record, name, kind, out in rows:
        record.parameters[name] = [float(v) for v in (out.floats() if kind == "f" else out.ints())]
    for record, flag, levels in immutable:
        if flag.ints()[0]:
            record.immutable_levels = max(1, levels.ints()[0])


def _texture_images(reader: Reader, records: list[TextureRecord]) -> None:
    if reader.offers("glGetTexLevelParameteriv"):
        _query_images(reader, records)
    else:
        for record in records:
            record.images = reader.kept.texture_images(record.name, reader.blobs)
    _read_views(reader, records)
    readable = []
    for record in records:
        for image in record.images:
            if record.target in _MULTISAMPLE:
                image.samples = max(image.samples, 1)
            elif image.contents is None and (image.compressed or image.format) and not record.view_of:
                readable.append((record, image))
            elif record.target != GL.TEXTURE_BUFFER and image.contents is None and not record.view_of:
                reader.caveats.append(
                    f"texture {record.name}: contents of format"
                    f" {tables().enum_name(image.internal_format, 'InternalFormat')} are not kept"
                )
    if reader.context.es:
        read_es_images(reader, readable)
    else:
        _read_images(reader, readable)


def _read_views(reader: Reader, records: list[TextureRecord]) -> None:
    """Which textures are views of others: the journal knows whose, GL the window. Their contents are the others'."""
    batch = reader.batch()
    rows = []
    queries = ("TEXTURE_VIEW_MIN_LEVEL", "TEXTURE_VIEW_NUM_LEVELS", "TEXTURE_VIEW_MIN_LAYER", "TEXTURE_VIEW_NUM_LAYERS")
    alive = {record.name for record in records}
    for record in records:
        origin = reader.journal.views.get(record.name, 0)
        if origin == 0:
            continue
        if origin not in alive:
            reader.caveats.append(
                f"texture {record.name} is a view of one that is gone; it is rebuilt as a texture of its own"
            )
            continue
        batch.call("glBindTexture", record.target, record.bound_name)
        outs = [batch.out(4) for _ in queries]
        for query, out in zip(queries, outs, strict=True):
            batch.call("glGetTexParameteriv", record.target, getattr(GL, query), out)
        rows.append((record, origin, outs))
    reader.run(batch)
    for record, origin, outs in rows:
        record.view_of = origin
        record.view_levels = (outs[0].ints()[0], outs[1].ints()[0])
        record.view_layers = (outs[2].ints()[0], outs[3].ints()[0])


def _query_images(reader: Reader, records: list[TextureRecord]) -> None:
    """What each image of a texture is: in turns, so that only what is there is asked about."""
    batch = reader.batch()
    base: list[tuple[TextureRecord, int, _ImageQuery]] = []
    for record in records:
        batch.call("glBindTexture", record.target, record.bound_name)
        if record.target == GL.TEXTURE_BUFFER:
            continue
        for image_target in _image_targets(record.target):
            base.append((record, image_target, _ask(reader, batch, image_target, 0, _OF_AN_IMAGE)))
    buffers = [(r, _query_buffer_texture(reader, batch, r)) for r in records if r.target == GL.TEXTURE_BUFFER]
    reader.run(batch)
    for record, outs in buffers:
        record.buffer, internal_format, offset, size = (out.ints()[0] for out in outs)
        record.buffer_range = (offset, size)
        record.images = [ImageRecord(GL.TEXTURE_BUFFER, 0, 0, 1, 1, internal_format)]
    batch = reader.batch()
    of_format: dict[int, _ImageQuery] = {}
    rest: list[tuple[TextureRecord, int, int, _ImageQuery, bool]] = []
    for record, image_target, query in base:
        width, height, depth = query.size
        batch.call("glBindTexture", record.target, record.bound_name)
        if width:
            number = query.outs["INTERNAL_FORMAT"].ints()[0]
            found = None if number in _UNSIZED else of_format.get(number)
            found = found or _ask(reader, batch, image_target, 0, _OF_A_FORMAT)
            of_format[number] = found
            query.outs |= found.outs
        extent = max(
            width, height if record.target != GL.TEXTURE_1D_ARRAY else 1, depth if record.target == GL.TEXTURE_3D else 1
        )
        levels = extent.bit_length() if record.target not in (*_MULTISAMPLE, GL.TEXTURE_RECTANGLE) else 1
        # a texture may lack level 0; look a little further then
        asked = ["WIDTH"] if width else [*_OF_AN_IMAGE, *_OF_A_FORMAT]
        for level in range(1, levels if width else 4):
            found = _ask(reader, batch, image_target, level, asked)
            rest.append((record, image_target, level, _ImageQuery(query.outs | found.outs), bool(width)))
    reader.run(batch)
    batch = reader.batch()
    bound = None
    for record, image_target, level, query, further in rest:
        if further and query.outs["WIDTH"].ints()[0]:
            if record is not bound:
                batch.call("glBindTexture", record.target, record.bound_name)
                bound = record
            query.outs |= _ask(reader, batch, image_target, level, _OF_EACH_LEVEL).outs
    reader.run(batch)
    for record, image_target, query in base:
        record.images += query.records(image_target, 0, reader.context.es)
    for record, image_target, level, query, _ in rest:
        record.images += query.records(image_target, level, reader.context.es)


def _read_images(reader: Reader, readable: list[tuple[TextureRecord, ImageRecord]]) -> None:
    """Contents, by glGetTexImage."""

    def read(item: tuple[TextureRecord, ImageRecord], batch: CallBatch) -> Out:
        record, image = item
        batch.call("glBindTexture", record.target, record.bound_name)
        out = batch.out(image_bytes(image))
        if image.compressed:
            batch.call("glGetCompressedTexImage", image.target, image.level, out)
        else:
            batch.call("glGetTexImage", image.target, image.level, image.format, image.type, out)
        return out

    for (_, image), out in reader.contents(readable, lambda item: image_bytes(item[1]), read):
        image.contents = reader.blobs.put(out.data)
        if image.compressed:
            image.format = image.type = 0


def _query_buffer_texture(reader: Reader, batch: CallBatch, record: TextureRecord) -> list[Out]:
    batch.call("glBindTexture", record.target, record.bound_name)
    outs = [batch.out(4) for _ in range(4)]
    names = ["TEXTURE_BUFFER_DATA_STORE_BINDING", "TEXTURE_INTERNAL_FORMAT"]
    if reader.offers.value(GL.TEXTURE_BUFFER_OFFSET):
        names += ["TEXTURE_BUFFER_OFFSET", "TEXTURE_BUFFER_SIZE"]
    for name, out in zip(names, outs, strict=False):
        batch.call("glGetTexLevelParameteriv", record.target, 0, getattr(GL, name), out)
    return outs


def read_samplers(reader: Reader) -> list[SamplerRecord]:
    names = reader.alive("sampler", "glIsSampler")
    wanted = [
        row for row in TEXTURE_PARAMETERS if reader.offers.value(getattr(GL, row[0])) and row[0] not in _NOT_OF_SAMPLERS
    ]
    batch = CallBatch()
    rows = []
    for name in names:
        for parameter, count, kind in wanted:
            out = batch.out(4 * count)
            batch.call(f"glGetSamplerParameter{kind}v", name, getattr(GL, parameter), out)
            rows.append((name, parameter, kind, out))
    reader.executor.run(batch)
    records = {name: SamplerRecord(name) for name in names}
    for name, parameter, kind, out in rows:
        records[name].parameters[parameter] = [float(v) for v in (out.floats() if kind == "f" else out.ints())]
    return list(records.values())


@dataclass
class _ImageQuery:
    outs: dict[str, Out]

    @property
    def size(self) -> tuple[int, int, int]:
        return tuple(self.outs[n].ints()[0] for n in ("WIDTH", "HEIGHT", "DEPTH"))  # type: ignore[return-value]

    def records(self, image_target: int, level: int, es: bool) -> list[ImageRecord]:
        if not self.outs["WIDTH"].ints()[0]:
            return []
        value = {name: out.ints()[0] for name, out in self.outs.items()}
        image = ImageRecord(
            image_target, level, value["WIDTH"], value["HEIGHT"], value["DEPTH"], value["INTERNAL_FORMAT"],
            compressed=bool(value["COMPRESSED"]), samples=value["SAMPLES"],
            fixed_locations=bool(value["FIXED_SAMPLE_LOCATIONS"]),
        )  # fmt: skip
        if image.compressed:
            image.format, image.type = value["COMPRESSED_IMAGE_SIZE"], 0
            return [image]
        kinds = ("RED", "ALPHA", "LUMINANCE", "INTENSITY")
        types = [value[f"{c}_TYPE"] for c in kinds if value[f"{c}_TYPE"] != GL.NONE]
        by_name = named_types(image.internal_format)  # for contexts too old to tell
        grey = max(value["LUMINANCE_SIZE"], value["INTENSITY_SIZE"])
        components = Components(
            max(value["RED_SIZE"], grey),
            value["GREEN_SIZE"],
            value["BLUE_SIZE"],
            max(value["ALPHA_SIZE"], int(grey > 0)),
            value["DEPTH_SIZE"],
            value["STENCIL_SIZE"],
            types[0] if types else by_name[0],
            value["DEPTH_TYPE"] or by_name[1],
        )
        if es and image.internal_format in _GREY:
            image.format, image.type = image.internal_format, GL.UNSIGNED_BYTE
            return [image]
        chosen = transfer_format(image.internal_format, components)
        if chosen:
            image.format, image.type = chosen
        return [image]


def _ask(reader: Reader, batch: CallBatch, image_target: int, level: int, names: Iterable[str]) -> _ImageQuery:
    outs = {}
    for name in names:
        number = getattr(GL, f"TEXTURE_{name}")
        offered = reader.offers.value(number)
        outs[name] = batch.ask("glGetTexLevelParameteriv", image_target, level, number) if offered else batch.out(4)
    return _ImageQuery(outs)


def _image_targets(target: int) -> tuple[int, ...]:
    return _CUBE_FACES if target == GL.TEXTURE_CUBE_MAP else (target,)


def image_bytes(image: ImageRecord) -> int:
    if image.compressed:
        return image.format  # the size that GL gave, until the contents are read
    return image.width * image.height * image.depth * pixel_size(image.format, image.type)
