"""The fixed-function pipeline: most of its state is set once, before the frames that use it."""

from __future__ import annotations

import ctypes
import math

from _running import SIZE, compatibility, forever
from OpenGL import GL

LISTS = 40


def checker(size: int) -> bytes:
    return bytes(v for y in range(size) for x in range(size) for v in ((255, 200, 40) if (x ^ y) & 2 else (20, 60, 90)))


def make_lists() -> None:
    GL.glNewList(LISTS, GL.GL_COMPILE)
    GL.glBegin(GL.GL_QUADS)
    for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        GL.glNormal3f(x * 0.3, y * 0.3, 0.9)
        GL.glTexCoord2f((x + 1) / 2, (y + 1) / 2)
        GL.glVertex3f(x, y, 0)
    GL.glEnd()
    GL.glEndList()
    GL.glNewList(LISTS + 1, GL.GL_COMPILE)
    GL.glPushMatrix()
    GL.glScalef(0.4, 0.4, 1)
    GL.glCallList(LISTS)
    GL.glTranslatef(2.3, 0, 0)
    GL.glCallList(LISTS)
    GL.glPopMatrix()
    GL.glEndList()
    # a list that keeps pixels, with an alignment that is not the one of later
    GL.glPixelStorei(GL.GL_UNPACK_ALIGNMENT, 1)
    GL.glNewList(LISTS + 2, GL.GL_COMPILE)
    GL.glBitmap(9, 9, 0, 0, 12, 0, (ctypes.c_ubyte * 18)(*([0xAA, 0x80, 0x55, 0x00] * 4 + [0xFF, 0x80])))
    GL.glDrawPixels(7, 5, GL.GL_RGB, GL.GL_UNSIGNED_BYTE, checker(6))
    GL.glEndList()
    GL.glPixelStorei(GL.GL_UNPACK_ALIGNMENT, 4)


def prepare() -> None:
    GL.glMatrixMode(GL.GL_PROJECTION)
    GL.glFrustum(-0.8, 0.8, -0.6, 0.6, 1, 20)
    GL.glMatrixMode(GL.GL_TEXTURE)
    GL.glScalef(1.5, 1.5, 1)
    GL.glMatrixMode(GL.GL_MODELVIEW)
    GL.glTranslatef(0, 0, -3)
    GL.glPushMatrix()  # stays on the stack over all frames
    GL.glRotatef(20, 1, 0.4, 0)
    for i, color in enumerate(((1, 0.8, 0.6, 1), (0.2, 0.4, 0.9, 1))):
        GL.glLightfv(GL.GL_LIGHT0 + i, GL.GL_DIFFUSE, color)
        GL.glLightfv(GL.GL_LIGHT0 + i, GL.GL_POSITION, (i * 4 - 2, 2, 2, i))
        GL.glEnable(GL.GL_LIGHT0 + i)
    GL.glLightf(GL.GL_LIGHT1, GL.GL_LINEAR_ATTENUATION, 0.2)
    GL.glLightModelfv(GL.GL_LIGHT_MODEL_AMBIENT, (0.2, 0.25, 0.3, 1))
    GL.glMaterialfv(GL.GL_FRONT_AND_BACK, GL.GL_SPECULAR, (0.9, 0.8, 0.7, 1))
    GL.glMaterialf(GL.GL_FRONT, GL.GL_SHININESS, 12)
    GL.glColorMaterial(GL.GL_FRONT_AND_BACK, GL.GL_AMBIENT_AND_DIFFUSE)
    GL.glEnable(GL.GL_COLOR_MATERIAL)
    GL.glEnable(GL.GL_NORMALIZE)
    GL.glFogi(GL.GL_FOG_MODE, GL.GL_LINEAR)
    GL.glFogfv(GL.GL_FOG_COLOR, (0.1, 0.1, 0.3, 1))
    GL.glFogf(GL.GL_FOG_START, 2)
    GL.glFogf(GL.GL_FOG_END, 6)
    GL.glClipPlane(GL.GL_CLIP_PLANE0, (1, 0.2, 0, 0.9))
    GL.glAlphaFunc(GL.GL_GREATER, 0.3)
    GL.glLineStipple(2, 0x0F35)
    GL.glPolygonStipple((ctypes.c_ubyte * 128)(*([0xAA, 0x55, 0xF0, 0x0F] * 32)))
    GL.glBindTexture(GL.GL_TEXTURE_2D, 7)  # a name of its own making
    GL.glTexImage2D(GL.GL_TEXTURE_2D, 0, GL.GL_LUMINANCE, 8, 8, 0, GL.GL_RGB, GL.GL_UNSIGNED_BYTE, checker(8))
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR)
    GL.glTexEnvi(GL.GL_TEXTURE_ENV, GL.GL_TEXTURE_ENV_MODE, GL.GL_COMBINE)
    GL.glTexEnvi(GL.GL_TEXTURE_ENV, GL.GL_COMBINE_RGB, GL.GL_ADD_SIGNED)
    GL.glTexGeni(GL.GL_S, GL.GL_TEXTURE_GEN_MODE, GL.GL_OBJECT_LINEAR)
    GL.glTexGenfv(GL.GL_S, GL.GL_OBJECT_PLANE, (0.7, 0.1, 0, 0.2))
    GL.glPixelZoom(2.0, 3.0)
    GL.glPixelTransferf(GL.GL_RED_BIAS, 0.2)
    GL.glWindowPos2f(20, 90)
    make_lists()


