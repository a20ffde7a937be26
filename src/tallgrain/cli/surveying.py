"""Planning and probing surveys."""

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import (
    After,
    AsJson,
    Clearance,
    Count,
    Finger,
    Fits,
    Free,
    Gcode,
    Kind,
    Link,
    MachineName,
    Margin,
    Points,
    Remote,
    Samples,
    Seen,
    aligned,
    app,
    at_the_printer,
    number,
    say,
    show,
)
from tallgrain.errors import InputError, JobError

Tolerance = Annotated[
    float | None,
    typer.Option("--tolerance-mm", help="For until-sure: what every place is to be known to."),
]
# Twenty places see a delta's usual parameters well.
TOWERS_COUNT = "5x4"


@app.command()
def plan(
    machine: MachineName,
    kind: Annotated[Kind, typer.Option(help="What is planned.")] = Kind("grid"),
    count: Count = None,
    samples: Samples = None,
    gcode: Gcode = None,
    points: Points = None,
    after: After = None,
    margins: Margin = None,
    free: Free = None,
    as_json: AsJson = False,
) -> None:
    """Where a survey would touch, what it leaves out and why."""
    from tallgrain.core.plan.grid import parse_count
    from tallgrain.core.plan.kinds import plan_for
    from tallgrain.core.plan.purge import purge_spot
    from tallgrain.resolve import machine_sheet

    sheet, _ = machine_sheet(machine)
    layer = _first_layer(gcode)
    where = _where(layer, points, after, margins, free)
    name = "towers" if kind == "delta" else str(kind)
    asked = count or (TOWERS_COUNT if name == "towers" else "9x9")
    made = plan_for(sheet, name, parse_count(asked), samples, where)
    spot = purge_spot(sheet, layer.islands) if layer is not None else None
    document = {
        "points": [{"x_mm": float(x), "y_mm": float(y)} for x, y in made.points],
        "dropped": [{"x_mm": d.x, "y_mm": d.y, "why": d.why} for d in made.dropped],
        "travel_mm": round(made.travel_mm, 1),
        "estimate_s": round(made.estimate_s, 1),
    }
    if spot is not None:
        box = (
            dict(zip(("x0_mm", "y0_mm", "x1_mm", "y1_mm"), spot.box, strict=True))
            if spot.box
            else None
        )
        document["purge"] = {"box": box, "words": spot.words}

    def table() -> str:
        lines = [
            f"{len(made.points)} points, {made.travel_mm:.0f} mm of travel, "
            f"about {made.estimate_s / 60:.0f} min",
            aligned([["x (mm)", "y (mm)"], *([number(x), number(y)] for x, y in made.points)]),
        ]
        lines += [f"left out: {number(d.x)}, {number(d.y)}: {d.why}" for d in made.dropped]
        if spot is not None:
            at = (
                f"x {spot.box[0]:.0f} to {spot.box[2]:.0f}, y {spot.box[1]:.0f} to "
                f"{spot.box[3]:.0f} mm, "
                if spot.box
                else ""
            )
            lines.append(f"purge line: {at}{spot.words}")
        return "\n".join(lines)

    show(document, as_json, table)


def _first_layer(gcode: Path | None) -> Any:
    """What a program lays first."""
    if gcode is None:
        return None
    from tallgrain.formats.program_scan import first_layer

    *_, found = first_layer(gcode)
    return found


def _where(
    layer: Any,
    points: Path | None,
    after: str | None,
    margins: str | None,
    free: str | None,
    tolerance_mm: float | None = None,
) -> Any:
    """What a kind of plan needs beside its count. Raises InputError."""
    from tallgrain.core.plan.kinds import Where
    from tallgrain.formats.point_text import parse_places
    from tallgrain.resolve import survey_named
    from tallgrain.textio import read_text

    more: dict[str, Any] = {}
    if tolerance_mm is not None:
        more["tolerance"] = tolerance_mm
    if free is not None:
        more["free"] = tuple(part.strip() for part in free.split(","))
    return Where(
        layer.box if layer is not None else None,
        parse_places(read_text(points), str(points)) if points is not None else (),
        survey_named(after) if after is not None else None,
        _margins(margins),
        **more,
    )


def _margins(text: str | None) -> Any:
    if text is None or text == "mirrored":
        return text
    try:
        left, right, front, rear = (float(part) for part in text.split(","))
    except ValueError:
        raise InputError(
            f"'{text}' are no margins.", "--margins", "Give mirrored, or four such as 10,10,20,10."
        ) from None
    return left, right, front, rear


OnSheet = Annotated[str | None, typer.Option("--sheet", help="The sheet on the plate.")]


