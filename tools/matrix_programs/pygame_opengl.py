"""Immediate mode in a window of pygame."""

import pygame
from OpenGL import GL

pygame.init()
pygame.display.set_mode((400, 300), pygame.OPENGL | pygame.DOUBLEBUF)
GL.glEnable(GL.GL_DEPTH_TEST)
number = 0
while True:
    pygame.event.pump()
    GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
    GL.glLoadIdentity()
    GL.glRotatef(number * 4, 0.3, 1, 0.2)
    GL.glBegin(GL.GL_TRIANGLES)
    for i in range(24):
        GL.glColor3f(i / 24, 1 - i / 24, 0.5)
        GL.glVertex3f((i * 7 % 11) / 8 - 0.7, (i * 5 % 13) / 8 - 0.7, (i % 3) / 3 - 0.3)
    GL.glEnd()
    pygame.display.flip()
    number += 1
