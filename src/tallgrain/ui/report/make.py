"""Reports on a season and on a pair of surveys: what is in them, in which order."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter

from tallgrain import __version__
from tallgrain.clock import now
from tallgrain.core.drift.charts import control_chart
from tallgrain.core.drift.terms import TERMS
from tallgrain.core.drift.tiles import Tiles, tiles
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import Chart, chart
from tallgrain.core.surface.compare import Comparison, Noise, compare
from tallgrain.core.surface.sight import Sight, sight_of_survey
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError, JobError
from tallgrain.seasons import PrinterSeason, last_gap
from tallgrain.store.ledger import Ledger, MachineEvent
from tallgrain.textio import write_text
from tallgrain.ui.painting.control import ControlPicture, paint_control
from tallgrain.ui.painting.field import Picture, bare, fitted, paint_field
from tallgrain.ui.painting.multiples import Multiples, Tile, layout_of, paint_multiples
from tallgrain.ui.painting.pens import text
from tallgrain.ui.painting.sections import SectionsPicture, paint_sections
from tallgrain.ui.report.blocks import Block, Drawing, Heading, Report, Table, Words
from tallgrain.ui.report.html import html_of
from tallgrain.ui.report.pdf import write_pdf
from tallgrain.ui.session.look_back import Season
from tallgrain.ui.widgets.compared_words import figure_lines, verdict_words
from tallgrain.ui.widgets.words import count_of, day, day_time, mm

ENDINGS = (".html", ".pdf")
MAP = (640.0, 380.0)
# More small pictures than this are thinned evenly, the newest always among them.
MOST_TILES = 35

METHOD = (
    "Heights are positive where the plate is nearer to the nozzle. Flatness is FLTt of ISO "
    "12781-1: the highest less the lowest point about the least-squares plane, along z.",
    "Gap, tilt, bows and twist are least squares of c + a·u + b·v + p·u² + q·v² + r·uv over the "
    "plate's fixed half-widths, from whole surveys in like conditions only.",
    "Steps: means of up to twelve surveys before and after each place, outliers drawn in (Huber), "
    "against the noise of one survey (its successive differences) and a random walk; binary "
    "segmentation; the place with its 95 % limits by the profile of the loss. Some 2.5 % of quiet "
    "seasons show any.",
    "Charts: individuals with limits of three standard deviations by the moving range of the "
    "baseline (ISO 7870-2), EWMA with a weight of 0.2 (ISO 7870-6).",
    "How long a survey holds: Theil and Sen's slope of each term, joined at the place of the plate "
    "that moves fastest, against half of the first layer's window less twice today's scatter.",
    "Two surveys: the difference is split into offset, tilt and shape, each tested at 1 % against "
    "the probe's repeatability and the scatter of a new reference.",
)  # fmt: skip


@contextmanager
def without_window() -> Iterator[None]:
    """What drawing needs where no window is open, and no display either."""
    from PyQt6.QtGui import QGuiApplication
    from PyQt6.QtWidgets import QApplication

    from tallgrain.ui.app import theme

    if QGuiApplication.instance() is None:
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
        kept = QApplication(["tallgrain"])
        theme.load_fonts()
        kept.setFont(theme.font(13))
        yield
        del kept
    else:
        yield


def write_report(path: Path, report: Report) -> None:
    """Write a report by its ending. Raises InputError for another one, JobError where it can't."""
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise InputError(
            f"'{ending}' is no ending of a report.", str(path), f"Use {' or '.join(ENDINGS)}."
        )
    if not path.parent.is_dir():
        raise JobError("there is no such folder.", str(path.parent), "Choose another place.")
    if ending == ".html":
        write_text(path, html_of(report))
    else:
        write_pdf(path, report)


# A season


