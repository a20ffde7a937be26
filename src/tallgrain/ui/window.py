"""The window: header, route, station, and the keys that work from anywhere."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QEvent, QObject, QSettings, Qt
from PyQt6.QtGui import (
    QAction,
    QActionGroup,
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QKeySequence,
    QUndoStack,
)
from PyQt6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QInputDialog,
    QMainWindow,
    QMenu,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from tallgrain.errors import OtherComputer, TallGrainError, printable
from tallgrain.link.connect import dialect_names
from tallgrain.link.console.transport import devices
from tallgrain.paths import data_home
from tallgrain.store.ledger import MachineEvent
from tallgrain.ui.acts import NO_PRINTER, NO_SURVEY, Acts
from tallgrain.ui.bench_parts import ClearanceRow
from tallgrain.ui.closing import may_close
from tallgrain.ui.drafts import Drafts
from tallgrain.ui.drift_work import DriftWork
from tallgrain.ui.edits import NoteEvent, PlanEdit
from tallgrain.ui.event_dialog import EventDialog
from tallgrain.ui.filing import Filing
from tallgrain.ui.finder import Finder
from tallgrain.ui.handover_work import HandoverWork
from tallgrain.ui.hands import AtTheBench, Hands
from tallgrain.ui.header import Header
from tallgrain.ui.keys import KEYS
from tallgrain.ui.patch_dialog import PatchDialog
from tallgrain.ui.probe_work import ProbeWork
from tallgrain.ui.putting_away import AwayDialog, PutAwayEdit
from tallgrain.ui.route import Route
from tallgrain.ui.session import Session
from tallgrain.ui.skew_work import SkewWork
from tallgrain.ui.state import LinkState
from tallgrain.ui.stations.adjusters import AdjustersStation
from tallgrain.ui.stations.base import Station
from tallgrain.ui.stations.drift import DriftStation
from tallgrain.ui.stations.gap import GapStation
from tallgrain.ui.stations.handover import HandoverStation
from tallgrain.ui.stations.machine import MachineStation
from tallgrain.ui.stations.probe import ProbeStation
from tallgrain.ui.stations.skew import SkewStation
from tallgrain.ui.stations.surface import ABOUT, Layer, SurfaceStation
from tallgrain.ui.stations.tilt import TiltStation
from tallgrain.ui.stations.towers import TowersStation
from tallgrain.ui.strip import Strip
from tallgrain.ui.table_dialog import TableDialog
from tallgrain.ui.tones import Tones
from tallgrain.ui.towers_work import TowersWork
from tallgrain.ui.values_work import ValuesWork
from tallgrain.ui.wheel import Wheel

# The stations in the order of the route.
ROUTE = (
    "Machine", "Probe", "Tilt", "Adjusters", "Towers", "Surface", "Gap", "Skew", "Handover",
    "Drift",
)  # fmt: skip

# Hotter than this, skin burns at a touch (ISO 13732-1, bare metal).
HOT_C = 50.0


class Window(QMainWindow):
    """Tall Grain's window."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.hands: Hands | None = None
        self.setWindowTitle("Tall Grain")
        self.setMinimumSize(1024, 700)
        self.edits = QUndoStack(self)
        self.drafts = Drafts(session, self.edits)
        self.files = Filing(self)
        self.surface = SurfaceStation(session)
        self.machine = MachineStation(session, self.drafts)
        self.machine.fitness.on_mended = self.take_event
        checks = ProbeWork(session)
        self.values = ValuesWork(session, checks, data_home() / "backups")
        self.probe = ProbeStation(session, self.drafts, checks, self.values)
        self.gap = GapStation(session, checks, self.values)
        self.tilt = TiltStation(session, self.drafts, checks)
        self.adjusters = AdjustersStation(session, self.drafts, checks)
        self.adjusters.on_shape = lambda: self.visit("Surface")
        self.skew = SkewStation(session, SkewWork(session, checks, self.values))
        self.towers = TowersStation(
            session, TowersWork(session, checks, self.values, self.skew.work)
        )
        self.drift = DriftStation(session, DriftWork(session, checks))
        self.drift.on_visit = self.visit
        self.handover = HandoverStation(
            session, HandoverWork(session, checks, self.values, self.drift.work)
        )
        self.drift.work.changed.connect(self.refresh)
        built: dict[str, Station] = {
            "Surface": self.surface,
            "Machine": self.machine,
            "Probe": self.probe,
            "Gap": self.gap,
            "Tilt": self.tilt,
            "Adjusters": self.adjusters,
            "Towers": self.towers,
            "Skew": self.skew,
            "Drift": self.drift,
            "Handover": self.handover,
        }
        self.stations: dict[str, Station] = {name: built[name] for name in ROUTE}
        self._build()
        self._build_menus()
        self.station = self.stations["Surface"]
        self.visit("Surface")
        self.surface.bench.primary.setFocus()
        session.changed.connect(self.refresh)
        session.refused.connect(self.tell)
        session.failed.connect(self._ask_network)
        session.unreadable.connect(self._ask_name)
        session.printer_changed.connect(self.refresh_printers)
        self.drafts.changed.connect(self.refresh)
        session.back.changed.connect(self.refresh)
        self.tones = Tones(data_home() / "tones")
        session.touched.connect(lambda: self.tones.play("touch"))
        session.ended.connect(self._sound)
        self.setAcceptDrops(True)
        app = QApplication.instance()
        assert app is not None
        self.wheel = Wheel()
        app.installEventFilter(self)
        self._remembered()
        self.refresh_printers()

    def _build(self) -> None:
        self.header = Header(self.session)
        self.header.stop.connect(self.session.halt)
        self.header.printer_chosen.connect(self.session.choose_printer)
        self.route = Route(list(self.stations))
        self.route.chosen.connect(self.visit)
        self.stack = QStackedWidget()
        for station in self.stations.values():
            self.stack.addWidget(station.widget)
        self.strip = Strip(self.session.back)
        self.strip.show_wanted.connect(self.session.show_stored)
        self.strip.event_wanted.connect(self.note_event)
        beside = QVBoxLayout()
        beside.setSpacing(0)
        beside.addWidget(self.stack, 1)
        below = QVBoxLayout()
        below.setContentsMargins(14, 0, 14, 10)
        below.addWidget(self.strip)
        beside.addLayout(below)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.route)
        middle.addLayout(beside, 1)
        whole = QVBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self.header)
        whole.addLayout(middle, 1)
        central = QWidget()
        central.setLayout(whole)
        self.setCentralWidget(central)

    # Menus

    def _build_menus(self) -> None:
        self._commands: list[tuple[str, QAction]] = []
        self.acts = Acts()
        self._file_menu()
        self._edit_menu()
        self._printer_menu()
        self._survey_menu()
        self._view_menu()
        route = self._menu("&Route")
        for number, name in enumerate(self.stations, 1):
            digit = number % 10
            self._add(route, f"&{digit} {name}", lambda n=name: self.visit(n), f"Ctrl+{digit}")
        about = self._menu("&Help")
        self._add(about, "&Find a command …", self.find_command, "Ctrl+K")
        self._add(about, "&Keys", self.show_keys, "F1")
        self._add(about, "&About Tall Grain", self.show_about)

    def _file_menu(self) -> None:
        file = self._menu("&File")
        need = self.acts.need
        need(self._add(file, "&Open survey file …", self.files.open_file, "Ctrl+O"), self._printer)
        self.save_action = self._add(file, "&Save survey as …", self.files.save_survey, "Ctrl+S")
        need(self.save_action, self._survey)
        picture = self._add(file, "Save &picture as …", self.files.save_picture, "Ctrl+P")
        report = self._add(
            file, "&Report on the season …", lambda: self.drift.ask_report(False), "Ctrl+R"
        )
        need(picture, self._survey)
        need(report, self._printer)
        file.addSeparator()
        self._add(file, "&Add machine sheet …", self.files.add_sheet)
        for words, act in (
            ("&Copy this printer's sheet to a new one …", self.files.copy_sheet),
            ("Save machine s&heet as …", self.files.save_sheet),
        ):
            need(self._add(file, words, act), self._printer)
        file.addSeparator()
        self._add(file, "&Quit", self.close, "Ctrl+Q")

    def _edit_menu(self) -> None:
        edit = self._menu("&Edit")
        self.surface.on_plan = lambda before, after: self.edits.push(
            PlanEdit(self.session, before, after)
        )
        undo = self._add(edit, "&Undo", self.edits.undo, "Ctrl+Z")
        redo = self._add(edit, "&Redo", self.edits.redo, "Ctrl+Shift+Z")
        for action, can in ((undo, self.edits.canUndoChanged), (redo, self.edits.canRedoChanged)):
            action.setEnabled(False)
            can.connect(action.setEnabled)
        edit.addSeparator()
        for words, act, keys, reason in (
            ("&Copy points with units", self.copy_table, "Ctrl+C", self._survey),
            ("&Table of values …", self.show_table, "Ctrl+T", self._survey),
            ("&Paste points or a matrix of heights", self.files.paste, "Ctrl+V", self._printer),
            ("Note an &event …", self.note_event, "Ctrl+E", self._printer),
        ):
            self.acts.need(self._add(edit, words, act, keys), reason)
        edit.addSeparator()
        self.acts.need(self._add(edit, "Put this survey &away", self.put_away_shown), self._survey)
        self.acts.need(self._add(edit, "Put this &printer away", self.put_away_printer),
                       self._free_printer)  # fmt: skip
        self._add(edit, "What is put away …", self.show_away)

    def _printer(self) -> str:
        return "" if self.session.sheet is not None else NO_PRINTER

    def _free_printer(self) -> str:
        return self._printer() or ("it is at work" if self.session.busy else "")

    def _survey(self) -> str:
        return "" if self.session.shown is not None else NO_SURVEY

    def _printer_menu(self) -> None:
        printer = self._menu("&Printer")
        self.link_action = self._add(printer, "&Link …", self.ask_link, "Ctrl+L")
        self.acts.need(self.link_action, self._printer)
        self._add(printer, "&Teach a console …", self.teach_console)
        self.acts.need(self._add(printer, "&Rename this printer …", self.rename_shown),
                       self._free_printer)  # fmt: skip
        self.unlink_action = self._add(printer, "&Unlink", self.session.unlink)
        self.keep_action = self._add(
            printer, "&Keep its values (survive power-off)", self.values.keep, "Ctrl+Shift+K"
        )
        printer.addSeparator()
        self._add(printer, "Hands &in (park, then nothing moves)", self.hands_in, "F9")
        self._add(printer, "Hands &clear", self.hands_clear, "F12")
        printer.addSeparator()
        self.heat_off = self._add(
            printer, "&Heaters off", lambda: self.session.set_heat(0.0, 0.0), "Ctrl+H"
        )
        tones = self._add(printer, "&Tones", self._toggle_tones)
        tones.setCheckable(True)
        tones.setChecked(True)
        printer.addSeparator()
        self._add(printer, "&Stop (Esc while it moves)", self.session.halt)

    def _survey_menu(self) -> None:
        survey = self._menu("&Survey")
        self._add(survey, "&Survey, or the one next step", self.primary, "F5")
        self._add(survey, "&Resume the survey that is shown", self.session.resume_survey, "F7")
        self._add(survey, "&Break off", lambda: self.station.secondary(), "F8")
        self._add(survey, "&Plan points …", self._plan, "F6")
        for words, rounds, keys in (
            ("Survey &twice and compare", "twice", "Shift+F5"),
            ("Survey &cold, then hot", "cold_hot", ""),
        ):
            self._add(survey, words, lambda r=rounds: self._survey_pair(r), keys)
        for words, take, keys in (
            ("&I read this clearance", ClearanceRow.take, "Ctrl+"),
            ("This &fits under the nozzle", lambda row: row.take_fit(True), "Ctrl+Shift+"),
        ):
            seen = self._add(survey, words, partial(self._take_clearance, take))
            seen.setShortcuts([QKeySequence(f"{keys}Return"), QKeySequence(f"{keys}Enter")])

    def _view_menu(self) -> None:
        view, surface = self._menu("&View"), self.surface
        for layer in Layer:
            name, key = layer.value
            self._add(view, f"&{name}", lambda which=layer: surface.show_layer(which), key)
        view.addSeparator()
        self._add(view, "Pin the sca&le", surface.pin_scale, "L")
        self._add(view, "&Section P–Q", surface.toggle_section, "S")
        self._add(view, "Section along a row", lambda: surface.cut_along("row"), "X")
        self._add(view, "Section along a column", lambda: surface.cut_along("column"), "Y")
        self._add(view, "&Keep this survey in the section", surface.keep_in_section, "K")
        self._add(view, "Zoom to the next &corner", surface.field.next_corner, "Z")
        self._add(view, "&Whole plate", surface.whole, "0")
        view.addSeparator()
        about = QActionGroup(self)
        for which, words in ABOUT.items():
            chosen = self._add(view, f"Heights {words}", lambda a=which: surface.refer_to(a))
            chosen.setCheckable(True)
            chosen.setChecked(which == self.session.reference)
            about.addAction(chosen)

    def _menu(self, words: str) -> QMenu:
        bar = self.menuBar()
        assert bar is not None
        menu = bar.addMenu(words)
        assert menu is not None
        return menu

    def add_hands(self, where: Callable[[], str]) -> None:
        """The demo's Hands menu: what a person would do at the printer."""
        menu = self._menu("H&ands (demo)")
        self.hands = Hands(where, self)
        self.hands.told.connect(self.say)
        self.hands.failed.connect(self.tell)
        self.hands.printed.connect(self.show_patch)
        self.hands.bench = lambda: AtTheBench(
            (self.gap.page if self.station is self.gap else self.probe.gap).gauge.value(),
            self.session.sheet.plate.datum_point if self.session.sheet else (0.0, 0.0),
            self.gap.trials.program,
            self.gap.work.aim.nozzle_c, self.gap.work.aim.plate_c, self.adjusters.work.screw,
            self.skew.work.program, self.skew.work.jaws(),
        )  # fmt: skip
        for words, act in self.hands.actions():
            if words:
                self._add(menu, words, act)
            else:
                menu.addSeparator()

    def show_patch(self, seen: object) -> None:
        """What lies on the plate after a print."""
        assert isinstance(seen, dict)
        dialog = PatchDialog(seen, self)
        if self.hands is not None:
            dialog.finished.connect(lambda _: self.hands and self.hands.act("hands.clean"))
        dialog.open()

    def say(self, words: str) -> None:
        """Tell something that is no fault."""
        QMessageBox(QMessageBox.Icon.NoIcon, "Tall Grain", words, parent=self).open()

    def _add(self, menu: QMenu, words: str, act: object, keys: str = "") -> QAction:
        action = QAction(words, self)
        if keys:
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(lambda _=False: act())  # type: ignore[operator]
        menu.addAction(action)
        self._commands.append((f"{menu.title()} › {words}".replace("&", ""), action))
        return action

    def primary(self) -> None:
        """The one next step of the station that is shown."""
        self.station.primary()

    def _plan(self) -> None:
        self.visit("Surface")
        self.surface.open_plan()

    def _survey_pair(self, rounds: str) -> None:
        self.visit("Surface")
        self.surface.survey_pair(rounds)

    def _take_clearance(self, take: Callable[[ClearanceRow], None]) -> None:
        """What was typed at the station that is shown."""
        for row in (
            *self.probe.clearance_rows, self.gap.clearance, self.tilt.clearance,
            self.adjusters.clearance, self.towers.clearance, self.drift.clearance,
            self.surface.bench.clearance_row,
        ):  # fmt: skip
            if row.isVisible():
                take(row)

    # Following the session

    def visit(self, name: str) -> None:
        """Show a station."""
        self.station = self.stations[name]
        self.stack.setCurrentWidget(self.station.widget)
        self.route.choose(name)
        self.station.refresh()
        story = getattr(self.station, "story", None)
        self.strip.tell_story(story if story is not None else lambda: None)

    def refresh(self) -> None:
        """Follow the session."""
        s = self.session
        self.strip.tolerance = s.sheet.tolerance.flatness_mm if s.sheet else None
        self.route.show_kernels([station.kernel(s) for station in self.stations.values()])
        self.acts.follow()
        self.link_action.setEnabled(not s.busy and s.sheet is not None)
        self.unlink_action.setEnabled(s.link is not LinkState.NONE and not s.busy)
        self.heat_off.setEnabled(s.ready)
        self.keep_action.setEnabled(s.ready and bool(self.values.not_kept))

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

    def ask_link(self) -> None:
        """Ask where the printer is."""
        known = [self.session.url] if self.session.url else []
        # Serial devices by their path, each to be spoken to by the dialect that comes first.
        names = dialect_names()
        known += [f"serial:{d.path}?dialect={names[0]}" for d in devices()]
        url, ok = QInputDialog.getItem(
            self, "Link", "Address of the printer: tcp://host:port, or a text console's with its "
            f"dialect,\nsuch as serial:/dev/ttyUSB0?dialect=NAME. Dialects: {', '.join(names)}.",
            known or ["tcp://127.0.0.1:"], 0, True,
        )  # fmt: skip
        if ok and url.strip():
            self.session.link_to(url.strip())

    def teach_console(self) -> None:
        """Teach the language of a printer that only has a text console."""
        from tallgrain.ui.teaching import TeachingDialog

        if not self.session.busy:
            self.teaching = TeachingDialog(self)
            self.teaching.show()

    def copy_table(self) -> None:
        """The points of what is shown, with units, to the clipboard."""
        clipboard = QApplication.clipboard()
        assert clipboard is not None
        clipboard.setText(self.surface.table())

    def show_table(self) -> None:
        """The points of what is shown as a table."""
        text = self.surface.table()
        if text:
            TableDialog(text, self.surface.subject.text(), self).open()

    def put_away_shown(self) -> None:
        """The survey that is shown was made or read by mistake."""
        shown = self.session.shown
        if shown is not None:
            self._turn_away("survey", shown.head.ident, f"survey {shown.head.ident}", True)

    def put_away_printer(self) -> None:
        """The printer that is shown was entered by mistake."""
        sheet = self.session.sheet
        if sheet is not None:
            self._turn_away("machine", sheet.name, sheet.name, True)

    def show_away(self) -> None:
        """What is put away, to be brought back."""
        AwayDialog(self.session, self._turn_away, self).open()

    def _turn_away(self, what: str, ident: str, words: str, away: bool) -> None:
        try:
            if away:
                self.edits.push(PutAwayEdit(self.session, what, ident, words))
            else:
                self.session.put_away(what, ident, False)
        except TallGrainError as error:
            self.tell(error)

    def note_event(self) -> None:
        """Ask what happened to the printer."""
        if self.session.sheet is None:
            return
        dialog = EventDialog(self.session.sheet.name, list(self.stations), self)
        dialog.accepted.connect(lambda: self.take_event(dialog.event_noted()))
        dialog.open()

    def take_event(self, event: MachineEvent) -> None:
        """Enter an event; it can be undone."""
        try:
            self.edits.push(NoteEvent(self.session.back, event))
        except TallGrainError as error:
            self.tell(error)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Files may be dropped."""
        mime = event.mimeData() if event else None
        if event is not None and mime is not None and mime.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Take each file that was dropped."""
        mime = event.mimeData() if event else None
        for url in mime.urls() if mime is not None else ():
            self.files.take_file(Path(url.toLocalFile()))

    def find_command(self) -> None:
        """The command finder."""
        Finder(self._commands, self).open()

    def hands_in(self) -> None:
        """A person's hands go to the printer; where it is hot, cooling is offered first."""
        s = self.session
        state = s.state if s.link is LinkState.UP and not s.busy else None
        s.set_hands(True)
        if state is None or max(state.plate.now_c, state.nozzle.now_c) < HOT_C:
            return
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Hands in", "", parent=self)
        box.setText(
            f"The plate is at {state.plate.now_c:.0f} °C and the nozzle at "
            f"{state.nozzle.now_c:.0f} °C. Nothing moves until you say that your hands are clear."
        )
        cool = box.addButton("Heaters off, let it cool", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("I know that it is hot", QMessageBox.ButtonRole.RejectRole)
        assert cool is not None
        cool.clicked.connect(lambda: s.set_heat(0.0, 0.0))
        box.open()

    def hands_clear(self) -> None:
        """They are away again."""
        self.session.set_hands(False)

    def _toggle_tones(self) -> None:
        self.tones.on = not self.tones.on

    def _sound(self, how: str) -> None:
        tone = {"complete": "turn", "broken_off": "turn", "halted": "stopped"}.get(how, "fault")
        self.tones.play(tone)

    # Telling

    def tell(self, error: TallGrainError) -> None:
        """Say what went wrong and what to do; the window goes on."""
        what = error.what[:1].upper() + error.what[1:]
        words = f"{what}\n\n{error.where}" if error.where else what
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Tall Grain", words, parent=self)
        box.setTextFormat(Qt.TextFormat.PlainText)  # what a printer or a file says has no markup
        box.setInformativeText(error.remedy)
        box.open()

    def _ask_network(self, error: TallGrainError) -> None:
        """A printer on another computer is linked to once a person said so."""
        if not isinstance(error, OtherComputer):
            return
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Another computer", "", parent=self)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setText(f"{error.what[:1].upper()}{error.what[1:]}")
        box.setInformativeText("Link to it only where you trust the network between them.")
        link = box.addButton("Link to it", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Don't", QMessageBox.ButtonRole.RejectRole)
        assert link is not None
        url = self.session.url
        link.clicked.connect(lambda: self.session.link_to(url, remote=True))
        box.open()

    def _ask_name(self, old: str, error: TallGrainError) -> None:
        """A stored printer can't be read: its name may be the reason, and can be mended."""
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Tall Grain", "", parent=self)
        box.setTextFormat(Qt.TextFormat.PlainText)
        box.setText(f"The printer {printable(old)!r} can't be shown: {error.what}")
        box.setInformativeText("Its surveys are kept. Another name may be all that it needs.")
        again = box.addButton("Rename it …", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Leave it", QMessageBox.ButtonRole.RejectRole)
        assert again is not None
        again.clicked.connect(lambda: self.rename_printer(old))
        box.open()

    def rename_shown(self) -> None:
        """Call the printer that is shown otherwise."""
        if self.session.sheet is not None:
            self.rename_printer(self.session.sheet.name)

    def rename_printer(self, old: str) -> None:
        """Ask for another name and take all that is kept along."""
        name, ok = QInputDialog.getText(self, "Rename", f"New name of {printable(old)}:")
        if not ok:
            return
        try:
            self.session.rename(old, name)
        except TallGrainError as error:
            self.tell(error)
            return
        self.refresh_printers()

    def show_keys(self) -> None:
        """The keys."""
        rows = KEYS
        words = "\n".join(f"{keys}:  {what}" for keys, what in rows)
        QMessageBox(QMessageBox.Icon.NoIcon, "Keys", words, parent=self).open()

    def show_about(self) -> None:
        """What this is."""
        words = "Tall Grain, a bench instrument for people who build printers."
        box = QMessageBox(QMessageBox.Icon.NoIcon, "About", words, parent=self)
        box.setInformativeText("Typeface: B612, SIL Open Font License 1.1.")
        box.open()

    # Keys from anywhere, and the end

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Esc halts while Tall Grain owns a motion, whatever has the focus."""
        if event is not None and self.wheel.takes(watched, event):
            return True
        if event is not None and event.type() == QEvent.Type.KeyPress:
            self.session.care.somebody_is_here()
        if (
            isinstance(event, QKeyEvent)
            and event.key() == Qt.Key.Key_Escape
            and self.session.busy
            and event.type() in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress)
        ):
            if event.type() == QEvent.Type.ShortcutOverride:
                event.accept()
            elif not event.isAutoRepeat():
                self.halt_key()
            return True
        return super().eventFilter(watched, event)

    def halt_key(self) -> None:
        """Esc while Tall Grain owns a motion."""
        if not self.session.halting:
            self.session.halt()

    def _settings(self) -> QSettings:
        return QSettings(str(data_home() / "window.ini"), QSettings.Format.IniFormat)

    def _remembered(self) -> None:
        geometry = self._settings().value("geometry")
        if geometry is None or not self.restoreGeometry(geometry):
            self.resize(1280, 800)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Leave the printer raised and the ledger closed."""
        assert event is not None
        if not self.may_close():
            event.ignore()
            return
        self._settings().setValue("geometry", self.saveGeometry())
        app = QApplication.instance()
        assert app is not None
        app.removeEventFilter(self)
        if self.hands:
            self.hands.close()
        self.files.worker.finish()
        self.drift.work.close()
        self.session.close()
        event.accept()

    def may_close(self) -> bool:
        """What would be left behind or lost is a question."""
        return may_close(self)
