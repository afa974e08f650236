"""OpenGL ES 2 or 3: formats that no framebuffer takes, compressed ones, mipmaps, cube maps, depth textures."""

from __future__ import annotations

import ctypes
import sys

import numpy as np
from _linking import make_program
from _running import es, forever
from OpenGL import GL

VERTEX_2 = (
    "#version 100\nattribute vec2 place; uniform vec4 box; varying vec2 at; void main() { at = place * 0.5 + 0.5;"
    " gl_Position = vec4(place * box.zw + box.xy, 0.0, 1.0); }"
)
FRAGMENT_2 = (
    "#version 100\nprecision mediump float; varying vec2 at; uniform sampler2D image; void main() { gl_FragColor ="
    " texture2D(image, at * 1.5) + vec4(0.05); }"
)
CUBE_2 = (
    "#version 100\nprecision mediump float; varying vec2 at; uniform samplerCube image; void main() { gl_FragColor ="
    " textureCube(image, vec3(at * 2.0 - 1.0, 0.6)); }"
)
VERTEX_3 = VERTEX_2.replace("#version 100", "#version 300 es").replace("attribute", "in").replace("varying", "out")
ARRAY_3 = (
    "#version 300 es\nprecision mediump float; precision mediump sampler2DArray; in vec2 at; uniform sampler2DArray"
    " image; out vec4 c; void main() { c = texture(image, vec3(at, 1.0)); }"
)
WHOLE_3 = (
    "#version 300 es\nprecision highp float; precision highp usampler2D; in vec2 at; uniform usampler2D image; out vec4"
    " c; void main() { c = vec4(texture(image, at)) / 255.0; }"
)


gles = ctypes.CDLL("libGLESv2.so.2")  # the GL binding knows some calls as desktop OpenGL only


def noise(seed: int, count: int) -> bytes:
    return np.random.default_rng(seed).integers(0, 256, count, np.uint8).tobytes()


def texture(target: int, *images: tuple, smooth: bool = False) -> int:
    name = int(GL.glGenTextures(1))
    GL.glBindTexture(target, name)
    for image in images:
        GL.glTexImage2D(*image)
    GL.glTexParameteri(target, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR_MIPMAP_LINEAR if smooth else GL.GL_NEAREST)
    GL.glTexParameteri(target, GL.GL_TEXTURE_MAG_FILTER, GL.GL_NEAREST)
    GL.glTexParameteri(target, GL.GL_TEXTURE_WRAP_S, GL.GL_CLAMP_TO_EDGE)
    GL.glTexParameteri(target, GL.GL_TEXTURE_WRAP_T, GL.GL_CLAMP_TO_EDGE)
    return name


