"""First-order heating and cooling of nozzle and plate."""

import math
from dataclasses import dataclass

from tallgrain.standin.plate import AMBIENT_C


@dataclass
class Heater:
    """A body that nears its target (°C) exponentially, faster up than down."""

    name: str
    hottest: float
    rise_s: float
    fall_s: float
    now_c: float = AMBIENT_C
    target_c: float = 0.0
    stuck: bool = False
    at: float = 0.0

    def advance(self, now: float) -> float:
        """Temperature at a time (s); exact for any step."""
        goal = max(self.target_c, AMBIENT_C)
        seconds = self.rise_s if goal > self.now_c else self.fall_s
        if not self.stuck:
            self.now_c = goal + (self.now_c - goal) * math.exp(-max(now - self.at, 0) / seconds)
        self.at = now
        return self.now_c

    def cool_down(self) -> None:
        """Left alone long enough to be as cold as the room."""
        self.now_c, self.target_c = AMBIENT_C, 0.0

    def seconds_to(self, within: float = 1.0) -> float:
        """How long until the target is reached within some degrees; inf where never."""
        goal = max(self.target_c, AMBIENT_C)
        away = abs(goal - self.now_c)
        if away <= within:
            return 0.0
        if self.stuck:
            return math.inf
        return (self.rise_s if goal > self.now_c else self.fall_s) * math.log(away / within)
