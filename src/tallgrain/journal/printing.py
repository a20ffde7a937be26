"""How the builder prints: one answer for every page that heats, plans or predicts."""

from typing import Any

from tallgrain.journal.journal import Journal
from tallgrain.journal.records import PrintConditions, StartPolicy
from tallgrain.store.ledger import Ledger

# A plate is called cold below this (°C); from there on it hardly moves any more.
COLD_C = 35.0


def as_warm(ledger: Ledger, machine: str) -> dict[str, Any]:
    """The heat of the newest whole survey, where it was a hot one: nozzle_c, plate_c, soak_min."""
    heads = [h for h in ledger.heads(machine) if h.state == "complete" and h.kind == "surface"]
    heat = heads[-1].conditions if heads else None
    if heat is None or (heat.plate_c or 0.0) < COLD_C:
        return {}
    soak = float(round(heat.soak_min or 0.0))
    return {"nozzle_c": heat.nozzle_c, "plate_c": heat.plate_c, "soak_min": soak}


def printing(journal: Journal) -> PrintConditions:
    """By what was said last, for the first layer, the gap or the start of prints; where nobody
    said anything, at the plate's heat of the newest hot survey."""
    said, start = journal.newest(PrintConditions), journal.newest(StartPolicy)
    found = said.figures if said is not None else PrintConditions()
    if start is not None and (said is None or start.at > said.at):
        f = start.figures
        told = {"nozzle_c": f.nozzle_c, "plate_c": f.plate_c, "soak_min": f.soak_min}
        return found.model_copy(update=told)
    if said is None:
        warm = as_warm(journal.ledger, journal.machine)
        return found.model_copy(update={k: warm[k] for k in ("plate_c", "soak_min") if k in warm})
    return found
