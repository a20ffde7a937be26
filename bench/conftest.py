"""Each benchmark is a ratio against a named reference in the same run, told at the end."""

import sys
import time
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

KEPT = Path(__file__).parent.parent / "docs" / "bench.md"
HEAD = """# Speed

The newest figures of `./run bench`, on two cores of a shared machine: ratios against a named
reference in the same run hold anywhere, milliseconds there alone. What grew three times as large
fails in CI by counts of work (`bench/counts.py`).
"""
_lines = []


@pytest.fixture
def tell():
    """Note a line for the summary."""
    return lambda line: _lines.append(line)


@pytest.fixture
def versus(benchmark, tell):
    """Time ours against a reference, turn by turn; medians and their ratio."""

    def run(name, ours, reference, aim, rounds=15):
        times = {ours: [], reference: []}
        for _ in range(rounds + 2):
            for work in times:
                began = time.perf_counter()
                work()
                times[work].append(time.perf_counter() - began)
        mine, other = (sorted(t[2:])[rounds // 2] * 1000 for t in times.values())
        benchmark.pedantic(ours, rounds=3, warmup_rounds=1)
        benchmark.extra_info.update(ratio=mine / other, reference_ms=other)
        tell(f"{name}: {mine:.2f} ms / {other:.2f} ms = {mine / other:.2f} (aim {aim})")

    return run


def pytest_terminal_summary(terminalreporter, exitstatus, config):
    terminalreporter.section("ratios")
    for line in _lines:
        terminalreporter.write_line(line)
    whole = not config.getoption("keyword") and config.args == ["bench"]
    if whole and exitstatus == 0:
        told = "\n".join(f"- {line.strip()}" for line in _lines)
        KEPT.write_text(f"{HEAD}\n{told}\n", encoding="utf-8")
