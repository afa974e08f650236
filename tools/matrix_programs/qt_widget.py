"""A QOpenGLWidget beside ordinary widgets."""

import sys

from PySide6.QtCore import QTimer
from PySide6.QtGui import QOpenGLFunctions
from PySide6.QtOpenGLWidgets import QOpenGLWidget
from PySide6.QtWidgets import QApplication, QLabel, QVBoxLayout, QWidget


class View(QOpenGLWidget):
    number = 0

    def initializeGL(self) -> None:
        self.gl = QOpenGLFunctions(self.context())
        self.gl.initializeOpenGLFunctions()

    def paintGL(self) -> None:
        self.number += 1
        self.gl.glEnable(0x0C11)
        for i in range(12):
            self.gl.glScissor(i * 30, (i * 17 + self.number * 3) % 200, 40, 30)
            self.gl.glClearColor(i / 12, self.number % 20 / 20, 0.4, 1)
            self.gl.glClear(0x4000)
        self.gl.glDisable(0x0C11)


application = QApplication(sys.argv)
window = QWidget()
window.resize(400, 300)
column = QVBoxLayout(window)
view = View()
column.addWidget(QLabel("departures"))
column.addWidget(view, 1)
window.show()
timer = QTimer()
timer.timeout.connect(view.update)
timer.start(16)
application.exec()
