"""The first layer on the bench: how thick it may be, and how many points would have been enough."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.core.surface.first_layer import FirstLayerSight
from tallgrain.errors import InputError
from tallgrain.ui.widgets.figures import FigureBox
from tallgrain.ui.widgets.parts import Readout, label, put, rule, tell
from tallgrain.ui.widgets.words import duration, mm

WAYS = (
    ("survey", "with this survey compensated"), ("coarse", "as if only 3 × 3 had been touched"),
    ("none", "without compensation"),
)  # fmt: skip
MOST_OPTIONS = 6


class FirstLayerPanel(QWidget):
    """The audit's figure and the advice on density."""

    way_chosen = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.readout = Readout()
        self.ways = QComboBox()
        self.ways.setAccessibleName("What the printer compensates")
        for way, words in WAYS:
            self.ways.addItem(words, way)
        self.ways.activated.connect(lambda _: self.way_chosen.emit())
        self.verdict = label(role="safety", wrap=True)
        self.why = label(role="muted", wrap=True)
        self.advice = label(wrap=True)
        self.options = label(role="figure")
        self.full, self.gone = self._height(2.0), self._height(10.0)
        fading = QHBoxLayout()
        fading.addWidget(self.full, 1)
        fading.addWidget(self.gone, 1)
        self.full.setPrefix("whole to ")
        self.gone.setPrefix("gone at ")
        self.full.setAccessibleName("Compensation is whole up to this height")
        self.gone.setAccessibleName("Compensation is gone at this height")
        self.fades = label(role="muted", wrap=True)
        put(
            column,
            self.readout,
            self.ways,
            self.verdict,
            self.why,
            rule(),
            label("Were the points enough? The worst of fewer", "head"),
            self.advice,
            self.options,
        )
        column.addWidget(rule())
        column.addWidget(label("If the compensation fades out with height", "head"))
        column.addLayout(fading)
        column.addWidget(self.fades)
        self._seen: FirstLayerSight | None = None

    def _height(self, value: float) -> FigureBox:
        made = FigureBox()
        made.setRange(0.0, 500.0)
        made.setDecimals(1)
        made.setValue(value)
        made.setSuffix(" mm")
        made.setButtonSymbols(FigureBox.ButtonSymbols.NoButtons)
        made.valueChanged.connect(lambda _: self._tell_fading())
        return made

    def _tell_fading(self) -> None:
        if self._seen is None:
            return
        try:
            found = self._seen.fading(self.full.value(), self.gone.value())
        except InputError as error:
            tell(self.fades, str(error))
            return
        tell(
            self.fades,
            f"A part's top is off by {mm(found.error)} mm at most, a wall's height by "
            f"{100 * found.stretch:.1f} % on the way; layers below lean by "
            f"{1000 * found.slope:.2f} mm per m at most.",
        )

    @property
    def way(self) -> str:
        """What is taken to be compensated."""
        return str(self.ways.currentData())

    def show_sight(self, seen: FirstLayerSight) -> None:
        """Tell one audit."""
        assumed = seen.gap_assumed
        self._seen = seen
        self._tell_fading()
        audit, (low, high) = seen.audit, seen.limits
        self.readout.tell(
            mm(audit.least, 2),
            f"to {mm(audit.most, 2)} mm first layer{', gap assumed' if assumed else ''}",
            f"wanted {mm(low, 2)} to {mm(high, 2)} (k = 2)",
        )
        tell(self.verdict, _verdict(seen))
        felt = "assumed: the gap was never felt" if assumed else "felt"
        tell(
            self.why,
            f"In it: trip height ± {mm(2 * seen.gap_u, 3)} mm ({felt}), the heights' "
            "scatter, and what lies between the points.",
        )
        tell(self.advice, _advice(seen))
        lines = []
        for option in seen.advice.options[:MOST_OPTIONS] if seen.advice is not None else ():
            best = option is (seen.advice.recommended if seen.advice else None)
            lines.append(
                f"{option.columns} × {option.rows}: {mm(option.expected)} mm, "
                f"{duration(option.estimate_s)}{'  ← enough' if best else ''}"
            )
        tell(self.options, "\n".join(lines))


def _verdict(seen: FirstLayerSight) -> str:
    audit = seen.audit
    if audit.holds:
        return "Everywhere within what you want."
    parts = []
    if audit.thin:
        parts.append(f"too thin on {100 * audit.thin:.0f} % of what was surveyed")
    if audit.thick:
        parts.append(f"too thick on {100 * audit.thick:.0f} %")
    return f"May be {' and '.join(parts)}."


def _advice(seen: FirstLayerSight) -> str:
    if seen.advice is None or seen.coarse_misses is None:
        return "Too few points to thin: survey 7 × 7 or more once, then this says what is enough."
    best = seen.advice.recommended
    missed = f"A 3 × 3 would have missed {mm(seen.coarse_misses)} mm."
    if best is None:
        return f"{missed} No fewer points than these keep the layer within your limits."
    return f"{missed} {best.columns} × {best.rows} would have been enough."
