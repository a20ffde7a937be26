"""Is it the probe? The scatter of touches over a season, apart from the bed that they touch."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.drift.changes import changes
from tallgrain.core.drift.season import SeasonHead
from tallgrain.core.survey import Floats

# A survey tells of its probe from so many repeated touches on.
LEAST_FREEDOM = 5
# Worse by less than this factor is not said.
WORSE = 1.5
MM = 1e-3


@dataclass(frozen=True)
class ProbeTrend:
    """Scatter of a touch by survey: indices (n,) into the heads, figures (n,) mm (one standard
    deviation); from which survey on it got worse (its ident; None: it did not), before and after
    (mm), and that in a sentence."""

    index: np.ndarray
    scatter: Floats
    worse_from: str | None
    before: float
    after: float
    sentence: str


def probe_trend(heads: Sequence[SeasonHead]) -> ProbeTrend | None:
    """How the probe's scatter went; None where no survey touched its places twice.

    Looked for on logarithms, where a scatter from few touches is as rough everywhere (chi-square).
    """
    index = np.array([i for i, h in enumerate(heads) if h.freedom >= LEAST_FREEDOM], dtype=int)
    if not len(index):
        return None
    scatter = np.sqrt([heads[i].squares / heads[i].freedom for i in index])
    logs = np.log(np.maximum(scatter, 1e-5))
    found = changes(logs[:, None] * MM)
    newest = float(np.median(scatter[-5:]))
    if not found:
        return ProbeTrend(
            index,
            scatter,
            None,
            newest,
            newest,
            f"The probe scatters by {newest * 1000:.1f} µm, as it did all along.",
        )
    at = found[-1].at
    low = found[-2].at if len(found) > 1 else 0
    before = float(np.exp(np.median(logs[low:at])))
    after = float(np.exp(np.median(logs[at:])))
    when = heads[index[at]].taken_at
    if after < WORSE * before:
        said = "better" if after < before else "hardly worse"
        return ProbeTrend(
            index,
            scatter,
            None,
            before,
            after,
            f"The probe scatters by {after * 1000:.1f} µm, {said} than before {when:%-d %b %Y}.",
        )
    return ProbeTrend(
        index,
        scatter,
        heads[index[at]].ident,
        before,
        after,
        f"The probe got worse about {when:%-d %b %Y}: {before * 1000:.1f} µm, then "
        f"{after * 1000:.1f} µm. What changed since may be the probe's: go to Probe first.",
    )
