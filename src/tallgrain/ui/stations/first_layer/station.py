"""The First layer station: the figure that all others are for, and the next two minutes."""

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.core.layer.acts import Weighed
from tallgrain.core.layer.layer import Part, span_words
from tallgrain.ui.app import theme
from tallgrain.ui.painting.first_layer import LayerPicture, paint_first_layer
from tallgrain.ui.painting.pens import text
from tallgrain.ui.session.timers import follow
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.first_layer.rows import ActRow, CauseRow
from tallgrain.ui.widgets.bench import beside_the_bench
from tallgrain.ui.widgets.figures import amount, whole
from tallgrain.ui.widgets.parts import Readout, label, set_role, tell
from tallgrain.ui.widgets.picture import StationPicture

CAUSES, ACTS = 4, 3
LOW_PX = 600


class FirstLayerStation(Station):
    """The plate by its chance of leaving the limits; causes and acts on the bench."""

    name = "First layer"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared.session)
        self._visit: Callable[..., None] = shared.visit
        self.work = shared.layer
        self.picture = StationPicture(self._paint)
        self.picture.setAccessibleName("Field: where the next first layer may leave the limits")
        self.widget, self.subject = beside_the_bench(self.name, self.picture, self._bench())
        self._season = shared.layer_season
        follow(self.refresh, self.work.changed, self._session.changed)

    def _bench(self) -> QWidget:
        bench = self.begin_bench()
        self.readout = Readout()
        self.words = label(wrap=True)
        self.came = label(role="muted", wrap=True)
        self.made_of = label("What it is made of", "head")
        self.causes = [CauseRow() for _ in range(CAUSES)]
        self.rest = label(role="muted")
        self.next = label("What next", "head")
        self.acts = [ActRow(k + 1) for k in range(ACTS)]
        for row in self.causes:
            row.clicked.connect(lambda _=False, r=row: self._open(r))
        for act in self.acts:
            act.clicked.connect(lambda _=False, a=act: self._begin(a.weighed))
        column = bench.scrolled(self._aim())
        column.setSpacing(4)
        bench.clearance.hide()  # nothing moves from here
        for part in (
            self.readout, self.words, self.came, self.made_of, *self.causes, self.rest, self.next,
            *self.acts,
        ):  # fmt: skip
            column.addWidget(part)
        column.addStretch(1)
        return bench

    def _aim(self) -> QWidget:
        """The coming print's layer and heat, and the sheet that it lies on."""
        aim, row = QWidget(), QHBoxLayout()
        column = QVBoxLayout(aim)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.layer_mm = amount(0.05, 1.0, "First layer as sliced", suffix=" mm", step=0.02)
        self.nozzle_c = whole(0, 400, "Nozzle as it prints", suffix=" °C")
        self.plate_c = whole(0, 150, "Plate as it prints", suffix=" °C")
        for box in (self.layer_mm, self.nozzle_c, self.plate_c):
            box.setToolTip(box.accessibleName())
            box.setKeyboardTracking(False)
            box.valueChanged.connect(self._chosen)
            row.addWidget(box, 1)
        self.sheet = QComboBox()
        self.sheet.setAccessibleName("Sheet on the plate")
        self.sheet.setToolTip("Sheet on the plate")
        self.sheet.activated.connect(lambda _: self._session.put_sheet_on(self.sheet.currentData()))
        column.addWidget(self.sheet)
        column.addLayout(row)
        return aim

    # Doing

    def primary(self) -> None:
        """F5: to the station of the act that is worth most, which has it on its own F5."""
        self.step()

    def step(self) -> None:
        """As primary: nothing here needs a link."""
        advice = self.work.advice
        if advice is not None and advice.best is not None:
            self._begin(advice.best)
        elif advice is not None and advice.enough and self.work.before_print:
            self._visit(self.work.before_print[0][1])

    def _begin(self, weighed: Weighed | None) -> None:
        if weighed is not None:
            self.work.begin(weighed)
            self._visit(weighed.act.station, weighed.act.code)

    def _open(self, row: CauseRow) -> None:
        if row.part is not None:
            self._visit(row.part.opens)

    def _chosen(self) -> None:
        self.work.choose(self.layer_mm.value(), self.nozzle_c.value(), self.plate_c.value())

    # Showing

    def refresh(self) -> None:
        """Follow what is known."""
        s, work = self._session, self.work
        seen = self.widget.isVisible()
        if seen != work.looked_at:
            work.looked_at = seen
            work.follow()
        if s.sheet is None or not seen:
            return
        self.notice.follow(s, takes_looks=False)
        self._follow_aim()
        advice = work.advice
        for widget in (self.made_of, self.rest, self.next, *self.causes, *self.acts):
            widget.setVisible(advice is not None)
        tell(self.came, work.came)
        self.came.setVisible(bool(work.came))
        low, high = s.sheet.tolerance.first_layer_mm
        if advice is None:
            self.readout.tell("–", "mm", f"limits {low:.2f}–{high:.2f}")
            busy = "Working it out …" if work.error is None else str(work.error)
            tell(self.words, busy)
            self.act.setVisible(False)
            self.picture.update()
            return
        layer = advice.layer
        figure = span_words(layer.low, layer.high)
        self.readout.tell(figure, "mm, 95 % sure", f"limits {low:.2f}–{high:.2f}")
        tell(self.words, work.sentence)
        set_role(self.words, "" if advice.enough and not work.before_print else "rust")
        for row, part in zip(self.causes, layer.parts, strict=False):
            row.show_part(part, layer.parts[0].mm)
        for row in self.causes[len(layer.parts) :]:
            row.setVisible(False)
        # In a low window fewer are told, so that none is out of sight.
        low_window = self.widget.height() < theme.px(LOW_PX)
        causes, acts = (CAUSES - 1, ACTS - 1) if low_window else (CAUSES, ACTS)
        for row in self.causes[causes:]:
            row.setVisible(False)
        smaller = len(layer.parts) - causes
        tell(
            self.rest, f"and {smaller} smaller, together ± {_together(layer.parts[causes:]):.3f} mm"
        )
        self.rest.setVisible(smaller > 0)
        shown = () if advice.enough else advice.acts[:acts]
        self.next.setVisible(bool(shown))
        for k, act in enumerate(self.acts):
            act.setVisible(k < len(shown))
            if k < len(shown):
                act.show_act(shown[k])
        best = advice.best
        self.act.setVisible(best is not None)
        if best is not None:
            self.act.setText(f"{best.act.station}: {best.act.words.split(',')[0].lower()}  F5")
        elif advice.enough and work.before_print:
            words, station = work.before_print[0]
            self.act.setVisible(True)
            self.act.setText(f"{station}: {words.partition(' (')[0]}  F5")
        tell(self.subject, self._subject())
        self.picture.update()

    def _follow_aim(self) -> None:
        aim = self.work.coming
        if aim is None:
            return
        for box, value in (
            (self.layer_mm, aim.layer),
            (self.nozzle_c, round(aim.nozzle_c)),
            (self.plate_c, round(aim.plate_c)),
        ):
            if not box.hasFocus() and box.value() != value:
                box.blockSignals(True)
                box.setValue(value)
                box.blockSignals(False)
        sheet = self._session.sheet
        names = [one.name for one in sheet.sheets] if sheet is not None else []
        self.sheet.setVisible(bool(names))
        if [self.sheet.itemData(k) for k in range(self.sheet.count())] != [*names, None]:
            self.sheet.clear()
            for name in (*names, None):
                self.sheet.addItem(f"on the {name} sheet" if name else "on no sheet", name)
        self.sheet.setCurrentIndex(max(self.sheet.findData(aim.sheet), 0))

    def _subject(self) -> str:
        aim, sheet = self.work.coming, self._session.sheet
        assert aim is not None and sheet is not None
        on = f"{aim.sheet} sheet, " if aim.sheet else ""
        where = "of the print that is open" if aim.box is not None else "over all that was surveyed"
        return (
            f"{sheet.name}: {where}, {aim.layer:.2f} mm, {on}{aim.nozzle_c:.0f} / "
            f"{aim.plate_c:.0f} °C"
        )

    def _paint(self, painter: QPainter, rect: QRectF) -> None:
        sheet, advice = self._session.sheet, self.work.advice
        if sheet is None:
            return
        if advice is None:
            words = "Working it out …" if self.work.error is None else "Nothing to draw yet"
            text(painter, rect.center(), words, pixels=14, colour=theme.MUTED)
            return
        aim = self.work.coming
        box = aim.box if aim is not None else None
        paint_first_layer(painter, rect, LayerPicture(advice.layer, sheet, box))


def _together(parts: Sequence[Part]) -> float:
    return float(sum(part.mm**2 for part in parts) ** 0.5)
