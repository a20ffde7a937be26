"""The surfaces that a printer holds, by words."""

import json
from typing import TYPE_CHECKING, Annotated, Any, cast

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
    at_the_printer,
    number,
    say,
)
from tallgrain.cli.routines import routine_app
from tallgrain.errors import InputError, JobError

if TYPE_CHECKING:
    from tallgrain.core.held.surface import Beyond

Name = Annotated[str, typer.Option("--name", help="What the printer calls it.")]


@routine_app.command("surface")
def surface(
    link: Link,
    machine: MachineName,
    name: Name = "bed",
    write: Annotated[
        str | None, typer.Option(help="A stored survey's number, or 'newest', to write.")
    ] = None,
    count: Annotated[str | None, typer.Option(help="Columns x rows of what is written.")] = None,
    beyond: Annotated[
        str, typer.Option(help="Beyond the survey's points: extrapolated, mirrored or edge.")
    ] = "extrapolated",
    use: Annotated[bool, typer.Option("--use", help="Let the printer follow it.")] = False,
    none: Annotated[bool, typer.Option("--none", help="Let the printer follow none.")] = False,
    fade: Annotated[
        str | None, typer.Option(help="With --use: full up to, gone at, in mm, as 2,10.")
    ] = None,
    keep: Annotated[bool, typer.Option("--keep", help="Make them survive power-off.")] = False,
    forget: Annotated[bool, typer.Option("--forget", help="Take it out of the printer.")] = False,
    prove: Annotated[
        bool, typer.Option("--prove", help="Touch places without and with it: is it the one?")
    ] = False,
    give: Annotated[
        bool, typer.Option("--give-back", help="After a reflash: all that was lost.")
    ] = False,
    back: Annotated[
        bool, typer.Option("--take-back", help="The one that was written under this name before.")
    ] = False,
    as_survey: Annotated[
        bool, typer.Option("--as-survey", help="Store what it holds as a survey of its own.")
    ] = False,
    clearance_mm: Clearance = None,
    fits_mm: Fits = None,
    finger: Finger = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """What surfaces the printer holds and how each stands; write, keep, use, prove, give back."""
    from tallgrain.clock import now
    from tallgrain.core.plan.grid import parse_count
    from tallgrain.link.connect import check_url
    from tallgrain.procedures import surfaces as held
    from tallgrain.procedures.events import BreakOff
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    if beyond not in ("extrapolated", "mirrored", "edge"):
        ways = "Give extrapolated, mirrored or edge."
        raise InputError(f"there is no way '{beyond}'.", "--beyond", ways)
    fades = _fades(fade)
    seen, known, token = Seen(clearance_mm, fits_mm, finger), machine_sheet(machine), BreakOff()
    down = use or prove
    with at_the_printer(link, known, remote, seen, token, down) as (guard, ledger):
        at = held.AtSurfaces(guard, ledger, now)
        told: dict[str, Any] = {}
        if give:
            told["given_back"] = held.give_back(at)
        if back and not held.take_back(at, name):
            raise JobError(f"no other surface was written as '{name}'.", "surface", "")
        if write is not None:
            grid = parse_count(count) if count else None
            told["written"] = _write(at, name, write, grid, cast("Beyond", beyond))
        if keep:
            held.keep_surfaces(at)
        if forget:
            held.forget_surface(at, name)
        if as_survey:
            told["survey"] = held.as_survey(at, name)
        if use or none:
            _use(at, "" if none else name, fades)
        if prove:
            told["proof"] = _prove(at, name, token)
        if token.asked:
            raise JobError("the proof was broken off.", "surface", "Nothing is said of it.")
        what, standings = held.surfaces_now(guard.printer, at.journal)
        told["in_use"] = what.using
        told["surfaces"] = [
            {
                "name": s.name,
                "state": s.state,
                "in_use": s.in_use,
                "survey": s.written.survey if s.written is not None else None,
                "columns": len(s.held.xs) if s.held is not None else None,
                "rows": len(s.held.ys) if s.held is not None else None,
                "trouble": s.trouble,
            }
            for s in standings
        ]
        say(json.dumps(told, ensure_ascii=False, allow_nan=False) if as_json else _table(told))


def _write(
    at: Any, name: str, named: str, grid: tuple[int, int] | None, beyond: "Beyond"
) -> dict[str, Any]:
    from tallgrain.procedures import surfaces as held

    found = _survey(at, named)
    what = at.guard.printer.surfaces()
    made = held.proposed(at.guard.sheet, found, what, name, grid, beyond=beyond)
    held.write_surface(at, made.surface, found)
    return {
        "survey": found.ident,
        "columns": len(made.surface.xs),
        "rows": len(made.surface.ys),
        "costs_mm": round(made.costs.worst, 4),
        "costs_rms_mm": round(made.costs.rms, 4),
    }


def _use(at: Any, name: str, fades: tuple[float, float] | None) -> None:
    from tallgrain.procedures import surfaces as held

    if not at.guard.trusted:
        at.guard.reference()
    held.use_surface(at, name, fades)


def _prove(at: Any, name: str, token: Any) -> dict[str, Any]:
    from tallgrain.procedures import surfaces as held

    last = held.last_written(at.journal).get(name)
    found = _survey(at, last.survey if last is not None else "newest")
    tried = [e for e in held.prove_surface(at, name, found, token)
             if isinstance(e, held.SurfaceTried)]  # fmt: skip
    return _proof(tried[0]) if tried else {}


def _fades(text: str | None) -> tuple[float, float] | None:
    if text is None:
        return None
    try:
        full, gone = (float(part) for part in text.split(","))
    except ValueError:
        full, gone = 1.0, 0.0
    if not 0 <= full < gone <= 100:
        raise InputError(f"it can't fade by '{text}'.", "--fade", "Give two heights, as 2,10.")
    return full, gone


def _survey(at: Any, named: str) -> Any:
    machine = at.guard.sheet.name
    ident = at.ledger.newest(machine) if named == "newest" else named
    if ident is None:
        raise InputError(f"{machine} was never surveyed.", "--write", "Survey first.")
    return at.ledger.survey(ident)


def _proof(tried: Any) -> dict[str, Any]:
    e = tried.explained
    best = e.named
    return {
        "verdict": e.verdict,
        "left_mm": round(e.left_mm, 4),
        "better_by": round(min(e.better_by, 1e6), 1),
        "words": best.sentence if best is not None else "",
        "remedy": best.remedy if best is not None else "",
        "places": len(tried.tried.xy),
    }


def _table(told: dict[str, Any]) -> str:
    lines = []
    if told.get("given_back"):
        lines.append(f"given back: {', '.join(told['given_back'])}")
    if w := told.get("written"):
        lines.append(
            f"survey {w['survey']} written on {w['columns']} x {w['rows']} nodes: that costs "
            f"{number(w['costs_mm'])} mm of first layer at the worst place"
        )
    if p := told.get("proof"):
        lines.append(f"proof: {p['verdict']}. {p['words']} {p['remedy']}".rstrip(" ."))
    rows = [["name", "how it stands", "from survey", "nodes", ""]]
    for s in told["surfaces"]:
        nodes = f"{s['columns']} x {s['rows']}" if s["columns"] else s["trouble"]
        used = "in use" if s["in_use"] else ""
        rows.append([s["name"], s["state"], s["survey"] or "", nodes, used])
    lines.append(aligned(rows) if len(rows) > 1 else "this printer holds no surface")
    return "\n".join(lines)
