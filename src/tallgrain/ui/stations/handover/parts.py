"""Small parts of the Handover station."""

from PyQt6.QtWidgets import QPlainTextEdit

from tallgrain.core.handover.policy import Compensation
from tallgrain.ui.app import theme
from tallgrain.ui.widgets.figures import FigureBox, amount

WAYS: tuple[tuple[Compensation, str], ...] = (
    ("recall", "recall the stored survey"), ("area", "survey where it prints"),
    ("whole", "survey all, every few prints"), ("nothing", "no compensation"),
)  # fmt: skip


def editor(name: str, fixed: bool) -> QPlainTextEdit:
    """A box of plain text; fixed: to be read and copied only."""
    made = QPlainTextEdit()
    made.setReadOnly(fixed)
    made.setAccessibleName(name)
    made.setTabChangesFocus(True)
    made.setFont(theme.font(12))
    return made


def figure_box(prefix: str, suffix: str, most: float, value: float) -> FigureBox:
    """A box for one length from 0 to `most`."""
    return amount(
        0,
        most,
        f"{prefix.strip().capitalize()} at the start, in{suffix}",
        decimals=0,
        prefix=prefix,
        suffix=suffix,
        value=value,
    )
