"""How well does the probe repeat? A series, its figures, and what follows from them."""

from PyQt6.QtWidgets import QCheckBox, QFormLayout, QSpinBox, QVBoxLayout, QWidget

from tallgrain.core.probe.repeatability import (
    WIDEST_MM,
    Repeatability,
    compare_ways,
    touches_worth,
)
from tallgrain.ui.probe_work import ProbeWork
from tallgrain.ui.session import Session
from tallgrain.ui.widgets import Readout, button, label, set_role, tell
from tallgrain.ui.words import count_of


def micro(mm: float) -> str:
    """Micrometres with one decimal."""
    return f"{mm * 1000:.1f}".replace("-", "−")


class RepeatsPage(QWidget):
    """What to touch above, what it says below."""

    def __init__(self, session: Session, work: ProbeWork) -> None:
        super().__init__()
        self._session, self._work = session, work
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.readout = Readout()
        column.addWidget(self.readout)
        form = QFormLayout()
        self.touches, self.places = QSpinBox(), QSpinBox()
        self.touches.setRange(3, 100)
        self.touches.setValue(12)
        self.places.setRange(1, 9)
        self.touches.setAccessibleName("Touches at each place")
        self.places.setAccessibleName("Places")
        form.addRow("&Touches", self.touches)
        form.addRow("P&laces", self.places)
        self.retract = QCheckBox("&Put it away between touches")
        form.addRow("", self.retract)
        column.addLayout(form)
        self.words = label(wrap=True)
        column.addWidget(self.words)
        self.use = button("Use this scatter in the sheet")
        self.break_off = button("Break off  F8", tip="Finish this touch, raise, stop")
        self.break_off.clicked.connect(session.break_off)
        column.addWidget(self.use)
        column.addWidget(self.break_off)
        column.addStretch(1)

    def primary(self) -> None:
        """Touch the series."""
        if self._session.ready:
            self._work.start_series(
                self.places.value(), self.touches.value(), self.retract.isChecked()
            )

    @property
    def newest(self) -> Repeatability | None:
        """The newest series' judgement."""
        return self._work.series[-1][1] if self._work.series else None

    def refresh(self) -> None:
        """Follow the work."""
        found, sheet = self.newest, self._session.sheet
        busy = self._session.busy
        goes = sheet is not None and sheet.probe.goes_away
        self.retract.setVisible(goes)
        self.break_off.setVisible(busy)
        for box in (self.touches, self.places, self.retract):
            box.setEnabled(not busy)
        self.use.setVisible(found is not None and not busy)
        if found is None:
            s_r = sheet.probe.repeatability.s_r if sheet else 0.0
            told = "from the sheet" if sheet else ""
            self.readout.tell(micro(s_r) if sheet else "–", "µm repeatability (1 s)", told)
            tell(self.words, "Touch the same place again and again: the scatter is what no "
                 "correction can go below.")  # fmt: skip
            return
        self.readout.tell(
            micro(found.s_r),
            "µm repeatability (1 s)",
            f"95 %: {micro(found.low)} to {micro(found.high)} µm",
        )
        tell(self.words, "\n".join(self._sentences(found)))
        set_role(self.words, "rust" if found.spread > WIDEST_MM else "")

    def _sentences(self, found: Repeatability) -> list[str]:
        sheet = self._session.sheet
        lines = []
        if found.spread > WIDEST_MM:
            lines.append(
                f"The touches spread over {found.spread:.2f} mm: this is no measurement. Look at "
                "the probe, its mount and its cable before anything else."
            )
        lines.append(f"Two touches differ by less than {micro(found.limit)} µm in 95 of 100 cases.")
        if found.drifts:
            way = "nearer" if found.drift > 0 else "further"
            lines.append(
                f"Within a series it drifts {micro(abs(found.drift))} µm {way}: "
                "it warms or settles."
            )
        if found.between_matters:
            lines.append(
                f"Places differ by {micro(found.between)} µm beyond the scatter: that is the plate."
            )
        if found.outliers:
            lines.append(
                f"{count_of(len(found.outliers), 'touch', 'touches')} left out as outliers."
            )
        lines += self._ways()
        if sheet is not None:
            between = sheet.probe.repeatability.s_between
            worth, u = touches_worth(found.s_r, between, sheet.tolerance.flatness_mm)
            lines.append(
                f"{count_of(worth, 'touch', 'touches')} a point "
                f"{'is' if worth == 1 else 'are'} worth the time: a height is then good to "
                f"± {micro(2 * u[worth - 1])} µm (k = 2), a new reference included."
            )
        return lines

    def _ways(self) -> list[str]:
        """Retracting against staying out, from the newest series of each."""
        ways = dict(self._work.series)
        if len(ways) < 2:
            return []
        compared = compare_ways(ways[True], ways[False])
        if compared is None:
            return []
        if not compared.real:
            return ["Putting it away between touches neither costs nor helps: leave it out."]
        told = "worse" if compared.ratio > 1 else "better"
        return [
            f"Putting it away between touches makes it {told}: the scatter is "
            f"{compared.ratio:.1f} times as large."
        ]
