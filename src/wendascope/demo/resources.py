"""OpenGL objects of the demo: programs, meshes, textures, targets. Needs a current context."""

from __future__ import annotations

import ctypes
from pathlib import Path

import numpy as np
import numpy.typing as npt
from OpenGL import GL
from PIL import Image, ImageDraw, ImageFont

from wendascope.demo.geometry import Mesh

_SHADERS = Path(__file__).parent / "shaders"
SCENE_BINDING = 1
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789:-. "
_CELL = 32


class Program:
    """A linked program and its uniform locations."""

    def __init__(self, vertex: str, fragment: str, defines: tuple[str, ...] = ()) -> None:
        self.handle = GL.glCreateProgram()
        shaders = []
        for kind, name in ((GL.GL_VERTEX_SHADER, vertex), (GL.GL_FRAGMENT_SHADER, fragment)):
            shader = GL.glCreateShader(kind)
            GL.glShaderSource(shader, _source(name, defines))
            GL.glCompileShader(shader)
            if not GL.glGetShaderiv(shader, GL.GL_COMPILE_STATUS):
                raise RuntimeError(f"{name}: {GL.glGetShaderInfoLog(shader).decode()}")
            GL.glAttachShader(self.handle, shader)
            shaders.append(shader)
        GL.glLinkProgram(self.handle)
        if not GL.glGetProgramiv(self.handle, GL.GL_LINK_STATUS):
            raise RuntimeError(f"{vertex} and {fragment}: {GL.glGetProgramInfoLog(self.handle).decode()}")
        for shader in shaders:
            GL.glDetachShader(self.handle, shader)
            GL.glDeleteShader(shader)
        block = GL.glGetUniformBlockIndex(self.handle, "Scene")
        if block != GL.GL_INVALID_INDEX:
            GL.glUniformBlockBinding(self.handle, block, SCENE_BINDING)
        self._locations: dict[str, int] = {}

    def location(self, name: str) -> int:
        if name not in self._locations:
            self._locations[name] = GL.glGetUniformLocation(self.handle, name)
        return self._locations[name]


def _source(name: str, defines: tuple[str, ...]) -> str:
    head = "#version 330 core\n" + "".join(f"#define {d}\n" for d in defines)
    return head + (_SHADERS / "scene.glsl").read_text() + (_SHADERS / name).read_text()


class MeshBuffer:
    """A mesh in buffers of its own, with its vertex array."""

    def __init__(self, mesh: Mesh, instances: npt.NDArray[np.float32] | None = None) -> None:
        self.count = len(mesh.indices)
        self.instances = 0 if instances is None else len(instances)
        self.vertex_array = GL.glGenVertexArrays(1)
        GL.glBindVertexArray(self.vertex_array)
        self.vertices = _buffer(GL.GL_ARRAY_BUFFER, mesh.vertices)
        for index, (size, offset) in enumerate(((3, 0), (3, 12), (2, 24))):
            GL.glEnableVertexAttribArray(index)
            GL.glVertexAttribPointer(index, size, GL.GL_FLOAT, False, 32, ctypes.c_void_p(offset))
        if instances is not None:
            _buffer(GL.GL_ARRAY_BUFFER, instances)
            for column in range(5):
                GL.glEnableVertexAttribArray(3 + column)
                GL.glVertexAttribPointer(3 + column, 4, GL.GL_FLOAT, False, 80, ctypes.c_void_p(16 * column))
                GL.glVertexAttribDivisor(3 + column, 1)
        _buffer(GL.GL_ELEMENT_ARRAY_BUFFER, mesh.indices)
        GL.glBindVertexArray(0)


