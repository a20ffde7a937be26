"""What a desktop needs beside the program, made from the program itself: the man page and the
shells' completion from the command line, the icon's sizes from its drawing.

`python scripts/share_files.py` renews them in share/; `--check` says whether they are up to date.
"""

import os
import sys
from pathlib import Path
from typing import Any

import typer

from tallgrain import __version__
from tallgrain.cli.verbs import app

SHARE = Path(__file__).resolve().parent.parent / "share"
# The drawing ships inside the program; the theme has a copy.
DRAWN = Path(__file__).resolve().parent.parent / "src/tallgrain/assets/icons/tallgrain.svg"
ICON = SHARE / "icons/hicolor/scalable/apps/org.tallgrain.TallGrain.svg"
SIZES = (16, 24, 32, 48, 64, 128, 256)
SHELLS = {
    "bash": "bash-completion/completions/tallgrain",
    "zsh": "zsh/site-functions/_tallgrain",
    "fish": "fish/vendor_completions.d/tallgrain.fish",
}
ENVIRONMENT = (("TALLGRAIN_HOME", "The folder that the ledger lies in, instead of the usual one."),)


def roff(text: str) -> str:
    """Text as a man page wants it."""
    plain = text.replace("\\", "\\e").replace("-", "\\-").replace("’", "'")
    return "\n".join(
        f"\\&{line}" if line.startswith((".", "'")) else line for line in plain.split("\n")
    )


def options_of(command: Any) -> list[str]:
    """An option a paragraph."""
    context = command.context_class(command)
    lines = []
    for one in command.params:
        record = None if one.param_type_name == "argument" else one.get_help_record(context)
        if record is not None:
            lines += [".TP", f"\\fB{roff(record[0])}\\fR", roff(record[1] or " ")]
    return lines


def usage_of(command: Any, words: str) -> str:
    """A verb with its arguments."""
    taken = []
    for one in command.params:
        if one.param_type_name == "argument":
            name = (one.metavar or one.name or "").upper()
            taken.append(f"\\fI{roff(name)}\\fR{'...' if one.nargs == -1 else ''}")
    more = any(one.param_type_name != "argument" for one in command.params)
    return " ".join([f"\\fB{roff(words)}\\fR", *taken, *(["[options]"] if more else [])])


def verbs_of(group: Any, before: str) -> list[str]:
    """A section a verb, those of groups under their group's name."""
    lines: list[str] = []
    for name in sorted(group.commands):
        command = group.commands[name]
        if command.hidden:
            continue
        words = f"{before} {name}"
        if hasattr(command, "commands"):
            lines += verbs_of(command, words)
            continue
        lines += [f".SS {usage_of(command, words)}", roff((command.help or "").strip())]
        lines += options_of(command)
    return lines


def man_page() -> str:
    """The whole manual of the command line."""
    group = typer.main.get_command(app)
    lines = [
        f'.TH TALLGRAIN 1 "" "Tall Grain {__version__}" "User Commands"',
        ".SH NAME",
        "tallgrain \\- probe, survey and judge a printer's bed",
        ".SH SYNOPSIS",
        "\\fBtallgrain\\fR [\\fIverb\\fR [\\fIarguments\\fR]]",
        ".SH DESCRIPTION",
        roff((group.help or "").strip()),
        ".PP",
        "Figures are in millimetres, heights positive where the plate is nearer to the nozzle.",
        "Whatever moves a printer downwards first asks how far its nozzle stands above the plate.",
        ".SH OPTIONS",
        *options_of(group),
        ".SH VERBS",
        *verbs_of(group, "tallgrain"),
        ".SH EXIT STATUS",
        ".TP", "0", "Done.",
        ".TP", "1", "The printer, the link or the guard ended it, or a further look is wanted.",
        ".TP", "2", "What was given can't be taken: the sentence says what and where.",
        ".TP", "3", "It was broken off; what was measured is kept.",
        ".SH ENVIRONMENT",
    ]  # fmt: skip
    for name, words in ENVIRONMENT:
        lines += [".TP", f"\\fB{name}\\fR", roff(words)]
    return "\n".join([*lines, ".SH LICENCE", "GPL\\-3.0\\-or\\-later.", ""])


def completions() -> dict[str, str]:
    """A shell's script by where it lies."""
    from typer.completion import get_completion_script

    return {
        path: get_completion_script(
            prog_name="tallgrain", complete_var="_TALLGRAIN_COMPLETE", shell=shell
        )
        + "\n"
        for shell, path in SHELLS.items()
    }


def made() -> dict[str, str]:
    """All texts, by where they lie in share/."""
    icon = str(ICON.relative_to(SHARE))
    return {"man/man1/tallgrain.1": man_page(), icon: DRAWN.read_text(), **completions()}


def stale() -> list[str]:
    """What is not as the program would make it now."""
    return [
        name
        for name, text in made().items()
        if not (SHARE / name).is_file() or (SHARE / name).read_text() != text
    ]


def draw_icons() -> None:
    """The icon's sizes."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QRectF
    from PyQt6.QtGui import QGuiApplication, QImage, QPainter
    from PyQt6.QtSvg import QSvgRenderer

    _app = QGuiApplication.instance() or QGuiApplication([])
    drawing = QSvgRenderer(str(ICON))
    for size in SIZES:
        image = QImage(size, size, QImage.Format.Format_ARGB32)
        image.fill(0)
        painter = QPainter(image)
        drawing.render(painter, QRectF(0, 0, size, size))
        painter.end()
        path = SHARE / f"icons/hicolor/{size}x{size}/apps/{ICON.stem}.png"
        path.parent.mkdir(parents=True, exist_ok=True)
        image.save(str(path))


def main() -> None:
    """Renew, or check."""
    if "--check" in sys.argv:
        old = stale()
        if old:
            sys.exit(f"share/ is not as the program is now: {', '.join(old)}. Run ./run package.")
        return
    for name, text in made().items():
        (SHARE / name).parent.mkdir(parents=True, exist_ok=True)
        (SHARE / name).write_text(text)
    draw_icons()


if __name__ == "__main__":
    main()
