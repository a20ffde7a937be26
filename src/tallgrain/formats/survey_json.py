"""Surveys as our own JSON: {"format": "tallgrain-survey", "version": 1, …}."""

import json
from datetime import UTC, datetime
from typing import Annotated, Any, Literal

import pydantic
from pydantic import AfterValidator, BaseModel, ConfigDict, FailFast, Field, model_validator

from tallgrain.core.machine.sheet import checked_name
from tallgrain.core.survey import ORDER, Z_ROUNDING_MM, Conditions, Point, Recheck, Survey
from tallgrain.errors import InputError
from tallgrain.formats.refusals import refusal
from tallgrain.textio import SURVEY_PARTS, parse_json

Height = Annotated[float, Field(ge=-1000, le=1000)]
Place = Annotated[float, Field(ge=-10_000, le=10_000)]


class _Part(BaseModel):
    model_config = ConfigDict(extra="allow", allow_inf_nan=False)


class PointRecord(_Part):
    """One place: z is the mean of its touches where it has any."""

    x: Place
    y: Place
    z: Height
    touches: list[Height] = []
    left_out: list[Height] = []
    u: Annotated[float, Field(gt=0, le=10)] | None = None

    @model_validator(mode="after")
    def _agree(self) -> "PointRecord":
        if self.touches:
            mean = sum(self.touches) / len(self.touches)
            if abs(mean - self.z) > Z_ROUNDING_MM:
                raise ValueError(
                    f"z is {self.z:g} but its touches average {mean:.4f}: one of them is wrong"
                )
        return self


class RecheckRecord(_Part):
    """A point (the first one: 0), touched again after so many points."""

    after: Annotated[int, Field(ge=1)]
    touches: Annotated[list[Height], Field(min_length=1)]
    place: Annotated[int, Field(ge=0)] = 0


class ConditionsRecord(_Part):
    """Temperatures in °C, soak in minutes."""

    nozzle_c: Annotated[float, Field(ge=-50, le=600)] | None = None
    plate_c: Annotated[float, Field(ge=-50, le=300)] | None = None
    soak_min: Annotated[float, Field(ge=0)] | None = None
    sheet: str | None = None


class SurveyRecord(_Part):
    """A survey file."""

    format: Literal["tallgrain-survey"]
    version: Literal[1]
    machine: Annotated[str, AfterValidator(lambda name: checked_name(name) if name else "")] = ""
    kind: Literal["surface", "supports", "adjusters", "towers", "repeatability", "check"] = (
        "surface"
    )
    taken_at: datetime
    conditions: ConditionsRecord = ConditionsRecord()
    points: Annotated[list[PointRecord], Field(min_length=1, max_length=300_000), FailFast()]
    complete: bool = True
    note: str = ""
    columns: int | None = None
    rows: int | None = None
    rechecks: list[RecheckRecord] = []
    order: Literal["touched"] | None = None
    drift_rate_mm: Annotated[float, Field(ge=-1, le=1)] = 0.0


def parse_survey(text: str, where: str) -> Survey:
    """A survey from its JSON text. Raises InputError naming line and field."""
    data = parse_json(text, where, SURVEY_PARTS)
    _check_head(data, where)
    try:
        record = SurveyRecord.model_validate(data)
    except pydantic.ValidationError as error:
        raise refusal(error, where) from None
    return _survey_of(record)


def _check_head(data: Any, where: str) -> None:
    if not isinstance(data, dict) or data.get("format") != "tallgrain-survey":
        raise InputError(
            "this is not a survey: 'format' is not \"tallgrain-survey\".",
            f"{where}, format",
            "Give a survey file, or points as CSV.",
        )
    if data.get("version") != 1:
        raise InputError(
            f"version {data.get('version')!r} of survey files is unknown here.",
            f"{where}, version",
            "Use a newer Tall Grain to read it.",
        )


def _survey_of(record: SurveyRecord) -> Survey:
    taken = record.taken_at
    if taken.tzinfo is None:
        taken = taken.replace(tzinfo=UTC)
    c = record.conditions
    shape = (record.columns, record.rows) if record.columns and record.rows else None
    return Survey(
        machine=record.machine,
        kind=record.kind,
        taken_at=taken,
        points=tuple(
            Point(p.x, p.y, p.z, tuple(p.touches), tuple(p.left_out), p.u) for p in record.points
        ),
        conditions=Conditions(c.nozzle_c, c.plate_c, c.soak_min, c.sheet),
        complete=record.complete,
        note=record.note,
        shape=shape,
        rechecks=tuple(Recheck(r.after, tuple(r.touches), r.place) for r in record.rechecks),
        drift_rate_mm=record.drift_rate_mm,
        extra={**_extras(record), **({ORDER: True} if record.order else {})},
    )


def _extras(record: SurveyRecord) -> dict[str, Any]:
    """Foreign keys of the file, its conditions and its points, so that none is lost."""
    kept: dict[str, Any] = {}
    if record.model_extra:
        kept["file"] = dict(record.model_extra)
    if record.conditions.model_extra:
        kept["conditions"] = dict(record.conditions.model_extra)
    points = {str(i): dict(p.model_extra) for i, p in enumerate(record.points) if p.model_extra}
    if points:
        kept["points"] = points
    return kept


def survey_text(survey: Survey) -> str:
    """A survey as JSON text, one point a line, foreign keys as they came."""
    extra = survey.extra
    c = survey.conditions
    head: dict[str, Any] = {
        "format": "tallgrain-survey",
        "version": 1,
        "machine": survey.machine,
        "kind": survey.kind,
        "taken_at": survey.taken_at.isoformat(timespec="seconds"),
        "conditions": {
            "nozzle_c": c.nozzle_c,
            "plate_c": c.plate_c,
            "soak_min": c.soak_min,
            "sheet": c.sheet,
            **extra.get("conditions", {}),
        },
        "complete": survey.complete,
        "note": survey.note,
        **extra.get("file", {}),
    }
    if survey.shape:
        head["columns"], head["rows"] = survey.shape
    if survey.rechecks:
        head["rechecks"] = [
            {"after": r.after, "touches": list(r.touches), "place": r.place}
            for r in survey.rechecks
        ]
    if survey.extra.get(ORDER):
        head["order"] = "touched"
    if survey.drift_rate_mm:
        head["drift_rate_mm"] = survey.drift_rate_mm
    rows = []
    for i, p in enumerate(survey.points):
        record: dict[str, Any] = {"x": p.x, "y": p.y, "z": p.z}
        if p.touches:
            record["touches"] = list(p.touches)
        if p.left_out:
            record["left_out"] = list(p.left_out)
        if p.u is not None:
            record["u"] = p.u
        record.update(extra.get("points", {}).get(str(i), {}))
        rows.append(json.dumps(record, ensure_ascii=False))
    body = json.dumps(head, ensure_ascii=False, indent=1)[:-2]
    return body + ',\n "points": [\n  ' + ",\n  ".join(rows) + "\n ]\n}\n"
