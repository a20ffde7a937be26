"""Whatever docs/architecture.md and docs/contributing.md name exists: files, and names in them.

A cell such as `link/guard.py` `floor_at`, `reference` names a file and what is in it.
"""

import re
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SOURCE = ROOT / "src" / "tallgrain"
PLACES = (SOURCE, ROOT, ROOT / "tests")
SPAN = re.compile(r"`([^`]+)`")


def found(name):
    """A file or folder by its name from one of the places; None where there is none."""
    return next((p / name for p in PLACES if (p / name).exists()), None)


def missing(page):
    """What a page names that is not there, a line each."""
    wrong = []
    for number, line in enumerate(page.read_text().splitlines(), 1):
        here = folder = None
        for name in SPAN.findall(line):
            if re.fullmatch(r"[\w/]+(\.py|/)", name):
                path = found(name) or (
                    folder / name if folder and (folder / name).exists() else None
                )
                if path is None:
                    wrong.append(f"{page.name}:{number}: there is no {name}")
                    here = None
                else:
                    here, folder = path, path.parent
            elif (
                here is not None and here.is_file() and re.fullmatch(r"[A-Za-z_]\w*(\.\w+)?", name)
            ):
                last = name.split(".")[-1]
                if not re.search(rf"\b{re.escape(last)}\b", here.read_text()):
                    wrong.append(f"{page.name}:{number}: {here.relative_to(ROOT)} has no {name}")
    return wrong


def main():
    """Say what is missing; exit status 1 where anything is."""
    wrong = [
        w
        for page in ("architecture", "contributing")
        for w in missing(ROOT / "docs" / f"{page}.md")
    ]
    print("\n".join(wrong) or "every name in docs/ exists")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
