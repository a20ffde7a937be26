"""The routine that finds where the probe is: by ruler, by marks on tape, by a strip's edges."""

from contextlib import suppress
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
    ask_line,
    at_the_printer,
    number,
    show,
)
from tallgrain.cli.routines import routine_app
from tallgrain.errors import InputError, JobError, TallGrainError

SIDES = {
    "left": (-1, 0, 0),
    "right": (1, 0, 0),
    "front": (0, -1, 0),
    "rear": (0, 1, 0),
    "down": (0, 0, -1),
    "up": (0, 0, 1),
}


@routine_app.command("offset")
def offset_routine(
    link: Link,
    machine: MachineName,
    measured: Annotated[
        str | None, typer.Option(help="By ruler, seen from above: 'right 23.5, rear 5'.")
    ] = None,
    claimed: Annotated[str | None, typer.Option(help="By the mount's paper: 'X, Y'.")] = None,
    marks: Annotated[int, typer.Option(min=0, max=9, help="Marks on tape to jog over.")] = 0,
    scan: Annotated[
        bool, typer.Option("--scan", help="Scan a steel strip along x, then along y.")
    ] = False,
    use: Annotated[
        bool, typer.Option("--use", help="Put what is known best in the machine sheet.")
    ] = False,
    clearance_mm: Clearance = None,
    fits_mm: Fits = None,
    finger: Finger = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Where the probe is beside the nozzle: sources side by side, and why two of them differ.

    Marks and edges ask on stderr; lines on stdin jog ('left 1.5', 'down 2') and say 'here'.
    """
    from tallgrain.clock import now
    from tallgrain.core.probe.claims import CLAIMED_U_MM, RULER_U_MM, Claim
    from tallgrain.journal.journal import Journal
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.offsets import OffsetBook
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    seen = Seen(clearance_mm, fits_mm, finger)
    said = []
    if measured is not None:
        said.append(Claim("measured", _sides(measured), (RULER_U_MM, RULER_U_MM)))
    if claimed is not None:
        said.append(Claim("claimed", _pair(claimed), (CLAIMED_U_MM, CLAIMED_U_MM)))
    known, down = machine_sheet(machine), bool(marks or scan)
    if marks and known[0].probe.kind == "proximity":
        raise InputError("a proximity sensor leaves no mark.", "--marks", "Scan its edges.")
    with at_the_printer(link, known, remote, seen, BreakOff(), down=down) as (guard, ledger):
        book = OffsetBook(Journal(ledger, guard.sheet.name, now))
        for one in said:
            book.claim(one)
        if down and not guard.trusted:
            guard.reference()
        _mark(guard, book, marks)
        if scan:
            _scan(guard, book)
        if use:
            _use(ledger, known, book.best)
        _show_offsets(book, use, as_json)


def _mark(guard: Any, book: Any, marks: int) -> None:
    from tallgrain.procedures.offsets import touch_tape

    for count in range(marks):
        ask_line("tape lies over the datum, hands are clear (Enter)?")
        touched = touch_tape(guard, count)
        book.marked(touched, _jogged(guard, f"mark {count + 1}: the nozzle over it"))


def _scan(guard: Any, book: Any) -> None:
    from tallgrain.procedures.edge import scan_edge

    for axis, names in (("x", ("left", "right")), ("y", ("front", "rear"))):
        ask_line(f"the strip lies across {axis} over the datum, hands are clear (Enter)?")
        book.scans[axis] = scan_edge(guard, axis)
        for side, name in zip(("low", "high"), names, strict=True):
            book.edge(axis, side, _jogged(guard, f"the nozzle over the {name} edge"))


def _use(ledger: Any, known: tuple[Any, str], best: Any) -> None:
    """Put an offset in the machine sheet. Raises InputError where that makes none of it."""
    from tallgrain.clock import now
    from tallgrain.formats.draft import Draft, with_amount

    if best is None:
        return
    draft = Draft.of_text(known[1])
    for i, value in enumerate(best.offset):
        draft = with_amount(draft, known[0], ("probe", "offset", i), round(float(value), 4))
    if draft.sheet is None:
        raise InputError(draft.problem, known[0].name, "The machine sheet is as it was.")
    ledger.put_machine(known[0].name, draft.as_text(), now())


def _pair(words: str) -> tuple[float, float]:
    with suppress(ValueError):
        x, y = (float(v) for v in words.split(","))
        return x, y
    raise InputError(f"'{words}' is no offset.", "--claimed", "Write two figures in mm: 21.5, -17.")


def _sides(words: str) -> tuple[float, float]:
    from tallgrain.core.probe.claims import quadrant_offset

    with suppress(ValueError):
        told = {}
        for part in words.split(","):
            side, away = part.split()
            told["y" if side in ("front", "rear") else "x"] = side, float(away)
        (side_x, x), (side_y, y) = told["x"], told["y"]
        if side_x in ("left", "right"):
            return quadrant_offset(side_x, side_y, x, y)
    raise InputError(
        f"'{words}' says no two sides.", "--measured", "Write them so: right 23.5, rear 5."
    )


def _jogged(guard: Any, question: str) -> Any:
    """Jog as lines on stdin say, until one says 'here'; where the nozzle stands."""
    words = f"{question}: jog ({', '.join(SIDES)} and mm), or here?"
    while (line := ask_line(words)).lower() != "here":
        side, _, away = line.lower().partition(" ")
        try:
            mm = float(away.replace(",", "."))
            guard.by_hand.jog(*(mm * way for way in SIDES[side]))
        except (ValueError, KeyError):
            continue  # asked again
        except TallGrainError as no:
            if not guard.trusted:
                raise
            words = f"{no}\n{question}: jog, or here?"
    return guard.printer.state().position


def _show_offsets(book: Any, used: bool, as_json: bool) -> None:
    best = book.best
    if best is None:
        raise JobError("no source was named.", "offset", "Give --measured, --marks or --scan.")
    document = {
        "claims": [
            {"source": c.source, "offset_mm": list(c.offset), "u_mm": list(c.u), "count": c.count}
            for c in sorted(book.claims.values(), key=lambda c: max(c.u))
        ],
        "differences": [
            {"of": [a.source, b.source], "reason": d.reason, "sentence": d.sentence}
            for a, b, d in book.differences()
        ],
        "best": best.source,
        "used": used,
    }

    def table() -> str:
        lines = [
            f"{c.source}: {number(c.offset[0], 2)}, {number(c.offset[1], 2)} mm "
            f"± {number(2 * max(c.u), 2)} (k = 2)"
            for c in sorted(book.claims.values(), key=lambda c: max(c.u))
        ]
        lines += [f"{a.source} and {b.source}: {d.sentence}" for a, b, d in book.differences()]
        if used:
            lines.append(f"'{best.source}' is in the machine sheet now.")
        return "\n".join(lines)

    show(document, as_json, table)
