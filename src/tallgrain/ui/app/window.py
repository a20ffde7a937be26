"""The window: header, route, station, and the keys that work from anywhere."""

from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Generic, TypeVar, cast

from PyQt6.QtCore import QEvent, QObject, QSize, Qt, QTimer
from PyQt6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QResizeEvent,
    QUndoStack,
    QWheelEvent,
)
from PyQt6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QMainWindow,
    QStackedWidget,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from tallgrain.errors import TallGrainError
from tallgrain.link.connect import is_by_hand
from tallgrain.paths import data_home
from tallgrain.store.entries import MachineEvent
from tallgrain.ui.app import theme
from tallgrain.ui.app.closing import may_close
from tallgrain.ui.app.door import Door
from tallgrain.ui.app.dress import window_settings
from tallgrain.ui.app.growing import Growing
from tallgrain.ui.app.leading import Leading
from tallgrain.ui.app.menus import Menus
from tallgrain.ui.app.needless import NeedlessCard
from tallgrain.ui.app.recent import PRINTERS, of_printer, recent, remember
from tallgrain.ui.app.tips import CONTROLS, describe, tip_of
from tallgrain.ui.app.tones import Tones
from tallgrain.ui.app.wheel import Wheel
from tallgrain.ui.session.drafts import Drafts
from tallgrain.ui.session.edits import NoteEvent, PutAwayEdit
from tallgrain.ui.session.notices import Notices
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.values_work import ValuesWork
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.rooms import SUMMIT, Rooms
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.feeling import FeelStrip
from tallgrain.ui.widgets.header import Header
from tallgrain.ui.widgets.help_page import HelpPage
from tallgrain.ui.widgets.route import Route
from tallgrain.ui.widgets.strip import Strip

if TYPE_CHECKING:
    from tallgrain.ui.app.asking import Asking
    from tallgrain.ui.app.filing import Filing
    from tallgrain.ui.demo.hands import Hands
    from tallgrain.ui.stations.adjusters.station import AdjustersStation
    from tallgrain.ui.stations.drift.station import DriftStation
    from tallgrain.ui.stations.first_layer.station import FirstLayerStation
    from tallgrain.ui.stations.gap.station import GapStation
    from tallgrain.ui.stations.handover.station import HandoverStation
    from tallgrain.ui.stations.machine.station import MachineStation
    from tallgrain.ui.stations.probe.station import ProbeStation
    from tallgrain.ui.stations.skew.station import SkewStation
    from tallgrain.ui.stations.surface.station import SurfaceStation
    from tallgrain.ui.stations.tilt.station import TiltStation
    from tallgrain.ui.stations.towers.station import TowersStation

# A window lower than this is short (px).
SHORT_PX, LOW_PX = 1300, 760
# As small as it may be where the screen has room (px).
LEAST = 1024, 700

S = TypeVar("S", bound=Station)
# Events that are looked at wherever they go: clicks and the wheel over boxes, what is about to be
# shown, tips, keys.
# Of these classes; asking an event for its type costs more than all that follows.
CLASSES = frozenset((QEvent, QHelpEvent, QKeyEvent, QMouseEvent, QWheelEvent))
WATCHED = frozenset((
    QEvent.Type.MouseButtonPress, QEvent.Type.Wheel, QEvent.Type.Polish, QEvent.Type.ToolTip,
    QEvent.Type.KeyPress, QEvent.Type.ShortcutOverride,
))  # fmt: skip


