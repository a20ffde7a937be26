"""Opening the window, the demo and the stand-in."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tallgrain import __version__
from tallgrain.cli.common import MachineName, Pace, app, say
from tallgrain.errors import InputError
from tallgrain.ui.app.start import DEMO_SEED, DEMO_SPEED, open_demo, open_window

if TYPE_CHECKING:
    from tallgrain.standin.consoles import Way


@app.callback(invoke_without_command=True)
def window(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
) -> None:
    """Open the window, where no verb is given."""
    if version:
        say(f"Tall Grain {__version__}")
    elif context.invoked_subcommand is None:
        sys.exit(open_window())


@app.command("open")
def open_files(
    files: Annotated[list[Path] | None, typer.Argument(help="Surveys, sheets or packs.")] = None,
) -> None:
    """Open the window, and take files in: surveys, machine sheets, packs of printers."""
    sys.exit(open_window(files or ()))


@app.command()
def demo(
    seed: Annotated[int, typer.Option(help="The stand-in's chance; 17 made the year.")] = DEMO_SEED,
    speed: Annotated[float, typer.Option(help="How many times faster than real.")] = DEMO_SPEED,
) -> None:
    """Open the window on Hollin Hay Orchard, with a simulated printer running."""
    sys.exit(open_demo(seed, speed))


@app.command("demo-data")
def demo_data(
    to: Annotated[Path | None, typer.Option(help="The folder; the demo's own if left out.")] = None,
) -> None:
    """Make the demo's year of surveys again, by running the stand-in through its story."""
    from tallgrain.demo import make_season
    from tallgrain.paths import demo_home

    for line in make_season(to or demo_home()):
        say(line)


@app.command()
def standin(
    machine: MachineName,
    listen: Annotated[str, typer.Option(help="host:port; port 0 is any free one.")] = "127.0.0.1:0",
    seed: Annotated[int, typer.Option(min=0, help="Decides the hidden truth and all noise.")] = 0,
    pace: Annotated[Pace, typer.Option(help="Whether waits take time.")] = Pace.real,
    speed: Annotated[float, typer.Option(min=0.1, max=1000, help="With --pace real.")] = 1.0,
    fault: Annotated[list[str] | None, typer.Option(help="kind[:when][:how much]")] = None,
    truth: Annotated[bool, typer.Option("--truth", help="Open the truth port.")] = False,
    cold: Annotated[bool, typer.Option("--cold", help="Just switched on: no reference.")] = False,
    console: Annotated[
        str | None, typer.Option(help="A text console beside it: hazel, medlar or sorrel.")
    ] = None,
    pty: Annotated[bool, typer.Option("--pty", help="That console on a pseudo-terminal.")] = False,
    trait: Annotated[
        list[str] | None, typer.Option(help="A habit of sorrel's; 'list' tells them all.")
    ] = None,
    switch_mm: Annotated[
        float | None,
        typer.Option(
            help="How far above the plate the nozzle is when z's switch trips (no probe)."
        ),
    ] = None,
    with_parent: Annotated[bool, typer.Option("--with-parent", hidden=True)] = False,
) -> None:
    """Run a simulated printer; its ports are printed first."""
    from tallgrain.resolve import machine_sheet
    from tallgrain.standin.process import serve

    sheet, _ = machine_sheet(machine)
    instant = pace is Pace.instant
    way = _console(console, pty, trait or [])
    if way is None and trait == ["list"]:
        return
    if switch_mm is not None and sheet.probe.there:
        raise InputError(f"{sheet.name} has a probe.", "--switch-mm", "It is for one without.")
    faults = tuple(fault or ())
    serve(sheet, listen, seed, instant, speed, faults, truth, cold, with_parent, way, switch_mm)


def _console(name: str | None, pty: bool, traits: list[str]) -> "Way | None":
    """Which console is served beside it. Raises InputError."""
    from tallgrain.standin.consoles import LANGUAGES, Way
    from tallgrain.standin.languages.sorrel import TRAITS

    if traits == ["list"]:
        say("\n".join(f"{one}: {words}" for one, words in TRAITS.items()))
        return None
    if name is not None and name not in LANGUAGES:
        raise InputError(
            f"there is no console '{name}'.", "--console", f"Give {', '.join(LANGUAGES)}."
        )
    odd = [t for t in traits if t not in TRAITS]
    if odd or (traits and name != "sorrel"):
        words = f"there is no trait '{odd[0]}'" if odd else "only sorrel has traits"
        raise InputError(f"{words}.", "--trait", f"Known are: {', '.join(TRAITS)}.")
    return None if name is None else Way(name, pty, frozenset(traits))
