"""A printer travels: packed whole, and joined to what is known elsewhere, nothing doubled."""

import json
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from tallgrain.errors import InputError
from tallgrain.formats.machine_toml import parse_sheet
from tallgrain.formats.pack import Pack, PackedPrinter
from tallgrain.formats.survey_json import parse_survey, survey_text
from tallgrain.formats.values_json import parse_values
from tallgrain.journal.records import LOCAL_TOPICS
from tallgrain.link.console.dialect import parse_dialect
from tallgrain.paths import named_in
from tallgrain.procedures.values import backup_folder
from tallgrain.store.entries import MachineEvent, Observation
from tallgrain.store.ledger import Ledger
from tallgrain.textio import read_text, write_text


def packed(ledger: Ledger, names: Iterable[str], backups: Path, dialects: Path) -> Pack:
    """Printers with all that is known of them. Raises InputError for one that is not known."""
    made = Pack()
    for name in names:
        text = ledger.machine_text(name)
        if text is None:
            raise InputError(f"there is no printer '{name}'.", "pack", "Choose one that is.")
        made.printers.append(_printer(ledger, name, text, backup_folder(backups, name)))
    for path in sorted(dialects.glob("*.toml")):
        made.dialects[path.stem] = read_text(path)
    return made


def _printer(ledger: Ledger, name: str, sheet: str, backups: Path) -> PackedPrinter:
    made = PackedPrinter(name, sheet)
    made.events = [
        {"at": e.at.isoformat(), "kind": e.kind, "note": e.note, "stale": list(e.stale)}
        for e in ledger.events(name)
    ]
    made.journal = [_entry(o) for o in ledger.observations(name)]
    for head in ledger.heads(name):
        if head.state == "running" or not head.points:
            continue
        told = {"ident": head.ident, "taken_at": head.taken_at.isoformat()}
        made.surveys.append({**told, "text": survey_text(ledger.survey(head.ident))})
    for path in sorted(backups.glob("values-*.json")):
        made.values[path.name] = read_text(path)
    return made


def _entry(seen: Observation) -> dict[str, Any]:
    return {
        "at": seen.at.isoformat(),
        "topic": seen.topic,
        "item": seen.item,
        "outcome": seen.outcome,
        "note": seen.note,
        "figures": seen.figures,
    }


@dataclass(frozen=True)
class Joined:
    """What came of one printer: whether it is new here, what was added of each kind, and what
    stayed as it was here, in sentences."""

    name: str
    new: bool
    surveys: int
    events: int
    entries: int
    values: int
    stays: tuple[str, ...] = ()


def join(
    ledger: Ledger, pack: Pack, backups: Path, dialects: Path, now: datetime
) -> tuple[list[Joined], list[str]]:
    """Take a pack in; everything is read before anything is written. What each printer got, and
    sentences about dialects. Raises InputError naming what can't be read; nothing is changed
    then."""
    for name, text in pack.dialects.items():
        parse_dialect(text, f"dialects/{name}.toml")
    read = [_read(one) for one in pack.printers]
    made = [
        _join(ledger, one, parts, backups, now)
        for one, parts in zip(pack.printers, read, strict=True)
    ]
    told = []
    for name, text in pack.dialects.items():
        path = named_in(dialects, name, ".toml")
        if path is None:
            told.append("A dialect with a name that is no file's was left out.")
        elif not path.exists():
            dialects.mkdir(parents=True, exist_ok=True)
            write_text(path, text)
            told.append(f"The dialect {name} is here now.")
        elif read_text(path) != text:
            told.append(f"The dialect {name} here is another one: it stays as it is.")
    return made, told


@dataclass(frozen=True)
class _Parts:
    surveys: list[tuple[str, Any]]
    events: list[MachineEvent]
    entries: list[Observation]


