"""What levelling did to a plate since it was surveyed: motors and bed screws move what was touched,
and the first layer goes on from there."""

import numpy as np

from tallgrain.core.layer.layer import Bent
from tallgrain.core.solve.adjusters import adjusters_of, raise_of
from tallgrain.core.solve.influence import Influence
from tallgrain.core.solve.tilt import body_rows
from tallgrain.core.surface.moments import Scale, polynomial_rows
from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import InputError
from tallgrain.journal.records import ScrewTurned, TiltLooked
from tallgrain.next_layer.knows import Ground

# How well what was sent or turned is known to have come: motors by their leads and where the sheet
# puts them, screws by a hand's angle and how far the plate follows (core.solve.screws).
MOTORS_SHARE, SCREWS_SHARE = 0.05, 0.25
# The plate's terms are taken over so many places a side.
SIDE = 7


def levelled_since(g: Ground, survey: Survey) -> Bent | None:
    """How motors and screws moved the plate after a survey, by its six terms; None where they did
    not."""
    box = g.sheet.plate.outline.box
    at = np.stack(np.meshgrid(*[np.linspace(-1, 1, SIDE)] * 2), axis=-1).reshape(-1, 2)
    places = np.array(box.middle) + at * (box.width / 2, box.depth / 2)
    done = [
        (what, share, made)
        for what, share, made in (
            ("Z motors", MOTORS_SHARE, _by_motors(g, survey, places)),
            ("bed screws", SCREWS_SHARE, _by_screws(g, survey, places)),
        )
        if made is not None and np.ptp(made) > 1e-6
    ]
    if not done:
        return None
    rows = polynomial_rows(*Scale(*box.middle, box.width / 2, box.depth / 2).uv(places), 6)
    terms = [(share, np.linalg.pinv(rows.T) @ made) for _, share, made in done]
    mean = np.sum([one for _, one in terms], axis=0)
    u = np.sqrt(np.sum([(share * one) ** 2 for share, one in terms], axis=0))
    mean[0] = u[0] = 0.0  # the datum's own is the gap's
    words = f"levelled by {' and '.join(what for what, _, _ in done)} since the survey"
    return Bent("levelled", words, tuple(mean.tolist()), tuple(u.tolist()), True, "Surface")


def _by_motors(g: Ground, survey: Survey, places: Floats) -> Floats | None:
    sheet, sent = g.sheet, np.zeros(len(g.sheet.supports))
    for one in g.journal.read(TiltLooked):
        if one.at > survey.taken_at:
            sent += [one.figures.sent.get(s.name, 0.0) for s in sheet.supports]
    if not sent.any():
        return None
    at = np.array([s.at for s in sheet.supports], dtype=float)
    twisted = sheet.body == "flexible" and len(at) >= 4
    moved = body_rows(places, at, twisted) @ (np.linalg.pinv(body_rows(at, at, twisted)) @ sent)
    return np.asarray(moved if sheet.kinematics == "plate_z" else -moved)


def _by_screws(g: Ground, survey: Survey, places: Floats) -> Floats | None:
    turned = [one for one in g.journal.read(ScrewTurned) if one.at > survey.taken_at]
    if not turned:
        return None
    try:
        names, at = adjusters_of(g.sheet)
    except InputError:  # the sheet has other screws now
        return None
    raises = np.zeros(len(names))
    for one in turned:
        if one.item in names:
            i = names.index(one.item)
            raises[i] += raise_of(g.sheet.adjusters[i], one.figures.clockwise_deg)
    return Influence(at).matrix(places) @ raises
