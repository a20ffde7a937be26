"""The command line: every verb of docs/cli.md, as a table for people or JSON for programs."""

import os
import sys

from tallgrain.errors import TallGrainError, printable

# Set by the shells' completion (share/), which asks the program itself.
COMPLETING = "_TALLGRAIN_COMPLETE"


def _open_at_once(words: list[str]) -> None:
    """The window where nothing else was asked for, before the verbs and their library are read."""
    if words not in ([], ["demo"]):
        return
    from tallgrain.ui.app.start import open_demo, open_window

    sys.exit(open_demo() if words else open_window())


def main() -> None:
    """Run the command line: errors as one sentence on stderr and the exit status they carry."""
    if COMPLETING in os.environ:
        # Typer knows the shells only where it may install into them itself, which a package does.
        from typer._completion_classes import completion_init

        completion_init()
    try:
        if COMPLETING not in os.environ:
            _open_at_once(sys.argv[1:])
        from tallgrain.cli.verbs import app

        app(prog_name="tallgrain")
    except TallGrainError as error:
        print(
            printable(f"{error} {error.at_the_command_line}".strip()).replace("\n", " "),
            file=sys.stderr,
        )
        sys.exit(error.exit_status)
    except ArithmeticError as error:
        print(
            f"the figures leave nothing to work out ({error}). Look at them again.", file=sys.stderr
        )
        sys.exit(1)
    except UnicodeError:
        print("a word on the command line is no text. Give it in UTF-8.", file=sys.stderr)
        sys.exit(2)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(1)
