"""A Qt Quick 3D scene: lit, shadowed meshes of principled materials, drawn with OpenGL."""

import sys
import tempfile
from pathlib import Path

from PySide6.QtGui import QGuiApplication
from PySide6.QtQuick import QQuickView, QQuickWindow, QSGRendererInterface

SCENE = """
import QtQuick
import QtQuick3D
View3D { width: 400; height: 300
  environment: SceneEnvironment { clearColor: "#22303c"; backgroundMode: SceneEnvironment.Color }
  PerspectiveCamera { position: Qt.vector3d(0, 250, 500); eulerRotation.x: -25 }
  DirectionalLight { eulerRotation: Qt.vector3d(-50, -30, 0); castsShadow: true }
  PointLight { position: Qt.vector3d(100, 150, 100); color: "orange"; brightness: 2 }
  Model { source: "#Rectangle"; scale: Qt.vector3d(8, 8, 1); eulerRotation.x: -90
    materials: PrincipledMaterial { baseColor: "#667788"; roughness: 0.4 } }
  Node { NumberAnimation on eulerRotation.y { from: 0; to: 360; duration: 4000; loops: Animation.Infinite }
    Repeater3D { model: 24
      Model { source: index % 2 ? "#Cube" : "#Sphere"; scale: Qt.vector3d(0.4, 0.4, 0.4)
        position: Qt.vector3d((index % 6) * 70 - 175, 30, Math.floor(index / 6) * 70 - 105)
        materials: PrincipledMaterial { baseColor: Qt.hsla(index / 24, 0.6, 0.5, 1)
          metalness: index / 24; roughness: 0.3 } } } }
  Model { source: "#Cube"; position: Qt.vector3d(0, 120, 0)
    materials: PrincipledMaterial { alphaMode: PrincipledMaterial.Blend; opacity: 0.5 } }
}
"""
QQuickWindow.setGraphicsApi(QSGRendererInterface.GraphicsApi.OpenGL)
application = QGuiApplication(sys.argv)
view = QQuickView()
with tempfile.NamedTemporaryFile("w", suffix=".qml", delete=False) as file:
    file.write(SCENE)
view.setSource(Path(file.name).as_uri())
view.show()
application.exec()
