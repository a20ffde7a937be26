"""Opening the window, display and libraries checked first; the demo's stand-in beside it."""

import os
import sys
from collections.abc import Sequence
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from tallgrain import __version__
from tallgrain.errors import JobError, ReadOnly, StoreError
from tallgrain.paths import ASSETS, data_home, demo_home

if TYPE_CHECKING:
    from PyQt6.QtWidgets import QApplication, QWidget

    from tallgrain.store.ledger import Ledger
    from tallgrain.ui.app.window import Window
    from tallgrain.ui.demo.workshop import Workshop

# The desktop entry that the window belongs to (share/applications).
DESKTOP_ID = "org.tallgrain.TallGrain"

# The window is seen first; then the rest of it follows.
SEEN_MS, CALM_MS = 30, 400
# What is seen before it (px).
SPLASH = 440, 160
# The demo's stand-in: the chance that made its year, and how many times faster than real it is.
DEMO_SEED, DEMO_SPEED = 17, 20.0
# Qt ends the application when its last Python name goes.
_kept: "list[QApplication]" = []


def begin() -> "QApplication":
    """The application, as far as something can be seen. Raises JobError where no window can be
    opened."""
    from tallgrain.qtlibs import missing_packages

    platform = os.environ.get("QT_QPA_PLATFORM", "")
    packages = missing_packages(thorough=False)
    if packages:
        raise JobError(
            "the window needs libraries that this computer lacks.",
            "Qt",
            f"Install them with: sudo apt-get install {' '.join(packages)}",
        )
    from PyQt6.QtGui import QIcon
    from PyQt6.QtWidgets import QApplication

    if not platform.startswith(("offscreen", "minimal", "vnc")) and not _display_answers():
        raise JobError(
            "there is no display to open a window on.",
            os.environ.get("DISPLAY") or "DISPLAY",
            "Start it from a desktop, or use the command line: tallgrain --help.",
        )
    from tallgrain.ui.app.dress import colours_chosen, wear
    from tallgrain.ui.app.theme import font, load_fonts

    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    _kept.append(app)
    if sys.excepthook is sys.__excepthook__:
        sys.excepthook = note_bug
    app.setApplicationName("Tall Grain")
    app.setApplicationVersion(__version__)
    app.setDesktopFileName(DESKTOP_ID)
    app.setWindowIcon(QIcon(str(ASSETS / "icons" / "tallgrain.svg")))
    load_fonts()
    app.setFont(font(13))
    wear(app, colours_chosen())
    return app


def application() -> "QApplication":
    """The Qt application with our style. Raises JobError where no window can be opened."""
    return _styled(begin())


def _styled(app: "QApplication") -> "QApplication":
    from tallgrain.ui.app.dress import colours_chosen, dress

    app.setStyle("Fusion")
    dress(app, colours_chosen())
    hints = app.styleHints()
    if hints is not None:
        hints.colorSchemeChanged.connect(lambda _: dress(app, colours_chosen()))
    return app


def splash(app: "QApplication") -> "QWidget":
    """The kernel on paper, seen at once: what the window is made of takes longer to be read."""
    from PyQt6.QtCore import QRectF, Qt
    from PyQt6.QtGui import QIcon, QPainter, QPixmap
    from PyQt6.QtWidgets import QLabel

    from tallgrain.ui.app import theme

    ratio = app.devicePixelRatio()
    paper = QPixmap(round(SPLASH[0] * ratio), round(SPLASH[1] * ratio))
    paper.setDevicePixelRatio(ratio)
    paper.fill(theme.PAPER)
    painter = QPainter(paper)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    QIcon(str(ASSETS / "icons" / "tallgrain.svg")).paint(painter, 24, 30, 100, 100)
    painter.setPen(theme.INK)
    painter.setFont(theme.font(34, bold=True))
    painter.drawText(QRectF(140, 44, 280, 44), Qt.AlignmentFlag.AlignLeft, "Tall Grain")
    painter.setPen(theme.MUTED)
    painter.setFont(theme.font(15))
    painter.drawText(QRectF(142, 92, 280, 24), Qt.AlignmentFlag.AlignLeft, "opening the ledger …")
    painter.end()
    # Qt's own splash screen waits up to a second for its window.
    shown = QLabel(flags=Qt.WindowType.SplashScreen | Qt.WindowType.FramelessWindowHint)
    shown.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    shown.setAccessibleName("Tall Grain: opening the ledger")
    shown.setPixmap(paper)
    shown.setFixedSize(*SPLASH)
    screen = app.primaryScreen()
    if screen is not None:
        shown.move(screen.availableGeometry().center() - shown.rect().center())
    shown.show()
    app.processEvents()
    return shown


