"""What all verbs share: the application, its options, and how results are told."""

import json
import math
import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any, TypeVar

import typer
from typer.core import TyperCommand

from tallgrain.core.plan.names import KINDS
from tallgrain.errors import InputError, JobError, printable

F = TypeVar("F", bound=Callable[..., Any])


class FiniteCommand(TyperCommand):
    """A verb that takes no figure without an end."""

    def invoke(self, ctx: Any) -> Any:
        """Raises InputError for inf and nan on any option."""
        for name, value in ctx.params.items():
            if isinstance(value, float) and not math.isfinite(value):
                raise InputError(
                    f"{value} is no figure.", f"--{name.replace('_', '-')}", "Give a number."
                )
        return super().invoke(ctx)


class Verbs(typer.Typer):
    """A group whose verbs are all of that kind."""

    def command(self, name: str | None = None, **options: Any) -> Callable[[F], F]:
        """A verb."""
        return super().command(name, **{"cls": FiniteCommand, **options})


app = Verbs(
    add_completion=False,
    no_args_is_help=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    help="A bench instrument for people who build printers. Alone it opens the window.",
)

AsJson = Annotated[bool, typer.Option("--json", help="Print JSON for programs.")]
MachineName = Annotated[str, typer.Option("--machine", help="A printer's name, or its sheet file.")]
Count = Annotated[
    str | None,
    typer.Option("--count", help="Columns x rows, 2x2 to 51x51; of towers their product."),
]
Free = Annotated[
    str | None, typer.Option("--free", help="What may change, by commas: switch,delta_radius,…")
]
Samples = Annotated[int | None, typer.Option("--samples", help="Touches at each point, 1 to 9.")]
Link = Annotated[str, typer.Option("--link", help="tcp://host:port of the printer.")]
Remote = Annotated[bool, typer.Option("--remote", help="Allow a printer on another computer.")]
Clearance = Annotated[
    float | None, typer.Option(help="What you read between nozzle and plate (mm), from 25 mm up.")
]
Fits = Annotated[
    str | None,
    typer.Option(
        help="The thickest thing that fits under the nozzle (mm): a block, a coin; 8:9 says that 9 "
        "mm do not."
    ),
]
Finger = Annotated[
    bool, typer.Option("--finger", help="First wait until a finger tripped the probe.")
]
# "delta" is another word for towers.
Kind = StrEnum("Kind", {k: k for k in (*KINDS, "delta")})  # type: ignore[misc]
Points = Annotated[
    Path | None, typer.Option("--points", help="A file of x y: for the kind points.")
]
After = Annotated[
    str | None, typer.Option("--after", help="A coarse survey, file or id: for the kind steep.")
]
Margin = Annotated[
    str | None,
    typer.Option("--margins", help="Of a grid: mirrored, or left,right,front,rear in mm."),
]
Gcode = Annotated[
    Path | None, typer.Option("--gcode", help="A program to be printed: for the kind area.")
]
Pace = StrEnum("Pace", {"instant": "instant", "real": "real"})
Reference = StrEnum("Reference", {"ls": "ls", "mz": "mz"})
LayoutChoice = StrEnum("LayoutChoice", {"points": "points", "matrix": "matrix"})
Rows = StrEnum("Rows", {"front": "front", "rear": "rear"})
Interpolation = StrEnum("Interpolation", {"bilinear": "bilinear", "bicubic": "bicubic"})


def say(text: str) -> None:
    """Lines on stdout, at once."""
    print(printable(text), flush=True)


def show(document: Any, as_json: bool, table: Callable[[], str]) -> None:
    """A result as one JSON document or as a readable table."""
    say(json.dumps(document, ensure_ascii=False, allow_nan=False) if as_json else table())


def learnt_here(sheet: Any) -> Any:
    """What a printer and its builder's hand are like, by the ledger that is there; as stated where
    there is none. A PrinterLearnt."""
    from tallgrain.procedures.learning import read_learnt, stated
    from tallgrain.resolve import readable_ledger

    with readable_ledger() or nullcontext() as ledger:
        return read_learnt(ledger, sheet) if ledger is not None else stated(sheet)


def number(value: float | None, digits: int = 3) -> str:
    """A figure with a true minus sign; a dash where there is none."""
    return "–" if value is None else f"{value:.{digits}f}".replace("-", "−")


def aligned(rows: list[list[str]]) -> str:
    """Rows of text as columns."""
    widths = [max(len(row[i]) for row in rows) for i in range(len(rows[0]))]
    return "\n".join(
        "  ".join(cell.ljust(w) for cell, w in zip(row, widths, strict=True)).rstrip()
        for row in rows
    )


