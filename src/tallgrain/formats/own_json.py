"""Reading the JSON files of our own: the right format and version, or a sentence."""

from typing import TypeVar

import pydantic
from pydantic import BaseModel

from tallgrain.errors import InputError
from tallgrain.formats.refusals import misspelt, refusal
from tallgrain.textio import parse_json

_Record = TypeVar("_Record", bound=BaseModel)


def parse_own(text: str, where: str, kind: str, model: type[_Record]) -> _Record:
    """The record of a file of "format": "tallgrain-<kind>", version 1. Raises InputError."""
    data = parse_json(text, where)
    if not isinstance(data, dict) or data.get("format") != f"tallgrain-{kind}":
        raise InputError(f'this is not a {kind} file: "format" is not "tallgrain-{kind}".', where)
    if data.get("version") != 1:
        raise InputError(
            f"version {data.get('version')!r} of {kind} files is unknown here.",
            f"{where}, version",
            "Use a newer Tall Grain, or a file of version 1.",
        )
    try:
        record = model.model_validate(data)
    except pydantic.ValidationError as error:
        raise refusal(error, where) from None
    wrong = misspelt(record)
    if wrong:
        raise InputError(" ".join(wrong), where, "Correct the spelling.")
    return record
