"""Reads stencil and colour of a pass's target in the middle of a frame, and gives it a stencil buffer where it has
none.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.gl_helpers import pack_as_before, pack_tightly
from wendascope.backends.opengl.calls.packed import CallBatch, Out
from wendascope.backends.opengl.instruments.own_draw import OwnDraw
from wendascope.backends.opengl.objects.formats import pixel_size
from wendascope.backends.opengl.rebuild.executor import PackedBatch
from wendascope.backends.opengl.running.draw_state import DrawState
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.slots import Slot
from wendascope.errors import ReplayError
from wendascope.frame.passes import Target
from wendascope.registry import GL

Bytes = npt.NDArray[np.uint8]
_CUBE = range(GL.TEXTURE_CUBE_MAP_POSITIVE_X, GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6)
_SAMPLES_SHADER = """uniform highp usampler2DMS stencil; uniform int samples; out highp uint value;
void main() { ivec2 at = ivec2(gl_FragCoord.xy);
    value = texelFetch(stencil, ivec2(at.x / samples, at.y), at.x % samples).r; }
"""


@dataclass(frozen=True)
class _Attachment:
    """One attachment of the framebuffer, in names of this context."""

    point: int
    texture: bool
    name: int
    level: int
    face: int
    layer: int
    layered: bool
    stencil_bits: int


@dataclass(frozen=True)
class _StencilRead:
    """Reads boxes of one target under one state, packed once."""

    batch: PackedBatch
    corner: int
    """Word of the batch from which on x, y, width and height stand."""
    out: Out

    def read(self, box: tuple[int, int, int, int]) -> Bytes:
        x0, y0, x1, y1 = box
        for k, value in enumerate((x0, y0, x1 - x0, y1 - y0)):
            self.batch.set_word(self.corner + k, value)
        self.batch.run()
        return self.batch.output(self.out, (x1 - x0) * (y1 - y0)).reshape(y1 - y0, x1 - x0).copy()


_SAMPLES_DRAW: Slot[OwnDraw] = Slot("samples draw")


class TargetReader:
    """For one pass. The target's framebuffer is the draw framebuffer whenever a method is called."""

    def __init__(self, session: ReplaySession, target: Target, state: DrawState) -> None:
        self._session, self._target, self._state = session, target, state
        self.window = target.framebuffer == 0
        self.samples = max(state.value("SAMPLES"), 1)
        self.layers = 1
        self._made: list[tuple[str, int]] = []
        self._attached = False
        self._stencil_image: _Attachment | None = None
        self._layer_framebuffer = self._copy = 0
        self._kept_read_buffer: int | None = None
        self._formats: dict[int, tuple[int, int]] = {}
        self._resolve: _SampleResolve | None = None
        self._stencil_reads: dict[DrawState, _StencilRead] = {}
        if self.window:
            default = session.frame.default_framebuffer
            self.has_colour, self.own_depth = True, default.depth > 0
            self.own_stencil = bool(getattr(session.frame, "window_stencil", default.stencil))
            self._depth = self._stencil = None
            return
        found = self._attachments()
        colours = [a for point, a in sorted(found.items()) if point not in (GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT)]
        self._colours = colours
        self._depth, self._stencil = found.get(GL.DEPTH_ATTACHMENT), found.get(GL.STENCIL_ATTACHMENT)
        self.has_colour, self.own_depth, self.own_stencil = (
            bool(colours),
            self._depth is not None,
            self._stencil is not None,
        )
        layered = next((a for a in found.values() if a.layered), None)
        if layered is not None:
            self.layers = self._layer_count(layered)

    # ---- what there is -----------------------------------------------------------------------------------

    def _attachments(self) -> dict[int, _Attachment]:
        session = self._session
        target = session.offers.draw_target
        names = (
            "OBJECT_TYPE",
            "OBJECT_NAME",
            "TEXTURE_LEVEL",
            "TEXTURE_CUBE_MAP_FACE",
            "TEXTURE_LAYER",
            "LAYERED",
            "STENCIL_SIZE",
        )
        points = [*(GL.COLOR_ATTACHMENT0 + i for i in range(8)), GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT]
        batch = CallBatch(session.offers)
        outs = {}
        for point in points:
            for name in names:
                full = "GL_FRAMEBUFFER_ATTACHMENT_" + name
                if session.offers(full):
                    outs[point, name] = out = batch.out(4)
                    batch.call(
                        "glGetFramebufferAttachmentParameteriv",
                        target,
                        point,
                        getattr(GL, full.removeprefix("GL_")),
                        out,
                    )
        session.run_batch(batch)

        def value(point: int, name: str) -> int:
            return outs[point, name].ints()[0] if (point, name) in outs else 0

        found = {}
        for point in points:
            kind = value(point, "OBJECT_TYPE")
            if kind in (GL.TEXTURE, GL.RENDERBUFFER):
                texture = kind == GL.TEXTURE
                extra = [value(point, name) if texture else 0 for name in names[2:6]]
                found[point] = _Attachment(
                    point,
                    texture,
                    value(point, "OBJECT_NAME"),
                    extra[0],
                    extra[1],
                    extra[2],
                    bool(extra[3]),
                    value(point, "STENCIL_SIZE"),
                )
        return found

    def _layer_count(self, attachment: _Attachment) -> int:
        captured = {here: name for name, here in self._session.names.by_class.get("texture", {}).items()}
        record = self._session.frame.objects.texture(captured.get(attachment.name, -1))
        if record is None or not record.images:
            return 1
        if record.target == GL.TEXTURE_CUBE_MAP:
            return 6
        return max(record.images[0].depth, 1)

    def area(self, box: tuple[int, int, int, int]) -> tuple[slice, slice]:
        """Where a box of pixels lies in the maps: rows and columns. On a layered target, every layer's whole."""
        x0, y0, x1, y1 = box
        if self.layers > 1:
            return slice(0, self.layers * self._target.height), slice(0, self._target.width * self.samples)
        return slice(y0, y1), slice(x0 * self.samples, x1 * self.samples)

    # ---- a stencil buffer ----------------------------------------------------------------------------------

    def attach_stencil(self) -> None:
        """Give the framebuffer a stencil buffer, if it has none. Raises ReplayError where it cannot have one."""
        if self.window or self.own_stencil or self._attached:
            return
        session, target = self._session, self._session.offers.draw_target
        batch = CallBatch(session.offers)
        if self._depth is not None:
            if not self._depth.stencil_bits:
                raise ReplayError(f"{self._target.name} has a depth format that no stencil goes with")
            self._attach(batch, target, GL.STENCIL_ATTACHMENT, self._depth)
            self._stencil_image = self._depth
        else:
            self._stencil_image = self._make_stencil()
            self._attach(batch, target, GL.STENCIL_ATTACHMENT, self._stencil_image)
        session.run_batch(batch)
        self._attached = True

    def detach_stencil(self) -> None:
        if not self._attached:
            return
        batch = CallBatch(self._session.offers)
        batch.call(
            "glFramebufferRenderbuffer", self._session.offers.draw_target, GL.STENCIL_ATTACHMENT, GL.RENDERBUFFER, 0
        )
        self._session.run_batch(batch)
        self._attached = False

    @property
    def size(self) -> tuple[int, int]:
        return self._target.width, self._target.height

    def depth_stencil_copy(self) -> int:
        """A framebuffer of ours whose depth and stencil are like the target's, to keep its contents in."""
        if self._copy:
            return self._copy
        session, state = self._session, self._state
        names = CallBatch(session.offers)
        renderbuffer, framebuffer = names.out(4), names.out(4)
        names.call("glGenRenderbuffers", 1, renderbuffer)
        names.call("glGenFramebuffers", 1, framebuffer)
        session.run_batch(names)
        self._copy = framebuffer.uints()[0]
        self._made += [("glDeleteRenderbuffers", renderbuffer.uints()[0]), ("glDeleteFramebuffers", self._copy)]
        depth = self.own_depth or self.window
        format_, point = (
            (GL.DEPTH24_STENCIL8, GL.DEPTH_STENCIL_ATTACHMENT) if depth else (GL.STENCIL_INDEX8, GL.STENCIL_ATTACHMENT)
        )
        if depth and floating_depth(session, state):
            format_ = GL.DEPTH32F_STENCIL8
        batch = CallBatch(session.offers)
        call = batch.call
        call("glBindRenderbuffer", GL.RENDERBUFFER, renderbuffer.uints()[0])
        if self.samples > 1:
            call("glRenderbufferStorageMultisample", GL.RENDERBUFFER, self.samples, format_, *self.size)
        else:
            call("glRenderbufferStorage", GL.RENDERBUFFER, format_, *self.size)
        call("glBindRenderbuffer", GL.RENDERBUFFER, state.value("RENDERBUFFER_BINDING"))
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, self._copy)
        call("glFramebufferRenderbuffer", GL.DRAW_FRAMEBUFFER, point, GL.RENDERBUFFER, renderbuffer.uints()[0])
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, state.value("DRAW_FRAMEBUFFER_BINDING"))
        session.run_batch(batch)
        return self._copy

    def _make_stencil(self) -> _Attachment:
        """A stencil image of ours of the target's size, samples and layers."""
        session, state = self._session, self._state
        width, height = self._target.width, self._target.height
        make = CallBatch(session.offers)
        out = make.out(4)
        if self.layers > 1:
            make.call("glGenTextures", 1, out)
            session.run_batch(make)
            name = out.uints()[0]
            batch = CallBatch(session.offers)
            batch.call("glBindTexture", GL.TEXTURE_2D_ARRAY, name)
            batch.call("glTexStorage3D", GL.TEXTURE_2D_ARRAY, 1, GL.DEPTH24_STENCIL8, width, height, self.layers)
            batch.call("glBindTexture", GL.TEXTURE_2D_ARRAY, state.value("TEXTURE_BINDING_2D_ARRAY"))
            session.run_batch(batch)
            self._made.append(("glDeleteTextures", name))
            return _Attachment(GL.STENCIL_ATTACHMENT, True, name, 0, 0, 0, True, 8)
        make.call("glGenRenderbuffers", 1, out)
        session.run_batch(make)
        name = out.uints()[0]
        batch = CallBatch(session.offers)
        batch.call("glBindRenderbuffer", GL.RENDERBUFFER, name)
        format_ = GL.DEPTH24_STENCIL8 if session.offers("GL_DEPTH24_STENCIL8") else GL.STENCIL_INDEX8
        if self.samples > 1:
            batch.call("glRenderbufferStorageMultisample", GL.RENDERBUFFER, self.samples, format_, width, height)
        else:
            batch.call("glRenderbufferStorage", GL.RENDERBUFFER, format_, width, height)
        batch.call("glBindRenderbuffer", GL.RENDERBUFFER, state.value("RENDERBUFFER_BINDING"))
        session.run_batch(batch)
        self._made.append(("glDeleteRenderbuffers", name))
        return _Attachment(GL.STENCIL_ATTACHMENT, False, name, 0, 0, 0, False, 8)

    def _attach(self, batch: CallBatch, target: int, point: int, image: _Attachment, layer: int | None = None) -> None:
        """Attach an image, or one layer of it."""
        if not image.texture:
            batch.call("glFramebufferRenderbuffer", target, point, GL.RENDERBUFFER, image.name)
        elif layer is not None and self._is_cube(image):
            batch.call("glFramebufferTexture2D", target, point, _CUBE[layer], image.name, image.level)
        elif layer is not None:
            batch.call("glFramebufferTextureLayer", target, point, image.name, image.level, layer)
        elif image.face:
            batch.call("glFramebufferTexture2D", target, point, image.face, image.name, image.level)
        elif image.layer and not image.layered:
            batch.call("glFramebufferTextureLayer", target, point, image.name, image.level, image.layer)
        elif self._session.offers("glFramebufferTexture"):
            if not image.layered and self._is_array(image):
                batch.call("glFramebufferTextureLayer", target, point, image.name, image.level, 0)
            else:
                batch.call("glFramebufferTexture", target, point, image.name, image.level)
        else:
            batch.call(
                "glFramebufferTexture2D",
                target,
                point,
                GL.TEXTURE_2D_MULTISAMPLE if self.samples > 1 else GL.TEXTURE_2D,
                image.name,
                image.level,
            )

    def _texture_target(self, image: _Attachment) -> int:
        captured = next(
            (name for name, here in self._session.names.by_class.get("texture", {}).items() if here == image.name), -1
        )
        record = self._session.frame.objects.texture(captured)
        return record.target if record else 0

    def _is_cube(self, image: _Attachment) -> bool:
        return self._texture_target(image) == GL.TEXTURE_CUBE_MAP

    def _is_array(self, image: _Attachment) -> bool:
        return self._texture_target(image) in (
            GL.TEXTURE_2D_ARRAY,
            GL.TEXTURE_CUBE_MAP_ARRAY,
            GL.TEXTURE_3D,
            GL.TEXTURE_2D_MULTISAMPLE_ARRAY,
        )

    # ---- reading -------------------------------------------------------------------------------------------

    def read_stencil(self, box: tuple[int, int, int, int]) -> Bytes:
        """Stencil values within a box, shape of `area(box)`. Raises ReplayError where it cannot be read."""
        if self.layers > 1:
            return self._read_layers()
        if self.samples > 1:
            if self._resolve is None:
                self._resolve = _SampleResolve(self._session, self._target, self.samples)
            return self._resolve.read(box, self._state)
        if self._state not in self._stencil_reads:
            self._stencil_reads[self._state] = self._stencil_read()
        return self._stencil_reads[self._state].read(box)

    def _stencil_read(self) -> _StencilRead:
        batch = self._reading()
        out = batch.out(self._target.width * self._target.height)
        call = batch.call("glReadPixels", 0, 0, 1, 1, GL.STENCIL_INDEX, GL.UNSIGNED_BYTE, out)
        self._end_reading(batch)
        return _StencilRead(self._session.packed(batch), call.first_argument, out)

    def _read_layers(self) -> Bytes:
        if self.samples > 1:
            raise ReplayError("targets that are layered and multisampled are not counted")
        session, width, height = self._session, self._target.width, self._target.height
        if not self._layer_framebuffer:
            make = CallBatch(session.offers)
            out = make.out(4)
            make.call("glGenFramebuffers", 1, out)
            session.run_batch(make)
            self._layer_framebuffer = out.uints()[0]
            self._made.append(("glDeleteFramebuffers", self._layer_framebuffer))
        image = self._stencil_image if self._attached else self._stencil
        assert image is not None
        batch = self._reading(self._layer_framebuffer)
        outs = []
        for layer in range(self.layers):
            self._attach(batch, session.offers.read_target, GL.STENCIL_ATTACHMENT, image, layer)
            outs.append(batch.out(width * height))
            batch.call("glReadPixels", 0, 0, width, height, GL.STENCIL_INDEX, GL.UNSIGNED_BYTE, outs[-1])
        self._end_reading(batch)
        session.run_batch(batch)
        return np.concatenate(
            [np.frombuffer(out.data, np.uint8, width * height).reshape(height, width) for out in outs]
        )

    def read_colours(self, box: tuple[int, int, int, int], state: DrawState) -> list[bytes]:
        """Raw pixels of every colour buffer within a box of a target with one sample and one layer."""
        x0, y0, x1, y1 = box
        session = self._session
        buffers = [state.value("DRAW_BUFFER0")] if self.window else [a.point for a in self._colours]
        found = []
        for buffer in buffers:
            format_, type_ = self._colour_format(buffer)
            batch = self._reading()
            self._read_from(batch, buffer)
            out = batch.out((x1 - x0) * (y1 - y0) * pixel_size(format_, type_))
            batch.call("glReadPixels", x0, y0, x1 - x0, y1 - y0, format_, type_, out)
            self._end_reading(batch)
            session.run_batch(batch)
            found.append(out.data[: out.size])
        self._put_back_read_buffer()
        return found

    def read_shown(self, box: tuple[int, int, int, int], state: DrawState) -> tuple[int, int, int, int]:
        """The first colour buffer at the first pixel of a box, eight bits a channel."""
        self._read_buffer()
        batch = self._reading()
        self._read_from(batch, state.value("DRAW_BUFFER0") if self.window else self._colours[0].point)
        out = batch.out(4)
        batch.call("glReadPixels", box[0], box[1], 1, 1, GL.RGBA, GL.UNSIGNED_BYTE, out)
        self._end_reading(batch)
        self._session.run_batch(batch)
        self._put_back_read_buffer()
        red, green, blue, alpha = out.data[:4]
        return red, green, blue, alpha

    def read_depth(self, box: tuple[int, int, int, int]) -> float:
        """Depth at the first pixel of a box, 0 to 1."""
        batch = self._reading()
        out = batch.out(4)
        batch.call("glReadPixels", box[0], box[1], 1, 1, GL.DEPTH_COMPONENT, GL.FLOAT, out)
        self._end_reading(batch)
        self._session.run_batch(batch)
        return float(out.floats()[0])

    def _read_from(self, batch: CallBatch, buffer: int) -> None:
        if buffer != GL.NONE and self._session.offers("glReadBuffer"):
            batch.call("glReadBuffer", buffer)

    def _put_back_read_buffer(self) -> None:
        batch = self._reading()
        self._read_from(batch, self._read_buffer())
        self._end_reading(batch)
        self._session.run_batch(batch)

    def _read_buffer(self) -> int:
        """The target's own read buffer, asked before it was first changed."""
        if self._kept_read_buffer is None:
            batch = self._reading()
            out = batch.out(4)
            if self._session.offers("GL_READ_BUFFER"):
                batch.call("glGetIntegerv", GL.READ_BUFFER, out)
            self._end_reading(batch)
            self._session.run_batch(batch)
            self._kept_read_buffer = out.ints()[0]
        return self._kept_read_buffer

    def _colour_format(self, buffer: int) -> tuple[int, int]:
        """Format and type that give every bit, where the driver names them; else eight bits a channel."""
        if buffer not in self._formats:
            self._read_buffer()
            found = (GL.RGBA, GL.UNSIGNED_BYTE)
            if self._session.offers("GL_IMPLEMENTATION_COLOR_READ_FORMAT"):
                batch = self._reading()
                self._read_from(batch, buffer)
                outs = [batch.out(4), batch.out(4)]
                for out, name in zip(
                    outs, ("IMPLEMENTATION_COLOR_READ_FORMAT", "IMPLEMENTATION_COLOR_READ_TYPE"), strict=True
                ):
                    batch.call("glGetIntegerv", getattr(GL, name), out)
                self._end_reading(batch)
                self._session.run_batch(batch)
                named = (outs[0].ints()[0], outs[1].ints()[0])
                try:
                    pixel_size(*named)
                    found = named
                except KeyError:
                    pass
            self._formats[buffer] = found
        return self._formats[buffer]

    def _reading(self, framebuffer: int | None = None) -> CallBatch:
        """A batch that reads from the target into client memory; ended by `_end_reading`."""
        batch, state = CallBatch(self._session.offers), self._state
        pack_tightly(batch, self._session.offers)
        if self._session.offers.read_target != self._session.offers.draw_target:
            wanted = state.value("DRAW_FRAMEBUFFER_BINDING") if framebuffer is None else framebuffer
            batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, wanted)
        return batch

    def _end_reading(self, batch: CallBatch) -> None:
        state = self._state
        if self._session.offers.read_target != self._session.offers.draw_target:
            batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, state.value("READ_FRAMEBUFFER_BINDING"))
        pack_as_before(batch, self._session.offers, state.value)

    def at(self, state: DrawState) -> None:
        """From now on, leave the context as this state says."""
        self._state = state

    def close(self) -> None:
        """Give back what was made; the target is as it was."""
        self.detach_stencil()
        if self._resolve:
            self._resolve.close()
        batch = CallBatch(self._session.offers)
        for command, name in self._made:
            batch.call(command, 1, struct.pack("<I", name))
        self._session.run_batch(batch)


