"""The Surface bench's other pages: what each cure would leave and why, and whether to trust it."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from tallgrain.core.surface.compare import Comparison
from tallgrain.core.surface.quality import marked
from tallgrain.ui.app import theme
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import Shown
from tallgrain.ui.widgets.compared_words import figure_lines
from tallgrain.ui.widgets.parts import Bar, button, label, put, rule, set_role, tell
from tallgrain.ui.widgets.words import count_of, mm

MOST_STEPS = 5


def _page() -> tuple[QWidget, QVBoxLayout]:
    made = QWidget()
    column = QVBoxLayout(made)
    column.setContentsMargins(0, 4, 0, 0)
    column.setSpacing(8)
    return made, column


class CuresPage(QWidget):
    """The verdict, its reasons, and what is left after each cure on top of those before."""

    def __init__(self) -> None:
        super().__init__()
        page, column = _page()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(page)
        self.words = label(role="safety", wrap=True)
        column.addWidget(self.words)
        column.addWidget(rule())
        column.addWidget(label("What each cure would leave", "head"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(0)
        grid.setColumnStretch(1, 1)
        self._rows = []
        for i in range(MOST_STEPS):
            name, bar, figure, why = label(), Bar(), label(role="figure"), label(role="muted")
            why.setWordWrap(True)
            grid.addWidget(name, 2 * i, 0)
            grid.addWidget(bar, 2 * i, 1)
            grid.addWidget(figure, 2 * i, 2, Qt.AlignmentFlag.AlignRight)
            grid.addWidget(why, 2 * i + 1, 0, 1, 3)
            self._rows.append((name, bar, figure, why))
        column.addLayout(grid)
        column.addWidget(
            label("Highest to lowest, each on top of the ones before.", "muted", wrap=True)
        )
        column.addWidget(rule())
        column.addWidget(label("Why", "head"))
        self.reasons = label(wrap=True)
        column.addWidget(self.reasons)
        column.addStretch(1)

    def show_survey(self, shown: Shown | None) -> None:
        """Tell of one survey."""
        verdict = shown.verdict if shown is not None else None
        left = shown.left if shown is not None else ()
        told = verdict.words if verdict else "Nothing can be said yet: survey the whole plate."
        tell(self.words, told)
        set_role(self.words, "safety-rust" if verdict and verdict.attention else "safety")
        tell(self.reasons, "\n\n".join(verdict.reasons) if verdict else "")
        largest = max((s.spread_mm or 0.0 for s in left), default=0.0) or 1.0
        for i, row in enumerate(self._rows):
            for part in row:
                part.setVisible(i < len(left))
            if i < len(left):
                name, bar, figure, why = row
                step = left[i]
                tell(name, step.after if i == 0 else f"after {step.after}")
                tell(figure, f"{mm(step.spread_mm)} mm" if step.spread_mm is not None else "–")
                tell(why, step.words)
                bar.show_share((step.spread_mm or 0.0) / largest, theme.GOLD)
                bar.setAccessibleName(f"{step.after}: {mm(step.spread_mm)} mm")


class TrustPage(QWidget):
    """What the touches say of themselves, and what surveying twice said."""

    twice_wanted = pyqtSignal()
    pair_wanted = pyqtSignal()
    drift_wanted = pyqtSignal(bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        page, column = _page()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(page)
        self.touches = label(wrap=True)
        self.drift = label(wrap=True)
        self.out = button("", tip="The touches themselves stay as they were measured")
        self.out.clicked.connect(lambda: self.drift_wanted.emit(not self._is_out()))
        self.twice_head = label("Can the shape be trusted?", "head")
        self.twice = label(wrap=True)
        self.again = button(
            "Survey &twice and compare", tip="Two surveys, each with a reference of its own"
        )
        self.again.clicked.connect(self.twice_wanted)
        self.heat_head = label("What does the heat do?", "head")
        self.heat = label(wrap=True)
        self.pair = button(
            "Survey &cold, then hot", tip="Heaters off, cool, survey, heat, soak, survey"
        )
        self.pair.clicked.connect(self.pair_wanted)
        put(
            column,
            label("The touches", "head"),
            self.touches,
            self.drift,
            self.out,
            rule(),
            self.twice_head,
            self.twice,
            self.again,
            rule(),
            self.heat_head,
            self.heat,
            self.pair,
        )
        column.addStretch(1)

    def _is_out(self) -> bool:
        shown = self._session.shown
        return shown is not None and bool(shown.survey.drift_rate_mm)

    def refresh(self) -> None:
        """Follow the session."""
        shown, s = self._session.shown, self._session
        tell(self.touches, touched_words(shown))
        tell(self.drift, drift_words(shown))
        there = shown is not None and shown.drift is not None
        self.drift.setVisible(there)
        real = shown is not None and shown.drift is not None and shown.drift.real
        self.out.setVisible(there and (real or self._is_out()))
        tell_button = "Put the drift back" if self._is_out() else "Take the drift out"
        if self.out.text() != tell_button:
            self.out.setText(tell_button)
        for part in (self.again, self.pair):
            part.setEnabled(s.ready)
        compared = s.back.compared
        name, found = None, None
        if shown is not None and compared is not None and shown.partner == compared.a.ident:
            name, found = shown.survey.extra["pair"]["as"], compared.comparison
        twice = twice_words(found) if name == "again" and found is not None else ""
        tell(
            self.twice,
            twice
            or "Two surveys in a row show how far a new reference, a shifted "
            "sheet or a loose mount moves what is measured.",
        )
        heat = heat_words(found) if name == "hot" and found is not None else ""
        tell(
            self.heat,
            heat or "A cold and a hot survey as a pair show how the plate bends as it warms.",
        )


def touched_words(shown: Shown | None) -> str:
    """How the survey that is shown was touched, and what was left out."""
    if shown is None:
        return "Nothing surveyed yet."
    points = shown.survey.points
    most = max((len(p.touches) for p in points), default=0)
    if not most:
        return "From a file without touches: its heights are taken as they are."
    own = shown.sight.judgement.own if shown.sight.judgement else None
    touches = sum(len(p.touches) for p in points)
    words = f"{count_of(len(points), 'point')}, {count_of(touches, 'touch', 'touches')}"
    if own is not None:
        origin = "measured here" if own.seen else "by these heights and the printer's description"
        words += f"; one touch scatters by {own.s_r * 1000:.1f} µm ({origin})"
    out = marked(shown.survey)
    if out:
        words += (
            f". At {count_of(len(out), 'point')} a touch was left out (ringed): it lay further "
            "from the others than two touches may."
        )
    else:
        words += ". None was left out."
    judged = shown.sight.judgement
    if judged is not None:
        flat = mm(judged.flatness.fltt)
        words += f" As measured {flat} mm from flat, minimum zone {mm(judged.zone_mm)} mm."
    return f"{words} {_told(shown, 'wild_points', 'one_decides', 'rougher')}".rstrip()


def _told(shown: Shown, *codes: str) -> str:
    """What is told of a survey's flatness under these codes; nothing where it is not."""
    judged = shown.sight.judgement
    about = judged.own.told if judged is not None else ()
    return " ".join(one.sentence for one in about if one.code in codes)