def _read(one: PackedPrinter) -> _Parts:
    """All of a printer as what the ledger takes. Raises InputError."""
    where = f"printer {one.name}"
    sheet = parse_sheet(one.sheet, where)
    if sheet.name != one.name:
        raise InputError(f"its sheet is of '{sheet.name}'.", where, "Choose another pack.")
    surveys = []
    for n, told in enumerate(one.surveys, 1):
        found = parse_survey(told["text"], f"{where}, survey {n}")
        taken = _instant(told.get("taken_at"), f"{where}, survey {n}")
        surveys.append(
            (str(told.get("ident", "")), replace(found, machine=one.name, taken_at=taken))
        )
    for name, text in one.values.items():
        parse_values(text, f"{where}, {name}")
    events = [
        MachineEvent(
            one.name,
            _instant(e.get("at"), f"{where}, events"),
            str(e.get("kind", "")),
            str(e.get("note", "")),
            tuple(str(s) for s in e.get("stale", ())),
        )
        for e in one.events
    ]
    entries = [
        Observation(
            one.name,
            _instant(e.get("at"), f"{where}, journal"),
            str(e.get("topic", "")),
            str(e.get("item", "")),
            str(e.get("outcome", "")),
            str(e.get("note", "")),
            e["figures"] if isinstance(e.get("figures"), dict) else {},
        )
        for e in one.journal
    ]
    return _Parts(surveys, events, entries)


def _instant(text: Any, where: str) -> datetime:
    found: datetime | None = None
    with suppress(ValueError):
        found = datetime.fromisoformat(str(text))
    if found is None or found.tzinfo is None:
        raise InputError(f"'{text}' is no time.", where, "Choose another pack.")
    return found


def _join(
    ledger: Ledger, one: PackedPrinter, parts: _Parts, backups: Path, now: datetime
) -> Joined:
    stays = []
    here = ledger.machine_text(one.name)
    if here is None:
        ledger.put_machine(one.name, one.sheet, now)
    elif here != one.sheet:
        stays.append(f"{one.name} is described otherwise here: that stays.")
    known = {_survey_key(ledger.survey(h.ident)): h.ident for h in ledger.heads(one.name)}
    idents, added = {}, 0
    for was, survey in parts.surveys:
        key = _survey_key(survey)
        if key not in known:
            known[key] = ledger.add_survey(survey)
            added += 1
        idents[was] = known[key]
    events = {(e.at, e.kind, e.note) for e in ledger.events(one.name)}
    new_events = [e for e in parts.events if (e.at, e.kind, e.note) not in events]
    for event in new_events:
        ledger.add_event(event)
    entries = {_entry_key(o) for o in ledger.observations(one.name)}
    # What was shown at another computer's printer allows and forbids nothing here.
    brought = [_with_idents(o, idents) for o in parts.entries if o.topic not in LOCAL_TOPICS]
    new_entries = [o for o in brought if _entry_key(o) not in entries]
    for seen in new_entries:
        ledger.observe(seen)
    values = 0
    folder = backup_folder(backups, one.name)
    for name, text in one.values.items():
        if not (folder / name).exists():
            folder.mkdir(parents=True, exist_ok=True)
            write_text(folder / name, text)
            values += 1
    counts = added, len(new_events), len(new_entries), values
    return Joined(one.name, here is None, *counts, tuple(stays))


def _survey_key(survey: Any) -> str:
    """What tells a survey from others, whatever it is called where it lies."""
    when = survey.taken_at.isoformat(timespec="milliseconds")
    return f"{when} {survey_text(replace(survey, ident='', note=''))}"


def _entry_key(seen: Observation) -> str:
    figures = json.dumps(seen.figures, sort_keys=True, default=str)
    at = seen.at.timestamp()
    return f"{at:.3f} {seen.topic} {seen.item} {seen.outcome} {seen.note} {figures}"


def _with_idents(seen: Observation, idents: dict[str, str]) -> Observation:
    """A record that speaks of a survey speaks of it by its name here."""
    was = seen.figures.get("survey")
    if isinstance(was, str) and idents.get(was, was) != was:
        return replace(seen, figures={**seen.figures, "survey": idents[was]})
    return seen


def words(joined: Sequence[Joined]) -> list[str]:
    """What came of a pack, for a person."""
    lines = []
    for one in joined:
        parts = {
            "survey": one.surveys,
            "event": one.events,
            "record": one.entries,
            "backup": one.values,
        }
        told = ", ".join(f"{n} {name}{'' if n == 1 else 's'}" for name, n in parts.items() if n)
        state = "is here now" if one.new else "was known here"
        lines.append(f"{one.name} {state}: {told or 'nothing that was not here already'}.")
        lines += one.stays
    return lines
