"""Counts of work, which no busy machine changes: how many functions are called for what a hand
waits for, and how much is loaded before the first view. What grew three times as large fails.

    ./run bench counts            compared with bench/counts.json
    ./run bench counts --renew    written anew
"""

import cProfile
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).parent
sys.path[:0] = [str(HERE), str(HERE.parent / "tests")]
KEPT = HERE / "counts.json"
MOST = 3.0

FIRST_VIEW = """
import os, sys
from pathlib import Path
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import application, make_window
app = application()
home = Path(os.environ["TALLGRAIN_HOME"])
make_window(Ledger.open(home), home, whole=False).show()
app.processEvents()
print(len(sys.modules))
os._exit(0)
"""


def calls(work):
    """How many functions a piece of work calls, when it is done for the second time."""
    work()
    profile = cProfile.Profile()
    profile.runcall(work)
    return sum(entry.callcount for entry in profile.getstats())


def first_view():
    env = {**os.environ, "TALLGRAIN_HOME": tempfile.mkdtemp()}
    told = subprocess.run(
        [sys.executable, "-c", FIRST_VIEW], env=env, check=True, capture_output=True, text=True
    )
    return int(told.stdout)


def touches():
    """For one touch: guard, plan, events and the ledger, less the printer's own."""
    from standins import Standin
    from tallgrain.clock import now
    from tallgrain.core.plan.grid import grid_plan
    from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
    from tallgrain.link.client import JsonRpcPrinter
    from tallgrain.link.guard.guard import Guard
    from tallgrain.procedures.events import BreakOff
    from tallgrain.procedures.survey import survey
    from tallgrain.store.ledger import Ledger

    sheet, made = parse_sheet(shipped_sheet_text("Barley"), "barley.toml"), Standin()
    printer = JsonRpcPrinter(made.url, "bench")
    with Ledger.open(Path(tempfile.mkdtemp())) as ledger:
        guard, plan = Guard(printer, sheet), grid_plan(sheet, 7, 7)

        def work():
            for _ in survey(guard, ledger, plan, now, BreakOff()):
                pass

        found = calls(work) / len(plan.points)
    printer.close()
    made.stop()
    return found


def judgements():
    """Of surveys of 9 x 9: how flat, and what changed; of a year of them."""
    import numpy as np
    from test_looking_back import made_up

    from tallgrain.clock import now
    from tallgrain.core.model.figures import flatness_of
    from tallgrain.core.surface.compare import Noise, compare

    rng = np.random.default_rng(0)
    one, other = made_up(9, now(), rng), made_up(9, now(), rng)
    return {
        "flatness of 9 x 9 with its interval": calls(lambda: flatness_of(one, 0.003)),
        "two surveys of 9 x 9 compared": calls(lambda: compare(one, other, Noise())),
    }


def drags():
    """One step of a dial at the screws, with a survey of 25 x 25."""
    from test_stations import dialled

    with tempfile.TemporaryDirectory() as folder:
        window = dialled(Path(folder))
        station = window.adjusters

        def step():
            station.work.try_turn(1, 3.0)
            station.picture.repaint()

        found = calls(step)
        window.may_close = lambda: True
        window.close()
    return found


def counted():
    return {
        "modules loaded before the first view": first_view(),
        "calls for a touch of a survey": round(touches()),
        **{f"calls: {name}": count for name, count in judgements().items()},
        "calls for a step of a dragged dial": drags(),
    }


def main():
    os.environ["TALLGRAIN_HOME"] = tempfile.mkdtemp()
    found = counted()
    if "--renew" in sys.argv:
        KEPT.write_text(json.dumps(found, indent=1) + "\n", encoding="utf-8")
    kept = json.loads(KEPT.read_text(encoding="utf-8"))
    worse = [name for name, count in found.items() if count > MOST * kept[name]]
    for name, count in found.items():
        mark = "  MORE THAN THREE TIMES AS MUCH" if name in worse else ""
        print(f"{name}: {count} (was {kept[name]}){mark}", flush=True)
    os._exit(1 if worse else 0)


if __name__ == "__main__":
    main()
