"""Patterns, framing and dialects: what lines mean, what is refused, nothing that could hang."""

import string
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tallgrain.errors import InputError, OtherComputer
from tallgrain.link.connect import SHIPPED, check_url, dialect_named, dialect_names
from tallgrain.link.console.dialect import parse_dialect
from tallgrain.link.console.framing import CHECKS, Lines, looks_like_noise, wrapped
from tallgrain.link.console.pattern import compiled, filled, swept
from tallgrain.link.console.record import Recorder, replayed
from tallgrain.link.console.transport import parse_console_url

WORDS = st.text(string.ascii_lowercase, min_size=1, max_size=8)
FIGURES = st.floats(-99_999, 99_999).map(lambda v: round(v, 4))


@settings(max_examples=80, deadline=None)
@given(x=FIGURES, z=FIGURES, name=WORDS, flag=st.booleans(), noise=WORDS)
def test_what_is_filled_in_is_read_back(x, z, name, flag, noise):
    pattern = compiled("at X{x} Z {z}, {name:word}: {known:flag} ... end")
    line = f"at X{x:.4f}  Z {z:.4f}, {name}: {'yes' if flag else 'no'} {noise} end"
    assert pattern.match(line) == {"x": x, "z": z, "name": name, "known": flag}
    assert pattern.match(line + "!") is None and pattern.match("x" + line) is None
    told = filled("G1 X{x.4} Z{z.4}", {"x": x, "z": z}, "here")
    assert compiled("G1 X{x} Z{z}").match(told) == pytest.approx({"x": x, "z": z}, abs=5e-5)
    assert "-0.0" not in filled("{x.1}", {"x": -0.01}, "here")


@pytest.mark.parametrize(
    ("pattern", "line", "found"),
    [
        ("ok", "ok", {}), ("ok", "ok 1", None), ("...z={z}", "a z= b z=3", {"z": 3.0}),
        ("{a:text} then {b:text}", "one then two then three", {"a": "one", "b": "two then three"}),
        ("...{z} mm", "height 1.5 mm", None), ("... {z} mm", "height 1.5 mm", {"z": 1.5}),
        ("value {z}", "value 1e5", {"z": 1e5}), ("value {z}", "value -.5", {"z": -0.5}),
        ("{f:flag}", "maybe", None), ("a ... b ... c", "a x b y b z c", {}),
        ("no {reason:word}: {sentence:text}", "no way: it is shut",
         {"reason": "way", "sentence": "it is shut"}),
    ],
)  # fmt: skip
def test_lines_and_patterns(pattern, line, found):
    try:
        made = compiled(pattern)
    except InputError:
        assert "...{" in pattern  # where one part ends can't be told
        return
    assert made.match(line) == found


@pytest.mark.timeout(20)
@given(st.text("ab.. 1", max_size=3000))
@example("a" * 100_000)
@example("a1" * 2_000)
@settings(max_examples=60, deadline=None)
def test_no_line_makes_matching_slow(line):
    """Twelve loose parts against lines made to be looked through again and again."""
    for pattern in ("a".join(["..."] * 12) + "a{z}b", "... a" * 9 + " b", "...a{z} ...b"):
        compiled(pattern).match(line)


WRITTEN = ("{:.3f}", "{:+.4f}", "{:.3e}", "{:g}", "{:.2E}", "{:.0f}")


@given(
    st.integers(-(10**9), 10**9).map(lambda n: n / 1e6),
    st.sampled_from(WRITTEN),
    st.booleans(),
    st.sampled_from(("z", "z:comma")),
)
def test_a_figure_is_read_as_what_it_is_or_not_at_all(value, written, comma, part):
    """However a console writes it: never another figure than the one that was meant."""
    text = written.format(value)
    line = f"z {text.replace('.', ',') if comma else text} mm"
    pattern = compiled(f"z {{{part}}} ...")
    found = pattern.match(line)
    if found is not None:
        assert found["z"] == pytest.approx(float(text))
    if (part == "z:comma") == comma:
        assert found is not None
    # Swept whole it is taught as what it is; swept in part it is asked about, or taken whole.
    taught = compiled(swept(line, (2, len(line) - 3, "z"))).match(line)
    assert taught is None or taught["z"] == pytest.approx(float(text))
    assert taught is not None or ("E" in written and comma)
    try:
        half = compiled(swept(line, (2, 3 + text.startswith(("-", "+")), "z"))).match(line)
    except InputError as asked:
        assert "decimal comma" in asked.what and comma
    else:
        assert half == taught


