"""The window: header, route, station, and the keys that work from anywhere."""

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QEvent, QObject, QSettings, Qt
from PyQt6.QtGui import QAction, QCloseEvent, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QMainWindow,
    QMenu,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from tallgrain.clock import now
from tallgrain.errors import TallGrainError
from tallgrain.formats.files import ENDINGS, read_survey, write_survey
from tallgrain.formats.machine_toml import read_sheet_text
from tallgrain.paths import data_home
from tallgrain.ui.hands import Hands
from tallgrain.ui.header import Header
from tallgrain.ui.route import Route
from tallgrain.ui.session import LinkState, Session
from tallgrain.ui.stations.base import Station
from tallgrain.ui.stations.later import LaterStation
from tallgrain.ui.stations.surface import SurfaceStation

QUESTIONS = {
    "Machine": "What is this printer, and is it mechanically fit to measure?",
    "Probe": "Does the probe work, where is it, how well does it repeat?",
    "Tilt": "Do the Z motors hold plate and gantry parallel?",
    "Adjusters": "How far must each bed screw turn, and which way?",
    "Surface": "",
    "Gap": "How high is the nozzle when the probe trips, to a hundredth?",
    "Skew": "Are the axes square and to scale?",
    "Handover": "What does the printer not know yet, and what happens at the start of a print?",
    "Drift": "Is it still the bed I measured?",
}


