"""The Surface station's bench: one figure, what it is made of, and the one next step.

Its states: no printer linked, linking, position unknown, nothing surveyed, surveying, done, broken
off, failed. Each shows what is true now and what to do.
"""

from collections.abc import Callable

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QApplication,
    QGridLayout,
    QHBoxLayout,
    QProgressBar,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.surface.first_layer import FirstLayerSight
from tallgrain.core.surface.judgement import Judgement
from tallgrain.ui.app import theme
from tallgrain.ui.dialogs.plan import plan_summary
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState, Progress, SurveyPlan
from tallgrain.ui.session.surveying import soak_left
from tallgrain.ui.session.timers import follow
from tallgrain.ui.stations.surface.first_layer import FirstLayerPanel
from tallgrain.ui.stations.surface.pages import CuresPage, TrustPage
from tallgrain.ui.widgets.bench import Notice, Tabbed, show_act
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.compared_words import compared_words, figure_lines, in_short
from tallgrain.ui.widgets.ending import Ending
from tallgrain.ui.widgets.field import Field
from tallgrain.ui.widgets.parts import (
    Bar,
    Panel,
    Readout,
    button,
    heard,
    label,
    put,
    rule,
    set_role,
    tell,
)
from tallgrain.ui.widgets.strip import Strip
from tallgrain.ui.widgets.words import count_of, duration, mm

WIDTH = 350
# How fine the bar of what is under way is.
BAR = 1000