def test_a_figure_that_is_swept_becomes_the_pattern():
    line = "probe met X12.5 Y3.0 Z-1.842 (3)"
    at = line.index("-1.842")
    made = swept(line, (at, at + 6, "z"))
    assert compiled(made).match("probe met X-1 Y200.25 Z0.007 (41)") == {"z": 0.007}
    with pytest.raises(InputError, match="no number"):
        swept("nothing here", (0, 7, "z"))
    for line in (
        "at 1.5,2.5,3",
        "at 10,20,30",
    ):  # several figures, as no comma is left to ask about
        assert compiled(swept(line, (3, 5, "x"))).match(line)["x"] in (1.5, 10.0)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "empty pattern"), ("{z", "brace"), ("{x}{y}", "touch"), ("{z} {z}", "one name twice"),
        ("...", "every line"), ("{a:text}", "every line"), ("x" * 400, "too long"),
    ],
)  # fmt: skip
def test_patterns_that_can_not_be(text, said):
    with pytest.raises(InputError, match=said):
        compiled(text)


def test_sums_of_lines():
    """CRC-8 by its published check value for '123456789'; the others by their definitions."""
    assert CHECKS["crc8"](b"123456789") == 0xF4
    assert CHECKS["sum8"](b"\xff\x02") == 1 and CHECKS["xor8"](b"\x0f\xf0\x01") == 0xFE
    framing = dialect_named("medlar").framing
    data = wrapped(framing, "rise 5.0", 12)
    body, _, told = data.rstrip(b"\n").rpartition(b"~")
    assert data.startswith(b"#12 rise 5.0 ~") and int(told, 16) == sum(body + b"~") % 256


@settings(max_examples=50, deadline=None)
@given(st.binary(max_size=9000), st.integers(1, 700))
def test_bytes_are_cut_into_lines_however_they_come(data, size):
    whole, parts, lines, pieces = Lines(), Lines(), [], []
    lines = whole.feed(data + b"\n")
    for at in range(0, len(data) + 1, size):
        pieces += parts.feed((data + b"\n")[at : at + size])
    short = all(len(run) <= 4096 for run in data.replace(b"\r", b"\n").split(b"\n"))
    if short:
        assert pieces[: len(lines)] == lines
    assert all(len(line) <= 4096 for line in (*lines, *pieces))


def test_a_wrong_rate_looks_like_noise():
    assert looks_like_noise("\ufffd\x01x\x8a\ufffd" * 8)
    assert not looks_like_noise("still moving " * 20) and not looks_like_noise("\ufffd" * 5)


def text_of(name):
    return (SHIPPED / f"{name}.toml").read_text(encoding="utf-8")


@pytest.mark.parametrize("name", dialect_names())
def test_the_dialects_that_ship_are_whole(name):
    made = parse_dialect(text_of(name), name)
    for part, value in (("x", 12.5), ("y", -3.25), ("z", 1.7904)):
        line = made.lines_for("go", **{a: value if a == part else 0.0 for a in "xyz"})[-1]
        stated = next(s for s in made.operations["state"].lines if "x" in s.pattern.names)
        assert part in stated.pattern.names and "0" in line
    for meaning, stored in made.values.items():
        for value in (-3.0, 0.0, 250.0):
            assert stored.ours(meaning, stored.theirs(meaning, value)) == pytest.approx(value)
    for c in (0.0, 22.0, 170.0):
        asked = made.lines_for("heat_nozzle", c=c)[-1]
        number = float(next(w for w in asked.split() if w.replace(".", "").isdigit()))
        assert made.ours("nozzle_to_c", number) == pytest.approx(c, abs=0.06)


