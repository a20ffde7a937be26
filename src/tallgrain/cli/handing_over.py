"""Handing over without the window: how prints begin, and what an evening did."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import AsJson, MachineName, say, show, writing
from tallgrain.cli.routines import routine_app
from tallgrain.errors import InputError

WAYS = ("recall", "area", "whole", "nothing")
Way = Annotated[str | None, typer.Option(help="recall, area, whole or nothing.")]


@routine_app.command("handover")
def handover_routine(
    machine: MachineName,
    compensation: Way = None,
    dialect: Annotated[str | None, typer.Option(help="In which dialect's lines.")] = None,
    nozzle_c: Annotated[float | None, typer.Option(help="Of a print (°C).")] = None,
    plate_c: Annotated[float | None, typer.Option(help="Of a print (°C).")] = None,
    soak_min: Annotated[float | None, typer.Option(min=0, max=120, help="Soak (min).")] = None,
    clean: Annotated[bool | None, typer.Option(help="Wipe the tip.")] = None,
    level: Annotated[bool | None, typer.Option(help="Level by the Z motors.")] = None,
    every: Annotated[int | None, typer.Option(min=1, max=1000, help="Prints a survey.")] = None,
    check: Annotated[Path | None, typer.Option(help="A start text to check instead.")] = None,
    out: Annotated[Path | None, typer.Option(help="Write the start text here.")] = None,
    as_json: AsJson = False,
) -> None:
    """Choose how prints begin (what is left out stays), write the start text, and tell the day."""
    from tallgrain.clock import now
    from tallgrain.journal.journal import Journal
    from tallgrain.journal.values import ValuesBook
    from tallgrain.link.connect import dialect_named
    from tallgrain.procedures.handover import StartBook, checked, start_text, summary
    from tallgrain.procedures.values import MEANINGS
    from tallgrain.resolve import machine_sheet
    from tallgrain.textio import read_text, write_text

    sheet, text = machine_sheet(machine)
    with writing() as ledger:
        if ledger.machine_text(sheet.name) is None:
            ledger.put_machine(sheet.name, text, now())
        journal = Journal(ledger, sheet.name, now)
        book, values = StartBook(journal), ValuesBook(journal, MEANINGS)
        asked: dict[str, Any] = {
            "compensation": compensation,
            "nozzle_c": nozzle_c,
            "plate_c": plate_c,
            "soak_min": soak_min,
            "clean": clean,
            "level": level,
        }
        if compensation is not None and compensation not in WAYS:
            raise InputError(
                f"there is no way '{compensation}'.", "--compensation", f"Give {', '.join(WAYS)}."
            )
        policy = replace(book.chosen.policy, **{k: v for k, v in asked.items() if v is not None})
        chosen = replace(book.chosen, policy=policy, every=every or book.chosen.every)
        chosen = replace(chosen, dialect=dialect or chosen.dialect)
        spoken = dialect_named(chosen.dialect)
        if check is not None:
            _check(checked(read_text(check), sheet, spoken, values), check, as_json)
            return
        made = start_text(chosen, sheet, spoken, values.ours("trip_height"))
        book.choose(chosen)
        if out is not None:
            write_text(out, made)
        today = now().replace(hour=0, minute=0, second=0, microsecond=0)
        lines = summary(ledger, journal, today, values.not_kept)
        told = {"start": made, "today": lines, "dialect": chosen.dialect, "every": chosen.every}
        show(told, as_json, lambda: "\n".join([*([] if out else [made]), *lines]))
        if out is not None and not as_json:
            say(f"written to {out}.")


def _check(seen: Any, path: Path, as_json: bool) -> None:
    """Tell what is wrong in a start text. Raises InputError where it is not safe."""
    rows = [f"line {f.line}: {f.what}" for f in seen.found]
    document = {"findings": rows, "lines": seen.understood, "unknown": seen.unknown}
    show(document, as_json, lambda: "\n".join([seen.damage, *rows]).strip() or "all right")
    if seen.damage or any(f.grave for f in seen.found):
        raise InputError("this text is not safe to start with.", str(path))
