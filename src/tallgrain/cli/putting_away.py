"""What was entered by mistake: put away, listed, brought back."""

from enum import StrEnum
from typing import Annotated

import typer

from tallgrain.cli.common import AsJson, aligned, app, show, writing

What = StrEnum("What", {"survey": "survey", "machine": "machine", "event": "event", "list": "list"})
Ident = Annotated[str | None, typer.Argument(help="A survey's or event's id, a printer's name.")]


@app.command("put-away")
def put_away(what: What, ident: Ident = None, as_json: AsJson = False) -> None:
    """Put a survey, a printer or an event away: kept, but out of sight and of every figure."""
    if what == What("list"):
        _list(as_json)
        return
    _turn(str(what), ident, True, as_json)


@app.command("bring-back")
def bring_back(what: What, ident: Ident = None, as_json: AsJson = False) -> None:
    """Bring back what was put away."""
    if what == What("list"):
        _list(as_json)
        return
    _turn(str(what), ident, False, as_json)


def _turn(what: str, ident: str | None, away: bool, as_json: bool) -> None:
    from tallgrain.clock import now
    from tallgrain.errors import InputError

    if ident is None:
        raise InputError(f"which {what} is not said.", what, "Give its id, or a printer's name.")
    with writing() as ledger:
        ledger.put_away(what, ident, now() if away else None)
    words = "put away" if away else "brought back"
    show({what: ident, "away": away}, as_json, lambda: f"{what} {ident} is {words}.")


def _list(as_json: bool) -> None:
    from tallgrain.resolve import readable_ledger

    ledger = readable_ledger()
    found = []
    if ledger is not None:
        with ledger:
            found = ledger.away()
    document = [
        {"kind": a.what, "id": a.ident, "words": a.words, "at": a.at.isoformat(timespec="seconds")}
        for a in found
    ]

    def table() -> str:
        if not found:
            return "Nothing is put away."
        rows = [[a.what, a.ident, a.words, f"{a.at:%Y-%m-%d}"] for a in found]
        return aligned([["kind", "id", "", "since"], *rows])

    show(document, as_json, table)