@app.command()
def survey(
    link: Link,
    machine: MachineName,
    plan: Annotated[Kind, typer.Option("--plan", help="What is planned.")] = Kind("grid"),
    count: Count = None,
    samples: Samples = None,
    gcode: Gcode = None,
    points: Points = None,
    after: After = None,
    margins: Margin = None,
    free: Free = None,
    tolerance_mm: Tolerance = None,
    go_on: Annotated[
        str | None, typer.Option("--go-on", help="The broken-off survey to finish, by its number.")
    ] = None,
    note: Annotated[str, typer.Option(help="A note kept with the survey.")] = "",
    by_itself: Annotated[
        bool, typer.Option("--by-itself", help="Let the printer survey; nothing bounds it.")
    ] = False,
    sheet_name: OnSheet = None,
    nozzle_c: Annotated[float | None, typer.Option(help="Heat the nozzle first (°C).")] = None,
    plate_c: Annotated[float | None, typer.Option(help="Heat the plate first (°C).")] = None,
    soak_min: Annotated[float, typer.Option(min=0, max=120, help="Then wait (min).")] = 0.0,
    clearance_mm: Clearance = None,
    fits_mm: Fits = None,
    finger: Finger = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Probe the plate and store what was touched. Ctrl+C breaks off, twice halts."""
    from tallgrain.clock import now
    from tallgrain.core.plan.grid import box_within, parse_count
    from tallgrain.core.plan.kinds import BY_HAND, plan_for
    from tallgrain.link.connect import check_url, is_by_hand
    from tallgrain.procedures.by_itself import survey_by_itself
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.looking import Quality
    from tallgrain.procedures.resume import plan_of, resume
    from tallgrain.procedures.survey import survey as run
    from tallgrain.procedures.warm import warm_up
    from tallgrain.resolve import machine_sheet, survey_named

    check_url(link, remote)
    seen = Seen(clearance_mm, fits_mm, finger)
    known = machine_sheet(machine)
    where = _where(_first_layer(gcode), points, after, margins, free, tolerance_mm)
    name = "towers" if plan == "delta" else str(plan)
    usual = "5x5" if known[0].probe.there else f"{BY_HAND[0]}x{BY_HAND[1]}"
    grid = parse_count(count or (TOWERS_COUNT if name == "towers" else usual))
    if go_on is not None:
        if by_itself:
            raise InputError("--by-itself begins a survey of its own.", "--go-on", "Leave one out.")
        planned = plan_of(survey_named(go_on), known[0])
    else:
        planned = plan_for(known[0], name, grid, samples, where)
    break_off = BreakOff()
    if is_by_hand(link) and known[0].probe.there and not by_itself:
        note_many_acts(len(planned.points))
    with at_the_printer(link, known, remote, seen, break_off) as (guard, ledger):
        for phase in warm_up(guard, nozzle_c, plate_c, soak_min, break_off):
            _tell(phase, as_json)
        at = sheet_name, soak_min if plate_c is not None else None
        if by_itself:
            box = box_within(guard.sheet, where.margins)
            events = survey_by_itself(guard, ledger, box, grid, now, *at)
        elif go_on is not None:
            events = resume(guard, ledger, go_on, planned, now, break_off)
        else:
            good = Quality(guard.sheet.probe.repeatability.s_r)
            more: dict[str, Any] = {"sheet": at[0], "soak_min": at[1], "note": note}
            events = run(guard, ledger, planned, now, break_off, quality=good, **more)
        for event in events:
            _tell(event, as_json)
    if break_off.asked:
        raise JobError("the survey was broken off.", "survey", "What was touched is kept.")


def note_many_acts(places: int) -> None:
    """A table is offered before so many acts of a person are asked for."""
    typer.echo(
        f"{places} places are {2 * places} acts by hand. A printer that surveys by itself tells "
        "all of them in a table: `tallgrain import FILE --machine NAME` reads it (Ctrl+C ends "
        "this).",
        err=True,
    )


def _tell(event: object, as_json: bool) -> None:
    from tallgrain.procedures.events import (
        Phase,
        PointAgain,
        PointTouched,
        Rejoined,
        SureSoFar,
        SurveyBegan,
        SurveyEnded,
        TouchedAgain,
    )

    if as_json:
        document = _event_document(event)
        if document:
            say(json.dumps(document, allow_nan=False))
    elif isinstance(event, Phase):
        say(event.text)
    elif isinstance(event, SurveyBegan):
        say(f"survey {event.ident}: {event.total} points")
    elif isinstance(event, PointTouched):
        say(
            f"{event.number + 1:4d}  x {number(event.x):>8}  y {number(event.y):>8}  "
            f"z {number(event.z, 4):>8} mm   {event.left_s:4.0f} s left"
        )
    elif isinstance(event, PointAgain):
        left = f", {event.left_out} touch left out" if event.left_out else ""
        say(f"{event.number + 1:4d}  touched again ({event.why}): {number(event.z, 4)} mm{left}")
    elif isinstance(event, Rejoined):
        say(event.words)
    elif isinstance(event, TouchedAgain):
        place, more = event.place + 1, number(event.change, 4)
        say(f"      point {place}, touched again, reads {more} mm more than before")
    elif isinstance(event, SureSoFar):
        x, y = event.place
        more = "" if event.ended else f"; {event.left[0]} to {event.left[1]} touches more"
        say(f"      known to ± {number(event.mm)} mm, least at x {x:.0f}, y {y:.0f}{more}")
    elif isinstance(event, SurveyEnded):
        end = "complete" if event.complete else f"incomplete: {event.why}"
        say(f"survey {event.ident} is stored, {event.points} points, {end}.")


def _event_document(event: object) -> dict[str, Any] | None:
    from tallgrain.procedures.events import PointAgain, PointTouched, SureSoFar, SurveyEnded

    if isinstance(event, PointTouched):
        return {
            "event": "point",
            "i": event.number,
            "x_mm": event.x,
            "y_mm": event.y,
            "z_mm": event.z,
        }
    if isinstance(event, PointAgain):
        return {
            "event": "again",
            "i": event.number,
            "x_mm": event.x,
            "y_mm": event.y,
            "z_mm": event.z,
            "left_out": event.left_out,
            "why": event.why,
        }
    if isinstance(event, SureSoFar):
        return {
            "event": "sure",
            "mm": round(event.mm, 5),
            "x_mm": event.place[0],
            "y_mm": event.place[1],
            "touches_left": list(event.left),
            "ended": event.ended,
        }
    if isinstance(event, SurveyEnded):
        if event.complete:
            return {"event": "done", "survey": event.ident}
        return {"event": "broken_off", "survey": event.ident, "why": event.why}
    return None
