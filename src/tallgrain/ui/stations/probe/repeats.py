"""How well does the probe repeat? A series, its figures, and what follows from them."""

from PyQt6.QtWidgets import QCheckBox, QFormLayout, QVBoxLayout, QWidget

from tallgrain.core.probe.repeatability import (
    WIDEST_MM,
    Repeatability,
    compare_ways,
    repeatability_told,
    touches_worth,
)
from tallgrain.journal.printing import printing
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.figures import whole
from tallgrain.ui.widgets.parts import Readout, button, label, set_role, tell
from tallgrain.ui.widgets.words import count_of, micro


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
        self.touches = whole(3, 100, "Touches at each place", value=12)
        self.places = whole(1, 9, "Places")
        form.addRow("&Touches", self.touches)
        form.addRow("P&laces", self.places)
        self.retract = QCheckBox("Put it awa&y between touches")
        form.addRow("", self.retract)
        self.warm = QCheckBox("&Warm first")
        form.addRow("", self.warm)
        column.addLayout(form)
        self.words = label(wrap=True)
        column.addWidget(self.words)
        self.use = button("Use this scatter in the sheet")
        column.addWidget(self.use)
        column.addStretch(1)

    def primary(self) -> None:
        """Touch the series."""
        if self._session.ready:
            self._work.start_series(
                self.places.value(),
                self.touches.value(),
                self.retract.isChecked(),
                self.targets if self.warm.isChecked() else None,
            )

    @property
    def targets(self) -> tuple[float, float]:
        """What 'warm' means here: the plan's temperatures, no hotter than a nozzle may touch."""
        chosen, sheet = self._session.chosen, self._session.sheet
        prints = printing(self._session.journal)
        nozzle, plate = chosen.nozzle_c or prints.nozzle_c, chosen.plate_c or prints.plate_c
        return nozzle if sheet is None else sheet.probe.touches_at(nozzle), plate

    @property
    def newest(self) -> Repeatability | None:
        """The newest series' judgement."""
        return self._work.series[-1].found if self._work.series else None

    def refresh(self) -> None:
        """Follow the work."""
        found, sheet = self.newest, self._session.sheet
        busy = self._session.busy
        goes = sheet is not None and sheet.probe.goes_away
        self.retract.setVisible(goes)
        nozzle, plate = self.targets
        self.warm.setText(f"&Warm first: nozzle {nozzle:.0f} °C, plate {plate:.0f} °C")
        for box in (self.touches, self.places, self.retract, self.warm):
            box.setEnabled(not busy)
        self.use.setVisible(found is not None and not busy)
        if found is None:
            touch = self._session.learnt(sheet).touch if sheet is not None else None
            told = "assumed, from the printer's description" if touch is not None else ""
            if touch is not None and touch.seen:
                told = (
                    f"95 %: {micro(touch.low)} to {micro(touch.high)} µm, learnt from "
                    f"{count_of(touch.occasions, 'survey')}"
                )
            figure = micro(touch.s) if touch is not None else "–"
            self.readout.tell(figure, "µm repeatability (1 s)", told)
            tell(
                self.words,
                "Touch the same place again and again: the scatter is what no "
                "correction can go below.",
            )
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
        lines = [told.sentence for told in repeatability_told(found)]
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
        """The newest series of each way against the newest of all."""
        newest = {done.way: done for done in self._work.series}
        *others, last = sorted(newest.values(), key=self._work.series.index)
        lines = []
        for other in others:
            compared = compare_ways(last.found, other.found)
            if compared is None:
                continue
            if compared.real:
                told = "worse" if compared.ratio > 1 else "better"
                words = f"{told}, {compared.ratio:.1f} times the scatter"
            else:
                words = "no different beyond chance: it neither costs nor helps"
            lines.append(f"{last.way.capitalize()}, against {other.way}: {words}.")
        return lines
