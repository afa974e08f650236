"""Who reads the result of a pass: in the frame, in the next one, in another way than through a sampler, or nobody."""

from __future__ import annotations

from OpenGL import GL

from ._case import Draw, known
from ._draw import (
    BLUE,
    GREEN,
    HEIGHT,
    RED,
    TEXTURED,
    WHITE,
    WIDTH,
    Painter,
    clear,
    link,
    noise,
    onto,
    target,
    texture,
)  # fmt: skip

COPY_BY_IMAGE = """#version 430
layout(local_size_x=8, local_size_y=8) in;
layout(binding=0, rgba8) readonly uniform image2D source;
layout(binding=1, rgba8) writeonly uniform image2D drain;
void main() { ivec2 at = ivec2(gl_GlobalInvocationID.xy); imageStore(drain, at, imageLoad(source, at)); }
"""


def _refuted(looked, rule: str, reason: str) -> None:
    assert [r for r in looked.examined.refuted if r.rule == rule and reason in r.reason], looked.examined.refuted


def _pass_a(paint: Painter, framebuffer: int) -> None:
    """Two steps: a clear, and a rectangle over all of it."""
    onto(framebuffer)
    clear(0, 0, 0, 1)
    paint.use().rect(0, 0, WIDTH, HEIGHT, (0.3, 0.6, 0.9, 1))


def _show(show: Painter, image: int) -> None:
    onto(0)
    clear()
    GL.glBindTexture(GL.GL_TEXTURE_2D, image)
    show.use().place(0, 0, WIDTH, HEIGHT).draw()


@known(finds={"covered-clear": {0, 2}})
def read_by_sampler() -> Draw:
    """The window samples pass A: everything is read. Both clears are drawn over."""
    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, image = target()

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        _show(show, image)

    return draw


@known(finds={"unread-pass": {0, 1}, "covered-clear": lambda found: True})
def read_by_nobody() -> Draw:
    """Pass A (steps 0, 1) is drawn and nobody looks at it: it can go, and what it leaves is drawn anew by the next
    frame.
    """
    paint = Painter()
    framebuffer, _ = target()

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        onto(0)
        clear()
        paint.rect(20, 20, 60, 60, RED)

    return draw


