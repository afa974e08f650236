"""Rebuilds the objects and the state of a captured frame in the current context."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np

from wendascope.errors import ReplayError
from wendascope.frame.formats import attachment_of, pixel_size, uniform_type
from wendascope.frame.frame import Frame
from wendascope.frame.objects import (
    BufferRecord,
    FramebufferRecord,
    ImageRecord,
    ProgramRecord,
    RenderbufferRecord,
    TextureRecord,
    VertexArrayRecord,
)
from wendascope.frame.packed import Batch, Executor, Raw
from wendascope.frame.state_table import PATTERNS, TEXTURE_TARGETS, capability_since
from wendascope.registry import GL
from wendascope.replay.names import NameMap

_GENERATORS = {
    "buffer": "glGenBuffers",
    "texture": "glGenTextures",
    "sampler": "glGenSamplers",
    "renderbuffer": "glGenRenderbuffers",
    "framebuffer": "glGenFramebuffers",
    "vertex array": "glGenVertexArrays",
    "query": "glGenQueries",
}
_UNPACK = ("SWAP_BYTES", "LSB_FIRST", "ROW_LENGTH", "IMAGE_HEIGHT", "SKIP_PIXELS", "SKIP_ROWS", "SKIP_IMAGES", "ALIGNMENT")
_WINDOW_COLOUR, _WINDOW_DEPTH = ("window", 0), ("window", 1)
_MAP_READ_WRITE = 0x1 | 0x2
_DYNAMIC_STORAGE = 0x100


@dataclass
class BlitSource:
    """A framebuffer that holds contents which can only be put back by drawing: renderbuffers and the window."""

    framebuffer: int
    destination: int  # framebuffer name kept for the destination; used when `attached`
    point: int
    mask: int
    width: int
    height: int
    attached: bool = False

    def attach_destination(self, executor: Executor, name: int, texture: bool) -> None:
        """`name` is that of a multisample texture or a renderbuffer here."""
        batch = Batch()
        batch.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, self.destination)
        if texture:
            batch.call("glFramebufferTexture2D", GL.DRAW_FRAMEBUFFER, self.point, GL.TEXTURE_2D_MULTISAMPLE, name, 0)
        else:
            batch.call("glFramebufferRenderbuffer", GL.DRAW_FRAMEBUFFER, self.point, GL.RENDERBUFFER, name)
        executor.run(batch)
        self.attached = True

    def blit(self, batch: Batch) -> None:
        call = batch.call
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, self.framebuffer)
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, self.destination if self.attached else 0)
        for cap in (GL.SCISSOR_TEST, GL.FRAMEBUFFER_SRGB, GL.RASTERIZER_DISCARD):
            call("glDisable", cap)
        size = (0, 0, self.width, self.height)
        call("glBlitFramebuffer", *size, *size, self.mask, GL.NEAREST)
        call("glBindFramebuffer", GL.FRAMEBUFFER, 0)


class Rebuilder:
    """Makes the frame's objects here, and can put any of them back to what they were."""

    def __init__(self, frame: Frame, executor: Executor) -> None:
        self.frame = frame
        self.names = NameMap()
        self.caveats: list[str] = []
        self._executor = executor
        self._sources: dict[tuple[str, int], BlitSource] = {}

    def build(self) -> None:
        """Make every object. Raises ReplayError when the driver refuses."""
        objects = self.frame.objects
        for class_name, names in (
            ("buffer", [b.name for b in objects.buffers]),
            ("texture", [t.name for t in objects.textures]),
            ("sampler", [s.name for s in objects.samplers]),
            ("renderbuffer", [r.name for r in objects.renderbuffers]),
            ("framebuffer", [f.name for f in objects.framebuffers]),
            ("vertex array", [v.name for v in objects.vertex_arrays if v.name]),
            ("query", objects.queries),
        ):
            self.generate(class_name, names)
        batch = self.upload_batch()
        for buffer in objects.buffers:
            self.define_buffer(batch, buffer)
            batch = self._flush(batch)
        for texture in objects.textures:
            self._define_texture(batch, texture)
            batch = self._flush(batch)
        for sampler in objects.samplers:
            for name, values in sampler.parameters.items():
                _parameter(batch, "glSamplerParameter", self.names.get("sampler", sampler.name), name, values)
        for renderbuffer in objects.renderbuffers:
            self._define_renderbuffer(batch, renderbuffer)
        self._executor.run(batch)
        self._build_programs()
        batch = self.upload_batch()
        for framebuffer in objects.framebuffers:
            self.define_framebuffer(batch, framebuffer)
        for vertex_array in objects.vertex_arrays:
            self.define_vertex_array(batch, vertex_array)
        for program in objects.programs:
            self.define_uniforms(batch, program)
        self._executor.run(batch)
        self._sources = self._blit_sources()
        batch = Batch()
        for source in self._sources.values():
            source.blit(batch)
        self._executor.run(batch)

    def generate(self, class_name: str, captured: list[int]) -> None:
        """Reserve a name here for each captured one."""
        if not captured:
            return
        batch = Batch()
        out = batch.out(4 * len(captured))
        batch.call(_GENERATORS[class_name], len(captured), out)
        self._executor.run(batch)
        for name, here in zip(captured, out.uints(), strict=True):
            self.names.set(class_name, name, here)

    def upload_batch(self) -> Batch:
        """A batch in which pixel uploads read tightly packed client memory."""
        batch = Batch()
        batch.call("glBindBuffer", GL.PIXEL_UNPACK_BUFFER, 0)
        for name in _UNPACK:
            batch.call("glPixelStorei", getattr(GL, f"UNPACK_{name}"), 1 if name == "ALIGNMENT" else 0)
        batch.call("glActiveTexture", GL.TEXTURE0)
        return batch

    def _flush(self, batch: Batch) -> Batch:
        if len(batch.arena) < 64 << 20:
            return batch
        self._executor.run(batch)
        return self.upload_batch()

    # ---- buffers -----------------------------------------------------------------------------------

    def define_buffer(self, batch: Batch, record: BufferRecord) -> None:
        data = self.frame.blobs.get(record.contents) if record.contents else None
        batch.call("glBindBuffer", GL.COPY_WRITE_BUFFER, self.names.get("buffer", record.name))
        if record.immutable:
            # contents must be put back between runs, so writing is allowed whatever the program asked for
            flags = record.storage_flags & ~0xC0 | _DYNAMIC_STORAGE | _MAP_READ_WRITE
            batch.call("glBufferStorage", GL.COPY_WRITE_BUFFER, record.size, data, flags)
        elif record.size:
            batch.call("glBufferData", GL.COPY_WRITE_BUFFER, record.size, data, record.usage)

    def restore_buffer(self, batch: Batch, record: BufferRecord) -> None:
        """Put the contents back; a resized buffer gets its size back too."""
        if not record.immutable:
            self.define_buffer(batch, record)
        elif record.contents:
            batch.call("glBindBuffer", GL.COPY_WRITE_BUFFER, self.names.get("buffer", record.name))
            batch.call("glBufferSubData", GL.COPY_WRITE_BUFFER, 0, record.size, self.frame.blobs.get(record.contents))

    # ---- textures ----------------------------------------------------------------------------------

    def _define_texture(self, batch: Batch, record: TextureRecord) -> None:
        call = batch.call
        call("glBindTexture", record.target, self.names.get("texture", record.name))
        if record.target == GL.TEXTURE_BUFFER:
            self._define_buffer_texture(batch, record)
            return
        if record.immutable_levels and record.images:
            self._storage(batch, record)
            for image in record.images:
                self._upload(batch, record, image)
        else:
            for image in record.images:
                self._upload(batch, record, image, define=True)
        self.set_texture_parameters(batch, record)

    def _define_buffer_texture(self, batch: Batch, record: TextureRecord) -> None:
        if not record.images or not record.buffer:
            return
        internal_format = record.images[0].internal_format
        buffer = self.names.get("buffer", record.buffer)
        if any(record.buffer_range):
            batch.call("glTexBufferRange", GL.TEXTURE_BUFFER, internal_format, buffer, *record.buffer_range)
        else:
            batch.call("glTexBuffer", GL.TEXTURE_BUFFER, internal_format, buffer)

    def set_texture_parameters(self, batch: Batch, record: TextureRecord) -> None:
        for name, values in record.parameters.items():
            _parameter(batch, "glTexParameter", record.target, name, values)

    def _storage(self, batch: Batch, record: TextureRecord) -> None:
        base = record.images[0]
        levels, size = record.immutable_levels, (base.width, base.height, base.depth)
        match record.target:
            case GL.TEXTURE_1D:
                batch.call("glTexStorage1D", record.target, levels, base.internal_format, size[0])
            case GL.TEXTURE_2D | GL.TEXTURE_CUBE_MAP | GL.TEXTURE_RECTANGLE | GL.TEXTURE_1D_ARRAY:
                batch.call("glTexStorage2D", record.target, levels, base.internal_format, *size[:2])
            case GL.TEXTURE_3D | GL.TEXTURE_2D_ARRAY | GL.TEXTURE_CUBE_MAP_ARRAY:
                batch.call("glTexStorage3D", record.target, levels, base.internal_format, *size)
            case GL.TEXTURE_2D_MULTISAMPLE:
                batch.call("glTexStorage2DMultisample", record.target, base.samples, base.internal_format, *size[:2], base.fixed_locations)
            case GL.TEXTURE_2D_MULTISAMPLE_ARRAY:
                batch.call("glTexStorage3DMultisample", record.target, base.samples, base.internal_format, *size, base.fixed_locations)

    def restore_texture(self, batch: Batch, record: TextureRecord, redefine: bool) -> None:
        """Put contents and parameters back; `redefine` also the sizes and formats of its levels."""
        if record.target == GL.TEXTURE_BUFFER:
            return
        source = self._sources.get(("texture", record.name))
        if source:
            source.blit(batch)
            return
        batch.call("glBindTexture", record.target, self.names.get("texture", record.name))
        for image in record.images:
            self._upload(batch, record, image, define=redefine and not record.immutable_levels)
        self.set_texture_parameters(batch, record)

    def _upload(self, batch: Batch, record: TextureRecord, image: ImageRecord, define: bool = False) -> None:
        """Fill one level, or define and fill it."""
        call = batch.call
        data = self.frame.blobs.get(image.contents) if image.contents else None
        target, size = image.target, (image.width, image.height, image.depth)
        if record.target == GL.TEXTURE_2D_MULTISAMPLE:
            if define:
                call("glTexImage2DMultisample", target, image.samples, image.internal_format, *size[:2], image.fixed_locations)
            return
        if record.target == GL.TEXTURE_2D_MULTISAMPLE_ARRAY:
            if define:
                call("glTexImage3DMultisample", target, image.samples, image.internal_format, *size, image.fixed_locations)
            return
        dimensions = _dimensions(record.target)
        extent = size[:dimensions]
        if image.compressed:
            if data is None:
                return
            if define:
                call(f"glCompressedTexImage{dimensions}D", target, image.level, image.internal_format, *extent, 0, len(data), data)
            else:
                zeros = (0,) * dimensions
                call(f"glCompressedTexSubImage{dimensions}D", target, image.level, *zeros, *extent, image.internal_format, len(data), data)
        elif define:
            format_, type_ = (image.format, image.type) if image.format else (GL.RGBA, GL.UNSIGNED_BYTE)
            call(f"glTexImage{dimensions}D", target, image.level, image.internal_format, *extent, 0, format_, type_, data)
        elif data is not None:
            zeros = (0,) * dimensions
            call(f"glTexSubImage{dimensions}D", target, image.level, *zeros, *extent, image.format, image.type, data)

    # ---- framebuffers ---------------------------------------------------------------------------------

    def _define_renderbuffer(self, batch: Batch, record: RenderbufferRecord) -> None:
        batch.call("glBindRenderbuffer", GL.RENDERBUFFER, self.names.get("renderbuffer", record.name))
        if record.width and record.height:
            batch.call(
                "glRenderbufferStorageMultisample", GL.RENDERBUFFER, record.samples, record.internal_format, record.width, record.height
            )

    def define_framebuffer(self, batch: Batch, record: FramebufferRecord) -> None:
        call = batch.call
        call("glBindFramebuffer", GL.FRAMEBUFFER, self.names.get("framebuffer", record.name))
        for attachment in record.attachments:
            name = self.names.get(attachment.kind, attachment.name)
            if attachment.kind == "renderbuffer":
                call("glFramebufferRenderbuffer", GL.FRAMEBUFFER, attachment.point, GL.RENDERBUFFER, name)
                continue
            texture = self.frame.objects.texture(attachment.name)
            if texture is None:
                continue
            if attachment.face:
                call("glFramebufferTexture2D", GL.FRAMEBUFFER, attachment.point, attachment.face, name, attachment.level)
            elif attachment.layered or (_dimensions(texture.target) < 3 and texture.target != GL.TEXTURE_1D_ARRAY):
                call("glFramebufferTexture", GL.FRAMEBUFFER, attachment.point, name, attachment.level)
            else:
                call("glFramebufferTextureLayer", GL.FRAMEBUFFER, attachment.point, name, attachment.level, attachment.layer)
        if record.draw_buffers:
            call("glDrawBuffers", len(record.draw_buffers), struct.pack(f"<{len(record.draw_buffers)}I", *record.draw_buffers))
        call("glReadBuffer", record.read_buffer)

    def _blit_sources(self) -> dict[tuple[str, int], BlitSource]:
        """What renderbuffers, multisample textures (by captured name) and the window are filled from."""
        sources = {}
        for r in self.frame.objects.renderbuffers:
            if r.contents:
                source = self._blit_source(self.frame.blobs.get(r.contents), r.internal_format, r.format, r.type, r.width, r.height)
                source.attach_destination(self._executor, self.names.get("renderbuffer", r.name), texture=False)
                sources["renderbuffer", r.name] = source
        for t in self.frame.objects.textures:
            if t.target == GL.TEXTURE_2D_MULTISAMPLE and t.images and t.images[0].contents:
                i = t.images[0]
                source = self._blit_source(self.frame.blobs.get(t.images[0].contents), i.internal_format, i.format, i.type, i.width, i.height)
                source.attach_destination(self._executor, self.names.get("texture", t.name), texture=True)
                sources["texture", t.name] = source
        window = self.frame.default_framebuffer
        size = (window.width, window.height)
        if window.color:
            sources[_WINDOW_COLOUR] = self._blit_source(self.frame.blobs.get(window.color), GL.RGBA8, GL.RGBA, GL.UNSIGNED_BYTE, *size)
        if window.depth_contents and window.stencil_contents:
            data = _depth_stencil(self.frame.blobs.get(window.depth_contents), self.frame.blobs.get(window.stencil_contents))
            sources[_WINDOW_DEPTH] = self._blit_source(data, GL.DEPTH24_STENCIL8, GL.DEPTH_STENCIL, GL.UNSIGNED_INT_24_8, *size)
        elif window.depth_contents:
            depth_format = GL.DEPTH_COMPONENT16 if window.depth <= 16 else GL.DEPTH_COMPONENT24 if window.depth <= 24 else GL.DEPTH_COMPONENT32
            data = self.frame.blobs.get(window.depth_contents)
            sources[_WINDOW_DEPTH] = self._blit_source(data, depth_format, GL.DEPTH_COMPONENT, GL.UNSIGNED_INT, *size)
        return sources

    def _blit_source(self, data: bytes, internal_format: int, format_: int, type_: int, width: int, height: int) -> BlitSource:
        if len(data) != width * height * pixel_size(format_, type_):
            raise ReplayError("contents of a framebuffer have the wrong size")
        names = Batch()
        texture, framebuffers = names.out(4), names.out(8)
        names.call("glGenTextures", 1, texture)
        names.call("glGenFramebuffers", 2, framebuffers)
        self._executor.run(names)
        source, destination = framebuffers.uints()
        point, mask = attachment_of(format_)
        batch = self.upload_batch()
        call = batch.call
        call("glBindTexture", GL.TEXTURE_2D, texture.uints()[0])
        call("glTexImage2D", GL.TEXTURE_2D, 0, internal_format, width, height, 0, format_, type_, data)
        call("glTexParameteri", GL.TEXTURE_2D, GL.TEXTURE_MAX_LEVEL, 0)
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, source)
        call("glFramebufferTexture2D", GL.READ_FRAMEBUFFER, point, GL.TEXTURE_2D, texture.uints()[0], 0)
        self._executor.run(batch)
        return BlitSource(source, destination, point, mask, width, height)

    def restore_renderbuffer(self, batch: Batch, record: RenderbufferRecord) -> None:
        """Fill a renderbuffer with what it held before the frame."""
        source = self._sources.get(("renderbuffer", record.name))
        if source:
            source.blit(batch)

    def restore_window(self, batch: Batch) -> None:
        """Fill the default framebuffer with what it held before the frame."""
        for key in (_WINDOW_COLOUR, _WINDOW_DEPTH):
            if key in self._sources:
                self._sources[key].blit(batch)

    # ---- vertex arrays ----------------------------------------------------------------------------------

    def define_vertex_array(self, batch: Batch, record: VertexArrayRecord) -> None:
        call = batch.call
        call("glBindVertexArray", self.names.get("vertex array", record.name))
        for a in record.attributes:
            buffer = self.names.get("buffer", a.buffer)
            if a.binding >= 0:
                call("glBindVertexBuffer", a.binding, buffer, a.offset - a.relative_offset, a.stride)
                call("glVertexBindingDivisor", a.binding, a.divisor)
                if a.long:
                    call("glVertexAttribLFormat", a.index, a.size, a.type, a.relative_offset)
                elif a.integer:
                    call("glVertexAttribIFormat", a.index, a.size, a.type, a.relative_offset)
                else:
                    call("glVertexAttribFormat", a.index, a.size, a.type, a.normalized, a.relative_offset)
                call("glVertexAttribBinding", a.index, a.binding)
            elif a.buffer:
                call("glBindBuffer", GL.ARRAY_BUFFER, buffer)
                if a.long:
                    call("glVertexAttribLPointer", a.index, a.size, a.type, a.stride, Raw(a.offset))
                elif a.integer:
                    call("glVertexAttribIPointer", a.index, a.size, a.type, a.stride, Raw(a.offset))
                else:
                    call("glVertexAttribPointer", a.index, a.size, a.type, a.normalized, a.stride, Raw(a.offset))
                if a.divisor or self.frame.context.number >= 33:
                    call("glVertexAttribDivisor", a.index, a.divisor)
            call("glEnableVertexAttribArray" if a.enabled else "glDisableVertexAttribArray", a.index)
        call("glBindBuffer", GL.ELEMENT_ARRAY_BUFFER, self.names.get("buffer", record.element_buffer))

    # ---- programs ------------------------------------------------------------------------------------------

    def _build_programs(self) -> None:
        batch = Batch()
        shaders = []
        made = []
        for loose in self.frame.objects.shaders:
            shaders.append((loose.name, batch.call("glCreateShader", loose.type), loose.source, loose.compiled))
        for program in self.frame.objects.programs:
            handles = [(batch.call("glCreateShader", s.type), s.source) for s in program.shaders]
            made.append((program, batch.call("glCreateProgram"), handles))
        self._executor.run(batch)
        batch = Batch()
        for name, result, source, compiled in shaders:
            self.names.set("shader", name, result.value)
            if source:
                batch.call("glShaderSource", result.value, 1, [source.encode()], struct.pack("<i", len(source.encode())))
            if compiled:
                batch.call("glCompileShader", result.value)
        for program, here, handles in made:
            self.names.set("program", program.name, here.value)
            self._link(batch, program, here.value, [(handle.value, source) for handle, source in handles])
        self._executor.run(batch)
        self._check_links([(program, here.value) for program, here, _ in made])
        self._read_locations()

    def _link(self, batch: Batch, program: ProgramRecord, here: int, shaders: list[tuple[int, str]]) -> None:
        call = batch.call
        for handle, source in shaders:
            text = source.encode()
            call("glShaderSource", handle, 1, [text], struct.pack("<i", len(text)))
            call("glCompileShader", handle)
            call("glAttachShader", here, handle)
        for name, location in program.attributes.items():
            if location >= 0:
                call("glBindAttribLocation", here, location, name.encode() + b"\0")
        for name, (number, index) in program.outputs.items():
            if index:
                call("glBindFragDataLocationIndexed", here, number, index, name.encode() + b"\0")
            else:
                call("glBindFragDataLocation", here, number, name.encode() + b"\0")
        if program.feedback_varyings:
            varyings = [v.encode() for v in program.feedback_varyings]
            call("glTransformFeedbackVaryings", here, len(varyings), varyings, program.feedback_mode)
        if program.separable:
            call("glProgramParameteri", here, GL.PROGRAM_SEPARABLE, 1)
        call("glLinkProgram", here)
        for handle, _ in shaders:
            call("glDetachShader", here, handle)
            call("glDeleteShader", handle)

    def _check_links(self, programs: list[tuple[ProgramRecord, int]]) -> None:
        batch = Batch()
        rows = []
        for program, here in programs:
            status, log = batch.out(4), batch.out(2048)
            batch.call("glGetProgramiv", here, GL.LINK_STATUS, status)
            batch.call("glGetProgramInfoLog", here, 2048, None, log)
            rows.append((program, status, log))
        self._executor.run(batch)
        for program, status, log in rows:
            if program.linked and not status.ints()[0]:
                first = (log.text().splitlines() or ["no reason given"])[0]
                self.caveats.append(f"program {program.name} does not link here: {first}")

    def _read_locations(self) -> None:
        batch = Batch()
        rows = []
        for program in self.frame.objects.programs:
            here = self.names.get("program", program.name)
            for uniform in program.uniforms:
                base = uniform.name.removesuffix("[0]")
                for k, location in enumerate(uniform.locations):
                    name = uniform.name if k == 0 else f"{base}[{k}]"
                    rows.append((program.name, location, batch.call("glGetUniformLocation", here, name.encode() + b"\0")))
            for block, (index, _) in program.blocks.items():
                rows.append((~program.name, index, batch.call("glGetUniformBlockIndex", here, block.encode() + b"\0")))
        self._executor.run(batch)
        for program_name, captured, result in rows:
            value = result.value & 0xFFFFFFFF
            if program_name < 0:
                self.names.blocks.setdefault(~program_name, {})[captured] = value
            else:
                self.names.locations.setdefault(program_name, {})[captured & 0xFFFFFFFF] = value

    def define_uniforms(self, batch: Batch, program: ProgramRecord) -> None:
        """Uniform values and block bindings of one program. Leaves it in use."""
        here = self.names.get("program", program.name)
        locations = self.names.locations.get(program.name, {})
        batch.call("glUseProgram", here)
        for uniform in program.uniforms:
            letter, count = uniform_type(uniform.type)
            width = count * (8 if letter[0] == "d" else 4)
            for k, captured in enumerate(uniform.locations):
                data = uniform.values[k * width : (k + 1) * width]
                location = locations.get(captured & 0xFFFFFFFF, 0xFFFFFFFF)
                if location == 0xFFFFFFFF or len(data) != width:
                    continue
                location -= (1 << 32) if location >> 31 else 0
                if len(letter) > 1:
                    batch.call(f"glUniformMatrix{letter[1:]}{letter[0]}v", location, 1, 0, data)
                else:
                    suffix = {"u": "ui"}.get(letter, letter)
                    batch.call(f"glUniform{count}{suffix}v", location, 1, data)
        for index, binding in program.blocks.values():
            batch.call("glUniformBlockBinding", here, self.names.blocks.get(program.name, {}).get(index, index), binding)
        for index, binding in program.storage_blocks.values():
            batch.call("glShaderStorageBlockBinding", here, index, binding)

    # ---- context state -----------------------------------------------------------------------------------------

    def set_state(self, batch: Batch) -> None:
        """The whole context state before the frame, and every binding that the frame touches."""
        frame, number = self.frame, self.frame.context.number
        state = frame.state
        call = batch.call
        for cap, _ in PATTERNS["capability"].domain:
            if number >= capability_since(cap):
                call("glEnable" if state.get("capability", {}).get((cap, 0), (0,))[0] else "glDisable", cap)
        for pattern, cap in (("blend_enabled", GL.BLEND), ("scissor_test_enabled", GL.SCISSOR_TEST)):
            for (i, _), (value,) in state.get(pattern, {}).items():
                if pattern == "scissor_test_enabled" and number < 41:
                    call("glEnable" if value else "glDisable", cap)
                else:
                    call("glEnablei" if value else "glDisablei", cap, i)
        for row in PATTERNS.values():
            if row.read and row.write and not row.object_class:
                for key, values in state.get(row.name, {}).items():
                    self._write(batch, row.name, key, values, number)
        for key, values in state.get("attribute_value", {}).items():
            self._write(batch, "attribute_value", key, values, number)
        polygon_mode = state.get("polygon_mode", {}).get((0, 0))
        if polygon_mode:
            call("glPolygonMode", GL.FRONT_AND_BACK, polygon_mode[0])
        self._bindings(batch)

    def _write(self, batch: Batch, name: str, key: tuple[int, int], raw: tuple[int, ...], number: int) -> None:
        pattern = PATTERNS[name]
        values = [_value(kind, v) for kind, v in zip(pattern.kinds, raw, strict=False)]
        if len(values) != len(pattern.kinds):
            return
        indexed = {"blend_func": 40, "blend_equation": 40, "color_mask": 30, "depth_range": 41, "viewport": 41, "scissor": 41}
        if name in indexed and number < indexed[name]:
            plain = {
                "blend_func": "glBlendFuncSeparate", "blend_equation": "glBlendEquationSeparate", "color_mask": "glColorMask",
                "depth_range": "glDepthRange", "viewport": "glViewport", "scissor": "glScissor",
            }  # fmt: skip
            if key[0] == 0:
                batch.call(plain[name], *values)
        elif pattern.indices:
            batch.call(pattern.write, key[0], *values)
        else:
            batch.call(pattern.write, *values)

    def _bindings(self, batch: Batch) -> None:
        names, state, history, number = self.names, self.frame.state, self.frame.history, self.frame.context.number
        call = batch.call

        def keys(pattern: str) -> list[tuple[int, int]]:
            return sorted(set(history.keys(pattern)) | set(state.get(pattern, {})))

        def value(pattern: str, key: tuple[int, int]) -> tuple[int, ...]:
            return tuple(state.get(pattern, {}).get(key, (0,) * len(PATTERNS[pattern].kinds)))

        for unit, target in keys("texture"):
            if target == 0:  # glBindTextureUnit: every target of the unit
                continue
            call("glActiveTexture", unit)
            call("glBindTexture", target, names.get("texture", value("texture", (unit, target))[0]))
        # unit 0 served the uploads: nothing of ours may stay bound there
        call("glActiveTexture", GL.TEXTURE0)
        for name, (_, since) in TEXTURE_TARGETS.items():
            if number >= since and (GL.TEXTURE0, getattr(GL, name)) not in keys("texture"):
                call("glBindTexture", getattr(GL, name), 0)
        call("glActiveTexture", value("active_texture", (0, 0))[0] or GL.TEXTURE0)
        if number >= 33:
            for unit, _ in keys("sampler"):
                call("glBindSampler", unit, names.get("sampler", value("sampler", (unit, 0))[0]))
        if number >= 42:
            for unit, _ in keys("image"):
                texture, level, layered, layer, access, format_ = value("image", (unit, 0))
                if texture or (unit, 0) in history.keys("image"):
                    call("glBindImageTexture", unit, names.get("texture", texture), level, layered, layer, access or GL.READ_ONLY, format_ or GL.R8)
        for target, index in keys("indexed_buffer"):
            buffer, offset, size = value("indexed_buffer", (target, index))
            if size:
                call("glBindBufferRange", target, index, names.get("buffer", buffer), offset, size)
            else:
                call("glBindBufferBase", target, index, names.get("buffer", buffer))
        call("glBindVertexArray", names.get("vertex array", value("vertex_array", (0, 0))[0]))
        for target in sorted({t for t, _ in keys("buffer")} | {GL.ARRAY_BUFFER, GL.COPY_WRITE_BUFFER, GL.PIXEL_UNPACK_BUFFER}):
            if target != GL.ELEMENT_ARRAY_BUFFER:
                call("glBindBuffer", target, names.get("buffer", value("buffer", (target, 0))[0]))
        call("glBindRenderbuffer", GL.RENDERBUFFER, names.get("renderbuffer", value("renderbuffer", (0, 0))[0]))
        for target in (GL.DRAW_FRAMEBUFFER, GL.READ_FRAMEBUFFER):
            call("glBindFramebuffer", target, names.get("framebuffer", value("framebuffer", (target, 0))[0]))
        call("glUseProgram", names.get("program", value("program", (0, 0))[0]))