class ShapeBudget(QWidget):
    """What the flatness comes from: a bar, a figure and a cure for each part."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(10)
        self._grid.setVerticalSpacing(0)
        self._grid.setColumnStretch(1, 1)
        self._rows = []
        for i in range(6):
            name, bar, figure, cure = label(), Bar(), label(role="figure"), label(role="muted")
            self._grid.addWidget(name, 2 * i, 0, 1, 2)
            self._grid.addWidget(figure, 2 * i, 2, Qt.AlignmentFlag.AlignRight)
            self._grid.addWidget(bar, 2 * i + 1, 0)
            self._grid.addWidget(cure, 2 * i + 1, 1, 1, 2)
            self._grid.setRowMinimumHeight(2 * i + 1, 17)
            self._rows.append((name, bar, figure, cure))
        self._grid.setColumnMinimumWidth(0, 110)

    def show_judgement(self, judgement: Judgement) -> None:
        """Take the shares of one survey."""
        largest = max((s.size_mm for s in judgement.shares), default=0.0) or 1.0
        # Each cure stands once, beside the largest part that it cures.
        cured: set[str] = set()
        beside = set()
        for share in sorted(judgement.shares, key=lambda s: -s.size_mm):
            one = share.cure.split(",")[0]
            if one not in cured or share.attention:
                beside.add(share.name)
            cured.add(one)
        for row, share in zip(self._rows, judgement.shares, strict=False):
            name, bar, figure, cure = row
            tell(name, share.name)
            tell(figure, mm(share.size_mm))
            tell(cure, share.cure if share.name in beside else "")
            set_role(cure, "rust" if share.attention else "muted")
            colour = theme.METAL if share.below_noise else theme.GOLD
            bar.show_share(share.size_mm / largest, theme.RUST if share.attention else colour)
            heard(bar, f"{share.name}: {mm(share.size_mm)} mm, {share.cure}")


class SurfaceBench(Panel):
    """The instrument on the right."""

    plan_wanted = pyqtSignal()
    way_chosen = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(14)
        self._session = session
        self._step: QWidget | None = None
        self.compare_first = False
        # What the first layer would be, while that is what the field shows.
        self.first_layer: Callable[[], FirstLayerSight | None] = lambda: None
        self.setFixedWidth(WIDTH)
        self._build_body()
        self._build_actions()
        follow(self._follow, session.changed, session.back.changed)

    def _build_body(self) -> None:
        self.head = label(role="title")
        self.readout = Readout()
        self.small = label(role="muted", wrap=True)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setMaximum(BAR)
        self.notice = Notice()
        self.incomplete = label(role="rust", wrap=True)
        self.first = FirstLayerPanel()
        self.first.way_chosen.connect(self._way_chosen)
        self.budget_rule = rule()
        self.budget_head = label("Parts", "head")
        self.budget = ShapeBudget()
        self.same_rule = rule()
        self.same_head = label("Same bed as last time?", "head")
        self.same = label(wrap=True)
        self.figures = label(wrap=True)
        self.verdict = label(wrap=True)
        page = QWidget()
        body = QVBoxLayout(page)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(8)
        put(
            body,
            self.head,
            self.readout,
            self.progress,
            self.small,
            self.notice,
            self.incomplete,
            self.verdict,
            self.first,
            self.budget_rule,
            self.budget_head,
            self.budget,
            self.same_rule,
            self.same_head,
            self.same,
            self.figures,
        )
        body.addStretch(1)
        self.cures = CuresPage()
        self.trusted = TrustPage(self._session)
        self.tabs = Tabbed(("Shape", "Cures", "Trust"), (page, self.cures, self.trusted))
        self.tabs.show_page(0)
        self.column.addWidget(self.tabs, 1)

    def _build_actions(self) -> None:
        self.clearance_row = ClearanceRow(self._session)
        self.clearance = self.clearance_row.clearance
        self.planned = label(role="muted", wrap=True)
        self.primary = button("", "primary")
        self.primary.clicked.connect(self.act)
        self.ending = Ending(self._session)
        self.plan = button(
            "Plan …", name="Plan points", tip="Points, touches, and the heat before (F6)"
        )
        self.plan.clicked.connect(self.plan_wanted)
        self.column.addWidget(self.clearance_row)
        self.column.addWidget(self.planned)
        step = QHBoxLayout()
        step.setSpacing(8)
        step.addWidget(self.primary, 1)
        step.addWidget(self.plan)
        self.column.addLayout(step)
        self.resume = button("", tip="Touch some old places again, then go on")
        self.resume.clicked.connect(self._session.motion.resume_survey)
        self.column.addWidget(self.resume)
        self.column.addWidget(self.ending)

    # Acting

    def act(self) -> None:
        """The one next step."""
        s = self._session
        if s.busy:
            return
        if s.link in (LinkState.NONE, LinkState.LOST):
            s.linking.again()
        else:
            s.motion.start_survey()

    def take_clearance(self) -> None:
        """Take the clearance that was typed, where one is asked for."""
        self.clearance_row.take()

    # Showing

    def _follow(self, *_: object) -> None:
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        """Follow the session."""
        s = self._session
        working = s.progress
        self.progress.setVisible(working is not None)
        self.ending.setVisible(working is not None or bool(s.motion.waits))
        self.ending.refresh()
        problem = s.problem if working is None else None
        self.notice.setVisible(problem is not None)
        if problem is not None:
            self.notice.tell(problem)
        if working is not None:
            self._show_progress(working)
        else:
            self._show_result()
        seen = self.first_layer() if working is None and problem is None else None
        self.readout.setVisible(seen is None)
        self.small.setVisible(seen is None and bool(self.small.text()))
        self.first.setVisible(seen is not None)
        if seen is not None:
            tell(self.head, "How thick will the first layer be?")
            self.first.show_sight(seen)
            self._show_budget(None)
        if (working is not None or problem is not None) and self.tabs.number:
            self.tabs.show_page(0)  # what is under way or went wrong comes first
        shown = s.shown if working is None else None
        said = shown.verdict if shown is not None and problem is None and seen is None else None
        self.verdict.setVisible(said is not None)
        if said is not None:
            tell(self.verdict, said.words)
            set_role(self.verdict, "rust" if said.attention else "")
        # The tabs ask the question already.
        self.head.setVisible(working is not None or seen is not None or shown is None)
        self.cures.show_survey(shown)
        self.trusted.refresh()
        self._show_actions()

    @property
    def way(self) -> str:
        """What is taken to be compensated."""
        return self.first.way

    def _way_chosen(self) -> None:
        self.refresh()
        self.way_chosen.emit()

    def _show_progress(self, p: Progress) -> None:
        tell(self.head, "Breaking off" if p.breaking_off else p.phase)
        done = len(p.touched)
        left_s = p.whole_left_s(self._session.state)
        left = "raising the nozzle" if done >= p.total else "the heaters tell no time yet"
        if done < p.total and left_s is not None:
            left = f"{duration(left_s)} left"
        self.progress.setValue(round(BAR * p.share(left_s)))
        if p.plan.most_points > len(p.plan.points):
            self._show_sureness(p, done)
        else:
            self.readout.tell(str(done), f"of {count_of(p.total, 'point')}", left)
        tell(
            self.small,
            f"Last touch {mm(p.touched[-1].z, signed=True)} mm. Each point is stored as it is "
            "touched."
            if p.touched
            else "",
        )
        self.small.setVisible(bool(p.touched))
        self._show_budget(None)
        self.incomplete.setVisible(False)

    def _show_sureness(self, p: Progress, done: int) -> None:
        """A survey until sure: how sure it is, and how much is left as a range."""
        if p.sure is None:
            self.readout.tell(str(done), "touches", f"of the first {len(p.plan.points)}")
            return
        least, most = p.sure.left
        each = max(p.left_s / max(len(p.plan.points) - done, 1), 2.0)
        time = duration(most * each).removeprefix("about ")
        left = f"{least} to {most} more, up to {time}" if most and not p.sure.ended else "enough"
        self.readout.tell(f"± {mm(p.sure.mm)}", "mm known", f"{done} touches; {left}")

    def _show_result(self) -> None:
        s = self._session
        tell(self.head, "How flat is it?")
        if s.shown is None:
            self.readout.tell("–", "mm flatness", "nothing surveyed yet")
            tell(
                self.small,
                "A survey touches the plate at each point and reads its height."
                if s.sheet is None or s.sheet.probe.there
                else "No probe: the nozzle stops over each place, a gauge in your hand finds the "
                "height there, and how well.",
            )
            self.incomplete.setVisible(False)
            self._show_budget(None)
            return
        head, survey, judgement = s.shown.head, s.shown.survey, s.shown.sight.judgement
        self.incomplete.setVisible(not survey.complete)
        tell(
            self.incomplete,
            f"Incomplete: {len(survey.points)} of {count_of(head.planned, 'point')}, "
            f"{head.why or 'as its file says'}.",
        )
        if judgement is None:
            self.readout.tell("–", "mm flatness", "too few points to say")
            tell(self.small, "")
            self._show_budget(None)
            return
        own = judgement.own
        verdict = "within" if judgement.within else "more than"
        against = f"{verdict} {mm(judgement.tolerance_mm, 2)}"
        if not survey.complete:
            against = "of the part surveyed"
        between = f"{mm(own.low)}–{mm(own.high)} (95 %), {against}"
        if own.flat:
            self.readout.tell(mm(own.high), "mm flat within", f"as far as can be seen, {against}")
        else:
            self.readout.tell(mm(own.value), "mm flat over the area", between)
        points = f"{mm(own.points.low)}–{mm(own.points.high)}"
        tell(self.small, f"At the touched points {mm(own.points.value)} ({points}).")
        # With something to put right first, what the shape is made of can wait.
        self._show_budget(judgement if s.problem is None else None)

    def _show_budget(self, judgement: Judgement | None) -> None:
        there = judgement is not None
        terms = judgement is not None and bool(judgement.shares)
        self._show_same(there)
        there = there and not (self.compare_first and self._session.back.compared is not None)
        for part in (self.budget_rule, self.budget_head):
            part.setVisible(there)
        terms = terms and there
        self.budget.setVisible(terms)
        if judgement is None:
            return
        tell(self.budget_head, "Parts, mm" if terms else "Too few points for a shape")
        if terms:
            self.budget.show_judgement(judgement)

    def _show_same(self, there: bool) -> None:
        s = self._session
        compared = s.back.compared
        told = there and compared is not None
        for part in (self.same_rule, self.same_head, self.same):
            part.setVisible(told)
        self.figures.setVisible(told and self.compare_first)
        if compared is not None and told:
            head, words, attention = in_short(compared, s.back.season)
            if self.compare_first:
                words, attention = compared_words(compared, s.back.season)
            tell(self.same_head, head)
            tell(self.same, words)
            found = compared.comparison
            tell(self.figures, "\n".join(figure_lines(found)) if found is not None else "")
            set_role(self.same, "rust" if attention else "")

    def _show_actions(self) -> None:
        s = self._session
        linked = s.link is LinkState.UP
        idle = not s.busy
        unsure = self.clearance_row.refresh()
        self.plan.setVisible(idle)
        self.primary.setVisible(idle)
        self.primary.setEnabled(not unsure and s.link is not LinkState.LINKING)
        plan = s.planned()
        if s.link is LinkState.LINKING:
            words = "Linking …"
        elif s.link is LinkState.LOST:
            words = "Link again  F5"
        elif s.link is LinkState.NONE:
            words = "Link to the printer  F5"
        elif plan is None:
            words = "Choose a printer first"
        else:
            target_c = s.state.plate.target_c if s.state is not None else None
            soak = 60 * soak_left(s.chosen, s.soak_min, target_c)
            time = duration(s.chosen.turns * (plan.estimate_s + soak))
            what = f"{len(plan.points)} points"
            if s.chosen.plate_c is not None and s.chosen.rounds != "cold_hot":
                what = f"at {s.chosen.plate_c:.0f} °C"
            words = f"{_often(s.chosen)}{what}, {time}  F5"
            if s.sheet is not None and not s.sheet.probe.there:
                words = f"By hand: {len(plan.points)} places, {time}  F5"
        show_act(self.primary, words, linked)
        heard(self.primary, words)
        rest = s.motion.resumable() if linked and idle and not unsure else None
        self.resume.setVisible(rest is not None)
        if rest is not None and s.shown is not None:
            left = len(rest.points) - len(s.shown.survey.points)
            self.resume.setText(f"Resume: {count_of(left, 'point')} left  F7")
        self.planned.setVisible(idle and linked and s.shown is None)
        tell(self.planned, plan_summary(s))
        self._move_focus(unsure)

    def _move_focus(self, unsure: bool) -> None:
        """The keyboard follows the one next step, never falls onto something else."""
        step = (
            self.ending.break_off
            if self._session.progress
            else self.clearance
            if unsure
            else self.primary
        )
        if not step.isEnabled():
            self._step = None
        if step is self._step or not step.isEnabled():
            return
        self._step = step
        # Whoever walks the plate or the season by keys goes on there; a clearance is asked for.
        walks = step is not self.clearance and isinstance(QApplication.focusWidget(), Field | Strip)
        if self.isVisible() and not walks:
            step.setFocus(Qt.FocusReason.OtherFocusReason)
            if step is self.clearance:
                self.clearance.selectAll()  # so that typing replaces the hint


def _often(chosen: SurveyPlan) -> str:
    """How the large button begins."""
    return {"twice": "Survey twice: ", "cold_hot": "Survey cold, then hot: "}.get(
        chosen.rounds, "Survey "
    )