def note_bug(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
    """A fault of our own in the window's thread: logged and told, where Qt would end the program.

    Whatever moves goes on to its own bound; STOP still works.
    """
    import logging

    from PyQt6.QtWidgets import QApplication, QMessageBox

    logging.getLogger(__name__).error("a fault in Tall Grain itself", exc_info=(kind, error, trace))
    parent = QApplication.activeWindow()
    if parent is None or parent.findChild(QMessageBox, "bug") is not None:
        return
    box = QMessageBox(QMessageBox.Icon.NoIcon, "Tall Grain", "", parent=parent)
    box.setObjectName("bug")
    box.setText(f"A fault in Tall Grain itself: {kind.__name__}: {error}")
    box.setInformativeText(
        "What was stored is safe, and STOP works. Break off what runs, then start the window "
        "again. The log in the data folder says more."
    )
    box.open()


def _display_answers() -> bool:
    """Whether a Wayland or X display can be reached; Qt itself would end the program."""
    if os.environ.get("WAYLAND_DISPLAY"):
        return True
    if not os.environ.get("DISPLAY"):
        return False
    import ctypes

    try:
        xcb = ctypes.CDLL("libxcb.so.1")
    except OSError:
        return False
    xcb.xcb_connect.restype = ctypes.c_void_p
    connection = ctypes.c_void_p(xcb.xcb_connect(None, None))
    answers = bool(xcb.xcb_connection_has_error(connection) == 0)
    xcb.xcb_disconnect(connection)
    return answers


def log_to_file(home: Path) -> None:
    """Write the log beside the ledger, in a few files of limited size."""
    # Reads half of the network's modules: not before something is seen.
    import logging
    from logging.handlers import RotatingFileHandler

    try:
        home.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(
            home / "tallgrain.log", maxBytes=1_000_000, backupCount=3, encoding="utf-8"
        )
    except OSError:
        return  # a folder that can only be read has no log
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    root = logging.getLogger("tallgrain")
    root.setLevel(logging.INFO)
    root.addHandler(handler)


def open_window(files: Sequence[Path] = ()) -> int:
    """The window on the builder's own data, with files to take in; its exit status."""
    app = begin()
    first = splash(app)
    _styled(app)
    from tallgrain.store.ledger import Ledger

    home = data_home()
    try:
        ledger = Ledger.open(home, "Another window")
    except ReadOnly as error:
        # What is there can be looked at; whatever would write says why it can't.
        try:
            ledger = Ledger.open(home, write=False)
        except StoreError:
            raise error from None
    window = make_window(ledger, home, whole=False)
    if not ledger.writable:
        window.setWindowTitle("Tall Grain – read only: nothing can be stored in this folder")
    window.show()
    first.close()
    furnish_when_idle(window)
    if ledger.taken_in:
        told = "Surveys that were kept when the ledger was gone are back"
        window.asking.say(f"{told}: {ledger.taken_in}.")
    for path in files:
        window.files.take_file(path.absolute())
    return app.exec()


def furnish_when_idle(window: "Window") -> None:
    """Build the pages that were not shown yet, one at a time while nothing is under way, so that
    the first visit to a station waits for nothing, in the middle of a survey too."""
    from PyQt6.QtWidgets import QWidget

    from tallgrain.ui.session.timers import timer

    left: list[str] = []

    def complete() -> None:
        window.complete()
        left.extend(name for name, room in window.rooms.items() if not room.is_open)
        calm.start()

    def furnish() -> None:
        if not left:
            calm.stop()
        elif not window.session.busy:
            page = window.open(left.pop(0)).widget
            # What is hidden at first would else be styled in the middle of work.
            for child in (page, *page.findChildren(QWidget)):
                child.ensurePolished()

    calm = timer(window, CALM_MS, furnish)
    timer(window, SEEN_MS, complete, once=True).start()


def open_demo(seed: int = DEMO_SEED, speed: float = DEMO_SPEED) -> int:
    """The window on Hollin Hay Orchard with a stand-in of its own; its exit status."""
    app = begin()
    first = splash(app)
    _styled(app)
    from tallgrain.ui.demo.workshop import Workshop

    # The stand-in starts up beside the window, not before it.
    workshop = Workshop(seed, speed)
    workshop.start()
    try:
        window = demo_window(workshop, whole=False)
        window.visit("First layer")  # may Barley print, and why not?
        window.show()
        first.close()
        furnish_when_idle(window)
        return app.exec()
    finally:
        workshop.close()


def demo_window(workshop: "Workshop", printer: str = "", whole: bool = True) -> "Window":
    """The demo's window, linking itself to the stand-in of whichever printer is shown."""
    from tallgrain import demo
    from tallgrain.store.ledger import Ledger
    from tallgrain.ui.demo.workshop import DEMO_PRINTER

    home = demo_home()
    demo.prepare(home)
    ledger = Ledger.open(home, "Another demo window")
    prepare_demo(ledger)
    window = make_window(ledger, home, whole)
    session = window.session
    session.standin = True

    def link() -> None:
        sheet = session.sheet
        if sheet is not None and demo.year_of(sheet.name) is not None:
            if session.plate_sheet is None and sheet.sheets:
                session.plate_sheet = sheet.sheets[0].name
            session.linking.link_to(workshop.address(sheet.name))

    session.choose_printer(printer or DEMO_PRINTER)
    window.refresh_printers()
    window.add_hands(lambda: workshop.ports(session.sheet.name if session.sheet else "")["hands"])
    session.printer_changed.connect(link)
    link()
    return window


def make_window(ledger: "Ledger", home: Path, whole: bool = True) -> "Window":
    """The window on an open ledger; not whole: its other stations follow once it is seen."""
    from tallgrain.ui.app.heartbeat import Heartbeat
    from tallgrain.ui.app.window import Window
    from tallgrain.ui.session.session import Session

    log_to_file(home)
    window = Window(Session(ledger))
    if whole:
        window.complete()
    window.session.setParent(window)
    heart = Heartbeat(window)
    window.session.began.connect(heart.reset)
    window.session.ended.connect(lambda _: heart.tell())
    return window


def prepare_demo(ledger: "Ledger") -> None:
    """Store the demo's first printer where it is not there yet."""
    from tallgrain import demo
    from tallgrain.ui.demo.workshop import DEMO_PRINTER

    demo.put_sheet(ledger, DEMO_PRINTER)
