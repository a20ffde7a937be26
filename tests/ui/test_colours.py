"""Both palettes: contrasts by their definition, and pages that are really drawn in them."""

import numpy as np
import pytest
from PyQt6.QtGui import QColor, QImage
from PyQt6.QtWidgets import QApplication, QLabel

from tallgrain.ui.app import dress, theme

GROUNDS = ("PAPER", "PANEL", "SHADE")


def luminance(colour):
    """Relative luminance as WCAG 2.2 defines it."""
    parts = np.array(QColor(colour).getRgb()[:3]) / 255
    linear = np.where(parts <= 0.04045, parts / 12.92, ((parts + 0.055) / 1.055) ** 2.4)
    return float(linear @ (0.2126, 0.7152, 0.0722))


def contrast(one, other):
    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.fixture(autouse=True)
def light_again():
    yield
    if QApplication.instance() is not None:
        dress.dress(QApplication.instance(), "light")


@pytest.mark.parametrize("strong", [False, True])
@pytest.mark.parametrize("dark", [False, True])
def test_words_and_edges_stand_out(dark, strong):
    palette = theme.colours(dark, strong)
    text, edges = (7.0, 4.5) if strong else (4.5, 3.0)
    for ground in GROUNDS:
        for words in ("INK", "MUTED", "RUST"):
            assert contrast(palette[words], palette[ground]) >= text, (words, ground)
        for edge in ("EDGE", "GOLD"):
            assert contrast(palette[edge], palette[ground]) >= edges, (edge, ground)
    assert contrast(palette["INK"], palette["GOLD_WASH"]) >= 4.5
    assert contrast(palette["PANEL"], palette["INK"]) >= 4.5  # the one next step
    assert contrast("#FFFFFF", palette["STOP"]) >= 4.5
    # A kernel's fill tells its state: full stands out from empty.
    assert contrast(palette["GRAIN"], palette["PANEL"]) >= 2.5


def test_heights_keep_their_order_in_both():
    for heights in (theme.LIGHT_HEIGHTS, theme.DARK_HEIGHTS):
        middle = luminance(heights[3])
        away = [abs(luminance(c) - middle) for c in heights]
        assert away[0] > away[1] > away[2] > 0 == away[3] < away[4] < away[5] < away[6]


def words_on_screen(window):
    """Every label that is seen, the contrast of its darkest and lightest pixel."""
    image = window.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
    ratio = image.devicePixelRatio()
    for label in window.findChildren(QLabel):
        seen = label.visibleRegion().boundingRect()
        if not label.isVisible() or not label.text() or seen.height() < 10 or seen.width() < 12:
            continue
        corner = label.mapTo(window, seen.topLeft())
        box = (np.array([corner.x(), corner.y(), seen.width(), seen.height()]) * ratio).astype(int)
        part = image.copy(*box.tolist()).convertToFormat(QImage.Format.Format_RGB32)
        data = np.frombuffer(part.constBits().asarray(part.sizeInBytes()), np.uint8)
        pixels = data.reshape(part.height(), part.bytesPerLine() // 4, 4)[:, : part.width(), 2::-1]
        tone = pixels.reshape(-1, 3) @ np.array([0.2126, 0.7152, 0.0722])
        ends = [QColor(*pixels.reshape(-1, 3)[i].tolist()) for i in (tone.argmin(), tone.argmax())]
        yield label, contrast(*ends)


@pytest.mark.parametrize("choice", ["light", "dark", "strong", "strong dark"])
def test_every_page_can_be_read(season, qtbot, choice, tmp_path):
    window, _ = season
    dress.choose_colours(choice)
    assert theme.worn() == ("dark" in choice, "strong" in choice)
    assert dress.colours_chosen() == choice
    least = 6.8 if "strong" in choice else 4.4
    # Each page in a light and in a dark palette, in a plain and in a strong one.
    half = choice in ("dark", "strong")
    for name in list(window.rooms)[half::2]:
        window.visit(name)
        qtbot.wait(30)
        for label, ratio in words_on_screen(window):
            if label.isEnabled():
                assert ratio >= least, (name, label.text(), ratio)
    # On paper it is drawn light, whatever the window wears.
    window.visit("Surface")
    window.surface.save_picture(tmp_path / "field.png")
    made = QImage(str(tmp_path / "field.png"))
    assert made.pixelColor(2, 2) == QColor(theme.LIGHT["PAPER"])
    assert theme.worn() == ("dark" in choice, "strong" in choice)
