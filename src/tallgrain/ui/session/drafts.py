"""The sheets that are being edited: one draft a printer, none lost by showing another printer."""

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from tallgrain.clock import now
from tallgrain.core.machine.describe import still_assumed
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import InputError, TallGrainError
from tallgrain.formats.draft import Draft
from tallgrain.formats.machine_toml import parse_sheet
from tallgrain.ui.session.session import Session


class SheetEdit(QUndoCommand):
    """One edit of a sheet; a drag is one edit, however many steps it had."""

    def __init__(self, drafts: "Drafts", words: str, before: Draft, after: Draft, run: int) -> None:
        super().__init__(words)
        self._drafts, self._before, self._after, self._run = drafts, before, after, run
        self._printer = drafts.printer

    def id(self) -> int:
        """Edits of one run become one."""
        return 11

    def mergeWith(self, other: QUndoCommand | None) -> bool:
        """Take a later step of the same drag in."""
        if not isinstance(other, SheetEdit) or other._run != self._run or not self._run:
            return False
        self._after = other._after
        return True

    def redo(self) -> None:
        """Make it (again)."""
        self._drafts.put(self._printer, self._after)

    def undo(self) -> None:
        """Take it back."""
        self._drafts.put(self._printer, self._before)


class Drafts(QObject):
    """Drafts by printer; `changed` tells that the one that is shown is another."""

    changed = pyqtSignal()
    stored = pyqtSignal(str)

    def __init__(self, session: Session, edits: QUndoStack) -> None:
        super().__init__(session)
        self._session = session
        self._edits = edits
        self._drafts: dict[str, Draft] = {}
        self._run = 0
        session.printer_changed.connect(self.changed)

    @property
    def printer(self) -> str:
        """The printer that is shown, by the name that its stored sheet has."""
        return self._session.sheet.name if self._session.sheet else ""

    @property
    def draft(self) -> Draft | None:
        """The draft of the printer that is shown; it begins as what is stored."""
        name = self.printer
        if not name:
            return None
        if name not in self._drafts:
            text = self._session.ledger.machine_text(name)
            if text is None:
                return None
            self._drafts[name] = Draft.of_text(text)
        return self._drafts[name]

    @property
    def sheet(self) -> MachineSheet | None:
        """What the drawing shows: the draft's sheet, or the stored one while it is none."""
        draft = self.draft
        return (draft.sheet if draft else None) or self._session.sheet

    def unstored(self) -> list[str]:
        """Printers whose sheets have edits that are not stored."""
        return [name for name, draft in self._drafts.items() if draft.changed]

    def put(self, printer: str, draft: Draft) -> None:
        """Take a draft, as an edit or its undoing."""
        self._drafts[printer] = draft
        self.changed.emit()

    def begin_drag(self) -> None:
        """What follows until the next edit of another kind is one edit."""
        self._run += 1

    def edit(self, words: str, after: Draft, drag: bool = False) -> None:
        """Make an edit that can be undone."""
        before = self.draft
        if before is None or after.document == before.document:
            return
        if after.document.get("assumed"):
            # What is changed by hand is assumed no more.
            left = still_assumed(before.document, after.document)
            after = after.with_value(("assumed",), left or None)
        self._edits.push(SheetEdit(self, words, before, after, self._run if drag else 0))

    def edit_and_store(self, words: str, after: Draft) -> None:
        """Make an edit and store the sheet at once: what was measured needs no second thought.
        Where it can't be stored, that is told and the edit stays."""
        self.edit(words, after)
        try:
            self.store()
        except TallGrainError as error:
            self._session.refused.emit(error)

    def discard(self) -> None:
        """Back to what is stored, as one edit."""
        draft = self.draft
        if draft is not None:
            self.edit("edits taken back", Draft.of_text(draft.text))

    def store(self) -> None:
        """Write the sheet to the ledger. Raises InputError where something grave stands against
        it, JobError where it can't be written; the draft stays as it is then."""
        draft = self.draft
        if draft is None:
            return
        grave = [f for f in draft.findings if f.grave]
        if grave:
            raise InputError(grave[0].sentence, f"sheet of {draft.name}", "Nothing was stored.")
        text = draft.as_text()
        old = self.printer
        if draft.name.lower() != old.lower():
            raise InputError(
                f"{old} is not renamed here: its surveys are kept under that name.",
                "name",
                "Printer › Rename this printer … takes them along.",
            )
        self._session.ledger.put_machine(draft.name, text, now())
        self._drafts[old] = Draft.of_text(text)
        self._session.take_sheet(parse_sheet(text, f"sheet of {old}"))
        self.stored.emit(old)
        self.changed.emit()

    def copy_to(self, name: str) -> None:
        """Store this draft as another printer's sheet. Raises InputError."""
        draft = self.draft
        if draft is None:
            return
        if self._session.ledger.machine_text(name.strip()) is not None:
            raise InputError(
                f"there is a printer '{name.strip()}' already.", "name", "Choose another name."
            )
        text = draft.copied(name).as_text()
        self._session.ledger.put_machine(name.strip(), text, now())
