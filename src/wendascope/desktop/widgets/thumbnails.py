"""Small pictures of passes in rows of a tree, and larger ones in their tooltips."""

from __future__ import annotations

import base64
import functools
import html

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QRect, QSize, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPixmap

from wendascope.desktop.models.document import Document
from wendascope.desktop.widgets.plain import plain_tip
from wendascope.measure.pass_pictures import Image
from wendascope.texts import visible

SIZE = QSize(46, 20)
"""Of a thumbnail with the colour of its row before it."""
_COLOUR = 8


def thumbnail(document: Document | None, index: int, colour: QColor) -> QPixmap:
    """The colour of a pass and its picture beside it; the colour alone until the picture has come."""
    picture = document.pass_pictures.images.get(index) if document else None
    return _drawn(_Picture(picture), colour.rgb())


def thumbnail_tip(document: Document | None, index: int, name: str) -> str:
    """The name of a pass with its picture below."""
    picture = document.pass_pictures.images.get(index) if document else None
    if picture is None:
        return plain_tip(name)
    data = QByteArray()
    buffer = QBuffer(data)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    _image(picture).save(buffer, "PNG")  # type: ignore[call-overload]
    return f"{html.escape(visible(name))}<br><img src='data:image/png;base64,{base64.b64encode(data.data()).decode()}'>"


class _Picture:
    """A picture as a key: by identity, since arrays have no hash."""

    def __init__(self, pixels: Image | None) -> None:
        self.pixels = pixels

    def __hash__(self) -> int:
        return id(self.pixels)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Picture) and self.pixels is other.pixels


@functools.lru_cache(maxsize=512)
def _drawn(picture: _Picture, colour: int) -> QPixmap:
    pixmap = QPixmap(SIZE)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.fillRect(QRect(0, 0, _COLOUR, SIZE.height()), QColor(colour))
    if picture.pixels is not None:
        room = QRect(_COLOUR + 2, 0, SIZE.width() - _COLOUR - 2, SIZE.height())
        image = _image(picture.pixels).scaled(
            room.size(), Qt.AspectRatioMode.KeepAspectRatioByExpanding, Qt.TransformationMode.SmoothTransformation
        )
        painter.drawImage(
            room,
            image,
            QRect(
                (image.width() - room.width()) // 2, (image.height() - room.height()) // 2, room.width(), room.height()
            ),
        )
    painter.end()
    return pixmap


def _image(pixels: Image) -> QImage:
    height, width, _ = pixels.shape
    return QImage(pixels.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888).copy()
