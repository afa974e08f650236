"""What is said of targets with several samples."""

from __future__ import annotations

from OpenGL import GL

from ._case import Draw, known
from ._draw import FLAT, HEIGHT, VERTEX, WHITE, WIDTH, Painter, clear, onto
from ._looking import Looked

_SAMPLES = 4
_SLANTED = VERTEX.replace("depth, 1.0);", "depth, 1.0); gl_Position.y += gl_Position.x * 0.1;")


def _multisampled() -> int:
    framebuffer, colour = int(GL.glGenFramebuffers(1)), int(GL.glGenRenderbuffers(1))
    GL.glBindRenderbuffer(GL.GL_RENDERBUFFER, colour)
    GL.glRenderbufferStorageMultisample(GL.GL_RENDERBUFFER, _SAMPLES, GL.GL_RGBA8, WIDTH, HEIGHT)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glFramebufferRenderbuffer(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, GL.GL_RENDERBUFFER, colour)
    return framebuffer


def _resolved(vertex: str = VERTEX, shift: float = 0.0) -> Draw:
    """Two rectangles drawn with several samples, and what they come to in the window."""
    framebuffer, painter = _multisampled(), Painter(FLAT, vertex)

    def draw(_: int) -> None:
        onto(framebuffer)
        clear(0.1, 0.1, 0.1, 1.0)
        painter.use().rect(10 + shift, 10, 70 + shift, 90, WHITE).rect(90, 20, 150, 100, (0.8, 0.2, 0.1, 1.0))
        GL.glBindFramebuffer(GL.GL_READ_FRAMEBUFFER, framebuffer)
        GL.glBindFramebuffer(GL.GL_DRAW_FRAMEBUFFER, 0)
        size = (0, 0, WIDTH, HEIGHT)
        GL.glBlitFramebuffer(*size, *size, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST)

    return draw


_BESIDE = ("mergeable", "copies", "draw-plan", "small-batches", "covered-clear")


def _three_quarters(looked: Looked) -> None:
    (finding,) = looked.of("needless-samples")
    assert finding.less_bytes == 3 * 4 * WIDTH * HEIGHT and finding.remedy is None, finding
    assert "stay in memory" in finding.refused


@known(finds={"needless-samples": 1}, checks=(_three_quarters,), allow=_BESIDE)
def samples_of_whole_pixels() -> Draw:
    """Rectangles that end where pixels end: one sample gives the same."""
    return _resolved()


@known(finds={"needless-samples": 0}, allow=_BESIDE)
def samples_of_slanted_edges() -> Draw:
    """Trap: the same rectangles, slanted a little."""
    return _resolved(_SLANTED)


@known(finds={"needless-samples": 0}, allow=_BESIDE)
def samples_of_half_pixels() -> Draw:
    """Trap: one rectangle begins in the middle of pixels; that is two columns of 80, a small part of the picture."""
    return _resolved(shift=0.5)
