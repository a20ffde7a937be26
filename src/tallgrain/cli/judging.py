"""What surveys say: flatness, comparing, repeatability."""

from contextlib import suppress
from typing import Annotated, Any, Literal

import typer

from tallgrain.cli.common import (
    AsJson,
    Interpolation,
    Reference,
    aligned,
    app,
    learnt_here,
    number,
    show,
)
from tallgrain.errors import InputError


@app.command()
def flatness(
    survey: Annotated[str, typer.Argument(help="A survey file, or a stored survey's id.")],
    reference: Annotated[Reference, typer.Option(help="ls or mz (ISO 12781-1).")] = Reference.ls,
    as_json: AsJson = False,
) -> None:
    """How flat a surveyed plate is, and what its shape is made of."""
    from tallgrain.core.model.figures import flatness_of
    from tallgrain.core.surface.plausible import refuse_no_plate
    from tallgrain.core.surface.shape import flatness as measure
    from tallgrain.core.surface.shape import judge
    from tallgrain.resolve import survey_named

    found = survey_named(survey)
    refuse_no_plate(found)
    flat, terms = judge(found.xy, found.heights, _extent(found))
    if reference is Reference.mz:
        flat = measure(found.xy, found.heights, "mz")
    own = flatness_of(found, *_touch(found))
    document = {
        "n": flat.n,
        "reference": flat.reference,
        "fltt_mm": flat.fltt,
        "fltp_mm": flat.fltp,
        "fltv_mm": flat.fltv,
        "fltq_mm": flat.fltq,
        "plane": {
            "z0_mm": flat.plane.z0,
            "slope_x_mm_per_m": flat.plane.slope_x * 1000,
            "slope_y_mm_per_m": flat.plane.slope_y * 1000,
        },
        # By the least-squares plane: what the plate itself is, at 95 %.
        "u_mm": own.u,
        "plate": _range_document(own.points),
        "area": _range_document(own.area),
        "touch_mm": own.s_r,
        "warnings": [told.document for told in own.told],
        "terms": terms
        and {
            "tilt_x_mm": terms.tilt_x,
            "tilt_y_mm": terms.tilt_y,
            "bow_x_mm": terms.bow_x,
            "bow_y_mm": terms.bow_y,
            "twist_mm": terms.twist,
            "local_mm": terms.local,
        },
    }

    told = document["terms"] if isinstance(document["terms"], dict) else {}

    def table() -> str:
        plane = "least-squares" if flat.reference == "ls" else "minimum-zone"
        rows = [[f"{flat.n} points about the {plane} plane", "", ""]]
        for name, value in (
            ("FLTt, peak to valley", flat.fltt),
            ("FLTp, highest above", flat.fltp),
            ("FLTv, lowest below", flat.fltv),
            ("FLTq, root mean square", flat.fltq),
        ):
            rows.append(["  " + name, number(value), "mm"])
        rows.append(["  slope left to right", number(flat.plane.slope_x * 1000), "mm per m"])
        rows.append(["  slope front to rear", number(flat.plane.slope_y * 1000), "mm per m"])
        for name, value in told.items():
            rows.append(["  " + name.removesuffix("_mm").replace("_", " "), number(value), "mm"])
        for name, one in (("over the area", own.area), ("at the points", own.points)):
            rows.append(["without noise, " + name, f"{one.value:.3f}", "mm"])
            rows.append(["  95 %", f"{one.low:.3f} to {one.high:.3f}", "mm"])
        return "\n".join([aligned(rows), *(one.sentence for one in own.told)])

    show(document, as_json, table)


