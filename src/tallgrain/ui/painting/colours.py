"""The height scale: from a height to its colour, and a raster to a picture."""

import numpy as np
from PyQt6.QtGui import QColor, QImage

from tallgrain.ui.app import theme


def _table() -> np.ndarray:
    stops = np.array([QColor(c).getRgb()[:3] for c in theme.HEIGHTS], dtype=float)
    at = np.linspace(0, 1, 256)
    channels = [np.interp(at, np.linspace(0, 1, len(stops)), stops[:, c]) for c in range(3)]
    return np.stack(channels, axis=1).round().astype(np.uint32)


_RGB = _table()
_ARGB = (0xFF000000 | _RGB[:, 0] << 16 | _RGB[:, 1] << 8 | _RGB[:, 2]).astype(np.uint32)


def height_image(heights: np.ndarray, span: float) -> QImage:
    """A raster (rows front to rear) as a picture with the rear at the top."""
    scaled = np.nan_to_num((heights[::-1] / span + 1) * 127.5, nan=-1.0)
    index = np.clip(np.rint(scaled), 0, 255).astype(np.uint8)
    pixels = np.where(scaled < -0.5, np.uint32(0), _ARGB[index])
    # Values under the scale would read as missing: only NaN is.
    pixels = np.where((scaled < -0.5) & np.isfinite(heights[::-1]), _ARGB[0], pixels)
    rows, columns = heights.shape
    data = np.ascontiguousarray(pixels, dtype=np.uint32)
    image = QImage(data.tobytes(), columns, rows, columns * 4, QImage.Format.Format_ARGB32)
    return image.copy()


def height_colour(share: float) -> QColor:
    """The colour of a height: -1 is the lowest of the scale, 1 the highest."""
    return QColor(*(int(c) for c in _RGB[int(np.clip((share + 1) * 127.5, 0, 255))]))


# In full light a colour is itself; in the shade it stays light enough that its height can be read.
DARKEST, LIGHTEST = 0.72, 1.06


LIGHTS = 64


def _lit_table() -> np.ndarray:
    share = np.linspace(DARKEST, LIGHTEST, LIGHTS)[:, None, None]
    rgb = np.minimum(_RGB[None] * share, 255).astype(np.uint32)
    return 0xFF000000 | rgb[..., 0] << 16 | rgb[..., 1] << 8 | rgb[..., 2]


_LIT = _lit_table()


def lit_image(heights: np.ndarray, span: float, light: np.ndarray) -> QImage:
    """Heights (rows, columns; NaN: nothing there) in more or less light (0 to 1), top row first."""
    there = np.isfinite(heights)
    pixels = np.zeros(heights.shape, dtype=np.uint32)
    index = np.clip((heights[there] / span + 1) * 127.5 + 0.5, 0, 255).astype(np.uint8)
    step = np.rint(light[there] * (LIGHTS - 1)).astype(np.intp)
    pixels[there] = _LIT[step, index]
    rows, columns = heights.shape
    image = QImage(pixels.tobytes(), columns, rows, columns * 4, QImage.Format.Format_ARGB32)
    return image.copy()
