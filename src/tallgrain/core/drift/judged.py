"""What a season says: happenings with the nearest noted event, slow drift, and what to do next."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import pairwise
from math import erfc, sqrt
from typing import Literal

import numpy as np

from tallgrain.core.drift.changes import Change, changes, kind_of
from tallgrain.core.drift.charts import default_base
from tallgrain.core.drift.creep import creeping, steady_rates
from tallgrain.core.drift.season import SeasonRows, like
from tallgrain.core.drift.terms import SHAPES, TERMS, season_terms
from tallgrain.core.machine.outline import Disc
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Conditions, Floats
from tallgrain.core.told import Told

# A survey that covers less of the plate's sides is of a part of it.
WHOLE_SHARE = 0.6
# An event explains a change that lies between two surveys so much later at the most.
NEAR_DAYS = 3.0
# An event is named as a cause only where as many events at random would not as often as not lie as
# near.
BY_CHANCE = 0.5
# From so many surveys since the last change a slow drift can be told.
LEAST_SLOW = 6
HOLDS_MOST_DAYS = 365.0
# A line that begins to rise must leave less than this share of what a step leaves.
CREEPS = 0.6
BEGAN_DAYS = 14.0
# Longer than this without a survey is told.
LONG_GAP_DAYS = 75.0
# Stored later but dated so much earlier: told.
BACKWARDS_S = 3600.0

Action = Literal[
    "nothing", "survey", "regap", "level", "look at the hardware", "measure more", "check the probe"
]


@dataclass(frozen=True)
class Noted:
    """An event of the ledger: when, what kind, its note."""

    at: datetime
    kind: str
    note: str


@dataclass(frozen=True)
class Happening:
    """Terms that jumped together, or one that began to creep (rate: mm a day): between which
    surveys, of what kind, sizes by term (mm), how sure (contrast, and the chance that it is none),
    the nearest noted event, and all of it in a sentence; until: when what creeps ended, None while
    it goes on."""

    survey: str
    before: datetime
    after: datetime
    kind: str
    sizes: dict[str, float]
    contrast: float
    confidence: float
    rate: float | None
    event: Noted | None
    sentence: str
    until: datetime | None = None


@dataclass(frozen=True)
class Slow:
    """What creeps since the last happening: the fastest place's rate (mm a day), what of it chance
    would make (k = 2), and how many days a survey of now holds within the first layer's limits."""

    rate: float
    u: float
    days: float
    surveys: int


@dataclass(frozen=True)
class Drift:
    """A printer's season on one sheet in one band of heat: figures (surveys, terms) mm of those
    that are like the newest, in the order of time; how many were left out, and why; and what a
    reader should know of the season (notes)."""

    idents: tuple[str, ...]
    times: tuple[datetime, ...]
    figures: Floats
    left_out: dict[str, int]
    happenings: tuple[Happening, ...]
    slow: Slow | None
    action: Action
    advice: str
    notes: tuple[Told, ...] = ()

    @property
    def base(self) -> tuple[int, int]:
        """The surveys (first, one past the last) that charts take as all being well."""
        return default_base(
            len(self.idents), [self.idents.index(h.survey) for h in self.happenings]
        )


def whole_terms(rows: SeasonRows, sheet: MachineSheet) -> Floats:
    """TERMS (surveys, 8) mm of the surveys that cover the plate; NaN for the others."""
    box = sheet.plate.outline.box
    least = (WHOLE_SHARE * box.width, WHOLE_SHARE * box.depth)
    return season_terms(rows, sheet.plate.outline, least)


