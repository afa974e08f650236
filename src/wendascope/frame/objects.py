"""Records of GL objects as the snapshot found them. Contents are blobs, named by their hash."""

from __future__ import annotations

import hashlib
from typing import Literal

import msgspec

from wendascope.registry import GL


class BlobRef(msgspec.Struct, frozen=True):
    """Contents by SHA-256 (hex) and size in bytes."""

    hash: str
    size: int


class BlobStore:
    """Contents by hash, so that equal contents are kept once."""

    def __init__(self) -> None:
        self.data: dict[str, bytes] = {}

    def put(self, data: bytes) -> BlobRef:
        ref = BlobRef(hashlib.sha256(data).hexdigest(), len(data))
        self.data.setdefault(ref.hash, data)
        return ref

    def get(self, ref: BlobRef) -> bytes:
        """Raises KeyError when the contents are not there."""
        return self.data[ref.hash]


class BufferRecord(msgspec.Struct):
    name: int
    size: int
    usage: int
    immutable: bool = False
    storage_flags: int = 0
    contents: BlobRef | None = None
    label: str = ""


class ImageRecord(msgspec.Struct):
    """One level (of one face, for cube maps) of a texture."""

    target: int
    level: int
    width: int
    height: int
    depth: int
    internal_format: int
    format: int = 0
    type: int = 0
    compressed: bool = False
    samples: int = 0
    fixed_locations: bool = True
    contents: BlobRef | None = None


class TextureRecord(msgspec.Struct):
    name: int
    target: int
    images: list[ImageRecord] = msgspec.field(default_factory=list)
    parameters: dict[str, list[float]] = msgspec.field(default_factory=dict)
    immutable_levels: int = 0
    buffer: int = 0
    buffer_range: tuple[int, int] = (0, 0)
    view_of: int = 0
    """The texture that this one is a view of; 0 for one of its own."""
    view_levels: tuple[int, int] = (0, 0)
    """First level of that texture, and how many."""
    view_layers: tuple[int, int] = (0, 0)
    label: str = ""

    @property
    def width(self) -> int:
        return self.images[0].width if self.images else 0

    @property
    def height(self) -> int:
        return self.images[0].height if self.images else 0

    @property
    def levels(self) -> int:
        return len({image.level for image in self.images})


class SamplerRecord(msgspec.Struct):
    name: int
    parameters: dict[str, list[float]] = msgspec.field(default_factory=dict)


class RenderbufferRecord(msgspec.Struct):
    name: int
    width: int
    height: int
    internal_format: int
    samples: int
    format: int = 0
    type: int = 0
    contents: BlobRef | None = None


class AttachmentRecord(msgspec.Struct):
    point: int
    kind: Literal["texture", "renderbuffer"]
    name: int
    level: int = 0
    face: int = 0
    layer: int = 0
    layered: bool = False


class FramebufferRecord(msgspec.Struct):
    name: int
    attachments: list[AttachmentRecord] = msgspec.field(default_factory=list)
    draw_buffers: list[int] = msgspec.field(default_factory=list)
    read_buffer: int = GL.COLOR_ATTACHMENT0
    default_size: tuple[int, int, int, int] = (0, 0, 0, 0)
    """Width, height, layers and samples of a framebuffer without attachments."""
    label: str = ""


class AttributeRecord(msgspec.Struct):
    """One vertex attribute of a vertex array, with its buffer binding."""

    index: int
    enabled: bool
    size: int
    type: int
    normalized: bool
    integer: bool
    long: bool
    stride: int
    offset: int
    """Offset of the first element in the buffer."""
    divisor: int
    buffer: int
    binding: int = -1
    """Binding point where the separate form is known; -1 where it is not."""
    relative_offset: int = 0


class VertexArrayRecord(msgspec.Struct):
    name: int
    attributes: list[AttributeRecord] = msgspec.field(default_factory=list)
    element_buffer: int = 0
    label: str = ""


class ShaderRecord(msgspec.Struct):
    """A shader as it was when its program was linked."""

    type: int
    source: str
    name: int = 0
    spirv: bytes = b""
    """A SPIR-V module, specialised with `entry` and `constants`, in place of source."""
    entry: str = ""
    constants: list[tuple[int, int]] = msgspec.field(default_factory=list)


