"""The kinds of plan by name, apart so that asking for help loads no solver."""

KINDS = (
    "grid",
    "area",
    "rings",
    "points",
    "steep",
    "until-sure",
    "supports",
    "adjusters",
    "towers",
)
