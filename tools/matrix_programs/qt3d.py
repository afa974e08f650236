"""A Qt 3D scene of the extras: Phong, metal, a torus that turns."""

import os
import sys

from PySide6.QtCore import QTimer
from PySide6.QtGui import QColor, QGuiApplication, QVector3D

os.environ["QT3D_RENDERER"] = "opengl"
from PySide6.Qt3DCore import Qt3DCore
from PySide6.Qt3DExtras import Qt3DExtras
from PySide6.Qt3DRender import Qt3DRender

application = QGuiApplication(sys.argv)
window = Qt3DExtras.Qt3DWindow()
window.resize(400, 300)
window.defaultFrameGraph().setClearColor(QColor("#22303c"))
root = Qt3DCore.QEntity()
keep = []
camera = window.camera()
camera.lens().setPerspectiveProjection(45, 4 / 3, 0.1, 1000)
camera.setPosition(QVector3D(0, 12, 30))
camera.setViewCenter(QVector3D(0, 0, 0))
for k in range(24):
    e = Qt3DCore.QEntity(root)
    m = (Qt3DExtras.QSphereMesh if k % 2 else Qt3DExtras.QTorusMesh)(e)
    m.setRadius(1)
    mat = (Qt3DExtras.QPhongMaterial, Qt3DExtras.QMetalRoughMaterial, Qt3DExtras.QGoochMaterial)[k % 3](e)
    if k % 3 == 0:
        mat.setDiffuse(QColor.fromHsvF(k / 24, 0.6, 0.8))
    t = Qt3DCore.QTransform(e)
    t.setTranslation(QVector3D(k % 6 * 4 - 10, 0, k // 6 * 4 - 6))
    for c in (m, mat, t):
        e.addComponent(c)
    keep += [e, m, mat, t]
lamp = Qt3DCore.QEntity(root)
light = Qt3DRender.QPointLight(lamp)
lt = Qt3DCore.QTransform(lamp)
lt.setTranslation(QVector3D(5, 20, 10))
lamp.addComponent(light)
lamp.addComponent(lt)
window.setRootEntity(root)
window.show()
a = [0]


def step():
    a[0] += 2
    for k, t in enumerate(keep[3::4]):
        t.setRotationY(a[0] + k * 7)


timer = QTimer()
timer.timeout.connect(step)
timer.start(16)
application.exec()
