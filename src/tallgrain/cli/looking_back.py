"""Is it still the bed that was measured? A season told from the ledger."""

from typing import Annotated, Any

import typer

from tallgrain.cli.common import AsJson, aligned, app, number, show
from tallgrain.errors import InputError


@app.command("drift")
def drift(
    machine: Annotated[str, typer.Option("--machine", help="A stored printer's name.")],
    sheet: Annotated[
        str | None, typer.Option("--sheet", help="Only surveys on this sheet.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """What changed over a printer's surveys, when, beside which event, and what to do next."""
    from tallgrain.core.drift.judged import Noted, judge_season
    from tallgrain.core.drift.terms import TERMS
    from tallgrain.resolve import machine_sheet, readable_ledger

    known, _ = machine_sheet(machine)
    ledger = readable_ledger()
    if ledger is None:
        raise InputError("nothing is stored yet.", machine, "Survey first.")
    with ledger:
        rows = ledger.season(known.name)
        events = [Noted(e.at, e.kind, e.note) for e in ledger.events(known.name)]
    found = judge_season(rows, known, events, sheet)
    stamps = [t.isoformat(timespec="seconds") for t in found.times]
    document: dict[str, Any] = {
        "machine": known.name, "sheet": sheet, "surveys": len(found.idents),
        "left_out": found.left_out,
        "series": {
            "survey": list(found.idents), "taken_at": stamps,
            **{f"{name}_mm": [round(float(v), 5) for v in found.figures[:, k]]
               for k, name in enumerate(TERMS)},
        },
        "signals": [
            {"survey": h.survey, "terms": list(h.sizes), "contrast": round(h.contrast, 2)}
            for h in found.happenings
        ],
        "changes": [
            {
                "survey": h.survey, "after": h.before.isoformat(timespec="seconds"),
                "by": h.after.isoformat(timespec="seconds"), "kind": h.kind,
                "rate_um_per_day": None if h.rate is None else round(h.rate * 1000, 3),
                "sizes": {f"{name}_mm": round(mm, 5) for name, mm in h.sizes.items()},
                "event": None if h.event is None else {
                    "at": h.event.at.isoformat(timespec="seconds"), "kind": h.event.kind,
                    "note": h.event.note,
                },
                "sentence": h.sentence,
            }
            for h in found.happenings
        ],
        "slow": None if found.slow is None else {
            "rate_um_per_day": round(found.slow.rate * 1000, 3),
            "u_um_per_day": round(found.slow.u * 1000, 3), "holds_days": round(found.slow.days, 1),
            "surveys": found.slow.surveys,
        },
        "advice": {"action": found.action, "sentence": found.advice},
    }  # fmt: skip

    def table() -> str:
        wanted = ("level", "tilt_x", "tilt_y", "bow_x", "bow_y", "twist", "flatness")
        lines = [["taken", *wanted]]
        for when, row in list(zip(found.times, found.figures, strict=True))[-12:]:
            lines.append([f"{when:%Y-%m-%d}", *(number(row[TERMS.index(n)]) for n in wanted)])
        told = [
            f"{len(found.idents)} surveys like the newest; the last twelve, mm:",
            aligned(lines),
        ]
        told += [f"left out: {n} ({why})" for why, n in found.left_out.items()]
        told += [f"{h.sentence[:1].upper()}{h.sentence[1:]}." for h in found.happenings]
        return "\n".join([*told, f"{found.advice[:1].upper()}{found.advice[1:]}"])

    show(document, as_json, table)