def draw(number: int) -> None:
    GL.glClearColor(0.1, 0.15, 0.2, 1)
    GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT | GL.GL_STENCIL_BUFFER_BIT)
    GL.glEnable(GL.GL_DEPTH_TEST)
    GL.glPushAttrib(GL.GL_ALL_ATTRIB_BITS)
    GL.glEnable(GL.GL_LIGHTING)
    GL.glEnable(GL.GL_TEXTURE_2D)
    GL.glEnable(GL.GL_FOG)
    GL.glColor3f(0.8, 0.5 + 0.4 * math.sin(number), 0.3)
    GL.glPushMatrix()
    GL.glRotatef(number * 7, 0, 1, 0.2)
    GL.glCallList(LISTS)
    GL.glPopMatrix()
    GL.glEnable(GL.GL_TEXTURE_GEN_S)
    GL.glEnable(GL.GL_CLIP_PLANE0)
    GL.glCallLists(2, GL.GL_UNSIGNED_BYTE, bytes((LISTS, LISTS + 1)))
    GL.glPopAttrib()
    GL.glEnable(GL.GL_POLYGON_STIPPLE)
    GL.glBegin(GL.GL_TRIANGLES)
    for i in range(3):
        GL.glColor4ub(255, 80 * i, 30, 255)
        GL.glVertex3f(math.cos(i * 2.1 + number), math.sin(i * 2.1 + number), 0.3)
    GL.glEnd()
    GL.glDisable(GL.GL_POLYGON_STIPPLE)
    GL.glEnable(GL.GL_LINE_STIPPLE)
    GL.glBegin(GL.GL_LINE_LOOP)
    for i in range(5):
        GL.glVertex2f(math.cos(i * 1.25) * 1.3, math.sin(i * 1.25))
    GL.glEnd()
    GL.glDisable(GL.GL_LINE_STIPPLE)
    GL.glPushAttrib(GL.GL_CURRENT_BIT)
    GL.glWindowPos2f(20, 60)
    GL.glCallList(LISTS + 2)
    GL.glPopAttrib()
    GL.glCallList(LISTS + 2)  # at the raster position from before the frame
    GL.glWindowPos2f(20, 90)
    # a list made anew in every frame
    GL.glNewList(LISTS + 5, GL.GL_COMPILE_AND_EXECUTE)
    GL.glRectf(-0.2 + number % 5 / 10, -1, 0.1 + number % 5 / 10, -0.7)
    GL.glEndList()
    GL.glCopyPixels(0, 0, SIZE[0] // 4, 10, GL.GL_COLOR)


def main() -> None:
    context = compatibility()
    prepare()
    forever(context, draw)


if __name__ == "__main__":
    main()
