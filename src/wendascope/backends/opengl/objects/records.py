"""Records of GL objects as the snapshot found them. Contents are blobs, named by their hash."""

from __future__ import annotations

import functools
import re
from collections.abc import Hashable
from typing import Literal

import msgspec

from wendascope.frame.blobs import BlobRef, Name, Number
from wendascope.registry import GL, tables


class BufferRecord(msgspec.Struct):
    name: Name
    size: Number
    usage: Number
    immutable: bool = False
    storage_flags: Number = 0
    contents: BlobRef | None = None
    label: str = ""


class ImageRecord(msgspec.Struct):
    """One level (of one face, for cube maps) of a texture."""

    target: Number
    level: Number
    width: Number
    height: Number
    depth: Number
    internal_format: Number
    format: Number = 0
    type: Number = 0
    compressed: bool = False
    samples: Number = 0
    fixed_locations: bool = True
    contents: BlobRef | None = None


DEFAULT_TEXTURES = 0xC0000000
"""What is bound as texture 0 is an object as well, one for each target: its record has this name and the number of the
target, which no texture of a program has.
"""


class TextureRecord(msgspec.Struct):
    name: Name
    target: Number
    images: list[ImageRecord] = msgspec.field(default_factory=list)
    parameters: dict[str, list[float]] = msgspec.field(default_factory=dict)
    immutable_levels: Number = 0
    buffer: Name = 0
    buffer_range: tuple[Number, Number] = (0, 0)
    view_of: Name = 0
    """The texture that this one is a view of; 0 for one of its own."""
    view_levels: tuple[Number, Number] = (0, 0)
    """First level of that texture, and how many."""
    view_layers: tuple[Number, Number] = (0, 0)
    label: str = ""

    @property
    def is_default(self) -> bool:
        """Whether it is what a target has as texture 0."""
        return self.name == DEFAULT_TEXTURES + self.target

    @property
    def bound_name(self) -> int:
        """The name that it is bound by."""
        return 0 if self.is_default else self.name

    @property
    def width(self) -> int:
        return self.images[0].width if self.images else 0

    @property
    def height(self) -> int:
        return self.images[0].height if self.images else 0

    @property
    def levels(self) -> int:
        return len({image.level for image in self.images})

    @property
    def plain(self) -> bool:
        """Whether it is two-dimensional, without layers, faces and samples, and has an image."""
        return self.target == GL.TEXTURE_2D and bool(self.images)

    @property
    def repeats(self) -> bool:
        """Whether coordinates beyond 0 and 1 find it again."""
        wraps = [self.parameters.get(name, [GL.REPEAT])[0] for name in ("TEXTURE_WRAP_S", "TEXTURE_WRAP_T")]
        return any(int(wrap) in (GL.REPEAT, GL.MIRRORED_REPEAT) for wrap in wraps)

    @property
    def format(self) -> int:
        """Internal format of the first level; 0 without one."""
        return self.images[0].internal_format if self.images else 0

    @property
    def texels(self) -> int:
        """Of all levels."""
        return sum(image.width * image.height for image in self.images)

    @property
    def stored_bytes(self) -> int:
        """Of the captured contents of all levels."""
        return sum(image.contents.size for image in self.images if image.contents)

    @property
    def first_level_bytes(self) -> int:
        """Of the captured contents of the first level."""
        return sum(image.contents.size for image in self.images if image.contents and image.level == 0)

    @property
    def readable(self) -> bool:
        """Whether all levels are kept, and none compressed."""
        return all(image.contents and not image.compressed for image in self.images)

    @property
    def filter(self) -> str:
        """`nearest` or `linear` without mip levels, `mipmaps` with them."""
        least, most = (
            int(self.parameters.get(name, [GL.LINEAR])[0]) for name in ("TEXTURE_MIN_FILTER", "TEXTURE_MAG_FILTER")
        )
        if least not in (GL.NEAREST, GL.LINEAR):
            return "mipmaps"
        return "nearest" if least == most == GL.NEAREST else "linear"

    @property
    def _sampling(self) -> tuple[tuple[str, tuple[float, ...]], ...]:
        return tuple((name, tuple(values)) for name, values in sorted(self.parameters.items()))

    @property
    def shape(self) -> Hashable:
        """Equal for textures that could be layers of one array."""
        images = tuple((i.target, i.level, i.width, i.height, i.depth, i.internal_format) for i in self.images)
        return self.target, images, self._sampling

    @property
    def look(self) -> Hashable:
        """Equal for textures that could share a page."""
        first = self.images[0] if self.images else None
        return first and (first.internal_format, first.format, first.type), self._sampling


class SamplerRecord(msgspec.Struct):
    name: Name
    parameters: dict[str, list[float]] = msgspec.field(default_factory=dict)


class RenderbufferRecord(msgspec.Struct):
    name: Name
    width: Number
    height: Number
    internal_format: Number
    samples: Number
    format: Number = 0
    type: Number = 0
    contents: BlobRef | None = None