def judge_season(
    rows: SeasonRows,
    sheet: MachineSheet,
    events: Sequence[Noted],
    on: str | None = None,
    figures: Floats | None = None,
) -> Drift:
    """Judge all stored surveys of a printer that are like its newest whole one (or its newest on
    a sheet). figures: their whole_terms, where they are known."""
    figures = whole_terms(rows, sheet) if figures is None else figures
    whole = [
        i
        for i, h in enumerate(rows.heads)
        if h.complete
        and np.isfinite(figures[i, 0])
        and (on is None or (h.conditions.sheet or "").lower() == on.lower())
    ]
    to = rows.heads[whole[-1]].conditions if whole else Conditions()
    kept = [i for i in whole if like(rows.heads[i].conditions, to)]
    left_out = {
        "broken off, too small or too few points": sum(
            not h.complete or not np.isfinite(figures[i, 0]) for i, h in enumerate(rows.heads)
        ),
        "another sheet or another heat": sum(
            h.complete and bool(np.isfinite(figures[i, 0])) and i not in kept
            for i, h in enumerate(rows.heads)
        ),
    }
    times = tuple(rows.heads[i].taken_at for i in kept)
    idents = tuple(rows.heads[i].ident for i in kept)
    series = figures[kept] if kept else np.empty((0, len(TERMS)))
    days = np.array([(t - times[0]).total_seconds() / 86400 for t in times])
    found = changes(series[:, : len(SHAPES)], days) if len(kept) else ()
    happened: list[Happening] = []
    for run in _runs(found):
        creep = _creeping(run, found, series, idents, times, events)
        happened += [creep] if creep else [_happening(c, idents, times, events) for c in run]
    happened += _between(happened, series, idents, times)
    happened.sort(key=lambda h: idents.index(h.survey))
    start = idents.index(happened[-1].survey) if happened else 0
    slow = _slow(series[start:], times[start:], sheet)
    action, advice = _advised(sheet, series, happened, slow, len(kept))
    told = {why: n for why, n in left_out.items() if n}
    notes = (*_gaps(times), *_backwards(idents, times))
    return Drift(idents, times, series, told, tuple(happened), slow, action, advice, notes)


def _gaps(times: Sequence[datetime]) -> Iterator[Told]:
    """Months without a survey: what happened then has no closer date."""
    for before, after in pairwise(times):
        days = (after - before).total_seconds() / 86400
        if days > LONG_GAP_DAYS:
            words = (
                f"No survey between {before:%-d %b %Y} and {after:%-d %b %Y}, {days:.0f} days: "
                "whatever changed then can't be dated closer."
            )
            yield Told("gap_in_time", words, {"days": days})


def _backwards(idents: Sequence[str], times: Sequence[datetime]) -> Iterator[Told]:
    """Surveys that were stored after others but say that they were taken long before them."""
    order = sorted(range(len(idents)), key=lambda i: int(idents[i]) if idents[i].isdigit() else i)
    newest = None
    for i in order:
        if newest is not None and (times[newest] - times[i]).total_seconds() > BACKWARDS_S:
            words = (
                f"Survey {idents[i]} was stored after survey {idents[newest]} but is dated "
                f"{times[i]:%-d %b %Y}, before it: an import, or a clock that was set back."
            )
            yield Told("dated_back", words, {"days": (times[newest] - times[i]).days})
        else:
            newest = i


def _runs(found: Sequence[Change]) -> list[list[Change]]:
    """Changes that follow one another in the same term and the same way: steps of one slope."""
    runs: list[list[Change]] = []
    for change in found:
        last = runs[-1][-1] if runs else None
        name = change.terms[0]
        same = last is not None and last.terms[0] == name
        if last is not None and same and last.sizes[name] * change.sizes[name] > 0:
            runs[-1].append(change)
        else:
            runs.append([change])
    return runs


def _happening(
    change: Change, idents: Sequence[str], times: Sequence[datetime], events: Sequence[Noted]
) -> Happening:
    before, after = times[change.low], times[change.high]
    sizes = {SHAPES[j]: float(change.sizes[j]) for j in change.terms}
    event, words_noted = _cause(before, after, events, times)
    kind = kind_of(change, SHAPES)
    words = " and ".join(_term_words(name, mm) for name, mm in list(sizes.items())[:2])
    span = f"between {before:%-d %b %Y} and {after:%-d %b %Y}"
    sentence = f"{span} {words}: {words_noted}"
    return Happening(
        idents[change.at],
        before,
        after,
        kind,
        sizes,
        change.strength,
        change.confidence,
        None,
        event,
        sentence,
    )


