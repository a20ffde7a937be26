"""Heights out of logs and consoles: read right, or asked about; never silently wrong."""

import json
import os
import random

import numpy as np
import pytest

from standins import as_json, tallgrain
from tallgrain.errors import InputError
from tallgrain.formats.log_text import Answers, OpenQuestion, chosen, points_of, surfaces
from tallgrain.formats.matrix_text import Extent

SEEDS = 500 if os.environ.get("TALLGRAIN_PROVE") else 120
PROMPTS = ("", "> ", "printer> ", "recv: ", "$ ", "12:01:07.123 ", "[12:01:07] ", "[bed] ",
           "2026-02-03T04:05:06Z ", "(12.345 s) ", "<< ")  # fmt: skip


class Made:
    """A text of heights as some program might write it, and what is true of it. Written apart from
    the reader: it lays out, and knows nothing of how that is taken apart."""

    def __init__(self, seed):
        self.r = r = random.Random(seed)
        n, m = r.randint(3, 9), r.randint(3, 9)
        self.x0, self.x1 = r.choice(((10.0, 210.0), (-90.0, 90.0), (15.5, 280.5)))
        self.y0, self.y1 = r.choice(((5.0, 205.0), (-85.0, 85.0), (12.0, 250.0)))
        grid = np.random.default_rng(seed)
        self.truth = grid.normal(0, 0.08, (m, n)) + np.linspace(0, 0.2, n)
        self.rear, self.right = r.random() < 0.5, r.random() < 0.3
        self.unit = r.choice(("mm", "mm", "um", "inch"))
        self.levels = r.random() < 0.2
        self.comma = r.random() < 0.3
        self.index = r.choice(("none", "none", "from 0", "from 1", "places", "down"))
        self.style = r.choice(("space", "tab", "semicolon", "comma", "bars", "brackets", "padded"))
        if self.comma and self.style in ("comma", "brackets"):
            self.style = "semicolon"
        self.prompt = r.choice(PROMPTS)
        self.says_order = r.random() < 0.4
        self.holes = r.choice(("", "", "nan", "--", "-", "n/a"))
        if self.holes:
            self.truth[r.randrange(m), r.randrange(n)] = np.nan
        self.spaced = r.random() < 0.15
        self.text = self._text()

    def _figure(self, z):
        if np.isnan(z):
            return self.holes or "nan"
        z = -z if self.levels else z
        z = {"mm": z, "um": z * 1000, "inch": z / 25.4}[self.unit]
        words = f"{z:{self.r.choice(('', '+'))}.{ {'mm': 4, 'um': 1, 'inch': 6}[self.unit] }f}"
        return words.replace(".", ",") if self.comma else words

    def _join(self, cells):
        if self.style == "bars":
            return "| " + " | ".join(cells) + " |"
        if self.style == "brackets":
            return "[" + ", ".join(cells) + "]"
        if self.style == "padded":
            return "  " + "   ".join(c.rjust(8) for c in cells)
        return {"space": " ", "tab": "\t", "semicolon": "; ", "comma": ", "}[self.style].join(cells)

    def _text(self):
        m, n = self.truth.shape
        rows = self.truth[::-1] if self.rear else self.truth
        rows = rows[:, ::-1] if self.right else rows
        xs, ys = np.linspace(self.x0, self.x1, n), np.linspace(self.y0, self.y1, m)
        xs, ys = xs[::-1] if self.right else xs, ys[::-1] if self.rear else ys
        heading = ["surface of the bed"]
        if self.unit != "mm" or self.r.random() < 0.3:
            heading.append({"mm": "in mm", "um": "in µm", "inch": "in inches"}[self.unit])
        if self.says_order:
            heading.append("rear first" if self.rear else "front row first")
        if self.right:
            heading.append("right column first")
        if self.levels:
            heading.append("corrections")
        lines = [", ".join(heading)]
        down = range(n - 1, -1, -1) if self.right else range(n)
        numbers = {
            "from 0": [str(i) for i in range(n)],
            "from 1": [str(i + 1) for i in range(n)],
            "down": [str(i) for i in down],
            "places": [f"{x:.1f}".replace(".", "," if self.comma else ".") for x in xs],
        }.get(self.index)
        if numbers:
            corner = [""] if self.index == "places" and self.style == "bars" else []
            lines.append(self._join([*corner, *numbers]))
        for i, row in enumerate(rows):
            cells = [self._figure(z) for z in row]
            if self.index == "places":
                cells = [f"{ys[i]:.1f}".replace(".", "," if self.comma else "."), *cells]
            elif numbers:
                cells = [str(i + (self.index == "from 1")), *cells]
            lines.append(self._join(cells))
            if self.spaced:
                lines.append("")
        return "\n".join(self.prompt + line if line else "" for line in lines) + "\nok\n"

    def told(self, question):
        """What somebody who has the printer answers to what is asked, and to nothing else."""
        words = str(question)
        extent = None
        if "--extent" in words:
            ends = (self.x1, self.x0) if self.right else (self.x0, self.x1)
            extent = Extent(*ends, self.y0, self.y1)
        return Answers(
            extent,
            ("rear" if self.rear else "front") if "--rows" in words else None,
            ("right" if self.right else "left") if "--columns" in words else None,
            self.unit if "--unit" in words else None,
            ("levels" if self.levels else "heights") if "--sign" in words else None,
        )

    def right_points(self):
        m, n = self.truth.shape
        xs, ys = np.linspace(self.x0, self.x1, n), np.linspace(self.y0, self.y1, m)
        return {
            (round(x, 1), round(y, 1)): self.truth[j, i]
            for j, y in enumerate(ys) for i, x in enumerate(xs) if not np.isnan(self.truth[j, i])
        }  # fmt: skip


