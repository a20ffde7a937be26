"""Reports as pages and as one file; the drawings of Drift at their places."""

import itertools
import re
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtPdf import QPdfDocument

from standins import shipped_sheet
from tallgrain.core.drift.charts import control_chart
from tallgrain.core.drift.terms import TERMS
from tallgrain.core.drift.tiles import Tiles
from tallgrain.core.machine.sheet import Adjuster
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.errors import InputError
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.seasons import read_season, workshop
from tallgrain.store.entries import MachineEvent
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app import theme
from tallgrain.ui.painting.control import ControlPicture, paint_control, survey_at, x_of
from tallgrain.ui.painting.field import Picture, paint_ground
from tallgrain.ui.painting.labels import Placer
from tallgrain.ui.painting.machine import extent_of, fitted_machine, paint_machine
from tallgrain.ui.painting.multiples import Multiples, Tile, layout_of, paint_multiples, tile_image
from tallgrain.ui.painting.sections import SectionsPicture, paint_sections
from tallgrain.ui.painting.view import fitted, plate_extent
from tallgrain.ui.report.blocks import Drawing, Heading, Report, Table, Words
from tallgrain.ui.report.html import html_of, svg_of
from tallgrain.ui.report.make import season_report, write_report
from tallgrain.ui.report.pair import pair_report
from tallgrain.ui.report.pdf import scale_of

BARLEY, MILLET = shipped_sheet("Barley"), shipped_sheet("Millet")
BEGAN = datetime(2026, 2, 1, 18, tzinfo=UTC)


def pages_of(path):
    return len(re.findall(rb"/Type\s*/Page[^s]", path.read_bytes()))


def report(rows, *more):
    table = Table(
        ("name", "figure <mm>"), tuple((f"row {i}", f"{i / 1000:.3f}") for i in range(rows))
    )
    return Report(
        "A & B <title>", "about", (Words("The answer & more", True), table, *more), "foot"
    )


@pytest.mark.parametrize(("rows", "pages"), [(3, (1, 1)), (60, (2, 2)), (400, (8, 14))])
def test_long_tables_go_on_over_as_many_pages_as_they_need(qapp, tmp_path, rows, pages):
    write_report(tmp_path / "a.pdf", report(rows))
    assert pages[0] <= pages_of(tmp_path / "a.pdf") <= pages[1]


def test_a_heading_stays_with_its_picture(qapp, tmp_path):
    drawn = []

    def paint(painter, rect):
        drawn.append(rect)
        painter.fillRect(rect, theme.GOLD)

    big = Drawing(paint, 690, 700, "a large picture")
    write_report(tmp_path / "a.pdf", report(25, Heading("The picture"), big))
    assert pages_of(tmp_path / "a.pdf") == 2
    assert drawn and drawn[0] == QRectF(0, 0, 690, 700)


def test_words_of_a_report_are_words_and_nothing_is_fetched(qapp):
    def paint(painter, rect):
        painter.fillRect(rect, theme.GOLD)

    text = html_of(report(2, Heading("<h>"), Drawing(paint, 100, 50, 'a "caption" & more')))
    assert "A &amp; B &lt;title&gt;" in text and "<title>A &amp; B" in text
    assert "figure &lt;mm&gt;" in text and "&lt;h&gt;" in text and "<svg" in text
    outside = re.findall(r'(?:src|href|url)\s*[=(]\s*["\']?(?!data:|#)([^"\')\s>]+)', text)
    assert outside == []
    assert text.count("@font-face") == 2


@pytest.fixture
def year(home):
    """A season of Barley's that bows from the twelfth survey on, and a printer without any."""
    chance = np.random.default_rng(2)
    grid = [(x, y) for y in np.linspace(15, 335, 7) for x in np.linspace(15, 335, 7)]
    u = (np.array(grid)[:, 0] - 175) / 175
    with Ledger.open(home) as ledger:
        from tallgrain.formats.machine_toml import shipped_sheet_text

        for name in ("Barley", "Rye"):
            ledger.put_machine(name, shipped_sheet_text(name), BEGAN)
        ledger.put_machine("Broken", "format = ", BEGAN)
        for i in range(22):
            heights = 0.03 * u**2 * (1 if i < 12 else 3) + chance.normal(0, 0.003, len(u))
            points = tuple(
                Point(float(x), float(y), float(z), (float(z) + 0.001, float(z) - 0.001))
                for (x, y), z in zip(grid, heights, strict=True)
            )
            when = BEGAN + timedelta(days=6.0 * i)
            kept = Conditions(170, 70, 12, "smooth")
            ledger.add_survey(Survey("Barley", "surface", when, points, kept, shape=(7, 7)))
        ledger.add_event(
            MachineEvent("Barley", BEGAN + timedelta(days=70), "new <sheet>", "& glue")
        )
        yield ledger


