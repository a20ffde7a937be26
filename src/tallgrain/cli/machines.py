"""Machine sheets."""

import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import AsJson, Verbs, aligned, app, show, writing
from tallgrain.errors import InputError, printable

machine_app = Verbs(
    rich_markup_mode=None, no_args_is_help=True, help="Machine sheets: what each printer is."
)
app.add_typer(machine_app, name="machine")


@machine_app.command("list")
def machine_list(as_json: AsJson = False) -> None:
    """The printers that are known."""
    from tallgrain.resolve import machine_sheet, readable_ledger, shipped_names

    ledger = readable_ledger()
    stored = [name for name, _ in ledger.machines()] if ledger else []
    if ledger:
        ledger.close()
    names = stored + [n for n in shipped_names() if n.lower() not in {s.lower() for s in stored}]
    found: list[dict[str, Any]] = []
    for name in names:
        try:
            sheet, _ = machine_sheet(name)
        except InputError as error:
            print(printable(f"{name!r}: {error}"), file=sys.stderr)
            continue
        box = sheet.plate.outline.box
        found.append(
            {
                "name": sheet.name,
                "kinematics": sheet.kinematics,
                "plate_mm": [box.width, box.depth],
                "drives": sheet.drives(),
                "stored": name in stored,
            }
        )

    def table() -> str:
        rows = [["name", "plate (mm)", "drives", ""]]
        for m in found:
            size = f"{m['plate_mm'][0]:g} × {m['plate_mm'][1]:g}"
            rows.append([m["name"], size, m["drives"], "" if m["stored"] else "example"])
        return aligned(rows)

    show(found, as_json, table)


@machine_app.command("show")
def machine_show(name: str, as_json: AsJson = False) -> None:
    """One printer's sheet, with its reach."""
    from tallgrain.core.machine.reach import Reach
    from tallgrain.resolve import machine_sheet

    sheet, text = machine_sheet(name)
    box = Reach(sheet).box
    document = sheet.model_dump(mode="json")
    document["reach"] = {"x_mm": [box.x0, box.x1], "y_mm": [box.y0, box.y1]}

    def table() -> str:
        spans = f"x {box.x0:g} to {box.x1:g} mm, y {box.y0:g} to {box.y1:g} mm"
        return f"{text.rstrip()}\n\n# reach: {spans}"

    show(document, as_json, table)


@machine_app.command("add")
def machine_add(file: Path, as_json: AsJson = False) -> None:
    """Store a printer's sheet from a TOML file."""
    from tallgrain.formats.machine_toml import read_sheet_text

    sheet, text = read_sheet_text(file)
    with writing() as ledger:
        from tallgrain.clock import now

        ledger.put_machine(sheet.name, text, now())
    show({"name": sheet.name}, as_json, lambda: f"{sheet.name} is stored.")


@machine_app.command("rename")
def machine_rename(old: str, new: str, as_json: AsJson = False) -> None:
    """Call a stored printer otherwise, with all that is kept of it."""
    from tallgrain.clock import now
    from tallgrain.formats.draft import renamed

    with writing() as ledger:
        text = dict(ledger.machines()).get(old) or ledger.machine_text(old)
        if text is None:
            raise InputError(
                f"there is no printer '{old}'.", "ledger", "'tallgrain machine list' lists them."
            )
        sheet, made = renamed(text, new)
        ledger.rename_machine(old, sheet.name, made, now())
    show({"name": sheet.name}, as_json, lambda: f"{old} is called {sheet.name} now.")


@machine_app.command("export")
def machine_export(name: str, file: Annotated[Path | None, typer.Argument()] = None) -> None:
    """A printer's sheet as TOML, on stdout or into a file."""
    from tallgrain.resolve import machine_sheet
    from tallgrain.textio import write_text

    _, text = machine_sheet(name)
    if file is None:
        sys.stdout.write(text)
    else:
        write_text(file, text)
