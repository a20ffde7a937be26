"""The first layer of a print on a surveyed plate, ready to show: audit, advice and the chart."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import Chart, raster_chart
from tallgrain.core.surface.density import (
    DensityAdvice,
    LayerAudit,
    Taper,
    audit_layer,
    density_advice,
    missed,
    taper,
    thinned,
)
from tallgrain.core.surface.interpolate import Mesh, grid_within, raster
from tallgrain.core.surface.noise import point_noise
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError

# A first layer as it is sliced, unless the limits leave no room for it; the trip height's standard
# uncertainty where nobody has measured it.
LAYER_MM, GAP_U_MM = 0.2, 0.02
WAYS = ("survey", "coarse", "none")


@dataclass(frozen=True)
class FirstLayerSight:
    """layer: as sliced (mm); limits; audit, and its chart about the sliced thickness; advice, None
    where the survey can't be thinned; coarse_misses: worst of what 3 x 3 would have missed (mm);
    gap_assumed: nobody felt the gap, so that its uncertainty is a guess."""

    way: str
    layer: float
    limits: tuple[float, float]
    gap_u: float
    audit: LayerAudit
    chart: Chart
    advice: DensityAdvice | None
    coarse_misses: float | None
    mesh: Mesh
    datum: tuple[float, float]
    gap_assumed: bool = False

    def fading(self, full_mm: float, gone_mm: float) -> Taper:
        """What fading the compensation out between two heights does. Raises InputError."""
        return taper(self.mesh, full_mm, gone_mm, self.datum)


def first_layer_sight(
    survey: Survey, sheet: MachineSheet, way: str = "survey", gap_u: float = GAP_U_MM
) -> FirstLayerSight | None:
    """The first layer with this survey ('survey'), with a 3 x 3 of it ('coarse'), or without any
    compensation ('none'); None where the survey lies on no grid."""
    mesh = grid_within(survey.xy, survey.heights)
    if mesh is None:
        return None
    low, high = limits = sheet.tolerance.first_layer_mm
    layer = LAYER_MM if low < LAYER_MM < high else (low + high) / 2
    s = sheet.probe.repeatability.s_r
    datum = sheet.plate.datum_point
    can_thin = min(mesh.heights.shape) > 3
    audit = audit_layer(mesh, layer, limits, gap_u, s, compensated=way != "none", datum=datum)
    if way == "coarse" and can_thin:
        audit = _with_coarse(mesh, audit, limits)
    try:
        touches = max((len(p.touches) for p in survey.points), default=1) or 1
        tolerance = min(layer - low, high - layer)
        advice = density_advice(
            survey.xy,
            survey.heights,
            tolerance,
            "bilinear",
            touches,
            float(np.sqrt((point_noise(survey, s)[0] ** 2).mean())),
        )
    except InputError:
        advice = None
    misses = float(np.nanmax(np.abs(missed(mesh, 3, 3, "bilinear")))) if can_thin else None
    span = max(high - layer, layer - low)
    # Lines where a limit is met: at every step they would only show the noise.
    about = audit.thickness - layer
    chart = raster_chart(audit.xs, audit.ys, about, span, (low - layer, high - layer))
    return FirstLayerSight(way, layer, limits, gap_u, audit, chart, advice, misses, mesh, datum)


def _with_coarse(mesh: Mesh, audit: LayerAudit, limits: tuple[float, float]) -> LayerAudit:
    """As if only a 3 x 3 of the survey were compensated: what it misses is in the layer too."""
    few = raster(thinned(mesh, 3, 3), audit.xs, audit.ys, "bilinear")
    whole = raster(mesh, audit.xs, audit.ys, "bilinear")
    thickness = audit.thickness + few - whole
    return LayerAudit.judged(audit.xs, audit.ys, thickness, audit.u, limits)