def test_a_season_and_a_pair_are_told_with_their_figures(qapp, year, tmp_path):
    season = read_season(year, BARLEY)
    (change,) = season.drift.happenings
    assert change.survey == "13" and change.event.kind == "new <sheet>"
    made = season_report(year, season)
    words = html_of(made)
    assert "rose against the middle by 0.0" in words and "new &lt;sheet&gt;" in words
    assert "&amp; glue" in words and "99.9 %" in words and "± 0.0" in words
    tables = [b for b in made.blocks if isinstance(b, Table)]
    assert len(tables[-1].rows) == 22 and all(row[2] == "49" for row in tables[-1].rows)
    both = pair_report(year, season, "3", "20")
    told = " ".join(b.words for b in both.blocks if isinstance(b, Words))
    assert "the shape changed" in told.lower() and "Noted in between: new <sheet>" in told
    for i, one in enumerate((made, both)):
        write_report(tmp_path / f"{i}.pdf", one)
        assert pages_of(tmp_path / f"{i}.pdf") >= 2
    with pytest.raises(InputError, match="no whole survey"):
        season_report(year, read_season(year, shipped_sheet("Rye")))
    with pytest.raises(InputError, match="no survey '99'"):
        pair_report(year, season, "3", "99")


def test_reports_are_made_for_paper(qapp, year, tmp_path, monkeypatch):
    """Nothing under nine points, no page nearly empty, and the first one answers by itself."""
    season = read_season(year, shipped_sheet("Barley"))
    idents = season.drift.idents
    pixels, font = [], theme.font
    monkeypatch.setattr(theme, "font", lambda px, bold=False: pixels.append(px) or font(px, bold))
    for made in (season_report(year, season), pair_report(year, season, *idents[-2:])):
        assert isinstance(made.blocks[0], Words) and made.blocks[0].strong
        for drawing in (b for b in made.blocks if isinstance(b, Drawing)):
            pixels.clear()
            svg_of(drawing)
            assert min(pixels) * scale_of(drawing) * 72 / 96 >= 9.0, drawing.caption
        pages = QPdfDocument(None)
        write_report(tmp_path / "a.pdf", made)
        pages.load(str(tmp_path / "a.pdf"))
        for number in range(pages.pageCount()):
            image = pages.render(number, QSize(210, 297)).convertToFormat(
                QImage.Format.Format_Grayscale8
            )
            bits = image.constBits().asarray(image.sizeInBytes())
            grey = np.array(bits, dtype=np.uint8).reshape(297, -1)[:275, :210]
            inked = np.flatnonzero((grey < 200).any(axis=1))
            assert inked[-1] / 297 > 0.4, (made.title, number + 1)


def test_a_workshop_with_a_sheet_that_can_not_be_read_goes_on(year):
    rows, odd = workshop(year, BEGAN + timedelta(days=140))
    assert [r.machine for r in rows] == ["Rye", "Barley"] or {r.machine for r in rows} == {
        "Rye", "Barley"
    }  # fmt: skip
    assert len(odd) == 1 and odd[0].startswith("Broken")
    rye = next(r for r in rows if r.machine == "Rye")
    assert rye.due == "a first survey" and rye.flatness is None


# Drawings


def canvas(width, height):
    image = QImage(width, height, QImage.Format.Format_ARGB32)
    image.fill(theme.PAPER)
    return image


def colours(image, rect):
    return {
        QColor(image.pixel(x, y)).name()
        for x in range(int(rect.left()), int(rect.right()), 2)
        for y in range(int(rect.top()), int(rect.bottom()), 2)
    }


@pytest.mark.parametrize("sheet", [BARLEY, MILLET], ids=["square", "round"])
@pytest.mark.parametrize("width", [360.0, 690.0, 1400.0])
def test_small_pictures_lie_where_they_are_looked_for(qapp, sheet, width):
    layout = layout_of(width, sheet)
    for number in range(40):
        rect = layout.rect(number)
        assert rect.right() <= width and layout.at(rect.center(), 40) == number
        assert layout.height(number + 1) >= rect.bottom()
    assert layout.at(QPointF(width + 50, 10), 40) is None
    assert layout.at(layout.rect(39).center(), 39) is None


