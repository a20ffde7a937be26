"""The one family of errors: what happened, where, and what to do about it.

    TallGrainError
    ├── InputError            unreadable input or wrong usage            exit status 2
    │   └── OtherComputer     a printer on another computer, which was not allowed
    └── JobError              the job could not be done                  exit status 1
        ├── StoreError        the ledger can't be opened or written
        │   └── ReadOnly      it can only be read where it lies
        ├── LinkError         the printer can't be heard or answered nonsense
        │   ├── LinkSilent    no answer within its time limit
        │   └── LeaseHeld     another window or command holds this printer
        ├── PrinterRefused    the printer said no, with its reason
        ├── NoTrip            the probe did not trip where it was allowed to go
        ├── EarlyTrip         the probe tripped where the plate can't be
        ├── TrustLost         the printer's position is unknown
        │   ├── LookAgain     the nozzle was moved as far as a look allows; another one is due
        │   └── NotAsAsked    what the printer told can't be so after what it was asked
        ├── ProbeDoubted      the last way down met nothing, and no finger tripped the probe since
        ├── ConsoleUnproven   a console that was not proven on this printer: nothing goes down
        ├── NotProven         a step of that proof showed that it is not so
        ├── GuardRefused      a motion that could bring the nozzle too close
        └── Halted            a halt ended the work

The window and the command line show the same sentences.
"""

from typing import Self

# What a terminal would obey, or what turns the direction of what follows.
_CONTROLS = dict.fromkeys(
    [
        *range(9), 11, 12, *range(14, 32), *range(127, 160), 0x2028, 0x2029,
        *range(0x202A, 0x202F), *range(0x2066, 0x206A),
    ],
    0xFFFD,
)  # fmt: skip
_CONTROLS[13] = 0x20


def printable(text: str) -> str:
    """Text for a terminal: what a printer or a file put into it does nothing there."""
    return text.translate(_CONTROLS).encode("utf-8", "replace").decode("utf-8")


class TallGrainError(Exception):
    """What happened, where, and what to do: three parts of one message for a person."""

    exit_status = 1
    # What more the command line says: which option to give. The window has buttons.
    at_the_command_line = ""

    def __init__(self, what: str, where: str = "", remedy: str = "") -> None:
        # All three reach Exception.args, so that the error survives pickling between processes.
        super().__init__(what, where, remedy)
        self.what = what
        self.where = where
        self.remedy = remedy

    def with_option(self, words: str) -> Self:
        """The same error, with what the command line says more."""
        self.at_the_command_line = words
        return self

    def __str__(self) -> str:
        head = f"{self.where}: {self.what}" if self.where else self.what
        return f"{head} {self.remedy}".strip()


class InputError(TallGrainError):
    """Unreadable input or wrong usage; `where` names file, line and field."""

    exit_status = 2


class OtherComputer(InputError):
    """A printer on another computer, which was not allowed."""


class JobError(TallGrainError):
    """The job could not be done."""


class StoreError(JobError):
    """The ledger can't be opened or written."""


class ReadOnly(StoreError):
    """The ledger can only be read where it lies."""


class LinkError(JobError):
    """The printer can't be heard, or answered something that makes no sense."""


class LinkSilent(LinkError):
    """No answer within the time limit of its request."""


class LinkGone(LinkError):
    """The connection ended, or what came on it is no message of any printer."""


class LeaseHeld(LinkError):
    """Another window or command holds this printer."""


class PrinterRefused(JobError):
    """The printer said no; `reason` is its own short word for it."""

    def __init__(self, what: str, where: str = "", remedy: str = "", reason: str = "") -> None:
        super().__init__(what, where, remedy)
        self.args = (what, where, remedy, reason)
        self.reason = reason


class WayOverran(JobError):
    """A way down was not back when it must have ended; it was halted."""


class NoTrip(JobError):
    """The probe did not trip where it was allowed to go."""


class NotFelt(JobError):
    """The person who was to feel with a gauge broke it off."""


class EarlyTrip(JobError):
    """The probe tripped where the plate can't be."""


class TrustLost(JobError):
    """The printer's position is unknown, so nothing may move toward the plate."""


class LookAgain(TrustLost):
    """The nozzle was moved as far as a look allows; another one is due."""


class NotAsAsked(TrustLost):
    """What the printer told can't be so after what it was asked: nothing further moves."""


class ProbeDoubted(JobError):
    """The last way down met nothing, and the probe was not seen to trip since."""


class ConsoleUnproven(JobError):
    """A console was not proven on this printer: nothing goes down over it."""


class NotProven(JobError):
    """A step of a console's proof showed that what its dialect says is not so."""


class GuardRefused(JobError):
    """A motion that could bring the nozzle closer than what was touched allows."""


class Halted(JobError):
    """A halt ended the work; the position is unknown and nothing moves by itself."""
