"""The Adjusters station: how far each bed screw must turn, and what the surface becomes."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.core.machine.describe import WAY
from tallgrain.core.solve.adjusters import AdjusterSolution, adjusters_told
from tallgrain.core.surface.shape import ShapeTerms
from tallgrain.ui.painting.adjusters import (
    OTHER,
    Dials,
    paint_adjusters,
    placed_dials,
    seen_direction,
    turn_words,
)
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.timers import follow, timer
from tallgrain.ui.stations.adjusters.dials import DialPicture
from tallgrain.ui.stations.adjusters.model import AdjustersWork
from tallgrain.ui.stations.adjusters.pages import PlacesPage, RoundsPage
from tallgrain.ui.stations.adjusters.rounds import RoundsWork
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.widgets.bench import act_words, beside_the_bench, show_act
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.parts import Readout, button, label, put, rule, tell
from tallgrain.ui.widgets.words import day, mm

WIDTH = 380
# A dial rests after so long without a step of its drag.
REST_MS = 150
TABS = ("Turn", "Gauge", "Places")
# What is told beside the turns, of all that a solution says.
DOUBTS = ("rougher", "crept", "slipped")
TURN, GAUGE, PLACES = range(3)


class AdjustersStation(Station):
    """Dials on the plate in the middle, the screw that is due on the bench."""

    name = "Adjusters"
    clearance: ClearanceRow

    def __init__(self, shared: Shared, work: AdjustersWork, rounds: RoundsWork) -> None:
        session, drafts = shared.session, shared.drafts
        super().__init__(session)
        self._drafts = drafts
        self.work, self.rounds = work, rounds
        self.under = False
        self.picture = DialPicture(self)
        self._tried: dict[str, float] | None = None
        self._rest = timer(self.picture, REST_MS, self.picture.update, once=True)
        self.picture.setAccessibleName("Field: the plate with a dial at every bed screw")
        bench = self.begin_bench()
        self.gauge = RoundsPage(session, self.rounds, self.work)
        self.places = PlacesPage(session, self.work, drafts)
        pages = (self._turning(shared), self.gauge, self.places)
        self.tabbed = bench.tabbed(TABS, pages)
        self.tabbed.on_shown = lambda _: self.refresh()
        self.widget, self.subject = beside_the_bench(self.name, self.picture, bench)
        follow(
            self.refresh,
            self.work.changed,
            self.rounds.changed,
            session.changed,
            session.printer_changed,
            drafts.changed,
        )
        self.tabbed.show_page(TURN)
        session.printer_changed.connect(self._screws)
        self._screws()

    def _turning(self, shared: Shared) -> QWidget:
        """The page of the screw that is due."""
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        self.readout = Readout()
        self.screw = label(role="title", wrap=True)
        self.had = label(role="muted", wrap=True)
        self.turned = button("&Turned as told  T", name="Turned as told")
        self.turned.clicked.connect(self.work.turned_as_told)
        self.next = button("&Next  PgDn", name="Next screw")
        self.next.clicked.connect(self.work.next_screw)
        self.flip = button("From &under  U", name="Seen from above or under")
        self.flip.clicked.connect(self.turn_over)
        self.hold = QComboBox()
        self.hold.setAccessibleName("Which screw stays")
        self.hold.activated.connect(lambda _: self.work.choose_hold(self.hold.currentData()))
        self.becomes = label(wrap=True)
        self.back = button("Stop trying  ⌫", name="Back to what is proposed")
        self.back.clicked.connect(self.work.stop_trying)
        self.learnt = label(role="muted", wrap=True)
        row = QHBoxLayout()
        row.addWidget(self.turned, 1)
        row.addWidget(self.next, 1)
        column.addWidget(self.readout)
        column.addWidget(self.screw)
        column.addWidget(self.had)
        column.addLayout(row)
        self._more(column, shared)
        return page

    def _more(self, column: QVBoxLayout, shared: Shared) -> None:
        """What stands below the screw."""
        self.alone = button("&Only this one  O", name="Touch only this screw again")
        self.alone.clicked.connect(self.work.probe_screw)
        self.anew = button("Count anew", name="Count its turns from here")
        self.anew.setToolTip("Count its turns from here: after the springs were set by hand")
        self.anew.clicked.connect(self.work.count_anew)
        self.far_off = QCheckBox("The screws ma&y be far off: feel the way")
        self.shape = button("See the shape: Surface")
        self.shape.clicked.connect(lambda: shared.visit("Surface"))
        self.shape.setVisible(False)
        self.wrong = label(role="rust", wrap=True)
        self.use = button("")
        self.use.clicked.connect(self.use_fault)
        self.work.changed.connect(self._way_answered)
        self.ends = label(role="rust", wrap=True)
        put(column, self.shape, self.wrong, self.use, self.ends)
        for parts in ((self.alone, self.flip), (self.hold, self.anew)):
            row = QHBoxLayout()
            for part in parts:
                row.addWidget(part, 1)
            column.addLayout(row)
        put(column, rule(), self.becomes, self.back, self.learnt, self.far_off)
        column.addStretch(1)

    def _screws(self) -> None:
        sheet = self._session.sheet
        self.hold.clear()
        self.hold.addItem("least turning in all", "least")
        for adjuster in sheet.adjusters if sheet is not None else ():
            self.hold.addItem(f"{adjuster.name} stays", adjuster.name)

    # Acting

    def step(self) -> None:
        """Measure over the screws, or the next step of the page."""
        if self.tabbed.number == TURN:
            self.work.measure(self.far_off.isChecked())
        else:
            (self.gauge if self.tabbed.number == GAUGE else self.places).primary()

    def turn_over(self) -> None:
        """From above or from under: picture and words together."""
        self.under = not self.under
        self.refresh()

    def key(self, key: int) -> bool:
        """A key of the drawing; whether it was one."""
        acts = {
            Qt.Key.Key_PageDown: self.work.next_screw,
            Qt.Key.Key_T: self.work.turned_as_told,
            Qt.Key.Key_U: self.turn_over,
            Qt.Key.Key_Backspace: self.work.stop_trying,
            Qt.Key.Key_O: self.work.probe_screw,
        }
        act = acts.get(Qt.Key(key))
        if act is None or self._session.busy:
            return False
        act()
        return True

    def use_fault(self) -> None:
        """Put what was recognised into the sheet: the way a screw goes, or its thread."""
        fault, draft = self.work.fault, self._drafts.draft
        sheet = self._session.sheet
        if fault is None or draft is None or sheet is None:
            return
        for number, adjuster in enumerate(sheet.adjusters):
            # Screws are cut alike: where nobody said which way they go, one speaks for all.
            guessed = fault.kind == "reversed" and WAY in sheet.assumed
            if adjuster.name not in fault.who and not guessed:
                continue
            if fault.kind == "reversed":
                other = OTHER[adjuster.raises]
                draft = draft.with_value(("adjusters", number, "raises"), other)
            if fault.lead_mm is not None:
                draft = draft.with_value(("adjusters", number, "lead_mm"), fault.lead_mm)
        self.work.diagnosis = None
        self._drafts.edit_and_store("bed screws as they answered", draft)
        self.work.changed.emit()

    def dial_at(self, at: QPointF, rect: QRectF) -> int | None:
        """The dial at a place of the drawing."""
        seen = self._dials()
        if seen is None:
            return None
        placed = placed_dials(rect, seen)
        for i, place in enumerate(placed.places):
            if np.hypot(at.x() - place.x(), at.y() - place.y()) <= placed.radius:
                return i
        return None

    # Showing

    def refresh(self) -> None:
        """Follow the work, while it is shown."""
        s, work = self._session, self.work
        if s.sheet is None or not self.widget.isVisible():
            return
        work.look_back()
        self.notice.follow(s)
        unsure = self.clearance.refresh()
        linked = s.link is LinkState.UP
        number = self.tabbed.number
        words = act_words(
            s,
            (
                "Measure over the screws  F5",
                f"Go over {self.rounds.screw}  F5",
                "Take the nozzle's place  F5",
            )[number],
        )
        if number == GAUGE:
            self.gauge.refresh()
        elif number == PLACES:
            self.places.refresh()
        show_act(self.act, words, linked)
        self.act.setVisible(not s.busy)
        self.under_way.follow(work.touched, work.total)
        gauging = number == GAUGE and s.guard is not None and s.guard.hands_in
        self.act.setEnabled((not unsure and work.here and not gauging) or not linked)
        self._tell()
        told = f"{s.sheet.name}: {len(s.sheet.adjusters)} bed screws · turn, then measure again"
        tell(self.subject, told if work.here else f"{s.sheet.name} has no bed screws to level with")
        self.picture.update()

    def _tell(self) -> None:
        work, busy = self.work, self._session.busy
        solved, screw = work.solved, work.screw
        idle = solved is not None and not busy
        for part in (self.turned, self.next, self.flip, self.hold, self.anew):
            part.setEnabled(idle)
        self.alone.setEnabled(idle and self._session.ready and self._session.guard is not None)
        self._tell_trouble()
        self.back.setVisible(work.tried is not None)
        self.flip.setText(f"From {'&above' if self.under else '&under'}  U")
        if busy and work.total:
            there = self._session.sheet is None or self._session.sheet.probe.there
            doing = "Touching" if there else "Feeling by hand"
            away = ": hands away" if there else ""
            tell(self.screw, f"{doing} {work.touched} of {work.total}{away}")
            tell(self.had, "F8 finishes this touch and stops.")
            return
        if solved is None or screw is None or work.survey is None:
            self.readout.tell("–", "mm FLTt", "not measured over the screws yet")
            tell(self.screw, "Measure, then turn each screw as it is told.")
            tell(self.had, "")
            tell(self.becomes, "")
            return
        small = f"measured {day(work.survey.taken_at)}"
        fltt = f"{mm(solved.before.fltt)} mm FLTt"
        if work.level or screw.leave:
            self.readout.tell(mm(solved.before.fltt), "mm FLTt", small)
        else:
            # The one figure that is read from the floor beside the printer.
            whole, rest = divmod(round(screw.turn_deg), 360)
            figure = f"{whole}× + {rest}°" if whole else f"{rest}°"
            self.readout.tell(figure, seen_direction(screw, self.under), f"{fltt}, {small}")
        ended = {
            "within tolerance": "Within tolerance: what is left is shape, not tilt.",
            "below the noise": "Done: the turns that are left are smaller than the noise.",
        }
        told = ended.get(work.verdict) or turn_words(screw, self.under)
        sheet = self._session.sheet
        if not ended.get(work.verdict) and sheet is not None and WAY in sheet.assumed:
            told = f"Only this one, then measure: which way it goes is assumed. {told}"
        self.shape.setVisible(work.level)
        tell(self.screw, told)
        had = work.turns_had(screw.name)
        way = "clockwise" if had >= 0 else "counterclockwise"
        so_far = f"{abs(had):.2f} turns {way} so far" if had else "not turned yet"
        tell(self.had, f"± {2 * screw.u_deg:.0f}° (k = 2), {so_far}")
        reach = f"Alone it reaches {work.reach(screw.name) * 100:.0f} % of bow and twist"
        self.had.setToolTip(reach)
        self._tell_outcome(solved)

    def _way_answered(self) -> None:
        """A screw that answered as it was assumed to says which turn raises the plate."""
        found, draft = self.work.diagnosis, self._drafts.draft
        if found is None or found.way != "as told" or draft is None:
            return
        assumed = draft.document.get("assumed", [])
        if WAY in assumed and draft.document.get("name") not in self._drafts.unstored():
            known = draft.with_value(("assumed",), [a for a in assumed if a != WAY] or None)
            self._drafts.edit_and_store("which turn raises the plate", known)

    def _tell_outcome(self, solved: AdjusterSolution) -> None:
        """What the plate becomes, and what was learnt."""
        work = self.work
        shown = work.surface()
        assert shown is not None
        becomes = f"FLTt {mm(shown.flat.fltt)} mm"
        if work.tried is not None:
            told = f"With what the dials try: {becomes}. {_terms_words(shown.terms)}"
        else:
            reached = f"{solved.reached * 100:.0f} % of it within their reach"
            told = f"After all turns: {becomes}, {reached}."
        tell(self.becomes, told)
        gain = work.gain
        learnt: list[str] = []
        if gain is not None:
            share = f"{gain.value * 100:.0f} ± {200 * gain.u:.0f} %"
            learnt = [f"Learnt: the plate follows {share} of the bend between its screws."]
        doubts = [one.sentence for one in adjusters_told(solved) if one.code in DOUBTS]
        tell(self.learnt, " ".join([*learnt, *doubts]))
        self.learnt.setVisible(bool(learnt or doubts))

    def _tell_trouble(self) -> None:
        """A screw that is not what the sheet says, and springs that come to their ends."""
        work = self.work
        fault, found = work.fault, work.diagnosis
        unknown = found is not None and found.verdict == "unknown"
        words = (
            fault.sentence
            if fault is not None
            else (
                "the plate did not follow the turns, and no screw alone explains it: was one "
                "turned "
                "the other way, or did a spring stick?"
                if unknown
                else ""
            )
        )
        tell(self.wrong, f"{words[:1].upper()}{words[1:]}{'.' if fault is not None else ''}")
        self.wrong.setVisible(bool(words))
        self.use.setVisible(fault is not None)
        if fault is not None:
            lead = f", {mm(fault.lead_mm, 2)} mm a turn" if fault.lead_mm is not None else ""
            way = ", the other way" if fault.kind == "reversed" else ""
            whom = fault.who[0] if len(fault.who) == 1 else "all screws"
            self.use.setText(f"Into the sheet: {whom}{way}{lead}")
        ends = [
            f"{name}'s spring is at its end."
            if turns <= 0.02
            else f"{name}'s spring ends in {turns:.1f} turns."
            for name, turns in work.near_ends()
        ]
        tell(self.ends, " ".join(ends))
        self.ends.setVisible(bool(ends))

    def _dials(self) -> Dials | None:
        sheet, work = self._session.sheet, self.work
        if sheet is None or not work.here or not work.left:
            return None
        shown = work.surface()
        points = heights = None
        span = 0.05
        if shown is not None and work.survey is not None:
            points = shown.xy
            heights = shown.heights - shown.flat.plane.at(points)
            span = max(0.05, float(np.ceil(np.abs(heights).max() * 20) / 20))
        trying = work.tried is not None
        caption = "as the dials try it" if trying else "as it would lie after all turns"
        number = work.chosen % len(work.left)
        if work.tried is not self._tried:
            self._tried = work.tried
            self._rest.start()
        moving, left = self._rest.isActive(), tuple(work.left)
        return Dials(sheet, left, number, self.under, points, heights, span, caption, moving)

    def paint(self, painter: QPainter, rect: QRectF) -> None:
        """The picture."""
        seen = self._dials()
        if seen is not None:
            paint_adjusters(painter, rect, seen)


def _terms_words(terms: ShapeTerms | None) -> str:
    if terms is None:
        return ""
    return (
        f"Bow left to right {mm(terms.bow_x)}, front to rear {mm(terms.bow_y)}, twist "
        f"{mm(terms.twist)} mm."
    )
