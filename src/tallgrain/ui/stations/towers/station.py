"""The Towers station: a delta's switches, radius and angles, solved at once from one survey."""

from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.core.solve.delta_geometry import DEFAULT_FREE, TOWERS
from tallgrain.core.solve.towers import Effect
from tallgrain.journal.records import LEVEL
from tallgrain.ui.painting.towers import TowersView, paint_towers
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.timers import follow
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.towers.changes import ChangesTable
from tallgrain.ui.stations.towers.model import Seen, TowersWork
from tallgrain.ui.stations.towers.pages import ByHandPage, RadiusPage
from tallgrain.ui.widgets.bench import act_words, beside_the_bench, show_act
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.figures import amount, whole
from tallgrain.ui.widgets.parts import Readout, button, label, put, tell
from tallgrain.ui.widgets.picture import StationPicture
from tallgrain.ui.widgets.words import count_of, day, mm

CHOICES: tuple[tuple[str, tuple[str, ...] | None], ...] = (
    ("what the heights ask for", None), ("switches only", ("switch",)),
    ("switches and radius", ("switch", "delta_radius")),
    ("switches, radius, angles", DEFAULT_FREE),
    ("these and the rods", (*DEFAULT_FREE, "rod_length")),
)  # fmt: skip


class TowersStation(Station):
    """Round maps before and predicted after; the loop, the hands and the radius on the bench."""

    name = "Towers"
    clearance: ClearanceRow

    def __init__(self, shared: Shared, work: TowersWork) -> None:
        session, self._shared = shared.session, shared
        super().__init__(session)
        self.work = work
        self.picture = StationPicture(self._paint)
        self.picture.setAccessibleName("Field: the round plate, its towers and their corrections")
        bench = self.begin_bench()
        self.by_hand, self.radius = ByHandPage(work), RadiusPage(work)
        pages = (self._loop(), self.by_hand, self.radius)
        self.tabs = bench.tabbed(("Loop", "By hand", "Radius"), pages)
        self.tabs.on_shown = lambda _: self.refresh()
        self.widget, self.subject = beside_the_bench(self.name, self.picture, bench)
        follow(self.refresh, work.changed, session.changed, session.printer_changed)
        self.tabs.show_page(0)

    def _loop(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        self.readout = Readout()
        self.what = label(role="safety", wrap=True)
        self.log = label(role="muted", wrap=True)
        self.changes = ChangesTable()
        self.held = label(wrap=True)
        self.bent = label(role="rust", wrap=True)
        self.weak = label(role="muted", wrap=True)
        self.free = QComboBox()
        for words, names in CHOICES:
            self.free.addItem(words, names)
        self.free.setAccessibleName("What may change")
        self.most = whole(1, 9, "Corrections at most", value=3, prefix="up to ", suffix=" passes")
        self.count = whole(6, 60, "Places of each survey", value=20, suffix=" places")
        row, again = QHBoxLayout(), QHBoxLayout()
        row.addWidget(self.most, 1)
        row.addWidget(self.count, 1)
        self.once = button("&One correction")
        self.once.clicked.connect(lambda: self.run(1))
        self.look = button("&Measure only")
        self.look.clicked.connect(lambda: self.run(0))
        again.addWidget(self.once, 1)
        again.addWidget(self.look, 1)
        self.gauge = QCheckBox("Use the printed &gauge's distances: they settle the rods")
        self.gauge.toggled.connect(self._gauge)
        self.shrinks = amount(
            0,
            5,
            "How much the gauge's plastic shrank, in percent",
            decimals=2,
            suffix=" % shrinkage of that part",
        )
        self.shrinks.valueChanged.connect(self._shrinks)
        put(
            column, self.readout, self.what, self.held, self.changes, self.bent, self.weak, self.log
        )
        column.addWidget(self.free)
        column.addLayout(row)
        column.addLayout(again)
        column.addWidget(self.gauge)
        column.addWidget(self.shrinks)
        column.addStretch(1)
        return page

    # Acting

    @property
    def here(self) -> bool:
        """Whether this printer has towers."""
        sheet = self._session.sheet
        return sheet is not None and sheet.kinematics == "delta" and sheet.delta is not None

    @property
    def _to_keep(self) -> bool:
        """Whether it is right, but not kept."""
        newest = self.work.newest
        if newest is None or newest.by_hand or newest.one.asked:
            return False
        right = newest.one.verdict in LEVEL
        return right and bool(self.work.values.not_kept) and self._shared.recovery.may_keep

    def run(self, passes: int) -> None:
        """So many corrections at the most."""
        if self._session.ready and self.here:
            self.work.run(passes, self.free.currentData(), self.count.value())

    def primary(self) -> None:
        """F5, on a delta."""
        if self.here:
            super().primary()

    def step(self) -> None:
        """Keep what was set, or put right."""
        if self._to_keep:
            self.work.values.keep()
        else:
            self.run(self.most.value())

    def _gauge(self, on: bool) -> None:
        self.work.use_gauge = on
        self.refresh()

    def _shrinks(self, percent: float) -> None:
        self.work.shrinkage = percent / 100

    # Showing

    def refresh(self) -> None:
        """Follow the work, while it is shown."""
        s, work = self._session, self.work
        if s.sheet is None or not self.widget.isVisible():
            return
        self._tell()
        self.notice.follow(s)
        unsure = self.clearance.refresh()
        linked, idle = s.link is LinkState.UP, s.ready and self.here
        words = act_words(s, f"Put right: {self.most.value()} passes at most  F5")
        if linked and self._to_keep:
            words = f"Keep {count_of(len(work.values.not_kept), 'value')}: survive power-off  F5"
        show_act(self.act, words, linked and not self._to_keep)
        self.act.setVisible(not s.busy and self.here)
        self.under_way.follow(len(work.touched), work.total)
        self.act.setEnabled(not unsure or not linked)
        for part in (self.once, self.look):
            part.setEnabled(idle and not unsure)
        for control in (self.free, self.most, self.count):
            control.setEnabled(not s.busy)
        self.gauge.setVisible(work.gauge_read)
        self.shrinks.setVisible(work.gauge_read and work.use_gauge)
        if self.tabs.number == 1:
            self.by_hand.refresh(not s.busy and self.here)
        elif self.tabs.number == 2:
            self.radius.refresh()
        current = work.current
        told = f"{s.sheet.name}: no towers to put right"
        if current is not None:
            where = "the printer holds" if work.values.held else "by its sheet:"
            told = (
                f"{s.sheet.name}: {where} radius {mm(current.radius)} mm, rods "
                f"{mm(current.rod)} mm, height {mm(current.height)} mm"
            )
        tell(self.subject, told)
        self.picture.update()

    def _tell(self) -> None:
        work = self.work
        newest, stored = work.newest, work.stored
        if newest is not None:
            self.readout.tell(
                mm(newest.one.solved.rms_before),
                "mm RMS about the mean",
                f"the towers explain {mm(newest.one.moves)} mm",
            )
        elif stored is not None:
            told = f"{stored.outcome}, {day(stored.at)}"
            self.readout.tell(mm(stored.figures.rms), "mm RMS about the mean", told)
        else:
            self.readout.tell("–", "mm RMS about the mean", "not measured yet")
        tell(self.what, self._sentence())
        self._tell_changes(newest)
        lines = []
        for i, seen in enumerate(work.passes):
            came = work.passes[i + 1].one.solved.rms_before if i + 1 < len(work.passes) else None
            line = f"pass {i + 1}: {mm(seen.one.solved.rms_before)} mm"
            if came is not None:
                line += f", predicted {mm(seen.one.solved.rms_after)}, came {mm(came)}"
            lines.append(line)
        tell(self.log, "\n".join(lines))
        self.log.setVisible(len(lines) > 1)

    def _tell_changes(self, newest: Seen | None) -> None:
        effects: list[Effect] = []
        head, bent, weak = "", "", ""
        if newest is not None:
            shown = self._correcting() or newest
            effects = [
                one for one in shown.effects if one.name != "height" or abs(one.change) >= 2 * one.u
            ]
            held = [
                n
                for n in ("radius", "angle", "rod length")
                if not any(n in e.name for e in shown.effects)
            ]
            head = "What changes, and what goes with it, mm"
            if held:
                head += f"; held: {', '.join(held)}"
            if newest.one.asked:
                more = " and ".join(n.replace("_", " ") for n in newest.one.asked)
                bent = f"the heights ask for the {more} too"
            elif shown.one.choice is not None:
                bent = shown.one.choice.bent
            if newest.outside:
                bent = (
                    f"{count_of(newest.outside, 'place')} lie off the plate or in its margin: "
                    "heights there are none of the plate's. Leave them out"
                )
            weak = "; ".join(shown.one.solved.weak)
        tell(self.held, head)
        self.held.setVisible(bool(head))
        self.changes.show_effects(effects)
        tell(self.bent, f"{bent[:1].upper()}{bent[1:]}." if bent else "")
        self.bent.setVisible(bool(bent))
        tell(self.weak, weak)
        self.weak.setVisible(bool(weak))

    def _correcting(self) -> Seen | None:
        """The newest pass that changed something: it says more than the one that confirmed it."""
        found = [p for p in self.work.passes if p.one.verdict == "correct"]
        newest = self.work.newest
        over = newest is not None and newest.one.verdict in LEVEL
        return found[-1] if found and over else None

    def _sentence(self) -> str:
        s, work = self._session, self.work
        if not self.here:
            return "This printer has no towers: Tilt and Adjusters level it."
        if s.busy:
            doing = s.motion.doing[:1].upper() + s.motion.doing[1:]
            return f"{doing}: hands away. F8 finishes this touch and stops."
        newest = work.newest
        if newest is None:
            return "One survey, one solve: switches, radius and angles at once, then proof."
        if newest.by_hand:
            return "Solved by hand. Turn the screws, or give it to the printer; then feel again."
        if newest.one.verdict == "diverges":
            return "It came out worse than predicted: stopped."
        if newest.one.asked and newest.one.verdict in LEVEL:
            return "As right as this choice of parameters can make it."
        ended = {
            "within tolerance": "Done: what the towers explain is within your tolerance.",
            "below the noise": "Done, as far as the probe can see: the rest is the plate's shape.",
            "measured only": "Not right yet.",
        }
        return ended.get(newest.one.verdict, "Broken off: measure again before you trust it.")

    def _paint(self, painter: QPainter, rect: QRectF) -> None:
        sheet, work, s = self._session.sheet, self.work, self._session
        current = work.current
        if sheet is None or current is None or not self.here:
            return
        newest = work.newest
        view = TowersView(sheet, current, work.plan_points(), len(work.touched), s.busy)
        if newest is not None and not s.busy:
            a, b, c = (newest.left[t] for t in TOWERS)
            # What a correction brought, once it was touched again; until then what is predicted.
            first, now = self.work.passes[0], newest.before
            shown, other = newest, newest.after
            tail = f"predicted: {mm(newest.one.solved.rms_after)} mm RMS"
            if first is not newest and first.before is not None and now is not None:
                now, other = now.with_span(first.before.span), first.before
                shown = self._correcting() or newest
                tail = f"before: {mm(first.one.solved.rms_before)} mm RMS"
            heads = (f"touched: {mm(newest.one.solved.rms_before)} mm RMS", tail)
            view = TowersView(
                sheet,
                first.one.current,
                newest.xy,
                0,
                False,
                shown.one.solved,
                now,
                other,
                newest.xy,
                (a, b, c),
                heads,
            )
        paint_towers(painter, rect, view)
