"""The command line: every verb of docs/cli, as a table for people or JSON for programs."""

import json
import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain import __version__
from tallgrain.errors import InputError, JobError, TallGrainError

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    help="A bench instrument for people who build printers. Alone it opens the window.",
)
machine_app = typer.Typer(
    rich_markup_mode=None, no_args_is_help=True, help="Machine sheets: what each printer is."
)
app.add_typer(machine_app, name="machine")

AsJson = Annotated[bool, typer.Option("--json", help="Print JSON for programs.")]
MachineName = Annotated[str, typer.Option("--machine", help="A printer's name, or its sheet file.")]
Count = Annotated[str, typer.Option("--count", help="Columns x rows, 2x2 to 51x51.")]
Samples = Annotated[int, typer.Option("--samples", help="Touches at each point, 1 to 9.")]
Link = Annotated[str, typer.Option("--link", help="tcp://host:port of the printer.")]
Remote = Annotated[bool, typer.Option("--remote", help="Allow a printer on another computer.")]
Kind = StrEnum("Kind", {"grid": "grid"})
Pace = StrEnum("Pace", {"instant": "instant", "real": "real"})
Reference = StrEnum("Reference", {"ls": "ls", "mz": "mz"})


def say(text: str) -> None:
    """One line on stdout, at once."""
    print(text, flush=True)


def show(document: Any, as_json: bool, table: Callable[[], str]) -> None:
    """A result as one JSON document or as a readable table."""
    say(json.dumps(document, ensure_ascii=False, allow_nan=False) if as_json else table())


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


@app.callback(invoke_without_command=True)
def window(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
) -> None:
    """Open the window, where no verb is given."""
    if version:
        say(f"Tall Grain {__version__}")
    elif context.invoked_subcommand is None:
        from tallgrain.ui.start import open_window

        sys.exit(open_window())


@app.command()
def demo(
    seed: Annotated[int, typer.Option(help="The stand-in's chance; 17 made the year.")] = 17,
    speed: Annotated[float, typer.Option(help="How many times faster than real.")] = 20.0,
) -> None:
    """Open the window on Hollin Hay Orchard, with a simulated printer running."""
    from tallgrain.ui.start import open_demo

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
    with_parent: Annotated[bool, typer.Option("--with-parent", hidden=True)] = False,
) -> None:
    """Run a simulated printer; its ports are printed first."""
    from tallgrain.resolve import machine_sheet
    from tallgrain.standin.process import serve

    sheet, _ = machine_sheet(machine)
    instant = pace is Pace.instant
    serve(sheet, listen, seed, instant, speed, tuple(fault or ()), truth, cold, with_parent)


@machine_app.command("list")
def machine_list(as_json: AsJson = False) -> None:
    """The printers that are known."""
    from tallgrain.resolve import machine_sheet, readable_ledger, shipped_names

    ledger = readable_ledger()
    stored = [name for name, _ in ledger.machines()] if ledger else []
    if ledger:
        ledger.close()
    names = stored + [n for n in shipped_names() if n.lower() not in {s.lower() for s in stored}]
    found = []
    for name in names:
        sheet, _ = machine_sheet(name)
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
    with _writing() as ledger:
        from tallgrain.clock import now

        ledger.put_machine(sheet.name, text, now())
    show({"name": sheet.name}, as_json, lambda: f"{sheet.name} is stored.")


@machine_app.command("export")
def machine_export(name: str, file: Annotated[Path | None, typer.Argument()] = None) -> None:
    """A printer's sheet as TOML, on stdout or into a file."""
    from tallgrain.formats.textio import write_text
    from tallgrain.resolve import machine_sheet

    _, text = machine_sheet(name)
    if file is None:
        sys.stdout.write(text)
    else:
        write_text(file, text)