def season_report(ledger: Ledger, season: PrinterSeason) -> Report:
    """A printer's season. Raises InputError where there is no whole survey."""
    drift, sheet = season.drift, season.sheet
    if not drift.idents:
        raise InputError(
            "there is no whole survey to report on.", sheet.name, "Survey the plate first."
        )
    newest = ledger.survey(drift.idents[-1])
    sight = sight_of_survey(newest, sheet)
    pictures = tiles(season.rows, sheet.plate.outline)
    blocks: list[Block] = [
        Words(season.advice, strong=True),
        Table(("", "", "conditions and uncertainty"), tuple(_figures(ledger, season, sight))),
        Heading(f"The newest survey, {day(newest.taken_at)}"),
        _map(
            sheet,
            sight.chart,
            f"Survey {newest.ident}, {newest.conditions.sentence()}: heights "
            "about the least-squares plane, mm.",
        ),
        Heading("What changed"),
        *_changes(season),
        Heading("Every survey's shape"),
        _multiples(season, pictures),
        Heading("Charts"),
        Drawing(
            lambda painter, rect: paint_control(painter, rect, _control(season)),
            690,
            560,
            "A dot is a survey, a square on its tip one beyond three standard deviations of the "
            "baseline (shaded); the line weighs the newest most. Dotted: what was noted.",
        ),
    ]
    if season.thermal is not None:
        blocks += [Heading("What heat does"), Words(season.thermal.sentence)]
    if season.events:
        blocks += [Heading("What was noted"), _events(season.events)]
    blocks += [
        Heading("The surveys"),
        _surveys(season),
        Heading("Method"),
        *(Words(m) for m in METHOD),
    ]
    span = f"{day(drift.times[0])} to {day(drift.times[-1])}"
    return Report(
        f"{sheet.name}: the bed over the season",
        f"{count_of(len(drift.idents), 'survey')} in like conditions, {span}; plate "
        f"{_plate(sheet)}; written {day_time(now())} by Tall Grain {__version__}",
        tuple(blocks),
        f"{sheet.name}, {span} · Tall Grain {__version__}",
    )


def _plate(sheet: MachineSheet) -> str:
    box = sheet.plate.outline.box
    if sheet.plate.shape == "disc":
        return f"Ø {box.width:g} mm"
    return f"{box.width:g} × {box.depth:g} mm"


def _figures(ledger: Ledger, season: PrinterSeason, sight: Sight) -> Iterator[tuple[str, ...]]:
    drift, sheet = season.drift, season.sheet
    judged = sight.judgement
    newest = next(h for h in season.rows.heads if h.ident == drift.idents[-1])
    if judged is not None:
        yield (
            "Flatness (FLTt)",
            f"{mm(judged.flatness.fltt)} mm",
            f"± {mm(2 * judged.noise.u)} mm (k = 2), allowed {mm(sheet.tolerance.flatness_mm)}; "
            f"{newest.conditions.sentence()}",
        )
        yield "Minimum zone", f"{mm(judged.zone_mm)} mm", "the least distance of two planes"
    gap = last_gap(ledger, sheet.name)
    if gap is not None:
        yield "Trip height", f"{mm(gap[0])} mm", f"± {mm(2 * gap[1])} mm (k = 2), felt by a gauge"
    if drift.slow is not None:
        slow = drift.slow
        yield (
            "A stored survey holds",
            f"{slow.days:.0f} days",
            f"{slow.rate * 1000:.2f} ± {slow.u * 1000:.2f} µm a day at the fastest place (k = 2), "
            f"{slow.surveys} surveys",
        )
    yield "Changes", str(len(drift.happenings)), "steps and slow ways, see below"
    if season.trend is not None:
        yield "Probe", f"{season.trend.after * 1000:.1f} µm", season.trend.sentence


def _changes(season: PrinterSeason) -> Iterator[Block]:
    found = season.drift.happenings
    if not found:
        yield Words("Nothing changed among the surveys in like conditions.")
        return
    rows = []
    for h in found:
        rows.append(
            (
                h.sentence[:1].upper() + h.sentence[1:] + ".",
                f"{min(h.confidence, 0.999) * 100:.1f} %",
                "–" if h.event is None or not h.event.note else h.event.note,
            )
        )
    yield Table(("what, when, beside which note", "sure by", "the note says"), tuple(rows))
    for note in season.drift.notes:
        yield Words(f"{note[:1].upper()}{note[1:]}.")


