"""Files in and out of the window: surveys, pasted text, machine sheets, pictures."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QApplication, QFileDialog, QInputDialog

from tallgrain.clock import now
from tallgrain.core.machine.placed import check_placed
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Survey
from tallgrain.errors import TallGrainError
from tallgrain.formats.files import (
    ENDINGS,
    SOLIDS,
    WRITTEN,
    MatrixWithoutExtent,
    read_survey,
    survey_of_text,
    told_of,
    write_survey,
)
from tallgrain.formats.layout import Layout, OpenLayout
from tallgrain.formats.log_text import Answers, OpenQuestion
from tallgrain.formats.machine_toml import read_sheet_text
from tallgrain.formats.pack import read_pack, write_pack
from tallgrain.link.connect import dialect_folder
from tallgrain.paths import data_home
from tallgrain.procedures.travel import join, packed, words
from tallgrain.textio import LARGEST_SURVEY, read_text
from tallgrain.ui.app.recent import FILES, remember
from tallgrain.ui.dialogs.matrix import MatrixDialog, Told
from tallgrain.ui.session.worker import Worker

if TYPE_CHECKING:
    from tallgrain.ui.app.window import Window

Read = Callable[[Answers | None, Layout | None], Survey]


def _text_of(path: str) -> str:
    """A file's text, to be drawn; "" where it is none."""
    try:
        return read_text(Path(path), LARGEST_SURVEY)
    except TallGrainError:
        return ""


