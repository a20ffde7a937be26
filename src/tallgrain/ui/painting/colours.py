"""The height scale: from a height to its colour, and a raster to a picture."""

from functools import cache

import numpy as np
from PyQt6.QtGui import QColor, QImage

from tallgrain.ui.app import theme


@cache
def _table(heights: tuple[str, ...]) -> np.ndarray:
    stops = np.array([QColor(c).getRgb()[:3] for c in heights], dtype=float)
    at = np.linspace(0, 1, 256)
    channels = [np.interp(at, np.linspace(0, 1, len(stops)), stops[:, c]) for c in range(3)]
    return np.stack(channels, axis=1).round().astype(np.uint32)


def _rgb() -> np.ndarray:
    return _table(tuple(theme.HEIGHTS))


def height_image(heights: np.ndarray, span: float) -> QImage:
    """A raster (rows front to rear) as a picture with the rear at the top."""
    rgb = _rgb()
    argb = (0xFF000000 | rgb[:, 0] << 16 | rgb[:, 1] << 8 | rgb[:, 2]).astype(np.uint32)
    scaled = np.nan_to_num((heights[::-1] / span + 1) * 127.5, nan=-1.0)
    index = np.clip(np.rint(scaled), 0, 255).astype(np.uint8)
    pixels = np.where(scaled < -0.5, np.uint32(0), argb[index])
    # Values under the scale would read as missing: only NaN is.
    pixels = np.where((scaled < -0.5) & np.isfinite(heights[::-1]), argb[0], pixels)
    rows, columns = heights.shape
    data = np.ascontiguousarray(pixels, dtype=np.uint32)
    image = QImage(data.tobytes(), columns, rows, columns * 4, QImage.Format.Format_ARGB32)
    return image.copy()


def height_colour(share: float) -> QColor:
    """The colour of a height: -1 is the lowest of the scale, 1 the highest."""
    return QColor(*(int(c) for c in _rgb()[int(np.clip((share + 1) * 127.5, 0, 255))]))