def _multiples(season: PrinterSeason, pictures: Tiles) -> Drawing:
    heads = season.rows.heads
    chosen = list(range(len(heads)))
    if len(chosen) > MOST_TILES:
        chosen = sorted({round(i) for i in np.linspace(0, len(heads) - 1, MOST_TILES)})
    figures = dict(
        zip(season.drift.idents, season.drift.figures[:, TERMS.index("flatness")], strict=True)
    )
    shown = tuple(
        Tile(
            i,
            day(heads[i].taken_at),
            mm(float(figures[heads[i].ident])) if heads[i].ident in figures else "unlike",
            "" if heads[i].ident in figures else "·",
        )
        for i in chosen
    )
    width = 690.0
    tall = layout_of(width, season.sheet).height(len(shown))
    picture = Multiples(season.sheet, pictures, shown)
    return Drawing(
        lambda painter, rect: paint_multiples(painter, rect.width(), picture),
        width,
        tall,
        f"One scale for all: ± {mm(pictures.span, 2)} mm about each survey's own plane, brown "
        "ridge, teal hollow; flatness in mm; dashed: another sheet, another heat, or broken off.",
    )


def _control(season: PrinterSeason) -> ControlPicture:
    drift = season.drift
    charts = [control_chart(drift.figures[:, k], drift.base) for k in range(len(TERMS))]
    changes = tuple(
        (drift.idents.index(h.survey), next(iter(h.sizes)), h.sentence) for h in drift.happenings
    )
    return ControlPicture(
        np.array([t.timestamp() for t in drift.times]),
        charts,
        drift.figures,
        drift.base,
        changes,
        tuple((e.at.timestamp(), e.kind) for e in season.events),
    )


def _events(events: tuple[MachineEvent, ...]) -> Table:
    return Table(("when", "what", "note"), tuple((day(e.at), e.kind, e.note) for e in events))


def _surveys(season: PrinterSeason) -> Table:
    figures = dict(zip(season.drift.idents, season.drift.figures, strict=True))
    rows = []
    for i, head in enumerate(season.rows.heads):
        row = figures.get(head.ident)
        flat = mm(float(row[TERMS.index("flatness")])) if row is not None else "–"
        count = int((season.rows.survey == i).sum())
        rows.append(
            (
                head.ident,
                day_time(head.taken_at),
                str(count),
                flat,
                head.conditions.sentence(),
                "" if head.complete else "broken off",
            )
        )
    return Table(("survey", "taken", "points", "flatness, mm", "conditions", ""), tuple(rows))


# A pair


def pair_report(ledger: Ledger, season: PrinterSeason, a: str, b: str) -> Report:
    """Two stored surveys of one printer. Raises InputError where they can't be compared."""
    sheet = season.sheet
    one, other = ledger.survey(a), ledger.survey(b)
    for survey in (one, other):
        if survey.machine.lower() != sheet.name.lower():
            raise InputError(
                f"survey {survey.ident} is of {survey.machine}, not of {sheet.name}.",
                "pair",
                "Choose two surveys of one printer.",
            )
    found = compare(one, other, Noise.of_sheet(sheet), sheet.tolerance.first_layer_mm)
    first, second = sight_of_survey(one, sheet), sight_of_survey(other, sheet)
    span = max((s.chart.span for s in (first, second) if s.chart is not None), default=0.1)
    between = Season(season.rows.heads, np.zeros(0), season.events).events_between(a, b)
    blocks: list[Block] = [Words(verdict_words(found), strong=True)]
    blocks += [Words(words) for words in (*figure_lines(found), *found.unlike)]
    if between:
        noted = ", ".join(f"{e.kind} ({day(e.at)})" for e in between)
        blocks.append(Words(f"Noted in between: {noted}."))
    if len(found.outliers):
        blocks.append(Words(f"{count_of(len(found.outliers), 'touch', 'touches')} left out."))
    blocks += [
        Heading("The difference, B less A"),
        _map(
            sheet,
            chart(found.xy, found.difference),
            "Positive: the plate is nearer to the nozzle in B.",
            ("nearer", "further"),
            "same",
        ),
    ]
    both = (
        (f"A: survey {a}, {day(one.taken_at)}", first),
        (f"B: survey {b}, {day(other.taken_at)}", second),
    )
    drawn = tuple(
        (name, sight.chart.with_span(span)) for name, sight in both if sight.chart is not None
    )
    blocks += [
        Heading("A and B on one scale"),
        Table(
            ("", "taken", "points", "flatness, mm", "conditions"),
            (("A", *_line(one, first)), ("B", *_line(other, second))),
        ),
        _maps(sheet, drawn),
    ]
    method = (METHOD[0], METHOD[-1], _noise_words(sheet, found))
    blocks += [Heading("A section through both"), _section(season, one, other)]
    blocks += [Heading("Method"), *(Words(m) for m in method)]
    return Report(
        f"{sheet.name}: survey {a} and survey {b}",
        f"{day(one.taken_at)} against {day(other.taken_at)}; plate {_plate(sheet)}; written "
        f"{day_time(now())} by Tall Grain {__version__}",
        tuple(blocks),
        f"{sheet.name}, surveys {a} and {b} · Tall Grain {__version__}",
    )


