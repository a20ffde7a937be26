"""The first layers of a season for the strip, worked out day by day beside the window's thread."""

from functools import partial

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.next_layer.knows import Coming, Ground
from tallgrain.next_layer.season import Stood, days, stood
from tallgrain.ui.session.layer_work import LayerWork
from tallgrain.ui.session.worker import Worker


class LayerSeason(QObject):
    """Each survey's day as it is known; `changed` says that one more is."""

    changed = pyqtSignal()

    def __init__(self, work: LayerWork) -> None:
        super().__init__(work)
        self._work = work
        self._of: object = None
        self._ground: Ground | None = None
        self._aim: Coming | None = None
        self._left: list[str] = []
        self.known: dict[str, Stood] = {}
        self.worker = Worker(self)
        self.worker.done.connect(self._done)
        self.worker.failed.connect(lambda name, error: self._next())
        work.changed.connect(self.follow)

    def close(self) -> None:
        """End the thread."""
        self._left = []
        self.blockSignals(True)
        self.worker.finish()

    def follow(self) -> None:
        """Begin with the days that are not known yet, while somebody looks."""
        g, aim = self._work.ground, self._work.coming
        if g is None or aim is None or not self._work.looked_at:
            return
        of = (g.sheet, aim.layer, aim.nozzle_c, aim.plate_c, aim.soak_min, aim.sheet)
        if of != self._of:
            self._of, self.known = of, {}
        self._ground, self._aim = g, aim
        self._left = [ident for ident, _ in days(g, aim.sheet) if ident not in self.known]
        if self.worker.resting:
            self._next()

    def _next(self) -> None:
        if self._left and self._ground is not None and self._aim is not None:
            ident = self._left.pop(0)
            work = partial(stood, self._ground, self._aim, ident)
            of = self._of
            self.worker.do("a day", lambda: (of, work()))

    def _done(self, _: str, told: object) -> None:
        assert isinstance(told, tuple)
        of, found = told
        if of == self._of and found is not None:
            self.known[found.ident] = found
            self.changed.emit()
        self._next()