@app.command()
def compare(
    a: Annotated[str, typer.Argument(metavar="A", help="The older survey: a file or an id.")],
    b: Annotated[str, typer.Argument(metavar="B", help="The newer one.")],
    sigma_mm: Annotated[
        float | None, typer.Option(help="Standard deviation of each height (mm).", min=1e-6)
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Whether the plate changed from one survey to another, and whether that matters."""
    from tallgrain.core.surface.changed import compare_told
    from tallgrain.core.surface.compare import DEFAULT_WINDOW_MM, Noise
    from tallgrain.core.surface.compare import compare as between
    from tallgrain.resolve import machine_sheet, survey_named

    first, second = survey_named(a), survey_named(b)
    noise, window = Noise(sigma=sigma_mm), DEFAULT_WINDOW_MM
    with suppress(InputError):  # a printer that is not known here: the documented defaults
        sheet, _ = machine_sheet(second.machine or first.machine or "?")
        window = sheet.tolerance.first_layer_mm
        noise = learnt_here(sheet).noise(sheet, sigma_mm)
    c = between(first, second, noise, window)
    document = {
        "overlap_points": len(c.xy),
        "offset_mm": c.offset_mm,
        "tilt_x_mm": c.tilt_x_mm,
        "tilt_y_mm": c.tilt_y_mm,
        "shape_rms_mm": c.shape_rms_mm,
        "shape_pv_mm": c.shape_pv_mm,
        "noise_rms_mm": c.noise_rms_mm,
        "verdict": c.verdict,
        "changed_p": c.changed,
        "matters": c.matters,
        "outliers": [{"x_mm": float(x), "y_mm": float(y)} for x, y in c.outliers],
        "unlike": list(c.unlike),
        "warnings": [told.document for told in compare_told(c)],
    }

    def table() -> str:
        rows = [[f"{len(c.xy)} common places, B less A", "", ""]]
        for name in ("offset", "tilt_x", "tilt_y", "shape_rms", "shape_pv", "noise_rms"):
            rows.append(["  " + name.replace("_", " "), number(getattr(c, name + "_mm")), "mm"])
        return "\n".join([aligned(rows), *(told.sentence for told in compare_told(c))])

    show(document, as_json, table)


def _extent(found: Any) -> Any:
    """A round plate's own extent where the survey's printer is known to have one."""
    from tallgrain.core.surface.shape import round_extent
    from tallgrain.resolve import machine_sheet

    if not found.machine:
        return None
    try:
        plate = machine_sheet(found.machine)[0].plate
    except InputError:
        return None  # a survey of a printer that is not known here: its own extent
    if plate.shape != "disc":
        return None
    return round_extent(plate.outline.middle, found.xy)


def _range_document(one: Any) -> dict[str, float]:
    return {"fltt_mm": one.value, "low_mm": one.low, "high_mm": one.high}


def _touch(found: Any) -> tuple[float, bool]:
    """What one touch of that printer scatters by (mm), and whether that was learnt."""
    from tallgrain.core.surface.compare import DEFAULT_S_R
    from tallgrain.resolve import machine_sheet

    try:
        touch = learnt_here(machine_sheet(found.machine)[0]).touch
    except InputError:  # a printer that is not known here
        return DEFAULT_S_R, False
    return touch.s, touch.seen > 0


def repeatability_document(found: Any) -> dict[str, Any]:
    """A series' judgement as the contract words it, with more beside."""
    from tallgrain.core.probe.repeatability import repeatability_told

    return {
        "s_r_mm": found.s_r,
        "r_mm": found.limit,
        "drift_mm": found.drift,
        "outliers": [
            {"place": o.place + 1, "touch": o.touch + 1, "z_mm": o.z} for o in found.outliers
        ],
        "s_r_lo_mm": found.low,
        "s_r_hi_mm": found.high,
        "u_drift_mm": found.u_drift,
        "between_places_mm": found.between,
        "touches": found.count,
        "warnings": [told.document for told in repeatability_told(found)],
    }


@app.command()
def repeatability(
    file: Annotated[str, typer.Argument(help="A survey file with touches, or a stored id.")],
    as_json: AsJson = False,
) -> None:
    """How well a probe repeats: scatter, limit, drift and outliers of repeated touches."""
    from tallgrain.core.probe.repeatability import repeatability as judge_series
    from tallgrain.core.probe.repeatability import repeatability_told
    from tallgrain.resolve import survey_named

    found = judge_series([p.touches for p in survey_named(file).points])

    def table() -> str:
        rows = [[f"{found.count} touches, {found.freedom} degrees of freedom", "", ""]]
        for name, value in (
            ("s_r, one standard deviation", found.s_r),
            ("  its 95 % limits: from", found.low),
            ("  to", found.high),
            ("r, limit of two touches", found.limit),
            ("drift from first to last", found.drift),
            ("between places", found.between),
        ):
            rows.append(["  " + name, number(value, 4), "mm"])
        lines = [aligned(rows)]
        lines += [
            f"outlier: place {o.place + 1}, touch {o.touch + 1}: {number(o.z, 4)} mm"
            for o in found.outliers
        ]
        return "\n".join([*lines, *(told.sentence for told in repeatability_told(found))])

    show(repeatability_document(found), as_json, table)


@app.command()
def density(
    survey: Annotated[str, typer.Argument(help="A survey file, or a stored survey's id.")],
    tolerance_mm: Annotated[float, typer.Option(help="What the first layer may be off by (mm).")],
    interpolation: Annotated[
        Interpolation, typer.Option(help="How the printer fills in between the points.")
    ] = Interpolation.bilinear,
    as_json: AsJson = False,
) -> None:
    """How few points would have held a tolerance, by thinning a dense survey."""
    import numpy as np

    from tallgrain.core.surface.density import density_advice, density_told
    from tallgrain.core.surface.noise import point_noise
    from tallgrain.resolve import survey_named

    found = survey_named(survey)
    samples = max((len(p.touches) for p in found.points), default=1) or 1
    method: Literal["bilinear", "bicubic"] = (
        "bicubic" if interpolation is Interpolation.bicubic else "bilinear"
    )
    s = float(np.sqrt((point_noise(found, _touch(found)[0])[0] ** 2).mean()))
    advice = density_advice(found.xy, found.heights, tolerance_mm, method, samples, s)
    document = {
        "options": [
            {
                "count": o.name,
                "worst_mm": o.worst,
                "rms_mm": o.rms,
                "expected_mm": o.expected,
                "estimate_s": round(o.estimate_s, 1),
            }
            for o in advice.options
        ],
        "recommended": advice.recommended.name if advice.recommended else None,
        "warnings": [told.document for told in density_told(advice, tolerance_mm)],
    }

    def table() -> str:
        rows = [["points", "worst", "RMS", "expected (mm)", "time (min)"]]
        for o in advice.options:
            figures = (number(value) for value in (o.worst, o.rms, o.expected))
            rows.append([o.name, *figures, number(o.estimate_s / 60, 1)])
        said = [told.sentence for told in density_told(advice, tolerance_mm)]
        return "\n".join([aligned(rows), *said])

    show(document, as_json, table)