@known(finds={"covered-clear": {0, 3}})
def read_by_dispatch_bound_before() -> Draw:
    """A dispatch reads pass A through an image unit that was bound before the frame, and the window shows what it
    writes.

    Nothing is unread: without pass A all pixels differ.
    """
    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, image = target()
    copy = texture()
    compute = link({GL.GL_COMPUTE_SHADER: COPY_BY_IMAGE})
    GL.glBindImageTexture(0, image, 0, False, 0, GL.GL_READ_ONLY, GL.GL_RGBA8)
    GL.glBindImageTexture(1, copy, 0, False, 0, GL.GL_WRITE_ONLY, GL.GL_RGBA8)

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        GL.glUseProgram(compute)
        GL.glMemoryBarrier(GL.GL_ALL_BARRIER_BITS)
        GL.glDispatchCompute(WIDTH // 8, HEIGHT // 8, 1)
        GL.glMemoryBarrier(GL.GL_ALL_BARRIER_BITS)
        _show(show, copy)

    return draw


@known(finds={"covered-clear": {0, 3}})
def read_by_dispatch_bound_in_frame() -> Draw:
    """The same with the image units bound in every frame."""
    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, image = target()
    copy = texture()
    compute = link({GL.GL_COMPUTE_SHADER: COPY_BY_IMAGE})

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        GL.glUseProgram(compute)
        GL.glBindImageTexture(0, image, 0, False, 0, GL.GL_READ_ONLY, GL.GL_RGBA8)
        GL.glBindImageTexture(1, copy, 0, False, 0, GL.GL_WRITE_ONLY, GL.GL_RGBA8)
        GL.glMemoryBarrier(GL.GL_ALL_BARRIER_BITS)
        GL.glDispatchCompute(WIDTH // 8, HEIGHT // 8, 1)
        GL.glMemoryBarrier(GL.GL_ALL_BARRIER_BITS)
        _show(show, copy)

    return draw


@known(finds={"covered-clear": {0}})
def read_by_blit() -> Draw:
    """glBlitFramebuffer brings pass A to the window."""
    paint = Painter()
    framebuffer, _ = target()

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        GL.glBindFramebuffer(GL.GL_READ_FRAMEBUFFER, framebuffer)
        GL.glBindFramebuffer(GL.GL_DRAW_FRAMEBUFFER, 0)
        GL.glBlitFramebuffer(0, 0, WIDTH, HEIGHT, 0, 0, WIDTH, HEIGHT, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST)

    return draw


@known(finds={"covered-clear": {0}})
def read_by_named_blit() -> Draw:
    """glBlitNamedFramebuffer brings pass A to the window, without a binding that says so."""
    paint = Painter()
    framebuffer, _ = target()

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        GL.glBlitNamedFramebuffer(
            framebuffer, 0, 0, 0, WIDTH, HEIGHT, 0, 0, WIDTH, HEIGHT, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST
        )

    return draw


@known(finds={"covered-clear": lambda found: True})
def read_by_named_copy() -> Draw:
    """glCopyTextureSubImage2D copies from pass A, bound for reading, into a texture that the window shows."""
    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, _ = target()
    copy = texture()

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        GL.glCopyTextureSubImage2D(copy, 0, 0, 0, 0, 0, WIDTH, HEIGHT)
        _show(show, copy)

    return draw


@known(finds={"covered-clear": lambda found: True})
def read_by_image_copy() -> Draw:
    """glCopyImageSubData copies pass A's texture, named by nothing but itself, into one that the window shows."""
    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, image = target()
    copy = texture()

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        GL.glCopyImageSubData(image, GL.GL_TEXTURE_2D, 0, 0, 0, 0, copy, GL.GL_TEXTURE_2D, 0, 0, 0, 0, WIDTH, HEIGHT, 1)
        _show(show, copy)

    return draw


@known(allow=("covered-clear",))
def read_back_into_a_buffer() -> Draw:
    """glReadPixels brings pass A into a pixel buffer, from which the window's texture is filled."""
    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, _ = target()
    copy = texture()
    buffer = int(GL.glGenBuffers(1))
    GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, buffer)
    GL.glBufferData(GL.GL_PIXEL_PACK_BUFFER, WIDTH * HEIGHT * 4, None, GL.GL_STREAM_COPY)
    GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, 0)

    def draw(_: int) -> None:
        from ctypes import c_void_p

        _pass_a(paint, framebuffer)
        GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, buffer)
        GL.glReadPixels(0, 0, WIDTH, HEIGHT, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, c_void_p(0))
        GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, 0)
        GL.glBindBuffer(GL.GL_PIXEL_UNPACK_BUFFER, buffer)
        GL.glBindTexture(GL.GL_TEXTURE_2D, copy)
        GL.glTexSubImage2D(GL.GL_TEXTURE_2D, 0, 0, 0, WIDTH, HEIGHT, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, c_void_p(0))
        GL.glBindBuffer(GL.GL_PIXEL_UNPACK_BUFFER, 0)
        _show(show, copy)

    return draw


@known(allow=("covered-clear",))
def read_by_the_frame_after() -> Draw:
    """Ping-pong: each frame reads what the frame before drew, and draws what the next one reads. Nothing is unread."""
    paint, show = Painter(), Painter(TEXTURED)
    two = [target(), target()]

    def draw(number: int) -> None:
        onto(two[number % 2][0])
        paint.use().rect(0, 0, WIDTH, HEIGHT, (0.2 + 0.1 * (number % 5), 0.5, 0.5, 1))
        _show(show, two[1 - number % 2][1])

    return draw


