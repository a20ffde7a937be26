"""Patterns of a console's lines: plain text with named parts, matched in bounded time.

A pattern is the line as the printer writes it, with the parts that change in braces: `{z}` is a
number, `{z:comma}` one with a decimal comma, `{name:word}` a run without spaces, `{note:text}`
anything up to what follows, `{known:flag}` a yes or no in one of the usual spellings,
`{heights:row}` figures side by side with spaces between them. `...` stands for anything. A run of
spaces matches any run of spaces. There are no alternatives and no repeats, so that no line can make
matching slow.
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Literal

from tallgrain.errors import InputError

Kind = Literal["number", "comma", "word", "text", "flag", "row"]
Value = float | str | bool | tuple[float, ...]
# What a line is sent with: a figure, a word, or figures side by side.
Sent = float | str | tuple[float, ...]

ANYTHING = "..."
LONGEST_PATTERN, LONGEST_LINE = 300, 2000
_PART = re.compile(r"\{([a-z_][a-z0-9_]{0,30})(?::(number|comma|word|text|flag|row))?\}")
# A figure as consoles write it; bounded, so that no run of digits is looked through twice.
_NUMBER = re.compile(r"[+-]?(?:\d{1,12}(?:\.\d{0,9})?|\.\d{1,9})(?:[eE][+-]?\d{1,2})?")
_COMMA = re.compile(r"[+-]?(?:\d{1,12}(?:,\d{0,9})?|,\d{1,9})(?:[eE][+-]?\d{1,2})?")
# Two runs of digits that a comma parts, and nothing more: one figure, or two.
_PARTED = re.compile(r"(?<![\d.,])[+-]?\d{1,12},\d{1,9}(?:[eE][+-]?\d{1,2})?(?!\d|[.,]\d)")
_WORD = re.compile(r"[^\s,;:]{1,80}")
# Only these letters: a line's length stays what it is.
_LOWER = {ord(a): ord(a.lower()) for a in "ABCDEFGHIJKLMNOPQRSTUVWXYZ"}
_FLAG = re.compile(r"[A-Za-z0-9]{1,8}")
_YES = frozenset(("1", "yes", "true", "on", "y", "out", "closed"))
_NO = frozenset(("0", "no", "false", "off", "n", "in", "open"))


@dataclass(frozen=True)
class _Piece:
    """A literal run, a named part, or anything (neither)."""

    literal: str = ""
    name: str = ""
    kind: Kind = "number"
    comma: bool = False

    @property
    def loose(self) -> bool:
        """Whether it takes as much as it is given."""
        return not self.literal and (not self.name or self.kind == "text")


@dataclass(frozen=True)
class Pattern:
    """One kind of line; any_case: its words may be written in letters of either case."""

    text: str
    pieces: tuple[_Piece, ...]
    any_case: bool = False

    @property
    def names(self) -> frozenset[str]:
        """Names of its parts."""
        return frozenset(p.name for p in self.pieces if p.name)

    def match(self, line: str) -> dict[str, Value] | None:
        """The parts of a line; None where it is another kind of line."""
        whole = " ".join(line[:LONGEST_LINE].split())
        return _match(self.pieces, whole, whole.translate(_LOWER) if self.any_case else whole)


def compiled(
    text: str, where: str = "pattern", comma: bool = False, any_case: bool = False
) -> Pattern:
    """A pattern from its text; comma: its figures have decimal commas; any_case: letters of either
    case are the same. Raises InputError where it can't be one."""
    if not text.strip():
        raise InputError("an empty pattern would match nothing.", where, "Give the printer's line.")
    if len(text) > LONGEST_PATTERN:
        raise InputError("this pattern is too long.", where, f"{LONGEST_PATTERN} signs are enough.")
    pieces: list[_Piece] = []
    rest = " ".join(text.split())
    while rest:
        part = _PART.search(rest)
        dots = rest.find(ANYTHING)
        if dots >= 0 and (part is None or dots < part.start()):
            _literal(pieces, rest[:dots])
            pieces.append(_Piece())
            rest = rest[dots + len(ANYTHING) :]
        elif part is not None:
            _literal(pieces, rest[: part.start()])
            kind: Kind = part.group(2) or ("comma" if comma else "number")  # type: ignore[assignment]
            pieces.append(_Piece(name=part.group(1), kind=kind, comma=comma))
            rest = rest[part.end() :]
        else:
            _literal(pieces, rest)
            rest = ""
    _check(pieces, text, where)
    if any_case:
        pieces = [replace(p, literal=p.literal.translate(_LOWER)) for p in pieces]
    return Pattern(text, tuple(pieces), any_case)