def read(made):
    """Its points with as many answers as are asked for, and how many questions that took."""
    answers, asked = Answers(), 0
    while True:
        try:
            one = chosen(surfaces(made.text, "a log"), answers, "a log")
            return points_of(one, answers, "a log"), asked
        except OpenQuestion as question:
            asked += 1
            assert asked < 4, question
            answers = made.told(question)


@pytest.mark.parametrize("batch", range(4))
def test_no_layout_is_silently_wrong(batch):
    wrong, refused, many = [], [], 0
    for seed in range(batch * SEEDS // 4, (batch + 1) * SEEDS // 4):
        made = Made(seed)
        try:
            points, asked = read(made)
        except InputError as no:
            refused.append((seed, str(no)))
            continue
        many += asked > 1
        true = made.right_points()
        found = {(round(p.x, 1), round(p.y, 1)): p.z for p in points}
        near = found.keys() == true.keys() and all(
            abs(found[k] - z) < 2e-4 for k, z in true.items()
        )
        if not near:
            wrong.append(seed)
    assert not wrong, (wrong, Made(wrong[0]).text)
    assert not refused, (refused[:3], Made(refused[0][0]).text)
    assert many <= SEEDS / 4 / 10


LOG = """\
2026-02-03 18:20:01 [bed] warm, 60 C
2026-02-03 18:24:40 [bed] first surface, in µm, rear first
2026-02-03 18:24:40 | 12,0 | -8,5 | 30,1 |
2026-02-03 18:24:41 | 10,0 |      | 28,4 |
2026-02-03 18:24:41 | 9,0  | -2,5 | 20,0 |
2026-02-03 18:31:02 [bed] second surface, in µm, rear first
2026-02-03 18:31:02 | 11,0 | -9,5 | 31,1 |
2026-02-03 18:31:02 | 10,5 | 1,0  | 27,4 |
2026-02-03 18:31:03 | 8,0  | -1,5 | 21,0 |
done in 12.5 s
"""


def test_a_log_on_the_command_line(home, tmp_path):
    """Several surfaces are asked about, then where they lie; its own date is taken."""
    path = tmp_path / "evening.txt"
    path.write_text(LOG)
    words = ("import", path, "--machine", "Barley")
    assert "--which: 1: 3 × 3, line 3" in tallgrain(*words, check=2).stderr
    asked = tallgrain(*words, "--which", "2", check=2).stderr
    assert "--extent" in asked and "--rows" not in asked and "--unit" not in asked
    told = (*words, "--which", "2", "--extent", "20,300,30,280")
    ident = as_json(*told)["survey"]
    out = tmp_path / "out.json"
    tallgrain("export", ident, out, check=0)
    made = json.loads(out.read_text())
    assert made["taken_at"].startswith("2026-02-03") and len(made["points"]) == 9
    at = {(p["x"], p["y"]): p["z"] for p in made["points"]}
    assert at[20.0, 280.0] == pytest.approx(0.011) and at[300.0, 30.0] == pytest.approx(0.021)
    holes = as_json(*words, "--which", "1", "--extent", "300,20,30,280", "--sign", "levels")
    tallgrain("export", holes["survey"], tmp_path / "first.json", check=0)
    made = json.loads((tmp_path / "first.json").read_text())
    at = {(p["x"], p["y"]): p["z"] for p in made["points"]}
    assert len(at) == 8 and at[300.0, 280.0] == pytest.approx(-0.012)
    assert "--unit" in tallgrain(*told, "--unit", "ell", check=2).stderr


@pytest.mark.parametrize(
    ("text", "asked"),
    [
        ("0.1 0.2 0.3\n0.2 0.1 0.1\n0.3 bad 0.2\n> ok", "something else among them"),
        ("> 0.1 0.2 0.3\n> 0.2 0.1 0.1\n> 0.3 0.2\n", "rows have"),
        ("> 110 20 30\n> 20 -15 10\n> 0 22 15\n", "unit"),
        ("corrections:\n> 0.1 0.2\n> 0.2 0.1\n", "what would level"),
        ("> 0,1 0.2 0.3\n> 0.2 0.1 0.1\n", "some figures have points"),
        ("nothing here: at all\n> 12\n", "no heights"),
    ],
)
def test_what_is_open_is_asked(text, asked):
    with pytest.raises(InputError, match=asked):
        points_of(chosen(surfaces(text, "a log"), Answers(), "a log"), Answers(), "a log")


def test_lines_that_name_their_places():
    line = "[12:0{0}:00] touched x: {0}0 y={0}5, z: 0.0{0} ok"
    text = "\n".join(line.format(i) for i in range(5))
    points = points_of(surfaces(text, "a log")[0], Answers(), "a log")
    assert [(p.x, p.y, p.z) for p in points] == [
        (10 * i, 10 * i + 5, pytest.approx(0.01 * i)) for i in range(5)
    ]
