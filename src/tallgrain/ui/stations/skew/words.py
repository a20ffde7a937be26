"""What a skew gauge says beside the skew itself, in sentences."""

from collections.abc import Sequence

from tallgrain.core.solve.skew import NOMINAL_MM, Plane, SkewSolution
from tallgrain.ui.widgets.words import mm


def odd_words(solved: SkewSolution, names: Sequence[str], swapped: bool) -> str:
    """What does not fit; "" where all does. names: the distances that were read, in order."""
    if solved.suspects:
        which, off = names[solved.suspects[0]], solved.residuals[solved.suspects[0]]
        return (
            f"{which} is {mm(abs(off), 2)} mm too {'long' if off > 0 else 'short'} for the "
            "others: a misread millimetre, or another pair. Read it again."
        )
    if swapped:
        return (
            "This is the earlier gauge's lean the other way round: are A–C and B–D swapped? "
            "The arrow on the part points to the rear."
        )
    return ""


def scale_words(solved: SkewSolution, plane: Plane, shrinkage: float | None) -> str:
    """What the axes' scales are; shrinkage: this plastic's, by a steel scale, as a share."""
    a, b = plane
    x, y = solved.scale_x, solved.scale_y
    ratio = (x / y - 1) * NOMINAL_MM
    if shrinkage is not None:
        x, y = x / (1 - shrinkage), y / (1 - shrinkage)
        words = (
            f"Freed of shrinkage, {NOMINAL_MM:.0f} mm along {a} are "
            f"{mm(NOMINAL_MM * x, 2)} mm, along {b} {mm(NOMINAL_MM * y, 2)} mm."
        )
    else:
        words = (
            f"Both axes are {(1 - (x + y) / 2) * 100:.2f} % short: shrinkage, or the "
            f"scale; only a steel scale tells. {a} against {b}: "
            f"{mm(abs(ratio), 2)} mm {'more' if ratio > 0 else 'less'} over "
            f"{NOMINAL_MM:.0f} mm."
        )
    if solved.bias:
        words += f" The caliper reads {mm(abs(solved.bias), 3)} mm too " + (
            "much." if solved.bias > 0 else "little."
        )
    return words
