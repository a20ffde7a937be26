"""The printer surveys by itself: the one motion whose bound is not Tall Grain's.

Some consoles know no single touch. What they find is read as a survey like any other; that nothing
bounded it is told before, and whoever stands there begins it on purpose.
"""

from collections.abc import Callable, Iterator
from datetime import datetime

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.survey import Point, Survey
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import Event, Phase, SurveyEnded
from tallgrain.procedures.survey import conditions_of
from tallgrain.store.ledger import Ledger

WARNING = (
    "The printer moves by itself here, and Tall Grain can't bound it: keep a hand at the power "
    "switch. STOP and Esc halt it."
)
NOTE = "surveyed by the printer itself"


def survey_by_itself(
    guard: Guard,
    ledger: Ledger,
    box: Rectangle,
    count: tuple[int, int],
    now: Callable[[], datetime],
    sheet: str | None = None,
    soak_min: float | None = None,
) -> Iterator[Event]:
    """Let the printer survey (columns, rows) over a box, and store what it told.

    Raises what the guard and the link raise; nothing is stored then.
    """
    yield Phase(WARNING)
    columns, rows = count
    began = now()
    conditions = conditions_of(guard.printer.state(), soak_min, sheet)
    found = guard.let_survey(box, columns, rows)
    points = tuple(Point(x, y, z, (z,)) for x, y, z in found.tolist())
    shape = (columns, rows) if len(points) == columns * rows else None
    made = Survey(guard.sheet.name, "surface", began, points, conditions, note=NOTE, shape=shape)
    ident = ledger.add_survey(made)
    yield SurveyEnded(ident, True, len(points), "")
