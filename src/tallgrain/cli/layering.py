"""The first layer that the next print would get, and what to do about it."""

from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import AsJson, MachineName, aligned, app, show
from tallgrain.errors import InputError


@app.command("layer")
def layer(
    machine: MachineName,
    gcode: Annotated[
        Path | None, typer.Option("--gcode", help="The coming print: an ISO 6983 program.")
    ] = None,
    sheet: Annotated[str | None, typer.Option("--sheet", help="The sheet on the plate.")] = None,
    nozzle_c: Annotated[
        float | None, typer.Option(min=0, max=600, help="The nozzle's heat as it prints (°C).")
    ] = None,
    plate_c: Annotated[
        float | None, typer.Option(min=0, max=300, help="The plate's heat as it prints (°C).")
    ] = None,
    layer_mm: Annotated[
        float | None, typer.Option("--layer-mm", min=0.02, max=2, help="First layer as sliced.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Thinnest to thickest with 95 % certainty, what that is made of, and what to do next."""
    from dataclasses import replace

    from tallgrain.clock import now
    from tallgrain.core.machine.outline import Rectangle
    from tallgrain.journal.journal import Journal
    from tallgrain.journal.records import SheetOn
    from tallgrain.next_layer.acts import read_advice
    from tallgrain.next_layer.knows import coming
    from tallgrain.resolve import machine_sheet, readable_ledger

    known, _ = machine_sheet(machine)
    ledger = readable_ledger()
    if ledger is None:
        raise InputError("nothing is stored yet.", machine, "Survey or feel the gap first.")
    with ledger:
        seen = Journal(ledger, known.name).newest(SheetOn)
        on = sheet or (seen.figures.name if seen is not None else None) or None
        print_ = coming(ledger, known.name, on, known.tolerance.first_layer_mm)
        said: dict[str, Any] = {"nozzle_c": nozzle_c, "plate_c": plate_c, "layer": layer_mm}
        print_ = replace(print_, **{k: v for k, v in said.items() if v is not None})
        if gcode is not None:
            laid = _laid(gcode)
            print_ = replace(print_, box=Rectangle(*laid.box))
            if layer_mm is None:
                print_ = replace(print_, layer=laid.z)
        advice = read_advice(ledger, known, now(), print_)
    show(_document(known.name, print_, advice), as_json, lambda: _table(advice))


def _laid(file: Path) -> Any:
    from tallgrain.formats.program_scan import first_layer

    *_, found = first_layer(file)
    return found


def _document(name: str, print_: Any, advice: Any) -> dict[str, Any]:
    found = advice.layer
    return {
        "machine": name,
        "print": {
            "sheet": print_.sheet,
            "nozzle_c": print_.nozzle_c,
            "plate_c": print_.plate_c,
            "layer_mm": print_.layer,
            "box": None if print_.box is None else list(_corners(print_.box)),
        },
        "lo_mm": found.low,
        "hi_mm": found.high,
        "limits_mm": list(found.limits),
        "chance": found.chance,
        "enough": advice.enough,
        "worst": {
            "x_mm": found.worst[0],
            "y_mm": found.worst[1],
            "mm": found.worst_mm[0],
            "lo_mm": found.worst_mm[1],
            "hi_mm": found.worst_mm[2],
        },
        "budget": [
            {
                "code": part.code,
                "words": part.words,
                "mm": part.mm,
                "station": part.opens,
                "assumed": part.assumed,
            }
            for part in found.parts
        ],
        "acts": [
            {
                "code": one.act.code,
                "words": one.act.words,
                "station": one.act.station,
                "seconds": one.act.seconds,
                "lo_mm": one.low,
                "hi_mm": one.high,
                "chance": one.chance,
            }
            for one in advice.acts
        ],
        "sentence": advice.sentence,
    }


def _corners(box: Any) -> tuple[float, float, float, float]:
    return box.x0, box.y0, box.x1, box.y1


def _table(advice: Any) -> str:
    from tallgrain.core.layer.layer import span_words

    found = advice.layer
    low, high = found.limits
    rows = [[part.words, f"± {part.mm:.3f}", "assumed" if part.assumed else part.opens]
            for part in found.parts]  # fmt: skip
    lines = [
        f"first layer {span_words(found.low, found.high, ' to ')} mm, 95 % sure; limits "
        f"{low:.2f} to {high:.2f} mm",
        f"{100 * found.chance:.0f} in 100 that it leaves them somewhere; worst at x "
        f"{found.worst[0]:.0f}, y {found.worst[1]:.0f}: {max(found.worst_mm[0], 0.0):.2f} mm",
        aligned([["made of", "mm", "see"], *rows]),
        advice.sentence,
    ]
    todo = [
        [f"{k}. {one.act.words}", f"{one.act.seconds / 60:.1f} min",
         f"{span_words(one.low, one.high, ' to ')} mm"]
        for k, one in enumerate(advice.acts[:3], 1)
    ]  # fmt: skip
    return "\n".join([*lines, *([aligned(todo)] if todo else [])])
