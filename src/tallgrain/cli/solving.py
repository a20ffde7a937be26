"""Solving corrections from files and stored surveys."""

from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import AsJson, MachineName, Verbs, aligned, app, learnt_here, number, show

Plane = StrEnum("Plane", {"xy": "xy", "xz": "xz", "yz": "yz"})

solve_app = Verbs(
    rich_markup_mode=None, no_args_is_help=True, help="Solve a correction from what was measured."
)
app.add_typer(solve_app, name="solve")


@solve_app.command("gap")
def solve_gap_file(
    file: Annotated[Path, typer.Argument(help="A gap file: gauge touches and trial prints.")],
    as_json: AsJson = False,
) -> None:
    """The trip height from gauge touches and trial prints, with its uncertainty budget."""
    from tallgrain.core.solve.gap import gap_told, next_touch, next_trial, posterior, solve_gap
    from tallgrain.formats.gap_json import read_gap

    loop, trials, gauge = read_gap(file)
    felt = solve_gap(loop)
    t, u, clashes = felt.t, felt.u, [c.sentence for c in felt.contradictions]
    touches = [[c.touches[0] + 1, c.touches[1] + 1] for c in felt.contradictions]
    told = [trial for trial in trials if trial.verdict != "cannot_tell"]
    if trials:
        fused = posterior(loop, trials)
        if felt.t is not None and felt.u is not None and told:
            alone = posterior(type(loop)(loop.t_set, ()), trials)
            apart = abs(alone.mean - felt.t)
            if apart > 3 * (alone.u**2 + felt.u**2) ** 0.5:
                clashes.append(
                    f"gauge and trial prints differ by {apart:.3f} mm: measure both again."
                )
        if told:
            t, u = fused.mean, fused.u
    document: dict[str, Any] = {
        "trip_height_mm": _round(t),
        "u_mm": _round(u),
        "lo_mm": _round(None if t is None or u is None else t - 2 * u),
        "hi_mm": _round(None if t is None or u is None else t + 2 * u),
        "budget": {name: _round(part) for name, part in felt.budget.items()},
        "bounds": {"lower_mm": _round(felt.low), "upper_mm": _round(felt.high)},
        "contradictions": [
            {"sentence": s, **({"touches": touches[i]} if i < len(touches) else {})}
            for i, s in enumerate(clashes)
        ],
        "warnings": [one.document for one in gap_told(felt, bool(told))],
    }
    if trials:
        step = next_trial(loop, trials)
        document["next"] = {"kind": "trial", "trip_height_mm": step.t_set, "why": step.why}
    else:
        touch = next_touch(loop, gauge)
        document["next"] = {"kind": "touch", "z_mm": touch.z, "why": touch.why}

    def table() -> str:
        rows = [["trip height", number(t, 4), "mm"]]
        if t is not None and u is not None:
            rows.append(["  from (k = 2)", number(t - 2 * u, 4), "mm"])
            rows.append(["  to", number(t + 2 * u, 4), "mm"])
        else:
            rows.append(["  at least", number(felt.low, 4), "mm"])
            rows.append(["  at most", number(felt.high, 4), "mm"])
        rows += [[f"  u from {name}", number(part, 4), "mm"] for name, part in felt.budget.items()]
        step = document["next"]
        where = step.get("z_mm", step.get("trip_height_mm"))
        what = "gauge at z" if step["kind"] == "touch" else "trial with trip height"
        rows.append([f"next: {what}", number(where, 4), f"mm ({step['why']})"])
        more = gap_told(felt, bool(told))
        open_ = [one.sentence for one in more if one.code != "contradiction"]
        return "\n".join([aligned(rows), *clashes, *open_])

    show(document, as_json, table)


def _round(value: float | None) -> float | None:
    return None if value is None else round(value, 6)


Survey = Annotated[str, typer.Argument(metavar="SURVEY", help="A survey file or a stored id.")]


@solve_app.command("tilt")
def solve_tilt_of(
    survey: Survey,
    machine: MachineName,
    hold: Annotated[str, typer.Option(help="mean, datum, or a support that stays.")] = "mean",
    as_json: AsJson = False,
) -> None:
    """What each Z motor must do so that plate and gantry are parallel."""
    from tallgrain.core.solve.tilt import tilt_of, tilt_told
    from tallgrain.resolve import machine_sheet, survey_named

    sheet, _ = machine_sheet(machine)
    found, learnt = survey_named(survey), learnt_here(sheet)
    solved = tilt_of(learnt.sheet(sheet), found, hold, learnt.touch.seen > 0)
    document: dict[str, Any] = {
        "raise_mm": {n: _round(float(r)) for n, r in solved.by_name.items()},
        "u_mm": {n: _round(float(u)) for n, u in zip(solved.names, solved.u, strict=True)},
        "before_pv_mm": _round(solved.before),
        "after_pv_mm": _round(solved.after),
        "twist_left_mm": _round(solved.twist_left),
        "dropped": _dropped(found, solved.dropped),
        "uncorrectable": {
            "slope_x_mm_per_m": _round(solved.uncorrectable[0] * 1000),
            "slope_y_mm_per_m": _round(solved.uncorrectable[1] * 1000),
        },
        "warnings": [told.document for told in tilt_told(solved)],
    }

    def table() -> str:
        rows = [["support", "raise", "u", ""]]
        rows += [
            [f"  {n}", number(document["raise_mm"][n], 4), number(document["u_mm"][n], 4), "mm"]
            for n in solved.names
        ]
        rows.append(["spread at the supports", number(solved.before, 4), "", "mm"])
        rows.append(["  predicted after", number(solved.after, 4), "", "mm"])
        if any(solved.uncorrectable):
            across = number(max(map(abs, solved.uncorrectable)) * 1000)
            rows.append(["slope that they can't correct", across, "", "mm per m"])
        if solved.twist_left:
            rows.append(["twist that is left", number(solved.twist_left, 4), "", "mm"])
        told = [t.sentence for t in tilt_told(solved)]
        return "\n".join([aligned(rows), *told, *_dropped_words(document["dropped"])])

    show(document, as_json, table)