class GlyphBuffer:
    """A unit quad with texture coordinates, and for the better board one instance a letter."""

    def __init__(self, boxes: npt.NDArray[np.float32] | None = None) -> None:
        corners = np.array([[0, 0, 0, 1], [1, 0, 1, 1], [0, 1, 0, 0], [1, 1, 1, 0]], np.float32)
        self.instances = 0 if boxes is None else len(boxes)
        self.vertex_array = GL.glGenVertexArrays(1)
        GL.glBindVertexArray(self.vertex_array)
        _buffer(GL.GL_ARRAY_BUFFER, corners)
        for index, offset in ((0, 0), (1, 8)):
            GL.glEnableVertexAttribArray(index)
            GL.glVertexAttribPointer(index, 2, GL.GL_FLOAT, False, 16, ctypes.c_void_p(offset))
        if boxes is not None:
            _buffer(GL.GL_ARRAY_BUFFER, boxes)
            for column in range(2):
                GL.glEnableVertexAttribArray(3 + column)
                GL.glVertexAttribPointer(3 + column, 4, GL.GL_FLOAT, False, 32, ctypes.c_void_p(16 * column))
                GL.glVertexAttribDivisor(3 + column, 1)
        GL.glBindVertexArray(0)


def _buffer(target: int, data: npt.NDArray[np.generic]) -> int:
    name = GL.glGenBuffers(1)
    GL.glBindBuffer(target, name)
    GL.glBufferData(target, data.nbytes, np.ascontiguousarray(data), GL.GL_STATIC_DRAW)
    return int(name)


def texture(pixels: npt.NDArray[np.uint8], repeat: bool = True) -> int:
    """A mipmapped RGBA8 texture from an array (height, width, 4)."""
    name = int(GL.glGenTextures(1))
    GL.glBindTexture(GL.GL_TEXTURE_2D, name)
    height, width = pixels.shape[:2]
    GL.glTexImage2D(
        GL.GL_TEXTURE_2D,
        0,
        GL.GL_RGBA8,
        width,
        height,
        0,
        GL.GL_RGBA,
        GL.GL_UNSIGNED_BYTE,
        np.ascontiguousarray(pixels),
    )
    GL.glGenerateMipmap(GL.GL_TEXTURE_2D)
    wrap = GL.GL_REPEAT if repeat else GL.GL_CLAMP_TO_EDGE
    for pname, value in (
        (GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR_MIPMAP_NEAREST), (GL.GL_TEXTURE_MAG_FILTER, GL.GL_LINEAR),
        (GL.GL_TEXTURE_WRAP_S, wrap), (GL.GL_TEXTURE_WRAP_T, wrap),
    ):  # fmt: skip
        GL.glTexParameteri(GL.GL_TEXTURE_2D, pname, value)
    return name


class RenderTarget:
    """A framebuffer with a colour texture, a depth renderbuffer or texture, or both."""

    def __init__(self, width: int, height: int, color: int | None, depth: str | None) -> None:
        self.width, self.height = width, height
        self.framebuffer = GL.glGenFramebuffers(1)
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, self.framebuffer)
        self.texture = 0
        if color is not None:
            self.texture = _target_texture(width, height, color, GL.GL_RGBA, GL.GL_LINEAR)
            GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D, self.texture, 0)
        else:
            GL.glDrawBuffer(GL.GL_NONE)
            GL.glReadBuffer(GL.GL_NONE)
        if depth == "texture":
            self.texture = _target_texture(width, height, GL.GL_DEPTH_COMPONENT24, GL.GL_DEPTH_COMPONENT, GL.GL_LINEAR)
            GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_COMPARE_MODE, GL.GL_COMPARE_REF_TO_TEXTURE)
            GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_DEPTH_ATTACHMENT, GL.GL_TEXTURE_2D, self.texture, 0)
        elif depth == "renderbuffer":
            renderbuffer = GL.glGenRenderbuffers(1)
            GL.glBindRenderbuffer(GL.GL_RENDERBUFFER, renderbuffer)
            GL.glRenderbufferStorage(GL.GL_RENDERBUFFER, GL.GL_DEPTH_COMPONENT24, width, height)
            GL.glFramebufferRenderbuffer(GL.GL_FRAMEBUFFER, GL.GL_DEPTH_ATTACHMENT, GL.GL_RENDERBUFFER, renderbuffer)
        if GL.glCheckFramebufferStatus(GL.GL_FRAMEBUFFER) != GL.GL_FRAMEBUFFER_COMPLETE:
            raise RuntimeError("the driver refuses a render target")


