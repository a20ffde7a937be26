"""The surfaces that a stand-in holds, as it tells them and is told: what has to be filled under the
nozzle, in whole micrometres, rear row first."""

from typing import TYPE_CHECKING, Any

import numpy as np

from tallgrain.standin.begin import HABITS

if TYPE_CHECKING:
    from tallgrain.standin.printer import Printer

MOST_NODES = 21
MOST_NAMES = 8


class Draft:
    """A surface that is being told piece by piece: heights in mm, nearer is positive; front row
    first."""

    def __init__(self, name: str, box: tuple[float, float, float, float], shape: Any) -> None:
        rows, columns = (min(max(int(n), 0), 99) for n in shape)
        self.name, self.box = name, box
        self.heights = np.full((rows, columns), np.nan)

    def put(self, row: int, values: "list[float]", column: int = 0) -> None:
        """Some of a row, from a column on."""
        from tallgrain.standin.printer import Refusal

        rows, columns = self.heights.shape
        if not (0 <= row < rows and column >= 0 and column + len(values) <= columns):
            raise Refusal("bad_value", "there is no such place in that surface")
        self.heights[row, column : column + len(values)] = values


class Surfaces:
    """What a link may ask of them."""

    def __init__(self, printer: "Printer") -> None:
        self._p = printer

    def end(self, draft: Draft | None) -> None:
        """Store what was told piece by piece, where all of it was."""
        from tallgrain.standin.printer import Refusal

        if draft is None or np.isnan(draft.heights).any():
            raise Refusal("bad_value", "that surface was not told whole")
        fill = np.round(-1000 * draft.heights[::-1]).tolist()
        self.write(draft.name, draft.box, fill)

    def heights(self, name: str) -> "tuple[list[float], list[list[float]]]":
        """Where one lies (x0, y0, x1, y1) and its heights (mm), front row first."""
        xs, ys, heights = self._found(name)
        return [float(v) for v in (xs[0], ys[0], xs[-1], ys[-1])], heights.tolist()

    @property
    def _c(self) -> Any:
        return self._p.compensation

    def list(self) -> dict[str, Any]:
        """Names, how large, where, which is in use and which would survive power-off."""
        held = [
            {
                "name": name,
                "columns": len(xs),
                "rows": len(ys),
                "box": [float(v) for v in (xs[0], ys[0], xs[-1], ys[-1])],
                "kept": name in self._c.kept and self._c.kept[name] is self._c.stored[name],
            }
            for name, (xs, ys, _) in self._c.stored.items()
        ]
        limits = {
            "columns": MOST_NODES,
            "rows": MOST_NODES,
            "step_um": 1,
            "between": "smooth" if self._c.smooth else "straight",
        }
        used: dict[str, Any] = {"name": self._c.using}
        if np.isfinite(self._c.gone_mm):
            used |= {"full_mm": self._c.full_mm, "gone_mm": self._c.gone_mm}
        return {"limits": limits, "held": held, "use": used}

    def read(self, name: str) -> dict[str, Any]:
        """One of them."""
        xs, ys, heights = self._found(name)
        return {
            "name": name,
            "box": [float(v) for v in (xs[0], ys[0], xs[-1], ys[-1])],
            "fill_um": [[round(-1000 * float(h)) for h in row] for row in heights[::-1]],
        }

    def write(self, name: str, box: Any, fill_um: Any) -> dict[str, Any]:
        """Store one; it is live until it is kept."""
        from tallgrain.standin.printer import Refusal

        try:
            x0, y0, x1, y1 = (float(v) for v in box)
            table = np.array(fill_um, dtype=float)
        except (TypeError, ValueError):
            raise Refusal("bad_value", "a surface is rows of figures over a box") from None
        if table.ndim != 2 or not np.isfinite(table).all() or x1 <= x0 or y1 <= y0:
            raise Refusal("bad_value", "a surface is even rows of figures over a box")
        if min(table.shape) < 2 or max(table.shape) > MOST_NODES:
            raise Refusal("bad_value", f"a surface has 2 to {MOST_NODES} columns and rows")
        if np.abs(table).max() > 5000:
            raise Refusal("bad_value", "a surface of more than 5 mm is none")
        if name not in self._c.stored and len(self._c.stored) >= MOST_NAMES:
            raise Refusal("full", f"{MOST_NAMES} surfaces are stored already")
        self._p._strike_faults()
        rows, columns = table.shape
        heights = -np.round(table[::-1]) / 1000
        self._c.write(name, (np.linspace(x0, x1, columns), np.linspace(y0, y1, rows), heights))
        if self._c.using == name:
            self._use(name)
        return self.list()

    def use(
        self, name: str, full_mm: float | None = None, gone_mm: float | None = None
    ) -> dict[str, Any]:
        """Follow one from now on, in full up to one height and gone at another; "" follows none."""
        from tallgrain.standin.printer import Refusal

        self._p._need_reference()
        if not name:
            self._c.drop()
            return self._p.state()
        self._found(name)
        if (full_mm is None) is not (gone_mm is None):
            raise Refusal("bad_value", "it fades between two heights, or not at all")
        self._use(name)
        if full_mm is not None and gone_mm is not None:
            if not 0 <= full_mm < gone_mm <= 100:
                raise Refusal("bad_value", "it fades from a lower height to a higher one")
            self._c.full_mm, self._c.gone_mm = full_mm, gone_mm
        return self._p.state()

    def _use(self, name: str) -> None:
        c = self._c
        c.drop()
        grid = self._found(name)
        c.xs, c.ys, c.heights = HABITS[c.habit](*grid) if c.habit else grid
        c.source, c.using = f"recalled {name}", name

    def keep(self) -> dict[str, Any]:
        """Make them survive power-off."""
        self._c.keep()
        return self.list()

    def forget(self, name: str) -> dict[str, Any]:
        """Without one."""
        self._found(name)
        if self._c.using == name:
            self._c.drop()
        self._c.forget(name)
        return self.list()

    def _found(self, name: str) -> Any:
        from tallgrain.standin.printer import Refusal

        if name not in self._c.stored:
            raise Refusal("bad_value", f"no surface is stored as '{name}'")
        return self._c.stored[name]

    async def survey(
        self, name: str, x0: float, y0: float, x1: float, y1: float, columns: int, rows: int
    ) -> dict[str, Any]:
        """Touch a grid by itself, follow it and store it."""
        from tallgrain.standin import begin

        await begin.survey(self._p, (x0, y0, x1, y1), int(columns), int(rows))
        c = self._c
        c.stored[name] = (c.xs, c.ys, c.heights)
        c.using = name
        return self.read(name)
