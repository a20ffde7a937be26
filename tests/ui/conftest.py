import pytest
from drawn_words import Watcher
from pytestqt.qtbot import QtBot

from at_the_window import activated
from tallgrain import demo
from tallgrain.ui.app.start import application, make_window, prepare_demo

PATIENCE_MS = 60_000


@pytest.fixture(scope="session")
def qapp():
    return application()


@pytest.fixture(scope="session")
def drawn():
    watcher = Watcher()
    watcher.watch()
    return watcher


@pytest.fixture(autouse=True)
def _patience(monkeypatch):
    """How long something takes is the machine's business: beside other work a second is ten. What
    never comes fails all the same."""
    wait = QtBot.waitUntil

    def until(self, told, *, timeout=PATIENCE_MS):
        wait(self, told, timeout=max(timeout, PATIENCE_MS))

    monkeypatch.setattr(QtBot, "waitUntil", until)


@pytest.fixture(autouse=True)
def _words_stand_apart(drawn):
    """Whatever a test comes to see: no words over each other, none cut."""
    drawn.found.clear()
    yield
    assert not drawn.found, "\n".join(sorted(drawn.found))


@pytest.fixture
def season(bench, qtbot, home):
    """The window on the year that ships, its newest survey shown and compared."""
    demo.prepare(home)
    window, made = bench()
    qtbot.waitUntil(lambda: window.session.back.compared is not None, timeout=10_000)
    qtbot.wait(50)
    return window, made


@pytest.fixture
def bench(qtbot, standin, home, request):
    """The real window on a stand-in; `bench(...)` gives window and stand-in, linked."""
    windows = []

    def open_bench(*options, link=True, size=(1280, 800)):
        from tallgrain.store.ledger import Ledger

        ledger = Ledger.open(home, "Another window")
        prepare_demo(ledger)
        made = standin(*options) if link else None
        window = make_window(ledger, home)
        windows.append(window)
        window.session.plate_sheet = "smooth"
        window.resize(*size)
        window.show()
        activated(window)
        if made:
            window.session.linking.link_to(made.url)
            qtbot.waitUntil(lambda: window.session.link.value == "up", timeout=10_000)
        return window, made

    yield open_bench
    for window in windows:
        if window.session.busy:
            window.session.motion.halt()
            qtbot.waitUntil(lambda w=window: not w.session.busy, timeout=10_000)
        window.session.set_heat(0.0, 0.0)
        window.may_close = lambda: True
        window.close()
        qtbot.waitUntil(lambda w=window: not w.isVisible(), timeout=10_000)
        window.deleteLater()