def _literal(pieces: list[_Piece], words: str) -> None:
    if words:
        pieces.append(_Piece(literal=words))


def _check(pieces: list[_Piece], text: str, where: str) -> None:
    for piece in pieces:
        if "{" in piece.literal or "}" in piece.literal:
            raise InputError(
                f"'{text}' has a brace that belongs to no part.",
                where,
                "Write {name}, {name:comma}, {name:word}, {name:text}, {name:flag} or {name:row}.",
            )
    for one, other in pairwise(pieces):
        if not one.literal and not other.literal:
            raise InputError(
                f"'{text}' has two parts that touch: where one ends can't be told.",
                where,
                "Put the sign that stands between them into the pattern.",
            )
    named = [p.name for p in pieces if p.name]
    if len(named) != len(set(named)):
        raise InputError(f"'{text}' has one name twice.", where, "Give each part its own name.")
    if all(p.loose for p in pieces):
        raise InputError(f"'{text}' would match every line.", where, "Put a word of it in.")


def _match(pieces: tuple[_Piece, ...], line: str, seen: str) -> dict[str, Value] | None:
    """Match all pieces to a whole line; seen: the line as words are looked for in it.

    What follows a loose piece is taken where it fits first: if any place fits, that one leaves most
    to what comes after it. So nothing is ever tried again, but the last stretch, which must end
    where the line does.
    """
    found: dict[str, Value] = {}
    at, start = 0, 0
    loose: _Piece | None = None
    while True:
        end = next((i for i in range(start, len(pieces)) if pieces[i].loose), len(pieces))
        stretch, last = pieces[start:end], end == len(pieces)
        if not stretch:  # a loose piece at the end of the pattern, or at its beginning
            if last and loose is not None:
                return found | ({loose.name: line[at:].strip()} if loose.name else {})
        else:
            placed = _place(stretch, (line, seen), at, loose is not None, last)
            if placed is None:
                return None
            begins, ends, read = placed
            if loose is not None and loose.name:
                found[loose.name] = line[at:begins].strip()
            found |= read
            at = ends
        if last:
            return found
        loose, start = pieces[end], end + 1


def _place(
    stretch: tuple[_Piece, ...], lines: tuple[str, str], at: int, free: bool, last: bool
) -> tuple[int, int, dict[str, Value]] | None:
    """Where a stretch without loose pieces fits from a place on (just there, unless it is free),
    and what its parts are; the last one must reach the line's end."""
    while True:
        begins = lines[1].find(stretch[0].literal, at) if free else at
        if begins < 0:
            return None
        read = _fits(stretch, lines, begins)
        if read is not None and (not last or read[0] == len(lines[0])):
            return begins, read[0], read[1]
        if not free:
            return None
        at = begins + 1


def _fits(
    stretch: tuple[_Piece, ...], lines: tuple[str, str], at: int
) -> tuple[int, dict[str, Value]] | None:
    found: dict[str, Value] = {}
    for piece in stretch:
        if piece.literal:
            if not lines[1].startswith(piece.literal, at):
                return None
            at += len(piece.literal)
        else:
            read = _read(piece, lines[0], at)
            if read is None:
                return None
            found[piece.name], at = read
    return at, found


def _read(piece: _Piece, line: str, at: int) -> tuple[Value, int] | None:
    if piece.kind in ("number", "comma"):
        seen = (_NUMBER if piece.kind == "number" else _COMMA).match(line, at)
        return (float(seen.group().replace(",", ".")), seen.end()) if seen else None
    if piece.kind == "word":
        seen = _WORD.match(line, at)
        return (seen.group(), seen.end()) if seen else None
    if piece.kind == "row":
        return _row(_COMMA if piece.comma else _NUMBER, line, at)
    seen = _FLAG.match(line, at)
    if seen is None or seen.group().lower() not in _YES | _NO:
        return None
    return seen.group().lower() in _YES, seen.end()


