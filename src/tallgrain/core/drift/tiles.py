"""All surveys' shapes at the same places: for seeing a season, and for likeness."""

from dataclasses import dataclass, replace

import numpy as np

from tallgrain.core.drift.resample import resampled
from tallgrain.core.drift.season import SeasonRows, same_places
from tallgrain.core.machine.outline import Disc, Outline
from tallgrain.core.surface.chart import (
    Chart,
    contour_step,
    on_beyond,
    raster_chart,
    rim_of,
    round_span,
)
from tallgrain.core.survey import Floats

SAMPLES = 32
# Fewer common places than this are no likeness.
LEAST_PLACES = 40
# The scale holds all but so little of the heights: one wild touch must not flatten a year.
WITHIN = 0.998


@dataclass(frozen=True)
class Tiles:
    """Every survey's shape about its own least-squares plane, on one raster over the plate.

    xs, ys (SAMPLES,) mm; heights (surveys, SAMPLES, SAMPLES) mm, rows from front to rear, NaN where
    a survey has nothing; span: one scale ± for all of them (mm); rims: to which circle (x, y,
    radius in mm) each survey of a round plate goes, else None.
    """

    xs: Floats
    ys: Floats
    heights: Floats
    span: float
    rims: tuple[tuple[float, float, float] | None, ...]

    def chart(self, i: int) -> Chart | None:
        """One of them with contour lines; None where it shows nothing."""
        raster = self.heights[i]
        if not np.isfinite(raster).any():
            return None
        step = contour_step(self.span)
        levels = tuple(step * k for k in range(-6, 7))
        if self.rims[i] is not None:
            raster = on_beyond(raster)
        made = raster_chart(self.xs, self.ys, raster, self.span, levels)
        return replace(made, step=step, rim=self.rims[i])

    def unlike(self, to: int) -> Floats:
        """How unlike each shape is to one of them: (surveys,) mm RMS, NaN with too little in
        common."""
        apart = self.heights - self.heights[to]
        here = np.isfinite(apart)
        count = here.sum(axis=(1, 2))
        squares = np.where(here, apart, 0.0) ** 2
        enough = count >= LEAST_PLACES
        found = np.full(len(apart), np.nan)
        found[enough] = np.sqrt(squares.sum(axis=(1, 2))[enough] / count[enough])
        return found

    def along(self, p: tuple[float, float], q: tuple[float, float], samples: int = 81) -> Floats:
        """All shapes along a line from P to Q (mm): (surveys, samples), NaN where there is none."""
        share = np.linspace(0, 1, samples)
        x = np.interp(p[0] + share * (q[0] - p[0]), self.xs, np.arange(len(self.xs)))
        y = np.interp(p[1] + share * (q[1] - p[1]), self.ys, np.arange(len(self.ys)))
        i = np.minimum(x.astype(int), len(self.xs) - 2)
        j = np.minimum(y.astype(int), len(self.ys) - 2)
        u, v, h = x - i, y - j, self.heights
        front = h[:, j, i] * (1 - u) + h[:, j, i + 1] * u
        rear = h[:, j + 1, i] * (1 - u) + h[:, j + 1, i + 1] * u
        return np.asarray(front * (1 - v) + rear * v)


def tiles(rows: SeasonRows, outline: Outline) -> Tiles:
    """The season's shapes over a plate."""
    box = outline.box
    xs, ys = np.linspace(box.x0, box.x1, SAMPLES), np.linspace(box.y0, box.y1, SAMPLES)
    x, y = np.meshgrid(xs, ys)
    places = np.column_stack([x.ravel(), y.ravel()])
    wanted = np.ones(len(places), dtype=bool)
    if isinstance(outline, Disc):
        wanted = np.hypot(*(places - np.array(box.middle)).T) <= outline.radius
    heights = np.full((len(rows.heads), len(places)), np.nan)
    heights[:, wanted] = resampled(rows, places[wanted])
    _about_planes(heights, places)
    shown = np.abs(heights[np.isfinite(heights)])
    span = round_span(float(np.quantile(shown, WITHIN))) if len(shown) else 0.1
    rims: list[tuple[float, float, float] | None] = [None] * len(rows.heads)
    for which, xy, _ in same_places(rows):
        for i in which:
            rims[i] = rim_of(outline, xy)
    return Tiles(xs, ys, heights.reshape(-1, SAMPLES, SAMPLES), span, tuple(rims))


def _about_planes(heights: Floats, places: Floats) -> None:
    """Take each row's own least-squares plane out; rows that cover the same places share one."""
    here = np.isfinite(heights)
    left = np.flatnonzero(here.sum(axis=1) > 3)
    while len(left):
        seen = here[left[0]]
        same = (here[left] == seen).all(axis=1)
        group = left[same]
        about = places[seen] - places[seen].mean(axis=0)
        base, _ = np.linalg.qr(np.column_stack([np.ones(len(about)), about]))
        values = heights[np.ix_(group, seen)]
        heights[np.ix_(group, seen)] = values - (values @ base) @ base.T
        left = left[~same]