@known()
def kept_for_much_later() -> Draw:
    """A picture is drawn by every tenth frame and shown by all. In the frame that is taken nothing draws it:
    nothing to find.
    """
    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, image = target()

    def draw(number: int) -> None:
        if number % 10 == 0:
            onto(framebuffer)
            paint.use().rect(0, 0, WIDTH, HEIGHT, GREEN)
        onto(0)
        GL.glBindTexture(GL.GL_TEXTURE_2D, image)
        show.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(finds={"unread-pass": {0, 1, 2, 3}, "covered-clear": lambda found: True})
def a_chain_that_nobody_reads() -> Draw:
    """Pass A (0, 1) is sampled by pass B (2, 3) alone, and nobody reads B: both can go, told once."""
    paint, show = Painter(), Painter(TEXTURED)
    a, b = target(), target()

    def draw(_: int) -> None:
        _pass_a(paint, a[0])
        onto(b[0])
        clear()
        GL.glBindTexture(GL.GL_TEXTURE_2D, a[1])
        show.use().place(0, 0, WIDTH, HEIGHT).draw()
        onto(0)
        clear()
        paint.use().rect(20, 20, 60, 60, BLUE)

    return draw


@known(checks=(lambda looked: _refuted(looked, "unread-pass", "left behind"),))
def accumulates_unread() -> Draw:
    """A pass that blends onto what it drew before and that this frame does not read: a later frame may show it, so
    nothing is claimed.
    """
    paint = Painter()
    framebuffer, _ = target()

    def draw(_: int) -> None:
        onto(framebuffer)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)
        paint.use().rect(0, 0, WIDTH, HEIGHT, (0.01, 0.02, 0.01, 0))
        GL.glDisable(GL.GL_BLEND)
        paint.rect(0, 0, 10, 10, WHITE)
        onto(0)
        clear()
        paint.rect(20, 20, 60, 60, RED)

    return draw


@known(allow=("covered-clear",))
def read_by_a_texture_buffer() -> Draw:
    """A pass is read back into a buffer, which a shader reads through a buffer texture."""
    from ctypes import c_void_p

    paint = Painter()
    show = Painter(
        "#version 330\nuniform samplerBuffer texels;\nin vec2 uv;\nout vec4 result;\n"
        f"void main() {{ result = texelFetch(texels, int(uv.y * {HEIGHT}.0) * {WIDTH} + int(uv.x * {WIDTH}.0)); }}\n"
    )
    framebuffer, _ = target()
    buffer, view = int(GL.glGenBuffers(1)), int(GL.glGenTextures(1))
    GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, buffer)
    GL.glBufferData(GL.GL_PIXEL_PACK_BUFFER, WIDTH * HEIGHT * 4, None, GL.GL_STREAM_COPY)
    GL.glBindTexture(GL.GL_TEXTURE_BUFFER, view)
    GL.glTexBuffer(GL.GL_TEXTURE_BUFFER, GL.GL_RGBA8, buffer)

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        GL.glReadPixels(0, 0, WIDTH, HEIGHT, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, c_void_p(0))
        onto(0)
        clear()
        show.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(allow=("covered-clear",))
def read_through_mipmaps() -> Draw:
    """A pass draws level 0, glGenerateMipmap reads it, and the window samples level 2 only."""
    paint = Painter()
    show = Painter(
        "#version 330\nuniform sampler2D image;\nin vec2 uv;\nout vec4 result;\nvoid main() { result ="
        " textureLod(image, uv, 2.0); }\n"
    )
    image = int(GL.glGenTextures(1))
    GL.glBindTexture(GL.GL_TEXTURE_2D, image)
    GL.glTexStorage2D(GL.GL_TEXTURE_2D, 3, GL.GL_RGBA8, WIDTH, HEIGHT)
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_NEAREST_MIPMAP_NEAREST)
    framebuffer = int(GL.glGenFramebuffers(1))
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_TEXTURE_2D, image, 0)

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        GL.glBindTexture(GL.GL_TEXTURE_2D, image)
        GL.glGenerateMipmap(GL.GL_TEXTURE_2D)
        _show(show, image)

    return draw


