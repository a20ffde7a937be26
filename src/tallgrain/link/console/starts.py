"""Start texts in a dialect: written from steps, and read back to what their lines stand for.

A text ends with a line that sums what stands before it, so that a half-copied one is recognised.
"""

import re
import zlib
from collections.abc import Sequence
from dataclasses import dataclass

from tallgrain.core.handover.check import Line
from tallgrain.core.handover.policy import Step
from tallgrain.errors import InputError
from tallgrain.link.console.dialect import Dialect
from tallgrain.link.console.pattern import Pattern, Value, compiled, filled

CHECK = "whole text"
_CHECK = re.compile(rf"{CHECK}: (\d+) lines, sum ([0-9a-f]{{8}})")
_FIELD = re.compile(r"\{([a-z_][a-z0-9_]*)(?:\.\d)?\}")
WORDS = ("name",)


def write_start(dialect: Dialect, steps: Sequence[Step], title: str) -> str:
    """The text that does the steps, each explained. Raises InputError naming what the dialect can't
    say."""
    lines = [_comment(dialect, title)]
    for step in steps:
        templates = dialect.starts.get(step.operation)
        if templates is None:
            raise InputError(
                f"this dialect has no words for ‘{step.operation.replace('_', ' ')}’.",
                f"dialect {dialect.name}, starts",
                "Teach it, or leave that step out.",
            )
        values = {k: _theirs(dialect, k, v, step) for k, v in step.values.items()}
        lines.append(_comment(dialect, step.why))
        lines += [filled(t, values, f"starts.{step.operation}") for t in templates]
    return "\n".join([*lines, _comment(dialect, check_line(lines))]) + "\n"


def check_line(lines: Sequence[str]) -> str:
    """What the last line says of all before it; spaces at the ends of lines don't count."""
    whole = [line.strip() for line in lines if line.strip()]
    made = zlib.crc32("\n".join(whole).encode("utf-8"))
    return f"{CHECK}: {len(whole)} lines, sum {made:08x}"


def _comment(dialect: Dialect, words: str) -> str:
    return dialect.comment.replace("{text}", words)


def _theirs(dialect: Dialect, name: str, value: float | str, step: Step) -> float | str:
    if step.operation == "set_value":
        stored = dialect.values.get(str(step.values["name"]))
        if stored is None:
            raise InputError(
                f"this dialect does not say how {step.values['name']} is stored.",
                f"dialect {dialect.name}, values",
                "Teach it, or leave that step out.",
            )
        if name == "name":
            return stored.name
        return stored.theirs(str(step.values["name"]), float(value))
    return value if isinstance(value, str) else dialect.theirs(name, value)


@dataclass(frozen=True)
class StartText:
    """A start text as it was read: the lines that were understood, how many were not, and what is
    wrong with the text as a whole ('' where nothing is)."""

    lines: tuple[Line, ...]
    unknown: int
    damage: str


def read_start(dialect: Dialect, text: str) -> StartText:
    """What the lines of a start text stand for, in our units and signs."""
    known = _readers(dialect)
    mark = dialect.comment.partition("{text}")[0].strip()
    found, unknown, damage = [], 0, ""
    before: list[str] = []
    summed = False
    for number, raw in enumerate(text.splitlines(), start=1):
        line = raw.strip()
        if not line:
            continue
        told = _CHECK.search(line)
        if told is not None:
            summed = True
            if check_line(before) != told.group():
                damage = (
                    f"the text is not whole: its last line sums {told.group(1)} lines, "
                    f"{len(before)} are here or some were changed."
                )
            continue
        before.append(line)
        if mark and line.startswith(mark):
            continue
        read = _read(dialect, known, line)
        if read is None:
            unknown += 1
        elif read[0]:
            found.append(Line(number, read[0], read[1]))
    if not summed and any(CHECK in line or "Tall Grain" in line for line in before):
        damage = "the text is not whole: its last line, which sums it, is missing."
    return StartText(tuple(found), unknown, damage)


def _readers(dialect: Dialect) -> list[tuple[str, int, Pattern]]:
    """Operation, which of its lines, and the pattern of that line."""
    made = []
    sources = {**{k: o.send for k, o in dialect.operations.items()}, **dialect.starts}
    for name, templates in sources.items():
        for i, template in enumerate(templates):
            text = _FIELD.sub(
                lambda m: f"{{{m.group(1)}:word}}" if m.group(1) in WORDS else f"{{{m.group(1)}}}",
                template,
            )
            made.append((name, i + 1 - len(templates), compiled(text, f"starts.{name}")))
    return made


def _read(
    dialect: Dialect, known: list[tuple[str, int, Pattern]], line: str
) -> tuple[str, dict[str, float | str]] | None:
    """An operation by the last of its lines; ('', {}) for a line that only leads up to one."""
    lead = False
    for name, place, pattern in known:
        found = pattern.match(line)
        if found is None:
            continue
        if place < 0:
            lead = True
            continue
        return name, _meant(dialect, name, found)
    return ("", {}) if lead else None


def _meant(dialect: Dialect, name: str, found: dict[str, Value]) -> dict[str, float | str]:
    made: dict[str, float | str] = {}
    if name == "set_value":
        told = str(found.get("name", ""))
        meaning = next((m for m, s in dialect.values.items() if s.name == told), told)
        made["name"] = meaning
        stored, value = dialect.values.get(meaning), found.get("value")
        if isinstance(value, float):
            made["value"] = stored.ours(meaning, value) if stored is not None else value
        return made
    for part, value in found.items():
        made[part] = str(value) if not isinstance(value, float) else dialect.meant(part, value)
    return made