@app.command()
def plan(
    machine: MachineName,
    kind: Annotated[Kind, typer.Option(help="What is planned.")] = Kind("grid"),
    count: Count = "9x9",
    samples: Samples = 1,
    as_json: AsJson = False,
) -> None:
    """Where a survey would touch, what it leaves out and why."""
    from tallgrain.core.plan.grid import grid_plan, parse_count
    from tallgrain.resolve import machine_sheet

    sheet, _ = machine_sheet(machine)
    made = grid_plan(sheet, *parse_count(count), samples)
    document = {
        "points": [{"x_mm": float(x), "y_mm": float(y)} for x, y in made.points],
        "dropped": [{"x_mm": d.x, "y_mm": d.y, "why": d.why} for d in made.dropped],
        "travel_mm": round(made.travel_mm, 1),
        "estimate_s": round(made.estimate_s, 1),
    }

    def table() -> str:
        lines = [
            f"{len(made.points)} points, {made.travel_mm:.0f} mm of way, "
            f"about {made.estimate_s / 60:.0f} min",
            aligned([["x (mm)", "y (mm)"], *([number(x), number(y)] for x, y in made.points)]),
        ]
        lines += [f"left out: {number(d.x)}, {number(d.y)}: {d.why}" for d in made.dropped]
        return "\n".join(lines)

    show(document, as_json, table)


