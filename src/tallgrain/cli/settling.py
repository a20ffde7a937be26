"""Routines that settle values: the gauge loop, what the printer stores, the quick check."""

import json
from contextlib import suppress
from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import (
    AsJson,
    Clearance,
    Finger,
    Fits,
    Link,
    MachineName,
    Remote,
    Seen,
    aligned,
    ask_feel,
    ask_line,
    at_the_printer,
    number,
    say,
    show,
)
from tallgrain.cli.routines import routine_app
from tallgrain.errors import InputError, JobError

Sheet = Annotated[str | None, typer.Option("--sheet", help="The sheet on the plate, by name.")]


@routine_app.command("check")
def check_routine(
    link: Link,
    machine: MachineName,
    sheet: Sheet = None,
    clearance_mm: Clearance = None,
    fits_mm: Fits = None,
    finger: Finger = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Touch a few places, and say which stored survey still fits."""
    from tallgrain.cli.looking_back import fit_document
    from tallgrain.clock import now
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.check import Checked, quick_check
    from tallgrain.procedures.events import BreakOff
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    seen = Seen(clearance_mm, fits_mm, finger)
    known = machine_sheet(machine)
    token = BreakOff()
    with at_the_printer(link, known, remote, seen, token) as (guard, ledger):
        for event in quick_check(guard, ledger, now, token, sheet=sheet):
            if isinstance(event, Checked):
                fits = [fit_document(f) for f in event.found]
                document = {"survey": event.survey, "sentence": event.words, "fits": fits}
                say(json.dumps(document, allow_nan=False) if as_json else event.words)
    if token.asked:
        raise JobError("the check was broken off.", "routine", "What was touched is kept.")


@routine_app.command("gauge")
def gauge_routine(
    link: Link,
    machine: MachineName,
    gauge_mm: Annotated[float, typer.Option(help="How thick the gauge is (mm).")] = 0.1,
    grips: Annotated[int, typer.Option(min=1, max=9, help="How often it is felt to grip.")] = 3,
    sheet: Sheet = None,
    apply: Annotated[bool, typer.Option("--apply", help="Set the trip height found.")] = False,
    keep: Annotated[bool, typer.Option("--keep", help="Then keep it: survive power-off.")] = False,
    clearance_mm: Clearance = None,
    fits_mm: Fits = None,
    finger: Finger = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Find the trip height by gauge: it asks on stderr, and a line on stdin answers.

    First how much room is seen under the nozzle (mm), then what the gauge does: free, grips or
    stuck.
    """
    from tallgrain.clock import now
    from tallgrain.journal.journal import Journal
    from tallgrain.journal.values import TRIP
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.gauge import enter_felt, gauge_loop, heat_of
    from tallgrain.procedures.learning import read_learnt
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    seen = Seen(clearance_mm, fits_mm, finger)
    known = machine_sheet(machine)
    token = BreakOff()
    with at_the_printer(link, known, remote, seen, token) as (guard, ledger):
        if not guard.trusted:
            guard.reference()
        heat = heat_of(guard.printer.state(), sheet)
        at = at_values(guard, ledger)
        last = at.book().last(TRIP)
        loop = gauge_loop(
            guard, _ask_room, ask_feel, gauge_mm, grips, read_learnt(ledger, guard.sheet)
        )
        journal = Journal(ledger, guard.sheet.name, now)
        felt = enter_felt(journal, loop, heat, last.after if last is not None else None)
        if felt is None:
            remedy = "Feel again: free above, gripping where the gauge just drags."
            raise JobError("the feels say no trip height yet.", "gauge", remedy)
        t, u = felt.entry.figures.t, felt.entry.figures.u
        if apply:
            _apply(at, felt, heat, keep)
        document = {
            "t_mm": t,
            "u_mm": u,
            "feels": len(loop.touches),
            "t_set_mm": loop.t_set,
            "verified": felt.verified.outcome if felt.verified is not None else "",
            "applied": apply,
            "kept": apply and keep,
        }
        told = f"trip height {number(t)} ± {number(2 * u)} mm (k = 2)"
        told += ", set" if apply else f"; the printer holds {number(loop.t_set)} mm"
        say(json.dumps(document, allow_nan=False) if as_json else told)


def _apply(at: Any, felt: Any, heat: Any, keep: bool) -> None:
    """Set the trip height that was felt, and keep it."""
    from tallgrain.journal.values import TRIP
    from tallgrain.procedures.values import keep_values, set_values

    if felt.found.contradictions:
        raise JobError(felt.found.contradictions[0].sentence, "gauge", "Nothing was set.")
    u = felt.entry.figures.u
    run_through(
        set_values(at, {TRIP: felt.entry.figures.t}, f"gauge, ± {2 * u:.3f} mm (k = 2)", heat, u)
    )
    if keep:
        run_through(keep_values(at))


def run_through(work: Any) -> None:
    """A procedure to its end; what it tells is in the ledger."""
    for _ in work:
        pass


def at_values(guard: Any, ledger: Any) -> Any:
    """Where values are changed from the command line."""
    from tallgrain.clock import now
    from tallgrain.paths import data_home
    from tallgrain.procedures.values import AtValues

    return AtValues(guard, ledger, now, data_home() / "backups")


def _ask_room() -> float:
    while True:
        with suppress(ValueError):
            room = float(ask_line("room under the nozzle (mm)?").replace(",", "."))
            if 0 <= room <= 500:
                return room


@routine_app.command("values")
def values_routine(
    link: Link,
    machine: MachineName,
    wanted: Annotated[
        list[str] | None, typer.Option("--set", help="NAME=FIGURE, in mm (skew: mrad); again.")
    ] = None,
    why: Annotated[str, typer.Option(help="Why, for the ledger.")] = "on the command line",
    keep: Annotated[bool, typer.Option("--keep", help="Make live values survive it.")] = False,
    give: Annotated[
        bool, typer.Option("--give-back", help="After a reflash: all that was lost.")
    ] = False,
    backup: Annotated[
        Path | None, typer.Option(help="Write all that the printer holds to a file.")
    ] = None,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """What the printer stores and how each value stands; set, keep, give back."""
    from tallgrain.clock import now
    from tallgrain.formats.values_json import write_values
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.gauge import heat_of
    from tallgrain.procedures.values import give_back, keep_values, record_of, set_values
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    known, figures = machine_sheet(machine), _figures(wanted or [])
    with at_the_printer(link, known, remote, Seen(), BreakOff(), down=False) as (guard, ledger):
        at = at_values(guard, ledger)
        if give:
            run_through(give_back(at))
        if figures:
            run_through(set_values(at, figures, why, heat_of(guard.printer.state(), None)))
        if keep:
            run_through(keep_values(at))
        book = at.book()
        if backup is not None:
            held = tuple(book.held.values())
            if not held:
                raise JobError("this printer stores no values.", str(backup), "Nothing to write.")
            write_values(backup, record_of(known[0].name, held, why, now()))
        _show_values(book, as_json)


def _figures(wanted: list[str]) -> dict[str, float]:
    made = {}
    for words in wanted:
        name, _, figure = words.partition("=")
        try:
            made[name.strip()] = float(figure)
        except ValueError:
            raise InputError(
                f"'{words}' names no value and figure.", "--set", "Write NAME=FIGURE."
            ) from None
    return made


def _show_values(book: Any, as_json: bool) -> None:
    from tallgrain.core.values import unit_of

    standings = book.standings()
    document = {
        "values": [
            {
                "meaning": m,
                "name": book.held[m].name,
                "live": one.held.live,
                "kept": one.held.kept,
                "unit": unit_of(m),
                "state": one.state,
                "why": one.last.why if one.last is not None else "",
            }
            for m, one in standings.items()
        ],
        "conflicts": [c.sentence for c in book.conflicts()],
        "lost": dict(book.lost),
    }

    def table() -> str:
        rows = [["value", "live", "kept", "", "how it stands", "why"]]
        for m, one in standings.items():
            figures = (number(one.held.live), number(one.held.kept))
            last = one.last.why if one.last is not None else ""
            rows.append([m.replace("_", " "), *figures, unit_of(m), one.state, last])
        return "\n".join([aligned(rows), *(c.sentence for c in book.conflicts())])

    show(document, as_json, table)
