"""Write the JSON Schemas of our own files from the models that read them."""

import json
from pathlib import Path

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.formats.delta_json import DeltaRecord
from tallgrain.formats.gap_json import GapRecord
from tallgrain.formats.skew_json import SkewRecord
from tallgrain.formats.survey_json import SurveyRecord
from tallgrain.formats.values_json import ValuesRecord
from tallgrain.paths import ASSETS

SCHEMAS = {
    "survey": SurveyRecord,
    "machine": MachineSheet,
    "gap": GapRecord,
    "values": ValuesRecord,
    "skew": SkewRecord,
    "delta": DeltaRecord,
}


def write(folder: Path) -> None:
    for name, model in SCHEMAS.items():
        text = json.dumps(model.model_json_schema(), indent=1, ensure_ascii=False) + "\n"
        (folder / f"{name}.json").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    write(ASSETS / "schemas")