def _row(figure: re.Pattern[str], line: str, at: int) -> tuple[Value, int] | None:
    """Figures side by side; a line has one space between them."""
    found: list[float] = []
    end = at
    while (seen := figure.match(line, at)) is not None:
        found.append(float(seen.group().replace(",", ".")))
        end = seen.end()
        if line[end : end + 1] != " ":
            break
        at = end + 1
    return (tuple(found), end) if found else None


_FIELD = re.compile(r"\{([a-z_][a-z0-9_]{0,30})(?:\.(\d))?\}")


def filled(template: str, values: Mapping[str, Sent], where: str, comma: bool = False) -> str:
    """A template with its fields filled in: `{x.3}` is x with three decimals (with a decimal comma
    where that is so), several with spaces between them, `{name}` a word.

    Only names are put in; nothing is run. Raises InputError for a field that is not known, or for a
    word that would break the line.
    """

    def one(field: re.Match[str]) -> str:
        name, digits = field.group(1), field.group(2)
        if name not in values:
            raise InputError(
                f"'{template}' asks for {name}, which is not known here.",
                where,
                f"Known are: {', '.join(sorted(values)) or 'none'}.",
            )
        value = values[name]
        if isinstance(value, str):
            if not _WORD.fullmatch(value):
                raise InputError(f"'{value}' can't stand in a line.", where, "Use one word.")
            return value
        row = value if isinstance(value, tuple) else (value,)
        return " ".join(figure(v, int(digits or 3)) for v in row)

    def figure(value: float, digits: int) -> str:
        text = f"{value:.{digits}f}"
        text = text.removeprefix("-") if float(text) == 0 else text
        return text.replace(".", ",") if comma else text

    return _FIELD.sub(one, template)


def fields(template: str) -> frozenset[str]:
    """Names that a template asks for."""
    return frozenset(m.group(1) for m in _FIELD.finditer(template))


# From where to where a person swept in a line, and what the figure there is.
Sweep = tuple[int, int, str]


def swept(line: str, *sweeps: Sweep) -> str:
    """The pattern of a line in which a person swept figures: those are parts by their names, other
    figures stand for anything. Raises InputError where a sweep meets none, or two meet one."""
    parts: dict[tuple[int, int], str] = {}
    for start, end, name in sweeps:
        exact = next(
            (m for m in _NUMBER.finditer(line) if m.start() < end and m.end() > start), None
        )
        if exact is None:
            raise InputError(
                "no number was swept.", "the reply", "Sweep the figure with the mouse."
            )
        comma = _with_comma(line, exact, start, end)
        span = (comma or exact).span()
        if span in parts:
            raise InputError(
                f"'{line[slice(*span)]}' was swept twice.", "the reply", "Sweep another figure."
            )
        parts[span] = f"{{{name}:comma}}" if comma else f"{{{name}}}"
    figures = {m.span() for m in _NUMBER.finditer(line)}
    # The digits after a swept figure's comma are no figure of their own.
    loose = {f for f in figures if not any(b <= f[0] < e for b, e in parts)}
    made, at = "", 0
    for begins, ends in sorted([*parts, *loose]):
        made += _quoted(line[at:begins]) + parts.get((begins, ends), ANYTHING)
        at = ends
    made += _quoted(line[at:])
    while ANYTHING * 2 in made:
        made = made.replace(ANYTHING * 2, ANYTHING)
    return made.strip()


def _with_comma(line: str, exact: re.Match[str], start: int, end: int) -> re.Match[str] | None:
    """The figure as one with a decimal comma, where it was swept as that. Raises InputError where
    it may be one, and was swept in part."""
    for seen in _PARTED.finditer(line):
        if seen.start() <= exact.start() < seen.end():
            if start <= seen.start() and seen.end() <= end:
                return seen
            raise InputError(
                f"'{seen.group()}' may be one figure with a decimal comma, or two figures.",
                "the reply",
                "Sweep all of it where it is one; else write the pattern by hand.",
            )
    return None


def _quoted(words: str) -> str:
    """Words of a line in a pattern: braces can't stand there."""
    return words.replace("{", ANYTHING).replace("}", ANYTHING)