class AttachmentRecord(msgspec.Struct):
    point: Number
    kind: Literal["texture", "renderbuffer"]
    name: Name
    level: Number = 0
    face: Number = 0
    layer: Number = 0
    layered: bool = False

    @property
    def is_colour(self) -> bool:
        return self.point not in (GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT, GL.DEPTH_STENCIL_ATTACHMENT)


class FramebufferRecord(msgspec.Struct):
    name: Name
    attachments: list[AttachmentRecord] = msgspec.field(default_factory=list)
    draw_buffers: list[Number] = msgspec.field(default_factory=list)
    read_buffer: Number = GL.COLOR_ATTACHMENT0
    default_size: tuple[Number, Number, Number, Number] = (0, 0, 0, 0)
    """Width, height, layers and samples of a framebuffer without attachments."""
    label: str = ""


class AttributeRecord(msgspec.Struct):
    """One vertex attribute of a vertex array, with its buffer binding."""

    index: Number
    enabled: bool
    size: Number
    type: Number
    normalized: bool
    integer: bool
    long: bool
    stride: Number
    offset: Number
    """Offset of the first element in the buffer."""
    divisor: Number
    buffer: Name
    binding: Number = -1
    """Binding point where the separate form is known; -1 where it is not."""
    relative_offset: Number = 0

    @property
    def point(self) -> int:
        """Where its buffer is bound: to its own number, unless said otherwise."""
        return self.binding if self.binding >= 0 else self.index


class VertexArrayRecord(msgspec.Struct):
    name: Name
    attributes: list[AttributeRecord] = msgspec.field(default_factory=list)
    element_buffer: Name = 0
    label: str = ""


class ShaderRecord(msgspec.Struct):
    """A shader as it was when its program was linked."""

    type: Number
    source: str
    name: Name = 0
    spirv: bytes = b""
    """A SPIR-V module, specialised with `entry` and `constants`, in place of source."""
    entry: str = ""
    constants: list[tuple[Number, Number]] = msgspec.field(default_factory=list)

    @property
    def stage(self) -> int:
        """A `glsl.stages.Stage`, whose numbers are those of OpenGL."""
        return self.type


class UniformRecord(msgspec.Struct):
    """A uniform outside of blocks; `values` holds all elements, `locations` one entry an element."""

    name: str
    type: Number
    size: Number
    locations: list[Number]
    values: bytes = b""


class ProgramRecord(msgspec.Struct):
    name: Name
    shaders: list[ShaderRecord]
    linked: bool = False
    attributes: dict[str, Number] = msgspec.field(default_factory=dict)
    outputs: dict[str, tuple[Number, Number]] = msgspec.field(default_factory=dict)
    """Fragment output -> (colour number, index)."""
    feedback_varyings: list[str] = msgspec.field(default_factory=list)
    feedback_mode: Number = GL.INTERLEAVED_ATTRIBS
    separable: bool = False
    uniforms: list[UniformRecord] = msgspec.field(default_factory=list)
    blocks: dict[str, tuple[Number, Number]] = msgspec.field(default_factory=dict)
    """Uniform block -> (index, binding)."""
    storage_blocks: dict[str, tuple[Number, Number]] = msgspec.field(default_factory=dict)
    binary: bytes = b""
    """What the program was loaded from, where it was not linked from shaders."""
    binary_format: Number = 0
    label: str = ""

    @property
    def runs(self) -> bool:
        """Whether it has anything to run: sources or a binary."""
        return bool(self.shaders or self.binary)

    @property
    def plain_uniforms(self) -> frozenset[str]:
        """Names of the uniforms that are no samplers, `[0]` left out."""
        return frozenset(u.name.removesuffix("[0]") for u in self.uniforms if u.type not in sampler_targets())

    @property
    def captures_vertices(self) -> bool:
        """Whether what its vertex stages give can be captured into buffers, by a call or by the words of a source."""
        stages = (shader.source for shader in self.shaders if shader.type != GL.FRAGMENT_SHADER)
        return bool(self.feedback_varyings) or any(re.search(r"\bxfb_(buffer|offset|stride)\b", s) for s in stages)

    @property
    def output_numbers(self) -> dict[str, int]:
        """Fragment output -> number of the colour that it goes to."""
        return {name: number for name, (number, _) in self.outputs.items()}


class LooseShaderRecord(msgspec.Struct):
    """A live shader object, whether or not a program uses it."""

    name: Name
    type: Number
    source: str
    compiled: bool


class PipelineRecord(msgspec.Struct):
    """A program pipeline: the program of each stage (a GL_..._SHADER_BIT)."""

    name: Name
    stages: dict[Name, Name] = msgspec.field(default_factory=dict)
    active: Name = 0


class FeedbackRecord(msgspec.Struct):
    """A transform feedback object: (buffer, offset, size) of each binding; a size of 0 is the whole buffer."""

    name: Name
    buffers: list[tuple[Number, Number, Number]] = msgspec.field(default_factory=list)