def _dimensions(target: int) -> int:
    if target == GL.TEXTURE_1D:
        return 1
    return 3 if target in (GL.TEXTURE_3D, GL.TEXTURE_2D_ARRAY, GL.TEXTURE_CUBE_MAP_ARRAY) else 2


def _value(kind: str, raw: int) -> float:
    if kind == "f":
        return float(struct.unpack("<f", struct.pack("<I", raw & 0xFFFFFFFF))[0])
    if kind == "d":
        return float(struct.unpack("<d", struct.pack("<Q", raw & (1 << 64) - 1))[0])
    return raw


def _parameter(batch: Batch, command: str, target: int, name: str, values: list[float]) -> None:
    """One texture or sampler parameter, as ints or floats as it needs."""
    if not hasattr(GL, name):
        raise ReplayError(f"unknown texture parameter {name}")
    if name == "TEXTURE_BORDER_COLOR" or any(not float(v).is_integer() or abs(v) > 1 << 30 for v in values):
        batch.call(f"{command}fv", target, getattr(GL, name), struct.pack(f"<{len(values)}f", *values))
    else:
        batch.call(f"{command}iv", target, getattr(GL, name), struct.pack(f"<{len(values)}i", *map(int, values)))


def _depth_stencil(depth: bytes, stencil: bytes) -> bytes:
    """Depth as 32-bit integers and stencil bytes, put together as 24-bit depth with stencil."""
    high = np.frombuffer(depth, np.uint32) & np.uint32(0xFFFFFF00)
    return bytes((high | np.frombuffer(stencil, np.uint8)).astype(np.uint32).tobytes())