def _creeping(
    run: Sequence[Change],
    found: Sequence[Change],
    series: Floats,
    idents: Sequence[str],
    times: Sequence[datetime],
    events: Sequence[Noted],
) -> Happening | None:
    """Changes that are no steps: their largest term, between the changes beside them, is explained
    much better by a line that begins to rise at a survey. None where steps explain it as well."""
    where = [0, *(c.at for c in found), len(series)]
    low = where[where.index(run[0].at, 1) - 1]
    high = where[where.index(run[-1].at, 1) + 1]
    change = max(run, key=lambda c: c.strength)
    name = change.terms[0]
    values = series[low:high, name]
    days = np.array([(t - times[low]).total_seconds() / 86400 for t in times[low:high]])
    if len(values) < 2 * LEAST_SLOW or not np.ptp(days):
        return None
    levels = np.split(values, [c.at - low for c in run])
    # Each level more is one more thing to explain with.
    step = float(sum(((p - p.mean()) ** 2).sum() for p in levels)) * len(run)
    best, knee, rate = np.inf, 0, 0.0
    for start in range(len(values) - 3):
        rising = np.maximum(days - days[start], 0.0)
        about = rising - rising.mean()
        slope = float(about @ values / (about @ about))
        left = float(((values - values.mean() - slope * about) ** 2).sum())
        if left < best:
            best, knee, rate = left, start, slope
    if best > CREEPS * step:
        return None
    before, after = times[low + knee], times[min(low + knee + 1, len(times) - 1)]
    # Where a slow line begins is known less well than a step's place.
    event, words_noted = _cause(before - timedelta(days=BEGAN_DAYS), after, events, times)
    size = rate * float(days[-1] - days[knee])
    sentence = (
        f"since about {before:%-d %b %Y} {_term_words(SHAPES[name], size)} so far, "
        f"{abs(rate) * 1000:.2f} µm a day: {words_noted}"
    )
    return Happening(
        idents[low + knee],
        before,
        after,
        "creep",
        {SHAPES[name]: size},
        change.strength,
        change.confidence,
        rate,
        event,
        sentence,
    )


def _between(
    happened: Sequence[Happening], series: Floats, idents: Sequence[str], times: Sequence[datetime]
) -> Iterator[Happening]:
    """What goes little by little between the changes."""
    begun = [(0, None), *((idents.index(h.survey), h) for h in happened)]
    ends = [*(at for at, _ in begun[1:]), len(idents)]
    for (low, first), high in zip(begun, ends, strict=True):
        days = np.array([(t - times[low]).total_seconds() / 86400 for t in times[low:high]])
        slope = creeping(series[low:high, : len(SHAPES)], days)
        if slope is None or (first is not None and first.rate is not None):
            continue
        name, before, after = SHAPES[slope.term], times[low], times[high - 1]
        since = f", after {first.event.kind}" if first is not None and first.event else ""
        sentence = (
            f"little by little from {before:%-d %b %Y} to {after:%-d %b %Y} "
            f"{_term_words(name, slope.size)}, {abs(slope.rate) * 1000:.2f} µm a day{since}"
        )
        # It begins where the stretch does, a survey after the change that opened it.
        yield Happening(
            idents[min(low + 1, high - 1)],
            before,
            after,
            "creep",
            {name: slope.size},
            slope.contrast,
            1.0 - 2 * len(SHAPES) * 0.5 * erfc(slope.contrast / sqrt(2)),
            slope.rate,
            first.event if first is not None else None,
            sentence,
            after if high < len(idents) else None,
        )


def _cause(
    before: datetime, after: datetime, events: Sequence[Noted], times: Sequence[datetime]
) -> tuple[Noted | None, str]:
    """The event that is named for a change between two surveys, and the words for it; none where so
    many events, placed at random in the season, would often lie as near."""
    event = _nearest(before, after, events)
    if event is None:
        return None, "nothing was noted near it"
    words = f"{event.kind} ({event.at:%-d %b})"
    begun, ended = min(times[0], before), max(times[-1], after)
    whole = [e for e in events if begun <= e.at <= ended]
    width = (after - before) / timedelta(days=1) + 2 * NEAR_DAYS
    share = min(width / max((ended - begun) / timedelta(days=1), width), 1.0)
    chance = 1 - (1 - share) ** max(len(whole), 1)
    if chance > BY_CHANCE:
        tens = max(round(10 * chance), 1)
        return None, f"{words} was noted near it, as one of so many would be by chance {tens} in 10"
    return event, f"nearest note: {words}"


def _nearest(before: datetime, after: datetime, events: Sequence[Noted]) -> Noted | None:
    """The event between two surveys, or just outside of them."""
    reach = timedelta(days=NEAR_DAYS)
    near = [e for e in events if before - reach <= e.at <= after + reach]
    middle = before + (after - before) / 2
    inside = [e for e in near if before <= e.at <= after]
    return min(inside or near, key=lambda e: abs(e.at - middle), default=None)