class Filing(QObject):
    """What the File menu, the clipboard and dropped files do. Reading has a thread of its own."""

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        self._session = window.session
        self._last: tuple[Read, str, str] | None = None
        self.worker = Worker(self)
        self.worker.done.connect(self._stored)
        self.worker.failed.connect(self._refused)

    # Surveys

    def open_file(self) -> None:
        """Store a survey from a file and show it."""
        endings = " ".join(f"*{e}" for e in ENDINGS)
        name, _ = QFileDialog.getOpenFileName(
            self._window, "Open survey file", "", f"Surveys ({endings})"
        )
        if name:
            self.take_file(Path(name))

    def take_file(self, path: Path) -> None:
        """Store the survey in a file for the printer that is shown; a sheet makes a printer, a pack
        brings some."""
        remember(FILES, str(path.absolute()))
        if path.suffix.lower() == ".toml":
            self.take_sheet(path)
        elif path.suffix.lower() == ".zip":
            self.unpack_from(path)
        elif self._session.sheet is not None:
            name = self._session.sheet.name
            self._take(
                lambda answers, layout: read_survey(path, now(), name, None, layout, answers),
                str(path),
            )

    def paste(self) -> None:
        """Store the points or the matrix that lie on the clipboard as text."""
        clipboard, sheet = QApplication.clipboard(), self._session.sheet
        text = clipboard.text() if clipboard is not None else ""
        if sheet is not None:
            where, name = "pasted text", sheet.name
            self._take(
                lambda answers, layout: survey_of_text(
                    text, where, now(), name, None, layout, answers
                ),
                where,
                text,
            )

    def _take(self, read: Read, where: str, text: str = "", told: Told | None = None) -> None:
        sheet = self._session.sheet
        if sheet is None:
            return
        self._last = read, where, text
        self.worker.do("take", partial(self._store, read, where, told, sheet))

    def _store(
        self, read: Read, where: str, told: Told | None, sheet: MachineSheet
    ) -> tuple[str, str]:
        if told is None:
            found = read(None, None)
        else:
            found = told_of(
                read(told.answers, told.layout),
                told.taken_at,
                told.sheet,
                told.nozzle_c,
                told.plate_c,
            )
        found = found.for_machine(sheet.name)
        check_placed(found, sheet, where)
        return sheet.name, self._session.ledger.add_survey(found)

    def _stored(self, _: str, result: object) -> None:
        assert isinstance(result, tuple)
        machine, ident = result
        if self._session.sheet is not None and self._session.sheet.name == machine:
            self._session.show_stored(ident)

    def _refused(self, _: str, error: TallGrainError) -> None:
        sheet = self._session.sheet
        asked = isinstance(error, MatrixWithoutExtent | OpenLayout | OpenQuestion)
        if asked and self._last is not None and sheet is not None:
            read, where, text = self._last
            dialog = MatrixDialog(
                sheet,
                where,
                self._window,
                isinstance(error, OpenLayout),
                self._session.plate_sheet,
                text or _text_of(where),
                error.what if isinstance(error, OpenQuestion) else "",
            )
            dialog.accepted.connect(lambda: self._take(read, where, text, dialog.told()))
            dialog.open()
            return
        self._window.tell(error)

    def save_survey(self) -> None:
        """Write the survey that is shown to a file."""
        shown = self._session.shown
        if shown is None:
            return
        endings = " ".join(f"*{e}" for e in WRITTEN)
        name, _ = QFileDialog.getSaveFileName(
            self._window, "Save survey as", "", f"Surveys ({endings})"
        )
        if not name:
            return
        times = 1.0
        if Path(name).suffix.lower() in SOLIDS:
            times, ok = QInputDialog.getDouble(
                self._window, "Save relief", "Heights times:", 100.0, 1.0, 10_000.0, 0
            )
            if not ok:
                return
        self._try(lambda: write_survey(shown.survey, Path(name), times))

    # Sheets

    def pack_printer(self) -> None:
        """Everything that is known of this printer in one file, to travel."""
        sheet = self._session.sheet
        if sheet is None:
            return
        name, _ = QFileDialog.getSaveFileName(
            self._window, "Pack this printer", f"{sheet.name.lower()}.zip", "Packs (*.zip)"
        )
        if name:
            self.pack_to(Path(name))

    def pack_to(self, path: Path) -> None:
        """Pack the printer that is shown into a file."""
        s = self._session
        if s.sheet is not None:
            with self._told():
                made = packed(s.ledger, [s.sheet.name], data_home() / "backups", dialect_folder())
                write_pack(path, made)
                self._window.asking.say(f"{s.sheet.name} is packed into {path}.")

    def unpack(self) -> None:
        """Take a pack in."""
        name, _ = QFileDialog.getOpenFileName(self._window, "Unpack", "", "Packs (*.zip)")
        if name:
            self.unpack_from(Path(name))

    def unpack_from(self, path: Path) -> None:
        """Take a pack in: what is here already is not doubled, and stays as it is."""
        s = self._session
        with self._told():
            pack, folder = read_pack(path), data_home() / "backups"
            made, told = join(s.ledger, pack, folder, dialect_folder(), now())
            self._window.refresh_printers()
            if s.sheet is not None:
                s.choose_printer(s.sheet.name)
            self._window.asking.say("\n".join([*words(made), *told]))

    @contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except TallGrainError as error:
            self._window.tell(error)

    def add_sheet(self) -> None:
        """Store a machine sheet and show its printer."""
        name, _ = QFileDialog.getOpenFileName(
            self._window, "Add machine sheet", "", "Sheets (*.toml)"
        )
        if name:
            self.take_sheet(Path(name))

    def take_sheet(self, path: Path) -> None:
        """Store a machine sheet from a file and show its printer."""

        def take() -> None:
            sheet, text = read_sheet_text(path)
            self._session.ledger.put_machine(sheet.name, text, now())
            self._show_printer(sheet.name)

        self._try(take)

    def copy_sheet(self) -> None:
        """Another printer that begins as this one."""
        drafts = self._window.drafts
        name, ok = QInputDialog.getText(
            self._window, "Copy the sheet", "Name of the new printer:", text=f"{drafts.printer} two"
        )

        def copy() -> None:
            drafts.copy_to(name)
            self._show_printer(name.strip())

        if ok:
            self._try(copy)

    def _show_printer(self, name: str) -> None:
        self._session.choose_printer(name)
        self._window.refresh_printers()

    def save_sheet(self) -> None:
        """Write the sheet as it stands to a file."""
        own = f"{self._window.drafts.printer.lower()}.toml"
        name, _ = QFileDialog.getSaveFileName(
            self._window, "Save machine sheet as", own, "Sheets (*.toml)"
        )
        if name:
            self._try(lambda: self._window.machine.export(Path(name)))

    # Pictures

    def save_picture(self) -> None:
        """Save what the field shows."""
        name, _ = QFileDialog.getSaveFileName(
            self._window, "Save picture as", "", "Pictures (*.png *.svg *.pdf)"
        )
        if name:
            self._try(lambda: self._window.surface.save_picture(Path(name)))

    def _try(self, act: Callable[[], None]) -> None:
        try:
            act()
        except TallGrainError as error:
            self._window.tell(error)