def test_one_scale_holds_for_all_pictures(qapp):
    axis = np.linspace(0, 350, 32)
    heights = np.zeros((3, 32, 32))
    heights[1], heights[2] = 0.1, np.nan
    made = Tiles(axis, axis, heights, 0.1, (None,) * len(heights))
    low, high = tile_image(made, 0).pixelColor(9, 9), tile_image(made, 1).pixelColor(9, 9)
    for seen, wanted in ((low, theme.HEIGHTS[3]), (high, theme.HEIGHTS[-1])):
        assert np.abs(np.subtract(seen.getRgb(), QColor(wanted).getRgb())).max() <= 2
    assert tile_image(made, 2).pixelColor(9, 9).alpha() == 0
    image = canvas(400, 160)
    painter = QPainter(image)
    shown = tuple(Tile(i, "1 Feb 2026", "0.100", "cold" if i else "", "A" if i else "")
                  for i in range(3))  # fmt: skip
    picture = Multiples(BARLEY, made, shown, 1)
    paint_multiples(painter, 400, picture)
    painter.end()
    layout = layout_of(400, BARLEY)
    assert theme.GOLD.name() in colours(image, layout.rect(1).adjusted(-2, -2, 2, 2))
    assert theme.GOLD.name() not in colours(image, layout.rect(0))


def test_charts_find_the_survey_that_is_pointed_at_and_show_what_is_beyond(qapp):
    days = np.array([0, 5, 9, 20, 26, 33, 41, 60, 61, 75]) * 86_400.0
    figures = np.random.default_rng(1).normal(0, 0.01, (10, len(TERMS)))
    figures[-1, 0] = 0.4
    charts = [control_chart(figures[:, k], (0, 8)) for k in range(len(TERMS))]
    picture = ControlPicture(days, charts, figures, (0, 8), ((9, "level", "x"),), ((days[3], "e"),))
    rect = QRectF(0, 0, 690, 460)
    for i in (0, 3, 6, 9):
        assert survey_at(rect, days, x_of(rect, days, float(days[i]))) == i
    assert survey_at(rect, days, 5.0) is None and survey_at(rect, days[:0], 300.0) is None
    image = canvas(690, 460)
    painter = QPainter(image)
    paint_control(painter, rect, picture)
    painter.end()
    last = x_of(rect, days, float(days[9]))
    assert theme.RUST.name() in colours(image, QRectF(last - 8, 28, 16, 50))
    few = replace(picture, times=days[:1], figures=figures[:1])
    painter = QPainter(image)
    paint_control(painter, rect, few)
    painter.end()


def test_a_section_through_many_names_two_of_them(qapp):
    heights = np.tile(np.linspace(-0.05, 0.05, 81), (6, 1))
    heights[2] = np.nan
    image = canvas(600, 140)
    painter = QPainter(image)
    paint_sections(painter, QRectF(0, 0, 600, 140), SectionsPicture(heights, 300.0, 0, 1))
    painter.end()
    seen = colours(image, QRectF(60, 34, 500, 80))
    assert theme.INK.name() in seen


def written_by(paint, image):
    """Where the placer put names in a painting."""
    painter, written, place = QPainter(image), [], Placer.place
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Placer, "place", lambda *a: written.append(place(*a)) or written[-1])
        paint(painter)
    painter.end()
    return written


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.integers(0, 10**6), st.sampled_from(["Barley", "Rye"]), st.sampled_from([420, 660, 1300]))
def test_names_on_a_plate_keep_off_each_other(qapp, seed, name, wide):
    """Wherever screws and motors stand: no name on another, none off the drawing."""
    chance = np.random.default_rng(seed)
    sheet = parse_sheet(shipped_sheet_text(name), name)
    box, places = sheet.plate.outline.box, []
    while len(places) < 6:
        at = chance.uniform((box.x0 + 12, box.y0 + 12), (box.x1 - 12, box.y1 - 12))
        if all(np.abs(at - other).max() > 75 for other in places):
            places.append(at)
    old = parse_sheet(shipped_sheet_text("Rye"), "Rye").adjusters[0].model_dump()
    screws = [
        Adjuster(**{**old, "name": f"screw {i}", "at": tuple(at)}) for i, at in enumerate(places)
    ]
    sheet = sheet.model_copy(update={"adjusters": screws})
    rect, image = QRectF(0, 0, wide, 0.9 * wide), QImage(wide, wide, QImage.Format.Format_RGB32)
    machine, plate = fitted_machine(rect, extent_of(sheet)), fitted(rect, plate_extent(sheet))
    for paint in (
        lambda p: paint_machine(p, rect, sheet, machine, None),
        lambda p: paint_ground(p, rect, Picture(sheet), plate),
    ):
        written = written_by(paint, image)
        assert len(written) >= 6
        for one, other in itertools.combinations(written, 2):
            both = one.intersected(other)
            assert both.isEmpty() or both.width() * both.height() < 1, (one, other)
        assert all(rect.contains(one) for one in written)