class UniformRecord(msgspec.Struct):
    """A uniform outside of blocks; `values` holds all elements, `locations` one entry an element."""

    name: str
    type: int
    size: int
    locations: list[int]
    values: bytes = b""


class ProgramRecord(msgspec.Struct):
    name: int
    shaders: list[ShaderRecord]
    linked: bool = False
    attributes: dict[str, int] = msgspec.field(default_factory=dict)
    outputs: dict[str, tuple[int, int]] = msgspec.field(default_factory=dict)
    """Fragment output -> (colour number, index)."""
    feedback_varyings: list[str] = msgspec.field(default_factory=list)
    feedback_mode: int = GL.INTERLEAVED_ATTRIBS
    separable: bool = False
    uniforms: list[UniformRecord] = msgspec.field(default_factory=list)
    blocks: dict[str, tuple[int, int]] = msgspec.field(default_factory=dict)
    """Uniform block -> (index, binding)."""
    storage_blocks: dict[str, tuple[int, int]] = msgspec.field(default_factory=dict)
    binary: bytes = b""
    """What the program was loaded from, where it was not linked from shaders."""
    binary_format: int = 0
    label: str = ""


class LooseShaderRecord(msgspec.Struct):
    """A live shader object, whether or not a program uses it."""

    name: int
    type: int
    source: str
    compiled: bool


class PipelineRecord(msgspec.Struct):
    """A program pipeline: the program of each stage (a GL_..._SHADER_BIT)."""

    name: int
    stages: dict[int, int] = msgspec.field(default_factory=dict)
    active: int = 0


class FeedbackRecord(msgspec.Struct):
    """A transform feedback object: (buffer, offset, size) of each binding; a size of 0 is the whole buffer."""

    name: int
    buffers: list[tuple[int, int, int]] = msgspec.field(default_factory=list)


class Objects(msgspec.Struct):
    """All objects of the captured context, by class."""

    buffers: list[BufferRecord] = msgspec.field(default_factory=list)
    textures: list[TextureRecord] = msgspec.field(default_factory=list)
    samplers: list[SamplerRecord] = msgspec.field(default_factory=list)
    renderbuffers: list[RenderbufferRecord] = msgspec.field(default_factory=list)
    framebuffers: list[FramebufferRecord] = msgspec.field(default_factory=list)
    vertex_arrays: list[VertexArrayRecord] = msgspec.field(default_factory=list)
    programs: list[ProgramRecord] = msgspec.field(default_factory=list)
    shaders: list[LooseShaderRecord] = msgspec.field(default_factory=list)
    queries: list[int] = msgspec.field(default_factory=list)
    """Names of query objects that were alive."""
    query_results: dict[int, int] = msgspec.field(default_factory=dict)
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

    width: int = 0
    height: int = 0
    red: int = 8
    green: int = 8
    blue: int = 8
    alpha: int = 0
    depth: int = 0
    stencil: int = 0
    samples: int = 0
    srgb: bool = False
    double: bool = True
    draw_buffer: int = 0
    """What draws into it go to; 0 where the context has only one."""
    read_buffer: int = 0
    color: BlobRef | None = None
    depth_contents: BlobRef | None = None
    stencil_contents: BlobRef | None = None


class ContextInfo(msgspec.Struct):
    """The captured context."""

    api: str = "OpenGL"
    """`OpenGL` or `OpenGL ES`."""
    major: int = 3
    minor: int = 3
    profile: str = "core"
    """`core`, `compatibility` or `es`."""
    flags: int = 0
    version: str = ""
    shading_language: str = ""
    renderer: str = ""
    vendor: str = ""
    platform: str = ""
    extensions: list[str] = msgspec.field(default_factory=list)
    limits: dict[str, int] = msgspec.field(default_factory=dict)

    @property
    def es(self) -> bool:
        return self.api == "OpenGL ES"

    @property
    def number(self) -> int:
        """Version times ten."""
        return self.major * 10 + self.minor

    def __str__(self) -> str:
        profile = f" {self.profile}" if self.profile in ("core", "compatibility") else ""
        return f"{self.api} {self.major}.{self.minor}{profile}"
