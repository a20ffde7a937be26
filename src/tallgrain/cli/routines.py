"""Whole loops without the window: one line, or one JSON object, a pass."""

import json
import sys
from functools import partial
from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import (
    AsJson,
    Clearance,
    Finger,
    Fits,
    Free,
    Link,
    MachineName,
    Remote,
    Seen,
    Verbs,
    app,
    at_the_printer,
    number,
    say,
)
from tallgrain.errors import JobError

routine_app = Verbs(
    rich_markup_mode=None, no_args_is_help=True, help="A whole loop at the printer."
)
app.add_typer(routine_app, name="routine")

Places = Annotated[int, typer.Option(min=1, max=9, help="Places on the plate, spread over it.")]
Touches = Annotated[int, typer.Option(min=3, max=200, help="Touches at each place.")]
Retract = Annotated[bool, typer.Option("--retract", help="Put the probe away between touches.")]


@routine_app.command("repeatability")
def repeatability_routine(
    link: Link,
    machine: MachineName,
    places: Places = 1,
    touches: Touches = 10,
    retract: Retract = False,
    clearance_mm: Clearance = None,
    fits_mm: Fits = None,
    finger: Finger = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Touch the same places again and again, store it, and say how well the probe repeats."""
    from tallgrain.clock import now
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.events import BreakOff, PointTouched, SurveyEnded
    from tallgrain.procedures.repeatability import Series, series_plan, touch_series
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    seen = Seen(clearance_mm, fits_mm, finger)
    known = machine_sheet(machine)
    plan = series_plan(known[0], places, touches)
    token = BreakOff()
    series: list[tuple[float, ...]] = []
    with at_the_printer(link, known, remote, seen, token) as (guard, ledger):
        for event in touch_series(guard, ledger, plan, now, token, Series(retract)):
            if isinstance(event, PointTouched):
                series.append(event.touches)
                _tell_pass(event, as_json)
            elif isinstance(event, SurveyEnded) and series:
                _tell_end(event.ident, series, as_json)
    if token.asked:
        raise JobError("the series was broken off.", "routine", "What was touched is kept.")


def _tell_pass(event: Any, as_json: bool) -> None:
    from tallgrain.core.probe.repeatability import repeatability

    found = repeatability([event.touches])
    if as_json:
        document = {
            "pass": event.number + 1,
            "x_mm": event.x,
            "y_mm": event.y,
            "mean_mm": event.z,
            "touches_mm": list(event.touches),
            "s_r_mm": found.s_r,
            "drift_mm": found.drift,
        }
        say(json.dumps(document, allow_nan=False))
        return
    say(
        f"place {event.number + 1}: x {number(event.x)}  y {number(event.y)}  "
        f"{len(event.touches)} touches, mean {number(event.z, 4)} mm, "
        f"s_r {number(found.s_r, 4)} mm"
    )


def _tell_end(ident: str, seen: list[tuple[float, ...]], as_json: bool) -> None:
    from tallgrain.cli.judging import repeatability_document
    from tallgrain.core.probe.repeatability import repeatability

    found = repeatability(seen)
    if as_json:
        document = {"event": "done", "survey": ident, **repeatability_document(found)}
        say(json.dumps(document, allow_nan=False))
    else:
        say(
            f"survey {ident} is stored: s_r {number(found.s_r, 4)} mm, "
            f"drift {number(found.drift, 4)} mm, {len(found.outliers)} outliers"
        )


@routine_app.command("tilt")
def tilt_routine(
    link: Link,
    machine: MachineName,
    passes: Annotated[int, typer.Option(min=0, max=9, help="Corrections at most.")] = 4,
    hold: Annotated[str, typer.Option(help="datum, mean, or a support that stays.")] = "datum",
    coarse: Annotated[bool, typer.Option("--coarse", help="The power was off.")] = False,
    check: Annotated[
        bool, typer.Option("--check-motors", help="Only move every motor there and back.")
    ] = False,
    clearance_mm: Clearance = None,
    fits_mm: Fits = None,
    finger: Finger = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Level by the Z motors: measure, correct, measure again, until it is within tolerance."""
    from tallgrain.clock import now
    from tallgrain.core.solve.response import Diagnosis
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.tilt import TiltJob, TiltPass, check_motors, tilt_loop
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    seen = Seen(clearance_mm, fits_mm, finger)
    known = machine_sheet(machine)
    token = BreakOff()
    verdict = ""
    with at_the_printer(link, known, remote, seen, token) as (guard, ledger):
        job = TiltJob(passes, hold, coarse)
        loop = check_motors if check else partial(tilt_loop, job=job)
        for event in loop(guard, ledger, now, token):
            if isinstance(event, TiltPass):
                verdict = event.verdict
                _tell_tilt(event, as_json)
            elif isinstance(event, Diagnosis) and check:
                _tell_motors(event, as_json)
    if token.asked:
        raise JobError("levelling was broken off.", "routine", "What was measured is kept.")
    if verdict == "measured only" and passes:
        raise JobError(
            f"{passes} corrections did not bring it within tolerance.",
            known[0].name,
            "Run it again, or look for what moves: slack, loose wheels, a wrong sheet.",
        )


def _tell_motors(found: Any, as_json: bool) -> None:
    if as_json:
        ranked = [
            {"kind": e.kind, "who": list(e.who), "sentence": e.sentence, "chi2": e.chi2}
            for e in found.ranked[:5]
        ]
        say(json.dumps({"verdict": found.verdict, "ranked": ranked}, allow_nan=False))
        return
    words = {
        "healthy": "every motor does what it is told",
        "unknown": "no single fault explains it",
    }
    say(words[found.verdict] if found.verdict in words else found.ranked[0].sentence)


def _tell_tilt(event: Any, as_json: bool) -> None:
    from tallgrain.core.solve.tilt import tilt_told

    solved = event.solved
    if as_json:
        document = {
            "pass": event.number + 1,
            "survey": event.survey,
            "spread_mm": solved.before,
            "raise_mm": {n: float(r) for n, r in solved.by_name.items()},
            "u_mm": {n: float(u) for n, u in zip(solved.names, solved.u, strict=True)},
            "sent_mm": dict(zip(solved.names, event.sent, strict=True)),
            "predicted_mm": event.predicted,
            "noise_mm": solved.noise,
            "verdict": event.verdict,
            "warnings": [told.document for told in tilt_told(solved)],
            "uncorrectable": {
                "slope_x_mm_per_m": solved.uncorrectable[0] * 1000,
                "slope_y_mm_per_m": solved.uncorrectable[1] * 1000,
            },
        }
        say(json.dumps(document, allow_nan=False))
        return
    sent = ", ".join(f"{n} {number(mm, 4)}" for n, mm in zip(solved.names, event.sent, strict=True))
    words = f"sent {sent} mm" if event.verdict == "correct" else event.verdict
    say(f"pass {event.number + 1}: spread {number(solved.before, 4)} mm at the supports; {words}")


@routine_app.command("towers")
def towers_routine(
    link: Link,
    machine: MachineName,
    passes: Annotated[int, typer.Option(min=0, max=9, help="Corrections at most.")] = 3,
    free: Free = None,
    count: Annotated[int, typer.Option(min=4, max=200, help="Points of each survey.")] = 20,
    gauge: Annotated[
        Path | None, typer.Option(help="A skew file: distances on a gauge that it printed.")
    ] = None,
    shrinkage: Annotated[float, typer.Option(help="How much that part shrank (%).")] = 0.0,
    clearance_mm: Clearance = None,
    fits_mm: Fits = None,
    finger: Finger = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Put a delta's towers right: survey, solve, apply, survey again, until nothing is left."""
    from tallgrain.clock import now
    from tallgrain.core.solve.towers import distances_of, parse_free
    from tallgrain.formats.skew_json import read_skew
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.towers import TowersJob, TowersPass, towers_loop
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    seen = Seen(clearance_mm, fits_mm, finger)
    known = machine_sheet(machine)
    chosen = parse_free(free) if free is not None else None
    printed = distances_of(read_skew(gauge), shrinkage / 100) if gauge is not None else ()
    token, verdict = BreakOff(), ""
    with at_the_printer(link, known, remote, seen, token) as (guard, ledger):
        job = TowersJob(passes, chosen, count, printed)
        for event in towers_loop(guard, ledger, now, token, job):
            if isinstance(event, TowersPass):
                verdict = event.verdict
                _tell_towers(event, as_json)
    if token.asked:
        raise JobError("the towers were broken off.", "routine", "What was measured is kept.")
    if verdict == "measured only" and passes:
        raise JobError(
            f"{passes} corrections did not put it right.",
            known[0].name,
            "Run it again, or look for what gives way: loose rods, slack belts.",
        )


def _tell_towers(event: Any, as_json: bool) -> None:
    from tallgrain.cli.solving import delta_document

    solved = event.solved
    if as_json:
        document = {
            "pass": event.number + 1,
            "survey": event.survey,
            "verdict": event.verdict,
            "moves_mm": event.moves,
            "noise_mm": event.noise,
            **delta_document(solved),
        }
        say(json.dumps(document, allow_nan=False))
        return
    say(
        f"pass {event.number + 1}: {number(solved.rms_before, 4)} mm RMS, the towers explain "
        f"{number(event.moves, 4)} mm of it; {event.verdict}"
    )
    for name, change in solved.change.items() if event.verdict == "correct" else ():
        if name in solved.u:
            words = name.replace("_mm", "").replace("_deg", "").replace("_", " ").replace(".", " ")
            say(f"  {words}: {number(change, 4)} ± {number(2 * solved.u[name], 4)} (k = 2)")


@routine_app.command("adjusters")
def adjusters_routine(
    link: Link,
    machine: MachineName,
    rounds: Annotated[int, typer.Option(min=1, max=12, help="Rounds of turning at most.")] = 4,
    hold: Annotated[str, typer.Option(help="least, or a screw that stays.")] = "least",
    clearance_mm: Clearance = None,
    fits_mm: Fits = None,
    finger: Finger = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Level by the bed screws: measure, say what to turn, wait for a line on stdin, again.

    A line says that the screws were turned as told and that hands are clear; the end of input
    ends the loop.
    """
    from tallgrain.clock import now
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.adjusters import AdjusterPass, adjusters_loop
    from tallgrain.procedures.events import BreakOff
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    seen = Seen(clearance_mm, fits_mm, finger)
    known = machine_sheet(machine)
    token = BreakOff()
    verdict = ""

    def turned() -> bool:
        return not token.asked and bool(sys.stdin.readline())

    with at_the_printer(link, known, remote, seen, token) as (guard, ledger):
        for event in adjusters_loop(guard, ledger, now, token, turned, rounds, hold):
            if isinstance(event, AdjusterPass):
                verdict = event.verdict
                _tell_screws(event, as_json)
    if token.asked:
        raise JobError("levelling was broken off.", "routine", "What was measured is kept.")
    if verdict == "not level":
        raise JobError(
            "the screws still need turning.",
            known[0].name,
            "Run it again and turn them as it says.",
        )


def _tell_screws(event: Any, as_json: bool) -> None:
    from tallgrain.cli.solving import adjusters_document

    if as_json:
        document = {
            "pass": event.number + 1,
            "survey": event.survey,
            "verdict": event.verdict,
            **adjusters_document(event.solved),
            "fault": event.fault,
        }
        say(json.dumps(document, allow_nan=False))
        return
    say(f"pass {event.number + 1}: FLTt {number(event.solved.before.fltt, 4)} mm; {event.verdict}")
    if event.fault:
        say(f"  {event.fault}")
    for turn in event.solved.turns if event.verdict == "not level" else ():
        told = "leave it" if turn.leave else f"{turn.turn_deg:.0f}° {turn.direction}"
        say(f"  {turn.name}: {told}")
    if event.verdict == "not level":
        say("Turn them, clear your hands, and press Enter.")
