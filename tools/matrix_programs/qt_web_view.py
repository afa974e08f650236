"""A web view: its pages are drawn by a thread of its own and composed by Qt Quick."""

import os
import sys

os.environ.setdefault("QTWEBENGINE_CHROMIUM_FLAGS", "--no-sandbox")
os.environ.setdefault("QTWEBENGINE_DISABLE_SANDBOX", "1")
from PySide6.QtCore import QUrl
from PySide6.QtQuick import QQuickWindow, QSGRendererInterface
from PySide6.QtWebEngineWidgets import QWebEngineView
from PySide6.QtWidgets import QApplication

PAGE = """<body style="background:#22303c;color:white;font:24px sans-serif"><h1>Depot 3</h1><div id=t>0</div>
<canvas id=c width=300 height=120></canvas><script>
let n = 0; const g = c.getContext('2d');
function turn() { n++; t.textContent = n; g.fillStyle = `hsl(${n * 3},60%,50%)`; g.fillRect(n * 5 % 280, 20, 20, 60);
  requestAnimationFrame(turn); } turn(); </script>"""

QQuickWindow.setGraphicsApi(QSGRendererInterface.GraphicsApi.OpenGL)
application = QApplication(sys.argv)
view = QWebEngineView()
view.resize(420, 320)
view.setHtml(PAGE, QUrl("about:blank"))
view.show()
application.exec()