def _target_texture(width: int, height: int, internal: int, format_: int, filter_: int) -> int:
    name = int(GL.glGenTextures(1))
    GL.glBindTexture(GL.GL_TEXTURE_2D, name)
    type_ = GL.GL_UNSIGNED_INT if format_ == GL.GL_DEPTH_COMPONENT else GL.GL_UNSIGNED_BYTE
    GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, internal, width, height, 0, format_, type_, None)
    for pname in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, pname, filter_)
    for pname in (GL.GL_TEXTURE_WRAP_S, GL.GL_TEXTURE_WRAP_T):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, pname, GL.GL_CLAMP_TO_EDGE)
    return name


# ---- pictures on surfaces ---------------------------------------------------------------------------


def plain(red: int, green: int, blue: int) -> npt.NDArray[np.uint8]:
    """A texture of one colour, shape (4, 4, 4)."""
    return np.full((4, 4, 4), (red, green, blue, 255), np.uint8)


def speckle(size: int, seed: int, low: int, high: int, cell: int = 1) -> npt.NDArray[np.uint8]:
    """Grey noise in all three channels."""
    random = np.random.default_rng(seed)
    grey = np.kron(random.integers(low, high, (size // cell, size // cell)), np.ones((cell, cell), int)).astype(
        np.uint8
    )
    return np.dstack([grey, grey, grey, np.full_like(grey, 255)])


def streaks(size: int, seed: int) -> npt.NDArray[np.uint8]:
    """Rain: short bright lines on black."""
    random = np.random.default_rng(seed)
    grey = np.zeros((size, size), np.uint8)
    for _ in range(size // 3):
        x, y, length = random.integers(0, size), random.integers(0, size), random.integers(size // 12, size // 5)
        grey[(np.arange(length) + y) % size, x] = random.integers(60, 200)
    return np.dstack([grey, grey, grey, np.full_like(grey, 255)])


def poster(number: int, size: int = 128) -> npt.NDArray[np.uint8]:
    """A poster of the tram company: two colours, a few shapes, a route number."""
    random = np.random.default_rng(100 + number)
    paper, ink, accent = (
        tuple(int(c) for c in random.integers(lo, hi, 3)) for lo, hi in ((150, 240), (10, 90), (60, 220))
    )
    image = Image.new("RGBA", (size, size), (*paper, 255))
    draw = ImageDraw.Draw(image)
    for _ in range(4):
        x, y, r = (int(v) for v in random.integers(0, size, 3))
        draw.ellipse([x - r // 3, y - r // 3, x + r // 3, y + r // 3], fill=(*accent, 255))
    draw.rectangle([8, size - 40, size - 8, size - 12], fill=(*ink, 255))
    draw.text((14, size - 38), f"LINE {number + 1}", font=ImageFont.load_default(20), fill=(*paper, 255))
    draw.rectangle([2, 2, size - 3, size - 3], outline=(*ink, 255), width=3)
    return np.asarray(image)[::-1, :]  # GL has the bottom row first


def letter_sheet() -> npt.NDArray[np.uint8]:
    """All letters of the board in a row of cells, white on black."""
    image = Image.new("L", (_CELL * len(LETTERS), _CELL), 0)
    draw = ImageDraw.Draw(image)
    font = ImageFont.load_default(26)
    for i, letter in enumerate(LETTERS):
        width = draw.textlength(letter, font=font)
        draw.text((i * _CELL + (_CELL - width) / 2, 0), letter, font=font, fill=255)
    grey = np.asarray(image)
    return np.dstack([grey, grey, grey, np.full_like(grey, 255)])
