"""A report on two surveys: what changed from one to the other."""

import numpy as np

from tallgrain import __version__
from tallgrain.clock import now
from tallgrain.core.drift.tiles import tiles
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.changed import verdict_told
from tallgrain.core.surface.chart import chart
from tallgrain.core.surface.compare import Comparison, compare
from tallgrain.core.surface.sight import Sight, sight_of_survey
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError
from tallgrain.procedures.learning import read_learnt
from tallgrain.seasons import PrinterSeason
from tallgrain.store.ledger import Ledger
from tallgrain.ui.painting.sections import SectionsPicture, paint_sections
from tallgrain.ui.report.blocks import DRAWN, Block, Drawing, Heading, Report, Table, Words
from tallgrain.ui.report.make import METHOD, plate_words
from tallgrain.ui.report.maps import drawn_map, drawn_maps
from tallgrain.ui.session.look_back import Season
from tallgrain.ui.widgets.compared_words import figure_lines
from tallgrain.ui.widgets.words import count_of, day, day_time, mm


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
    found = compare(
        one, other, read_learnt(ledger, sheet).noise(sheet), sheet.tolerance.first_layer_mm
    )
    first, second = sight_of_survey(one, sheet), sight_of_survey(other, sheet)
    span = max((s.chart.span for s in (first, second) if s.chart is not None), default=0.1)
    between = Season(season.rows.heads, np.zeros(0), season.events).events_between(a, b)
    blocks: list[Block] = [Words(verdict_told(found).sentence, strong=True)]
    blocks += [Words(words) for words in (*figure_lines(found), *found.unlike)]
    if between:
        noted = ", ".join(f"{e.kind} ({day(e.at)})" for e in between)
        blocks.append(Words(f"Noted in between: {noted}."))
    if len(found.outliers):
        blocks.append(Words(f"{count_of(len(found.outliers), 'touch', 'touches')} left out."))
    blocks += [
        Heading("The difference, B less A"),
        drawn_map(
            sheet,
            chart(found.xy, found.difference, outline=sheet.plate.outline),
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
            ("", "taken", "points", "flatness, mm (95 %)", "conditions"),
            (("A", *_line(one, first)), ("B", *_line(other, second))),
        ),
        drawn_maps(sheet, drawn),
    ]
    method = (METHOD[0], METHOD[-1], _noise_words(sheet, found))
    blocks += [Heading("A section through both"), _section(season, one, other)]
    blocks += [Heading("Method"), *(Words(m) for m in method)]
    return Report(
        f"{sheet.name}: survey {a} and survey {b}",
        f"{day(one.taken_at)} against {day(other.taken_at)}; plate {plate_words(sheet)}; written "
        f"{day_time(now())} by Tall Grain {__version__}",
        tuple(blocks),
        f"{sheet.name}, surveys {a} and {b} · Tall Grain {__version__}",
    )


def _line(survey: Survey, sight: Sight) -> tuple[str, ...]:
    flat = "–"
    if sight.judgement is not None:
        own = sight.judgement.own
        flat = f"{mm(own.value)} ({mm(own.low)} to {mm(own.high)})"
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
        DRAWN,
        150,
        f"Along x at y = {y:g} mm.",
    )