@known(allow=("covered-clear",))
def read_by_a_view() -> Draw:
    """The window samples a view of the texture that pass A draws, under the view's own name."""
    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, image = target()
    view = int(GL.glGenTextures(1))
    GL.glTextureView(view, GL.GL_TEXTURE_2D, image, GL.GL_RGBA8, 0, 1, 0, 1)
    GL.glBindTexture(GL.GL_TEXTURE_2D, view)
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_NEAREST)

    def draw(_: int) -> None:
        _pass_a(paint, framebuffer)
        _show(show, view)

    return draw


def _unnamed(each_frame: bool) -> Draw:
    """Texture 0 of the target: filled once, or anew in every frame."""
    show = Painter(TEXTURED)

    def fill(seed: int) -> None:
        GL.glBindTexture(GL.GL_TEXTURE_2D, 0)
        pixels = noise(32, 32, seed)
        GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_RGBA8, 32, 32, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, pixels)
        for parameter in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
            GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, GL.GL_NEAREST)

    fill(1)

    def draw(frame: int) -> None:
        onto(0)
        clear()
        show.use().place(10, 10, 90, 90).draw()
        if each_frame:
            fill(2 + frame % 2)
        show.use().place(100, 10, 150, 90).draw()

    return draw


@known(allow=("repeated-state", "overwritten-state", "copies", "mergeable"))
def a_texture_without_a_name() -> Draw:
    """Filled before the frame and never named: the replay shows it."""
    return _unnamed(False)


@known(allow=("repeated-state", "overwritten-state", "copies", "mergeable"))
def a_texture_without_a_name_filled_in_the_frame() -> Draw:
    """The first step shows what the frame before left in it."""
    return _unnamed(True)


def _depth_target(side: int) -> tuple[int, int]:
    """(framebuffer, depth texture) without colour."""
    depth, framebuffer = int(GL.glGenTextures(1)), int(GL.glGenFramebuffers(1))
    GL.glBindTexture(GL.GL_TEXTURE_2D, depth)
    GL.glTexStorage2D(GL.GL_TEXTURE_2D, 1, GL.GL_DEPTH_COMPONENT24, side, side)
    for parameter in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, GL.GL_NEAREST)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_DEPTH_ATTACHMENT, GL.GL_TEXTURE_2D, depth, 0)
    GL.glDrawBuffer(GL.GL_NONE)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
    GL.glBindTexture(GL.GL_TEXTURE_2D, 0)
    return framebuffer, depth


@known(
    finds={"unread-pass": set(range(12))},
    allow=(*("covered-clear", "mergeable", "small-batches", "not-visible"), "back-to-front"),
)
def a_view_that_is_shown_nowhere() -> Draw:
    """A shadow map (0 to 3), a view that reads it (4 to 7), and two images made of that one after the other (8 to 11),
    of which nobody shows the last: all twelve steps serve nothing, told once. The window's own view stays.
    """
    paint, lit, copy = Painter(), Painter(TEXTURED), Painter(TEXTURED)
    shadow, depth = _depth_target(256)
    view, first, second = target(depth=True), target(), target()

    def draw(_: int) -> None:
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, shadow)
        GL.glViewport(0, 0, 256, 256)
        GL.glClear(GL.GL_DEPTH_BUFFER_BIT)
        paint.use()
        for k in range(3):
            paint.rect(10 + 40 * k, 10, 45 + 40 * k, 90, RED, depth=0.1 * k)
        onto(view[0])
        clear(depth=True)
        GL.glBindTexture(GL.GL_TEXTURE_2D, depth)
        lit.use()
        for k in range(3):
            lit.rect(10 + 40 * k, 10, 45 + 40 * k, 90, depth=0.1 * k)
        GL.glDisable(GL.GL_DEPTH_TEST)
        for framebuffer, source in ((first[0], view[1]), (second[0], first[1])):
            onto(framebuffer)
            clear()
            GL.glBindTexture(GL.GL_TEXTURE_2D, source)
            copy.use().rect(0, 0, WIDTH, HEIGHT)
        GL.glBindTexture(GL.GL_TEXTURE_2D, 0)
        onto(0)
        clear()
        paint.use().rect(20, 20, 100, 90, GREEN)

    return draw
