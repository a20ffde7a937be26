"""Going on with a broken-off survey, as the window sees it."""

from dataclasses import replace

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.errors import TallGrainError
from tallgrain.procedures.events import PointTouched, SurveyBegan
from tallgrain.procedures.resume import plan_of
from tallgrain.ui.session.state import Progress, Shown


def resumable(shown: Shown | None, sheet: MachineSheet | None) -> Plan | None:
    """The plan of the broken-off survey that is shown, where it can be gone on with."""
    if shown is None or sheet is None or shown.head.planned == 0:
        return None
    survey = shown.survey
    if survey.complete or not survey.ident:
        return None
    try:
        return plan_of(survey, sheet)
    except TallGrainError:
        return None


def take_old_points(progress: Progress, began: SurveyBegan, shown: Shown | None) -> None:
    """A survey that is gone on with begins with what it has already."""
    if began.done and shown is not None and shown.head.ident == began.ident:
        progress.touched = [
            PointTouched(i, p.x, p.y, p.z, p.touches, began.left_s)
            for i, p in enumerate(shown.survey.points)
        ]
    elif shown is not None and began.total < len(progress.plan.points):
        rest = progress.plan.points[-began.total :]
        progress.plan = replace(progress.plan, points=rest)
