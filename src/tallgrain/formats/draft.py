"""A machine sheet that is being edited: what it would be, or why it can't be."""

import copy
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import pydantic
import tomlkit
from tomlkit.items import AoT, Table

from tallgrain.core.machine.findings import Finding, findings
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import InputError
from tallgrain.formats.machine_toml import parse_sheet
from tallgrain.formats.refusals import refusal

Path = tuple[str | int, ...]

# What a new part looks like before it is given a place.
FRESH: dict[str, dict[str, Any]] = {
    "supports": {"step_mm": 0.0025},
    "adjusters": {"lead_mm": 0.7, "raises": "counterclockwise"},
    "keep_outs": {},
    "sheets": {},
}


@dataclass(frozen=True)
class Draft:
    """The sheet's text as stored, and its document with the edits in it (plain dicts and lists).

    An edit gives another draft; nothing is written anywhere.
    """

    text: str
    document: dict[str, Any]
    stored: dict[str, Any] = field(default_factory=dict)

    @classmethod
    def of_text(cls, text: str) -> "Draft":
        """A draft without edits."""
        stored = tomllib.loads(text)
        return cls(text, stored, stored)

    @property
    def name(self) -> str:
        """The printer's name as it stands in the draft."""
        return str(self.document.get("name", ""))

    @property
    def changed(self) -> bool:
        """Whether it differs from the text that is stored."""
        return self.document != self.stored

    @cached_property
    def _read(self) -> tuple[MachineSheet | None, str]:
        try:
            return MachineSheet.model_validate(self.document), ""
        except pydantic.ValidationError as error:
            return None, refusal(error, "").what

    @property
    def sheet(self) -> MachineSheet | None:
        """The sheet that it makes; None where it can't be one."""
        return self._read[0]

    @property
    def problem(self) -> str:
        """Why it is no sheet, in a sentence; '' where it is one."""
        return self._read[1]

    @cached_property
    def findings(self) -> list[Finding]:
        """What the sheet says that can't be, or that its builder should know."""
        if self.sheet is None:
            return [Finding("sheet", self.problem, grave=True)]
        return findings(self.sheet)

    @property
    def storable(self) -> bool:
        """Whether nothing grave stands against it."""
        return not any(f.grave for f in self.findings)

    def value(self, path: Path) -> Any:
        """What stands at a path; None where nothing does."""
        at: Any = self.document
        for step in path:
            try:
                at = at[step]
            except (KeyError, IndexError, TypeError):
                return None
        return at

    def with_value(self, path: Path, value: Any) -> "Draft":
        """Another value at a path; tables on the way are made; None takes it out."""
        # Only what lies on the way is copied; the rest is shared with the draft before.
        document = dict(self.document)
        at: Any = document
        for step in path[:-1]:
            if isinstance(step, str) and step not in at:
                at[step] = {}
            at[step] = copy.copy(at[step])
            at = at[step]
        if value is None:
            at.pop(path[-1], None)
        else:
            at[path[-1]] = value
        return Draft(self.text, document, self.stored)

    def with_part(self, table: str, at: Sequence[float]) -> "Draft":
        """One more support, adjuster, keep-out or sheet, at a place (mm)."""
        parts = list(self.document.get(table, []))
        taken = {p.get("name") for p in parts}
        stem = {"keep_outs": "clip", "sheets": "sheet"}.get(table, table.removesuffix("s"))
        name = next(n for i in range(1, 99) if (n := f"{stem} {i}") not in taken)
        fresh: dict[str, Any] = {"name": name}
        x, y = (float(c) for c in at)
        if table == "keep_outs":
            fresh["rectangle"] = [x - 15.0, y - 8.0, x + 15.0, y + 8.0]
        elif table != "sheets":
            fresh["at"] = [x, y]
        return self.with_value((table,), [*parts, {**fresh, **FRESH[table]}])

    def without(self, table: str, number: int) -> "Draft":
        """One part less."""
        parts = [p for i, p in enumerate(self.document.get(table, [])) if i != number]
        return self.with_value((table,), parts or None)

    def copied(self, name: str) -> "Draft":
        """The same sheet for another printer. Raises InputError for a name that is none."""
        named = {**copy.deepcopy(self.document), "name": name.strip()}
        made = Draft(self.text, named, self.stored)
        if made.sheet is None:
            raise InputError(made.problem, "name", "Give the new printer a short name of its own.")
        return made

    def as_text(self) -> str:
        """The edited sheet as TOML: comments, order and foreign keys of the stored text stay.

        Raises InputError where it is no sheet.
        """
        document = tomlkit.parse(self.text)
        _bring_in(document, self.document)
        text = tomlkit.dumps(document)
        parse_sheet(text, f"sheet of {self.name}")
        return text