class Opened(Generic[S]):
    """A station by its name, opened by whoever asks for it first."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __get__(self, window: "Window", owner: object) -> S:
        return cast(S, window.open(self._name))


class Window(QMainWindow):
    """Tall Grain's window."""

    layer: "Opened[FirstLayerStation]" = Opened("First layer")
    machine: "Opened[MachineStation]" = Opened("Machine")
    probe: "Opened[ProbeStation]" = Opened("Probe")
    tilt: "Opened[TiltStation]" = Opened("Tilt")
    adjusters: "Opened[AdjustersStation]" = Opened("Adjusters")
    towers: "Opened[TowersStation]" = Opened("Towers")
    surface: "Opened[SurfaceStation]" = Opened("Surface")
    gap: "Opened[GapStation]" = Opened("Gap")
    skew: "Opened[SkewStation]" = Opened("Skew")
    handover: "Opened[HandoverStation]" = Opened("Handover")
    drift: "Opened[DriftStation]" = Opened("Drift")

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._leaving, self._noted = False, ""
        self.hands: Hands | None = None
        self.setWindowTitle("Tall Grain")
        self._bound()
        self.growing = Growing(self)
        self.edits = QUndoStack(self)
        self.drafts = Drafts(session, self.edits)
        checks = ProbeWork(session)
        self.values = ValuesWork(session, checks, data_home() / "backups")
        shared = Shared(session, self.drafts, checks, self.values, self.visit, self.take_event)
        self.shared, self.rooms = shared, Rooms(shared)
        self._build()
        self.growing.grown.connect(self.fold)
        self.menus = Menus(self)
        self.station: Station = self.surface
        self.visit("Surface")
        self.surface.bench.primary.setFocus()
        session.changed.connect(self.refresh)
        session.refused.connect(self.tell)
        session.failed.connect(lambda *told: self.asking.network(*told))
        session.unreadable.connect(lambda *told: self.asking.name(*told))
        session.address_wanted.connect(lambda: self.asking.link())
        session.printer_changed.connect(self._recall_address)
        session.many_acts.connect(lambda *told: self.asking.table_first(*told))
        session.printer_changed.connect(self.refresh_printers)
        self.drafts.changed.connect(self.refresh)
        session.back.changed.connect(self.refresh)
        self.tones = Tones(data_home() / "tones")
        session.touched.connect(lambda: self.tones.play("touch"))
        self.notices = Notices(session, self, self.isActiveWindow)
        session.ended.connect(self._sound)
        self.setAcceptDrops(True)
        app = QApplication.instance()
        assert app is not None
        self.wheel = Wheel()
        app.installEventFilter(self)
        self._remembered()
        self.refresh_printers()

    # What is asked and filed is loaded when it is first wanted, not before the first view.

    @cached_property
    def files(self) -> "Filing":
        """Files in and out."""
        from tallgrain.ui.app.filing import Filing

        return Filing(self)

    @cached_property
    def asking(self) -> "Asking":
        """What is said and asked in boxes."""
        from tallgrain.ui.app.asking import Asking

        return Asking(self)

    def _build(self) -> None:
        self.header = Header(self.session)
        self.header.stop.connect(self.session.motion.halt)
        self.header.printer_chosen.connect(self.session.choose_printer)
        self.header.new_wanted.connect(self.new_printer)
        self.route = Route(list(self.rooms), SUMMIT)
        self.route.chosen.connect(lambda name: self.visit(name))
        self.stack = QStackedWidget()
        self.door = Door(self.new_printer, self.bring_heights)
        self.stack.addWidget(self.door)
        self.needless = NeedlessCard(lambda name: self.visit(name))
        self.stack.addWidget(self.needless)
        self.strip = Strip(self.session.back)
        self.strip.show_wanted.connect(self.session.show_stored)
        self.shared.layer_season.changed.connect(self.strip.refresh)
        self.strip.event_wanted.connect(lambda *_: self.asking.event())
        beside = QVBoxLayout()
        beside.setSpacing(0)
        beside.addWidget(self.stack, 1)
        below = QVBoxLayout()
        below.setContentsMargins(14, 0, 14, 10)
        self.leading = Leading(self)
        self.evening = self.leading.strip
        below.addWidget(self.strip)
        below.addWidget(self.evening)
        self.feel = FeelStrip(self.session.feeling)
        self.session.feeling.changed.connect(self.leading.follow)
        below.addWidget(self.feel)
        beside.addLayout(below)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.route)
        middle.addLayout(beside, 1)
        whole = QVBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self.header)
        describe(self.header)
        whole.addLayout(middle, 1)
        central = QWidget()
        central.setLayout(whole)
        self.setCentralWidget(central)
        self.help = HelpPage()
        self.addDockWidget(Qt.DockWidgetArea.RightDockWidgetArea, self.help)
        self.help.visibilityChanged.connect(lambda _: self._show_help())

    # Stations

    def complete(self) -> None:
        """Make every station's room, so that the whole route tells how it stands."""
        rooms = list(self.rooms.values())
        self.shared.drift.changed.connect(self.refresh)
        self.shared.layer.changed.connect(self.refresh)
        assert len(rooms) == len(self.rooms)
        self.refresh()

    def open(self, name: str) -> Station:
        """A station's page, built now where it was not yet."""
        room = self.rooms[name]
        built = room.is_open
        station = room.station
        if not built:
            self.stack.addWidget(station.widget)
            describe(station.widget)
        return station

    def visit(self, name: str, act: str = "") -> None:
        """Show a station; there the page for an act."""
        self.station = self.open(name)
        if act:
            self.station.show_for(act)
        self._place()
        self.route.choose(name)
        self.station.refresh()
        self.strip.tell_story(self.rooms[name].story)
        self.menus.follow()
        self._show_help()

    def _place(self) -> None:
        """The station's page, or why the printer has no use for it; in an empty home the door,
        until a printer is being described."""
        if self.session.sheet is None and not self.describing:
            self.stack.setCurrentWidget(self.door)
            self.door.setFocus()
            return
        why = self.rooms[self.station.name].needless
        if why is not None:
            self.needless.tell(self.station.name, why)
        wanted = self.station.widget if why is None else self.needless
        if self.stack.currentWidget() is not wanted:
            self.stack.setCurrentWidget(wanted)

    @property
    def describing(self) -> bool:
        """Whether a printer is being described on the page that is shown."""
        return self.station.name == "Machine" and self.machine.is_describing

    def toggle_help(self) -> None:
        """The station's own help, beside the work; again, away with it."""
        there = self.help.isVisible()
        self.help.setVisible(not there)
        if not there:
            self.help.beside(self)
            self.help.activateWindow()
            self._show_help()
            self.help.search.setFocus()

    def _show_help(self) -> None:
        if self.help.isVisible():
            room = self.rooms[self.station.name]
            self.help.show_station(room.kernel(), room.steps())

    def primary(self) -> None:
        """The one next step of the station that is shown; at the door, a printer of one's own."""
        if self.stack.currentWidget() is self.door:
            self.new_printer()
        elif self.stack.currentWidget() is self.needless:
            self.needless.step()
        else:
            self.station.primary()

    def secondary(self) -> None:
        """Break off what runs."""
        self.station.secondary()

    def plan(self) -> None:
        """Plan the next survey's points."""
        self.visit("Surface")
        self.surface.open_plan()

    def survey_pair(self, rounds: str) -> None:
        """Two surveys that are compared."""
        self.visit("Surface")
        self.surface.survey_pair(rounds)

    def take_clearance(self, take: Callable[[ClearanceRow], None]) -> None:
        """What was typed at the station that is shown."""
        for row in self.station.clearance_rows:
            if row.isVisible():
                take(row)

    def add_hands(self, where: Callable[[], str]) -> None:
        """The demo's Hands menu: what a person would do at the printer."""
        from tallgrain.ui.demo.at_the_bench import hands_menu

        self.hands = hands_menu(self, where)

    # Following the session

    def refresh(self) -> None:
        """Follow the session."""
        s = self.session
        self._note_address()
        self.strip.tolerance = s.sheet.tolerance.flatness_mm if s.sheet else None
        self.route.show_kernels([room.kernel() for room in self.rooms.made])
        self.leading.follow()
        self.menus.follow()
        self._show_help()
        if self.stack.currentWidget() is not self.door:
            self._place()

    def _recall_address(self) -> None:
        s = self.session
        if s.sheet is not None:
            remember(PRINTERS, s.sheet.name)
            s.url = s.url or next(iter(recent(of_printer(s.sheet.name))), "")

    def _note_address(self) -> None:
        s = self.session
        known = s.link is LinkState.UP and not s.standin
        if known and s.sheet is not None and s.url != self._noted:
            self._noted = s.url
            remember(of_printer(s.sheet.name), s.url)

    def refresh_printers(self) -> None:
        """Show the printers of the ledger."""
        names = [name for name, _ in self.session.ledger.machines()]
        for name in names:
            if self.session.sheet is None:
                self.session.choose_printer(name)
        chosen = self.session.sheet.name if self.session.sheet else ""
        self.header.set_printers(names, chosen)
        self.header.refresh()
        self.refresh()
        if not names:
            self._place()
        elif self.stack.currentWidget() is self.door:
            self.visit(self.station.name)

    def new_printer(self) -> None:
        """Describe another printer."""
        if not self.session.busy:
            self._describe()

    def bring_heights(self) -> None:
        """Heights that a printer gave, of one that is not described yet: its plate is enough."""
        self._describe(self._bring)

    def _describe(self, then: Callable[[], None] | None = None) -> None:
        self.machine.describe_new(then)
        self.visit("Machine")
        self.machine.describing.name.setFocus()

    def _bring(self) -> None:
        self.visit("Surface")
        clipboard = QApplication.clipboard()
        text = clipboard.text() if clipboard is not None else ""
        if any(c.isdigit() for c in text):
            self.files.paste()
        else:
            self.files.open_file()

    def toggle_tones(self) -> None:
        """Tones on or off."""
        self.tones.on = not self.tones.on

    def _sound(self, how: str) -> None:
        tone = {"complete": "turn", "broken_off": "turn", "halted": "stopped"}.get(how, "fault")
        self.tones.play(tone)

    # What a person decides

    def teach_console(self) -> None:
        """Teach the language of a printer that only has a text console."""
        from tallgrain.ui.dialogs.teaching import TeachingDialog

        if not self.session.busy:
            self.teaching = TeachingDialog(self)
            self.teaching.show()

    def copy_shown(self) -> None:
        """The drawing that is shown to the clipboard, and as text the table that has the keyboard,
        or the points with units."""
        from tallgrain.ui.app.copying import copy, text_of

        focus = QApplication.focusWidget()
        copy(self.station.widget, text_of(focus) or self.surface.table())

    def print_page(self) -> None:
        """The drawing that is shown, by the system's dialog."""
        from tallgrain.ui.app.copying import print_drawing

        sheet = self.session.sheet
        if sheet is not None:
            print_drawing(self.station.widget, f"{sheet.name}, {self.station.name}")

    def put_away_shown(self) -> None:
        """The survey that is shown was made or read by mistake."""
        shown = self.session.shown
        if shown is not None:
            self.turn_away("survey", shown.head.ident, f"survey {shown.head.ident}", True)

    def put_away_printer(self) -> None:
        """The printer that is shown was entered by mistake."""
        sheet = self.session.sheet
        if sheet is not None:
            self.turn_away("machine", sheet.name, sheet.name, True)

    def turn_away(self, what: str, ident: str, words: str, away: bool) -> None:
        """Put something away, or bring it back."""
        try:
            if away:
                self.edits.push(PutAwayEdit(self.session, what, ident, words))
            else:
                self.session.put_away(what, ident, False)
        except TallGrainError as error:
            self.tell(error)

    def take_event(self, event: MachineEvent) -> None:
        """Enter an event; it can be undone."""
        try:
            self.edits.push(NoteEvent(self.session.back, event))
        except TallGrainError as error:
            self.tell(error)

    def hands_in(self) -> None:
        """A person's hands go to the printer; where it is hot, cooling is offered first."""
        self.asking.hands_in()

    def hands_clear(self) -> None:
        """They are away again."""
        self.session.motion.set_hands(False)

    def tell(self, error: TallGrainError) -> None:
        """Say what went wrong and what to do; the window goes on."""
        self.asking.tell(error)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Files may be dropped."""
        mime = event.mimeData() if event else None
        if event is not None and mime is not None and mime.hasUrls():
            event.acceptProposedAction()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Where the window is short the season folds to a line: the work comes first."""
        super().resizeEvent(event)
        self.growing.soon()
        self.fold()
        if self.help.isVisible():
            self.help.beside(self)

    def fold(self) -> None:
        """Fold what stands below the page where the window is low."""
        self.strip.fold(self.height() < theme.px(SHORT_PX))
        self.evening.fold(self.leading.beside_season or self.height() < theme.px(LOW_PX))

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Take each file that was dropped."""
        mime = event.mimeData() if event else None
        for url in mime.urls() if mime is not None else ():
            self.files.take_file(Path(url.toLocalFile()))

    # Keys from anywhere, and the end

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Esc halts while Tall Grain owns a motion, whatever has the focus."""
        # All events of the program come by here: most go on at once.
        if event.__class__ not in CLASSES or event is None or event.type() not in WATCHED:
            return False
        if self.wheel.takes(watched, event):
            return True
        self.growing.seen(watched, event)
        if isinstance(event, QHelpEvent) and isinstance(watched, CONTROLS):
            tip = tip_of(watched, self.station.name)
            if event.type() == QEvent.Type.ToolTip and tip:
                QToolTip.showText(event.globalPos(), tip, watched)
                return True
        if event.type() == QEvent.Type.KeyPress:
            self.session.care.somebody_is_here()
        if (
            isinstance(event, QKeyEvent)
            and event.key() == Qt.Key.Key_Escape
            and self.session.busy
            and not self.session.motion.waits
            and event.type() in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress)
        ):
            if event.type() == QEvent.Type.ShortcutOverride:
                event.accept()
                return True
            if not event.isAutoRepeat():
                self.halt_key()
            # It closes what is open, too.
            return QApplication.activePopupWidget() is None and self.isActiveWindow()
        return False

    def halt_key(self) -> None:
        """Esc while Tall Grain owns a motion."""
        if not self.session.motion.halting:
            self.session.motion.halt()

    def _bound(self) -> None:
        """Never larger than the screen: a scaled one may have little room."""
        screen = self.screen()
        room = screen.availableSize() if screen is not None else QSize(*LEAST)
        self.setMinimumSize(room.boundedTo(QSize(*LEAST)))
        if self.width() > room.width() or self.height() > room.height():
            self.resize(self.size().boundedTo(room))

    def _remembered(self) -> None:
        settings = window_settings()
        geometry = settings.value("geometry")
        if geometry is None or not self.restoreGeometry(geometry):
            self.resize(1280, 800)
        self._bound()
        last = settings.value("station")
        if last in self.rooms:
            self.visit(str(last))

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Leave the printer raised and the ledger closed."""
        assert event is not None
        if not self._leaving and not self.may_close():
            event.ignore()
            return
        if self.session.busy:
            # The window stays alive, and Esc with it, until the nozzle is raised.
            event.ignore()
            self._leave()
            return
        window_settings().setValue("geometry", self.saveGeometry())
        window_settings().setValue("station", self.station.name)
        app = QApplication.instance()
        assert app is not None
        app.removeEventFilter(self)
        self.growing.close()
        if self.hands:
            self.hands.close()
        if "files" in self.__dict__:
            self.files.worker.finish()
        self.shared.close()
        self.session.close()
        event.accept()

    def _leave(self) -> None:
        """Break off what is under way, and close once it has ended."""
        if not self._leaving:
            self._leaving = True
            self.session.changed.connect(self._left)
        if is_by_hand(self.session.url):
            self.session.motion.halt()  # the act that a person was asked for is not to be done
        else:
            self.session.motion.break_off()

    def _left(self) -> None:
        if not self.session.busy and self.isVisible():
            QTimer.singleShot(0, self.close)

    def may_close(self) -> bool:
        """What would be left behind or lost is a question."""
        return may_close(self)