def _line(survey: Survey, sight: Sight) -> tuple[str, ...]:
    flat = "–"
    if sight.judgement is not None:
        flat = f"{mm(sight.judgement.flatness.fltt)} ± {mm(2 * sight.judgement.noise.u)}"
    state = "" if survey.complete else ", broken off"
    told = survey.conditions.sentence() + state
    return day_time(survey.taken_at), str(len(survey.points)), flat, told


def _noise_words(sheet: MachineSheet, found: Comparison) -> str:
    r = sheet.probe.repeatability
    return (
        f"Here: repeatability {r.s_r * 1000:.1f} µm, between references {r.s_between * 1000:.1f} "
        f"µm, {len(found.xy)} common places; it matters beyond {mm(found.limit_mm)} mm."
    )


def _section(season: PrinterSeason, one: Survey, other: Survey) -> Block:
    box = season.sheet.plate.outline.box
    idents = [h.ident for h in season.rows.heads]
    if one.ident not in idents or other.ident not in idents:
        return Words("One of them is no survey of the surface.")
    y = box.middle[1]
    ends = ((box.x0, y), (box.x1, y))
    pictures = tiles(season.rows, season.sheet.plate.outline)
    heights = pictures.along(*ends)[[idents.index(one.ident), idents.index(other.ident)]]
    return Drawing(
        lambda painter, rect: paint_sections(
            painter, rect, SectionsPicture(heights, box.width, 0, 1)
        ),
        690,
        170,
        f"Along x at y = {y:g} mm.",
    )


def _map(
    sheet: MachineSheet,
    drawn: Chart | None,
    caption: str,
    ends: tuple[str, str] = ("ridge", "hollow"),
    middle: str = "level",
) -> Block:
    if drawn is None:
        return Words("Too few points to draw it.")

    def paint(painter: QPainter, rect: QRectF) -> None:
        _paint_map(painter, rect, sheet, drawn, ends, middle)

    return Drawing(paint, *MAP, caption)


def _maps(sheet: MachineSheet, drawn: tuple[tuple[str, Chart], ...]) -> Drawing:
    """Two maps side by side under their names."""

    def paint(painter: QPainter, rect: QRectF) -> None:
        half = rect.width() / 2
        for i, (name, one) in enumerate(drawn):
            left = rect.left() + i * half
            text(painter, QPointF(left + 44, rect.top() + 14), name, bold=True)
            box = QRectF(left, rect.top() + 18, half, rect.height() - 18)
            _paint_map(painter, box, sheet, one, ("ridge", "hollow"), "level")

    return Drawing(paint, 690, 300, "Heights about each survey's own least-squares plane, mm.")


def _paint_map(
    painter: QPainter,
    rect: QRectF,
    sheet: MachineSheet,
    drawn: Chart,
    ends: tuple[str, str],
    middle: str,
) -> None:
    picture = Picture(
        bare(sheet), chart=drawn, show_points=False, show_reach=False, caption=ends, middle=middle
    )
    box = sheet.plate.outline.box
    room = 0.03 * max(box.width, box.depth)
    extent = Rectangle(box.x0 - room, box.y0 - room, box.x1 + room, box.y1 + room)
    paint_field(painter, rect, picture, fitted(rect, extent))
