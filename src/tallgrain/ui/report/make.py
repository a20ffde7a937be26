"""Reports on a season and on a pair of surveys: what is in them, in which order."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from tallgrain import __version__
from tallgrain.clock import now
from tallgrain.core.drift.charts import control_chart
from tallgrain.core.drift.terms import TERMS
from tallgrain.core.drift.tiles import Tiles, tiles
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.sight import Sight, sight_of_survey
from tallgrain.errors import InputError, JobError
from tallgrain.seasons import PrinterSeason, last_gap
from tallgrain.store.entries import MachineEvent
from tallgrain.store.ledger import Ledger
from tallgrain.textio import write_text
from tallgrain.ui.app import theme
from tallgrain.ui.painting.control import ControlPicture, paint_control
from tallgrain.ui.painting.multiples import Multiples, Tile, layout_of, paint_multiples
from tallgrain.ui.report.blocks import DRAWN, Block, Drawing, Heading, Report, Table, Words
from tallgrain.ui.report.html import html_of
from tallgrain.ui.report.layer import layer_of_season
from tallgrain.ui.report.maps import drawn_map
from tallgrain.ui.report.pdf import write_pdf
from tallgrain.ui.widgets.words import count_of, day, day_time, mm

ENDINGS = (".html", ".pdf")
# More small pictures than this are thinned evenly, the newest always among them.
MOST_TILES = 30

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
    with theme.on_paper():
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
        *layer_of_season(ledger, season),
        Heading(f"The newest survey, {day(newest.taken_at)}"),
        drawn_map(
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
            DRAWN,
            520,
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
        f"{plate_words(sheet)}; written {day_time(now())} by Tall Grain {__version__}",
        tuple(blocks),
        f"{sheet.name}, {span} · Tall Grain {__version__}",
    )


def plate_words(sheet: MachineSheet) -> str:
    """The plate of a sheet in words, lengths in mm."""
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
            f"{mm(judged.own.value)} mm",
            f"{mm(judged.own.low)} to {mm(judged.own.high)} mm (95 %), allowed "
            f"{mm(sheet.tolerance.flatness_mm)}; as measured, noise and all, "
            f"{mm(judged.flatness.fltt)}; {newest.conditions.sentence()}",
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
        yield Words(note.sentence)


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
    width = DRAWN
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
