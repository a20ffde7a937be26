"""The demo's Hands menu in the window."""

from collections.abc import Callable
from typing import TYPE_CHECKING, cast

from tallgrain.ui.demo.hands import AtTheBench, Hands

if TYPE_CHECKING:
    from tallgrain.ui.app.window import Window
    from tallgrain.ui.stations.adjusters.room import AdjustersRoom
    from tallgrain.ui.stations.gap.room import GapRoom


def hands_menu(window: "Window", where: Callable[[], str]) -> Hands:
    """Add the menu; `where` tells the address of the stand-in's hands."""
    hands = Hands(where, window)
    hands.told.connect(window.asking.say)
    hands.failed.connect(window.tell)
    hands.printed.connect(lambda seen: _show_patch(window, hands, seen))
    hands.bench = lambda: _at_the_bench(window)
    menu = window.menus.menu("H&ands (demo)")
    for words, act in hands.actions():
        if words:
            window.menus.add(menu, words, act)
        else:
            menu.addSeparator()
    return hands


def _at_the_bench(window: "Window") -> AtTheBench:
    """What a person would have at hand, from what is shown."""
    gap = cast("GapRoom", window.rooms["Gap"])
    adjusters = cast("AdjustersRoom", window.rooms["Adjusters"])
    page = window.gap.page if window.station.name == "Gap" else window.probe.gap
    sheet, skew = window.session.sheet, window.shared.skew
    return AtTheBench(
        page.gauge.value(),
        sheet.plate.datum_point if sheet else (0.0, 0.0),
        gap.trials.program,
        gap.work.aim.nozzle_c,
        gap.work.aim.plate_c,
        adjusters.work.screw,
        skew.program,
        skew.jaws(),
    )


def _show_patch(window: "Window", hands: Hands, seen: object) -> None:
    """What lies on the plate after a print; taken off when it was looked at."""
    from tallgrain.ui.dialogs.patch import PatchDialog

    assert isinstance(seen, dict)
    dialog = PatchDialog(seen, window)
    dialog.finished.connect(lambda _: hands.act("hands.clean"))
    dialog.open()