def _bring_in(to: Any, wanted: dict[str, Any]) -> None:
    """Change a tomlkit table where it differs from what is wanted, and nowhere else."""
    for key in [k for k in to if k not in wanted]:
        del to[key]
    for key, value in wanted.items():
        if key in to and to[key] == value:
            continue
        if isinstance(value, dict) and isinstance(to.get(key), Table):
            _bring_in(to[key], value)
        elif isinstance(value, list) and value and isinstance(value[0], dict):
            to[key] = _tables(to.get(key), value)
        else:
            to[key] = value


def _tables(old: Any, wanted: list[dict[str, Any]]) -> AoT:
    """An array of tables; those whose name was there before keep their comments."""
    made = tomlkit.aot()
    before = {t.get("name"): t for t in old or []}
    for part in wanted:
        table = before.get(part.get("name"))
        if table is None:
            table = tomlkit.table()
        _bring_in(table, part)
        made.append(table)
    return made


def renamed(text: str, name: str) -> tuple[MachineSheet, str]:
    """A sheet under another name, and its text. Raises InputError where that can't be one."""
    document = tomlkit.parse(text)
    document["name"] = name.strip()
    made = tomlkit.dumps(document)
    return parse_sheet(made, "the new name"), made


def effective(draft: Draft, sheet: MachineSheet | None, path: Path) -> Any:
    """What holds at a path: the draft's own, or the default that the sheet fills in."""
    found = draft.value(path)
    if found is None and sheet is not None:
        if path[:2] == ("plate", "datum"):
            return sheet.plate.datum_point[int(path[2])]
        found = Draft("", sheet.model_dump(mode="json")).value(path)
    return found


def with_amount(draft: Draft, sheet: MachineSheet | None, path: Path, value: Any) -> Draft:
    """A draft with one figure changed, also inside a pair that was only a default."""
    if isinstance(path[-1], int):
        old = draft.value(path[:-1])
        if old is None:
            count = path[-1] + 1
            while effective(draft, sheet, (*path[:-1], count)) is not None and count < 4:
                count += 1
            old = [effective(draft, sheet, (*path[:-1], i)) or 0.0 for i in range(count)]
        pair = list(old)
        pair[path[-1]] = value
        return draft.with_value(path[:-1], pair)
    return draft.with_value(path, value)


def with_choice(draft: Draft, path: Path, value: str) -> Draft:
    """A draft with another word, and with what that word needs to make sense."""
    made = draft.with_value(path, value)
    plate = draft.document.get("plate", {})
    if path == ("plate", "shape") and value == "disc" and "diameter" not in plate:
        w, d = plate.get("size", (200.0, 200.0))
        x, y = plate.get("origin", (0.0, 0.0))
        made = made.with_value(("plate", "diameter"), float(min(w, d)))
        made = made.with_value(("plate", "centre"), [x + w / 2, y + d / 2])
    elif path == ("plate", "shape") and value == "rectangle" and "size" not in plate:
        diameter = float(plate.get("diameter", 200.0))
        x, y = plate.get("centre", (0.0, 0.0))
        made = made.with_value(("plate", "size"), [diameter, diameter])
        made = made.with_value(("plate", "origin"), [x - diameter / 2, y - diameter / 2])
    elif path == ("probe", "kind") and value in ("nozzle", "none"):
        made = made.with_value(("probe", "offset"), [0.0, 0.0])
        made = made.with_value(("probe", "trip_height"), 0.0)
    elif path == ("probe", "finds_z"):
        top = float(draft.document["travel"]["z"][1]) if value == "up" else 0.0
        made = made.with_value(("probe", "trip_height"), top)
    elif path[-1] == "kind" and value == "carried" and "perch" not in draft.document["probe"]:
        perch = {"at": [0.0, 0.0, 30.0], "approach": [-1.0, 0.0]}
        made = made.with_value(("probe", "perch"), perch)
    if path == ("probe", "kind") and draft.document["probe"].get("finds_z") == "up":
        made = made.with_value(("probe", "finds_z"), "down")
        made = made.with_value(("probe", "trip_height"), 0.0)
    return made