BARE = text_of("hazel")


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('format = "tallgrain-dialect"', 'format = "other"', "no dialect"),
        ("version = 1", "version = 7", "version 7"),
        ("[units]", "[units", "not TOML"),
        ('length = "mm"\n', "", "left out"),
        ("z = 1", "", "left out"),
        ('send = ["G38.2 Z{floor.5}"]', 'send = ["G38.2"]', "no line says floor"),
        ('send = ["G38.2 Z{floor.5}"]', 'send = ["G38.2 Z{floor.5} {speed}"]', "asks for speed"),
        ('says = ["met X{x} Y{y} Z{z}"]', 'says = ["met"]', "tells the height"),
        ('done = "stopped here"\n', "", "like any other"),
        ('[operations.touch]', "[operations.tuch]", "no operation 'tuch'"),
        ('[operations.nudge]\nsend = ["NUDGE {mm.4}"]\n', "", "nothing is said of"),
        ('busy = ["still moving"]', 'busy = ["done"]', "finished and that it is not"),
        ('busy = ["still moving"]', 'busy = ["{x}{y}"]', "touch"),
        ('"nozzle {nozzle_c} of {nozzle_to_c}",', '"at X{x} Y{y} Z{z}",', "same reply twice"),
        ('window = 4', 'windows = 4', "windows"),
        ('unit = "mm" }', 'unit = "furlong" }', "mm"),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_dialect_is_said_with_its_place(old, new, said):
    text = BARE.replace(old, new, 1)
    assert text != BARE
    with pytest.raises(InputError, match=said) as caught:
        parse_dialect(text, "my.toml")
    assert caught.value.where and caught.value.remedy


def test_addresses_of_consoles(tmp_path):
    url = parse_console_url("serial:/dev/ttyS9?dialect=hazel&baud=250000")
    assert (url.scheme, url.where, url.dialect, url.baud) == (
        "serial",
        "/dev/ttyS9",
        "hazel",
        250000,
    )
    check_url("socket://127.0.0.1:99?dialect=medlar")
    own = tmp_path / "mine.toml"
    own.write_text(BARE)
    check_url(f"rfc2217://host:99?dialect={own}", remote=True)
    with pytest.raises(OtherComputer, match="--remote"):
        check_url(f"rfc2217://host:99?dialect={own}")
    for bad, said in (
        ("socket://127.0.0.1:99", "needs a dialect"),
        ("socket://nowhere?dialect=hazel", "host"),
        ("serial:/dev/x?dialect=hazel&baud=fast", "no baud"),
        ("ftp://x:1?dialect=hazel", "link"),
        ("serial:/dev/x?dialect=oak", "no dialect 'oak'"),
    ):
        with pytest.raises(InputError, match=said):
            check_url(bad)


def test_a_recording_is_read_again_up_to_where_it_was_cut(tmp_path):
    path = tmp_path / "session.jsonl"
    made = Recorder(path, "Hazel")
    for i in range(50):
        made.note(i % 2 == 0, f"line {i} µ \x01")
    made.close()
    read = list(replayed(path))
    assert [s.line for s in read] == [f"line {i} µ \x01" for i in range(50)]
    assert [s.ours for s in read[:3]] == [True, False, True]
    assert [s.at for s in read] == sorted(s.at for s in read)
    whole = path.read_bytes()
    path.write_bytes(whole[:-9])
    seen = []
    with pytest.raises(InputError, match="none of a session"):
        for said in replayed(path):
            seen.append(said)
    assert len(seen) == 49
    for text, said in (
        ("{}\n", "no recorded"),
        ('{"format":"tallgrain-session","version":2}\n', "2"),
    ):
        path.write_text(text)
        with pytest.raises(InputError, match=said):
            list(replayed(path))
    with pytest.raises(InputError, match="no such file"):
        list(replayed(Path(tmp_path / "none")))