@solve_app.command("adjusters")
def solve_adjusters_of(
    survey: Survey,
    machine: MachineName,
    hold: Annotated[str, typer.Option(help="least, or a screw that stays.")] = "least",
    as_json: AsJson = False,
) -> None:
    """How far each bed screw must turn, seen from above, for the flattest surface."""
    from tallgrain.core.solve.adjusters import adjusters_by, adjusters_told
    from tallgrain.resolve import machine_sheet, survey_named

    sheet, _ = machine_sheet(machine)
    found, learnt = survey_named(survey), learnt_here(sheet)
    solved = adjusters_by(learnt.sheet(sheet), found, hold=hold, learnt=learnt.touch.seen > 0)
    document = {**adjusters_document(solved), "dropped": _dropped(found, solved.dropped)}

    def table() -> str:
        rows = [["screw", "turn", "", "seen from above"]]
        for turn in solved.turns:
            words = "leave" if turn.leave else turn.direction
            rows.append([f"  {turn.name}", number(turn.turn_deg, 0), "degrees", words])
        for name, surface in (("before", solved.before), ("predicted after", solved.after)):
            rows.append([f"FLTt {name}", number(surface.fltt), "mm", ""])
        said = [told.sentence for told in adjusters_told(solved)]
        return "\n".join([aligned(rows), *said, *_dropped_words(document["dropped"])])

    show(document, as_json, table)


def adjusters_document(solved: Any) -> dict[str, Any]:
    """A solution's turns and its surface before and after, as JSON tells them."""
    from tallgrain.core.solve.adjusters import adjusters_told

    def told(surface: Any) -> dict[str, float | None]:
        return {
            "pv_mm": _round(surface.pv),
            "rms_mm": _round(surface.rms),
            "fltt_mm": _round(surface.fltt),
        }

    return {
        "turns": {
            turn.name: {
                "raise_mm": _round(turn.raise_mm),
                "turn_deg": _round(turn.turn_deg),
                "direction": turn.direction,
                "u_deg": _round(turn.u_deg),
                "leave": turn.leave,
            }
            for turn in solved.turns
        },
        "before": told(solved.before),
        "after": told(solved.after),
        "warnings": [one.document for one in adjusters_told(solved)],
    }


def _dropped(found: Any, indices: tuple[int, ...]) -> list[dict[str, float]]:
    points = [found.points[i] for i in indices]
    return [{"x_mm": p.x, "y_mm": p.y, "z_mm": p.z} for p in points]


def _dropped_words(dropped: list[dict[str, float]]) -> list[str]:
    return [
        f"left out as an outlier: x {number(p['x_mm'], 1)}, y {number(p['y_mm'], 1)}, "
        f"z {number(p['z_mm'])} mm"
        for p in dropped
    ]


@solve_app.command("skew")
def solve_skew_file(
    file: Annotated[Path, typer.Argument(help="A skew file: distances on a printed gauge.")],
    as_json: AsJson = False,
) -> None:
    """How far two axes lean from square, and their scales, from measured distances."""
    from tallgrain.core.solve.skew import NOMINAL_MM, skew_told, solve_skew
    from tallgrain.formats.skew_json import read_skew

    gauge = read_skew(file)
    found = solve_skew(gauge)
    document = {
        "plane": gauge.plane,
        "skew_mrad": found.skew * 1000,
        "u_mrad": found.u * 1000,
        "scale_x": found.scale_x,
        "scale_y": found.scale_y,
        "bias_mm": found.bias,
        "residual_rms_mm": found.residual_rms,
        "residuals": [
            {"from": d.start, "to": d.end, "residual_mm": float(r), "suspect": i in found.suspects}
            for i, (d, r) in enumerate(zip(gauge.distances, found.residuals, strict=True))
        ],
        "warnings": [one.document for one in skew_told(gauge, found)],
    }

    def table() -> str:
        first, second = gauge.plane
        way = "toward" if found.skew > 0 else "away from"
        lines = [
            f"skew {number(found.skew * 1000, 2)} ± {number(2000 * found.u, 2)} mrad (k = 2): "
            f"+{second} leans {way} +{first}, {number(abs(found.off_mm()))} mm over "
            f"{NOMINAL_MM:.0f} mm",
            f"scale {first} {number(found.scale_x, 5)}, {second} {number(found.scale_y, 5)}"
            + (f"; caliper reads {number(found.bias)} mm too much" if gauge.bias else ""),
            f"the distances fit to {number(found.residual_rms)} mm RMS",
        ]
        return "\n".join([*lines, *(one.sentence for one in skew_told(gauge, found))])

    show(document, as_json, table)


