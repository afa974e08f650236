"""Two QOpenGLWidgets and a QQuickWidget in one window: four contexts that share their objects."""

import sys
import tempfile
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, QUrl
from PySide6.QtGui import QOpenGLFunctions, QPainter
from PySide6.QtOpenGLWidgets import QOpenGLWidget
from PySide6.QtQuick import QQuickWindow, QSGRendererInterface
from PySide6.QtQuickWidgets import QQuickWidget
from PySide6.QtWidgets import QApplication, QGridLayout, QLabel, QWidget

SCENE = """
import QtQuick
Rectangle { color: "#22303c"
  Repeater { model: 8; Rectangle { x: 10 + index % 4 * 40; y: 10 + Math.floor(index / 4) * 40
      width: 30; height: 24; radius: index
      color: Qt.hsla(index / 8, 0.6, 0.5, 0.8); rotation: turn.angle + index * 9 } }
  Text { anchors.centerIn: parent; text: "depot 3"; color: "white"; font.pixelSize: 22 }
  QtObject { id: turn; property real angle: 0
      NumberAnimation on angle { from: 0; to: 360; duration: 3000; loops: Animation.Infinite } }
}
"""


class Stripes(QOpenGLWidget):
    number = 0

    def initializeGL(self) -> None:
        self.gl = QOpenGLFunctions(self.context())
        self.gl.initializeOpenGLFunctions()

    def paintGL(self) -> None:
        self.number += 1
        self.gl.glEnable(0x0C11)
        for i in range(12):
            self.gl.glScissor(i * 15, (i * 17 + self.number * 3) % 120, 20, 30)
            self.gl.glClearColor(i / 12, self.number % 20 / 20, 0.4, 1)
            self.gl.glClear(0x4000)
        self.gl.glDisable(0x0C11)


class Painted(QOpenGLWidget):
    number = 0

    def paintGL(self) -> None:
        self.number += 1
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), Qt.GlobalColor.darkBlue)
        painter.setBrush(Qt.GlobalColor.yellow)
        for i in range(6):
            painter.drawEllipse(10 + i * 25, (self.number * 2 + i * 20) % 100, 20, 20)
        painter.drawText(10, 20, "line 7")
        painter.end()


QQuickWindow.setGraphicsApi(QSGRendererInterface.GraphicsApi.OpenGL)
application = QApplication(sys.argv)
window = QWidget()
window.resize(420, 320)
grid = QGridLayout(window)
with tempfile.NamedTemporaryFile("w", suffix=".qml", delete=False) as file:
    file.write(SCENE)
quick = QQuickWidget()
quick.setResizeMode(QQuickWidget.ResizeMode.SizeRootObjectToView)
quick.setSource(QUrl.fromLocalFile(str(Path(file.name))))
views = [Stripes(), Painted(), quick]
for at, view in enumerate([*views, QLabel("departures")]):
    grid.addWidget(view, at // 2, at % 2)
window.show()
timer = QTimer()
timer.timeout.connect(lambda: [view.update() for view in views[:2]])
timer.start(16)
application.exec()
