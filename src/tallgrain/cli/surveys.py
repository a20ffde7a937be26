"""Surveys that are stored: listed, read in, written out, converted."""

import sys
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import (
    AsJson,
    LayoutChoice,
    MachineName,
    Rows,
    aligned,
    app,
    number,
    show,
    writing,
)
from tallgrain.errors import InputError

As = Annotated[
    LayoutChoice | None,
    typer.Option("--as", help="What a table is, where it could be read in two ways."),
]
ExtentText = Annotated[
    str | None, typer.Option("--extent", help="Where a matrix lies, in mm: left,right,front,rear.")
]
RowsFirst = Annotated[
    Rows | None, typer.Option("--rows", help="Which row of a matrix comes first.")
]
Columns = Annotated[str | None, typer.Option(help="Which column comes first: left or right.")]
UnitText = Annotated[str | None, typer.Option("--unit", help="Of its heights: mm, um or inch.")]
Sign = Annotated[
    str | None, typer.Option(help="heights, or levels: what would level them (the other sign).")
]
Which = Annotated[int | None, typer.Option(min=1, help="Which surface, where a text has several.")]
WHEN = ["%Y-%m-%d", "%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M:%S%z"]
OnSheet = Annotated[str | None, typer.Option("--sheet", help="The sheet on the plate.")]


@app.command()
def surveys(
    machine: Annotated[str | None, typer.Option("--machine", help="Only this printer's.")] = None,
    as_json: AsJson = False,
) -> None:
    """The stored surveys."""
    from tallgrain.resolve import readable_ledger

    ledger = readable_ledger()
    found: list[dict[str, Any]] = []
    if ledger is not None:
        with ledger:
            for head in ledger.heads(machine):
                found.append(
                    {
                        "survey": head.ident,
                        "machine": head.machine,
                        "kind": head.kind,
                        "taken_at": head.taken_at.isoformat(timespec="seconds"),
                        "points": head.points,
                        "complete": head.state == "complete",
                        "fltt_mm": _fltt(ledger.survey(head.ident)),
                    }
                )

    def table() -> str:
        if not found:
            return "Nothing is stored yet."
        rows = [["survey", "printer", "kind", "taken", "points", "", "FLTt (mm)"]]
        for s in found:
            taken = s["taken_at"][:16].replace("T", " ")
            state = "" if s["complete"] else "incomplete"
            row = [s["survey"], s["machine"], s["kind"], taken, str(s["points"]), state]
            rows.append([*row, number(s["fltt_mm"])])
        return aligned(rows)

    show(found, as_json, table)


def _fltt(stored: Any) -> float | None:
    from tallgrain.core.surface.shape import flatness as measure

    try:
        return round(measure(stored.xy, stored.heights).fltt, 6)
    except InputError:
        return None  # too few points to say: the table shows a dash


@app.command("export")
def export_survey(survey: str, file: Path) -> None:
    """Write a stored survey to a file, in the format of its ending."""
    from tallgrain.formats.files import ending_of, write_survey
    from tallgrain.resolve import survey_named

    ending_of(file)
    write_survey(survey_named(survey), file)


@app.command("import")
def import_survey(
    file: Path,
    machine: MachineName,
    layout: As = None,
    extent: ExtentText = None,
    rows: RowsFirst = None,
    columns: Columns = None,
    unit: UnitText = None,
    sign: Sign = None,
    which: Which = None,
    taken_at: Annotated[
        datetime | None,
        typer.Option(help="When it was measured, if the file does not say.", formats=WHEN),
    ] = None,
    sheet_name: Annotated[
        str | None, typer.Option("--sheet", help="The sheet that was on the plate.")
    ] = None,
    nozzle_c: Annotated[float | None, typer.Option(min=-50, max=600, help="Nozzle (°C).")] = None,
    plate_c: Annotated[float | None, typer.Option(min=-50, max=300, help="Plate (°C).")] = None,
    as_json: AsJson = False,
) -> None:
    """Store a survey from a file."""
    from tallgrain.clock import now
    from tallgrain.core.machine.placed import check_placed
    from tallgrain.core.surface.plausible import why_no_plate
    from tallgrain.formats.files import read_survey, told_of
    from tallgrain.resolve import machine_sheet

    when = taken_at.astimezone() if taken_at is not None else None
    answers = _answers(extent, rows, columns, unit, sign, which)
    found = read_survey(file, when or now(), layout=_layout(layout), answers=answers)
    found = told_of(found, when, sheet_name, nozzle_c, plate_c)
    with writing() as ledger:
        sheet, text = machine_sheet(machine, ledger)
        check_placed(found, sheet, str(file))
        if ledger.machine_text(sheet.name) is None:
            ledger.put_machine(sheet.name, text, now())
        ident = ledger.add_survey(found.for_machine(sheet.name))
    odd = why_no_plate(found.xy, found.heights)
    document: dict[str, Any] = {"survey": ident}
    if odd:
        document["warnings"] = [{"code": "no_plate", "figures": {"why": odd}}]
        print(f"{file}: {odd}: that can't be a plate. It is stored, not judged.", file=sys.stderr)
    show(document, as_json, lambda: f"Stored as survey {ident}.")


@app.command()
def convert(
    source: Path,
    target: Path,
    layout: As = None,
    extent: ExtentText = None,
    rows: RowsFirst = None,
    columns: Columns = None,
    unit: UnitText = None,
    sign: Sign = None,
    which: Which = None,
    exaggeration: Annotated[
        float, typer.Option(min=0.001, max=10_000, help="Of the heights of a relief (STL, PLY).")
    ] = 1.0,
) -> None:
    """Rewrite a survey file in another format."""
    from tallgrain.clock import now
    from tallgrain.formats.files import ending_of, read_survey, write_survey

    ending_of(target)
    answers = _answers(extent, rows, columns, unit, sign, which)
    found = read_survey(source, now(), layout=_layout(layout), answers=answers)
    write_survey(found, target, exaggeration)


def _layout(chosen: Any) -> Any:
    return None if chosen is None else str(chosen)


def _answers(
    extent: str | None,
    rows: Rows | None,
    columns: str | None,
    unit: str | None,
    sign: str | None,
    which: int | None,
) -> Any:
    """What is said of a text of heights. Raises InputError."""
    from tallgrain.formats.log_text import Answers

    for option, said, known in (
        ("--columns", columns, ("left", "right")),
        ("--unit", unit, ("mm", "um", "inch")),
        ("--sign", sign, ("heights", "levels")),
    ):
        if said is not None and said not in known:
            raise InputError(f"'{said}' is not known.", option, f"Give {' or '.join(known)}.")
    order: Any = None if rows is None else rows.value
    return Answers(_extent(extent), order, columns, unit, sign, which)  # type: ignore[arg-type]


def _extent(text: str | None) -> Any:
    """An extent from the command line. Raises InputError."""
    from tallgrain.formats.matrix_text import Extent, checked_extent

    if text is None:
        return None
    try:
        x0, x1, y0, y1 = (float(part) for part in text.split(","))
    except ValueError:
        raise InputError(
            f"'{text}' is no extent.",
            "--extent",
            "Give left,right,front,rear such as 10,340,5,240.",
        ) from None
    return checked_extent(Extent(x0, x1, y0, y1), "--extent", either_way=True)