def drift_words(shown: Shown | None) -> str:
    """What the first point says of the series."""
    if shown is None:
        return ""
    if shown.drift is None:
        return ""
    drift = shown.drift
    where = "higher" if drift.mm > 0 else "lower"
    told = f"{mm(abs(drift.mm))} mm {where} ± {mm(2 * drift.u_mm)} (k = 2)"
    if shown.survey.drift_rate_mm:
        return f"From first to last the series drifted {told}: taken out."
    if seen := _told(shown, "crept", "slipped"):
        return seen
    if drift.real:
        return f"From first to last the series drifted {told}. It is in the heights."
    return f"Places that were touched again drifted by {told}: nothing beyond the noise."


def twice_words(found: Comparison) -> str:
    """Whether a shape that was surveyed twice can be trusted."""
    if found.verdict == "same":
        return (
            f"It can be trusted: surveyed twice, the shape differs by {mm(found.shape_rms_mm)} mm "
            f"RMS, no more than the noise ({mm(found.noise_rms_mm)})."
        )
    if found.verdict == "moved":
        return (
            f"The shape can be trusted, the height less: a new reference moved it by "
            f"{mm(abs(found.offset_mm))} mm."
        )
    return (
        f"It can't be trusted yet: between two surveys in a row the shape changed by "
        f"{mm(found.shape_pv_mm)} mm. Look at the probe's mount, the sheet and the soak."
    )


def heat_words(found: Comparison) -> str:
    """What warming does to the plate: hot less cold."""
    lines = [
        f"From cold to hot the shape changes by {mm(found.shape_pv_mm)} mm "
        f"({mm(found.shape_rms_mm)} RMS); its map is the layer Difference."
    ]
    if "changed_shape" not in found.verdict:
        lines = ["From cold to hot the shape stays, within the noise."]
    return "\n".join([*lines, *figure_lines(found)[:2]])
