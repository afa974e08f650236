"""A Qt Quick scene drawn with OpenGL."""

import sys
import tempfile
from pathlib import Path

from PySide6.QtGui import QGuiApplication
from PySide6.QtQuick import QQuickView, QQuickWindow, QSGRendererInterface

SCENE = """
import QtQuick
Rectangle { width: 400; height: 300; color: "#22303c"
  Repeater { model: 20; Rectangle { x: 20 + index % 5 * 70; y: 20 + Math.floor(index / 5) * 60;
      width: 44; height: 30; radius: index
    color: Qt.hsla(index / 20, 0.6, 0.5, 0.8); rotation: turn.angle + index * 9 } }
  Text { anchors.centerIn: parent; text: "line 7"; color: "white"; font.pixelSize: 36 }
  QtObject { id: turn; property real angle: 0;
      NumberAnimation on angle { from: 0; to: 360; duration: 3000; loops: Animation.Infinite } }
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
