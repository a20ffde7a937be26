"""A thousand surveys of 25 x 25: the station opened, any two compared, all series and changes."""

import time
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from PyQt6.QtCore import QEventLoop, QTimer

from tallgrain.core.drift.judged import judge_season
from tallgrain.core.drift.season import SeasonRows
from tallgrain.core.drift.terms import season_terms
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.procedures.learning import stated
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import application, make_window
from tallgrain.ui.session.look_back import LookBack

SHEET = parse_sheet(shipped_sheet_text("Barley"), "Barley")
GRID = np.array([(x, y) for y in np.linspace(15, 335, 25) for x in np.linspace(15, 335, 25)])
COUNT = 1000


def spin(condition, seconds=60.0):
    loop, until = QEventLoop(), time.monotonic() + seconds
    timer = QTimer(interval=2)
    timer.timeout.connect(lambda: (condition() or time.monotonic() > until) and loop.quit())
    timer.start()
    loop.exec()
    assert condition()


@pytest.fixture(scope="module")
def home(tmp_path_factory):
    """A data folder with the season in it."""
    folder = tmp_path_factory.mktemp("season")
    chance = np.random.default_rng(1)
    u, v = (GRID[:, 0] - 175) / 175, (GRID[:, 1] - 175) / 175
    with Ledger.open(folder) as ledger:
        began = datetime(2024, 1, 1, tzinfo=UTC)
        ledger.put_machine("Barley", shipped_sheet_text("Barley"), began)
        for i in range(COUNT):
            heights = (
                0.08 * u**2 - 0.03 * v**2 + (i > 600) * 0.03 * u + chance.normal(0, 0.005)
                + chance.normal(0, 0.003, len(u))
            )  # fmt: skip
            points = tuple(
                Point(float(x), float(y), float(z)) for (x, y), z in zip(GRID, heights, strict=True)
            )
            ledger.add_survey(
                Survey("Barley", "surface", began + timedelta(days=0.7 * i), points,
                       Conditions(170, 70, 12, "smooth"), shape=(25, 25))
            )  # fmt: skip
    return folder


@pytest.fixture(scope="module")
def rows(home):
    with Ledger.open(home, write=False) as ledger:
        return ledger.season("Barley")


def test_series_against_a_bare_projection(versus, rows: SeasonRows):
    """All terms, flatness too, beside six-term least squares of the same arrays in one product."""
    box = SHEET.plate.outline
    heights = rows.heights.reshape(COUNT, -1)
    u, v = (GRID[:, 0] - 175) / 175, (GRID[:, 1] - 175) / 175
    matrix = np.column_stack([np.ones(len(u)), u, v, u**2, v**2, u * v])

    def bare():
        fitted = np.linalg.lstsq(matrix, heights.T, rcond=None)[0]
        return (heights.T - matrix @ fitted).std(axis=0)

    versus(
        "terms of 1,000 surveys of 25 x 25 / bare NumPy projection of the same arrays",
        lambda: season_terms(rows, box, (0, 0)), bare, "3 at most",
    )  # fmt: skip


def test_all_series_and_change_points(benchmark, tell, rows):
    times = []
    for _ in range(5):
        began = time.perf_counter()
        found = judge_season(rows, SHEET, [])
        times.append((time.perf_counter() - began) * 1000)
    assert [h.survey for h in found.happenings] == ["602"]
    benchmark.pedantic(lambda: None, rounds=1)
    tell(f"series and changes of 1,000 surveys of 25 x 25: median {sorted(times)[2]:.0f} ms (1000)")


def test_any_survey_against_any(benchmark, tell, home):
    """As the window does it: both read from the ledger, compared, drawn."""
    application()
    with Ledger.open(home, write=False) as ledger:
        back = LookBack(ledger, None)
        chance, times = np.random.default_rng(2), []
        for _ in range(40):
            a, b = chance.choice(np.arange(1, COUNT + 1), 2, replace=False)
            began = time.perf_counter()
            assert back._compared(str(a), str(b), SHEET, stated(SHEET)).comparison is not None
            times.append((time.perf_counter() - began) * 1000)
        back.close()
    benchmark.pedantic(lambda: None, rounds=1)
    times.sort()
    tell(f"any of 1,000 surveys of 25 x 25 against any: median {times[20]:.1f}, p95 "
         f"{times[38]:.1f} ms (aim 30)")  # fmt: skip


def test_the_station_opens(benchmark, tell, monkeypatch, home):
    monkeypatch.setenv("TALLGRAIN_HOME", str(home))
    application()
    ledger = Ledger.open(home)
    window = make_window(ledger, home)
    window.show()
    up = time.perf_counter()
    window.visit("Drift")
    work = window.drift.work
    spin(lambda: work.judged is not None and window.drift.season.tiles._picture is not None)
    window.drift.widget.grab()
    took = (time.perf_counter() - up) * 1000
    window.may_close = lambda: True
    window.close()
    benchmark.pedantic(lambda: None, rounds=1)
    tell(f"Drift on 1,000 surveys of 25 x 25: open {took:.0f} ms after the window is up (aim 1000)")