@contextmanager
def writing() -> Iterator[Any]:
    """The ledger, opened for writing."""
    from tallgrain.paths import data_home
    from tallgrain.store.ledger import Ledger

    with Ledger.open(data_home(), holder="A command") as ledger:
        if ledger.taken_in:
            told = f"{ledger.taken_in} surveys that were kept when the ledger was gone are back."
            print(told, file=sys.stderr, flush=True)
        yield ledger


def on_interrupt(first: Callable[[], None], second: Callable[[], None]) -> None:
    """Ctrl+C breaks off; once more halts."""

    def interrupted(*_: object) -> None:
        signal.signal(signal.SIGINT, lambda *_: second())
        first()

    signal.signal(signal.SIGINT, interrupted)


def ask_line(question: str) -> str:
    """A line on stdin that answers a question on stderr. Raises JobError where nobody answers."""
    print(question, file=sys.stderr, flush=True)
    answer = sys.stdin.readline()
    if not answer:
        raise JobError("nobody answered.", "stdin", "The nozzle is raised. Run it again.")
    return answer.strip()


def ask_feel(thickness: float) -> Any:
    """What a gauge (mm) does, as whoever stands there feels it."""
    while True:
        word = ask_line(f"the {thickness:g} mm gauge: free, grips or stuck?").lower()
        if word in ("free", "grips", "stuck"):
            return word


def ask_wanted(asked: Any) -> Any:
    """A place's feel, asked for at the terminal."""
    if asked.refused:
        print(f"{asked.refused}", file=sys.stderr, flush=True)
    elif asked.number == 1:
        place = f"the nozzle is over x {asked.x:.1f}, y {asked.y:.1f}; hands may come."
        print(place, file=sys.stderr, flush=True)
    return ask_feel(asked.gauge)


@dataclass(frozen=True)
class Seen:
    """What the person at the printer sees and does before anything moves down. Raises InputError
    for two looks at once."""

    clearance_mm: float | None = None
    fits_mm: str | None = None
    finger: bool = False

    @property
    def fits(self) -> tuple[float, float | None]:
        """What fits, and what does not where that was said (mm). Raises InputError."""
        fits, _, thick = (self.fits_mm or "").partition(":")
        try:
            return float(fits), float(thick) if thick else None
        except ValueError:
            raise InputError(
                f"“{self.fits_mm}” is no thickness.",
                "--fits-mm",
                "Give mm that fit, or mm:mm, what fits and what does not.",
            ) from None

    def say_to(self, guard: Any) -> None:
        """Tell a guard what was seen. Raises what it does."""
        if self.clearance_mm is not None:
            guard.see_clearance(self.clearance_mm)
        if self.fits_mm is not None:
            fits, thick = self.fits
            guard.see_fit(fits)
            if thick is not None:
                guard.see_fit(thick, False)

    def __post_init__(self) -> None:
        if self.fits_mm is not None:
            _ = self.fits
        if self.clearance_mm is not None and self.fits_mm is not None:
            raise InputError(
                "one look at a time.", "--fits-mm", "Give --clearance-mm or --fits-mm, not both."
            )


@contextmanager
def at_the_printer(
    link: str, machine: tuple[Any, str], remote: bool, seen: Seen, token: Any, down: bool = True
) -> Iterator[tuple[Any, Any]]:
    """A guard on a linked printer and the ledger, its sheet stored; Ctrl+C asks the token to break
    off, twice halts. machine: a sheet and its text; down: whether anything goes down. Raises what
    forbids that."""
    from tallgrain.clock import now
    from tallgrain.journal.checks import ProbeChecks
    from tallgrain.journal.journal import Journal
    from tallgrain.link.connect import connected
    from tallgrain.paths import data_home
    from tallgrain.procedures.finger import feel_probe
    from tallgrain.procedures.guarding import guarded
    from tallgrain.procedures.values import AtValues, values_now

    sheet, text = machine
    with writing() as ledger:
        if ledger.machine_text(sheet.name) is None:
            ledger.put_machine(sheet.name, text, now())
        printer = connected(link, "A command", remote)
        try:
            guard = guarded(printer, sheet, ledger, now)
            guard.by_gauge.ask = ask_wanted
            guard.waiting.over = lambda: token.asked
            on_interrupt(token.ask, guard.halt)
            for news in values_now(AtValues(guard, ledger, now, data_home() / "backups")).news:
                print(printable(str(news.error)), file=sys.stderr, flush=True)
            checks = ProbeChecks(Journal(ledger, sheet.name, now), sheet.probe.kind)
            if down and (no := checks.forbids()) is not None:
                raise no
            try:
                # A look comes first, as a finger may need the nozzle raised.
                seen.say_to(guard)
            finally:
                if seen.finger:
                    feel_probe(guard, lambda words: print(words, file=sys.stderr, flush=True))
            yield guard, ledger
        finally:
            printer.close()
