"""Solving corrections from files and stored surveys."""

from pathlib import Path
from typing import Annotated, Any

import typer

from tallgrain.cli.common import AsJson, aligned, app, number, show

solve_app = typer.Typer(
    rich_markup_mode=None, no_args_is_help=True, help="Solve a correction from what was measured."
)
app.add_typer(solve_app, name="solve")


@solve_app.command("gap")
def solve_gap_file(
    file: Annotated[Path, typer.Argument(help="A gap file: gauge touches and trial prints.")],
    as_json: AsJson = False,
) -> None:
    """The trip height from gauge touches and trial prints, with its uncertainty budget."""
    from tallgrain.core.solve.gap import next_touch, next_trial, posterior, solve_gap
    from tallgrain.formats.gap_json import read_gap

    loop, trials, gauge = read_gap(file)
    felt = solve_gap(loop)
    t, u, clashes = felt.t, felt.u, [c.sentence for c in felt.contradictions]
    touches = [[c.touches[0] + 1, c.touches[1] + 1] for c in felt.contradictions]
    if trials:
        fused = posterior(loop, trials)
        told = [trial for trial in trials if trial.verdict != "cannot_tell"]
        if felt.t is not None and felt.u is not None and told:
            alone = posterior(type(loop)(loop.t_set, ()), trials)
            apart = abs(alone.mean - felt.t)
            if apart > 3 * (alone.u**2 + felt.u**2) ** 0.5:
                clashes.append(
                    f"gauge and trial prints differ by {apart:.3f} mm: measure both again."
                )
        if told:
            t, u = fused.mean, fused.u
    document: dict[str, Any] = {
        "trip_height_mm": _round(t),
        "u_mm": _round(u),
        "lo_mm": _round(None if t is None or u is None else t - 2 * u),
        "hi_mm": _round(None if t is None or u is None else t + 2 * u),
        "budget": {name: _round(part) for name, part in felt.budget.items()},
        "bounds": {"lower_mm": _round(felt.low), "upper_mm": _round(felt.high)},
        "contradictions": [
            {"sentence": s, **({"touches": touches[i]} if i < len(touches) else {})}
            for i, s in enumerate(clashes)
        ],
    }
    if trials:
        step = next_trial(loop, trials)
        document["next"] = {"kind": "trial", "trip_height_mm": step.t_set, "why": step.why}
    else:
        touch = next_touch(loop, gauge)
        document["next"] = {"kind": "touch", "z_mm": touch.z, "why": touch.why}

    def table() -> str:
        rows = [["trip height", number(t, 4), "mm"]]
        if t is not None and u is not None:
            rows.append(["  from (k = 2)", number(t - 2 * u, 4), "mm"])
            rows.append(["  to", number(t + 2 * u, 4), "mm"])
        else:
            rows.append(["  at least", number(felt.low, 4), "mm"])
            rows.append(["  at most", number(felt.high, 4), "mm"])
        rows += [[f"  u from {name}", number(part, 4), "mm"] for name, part in felt.budget.items()]
        told = document["next"]
        where = told.get("z_mm", told.get("trip_height_mm"))
        what = "gauge at z" if told["kind"] == "touch" else "trial with trip height"
        rows.append([f"next: {what}", number(where, 4), f"mm ({told['why']})"])
        return "\n".join([aligned(rows), *clashes])

    show(document, as_json, table)


def _round(value: float | None) -> float | None:
    return None if value is None else round(value, 6)