_WORDS = {
    "level": ("the plate came nearer by", "the plate went further away by"),
    "tilt_x": ("the right rose against the left by", "the left rose against the right by"),
    "tilt_y": ("the rear rose against the front by", "the front rose against the rear by"),
    "bow_x": ("the left and right edges rose against the middle by",
              "the middle rose against the left and right edges by"),
    "bow_y": ("the front and rear edges rose against the middle by",
              "the middle rose against the front and rear edges by"),
    "twist": ("the corners front left and rear right rose against the others by",
              "the corners front right and rear left rose against the others by"),
}  # fmt: skip


def _term_words(name: str, mm: float) -> str:
    return f"{_WORDS[name][mm < 0]} {abs(mm):.3f} mm"


def _slow(series: Floats, times: Sequence[datetime], sheet: MachineSheet) -> Slow | None:
    """How fast the fastest place of the plate moves (Theil and Sen's slope of each term, joined
    over the plate)."""
    values = series[:, : len(SHAPES)]
    days = np.array([(t - times[0]).total_seconds() / 86400 for t in times])
    if len(days) < LEAST_SLOW or np.ptp(days) < 1:
        return None
    rates = steady_rates(values, days)
    rest = values - np.outer(days, rates)
    scatter = 1.4826 * np.median(np.abs(rest - np.median(rest, axis=0)), axis=0)
    u_rates = scatter / np.sqrt(((days - days.mean()) ** 2).sum())
    u, v = np.meshgrid(np.linspace(-1, 1, 9), np.linspace(-1, 1, 9))
    if isinstance(sheet.plate.outline, Disc):
        inside = u**2 + v**2 <= 1.0001
        u, v = u[inside], v[inside]
    across, along = u.ravel(), v.ravel()
    shapes = np.array(
        [np.ones(across.size), across / 2, along / 2, across**2, along**2, across * along / 2]
    )
    moves = np.abs(rates @ shapes)
    worst = int(moves.argmax())
    rate = float(moves[worst])
    spread = float(2 * np.sqrt(((u_rates[:, None] * shapes) ** 2).sum(axis=0))[worst])
    now = float(np.sqrt(((scatter[:, None] * shapes) ** 2).sum(axis=0)).max())
    low, high = sheet.tolerance.first_layer_mm
    room = max((high - low) / 2 - 2 * now, 0.0)
    fastest = max(rate, spread) if rate > spread else spread
    holds = HOLDS_MOST_DAYS if fastest <= 0 else min(room / fastest, HOLDS_MOST_DAYS)
    return Slow(rate, spread, float(holds), len(days))


def _advised(
    sheet: MachineSheet, series: Floats, happened: Sequence[Happening], slow: Slow | None, n: int
) -> tuple[Action, str]:
    """The one next thing, with its grounds."""
    if n < 2:
        return "measure more", f"{n} survey like the newest: no trend can be told from that."
    newest = dict(zip(TERMS, series[-1], strict=True))
    recent = happened[-1] if happened else None
    tilt = float(np.hypot(newest["tilt_x"], newest["tilt_y"]))
    if newest["flatness"] > sheet.tolerance.flatness_mm:
        return "look at the hardware", (
            f"the plate is {newest['flatness']:.3f} mm from flat, more than the "
            f"{sheet.tolerance.flatness_mm:g} mm that you allow."
        )
    low, high = sheet.tolerance.first_layer_mm
    if (
        recent is not None
        and recent.kind == "gap"
        and abs(recent.sizes["level"]) > (high - low) / 4
    ):
        return "regap", f"the gap changed {recent.sentence.split(':')[0]}: feel it again."
    if tilt > (high - low):
        return "level", f"the plate leans by {tilt:.3f} mm over its sides: level it."
    if slow is None:
        since = "since then" if recent is not None else "so far"
        return "measure more", f"too few surveys {since} to say how long one holds."
    if slow.rate > slow.u and slow.days < 30:
        return "survey", (
            f"the fastest place moves {slow.rate * 1000:.1f} µm a day: a stored survey holds about "
            f"{slow.days:.0f} days."
        )
    if slow.days >= HOLDS_MOST_DAYS:
        return "nothing", (
            "nothing moves that would matter for a year and more: surveying before each print "
            "would not help."
        )
    return "nothing", (
        f"the newest holds about {slow.days:.0f} days: surveying before each print would not help."
    )