@app.command()
def survey(
    link: Link,
    machine: MachineName,
    plan: Annotated[Kind, typer.Option("--plan", help="What is planned.")] = Kind("grid"),
    count: Count = "5x5",
    samples: Samples = 1,
    note: Annotated[str, typer.Option(help="A note kept with the survey.")] = "",
    sheet_name: Annotated[
        str | None, typer.Option("--sheet", help="The sheet on the plate.")
    ] = None,
    nozzle_c: Annotated[float | None, typer.Option(help="Heat the nozzle first (°C).")] = None,
    plate_c: Annotated[float | None, typer.Option(help="Heat the plate first (°C).")] = None,
    soak_min: Annotated[float, typer.Option(min=0, max=120, help="Then wait (min).")] = 0.0,
    clearance_mm: Annotated[
        float | None,
        typer.Option(help="How far the nozzle surely stands above the plate, by your own look."),
    ] = None,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Probe the plate and store what was touched. Ctrl+C breaks off, twice halts."""
    from tallgrain.clock import now
    from tallgrain.core.plan.grid import grid_plan, parse_count
    from tallgrain.link.client import JsonRpcPrinter, parse_url
    from tallgrain.link.guard import Guard
    from tallgrain.resolve import machine_sheet
    from tallgrain.routines.events import BreakOff
    from tallgrain.routines.survey import survey as run
    from tallgrain.routines.warm import warm_up

    parse_url(link, remote)
    sheet, text = machine_sheet(machine)
    planned = grid_plan(sheet, *parse_count(count), samples)
    break_off = BreakOff()
    with _writing() as ledger:
        if ledger.machine_text(sheet.name) is None:
            ledger.put_machine(sheet.name, text, now())
        printer = JsonRpcPrinter(link, "A command", remote)
        try:
            guard = Guard(printer, sheet)
            if clearance_mm is not None:
                guard.see_clearance(clearance_mm)
            _on_interrupt(break_off.ask, guard.halt)
            for phase in warm_up(guard, nozzle_c, plate_c, soak_min, break_off):
                _tell(phase, as_json)
            soaked = soak_min if plate_c is not None else None
            events = run(
                guard, ledger, planned, now, break_off,
                sheet=sheet_name, soak_min=soaked, note=note,
            )  # fmt: skip
            for event in events:
                _tell(event, as_json)
        finally:
            printer.close()
    if break_off.asked:
        raise JobError("the survey was broken off.", "survey", "What was touched is kept.")


def _on_interrupt(first: Callable[[], None], second: Callable[[], None]) -> None:
    """Ctrl+C breaks off; once more halts."""

    def interrupted(*_: object) -> None:
        signal.signal(signal.SIGINT, lambda *_: second())
        first()

    signal.signal(signal.SIGINT, interrupted)


def _tell(event: object, as_json: bool) -> None:
    from tallgrain.routines.events import Phase, PointTouched, SurveyBegan, SurveyEnded

    if as_json:
        document = _event_document(event)
        if document:
            say(json.dumps(document, allow_nan=False))
    elif isinstance(event, Phase):
        say(event.text)
    elif isinstance(event, SurveyBegan):
        say(f"survey {event.ident}: {event.total} points")
    elif isinstance(event, PointTouched):
        say(
            f"{event.number + 1:4d}  x {number(event.x):>8}  y {number(event.y):>8}  "
            f"z {number(event.z, 4):>8} mm   {event.left_s:4.0f} s left"
        )
    elif isinstance(event, SurveyEnded):
        end = "complete" if event.complete else f"incomplete: {event.why}"
        say(f"survey {event.ident} is stored, {event.points} points, {end}.")


def _event_document(event: object) -> dict[str, Any] | None:
    from tallgrain.routines.events import PointTouched, SurveyEnded

    if isinstance(event, PointTouched):
        return {
            "event": "point", "i": event.number,
            "x_mm": event.x, "y_mm": event.y, "z_mm": event.z,
        }  # fmt: skip
    if isinstance(event, SurveyEnded):
        if event.complete:
            return {"event": "done", "survey": event.ident}
        return {"event": "broken_off", "survey": event.ident, "why": event.why}
    return None


@app.command()
def surveys(
    machine: Annotated[str | None, typer.Option("--machine", help="Only this printer's.")] = None,
    as_json: AsJson = False,
) -> None:
    """The stored surveys."""
    from tallgrain.resolve import readable_ledger

    ledger = readable_ledger()
    found = []
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


@app.command()
def flatness(
    survey: Annotated[str, typer.Argument(help="A survey file, or a stored survey's id.")],
    reference: Annotated[Reference, typer.Option(help="ls or mz (ISO 12781-1).")] = Reference.ls,
    as_json: AsJson = False,
) -> None:
    """How flat a surveyed plate is, and what its shape is made of."""
    from tallgrain.core.surface.shape import flatness as measure
    from tallgrain.core.surface.shape import judge
    from tallgrain.resolve import survey_named

    found = survey_named(survey)
    flat, terms = judge(found.xy, found.heights, _extent(found))
    if reference is Reference.mz:
        flat = measure(found.xy, found.heights, "mz")
    document = {
        "n": flat.n,
        "reference": flat.reference,
        "fltt_mm": flat.fltt,
        "fltp_mm": flat.fltp,
        "fltv_mm": flat.fltv,
        "fltq_mm": flat.fltq,
        "plane": {
            "z0_mm": flat.plane.z0,
            "slope_x_mm_per_m": flat.plane.slope_x * 1000,
            "slope_y_mm_per_m": flat.plane.slope_y * 1000,
        },
        "terms": terms
        and {
            "tilt_x_mm": terms.tilt_x,
            "tilt_y_mm": terms.tilt_y,
            "bow_x_mm": terms.bow_x,
            "bow_y_mm": terms.bow_y,
            "twist_mm": terms.twist,
            "local_mm": terms.local,
        },
    }

    def table() -> str:
        about = "least-squares" if flat.reference == "ls" else "minimum-zone"
        rows = [[f"{flat.n} points about the {about} plane", "", ""]]
        for name, value in (
            ("FLTt, peak to valley", flat.fltt),
            ("FLTp, highest above", flat.fltp),
            ("FLTv, lowest below", flat.fltv),
            ("FLTq, root mean square", flat.fltq),
        ):
            rows.append(["  " + name, number(value), "mm"])
        rows.append(["  slope left to right", number(flat.plane.slope_x * 1000), "mm per m"])
        rows.append(["  slope front to rear", number(flat.plane.slope_y * 1000), "mm per m"])
        for name, value in (document["terms"] or {}).items():
            rows.append(["  " + name.removesuffix("_mm").replace("_", " "), number(value), "mm"])
        return aligned(rows)

    show(document, as_json, table)


@app.command()
def compare(
    a: Annotated[str, typer.Argument(metavar="A", help="The older survey: a file or an id.")],
    b: Annotated[str, typer.Argument(metavar="B", help="The newer one.")],
    sigma_mm: Annotated[
        float | None, typer.Option(help="Standard deviation of each height (mm).", min=1e-6)
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Whether the plate changed from one survey to another, and whether that matters."""
    from tallgrain.core.surface.compare import DEFAULT_WINDOW_MM, Noise
    from tallgrain.core.surface.compare import compare as between
    from tallgrain.resolve import machine_sheet, survey_named

    first, second = survey_named(a), survey_named(b)
    noise, window = Noise(sigma=sigma_mm), DEFAULT_WINDOW_MM
    with suppress(InputError):  # a printer that is not known here: the documented defaults
        sheet, _ = machine_sheet(second.machine or first.machine or "?")
        noise, window = Noise.of_sheet(sheet, sigma_mm), sheet.tolerance.first_layer_mm
    c = between(first, second, noise, window)
    document = {
        "overlap_points": len(c.xy),
        "offset_mm": c.offset_mm,
        "tilt_x_mm": c.tilt_x_mm,
        "tilt_y_mm": c.tilt_y_mm,
        "shape_rms_mm": c.shape_rms_mm,
        "shape_pv_mm": c.shape_pv_mm,
        "noise_rms_mm": c.noise_rms_mm,
        "verdict": c.verdict,
        "matters": c.matters,
        "outliers": [{"x_mm": float(x), "y_mm": float(y)} for x, y in c.outliers],
        "unlike": list(c.unlike),
    }

    def table() -> str:
        rows = [[f"{len(c.xy)} common places, B less A", "", ""]]
        for name in ("offset", "tilt_x", "tilt_y", "shape_rms", "shape_pv", "noise_rms"):
            rows.append(["  " + name.replace("_", " "), number(getattr(c, name + "_mm")), "mm"])
        verdict = c.verdict.replace("_", " ")
        matter = "it matters" if c.matters else "it does not matter for a first layer"
        lines = [aligned(rows), verdict if c.verdict == "same" else f"{verdict}; {matter}"]
        return "\n".join([*lines, *c.unlike])

    show(document, as_json, table)


def _extent(found: Any) -> Any:
    """A round plate's own extent where the survey's printer is known to have one."""
    from tallgrain.core.surface.shape import round_extent
    from tallgrain.resolve import machine_sheet

    if not found.machine:
        return None
    try:
        plate = machine_sheet(found.machine)[0].plate
    except InputError:
        return None  # a survey of a printer that is not known here: its own extent
    if plate.shape != "disc":
        return None
    return round_extent(plate.outline.middle, found.xy)


@app.command("export")
def export_survey(survey: str, file: Path) -> None:
    """Write a stored survey to a file, in the format of its ending."""
    from tallgrain.formats.files import ending_of, write_survey
    from tallgrain.resolve import survey_named

    ending_of(file)
    write_survey(survey_named(survey), file)


@app.command("import")
def import_survey(file: Path, machine: MachineName, as_json: AsJson = False) -> None:
    """Store a survey from a file."""
    from tallgrain.clock import now
    from tallgrain.formats.files import read_survey
    from tallgrain.resolve import machine_sheet

    found = read_survey(file, now())
    with _writing() as ledger:
        sheet, text = machine_sheet(machine, ledger)
        if ledger.machine_text(sheet.name) is None:
            ledger.put_machine(sheet.name, text, now())
        ident = ledger.add_survey(found.for_machine(sheet.name))
    show({"survey": ident}, as_json, lambda: f"Stored as survey {ident}.")


@app.command()
def convert(source: Path, target: Path) -> None:
    """Rewrite a survey file in another format."""
    from tallgrain.clock import now
    from tallgrain.formats.files import ending_of, read_survey, write_survey

    ending_of(target)
    write_survey(read_survey(source, now()), target)


@contextmanager
def _writing() -> Iterator[Any]:
    from tallgrain.paths import data_home
    from tallgrain.store.ledger import Ledger

    with Ledger.open(data_home(), holder="A command") as ledger:
        yield ledger


def main() -> None:
    """Run the command line: errors as one sentence on stderr and the exit status they carry."""
    try:
        app()
    except TallGrainError as error:
        print(error, file=sys.stderr)
        sys.exit(error.exit_status)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(1)
