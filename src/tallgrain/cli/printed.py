"""Routines about what is printed: trial patches and nudges for the gap, the skew gauge."""

from contextlib import suppress
from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import (
    AsJson,
    Link,
    MachineName,
    Remote,
    Seen,
    at_the_printer,
    number,
    show,
)
from tallgrain.cli.routines import routine_app
from tallgrain.cli.settling import at_values, run_through
from tallgrain.errors import InputError, JobError

Back = Annotated[bool, typer.Option("--take-back", help="The newest entry was wrong.")]
Looked = Annotated[
    str | None, typer.Option(help="How the patch looked: good, squashed, sits_on_top, …")
]
Next = Annotated[bool, typer.Option("--set-next", help="Set the trip height to try next.")]
PatchFile = Annotated[
    Path | None, typer.Option(help="Write a patch's program for the printer as it stands.")
]
Count = Annotated[int, typer.Option(help="At one place or five.")]
Layer = Annotated[float, typer.Option(help="Height of the first layer (mm).")]
Line = Annotated[float, typer.Option(help="Width of a line (mm).")]
Nudge = Annotated[
    float | None, typer.Option(help="Move z of what is printed now; + is away from the plate.")
]
OnSheet = Annotated[str | None, typer.Option("--sheet", help="The sheet on the plate.")]


