"""The first layers of a season: what a print would have got on each survey's day, as all stood."""

from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from tallgrain.core.layer.layer import first_layer
from tallgrain.errors import TallGrainError
from tallgrain.journal.journal import Journal
from tallgrain.next_layer.knows import Coming, Ground, shows_nothing
from tallgrain.next_layer.situation import situation

# So many of the newest surveys, on so many places each way, by so many draws.
NEWEST, FINE, DRAWS = 30, 25, 400


@dataclass(frozen=True)
class Stood:
    """A day's first layer: thinnest to thickest with 95 % certainty (mm), whether it was within
    the limits (mm) with it."""

    ident: str
    at: datetime
    low: float
    high: float
    within: bool


def days(g: Ground, sheet: str | None) -> list[tuple[str, datetime]]:
    """The newest surveys of the printer that tell of a first layer on a sheet, the newest first."""
    heads = [
        (h.ident, h.taken_at)
        for h in g.season.rows.heads
        if h.complete and (not sheet or not h.conditions.sheet or h.conditions.sheet == sheet)
    ]
    return heads[::-1][:NEWEST]


def stood(g: Ground, print_: Coming, ident: str) -> Stood | None:
    """What a print like the coming one would have got when a survey was just taken, by what was
    felt, written and set until then; None where that survey tells of no plate."""
    ledger = g.journal.ledger
    try:
        survey = ledger.survey(ident)
        if shows_nothing(survey):
            return None
        at = survey.taken_at
        then = replace(
            g,
            survey=survey,
            events=tuple(e for e in g.events if e.at <= at),
            journal=Journal(ledger, g.sheet.name, until=at),
            now=at,
        )
        found = first_layer(situation(then, replace(print_, box=None)), FINE, DRAWS)
    except (TallGrainError, np.linalg.LinAlgError):
        return None
    return Stood(ident, at, found.low, found.high, found.enough)
