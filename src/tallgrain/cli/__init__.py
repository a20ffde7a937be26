"""The command line: every verb of docs/cli.md, as a table for people or JSON for programs."""

import sys

from tallgrain.cli import judging, looking_back, machines, routines, solving, start, surveys
from tallgrain.cli.common import app
from tallgrain.errors import TallGrainError

__all__ = [
    "app",
    "judging",
    "looking_back",
    "machines",
    "main",
    "routines",
    "solving",
    "start",
    "surveys",
]


def main() -> None:
    """Run the command line: errors as one sentence on stderr and the exit status they carry."""
    try:
        app()
    except TallGrainError as error:
        print(error, file=sys.stderr)
        sys.exit(error.exit_status)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(1)
