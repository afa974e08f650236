"""What is said of draws given vertex by vertex."""

from __future__ import annotations

from OpenGL import GL

from ._case import Draw, known
from ._draw import clear

_COUNT = 24


def _corner(k: int, x: float, y: float) -> None:
    GL.glColor3f(k / _COUNT, (x + 1) / 2, (y + 1) / 2)
    GL.glVertex2f(x, y)


def _piece(k: int, mode: int) -> None:
    """A piece of four corners at its own place; its middle lies under none of the others."""
    x, y = -0.95 + k % 6 * 0.3, -0.9 + k // 6 * 0.4
    corners = [(x, y), (x + 0.2, y), (x + 0.25, y + 0.3), (x, y + 0.2)]
    if mode == GL.GL_TRIANGLE_STRIP:
        corners = [corners[0], corners[1], corners[3], corners[2]]
    GL.glBegin(mode)
    for at in corners:
        _corner(k, *at)
    GL.glEnd()


def _pieces(modes: tuple[int, ...], flat: bool = False, between: bool = False) -> Draw:
    def draw(_: int) -> None:
        clear()
        GL.glShadeModel(GL.GL_FLAT if flat else GL.GL_SMOOTH)
        for k in range(_COUNT):
            if between:
                (GL.glEnable if k % 2 else GL.glDisable)(GL.GL_BLEND)
            _piece(k, modes[k % len(modes)])

    return draw


def _joined(draws: int) -> dict[str, object]:
    return {"immediate-draws": lambda found: len(found) == 1 and found[0].draws_together == draws}


@known(finds=_joined(1), profile="compatibility")
def quads_in_a_row() -> Draw:
    """24 pairs with nothing but colours between: one pair holds all quads."""
    return _pieces((GL.GL_QUADS,))


@known(finds=_joined(1), profile="compatibility")
def polygons_fans_and_strips_in_a_row() -> Draw:
    """All become triangles of one pair, each in its colours."""
    return _pieces((GL.GL_POLYGON, GL.GL_TRIANGLE_FAN, GL.GL_TRIANGLE_STRIP))


@known(finds=_joined(1), profile="compatibility")
def flat_polygons_in_a_row() -> Draw:
    """A flat polygon has the colour of its first corner, a flat triangle that of its last: the picture stays."""
    return _pieces((GL.GL_POLYGON, GL.GL_TRIANGLE_FAN, GL.GL_TRIANGLE_STRIP), flat=True)


@known(finds={"immediate-draws": 0}, allow=("overwritten-state", "repeated-state"), profile="compatibility")
def quads_with_state_between() -> Draw:
    """Blending is switched between them: they stay apart."""
    return _pieces((GL.GL_QUADS,), between=True)


@known(finds={"immediate-draws": 0}, profile="compatibility")
def quads_and_lines_in_turns() -> Draw:
    """Lines between the quads: no two neighbours are of one kind."""
    return _pieces((GL.GL_QUADS, GL.GL_LINES))


_PAST = ("immediate-draws", "repeated-state", "mergeable", "not-visible", "covered-clear", "overwritten-state")


def _scaled(expected: bool):
    def check(looked) -> None:
        assert bool(len(looked.frame.setup.calls_of("glScalef"))) == expected

    return check


def _lit(scaled: bool) -> Draw:
    GL.glMatrixMode(GL.GL_MODELVIEW)
    if scaled:
        GL.glScalef(2, 2, 2)
    GL.glEnable(GL.GL_LIGHTING)
    GL.glEnable(GL.GL_LIGHT0)

    def draw(_: int) -> None:
        clear()
        for k in range(100):
            GL.glLoadIdentity()
            GL.glTranslatef(-0.95 + 0.2 * (k % 10), -0.95 + 0.2 * (k // 10), 0)
            GL.glRotatef(7.3 * k, 0.3, 0.5, 0.9)
            GL.glBegin(GL.GL_QUADS)
            for x, y in ((0, 0), (1, 0), (1, 1), (0, 1)):
                GL.glNormal3f(0.3 * x - 0.1, 0.4 * y, 0.7)
                GL.glVertex2f(0.18 * x, 0.18 * y)
            GL.glEnd()

    return draw


@known(profile="compatibility", allow=_PAST, checks=(_scaled(True),))
def a_matrix_that_was_scaled_once() -> Draw:
    """Lit squares under a matrix that was scaled alike in all directions, long ago: drivers remember, and invert it
    otherwise ever after. The replay gives it the same past.
    """
    return _lit(True)


@known(profile="compatibility", allow=_PAST, checks=(_scaled(False),))
def a_matrix_that_was_never_scaled() -> Draw:
    """The same without."""
    return _lit(False)