def floating_depth(session: ReplaySession, state: DrawState) -> bool:
    """Whether the draw framebuffer's depth is floating-point."""
    batch = CallBatch(session.offers)
    out = batch.out(4)
    point = GL.DEPTH if state.value("DRAW_FRAMEBUFFER_BINDING") == 0 else GL.DEPTH_ATTACHMENT
    batch.call(
        "glGetFramebufferAttachmentParameteriv",
        GL.DRAW_FRAMEBUFFER,
        point,
        GL.FRAMEBUFFER_ATTACHMENT_COMPONENT_TYPE,
        out,
    )
    session.run_batch(batch)
    return out.ints()[0] == GL.FLOAT


class _SampleResolve:
    """Every sample of a multisampled stencil buffer, spread out beside each other: pixel x has columns x times
    samples on.
    """

    def __init__(self, session: ReplaySession, target: Target, samples: int) -> None:
        if (
            not OwnDraw.offered(session)
            or not session.offers("GL_DEPTH_STENCIL_TEXTURE_MODE")
            or not session.offers("glTexStorage2DMultisample")
        ):
            raise ReplayError("the samples of a multisampled target cannot be read one by one on this context")
        self._session, self._samples = session, samples
        self._draw = session.slots.get(_SAMPLES_DRAW, lambda: OwnDraw(session, _SAMPLES_SHADER))
        names = CallBatch(session.offers)
        textures, framebuffers = names.out(8), names.out(8)
        names.call("glGenTextures", 2, textures)
        names.call("glGenFramebuffers", 2, framebuffers)
        session.run_batch(names)
        self._copy, self._spread = textures.uints()
        self._from, self._to = framebuffers.uints()
        self._size = (target.width, target.height)
        self._made = False

    def _make(self, state: DrawState) -> None:
        width, height = self._size
        floating = floating_depth(self._session, state)
        batch = CallBatch(self._session.offers)
        call = batch.call
        call("glBindTexture", GL.TEXTURE_2D_MULTISAMPLE, self._copy)
        call(
            "glTexStorage2DMultisample",
            GL.TEXTURE_2D_MULTISAMPLE,
            self._samples,
            GL.DEPTH32F_STENCIL8 if floating else GL.DEPTH24_STENCIL8,
            width,
            height,
            1,
        )
        call("glTexParameteri", GL.TEXTURE_2D_MULTISAMPLE, GL.DEPTH_STENCIL_TEXTURE_MODE, GL.STENCIL_INDEX)
        call("glBindTexture", GL.TEXTURE_2D_MULTISAMPLE, state.value("TEXTURE_BINDING_2D_MULTISAMPLE"))
        before = batch.out(4)
        call("glGetIntegerv", GL.TEXTURE_BINDING_2D, before)
        self._session.run_batch(batch)
        batch = CallBatch(self._session.offers)
        call = batch.call
        call("glBindTexture", GL.TEXTURE_2D, self._spread)
        call("glTexStorage2D", GL.TEXTURE_2D, 1, GL.R8UI, width * self._samples, height)
        call("glBindTexture", GL.TEXTURE_2D, before.uints()[0])
        for framebuffer, point, target, texture in (
            (self._from, GL.DEPTH_STENCIL_ATTACHMENT, GL.TEXTURE_2D_MULTISAMPLE, self._copy),
            (self._to, GL.COLOR_ATTACHMENT0, GL.TEXTURE_2D, self._spread),
        ):
            call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, framebuffer)
            call("glFramebufferTexture2D", GL.DRAW_FRAMEBUFFER, point, target, texture, 0)
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, state.value("DRAW_FRAMEBUFFER_BINDING"))
        self._session.run_batch(batch)
        self._made = True

    def read(self, box: tuple[int, int, int, int], state: DrawState) -> Bytes:
        if not self._made:
            self._make(state)
        session, samples = self._session, self._samples
        x0, y0, x1, y1 = box
        width, height = self._size
        framebuffer = state.value("DRAW_FRAMEBUFFER_BINDING")
        batch = CallBatch(session.offers)
        call = batch.call
        self._draw.begin(batch, state, (0, 0, width * samples, height))
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, framebuffer)
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, self._from)
        call("glBlitFramebuffer", x0, y0, x1, y1, x0, y0, x1, y1, GL.STENCIL_BUFFER_BIT, GL.NEAREST)
        call("glBindFramebuffer", GL.FRAMEBUFFER, self._to)
        call("glBindTexture", GL.TEXTURE_2D_MULTISAMPLE, self._copy)
        sampler = None
        if session.offers("glBindSampler"):
            sampler = batch.out(4)
            call("glGetIntegerv", GL.SAMPLER_BINDING, sampler)
        session.run_batch(batch)
        unit = state.value("ACTIVE_TEXTURE") - GL.TEXTURE0
        batch = CallBatch(session.offers)
        call = batch.call
        if sampler is not None:
            call("glBindSampler", unit, 0)
        locations = CallBatch(session.offers)
        where = [
            locations.call("glGetUniformLocation", self._draw.program, name) for name in (b"stencil\0", b"samples\0")
        ]
        session.run_batch(locations)
        call("glUniform1i", where[0].value, unit)
        call("glUniform1i", where[1].value, samples)
        masked = not all(state.values("COLOR_WRITEMASK"))
        if masked:
            call("glColorMask", 1, 1, 1, 1)
        self._draw.draw(batch)
        columns = (x1 - x0) * samples
        out = batch.out(columns * (y1 - y0))
        if session.offers.value(GL.PIXEL_PACK_BUFFER):
            call("glBindBuffer", GL.PIXEL_PACK_BUFFER, 0)
        call("glPixelStorei", GL.PACK_ALIGNMENT, 1)
        call("glReadPixels", x0 * samples, y0, columns, y1 - y0, GL.RED_INTEGER, GL.UNSIGNED_BYTE, out)
        if masked:
            call("glColorMask", *state.values("COLOR_WRITEMASK"))
        if sampler is not None:
            call("glBindSampler", unit, sampler.uints()[0])
        call("glBindTexture", GL.TEXTURE_2D_MULTISAMPLE, state.value("TEXTURE_BINDING_2D_MULTISAMPLE"))
        call("glPixelStorei", GL.PACK_ALIGNMENT, state.value("PACK_ALIGNMENT"))
        if session.offers.value(GL.PIXEL_PACK_BUFFER):
            call("glBindBuffer", GL.PIXEL_PACK_BUFFER, state.value("PIXEL_PACK_BUFFER_BINDING"))
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, framebuffer)
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, state.value("READ_FRAMEBUFFER_BINDING"))
        self._draw.end(batch, state)
        session.run_batch(batch)
        return np.frombuffer(out.data, np.uint8, columns * (y1 - y0)).reshape(y1 - y0, columns)

    def close(self) -> None:
        batch = CallBatch(self._session.offers)
        batch.call("glDeleteTextures", 2, struct.pack("<II", self._copy, self._spread))
        batch.call("glDeleteFramebuffers", 2, struct.pack("<II", self._from, self._to))
        self._session.run_batch(batch)
