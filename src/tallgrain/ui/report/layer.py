"""The next first layer on paper: the figure, what it is made of, what next."""

from collections.abc import Sequence

from tallgrain.clock import now
from tallgrain.core.layer.acts import Advice
from tallgrain.core.layer.layer import span_words
from tallgrain.errors import TallGrainError
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import SheetOn
from tallgrain.next_layer.acts import advise
from tallgrain.next_layer.knows import coming, ground
from tallgrain.seasons import PrinterSeason
from tallgrain.store.ledger import Ledger
from tallgrain.ui.painting.first_layer import LayerPicture, paint_first_layer
from tallgrain.ui.report.blocks import DRAWN, Block, Drawing, Heading, Table, Words
from tallgrain.ui.widgets.words import mm


def layer_of_season(ledger: Ledger, season: PrinterSeason) -> Sequence[Block]:
    """The blocks for a printer's report; none where it can't be told."""
    sheet = season.sheet
    seen = Journal(ledger, sheet.name).newest(SheetOn)
    on = seen.figures.name or None if seen is not None else None
    aim = coming(ledger, sheet.name, on, sheet.tolerance.first_layer_mm)
    try:
        advice = advise(ground(ledger, sheet, now(), on, season), aim)
    except TallGrainError:
        return ()
    picture = LayerPicture(advice.layer, sheet, None)
    return (
        Heading("The first layer that the next print would get"),
        *layer_blocks(advice),
        Drawing(
            lambda painter, rect: paint_first_layer(painter, rect, picture),
            DRAWN,
            330,
            "The chance that the layer leaves the limits, by place, and every thickness that is "
            "thought possible, as wide as it is likely.",
        ),
    )


def layer_blocks(advice: Advice) -> tuple[Block, ...]:
    """The figure with its causes."""
    layer, (low, high) = advice.layer, advice.layer.limits
    figure = (
        f"{span_words(layer.low, layer.high, ' to ')} mm with 95 % certainty, limits "
        f"{mm(low, 2)} to {mm(high, 2)}. {advice.sentence}"
    )
    rows = tuple(
        (part.words, f"± {mm(part.mm)}", "assumed" if part.assumed else part.opens)
        for part in layer.parts
    )
    return Words(figure, strong=True), Table(("what it is made of", "mm (k = 2)", "see"), rows)
