"""What a desktop is given: manual and completion are the program's own, files know their type."""

import shutil
import subprocess
import xml.etree.ElementTree as ET

import pytest
import share_files

from standins import shipped_sheet, tallgrain
from tallgrain import __version__
from tallgrain.clock import now
from tallgrain.core.survey import Point, Survey
from tallgrain.formats.files import write_survey
from tallgrain.formats.machine_toml import shipped_sheet_text
from tallgrain.formats.pack import Pack, PackedPrinter, write_pack

SHARE, ID = share_files.SHARE, "org.tallgrain.TallGrain"
MIME = "{http://www.freedesktop.org/standards/shared-mime-info}"


def entry():
    lines = (SHARE / f"applications/{ID}.desktop").read_text().splitlines()
    return dict(line.split("=", 1) for line in reversed(lines) if "=" in line)


def test_manual_and_completion_are_as_the_command_line_is():
    assert share_files.stale() == []
    asked = {"COMP_WORDS": "tallgrain sur", "COMP_CWORD": "1"}
    told = tallgrain(env={**asked, "_TALLGRAIN_COMPLETE": "complete_bash"}).stdout.split()
    assert told == ["survey", "surveys"]
    manual = share_files.man_page()
    for verb in ("survey", "layer", "machine add", "solve skew"):
        assert f"tallgrain {verb}".replace("-", "\\-") in manual
    for tool, files in (
        (["desktop-file-validate"], [f"applications/{ID}.desktop"]),
        (["appstreamcli", "validate", "--no-net"], [f"metainfo/{ID}.metainfo.xml"]),
        (["groff", "-man", "-Kutf8", "-Tutf8", "-z"], ["man/man1/tallgrain.1"]),
    ):
        if shutil.which(tool[0]):
            done = subprocess.run(
                [*tool, *(SHARE / f for f in files)], capture_output=True, text=True
            )
            assert done.returncode == 0, done


def test_one_version_one_name_everywhere():
    root = SHARE.parent
    component = ET.parse(SHARE / f"metainfo/{ID}.metainfo.xml").getroot()
    assert component.find("releases/release").get("version") == __version__
    assert f"## {__version__}," in (root / "CHANGELOG.md").read_text()
    assert component.find("id").text == ID
    assert component.find("launchable").text == f"{ID}.desktop"
    assert entry()["Icon"] == component.find("icon").text == ID
    assert {size.name for size in (SHARE / "icons/hicolor").iterdir()} >= {"16x16", "256x256"}
    assert "GNU GENERAL PUBLIC LICENSE" in (root / "LICENSE").read_text()[:200]
    assert component.find("project_license").text == "GPL-3.0-or-later"
    # What the entry runs is a verb, and takes what the entry says.
    assert entry()["Exec"] == "tallgrain open %F" or entry()["Exec"] == "tallgrain demo"
    assert "Surveys, sheets or packs" in tallgrain("open", "--help", check=0).stdout


@pytest.mark.parametrize("kind", ["survey+json", "machine+toml", "pack+zip"])
def test_each_of_our_files_is_known_by_its_first_bytes(tmp_path, kind):
    points = tuple(Point(x, y, 0.01) for x in (1.0, 2.0) for y in (1.0, 2.0))
    path = tmp_path / "made.json"
    if kind == "survey+json":
        write_survey(Survey(shipped_sheet("Rye").name, "surface", now(), points), path)
    elif kind == "machine+toml":
        path.write_text(shipped_sheet_text("Rye"))
    else:
        write_pack(path, Pack([PackedPrinter("Rye", shipped_sheet_text("Rye"))]))
    root = ET.parse(SHARE / f"mime/packages/{ID}.xml").getroot()
    types = {one.get("type"): one for one in root}
    assert set(types) == set(entry()["MimeType"].strip(";").split(";"))
    rule = types[f"application/vnd.tallgrain.{kind}"].find(f"{MIME}magic")
    first = path.read_bytes()
    for match in rule.iter(f"{MIME}match"):
        value = match.get("value").replace("\\003\\004", "\x03\x04").encode()
        low, _, high = match.get("offset").partition(":")
        assert first.find(value, int(low), int(high or low) + len(value)) >= 0, (kind, value)
