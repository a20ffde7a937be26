"""How long acts take at this printer and in this hand, by its own log; before there is one, by what
the plan makes of the sheet's speeds and what people usually need."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from tallgrain.journal.journal import Journal
from tallgrain.journal.records import GapSolved, SurveyTook

# What is taken where no log tells (s): a whole feel of the gap, by so many touches.
FEEL_S, TOUCHES = 120.0, 8
# So many of the newest count. Nobody touches, feels or travels faster or slower than this: what a
# log tells beyond it was no evening at a bench.
NEWEST, SURVEY_RATIO, TOUCH_S = 9, (0.3, 4.0), (6.0, 60.0)
# Touches further apart belong to no one sitting (s).
APART_S = 300.0


@dataclass(frozen=True)
class Pace:
    """survey: how many times the plan's estimate a survey takes; feel_s: some feels of the gap."""

    survey: float = 1.0
    feel_s: float = FEEL_S


def pace(journal: Journal) -> Pace:
    """By the newest surveys and sittings of a printer (medians)."""
    took = [e.figures for e in journal.read(SurveyTook) if e.figures.expected_s > 0]
    ratios = [one.seconds / one.expected_s for one in took[-NEWEST:]]
    survey = float(np.clip(np.median(ratios), *SURVEY_RATIO)) if ratios else 1.0
    felt = journal.read(GapSolved)
    gaps = [
        (after.at - before.at).total_seconds()
        for before, after in pairwise(felt)
        if after.figures.feels == before.figures.feels + 1
    ]
    near = [one for one in gaps if one < APART_S][-NEWEST:]
    each = float(np.clip(np.median(near), *TOUCH_S)) if near else FEEL_S / TOUCHES
    return Pace(survey, TOUCHES * each)
