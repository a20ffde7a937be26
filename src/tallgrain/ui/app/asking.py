"""What the window says and asks in boxes of its own."""

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QInputDialog, QMessageBox

from tallgrain import __version__
from tallgrain.core.machine.sheet import checked_name
from tallgrain.errors import InputError, OtherComputer, TallGrainError, printable
from tallgrain.link.connect import is_by_hand
from tallgrain.procedures.by_itself import WARNING
from tallgrain.ui.app.keys import KEYS
from tallgrain.ui.dialogs.by_hand import HandDialog
from tallgrain.ui.session.state import LinkState

if TYPE_CHECKING:
    from tallgrain.ui.app.window import Window

# Hotter than this, skin burns at a touch (ISO 13732-1, bare metal).
HOT_C = 50.0


class Asking:
    """Boxes over the window; none of them stops what moves."""

    def __init__(self, window: "Window") -> None:
        self._window = window

    # Saying

    def _box(self, title: str, words: str, more: str = "") -> QMessageBox:
        box = QMessageBox(QMessageBox.Icon.NoIcon, title, words, parent=self._window)
        box.setTextFormat(Qt.TextFormat.PlainText)  # what a printer or a file says has no markup
        box.setInformativeText(more)
        return box

    def _offer(
        self,
        title: str,
        words: str,
        more: str,
        do: str,
        act: Callable[[], object],
        leave: str,
        otherwise: Callable[[], object] | None = None,
    ) -> None:
        """Offer one act; the other button leaves things as they are, or does something else."""
        box = self._box(title, words, more)
        made = box.addButton(do, QMessageBox.ButtonRole.AcceptRole)
        left = box.addButton(leave, QMessageBox.ButtonRole.RejectRole)
        assert made is not None and left is not None
        made.clicked.connect(lambda: act())
        if otherwise is not None:
            left.clicked.connect(lambda: otherwise())
        box.open()

    def by_itself(self) -> None:
        """Let the printer survey by itself: what that is, is told before."""
        motion = self._window.session.motion
        self._offer(
            "The printer surveys by itself",
            WARNING,
            "Look how far the nozzle stands above the plate first, and say so on the bench.",
            "Begin: my hand is at the switch",
            motion.let_survey,
            "Cancel",
        )

    def table_first(self, places: int) -> None:
        """A survey over a link by hand is many acts, where a table might do."""
        self._offer(
            f"{places} places by hand",
            f"Each of the {places} places is two acts of yours: go there, and touch.",
            "A printer that surveys by itself, or another program that drives it, tells all of "
            "them at once: copy its table, and paste it here. What is not plain in it is asked.",
            "Paste its table",
            self._window.files.paste,
            "Act by act",
            lambda: self._window.session.motion.start_survey(act_by_act=True),
        )

    def say(self, words: str) -> None:
        """Tell something that is no fault."""
        self._box("Tall Grain", words).open()

    def tell(self, error: TallGrainError) -> None:
        """Say what went wrong and what to do."""
        what = error.what[:1].upper() + error.what[1:]
        words = f"{what}\n\n{error.where}" if error.where else what
        self._box("Tall Grain", words, error.remedy).open()

    def keys(self) -> None:
        """The keys."""
        self._box("Keys", "\n".join(f"{keys}:  {what}" for keys, what in KEYS)).open()

    def about(self) -> None:
        """What this is."""
        words = f"Tall Grain {__version__}, a bench instrument for people who build printers."
        more = (
            "Free software: GNU General Public License 3 or later.\n"
            "Typeface: B612, SIL Open Font License 1.1."
        )
        self._box("About", words, more).open()

    # Asking

    def link(self) -> None:
        """Ask where the printer is."""
        from tallgrain.ui.dialogs.link import LinkDialog

        session = self._window.session
        if session.sheet is None or session.busy:
            return
        self.linking = LinkDialog(session.sheet.name, self._window)
        self.linking.accepted.connect(lambda: self._link_to(self.linking.url))
        self.linking.open()

    def _link_to(self, url: str) -> None:
        if is_by_hand(url):
            self._by_hand()
        self._window.session.linking.link_to(url)

    def _by_hand(self) -> None:
        """Whoever is here is asked from now on."""
        linking = self._window.session.linking
        if linking.ask is None:
            linking.ask = HandDialog(self._window)

    def network(self, error: TallGrainError) -> None:
        """A printer on another computer is linked to once a person said so."""
        if isinstance(error, OtherComputer):
            session = self._window.session
            url = session.url
            self._offer(
                "Another computer",
                f"{error.what[:1].upper()}{error.what[1:]}",
                "Link to it only where you trust the network between them.",
                "Link to it",
                lambda: session.linking.link_to(url, remote=True),
                "Don't",
            )

    def name(self, old: str, error: TallGrainError) -> None:
        """A stored printer can't be read: its name may be the reason, and can be mended."""
        self._offer(
            "Tall Grain",
            f"The printer {printable(old)!r} can't be shown: {error.what}",
            "Its surveys are kept. Another name may be all that it needs.",
            "Rename it …",
            lambda: self.rename(old),
            "Cancel",
        )

    def sheet_on(self) -> None:
        """Which sheet lies on the plate now? One that is not known yet joins the printer's."""
        window = self._window
        session, drafts = window.session, window.drafts
        if session.sheet is None:
            return
        names = [top.name for top in session.sheet.sheets]
        known = [*names, "none that has a name"]
        at = names.index(session.plate_sheet) if session.plate_sheet in names else len(names)
        words = "Which sheet lies on the plate? A name that is new joins this printer's sheets."
        name, ok = QInputDialog.getItem(window, "Sheet on the plate", words, known, at, True)
        name = name.strip()
        if not ok or not name:
            return
        if name not in known:
            draft = drafts.draft
            if draft is None:
                return
            try:
                name = checked_name(name)
            except ValueError as error:
                self.tell(InputError(f"{error}.", "sheet", "Give it a short name."))
                return
            tops = [*draft.document.get("sheets", []), {"name": name}]
            drafts.edit_and_store(f"the sheet {name}", draft.with_value(("sheets",), tops))
        session.put_sheet_on(None if name == known[-1] else name)

    def rename_shown(self) -> None:
        """Call the printer that is shown otherwise."""
        if self._window.session.sheet is not None:
            self.rename(self._window.session.sheet.name)

    def rename(self, old: str) -> None:
        """Ask for another name and take all that is kept along."""
        name, ok = QInputDialog.getText(self._window, "Rename", f"New name of {printable(old)}:")
        if not ok:
            return
        try:
            self._window.session.rename(old, name)
        except TallGrainError as error:
            self.tell(error)
            return
        self._window.refresh_printers()

    def hands_in(self) -> None:
        """A person's hands go to the printer; where it is hot, cooling is offered first."""
        s = self._window.session
        state = s.state if s.link is LinkState.UP and not s.busy else None
        s.motion.set_hands(True)
        if state is None or not (state.plate.hot(HOT_C) or state.nozzle.hot(HOT_C)):
            return
        self._offer(
            "Hands in",
            f"Plate: {state.plate.words}, nozzle: {state.nozzle.words}. Nothing moves "
            "until you say that your hands are clear.",
            "",
            "Heaters off, let it cool",
            lambda: s.set_heat(0.0, 0.0),
            "I know that it is hot",
        )

    # Windows of their own

    def event(self) -> None:
        """Ask what happened to the printer."""
        from tallgrain.ui.dialogs.event import EventDialog

        window = self._window
        if window.session.sheet is None:
            return
        dialog = EventDialog(window.session.sheet.name, list(window.rooms), window)
        dialog.accepted.connect(lambda: window.take_event(dialog.event_noted()))
        dialog.open()

    def table(self) -> None:
        """The points of what is shown as a table."""
        from tallgrain.ui.dialogs.table import TableDialog

        surface = self._window.surface
        text = surface.table()
        if text:
            TableDialog(text, surface.subject.text(), self._window).open()

    def away(self) -> None:
        """What is put away, to be brought back."""
        from tallgrain.ui.dialogs.putting_away import AwayDialog

        AwayDialog(self._window.session, self._window.turn_away, self._window).open()

    def finder(self) -> None:
        """The command finder."""
        from tallgrain.ui.dialogs.finder import Finder

        Finder(self._window.menus.commands, self._window).open()
