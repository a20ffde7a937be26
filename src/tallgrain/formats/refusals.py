"""Turning pydantic's findings into sentences that name file, line, field and remedy."""

import difflib
import re
from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import BaseModel, ValidationError

from tallgrain.errors import InputError


def field_name(location: Iterable[int | str]) -> str:
    """points, 3, z -> points[4].z, counted from one as people do."""
    text = ""
    for part in location:
        if isinstance(part, int):
            text += f"[{part + 1}]"
        else:
            text += f".{part}" if text else part
    return text


def refusal(error: ValidationError, where: str, text: str = "") -> InputError:
    """All findings as one InputError; the first ones in full, the rest counted."""
    found = error.errors(include_url=False)
    sentences = []
    for item in found[:5]:
        name = field_name(item["loc"])
        line = line_of(text, item["loc"]) if text else 0
        place = f"line {line}, {name}" if line else name
        joint = " " if item["type"] == "missing" else ": "
        sentences.append(f"{place}{joint}{_plain(item)}" if name else _plain(item))
    more = f" And {len(found) - 5} more." if len(found) > 5 else ""
    return InputError("; ".join(sentences) + "." + more, where, "Mend the file and try again.")


def _plain(item: Mapping[str, Any]) -> str:
    kind, given = item["type"], item.get("input")
    if kind == "missing":
        return "is missing"
    message = str(item["msg"]).removeprefix("Value error, ").removeprefix("Assertion failed, ")
    message = message[:1].lower() + message[1:]
    if kind == "value_error" or isinstance(given, dict | list):
        return message
    return f"{message}, got {given!r}"


def line_of(text: str, location: Iterable[int | str]) -> int:
    """The line of a TOML key, found by walking the table heads; 0 where it can't be told."""
    path = list(location)
    tables = [part for part in path if isinstance(part, str)]
    wanted = next((part for part in path if isinstance(part, int)), 0)
    table, seen, best = "", -1, 0
    for number, line in enumerate(text.splitlines(), 1):
        head = re.match(r"\s*\[\[?\s*([\w.\-]+)\s*\]\]?", line)
        if head:
            table = head[1]
            seen += table == tables[0] if tables else 0
            if tables and table == ".".join(tables[:-1] or tables) and seen in (-1, wanted):
                best = best or number
            continue
        key = re.match(r"\s*([\w\-]+)\s*=", line)
        if not key or not tables:
            continue
        prefix = tables[0] if len(path) > 1 and isinstance(path[1], int) else ".".join(tables[:-1])
        counted = not any(isinstance(p, int) for p in path[:2]) or seen == wanted
        if key[1] == tables[-1] and table == prefix and counted:
            return number
    return best


def misspelt(model: BaseModel, path: str = "") -> list[str]:
    """Sentences about foreign keys that look like a known one mistyped.

    Foreign keys are otherwise kept: a sheet may carry notes for other programs.
    """
    found = []
    known = set(type(model).model_fields)
    for key in model.model_extra or {}:
        close = difflib.get_close_matches(key.lower(), known, n=1, cutoff=0.75)
        if close:
            found.append(f"{path}{key}: there is no such key; did you mean '{close[0]}'?")
    for name in known:
        value = getattr(model, name)
        parts = value if isinstance(value, tuple) else (value,)
        for number, part in enumerate(parts, 1):
            if isinstance(part, BaseModel):
                at = f"{path}{name}[{number}]." if isinstance(value, tuple) else f"{path}{name}."
                found += misspelt(part, at)
    return found