class Objects(msgspec.Struct):
    """All objects of the captured context, by class."""

    buffers: list[BufferRecord] = msgspec.field(default_factory=list)
    textures: list[TextureRecord] = msgspec.field(default_factory=list)
    samplers: list[SamplerRecord] = msgspec.field(default_factory=list)
    renderbuffers: list[RenderbufferRecord] = msgspec.field(default_factory=list)
    framebuffers: list[FramebufferRecord] = msgspec.field(default_factory=list)
    vertex_arrays: list[VertexArrayRecord] = msgspec.field(default_factory=list)
    programs: list[ProgramRecord] = msgspec.field(default_factory=list)
    relinked: list[ProgramRecord] = msgspec.field(default_factory=list)
    """Programs as the frame links them anew, of which only the sources are known."""
    shaders: list[LooseShaderRecord] = msgspec.field(default_factory=list)
    queries: list[Name] = msgspec.field(default_factory=list)
    """Names of query objects that were alive."""
    query_results: dict[Name, Number] = msgspec.field(default_factory=dict)
    """What they had counted, where it was known."""
    pipelines: list[PipelineRecord] = msgspec.field(default_factory=list)
    feedbacks: list[FeedbackRecord] = msgspec.field(default_factory=list)

    def texture(self, name: int) -> TextureRecord | None:
        return next((t for t in self.textures if t.name == name), None)

    def program(self, name: int) -> ProgramRecord | None:
        return next((p for p in self.programs if p.name == name), None)

    def framebuffer(self, name: int) -> FramebufferRecord | None:
        return next((f for f in self.framebuffers if f.name == name), None)

    def vertex_array(self, name: int) -> VertexArrayRecord | None:
        return next((v for v in self.vertex_arrays if v.name == name), None)

    def buffer(self, name: int) -> BufferRecord | None:
        return next((b for b in self.buffers if b.name == name), None)

    def blob_refs(self) -> list[BlobRef]:
        """Every reference to contents, duplicates included."""
        refs = [b.contents for b in self.buffers]
        refs += [image.contents for t in self.textures for image in t.images]
        refs += [r.contents for r in self.renderbuffers]
        return [ref for ref in refs if ref is not None]


class DefaultFramebuffer(msgspec.Struct):
    """The framebuffer of the window or pbuffer, and what it held when the frame began."""

    width: Number = 0
    height: Number = 0
    red: Number = 8
    green: Number = 8
    blue: Number = 8
    alpha: Number = 0
    depth: Number = 0
    stencil: Number = 0
    samples: Number = 0
    srgb: bool = False
    double: bool = True
    draw_buffer: Number = 0
    """What draws into it go to; 0 where the context has only one."""
    read_buffer: Number = 0
    color: BlobRef | None = None
    depth_contents: BlobRef | None = None
    stencil_contents: BlobRef | None = None

    @property
    def formats(self) -> list[tuple[int, int]]:
        """(attachment point, internal format) of each part of a framebuffer that the window can be copied into."""
        found = [(int(GL.COLOR_ATTACHMENT0), int(GL.RGBA8 if self.alpha else GL.RGB8))]
        if self.depth and self.stencil:
            found.append((GL.DEPTH_STENCIL_ATTACHMENT, GL.DEPTH24_STENCIL8))
        elif self.depth:
            formats = {16: GL.DEPTH_COMPONENT16, 32: GL.DEPTH_COMPONENT32}
            found.append((GL.DEPTH_ATTACHMENT, formats.get(self.depth, GL.DEPTH_COMPONENT24)))
        return found


_TARGET_BY_SUFFIX = {
    "1D": "TEXTURE_1D",
    "2D": "TEXTURE_2D",
    "3D": "TEXTURE_3D",
    "CUBE": "TEXTURE_CUBE_MAP",
    "2D_RECT": "TEXTURE_RECTANGLE",
    "1D_ARRAY": "TEXTURE_1D_ARRAY",
    "2D_ARRAY": "TEXTURE_2D_ARRAY",
    "CUBE_MAP_ARRAY": "TEXTURE_CUBE_MAP_ARRAY",
    "BUFFER": "TEXTURE_BUFFER",
    "2D_MULTISAMPLE": "TEXTURE_2D_MULTISAMPLE",
    "2D_MULTISAMPLE_ARRAY": "TEXTURE_2D_MULTISAMPLE_ARRAY",
}


@functools.cache
def sampler_targets() -> dict[int, int]:
    """Sampler type -> texture target that it reads."""
    targets = {}
    for suffix, target in _TARGET_BY_SUFFIX.items():
        for prefix in ("SAMPLER_", "INT_SAMPLER_", "UNSIGNED_INT_SAMPLER_"):
            for shadow in ("", "_SHADOW"):
                value = tables().enum_value.get(f"GL_{prefix}{suffix}{shadow}")
                if value is not None:
                    targets[value] = getattr(GL, target)
    return targets
