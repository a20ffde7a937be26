"""Where the probe is: what several sources say of it, from marks on tape, from a strip's edges, by
ruler; kept side by side, and compared."""

import numpy as np

from tallgrain.core.probe.claims import Claim, Difference, difference, edge_centre, mark_offset
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import OffsetClaim, OffsetTakenBack
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Place
from tallgrain.procedures.edge import Scan

# How far off a hand places the nozzle over a mark (mm, standard).
HAND_MM = 0.2
MARKED, SCANNED = "mark and jog", "edge scan"
# Marks lie so far apart along x that they can be told apart (mm), so many in a row.
APART_MM, IN_A_ROW = 12.0, 5


class OffsetBook:
    """What is known of one printer's probe offset: a claim a source, the newest of each."""

    def __init__(self, journal: Journal) -> None:
        self._journal = journal
        self.claims: dict[str, Claim] = {}
        self.marks: list[tuple[Place, Place]] = []
        self.scans: dict[str, Scan] = {}
        self.edges: dict[tuple[str, str], float] = {}
        for seen in journal.read_any(OffsetTakenBack, OffsetClaim):
            f = seen.figures
            if isinstance(f, OffsetTakenBack):
                self.claims.pop(seen.item, None)
            else:
                offset, u = (f.offset[0], f.offset[1]), (f.u[0], f.u[1])
                self.claims[seen.item] = Claim(seen.item, offset, u, f.count)

    def claim(self, made: Claim) -> None:
        """Keep a source's offset beside the others."""
        offset, u = [float(v) for v in made.offset], [float(v) for v in made.u]
        record = OffsetClaim(offset=offset, u=u, count=made.count)
        self._journal.write(record, made.source, "claimed")
        self.claims[made.source] = made

    @property
    def best(self) -> Claim | None:
        """The source that knows best."""
        return min(self.claims.values(), key=lambda c: max(c.u), default=None)

    def differences(self) -> list[tuple[Claim, Claim, Difference]]:
        """Every two sources compared, the better one first."""
        ranked = sorted(self.claims.values(), key=lambda c: max(c.u))
        return [(a, b, difference(a, b)) for i, a in enumerate(ranked) for b in ranked[i + 1 :]]

    # Marks on tape

    def marked(self, touched: Place, at: Place) -> None:
        """The nozzle stands at a place over the mark that the probe left when it touched."""
        self.marks.append((touched, at))
        self._claim_marks()

    def take_back_mark(self) -> None:
        """The newest placement was wrong."""
        if not self.marks:
            return
        self.marks.pop()
        if self.marks:
            self._claim_marks()
        else:
            self._journal.write(OffsetTakenBack(), MARKED, "taken back")
            self.claims.pop(MARKED, None)

    def _claim_marks(self) -> None:
        touched, placed = zip(*self.marks, strict=True)
        self.claim(
            mark_offset([(a.x, a.y) for a in touched], [(b.x, b.y) for b in placed], HAND_MM)
        )

    # A strip's edges

    def edge(self, axis: str, side: str, at: Place) -> None:
        """The nozzle stands at a place over a strip's low (left, front) or high edge."""
        self.edges[axis, side] = at.x if axis == "x" else at.y
        offset, u = [], []
        for name in ("x", "y"):
            scan = self.scans.get(name)
            low, high = self.edges.get((name, "low")), self.edges.get((name, "high"))
            if scan is None or low is None or high is None:
                return
            # The strip's middle by the nozzle less that by the probe.
            middle, bracket = edge_centre(scan.nozzle, scan.raised)
            offset.append((low + high) / 2 - middle)
            u.append(float(np.hypot(HAND_MM / np.sqrt(2), bracket / np.sqrt(6))))
        self.claim(Claim(SCANNED, (offset[0], offset[1]), (u[0], u[1])))


def touch_tape(guard: Guard, number: int) -> Place:
    """Touch the tape over the datum once, beside the marks before it: where the nozzle stood when
    the probe left its mark. Ends with the probe away. Raises what the guard raises."""
    guard.need_probe()
    x, y = guard.sheet.plate.datum_point
    guard.extend()
    guard.touch_at(x + APART_MM * (number % IN_A_ROW - IN_A_ROW // 2), y)
    at = guard.floors.last
    guard.retract()
    return Place(*at)