@app.command("gauge")
def write_gauge(
    file: Annotated[Path, typer.Argument(help="Where its program goes.")],
    machine: MachineName,
    plane: Annotated[Plane, typer.Option(help="Which two axes.")] = Plane("xy"),
    caliper_mm: Annotated[float, typer.Option(min=40, help="How far the caliper opens.")] = 150.0,
    nozzle_c: Annotated[float, typer.Option(min=0, max=500, help="For the comments (°C).")] = 215.0,
    plate_c: Annotated[float, typer.Option(min=0, max=200, help="For the comments (°C).")] = 60.0,
    as_json: AsJson = False,
) -> None:
    """Write the program of a gauge to be printed and measured; say what to read on it."""
    from tallgrain.core.plan.gauge_part import gauge_part
    from tallgrain.formats.program import gauge_program
    from tallgrain.resolve import machine_sheet
    from tallgrain.textio import write_text

    sheet, _ = machine_sheet(machine)
    part = gauge_part(sheet, str(plane), caliper_mm)  # type: ignore[arg-type]
    write_text(file, gauge_program(part, sheet.name, nozzle_c, plate_c))
    document = {
        "plane": part.plane,
        "side_mm": part.side,
        "points": {name: list(place) for name, place in part.points.items()},
        "read": [
            {
                "from": a,
                "to": b,
                "nominal_mm": part.nominal((a, b)),
                "outside_mm": part.expected((a, b)),
            }
            for a, b in part.pairs
        ],
    }

    def table() -> str:
        rows = [["read cold", "about (mm)"]]
        rows += [["–".join(pair), number(part.expected(pair), 2)] for pair in part.pairs]
        return f"{file}: {part.plane}, {part.side:.0f} mm\n" + aligned(rows)

    show(document, as_json, table)


@solve_app.command("delta")
def solve_delta_file(
    file: Annotated[Path, typer.Argument(help="A delta file: probed heights, stored geometry.")],
    free: Annotated[
        str | None, typer.Option(help="What may change, by commas: switch,delta_radius,…")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """What a delta's towers are really like."""
    from tallgrain.core.solve.delta import delta_told, solve_delta
    from tallgrain.core.solve.towers import choose_free, parse_free
    from tallgrain.formats.delta_json import read_delta

    asked = read_delta(file)
    chosen = asked.free if free is None else parse_free(free)
    found = solve_delta(asked.current, asked.xy, asked.heights, chosen, asked.distances)
    choice = choose_free(asked.current, asked.xy, asked.heights, distances=asked.distances)
    told = delta_told(found, choice.bent)
    document = {**delta_document(found), "warnings": [one.document for one in told]}

    def table() -> str:
        rows = [["", "change", "± (k = 2)", ""]]
        for name, change in found.change.items():
            if name in found.u:
                what, _, tower = name.partition(".")
                unit = "°" if what.endswith("_deg") else "" if what.startswith("plate") else "mm"
                words = what.removesuffix("_mm").removesuffix("_deg").replace("_", " ")
                rows.append(
                    [f"{words} {tower}".strip(), number(change), number(2 * found.u[name]), unit]
                )
        lines = [
            aligned(rows),
            f"heights: {number(found.rms_before)} mm RMS before, {number(found.rms_after)} after",
        ]
        lines.append(f"the heights ask for: {', '.join(choice.free)}")
        return "\n".join([*lines, *(one.sentence for one in told)])

    show(document, as_json, table)


def delta_document(found: Any) -> dict[str, Any]:
    """A solution of towers, as JSON tells it."""
    from tallgrain.core.solve.delta_geometry import TOWERS

    g = found.geometry
    return {
        "solved": {
            "rod_length_mm": g.rod,
            "delta_radius_mm": g.radius,
            "height_mm": g.height,
            "tower_angle_deg": dict(zip(TOWERS, g.angle, strict=True)),
            "switch_mm": dict(zip(TOWERS, g.switch, strict=True)),
            "tower_radius_mm": dict(zip(TOWERS, g.tower_radius, strict=True)),
            "tower_rod_mm": dict(zip(TOWERS, g.tower_rod, strict=True)),
            "plate_tilt": {"x": g.tilt[0], "y": g.tilt[1]},
            "plate_saddle": {"x": g.saddle[0], "y": g.saddle[1]},
        },
        "change": found.change,
        "u": found.u,
        "rms_before_mm": found.rms_before,
        "rms_after_mm": found.rms_after,
        "weak": list(found.weak),
    }
