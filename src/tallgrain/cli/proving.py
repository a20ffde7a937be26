"""Console languages: those that are known, and proving one on a printer."""

import json
import sys
from contextlib import suppress
from typing import Any

from tallgrain.cli.common import (
    AsJson,
    Link,
    MachineName,
    Remote,
    Seen,
    Verbs,
    app,
    ask_line,
    at_the_printer,
    say,
    show,
)
from tallgrain.errors import InputError

dialect_app = Verbs(rich_markup_mode=None, no_args_is_help=True, help="Console languages.")
app.add_typer(dialect_app, name="dialect")


@dialect_app.command("list")
def dialect_list(as_json: AsJson = False) -> None:
    """The dialects that are known, by name, with their sums."""
    from tallgrain.link.connect import dialect_named, dialect_names

    found = [{"name": n, "sum": dialect_named(n).sum} for n in dialect_names()]
    show(found, as_json, lambda: "\n".join(f"{d['name']}  {d['sum']}" for d in found))


@dialect_app.command("prove")
def dialect_prove(
    link: Link, machine: MachineName, remote: Remote = False, as_json: AsJson = False
) -> None:
    """Prove a printer's console: ten steps, each harmless, asked on stderr and answered on stdin.

    Until then nothing goes down over it. Stand there with a ruler; Ctrl+C breaks off, twice halts.
    """
    from tallgrain.clock import now
    from tallgrain.journal.journal import Journal
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.proving import StepBegins, StepDone, prove
    from tallgrain.resolve import machine_sheet

    check_url(link, remote)
    known = machine_sheet(machine)
    with at_the_printer(link, known, remote, Seen(), BreakOff(), down=False) as (guard, ledger):
        printer = guard.printer
        if not printer.language:
            own = "this link speaks Tall Grain's own protocol."
            raise InputError(own, "--link", "There is nothing to prove.")
        journal = Journal(ledger, guard.sheet.name, now)
        for event in prove(guard, printer, journal, _answer):
            if isinstance(event, StepBegins):
                print(f"{event.number}  {event.words}", file=sys.stderr, flush=True)
            elif isinstance(event, StepDone):
                _tell(event, as_json)


def _tell(event: Any, as_json: bool) -> None:
    if as_json:
        document = {"step": event.step, "told": event.told, "left_out": event.left_out}
        say(json.dumps(document, allow_nan=False))
    else:
        say(f"{event.step}: {event.told or 'left out, ' + event.left_out}")


def _answer(question: Any) -> float | bool:
    """Ask until it is answered: a figure in mm, yes or no, or Enter for done."""
    hint = {"mm": "mm", "fits": "mm", "yes": "yes or no", "done": "Enter"}[question.kind]
    while True:
        line = ask_line(f"{question.words} ({hint})").lower()
        if question.kind == "done":
            return True
        if question.kind == "yes" and line in ("y", "yes", "n", "no"):
            return line.startswith("y")
        with suppress(ValueError):
            if question.kind in ("mm", "fits"):
                return float(line.replace(",", "."))
