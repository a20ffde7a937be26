"""A link over which the printer itself tells: nobody has to be asked for what it reads."""

from abc import abstractmethod

from tallgrain.link.protocol import PrinterState


class TellsByItself:
    """What a person would be asked for elsewhere."""

    by_person = False

    @abstractmethod
    def state(self) -> PrinterState:
        """All that it tells."""

    def wire(self) -> tuple[int, bytes] | None:
        """None, where it is not a plain one."""
        return None

    def show_trip(self) -> None:
        """Its state says whether the probe is tripped."""

    def tell_heat(self) -> PrinterState:
        """Its state says how hot it is."""
        return self.state()