class Window(QMainWindow):
    """Tall Grain's window."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.hands: Hands | None = None
        self.setWindowTitle("Tall Grain")
        self.setMinimumSize(1024, 700)
        self.surface = SurfaceStation(session)
        self.stations: dict[str, Station] = {
            name: self.surface if name == "Surface" else LaterStation(name, question)
            for name, question in QUESTIONS.items()
        }
        self._build()
        self._build_menus()
        self.station = self.stations["Surface"]
        self.visit("Surface")
        self.surface.bench.primary.setFocus()
        session.changed.connect(self.refresh)
        app = QApplication.instance()
        assert app is not None
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
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.route)
        middle.addWidget(self.stack, 1)
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
        bar = self.menuBar()
        assert bar is not None
        file = bar.addMenu("&File")
        assert file is not None
        self._add(file, "&Open survey file …", self.open_file, "Ctrl+O")
        self.save_action = self._add(file, "&Save survey as …", self.save_survey, "Ctrl+S")
        file.addSeparator()
        self._add(file, "&Add machine sheet …", self.add_sheet)
        file.addSeparator()
        self._add(file, "&Quit", self.close, "Ctrl+Q")
        printer = bar.addMenu("&Printer")
        assert printer is not None
        self.link_action = self._add(printer, "&Link …", self.ask_link, "Ctrl+L")
        self.unlink_action = self._add(printer, "&Unlink", self.session.unlink)
        printer.addSeparator()
        self.heat_off = self._add(
            printer, "&Heaters off", lambda: self.session.set_heat(0.0, 0.0), "Ctrl+H"
        )
        printer.addSeparator()
        self._add(printer, "&Stop (Esc while it moves)", self.session.halt)
        survey = bar.addMenu("&Survey")
        assert survey is not None
        self._add(survey, "&Survey, or the one next step", self.primary, "F5")
        self._add(survey, "&Break off", lambda: self.station.secondary(), "F8")
        self._add(survey, "&Plan points …", self._plan, "F6")
        seen = self._add(survey, "&I see this clearance", self.surface.bench.take_clearance)
        seen.setShortcuts([QKeySequence("Ctrl+Return"), QKeySequence("Ctrl+Enter")])
        route = bar.addMenu("&Route")
        assert route is not None
        for number, name in enumerate(self.stations, 1):
            self._add(route, f"&{number} {name}", lambda n=name: self.visit(n), f"Ctrl+{number}")
        about = bar.addMenu("&Help")
        assert about is not None
        self._add(about, "&Keys", self.show_keys, "F1")
        self._add(about, "&About Tall Grain", self.show_about)

    def add_hands(self, where: Callable[[], str]) -> None:
        """The demo's Hands menu: what a person would do at the printer."""
        bar = self.menuBar()
        assert bar is not None
        menu = bar.addMenu("H&ands (demo)")
        assert menu is not None
        self.hands = Hands(where, self)
        self.hands.told.connect(self.say)
        self.hands.failed.connect(self.tell)
        for words, act in self.hands.actions():
            self._add(menu, words, act)

    def say(self, words: str) -> None:
        """Tell something that is no fault."""
        QMessageBox(QMessageBox.Icon.NoIcon, "Tall Grain", words, parent=self).open()

    def _add(self, menu: QMenu, words: str, act: object, keys: str = "") -> QAction:
        action = QAction(words, self)
        if keys:
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(lambda _=False: act())  # type: ignore[operator]
        menu.addAction(action)
        return action

    def primary(self) -> None:
        """The one next step of the station that is shown."""
        self.station.primary()

    def _plan(self) -> None:
        self.visit("Surface")
        self.surface.open_plan()

    # Following the session

    def visit(self, name: str) -> None:
        """Show a station."""
        self.station = self.stations[name]
        self.stack.setCurrentWidget(self.station.widget)
        self.route.choose(name)

    def refresh(self) -> None:
        """Follow the session."""
        s = self.session
        self.route.show_kernels([station.kernel(s) for station in self.stations.values()])
        self.save_action.setEnabled(s.shown is not None)
        self.link_action.setEnabled(not s.busy and s.sheet is not None)
        self.unlink_action.setEnabled(s.link is not LinkState.NONE and not s.busy)
        self.heat_off.setEnabled(s.ready)

    def refresh_printers(self) -> None:
        """Show the printers of the ledger."""
        names = [name for name, _ in self.session.ledger.machines()]
        if names and self.session.sheet is None:
            self.session.choose_printer(names[0])
        chosen = self.session.sheet.name if self.session.sheet else ""
        self.header.set_printers(names, chosen)
        self.header.refresh()
        self.refresh()

    # Files

    def open_file(self) -> None:
        """Store a survey from a file and show it."""
        endings = " ".join(f"*{e}" for e in ENDINGS)
        name, _ = QFileDialog.getOpenFileName(self, "Open survey file", "", f"Surveys ({endings})")
        if name:
            self.take_file(Path(name))

    def take_file(self, path: Path) -> None:
        """Store the survey in a file for the printer that is shown."""
        sheet = self.session.sheet
        if sheet is None:
            return
        try:
            found = read_survey(path, now(), sheet.name)
            ident = self.session.ledger.add_survey(found.for_machine(sheet.name))
            self.session.show_stored(ident)
        except TallGrainError as error:
            self.tell(error)

    def save_survey(self) -> None:
        """Write the survey that is shown to a file."""
        shown = self.session.shown
        if shown is None:
            return
        endings = " ".join(f"*{e}" for e in ENDINGS)
        name, _ = QFileDialog.getSaveFileName(self, "Save survey as", "", f"Surveys ({endings})")
        if not name:
            return
        try:
            write_survey(shown.survey, Path(name))
        except TallGrainError as error:
            self.tell(error)

    def add_sheet(self) -> None:
        """Store a machine sheet and show its printer."""
        name, _ = QFileDialog.getOpenFileName(self, "Add machine sheet", "", "Sheets (*.toml)")
        if not name:
            return
        try:
            sheet, text = read_sheet_text(Path(name))
            self.session.ledger.put_machine(sheet.name, text, now())
        except TallGrainError as error:
            self.tell(error)
            return
        self.session.choose_printer(sheet.name)
        self.refresh_printers()

    def ask_link(self) -> None:
        """Ask where the printer is."""
        url, ok = QInputDialog.getText(
            self, "Link", "Address of the printer (tcp://host:port):", text=self.session.url
        )
        if ok and url.strip():
            self.session.link_to(url.strip())

    # Telling

    def tell(self, error: TallGrainError) -> None:
        """Say what went wrong and what to do; the window goes on."""
        what = error.what[:1].upper() + error.what[1:]
        words = f"{what}\n\n{error.where}" if error.where else what
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Tall Grain", words, parent=self)
        box.setInformativeText(error.remedy)
        box.open()

    def show_keys(self) -> None:
        """The keys."""
        rows = [("Esc", "halt while Tall Grain moves the printer; otherwise close what is open"),
                ("F5", "the one next step"), ("F8", "break off: finish this touch, raise, stop"),
                ("F6", "plan points"), ("Ctrl+1 … 9", "the stations"),
                ("Ctrl+Enter", "take the clearance that you typed")]  # fmt: skip
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
        self.session.close()
        event.accept()

    def may_close(self) -> bool:
        """While work runs or a heater is on, closing is a question."""
        s = self.session
        hot = s.link is LinkState.UP and s.state is not None and (
            s.state.nozzle.target_c > 0 or s.state.plate.target_c > 0
        )  # fmt: skip
        if not s.busy and not hot:
            return True
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Close Tall Grain?", "", parent=self)
        if s.busy:
            box.setText("A survey is running. Closing breaks it off and raises the nozzle.")
        else:
            box.setText("The heaters are on.")
            off = box.addButton("Switch off and close", QMessageBox.ButtonRole.AcceptRole)
        leave = box.addButton(
            "Break off and close" if s.busy else "Close, leave them on",
            QMessageBox.ButtonRole.DestructiveRole,
        )
        box.addButton("Stay", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if not s.busy and box.clickedButton() is off:
            s.set_heat(0.0, 0.0)
            return True
        return box.clickedButton() is leave
