"""What was worked out last, kept as long as what it came from is the same."""

from collections.abc import Callable
from typing import Generic, TypeVar

T = TypeVar("T")


class Memo(Generic[T]):
    """The newest few results, by the very things that they came from: big things are compared by
    identity, since comparing them costs as much as working out anew."""

    def __init__(self, most: int = 8) -> None:
        self._kept: list[tuple[tuple[object, ...], T]] = []
        self._most = most

    def of(self, sources: tuple[object, ...], make: Callable[[], T]) -> T:
        """What `make` gives for these sources, made once."""
        for had, made in self._kept:
            if same_sources(had, sources):
                return made
        made = make()
        self._kept = [(sources, made), *self._kept[: self._most - 1]]
        return made


def same_sources(one: tuple[object, ...], other: tuple[object, ...]) -> bool:
    """Whether two results come from the very same things."""
    return len(one) == len(other) and all(map(_same, one, other))


def _same(one: object, other: object) -> bool:
    plain = (str, int, float, bool, tuple)
    return one is other or (isinstance(one, plain) and type(one) is type(other) and one == other)
