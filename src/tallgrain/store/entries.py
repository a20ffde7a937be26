"""What the ledger's rows are to the rest of the program."""

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from tallgrain.core.survey import Conditions


@dataclass(frozen=True)
class SurveyHead:
    """A survey's line in a list."""

    ident: str
    machine: str
    kind: str
    taken_at: datetime
    points: int
    planned: int
    state: str
    why: str
    note: str
    conditions: Conditions


@dataclass(frozen=True)
class MachineEvent:
    """Something that happened to a printer, and the stations that rest on what was before."""

    machine: str
    at: datetime
    kind: str
    note: str = ""
    stale: tuple[str, ...] = ()
    number: int = 0


@dataclass(frozen=True)
class Observation:
    """What a person saw or a routine found at a printer, with its figures (JSON)."""

    machine: str
    at: datetime
    topic: str
    item: str
    outcome: str
    note: str = ""
    figures: dict[str, Any] = field(default_factory=dict)
    number: int = 0


@dataclass(frozen=True)
class NewSurvey:
    """What is known of a survey before its first touch."""

    machine: str
    kind: str
    taken_at: datetime
    planned: int
    samples: int
    shape: tuple[int, int] | None
    conditions: Conditions
    note: str = ""
    extra: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class PutAway:
    """Something that was put away: a "survey", "machine" or "event", told in words."""

    what: str
    ident: str
    words: str
    at: datetime