@routine_app.command("trial")
def trial_routine(
    link: Link,
    machine: MachineName,
    looked: Looked = None,
    take_back: Back = False,
    set_next: Next = False,
    patch: PatchFile = None,
    count: Count = 1,
    layer_mm: Layer = 0.2,
    line_mm: Line = 0.45,
    nudge_mm: Nudge = None,
    sheet: OnSheet = None,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """Trial prints: write a patch, say how it looked, set what to try next; nudge a running print.

    What was said of trials since the gap was last made stale counts. In this order where several
    are asked for.
    """
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.trials import nudge
    from tallgrain.resolve import machine_sheet
    from tallgrain.textio import write_text

    check_url(link, remote)
    verdict = _verdict(looked)
    if count not in (1, 5):
        raise InputError(f"{count} is no number of places.", "--count", "Take 1 or 5.")
    known = machine_sheet(machine)
    with at_the_printer(link, known, remote, Seen(), BreakOff(), down=False) as (guard, ledger):
        desk = _Trials(guard, ledger, sheet, layer_mm)
        if nudge_mm is not None:
            nudge(guard, desk.journal, nudge_mm)
            desk.read()
        if verdict is not None:
            desk.book.looked(desk.t_set, layer_mm, desk.heat, verdict)
        if take_back:
            desk.book.take_back()
        wanted = desk.next()
        if set_next:
            desk.set(wanted)
        if patch is not None:
            write_text(patch, desk.patch(count, line_mm))
        _show_trials(desk, wanted, as_json)


class _Trials:
    """A printer's trials and values, while one command works with them."""

    def __init__(self, guard: Any, ledger: Any, sheet: str | None, layer_mm: float) -> None:
        from tallgrain.clock import now
        from tallgrain.journal.journal import Journal
        from tallgrain.procedures.gauge import heat_of
        from tallgrain.procedures.trials import TrialBook

        self.journal = Journal(ledger, guard.sheet.name, now)
        self.book = TrialBook(self.journal)
        self.heat = heat_of(guard.printer.state(), sheet)
        self._at, self._sheet, self._layer = at_values(guard, ledger), sheet, layer_mm
        self.read()

    def read(self) -> None:
        """The printer's values, as they are now. Raises JobError where it tells no trip height."""
        from tallgrain.procedures.trials import printed_at

        self.values = self._at.book()
        t_set = printed_at(self.values)
        if t_set is None:
            raise JobError("the printer told no trip height.", "trial", "Read its values.")
        self.t_set = t_set

    @property
    def trials(self) -> Any:
        return self.book.on(self._sheet)

    def known(self) -> Any:
        from tallgrain.journal.records import GapSolved
        from tallgrain.procedures.gauge import gap_for
        from tallgrain.procedures.trials import Knowledge

        solved = gap_for(self.journal.read(GapSolved), self.heat)
        return Knowledge.of(self.book, self._sheet, None, solved, self.t_set)

    def next(self) -> Any:
        from tallgrain.core.solve.gap import next_trial

        return next_trial(self.known().loop, self.trials, self._layer)

    def set(self, wanted: Any) -> None:
        from tallgrain.journal.values import TRIP
        from tallgrain.procedures.trials import SHIFT
        from tallgrain.procedures.values import set_values

        trip = wanted.t_set + (self.values.ours(SHIFT) or 0.0)
        why = f"trial {len(self.trials) + 1}: {wanted.why}"
        run_through(set_values(self._at, {TRIP: trip}, why, self.heat))
        self.read()

    def patch(self, count: int, line_mm: float) -> str:
        from tallgrain.journal.printing import printing
        from tallgrain.procedures.trials import patch_text

        aim = printing(self.journal)
        hot, sheet = (aim.nozzle_c, aim.plate_c), self._at.guard.sheet
        return patch_text(sheet, self.values, self.known(), count, self._layer, line_mm, hot)


def _verdict(looked: str | None) -> Any:
    from typing import get_args

    from tallgrain.core.solve.gap import Verdict

    words = get_args(Verdict)
    if looked is not None and looked not in words:
        raise InputError(
            f"'{looked}' is no look of a patch.", "--looked", f"One of {', '.join(words)}."
        )
    return looked


def _show_trials(desk: _Trials, wanted: Any, as_json: bool) -> None:
    from tallgrain.procedures.trials import SHIFT

    document = {
        "t_set_mm": desk.t_set,
        "job_shift_mm": desk.values.ours(SHIFT) or 0.0,
        "trials": [
            {"t_set_mm": t.t_set, "verdict": t.verdict, "layer_mm": t.first_layer}
            for t in desk.trials
        ],
        "next": {"t_set_mm": wanted.t_set, "why": wanted.why},
    }

    def table() -> str:
        lines = [
            f"trial {i}: printed with {number(t.t_set)} mm, {t.verdict.replace('_', ' ')}"
            for i, t in enumerate(desk.trials, 1)
        ]
        lines.append(f"the printer prints with {number(desk.t_set)} mm")
        lines.append(f"next: {number(wanted.t_set)} mm, {wanted.why}")
        return "\n".join(lines)

    show(document, as_json, table)


@routine_app.command("skew")
def skew_routine(
    link: Link,
    machine: MachineName,
    plane: Annotated[str, typer.Option(help="xy, xz or yz.")] = "xy",
    new: Annotated[
        Path | None, typer.Option(help="Begin a gauge and write its program to a file.")
    ] = None,
    caliper_mm: Annotated[float, typer.Option(help="How far the caliper opens.")] = 150.0,
    read: Annotated[
        list[str] | None,
        typer.Option("--read", help="A-C=MM, a reading; inside:A-C=MM over the insides; again."),
    ] = None,
    take_back: Back = False,
    apply: Annotated[
        bool, typer.Option("--apply", help="Have the printer make up for it.")
    ] = False,
    remote: Remote = False,
    as_json: AsJson = False,
) -> None:
    """A printed skew gauge: begin one, take its readings, apply what they show."""
    from tallgrain.clock import now
    from tallgrain.journal.journal import Journal
    from tallgrain.link.connect import check_url
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.gauge import heat_of
    from tallgrain.procedures.skew import PLANES, SkewBook
    from tallgrain.procedures.values import set_values
    from tallgrain.resolve import machine_sheet
    from tallgrain.textio import write_text

    check_url(link, remote)
    if plane not in PLANES:
        raise InputError(f"'{plane}' names no two axes.", "--plane", f"One of {', '.join(PLANES)}.")
    readings = [_reading(words) for words in read or ()]
    known = machine_sheet(machine)
    with at_the_printer(link, known, remote, Seen(), BreakOff(), down=False) as (guard, ledger):
        at = at_values(guard, ledger)
        values = at.book()
        book = SkewBook(
            Journal(ledger, guard.sheet.name, now),
            guard.sheet,
            lambda plane: values.ours(f"skew_{plane}"),
        )
        book.plane = plane
        if new is not None:
            write_text(new, book.begin(caliper_mm))
        if take_back and book.take_back() is None:
            raise JobError("there is no reading to take back.", "skew", "Nothing was changed.")
        for pair, mm, inside in readings:
            book.take(pair, mm, inside)
        if apply:
            wanted, why = book.to_apply()
            run_through(set_values(at, wanted, why, heat_of(guard.printer.state(), None)))
            values = at.book()
        _show_skew(book, as_json)


def _reading(words: str) -> tuple[tuple[str, str], float, bool]:
    name, _, figure = words.partition("=")
    inside = name.startswith("inside:")
    a, _, b = name.removeprefix("inside:").strip().partition("-")
    a, b = a.strip().upper(), b.strip().upper()
    with suppress(ValueError):
        if a and b:
            return (a, b), float(figure), inside
    raise InputError(f"'{words}' is no reading.", "--read", "Write two letters and mm: A-C=141.36.")


def _show_skew(book: Any, as_json: bool) -> None:
    from tallgrain.core.solve.skew import SkewSolution
    from tallgrain.errors import TallGrainError

    found, here = book.solution(), book.here
    solved = found if isinstance(found, SkewSolution) else None
    document = {
        "plane": book.plane,
        "readings": [
            {"from": r.pair[0], "to": r.pair[1], "inside": bool(r.inside), "mm": r.mm}
            for r in here.readings
        ],
        "skew_mrad": solved.skew * 1000 if solved else None,
        "u_mrad": solved.u * 1000 if solved else None,
        "worth_it": bool(solved and solved.worth_it),
        "applied": book.applied,
        "made_up_for_mrad": book.held,
        "next": list(book.next_pair()),
    }

    def table() -> str:
        lines = [f"{len(here.readings)} readings; next {'–'.join(book.next_pair())}"]
        if solved is not None:
            lines.append(
                f"skew {number(solved.skew * 1000, 2)} ± {number(2000 * solved.u, 2)} mrad (k = 2)"
            )
            if not solved.worth_it:
                lines.append("This is within your caliper's noise: leave it.")
        elif isinstance(found, TallGrainError):
            lines.append(f"{found.what} {found.remedy}")
        if book.held is not None:
            lines.append(f"the printer makes up for {number(book.held, 2)} mrad")
        return "\n".join(lines)

    show(document, as_json, table)
