"""A printer that travels: packed into one file, and unpacked elsewhere."""

from pathlib import Path
from typing import Annotated

import typer

from tallgrain.cli.common import AsJson, app, show, writing
from tallgrain.errors import InputError


@app.command()
def pack(
    out: Annotated[Path, typer.Argument(help="The file to write; never written over.")],
    machine: Annotated[str | None, typer.Option(help="One printer; all if left out.")] = None,
    as_json: AsJson = False,
) -> None:
    """Everything that is known of a printer, or of all of them, in one open file."""
    from tallgrain.formats.pack import write_pack
    from tallgrain.link.connect import dialect_folder
    from tallgrain.paths import data_home
    from tallgrain.procedures.travel import packed

    if out.exists():
        raise InputError("this file is there already.", str(out), "Give another name.")
    with writing() as ledger:
        names = [machine] if machine is not None else [name for name, _ in ledger.machines()]
        if not names:
            raise InputError("there is no printer to pack.", "pack", "Describe one first.")
        made = packed(ledger, names, data_home() / "backups", dialect_folder())
    write_pack(out, made)
    document = {
        "file": str(out),
        "printers": [{"name": p.name, "surveys": len(p.surveys)} for p in made.printers],
    }
    lines = [f"{p.name}: {len(p.surveys)} surveys" for p in made.printers]
    show(document, as_json, lambda: "\n".join([f"packed into {out}:", *lines]))


@app.command()
def unpack(file: Annotated[Path, typer.Argument(help="A pack.")], as_json: AsJson = False) -> None:
    """Take a pack in; what is here already is not doubled, and stays as it is."""
    from dataclasses import asdict

    from tallgrain.clock import now
    from tallgrain.formats.pack import read_pack
    from tallgrain.link.connect import dialect_folder
    from tallgrain.paths import data_home
    from tallgrain.procedures.travel import join, words

    found = read_pack(file)
    with writing() as ledger:
        made, told = join(ledger, found, data_home() / "backups", dialect_folder(), now())
    document = {"printers": [asdict(one) for one in made], "told": told}
    show(document, as_json, lambda: "\n".join([*words(made), *told]))
