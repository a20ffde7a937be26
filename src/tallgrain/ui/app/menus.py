"""The menus: every act by name, with its keys; what can't be done now is grey and says why."""

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QActionGroup, QKeySequence
from PyQt6.QtWidgets import QMenu

from tallgrain.ui.app.acts import NO_PRINTER, NO_SURVEY, Acts
from tallgrain.ui.app.dress import CHOICES, choose_colours, colours_chosen
from tallgrain.ui.app.growing import SIZES, size_chosen
from tallgrain.ui.app.recent import FILES, PRINTERS, recent
from tallgrain.ui.session.edits import PlanEdit
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.stations.rooms import SUMMIT
from tallgrain.ui.stations.surface.pictures import Layer
from tallgrain.ui.stations.surface.station import ABOUT
from tallgrain.ui.widgets.clearance import ClearanceRow

if TYPE_CHECKING:
    from tallgrain.ui.app.window import Window


class Menus:
    """The window's menus and the list of all their commands."""

    def __init__(self, window: "Window") -> None:
        self._window, self._session = window, window.session
        self.commands: list[tuple[str, QAction]] = []
        self.acts = Acts()
        self._file_menu()
        self._edit_menu()
        self._printer_menu()
        self._survey_menu()
        self._view_menu()
        route = self.menu("&Route")
        self.add(route, f"&{SUMMIT}", lambda: window.visit(SUMMIT), "Ctrl+F")
        for number, name in enumerate((n for n in window.rooms if n != SUMMIT), 1):
            digit = number % 10
            self.add(route, f"&{digit} {name}", lambda n=name: window.visit(n), f"Ctrl+{digit}")
        about = self.menu("&Help")
        self.add(about, "&Find a command …", lambda: window.asking.finder(), "Ctrl+K")
        self.add(about, "&Help for this station", window.toggle_help, "F1")
        self.add(about, "&Keys", lambda: window.asking.keys(), "Shift+F1")
        self.add(about, "&About Tall Grain", lambda: window.asking.about())

    def _file_menu(self) -> None:
        window = self._window
        file = self.menu("&File")
        need = self.acts.need
        need(
            self.add(file, "&Open survey file …", lambda: window.files.open_file(), "Ctrl+O"),
            self._printer,
        )
        self.save_action = self.add(
            file, "&Save survey as …", lambda: window.files.save_survey(), "Ctrl+S"
        )
        need(self.save_action, self._survey)
        picture = self.add(
            file, "Save &picture as …", lambda: window.files.save_picture(), "Ctrl+P"
        )
        report = self.add(
            file, "&Report on the season …", lambda: window.drift.ask_report(False), "Ctrl+R"
        )
        printed = self.add(file, "Pri&nt …", window.print_page, "Ctrl+Shift+P")
        need(picture, self._survey)
        for shown in (report, printed):
            need(shown, self._printer)
        self._recent = self._submenu(file, "R&ecent", self._list_recent)
        file.addSeparator()
        self.add(file, "&Add machine sheet …", lambda: window.files.add_sheet())
        need(
            self.add(file, "Pac&k this printer …", lambda: window.files.pack_printer()),
            self._printer,
        )
        self.add(file, "&Unpack a printer …", lambda: window.files.unpack())
        for words, act in (
            ("&Copy this printer's sheet to a new one …", lambda: window.files.copy_sheet()),
            ("Save machine s&heet as …", lambda: window.files.save_sheet()),
        ):
            need(self.add(file, words, act), self._printer)
        file.addSeparator()
        self.add(file, "&Quit", window.close, "Ctrl+Q")

    def _submenu(self, menu: QMenu, words: str, show: Callable[[], None]) -> QMenu:
        made = menu.addMenu(words)
        assert made is not None
        made.aboutToShow.connect(show)
        return made

    def _list_recent(self) -> None:
        window = self._window
        self._recent.clear()
        known = {name.lower() for name, _ in self._session.ledger.machines()}
        for name in recent(PRINTERS):
            if name.lower() in known:
                self._recent.addAction(name, partial(self._session.choose_printer, name))
        self._recent.addSeparator()
        for path in recent(FILES):
            self._recent.addAction(path, partial(window.files.take_file, Path(path)))

    def _edit_menu(self) -> None:
        window = self._window
        edit = self.menu("&Edit")
        window.surface.on_plan = lambda before, after: window.edits.push(
            PlanEdit(self._session, before, after)
        )
        undo = self.add(edit, "&Undo", window.edits.undo, "Ctrl+Z")
        redo = self.add(edit, "&Redo", window.edits.redo, "Ctrl+Shift+Z")
        for action, can in (
            (undo, window.edits.canUndoChanged),
            (redo, window.edits.canRedoChanged),
        ):
            action.setEnabled(False)
            can.connect(action.setEnabled)
        edit.addSeparator()
        for words, act, keys, reason in (
            ("&Copy the drawing and its figures", window.copy_shown, "Ctrl+C", self._printer),
            ("&Table of values …", lambda: window.asking.table(), "Ctrl+T", self._survey),
            (
                "&Paste points or a matrix of heights",
                lambda: window.files.paste(),
                "Ctrl+V",
                self._printer,
            ),
            ("Note an &event …", lambda: window.asking.event(), "Ctrl+E", self._printer),
        ):
            self.acts.need(self.add(edit, words, act, keys), reason)
        edit.addSeparator()
        self.acts.need(self.add(edit, "Put this survey &away", window.put_away_shown), self._survey)
        self.acts.need(
            self.add(edit, "Put this &printer away", window.put_away_printer), self._free_printer
        )
        self.add(edit, "What is put away …", lambda: window.asking.away())

    def _printer(self) -> str:
        return "" if self._session.sheet is not None else NO_PRINTER

    def _free_printer(self) -> str:
        return self._printer() or ("it is at work" if self._session.busy else "")

    def _at_surface(self) -> str:
        shown = getattr(self._window, "station", None)
        return "" if shown is None or shown.name == "Surface" else "at Surface: Ctrl+6"

    def _survey(self) -> str:
        return "" if self._session.shown is not None else NO_SURVEY

    def _printer_menu(self) -> None:
        window, session = self._window, self._session
        printer = self.menu("&Printer")
        self.link_action = self.add(printer, "&Link …", lambda: window.asking.link(), "Ctrl+L")
        self.acts.need(self.link_action, self._printer)
        self.add(printer, "&New printer …", window.new_printer, "Ctrl+N")
        self.add(printer, "&Teach a console …", window.teach_console)
        self.acts.need(
            self.add(printer, "&Rename this printer …", lambda: window.asking.rename_shown()),
            self._free_printer,
        )
        self.unlink_action = self.add(printer, "&Unlink", session.linking.unlink)
        self.keep_action = self.add(
            printer, "&Keep its values (survive power-off)", window.values.keep, "Ctrl+Shift+K"
        )
        self.sheet_action = self.add(
            printer, "Sh&eet on the plate …", lambda: window.asking.sheet_on()
        )
        self.acts.need(self.sheet_action, self._free_printer)
        printer.addSeparator()
        self.add(printer, "Hands &in (park, then nothing moves)", window.hands_in, "F9")
        self.add(printer, "Hands &clear", window.hands_clear, "F12")
        printer.addSeparator()
        self.heat_off = self.add(
            printer, "&Heaters off", lambda: session.set_heat(0.0, 0.0), "Ctrl+H"
        )
        tones = self.add(printer, "&Tones", window.toggle_tones)
        tones.setCheckable(True)
        tones.setChecked(True)
        printer.addSeparator()
        self.add(printer, "&Stop (Esc while it moves)", session.motion.halt)

    def _survey_menu(self) -> None:
        window = self._window
        survey = self.menu("&Survey")
        self.add(survey, "&Survey, or the one next step", window.primary, "F5")
        self.add(
            survey, "&Resume the survey that is shown", self._session.motion.resume_survey, "F7"
        )
        pause = self.add(survey, "Pa&use, or go on", self._session.motion.pause, "F4")
        self.acts.need(pause, lambda: "" if self._session.busy else "nothing is under way")
        self.add(survey, "&Break off", window.secondary, "F8")
        following = self.add(survey, "&Next step of the evening", window.leading.begin, "F2")
        self.acts.need(following, lambda: "" if window.leading.next else "no evening is open")
        self.add(survey, "&Plan points …", window.plan, "F6")
        for words, rounds, keys in (
            ("Survey &twice and compare", "twice", "Shift+F5"),
            ("Survey &cold, then hot", "cold_hot", ""),
        ):
            self.add(survey, words, lambda r=rounds: window.survey_pair(r), keys)
        alone = self.add(
            survey,
            "Let the printer survey by itself …",
            lambda: window.asking.by_itself(),
            "Ctrl+Shift+B",
        )
        self.acts.need(alone, self._by_itself)
        for words, take, keys in (
            ("&I read this clearance", ClearanceRow.take, "Ctrl+"),
            ("This &fits under the nozzle", lambda row: row.take_fit(True), "Ctrl+Shift+"),
        ):
            seen = self.add(survey, words, partial(window.take_clearance, take))
            seen.setShortcuts([QKeySequence(f"{keys}Return"), QKeySequence(f"{keys}Enter")])

    def _by_itself(self) -> str:
        s = self._session
        if not s.ready or s.printer is None:
            return "it is not linked, or at work"
        return "" if s.printer.surveys_alone else "what speaks for it knows no survey of its own"

    def _view_menu(self) -> None:
        view, surface = self.menu("&View"), self._window.surface
        made = []
        for layer in Layer:
            name, key = layer.value
            show = lambda which=layer: surface.show_layer(which)  # noqa: E731
            made.append(self.add(view, f"&{name}", show, key))
        view.addSeparator()
        made += [
            self.add(view, "Pin the sca&le", surface.pin_scale, "L"),
            self.add(view, "&Section P–Q", surface.toggle_section, "S"),
            self.add(view, "Section along a row", lambda: surface.cut_along("row"), "X"),
            self.add(view, "Section along a column", lambda: surface.cut_along("column"), "Y"),
            self.add(view, "&Keep this survey in the section", surface.keep_in_section, "K"),
            self.add(view, "Zoom to the next &corner", surface.field.next_corner, "Z"),
            self.add(view, "&Whole plate", surface.whole, "0"),
        ]
        # A key is live where its page is shown, and nowhere else.
        for action in made:
            self.acts.need(action, self._at_surface)
        view.addSeparator()
        colours = QActionGroup(self._window)
        for which, words in CHOICES.items():
            worn = self.add(view, f"Colours: {words.lower()}", lambda c=which: choose_colours(c))
            worn.setCheckable(True)
            worn.setChecked(which == colours_chosen())
            colours.addAction(worn)
        sizes = QActionGroup(self._window)
        for percent in SIZES:
            large = self.add(
                view, f"Size: {percent} %", partial(self._window.growing.choose, percent)
            )
            large.setCheckable(True)
            large.setChecked(percent == size_chosen())
            sizes.addAction(large)
        view.addSeparator()
        about = QActionGroup(self._window)
        for which, words in ABOUT.items():
            chosen = self.add(view, f"Heights {words}", lambda a=which: surface.refer_to(a))
            chosen.setCheckable(True)
            chosen.setChecked(which == self._session.reference)
            about.addAction(chosen)

    def menu(self, words: str) -> QMenu:
        """Another menu on the bar."""
        bar = self._window.menuBar()
        assert bar is not None
        menu = bar.addMenu(words)
        assert menu is not None
        return menu

    def add(self, menu: QMenu, words: str, act: object, keys: str = "") -> QAction:
        """An act in a menu, which the command finder knows too."""
        action = QAction(words, self._window)
        if keys:
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(lambda _=False: act())  # type: ignore[operator]
        menu.addAction(action)
        self.commands.append((f"{menu.title()} › {words}".replace("&", ""), action))
        return action

    def follow(self) -> None:
        """Follow the session."""
        s = self._session
        self.acts.follow()
        self.link_action.setEnabled(not s.busy and s.sheet is not None)
        self.unlink_action.setEnabled(s.link is not LinkState.NONE and not s.busy)
        self.heat_off.setEnabled(s.ready)
        self.keep_action.setEnabled(s.ready and bool(self._window.values.not_kept))
