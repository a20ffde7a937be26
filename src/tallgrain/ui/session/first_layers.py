"""What the first layer would be, worked out beside the window's thread and kept."""

from dataclasses import replace
from functools import partial

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.first_layer import GAP_U_MM, FirstLayerSight, first_layer_sight
from tallgrain.core.survey import Survey
from tallgrain.journal.records import GapSolved
from tallgrain.ui.session.memo import same_sources
from tallgrain.ui.session.session import Session

NAME = "first layer"


Key = tuple[Survey, MachineSheet, str, float, bool]


class FirstLayers(QObject):
    """Answers for the survey that is shown; None while it is being worked out or can't be."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._asked: Key | None = None
        self._known: tuple[Key, FirstLayerSight | None] | None = None
        session.thinker.done.connect(self._done)
        session.thinker.failed.connect(lambda name, error: self._gave_up(name))

    @property
    def working(self) -> bool:
        """Whether an answer is on its way."""
        return self._asked is not None

    def seen(self, way: str) -> FirstLayerSight | None:
        """The first layer on what is shown, compensated in one of the ways."""
        s = self._session
        if s.shown is None or s.sheet is None or not s.shown.survey.complete:
            return None
        felt = s.journal.newest(GapSolved)
        gap_u = felt.figures.u if felt is not None else GAP_U_MM
        key = s.shown.survey, s.sheet, way, gap_u, felt is None
        if self._known is not None and same_sources(self._known[0], key):
            return self._known[1]
        if self._asked is None or not same_sources(self._asked, key):
            self._asked = key
            s.thinker.do(NAME, partial(self._work, key))
        return None

    def _gave_up(self, name: str) -> None:
        if name == NAME:
            self._asked = None

    def _work(self, key: Key) -> tuple[Key, FirstLayerSight | None]:
        survey, sheet, way, gap_u, assumed = key
        seen = first_layer_sight(survey, sheet, way, gap_u)
        return key, None if seen is None else replace(seen, gap_assumed=assumed)

    def _done(self, name: str, result: object) -> None:
        if name == NAME:
            assert isinstance(result, tuple)
            self._known = result
            if self._asked == result[0]:
                self._asked = None
            self.changed.emit()