def main() -> None:
    major = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    context = es(major, 0 if major == 2 else 2)
    flat = GL.GL_TEXTURE_2D
    sources = (VERTEX_2, FRAGMENT_2)
    program, cube = make_program(*sources), make_program(VERTEX_2, CUBE_2)
    quad = int(GL.glGenBuffers(1))
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, quad)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, 32, np.array([-1, -1, 1, -1, -1, 1, 1, 1], np.float32), GL.GL_STATIC_DRAW)
    u8 = GL.GL_UNSIGNED_BYTE
    images = [
        (program, flat, texture(flat, (flat, 0, GL.GL_RGBA, 16, 16, 0, GL.GL_RGBA, u8, noise(1, 1024)))),
        (program, flat, texture(flat, (flat, 0, GL.GL_LUMINANCE, 15, 9, 0, GL.GL_LUMINANCE, u8, noise(2, 16 * 9)))),
        (
            program,
            flat,
            texture(flat, (flat, 0, GL.GL_LUMINANCE_ALPHA, 8, 8, 0, GL.GL_LUMINANCE_ALPHA, u8, noise(3, 128))),
        ),
        (program, flat, texture(flat, (flat, 0, GL.GL_ALPHA, 8, 8, 0, GL.GL_ALPHA, u8, noise(4, 64)))),
        (
            program,
            flat,
            texture(flat, (flat, 0, GL.GL_RGB, 8, 8, 0, GL.GL_RGB, GL.GL_UNSIGNED_SHORT_5_6_5, noise(5, 128))),
        ),
        (
            cube,
            GL.GL_TEXTURE_CUBE_MAP,
            texture(
                GL.GL_TEXTURE_CUBE_MAP,
                *(
                    (GL.GL_TEXTURE_CUBE_MAP_POSITIVE_X + i, 0, GL.GL_RGBA, 8, 8, 0, GL.GL_RGBA, u8, noise(9 + i, 256))
                    for i in range(6)
                ),
            ),
        ),
    ]
    mipmapped = texture(flat, (flat, 0, GL.GL_RGB, 32, 32, 0, GL.GL_RGB, u8, noise(6, 3072)), smooth=True)
    GL.glGenerateMipmap(flat)
    images.append((program, flat, mipmapped))
    GL.glBindTexture(flat, images[1][2])
    GL.glTexSubImage2D(flat, 0, 3, 2, 4, 4, GL.GL_LUMINANCE, u8, noise(7, 16))
    if major == 3:
        stored = texture(flat)
        gles.glTexStorage2D(flat, 1, GL.GL_COMPRESSED_RGBA8_ETC2_EAC, 16, 16)
        gles.glCompressedTexSubImage2D(flat, 0, 0, 0, 16, 16, GL.GL_COMPRESSED_RGBA8_ETC2_EAC, 256, noise(20, 256))
        gles.glCompressedTexSubImage2D(flat, 0, 4, 8, 8, 4, GL.GL_COMPRESSED_RGBA8_ETC2_EAC, 32, noise(21, 32))
        halves = texture(flat)
        GL.glTexImage2D(
            flat,
            0,
            GL.GL_RGB9_E5,
            8,
            8,
            0,
            GL.GL_RGB,
            GL.GL_FLOAT,
            np.random.default_rng(22).random(192).astype(np.float32),
        )
        depth = texture(flat)
        GL.glTexImage2D(
            flat, 0, GL.GL_DEPTH_COMPONENT24, 8, 8, 0, GL.GL_DEPTH_COMPONENT, GL.GL_UNSIGNED_INT, noise(23, 256)
        )
        layers = texture(GL.GL_TEXTURE_2D_ARRAY)
        gles.glTexImage3D(
            GL.GL_TEXTURE_2D_ARRAY, 0, GL.GL_RGBA8_SNORM, 8, 8, 2, 0, GL.GL_RGBA, GL.GL_BYTE, noise(24, 512)
        )
        whole = texture(flat)
        GL.glTexImage2D(flat, 0, GL.GL_RG8UI, 8, 8, 0, GL.GL_RG_INTEGER, u8, noise(25, 128))
        images += [(program, flat, stored), (program, flat, halves), (program, flat, depth)]
        images += [
            (make_program(VERTEX_3, ARRAY_3), GL.GL_TEXTURE_2D_ARRAY, layers),
            (make_program(VERTEX_3, WHOLE_3), flat, whole),
        ]
    boxes = {p: GL.glGetUniformLocation(p, b"box") for p, _, _ in images}
    columns = 4

    def draw(number: int) -> None:
        GL.glClearColor(0.1, 0.1, 0.3, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glDepthFunc(GL.GL_LEQUAL)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, quad)
        for i, (used, target, name) in enumerate(images):
            GL.glUseProgram(used)
            place = GL.glGetAttribLocation(used, b"place")
            GL.glEnableVertexAttribArray(place)
            GL.glVertexAttribPointer(place, 2, GL.GL_FLOAT, False, 8, ctypes.c_void_p(0))
            GL.glUniform4f(
                boxes[used], i % columns / 2 - 0.75, i // columns * 0.6 - 0.65, 0.2 + number % 4 * 0.01, 0.25
            )
            GL.glBindTexture(target, name)
            GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    forever(context, draw)


if __name__ == "__main__":
    main()
