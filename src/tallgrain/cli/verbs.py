"""All verbs, gathered: importing this names each of them to the command line."""

from tallgrain.cli import (
    handing_over,
    holding,
    judging,
    layering,
    looking_back,
    machines,
    printed,
    proving,
    putting_away,
    routines,
    settling,
    solving,
    start,
    surveying,
    surveys,
    travelling,
    where,
)
from tallgrain.cli.common import app

__all__ = [
    "app",
    "handing_over",
    "holding",
    "judging",
    "layering",
    "looking_back",
    "machines",
    "printed",
    "proving",
    "putting_away",
    "routines",
    "settling",
    "solving",
    "start",
    "surveying",
    "surveys",
    "travelling",
    "where",
]
