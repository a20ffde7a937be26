"""Is it still the bed that was measured? Seasons told from the ledger."""

from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import AsJson, MachineName, aligned, app, number, show
from tallgrain.errors import InputError


def _stored(where: str) -> Any:
    from tallgrain.resolve import readable_ledger

    ledger = readable_ledger()
    if ledger is None:
        raise InputError("nothing is stored yet.", where, "Survey first.")
    return ledger


@app.command("drift")
def drift(
    machine: Annotated[str, typer.Option("--machine", help="A stored printer's name.")],
    sheet: Annotated[
        str | None, typer.Option("--sheet", help="Only surveys on this sheet.")
    ] = None,
    prints_per_day: Annotated[
        float | None, typer.Option(min=0.01, help="To say how many prints a survey holds.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """What changed over a printer's surveys, when, beside which event, and what to do next."""
    from tallgrain.resolve import machine_sheet
    from tallgrain.seasons import read_season

    known, _ = machine_sheet(machine)
    with _stored(machine) as ledger:
        season = read_season(ledger, known, sheet)
    found, per_day = season.drift, prints_per_day
    holds = found.slow.days if found.slow is not None else None

    def table() -> str:
        return _season_words(season, None if per_day is None or holds is None else per_day * holds)

    document = season_document(season, sheet)
    if per_day is not None and holds is not None:
        document["slow"]["holds_prints"] = round(per_day * holds)
    show(document, as_json, table)


def _at(when: Any) -> str:
    return str(when.isoformat(timespec="seconds"))


def _change_document(h: Any) -> dict[str, Any]:
    event = None
    if h.event is not None:
        event = {"at": _at(h.event.at), "kind": h.event.kind, "note": h.event.note}
    return {
        "survey": h.survey,
        "after": _at(h.before),
        "by": _at(h.after),
        "kind": h.kind,
        "rate_um_per_day": None if h.rate is None else round(h.rate * 1000, 3),
        "sizes": {f"{name}_mm": round(mm, 5) for name, mm in h.sizes.items()},
        "contrast": round(h.contrast, 2),
        "confidence": round(h.confidence, 4),
        "event": event,
        "sentence": h.sentence,
    }


def _thermal_document(thermal: Any) -> dict[str, Any]:
    from tallgrain.core.drift.terms import SHAPES

    def by_shape(values: Any) -> dict[str, float]:
        return {name: round(float(v) * 1000, 4) for name, v in zip(SHAPES, values, strict=True)}

    return {
        "per_degree_um": by_shape(thermal.per_degree),
        "u_um": by_shape(thermal.u),
        "pairs": thermal.pairs,
        "settled_min": thermal.settled_min,
        "sentence": thermal.sentence,
    }


def season_document(season: Any, sheet: str | None) -> dict[str, Any]:
    """A judged season as JSON tells it."""
    from tallgrain.core.drift.terms import SHAPES, TERMS

    found, signals = season.drift, season.signals

    return {
        "machine": season.sheet.name,
        "sheet": sheet,
        "surveys": len(found.idents),
        "left_out": found.left_out,
        "series": {
            "survey": list(found.idents),
            "taken_at": [_at(t) for t in found.times],
            **{
                f"{name}_mm": [round(float(v), 5) for v in found.figures[:, k]]
                for k, name in enumerate(TERMS)
            },
        },
        "signals": []
        if signals is None
        else [
            {
                "survey": found.idents[i],
                "term": SHAPES[signals.worst[i]],
                "strength": round(float(signals.strength[i]), 2),
            }
            for i in range(len(found.idents))
            if signals.beyond[i]
        ],
        "changes": [_change_document(h) for h in found.happenings],
        "slow": None
        if found.slow is None
        else {
            "rate_um_per_day": round(found.slow.rate * 1000, 3),
            "u_um_per_day": round(found.slow.u * 1000, 3),
            "holds_days": round(found.slow.days, 1),
            "surveys": found.slow.surveys,
        },
        "thermal": None if season.thermal is None else _thermal_document(season.thermal),
        "probe": None
        if season.trend is None
        else {
            "s_r_mm": round(season.trend.after, 5),
            "worse_from": season.trend.worse_from,
            "sentence": season.trend.sentence,
        },
        "notes": [note.sentence for note in found.notes],
        "warnings": [note.document for note in found.notes],
        "advice": {"action": season.action, "sentence": season.advice},
    }


def _season_words(season: Any, prints: float | None) -> str:
    from tallgrain.core.drift.terms import TERMS

    found = season.drift
    wanted = ("level", "tilt_x", "tilt_y", "bow_x", "bow_y", "twist", "flatness")
    lines = [["taken", *wanted]]
    for when, row in list(zip(found.times, found.figures, strict=True))[-12:]:
        lines.append([f"{when:%Y-%m-%d}", *(number(row[TERMS.index(n)]) for n in wanted)])
    told = [f"{len(found.idents)} surveys like the newest; the last twelve, mm:", aligned(lines)]
    told += [f"left out: {n} ({why})" for why, n in found.left_out.items()]
    told += [f"{h.sentence[:1].upper()}{h.sentence[1:]}." for h in found.happenings]
    told += [note.sentence for note in found.notes]
    told += [part.sentence for part in (season.thermal, season.trend) if part is not None]
    told.append(season.advice)
    if prints is not None:
        told.append(f"That is about {prints:.0f} prints.")
    return "\n".join(told)


@app.command("recall")
def recall(
    check: Annotated[
        str, typer.Argument(help="A survey of 4 touches or more: a file or a stored id.")
    ],
    machine: MachineName,
    as_json: AsJson = False,
) -> None:
    """Which stored survey still fits a few touches, and whether offset and tilt would do."""
    from tallgrain.core.drift.recall import fits, told
    from tallgrain.resolve import machine_sheet, survey_named

    sheet, _ = machine_sheet(machine)
    touched = survey_named(check)
    if touched.machine and touched.machine.lower() != sheet.name.lower():
        raise InputError(
            f"these touches are of {touched.machine}, not of {sheet.name}.",
            check,
            "Give the printer that was touched.",
        )
    with _stored(sheet.name) as ledger:
        rows = ledger.season(sheet.name)
    found = [
        f
        for f in fits(rows, sheet, touched.xy, touched.heights, touched.conditions)
        if f.ident != touched.ident
    ]
    document = {"sentence": told(found), "fits": [fit_document(f) for f in found]}

    def table() -> str:
        rows = [["survey", "as it is", "worst", "offset", "then worst (mm)", ""]]
        for f in found[:10]:
            figures = (number(v) for v in (f.rms, f.worst, f.offset, f.worst_after))
            rows.append([f.ident, *figures, f.use])
        return "\n".join([aligned(rows), told(found)] if found else [told(found)])

    show(document, as_json, table)


def fit_document(f: Any) -> dict[str, Any]:
    """A stored survey that may still fit, for programs."""
    return {
        "survey": f.ident,
        "use": f.use,
        "touches": f.touches,
        "alike": f.alike,
        "rms_mm": f.rms,
        "worst_mm": f.worst,
        "offset_mm": f.offset,
        "tilt_x_mm": f.tilt_x,
        "tilt_y_mm": f.tilt_y,
        "rms_after_mm": f.rms_after,
        "worst_after_mm": f.worst_after,
    }


@app.command("learnt")
def learnt_of_printer(machine: MachineName, as_json: AsJson = False) -> None:
    """What this printer and this hand are like: what scatters by how much, and how well known."""
    from tallgrain.procedures.learning import lines, read_learnt
    from tallgrain.resolve import machine_sheet

    known, _ = machine_sheet(machine)
    with _stored(machine) as ledger:
        found = lines(read_learnt(ledger, known), known)
    document = {
        "machine": known.name,
        "learnt": [
            {
                "code": line.code,
                "name": line.name,
                "mm": line.mm,
                "lo_mm": line.low,
                "hi_mm": line.high,
                "stated_mm": line.stated,
                "learnt": line.learnt,
                "rests_on": line.rests_on,
            }
            for line in found
        ],
    }

    def table() -> str:
        rows = [["one standard deviation", "mm", "95 %", "rests on"]]
        for line in found:
            limits = f"{number(line.low, 4)} to {number(line.high, 4)}" if line.learnt else "–"
            rows.append([line.name.lower(), number(line.mm, 4), limits, line.rests_on])
        return aligned(rows)

    show(document, as_json, table)


@app.command("workshop")
def workshop_page(as_json: AsJson = False) -> None:
    """All printers, a line each: flatness, gap, changes, last survey, what is due."""
    from tallgrain.clock import now
    from tallgrain.seasons import workshop

    with _stored("ledger") as ledger:
        rows, odd = workshop(ledger, now())
    document = {
        "printers": [
            {
                "machine": r.machine,
                "flatness_mm": r.flatness,
                "allowed_mm": r.allowed,
                "trip_height_mm": None if r.gap is None else r.gap[0],
                "u_mm": None if r.gap is None else r.gap[1],
                "surveyed_at": None
                if r.surveyed is None
                else r.surveyed.isoformat(timespec="seconds"),
                "changes": r.signals,
                "newest_change": r.newest,
                "urgency": r.urgency,
                "due": r.due,
            }
            for r in rows
        ],
        "not_judged": list(odd),
    }

    def table() -> str:
        lines = [["printer", "flatness", "gap (mm)", "changes", "last survey", "due"]]
        for r in rows:
            gap = "–" if r.gap is None else f"{r.gap[0]:.3f} ± {2 * r.gap[1]:.3f}"
            last = "never" if r.surveyed is None else f"{r.surveyed:%Y-%m-%d}"
            lines.append(
                [r.machine, number(r.flatness), gap, str(r.signals), last, f"{r.urgency}: {r.due}"]
            )
        return "\n".join([aligned(lines), *odd])

    show(document, as_json, table)


@app.command("report")
def report(
    file: Annotated[Path, typer.Argument(help="Where it goes: .html or .pdf.")],
    machine: MachineName,
    sheet: Annotated[
        str | None, typer.Option("--sheet", help="Only surveys on this sheet.")
    ] = None,
    pair: Annotated[
        tuple[str, str] | None, typer.Option(help="Two stored surveys to compare, A and B.")
    ] = None,
) -> None:
    """A season or a pair of surveys as a report to send: pictures, figures, method."""
    from tallgrain.resolve import machine_sheet
    from tallgrain.seasons import read_season
    from tallgrain.ui.report.make import season_report, without_window, write_report
    from tallgrain.ui.report.pair import pair_report

    known, _ = machine_sheet(machine)
    with without_window(), _stored(machine) as ledger:
        season = read_season(ledger, known, sheet)
        made = season_report(ledger, season) if pair is None else pair_report(ledger, season, *pair)
        write_report(file, made)
