"""The surfaces that a printer behind a console holds, by its dialect: told row by row, written
so or cell by cell."""

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from tallgrain.core.held.surface import HeldSurface, Takes, held_surface
from tallgrain.core.machine.outline import Rectangle
from tallgrain.errors import InputError, LinkError, PrinterRefused
from tallgrain.link.console.dialect import Dialect
from tallgrain.link.console.pattern import Sent, Value
from tallgrain.link.protocol import Held, HeldHead, PrinterState

if TYPE_CHECKING:
    from tallgrain.link.console.parts import Operation

SURFACE_S = 20.0
NONE = ("-", "none", "no")


class ConsoleSurfaces:
    """What a console printer does with surfaces; it asks by `_move` and knows its dialect."""

    dialect: Dialect
    url: str

    def _move(self, operation: str, limit_s: float, /, **values: Sent) -> list[dict[str, Value]]:
        raise NotImplementedError

    def state(self) -> PrinterState:
        """How it stands."""
        raise NotImplementedError

    @property
    def holds_surfaces(self) -> bool:
        """Whether its dialect says enough of them: list, read, use, none, and how it is written."""
        said = self.dialect.operations
        whole = ("surfaces", "surface_read", "surface_use", "surface_none")
        return all(n in said for n in whole) and ("surface_row" in said or "surface_cell" in said)

    def surfaces(self) -> Held:
        """What it holds."""
        heads: list[HeldHead] = []
        using: str | None = None
        fades, takes = None, Takes()
        for line in self._move("surfaces", SURFACE_S):
            if "columns" in line and "name" in line:
                heads.append(_head(line))
            if "using" in line:
                using = "" if str(line["using"]).lower() in NONE else str(line["using"])
            if "full_mm" in line and "gone_mm" in line:
                fades = _figure(line, "full_mm"), _figure(line, "gone_mm")
            if "most_columns" in line and "most_rows" in line:
                takes = Takes(
                    int(_figure(line, "most_columns")),
                    int(_figure(line, "most_rows")),
                    _figure(line, "step_mm") if "step_mm" in line else takes.step_mm,
                    "bicubic" if line.get("smooth") is True else "bilinear",
                )
        return Held(tuple(heads), using, fades, takes)

    def read_surface(self, name: str) -> HeldSurface:
        """One of them."""
        operation = self.dialect.operations["surface_read"]
        said = self._move("surface_read", SURFACE_S, name=name)
        rows = [row for line in said if isinstance(row := line.get("heights"), tuple)]
        where = f"surface '{name}'"
        if not rows or len({len(row) for row in rows}) != 1:
            raise InputError(
                f"the printer told {len(rows)} rows, not all of one length.",
                where,
                "Nothing is taken of it. Let it tell it once more.",
            )
        box = next((_box(line) for line in said if _box(line) is not None), None)
        head = self.surfaces().head(name)
        if head is not None and (head.columns, head.rows) != (len(rows[0]), len(rows)):
            raise InputError(
                f"the printer lists '{name}' with {head.columns} x {head.rows} nodes and told "
                f"{len(rows[0])} x {len(rows)}.",
                where,
                "Let it tell it once more.",
            )
        box = box or (head.box if head is not None else None)
        if box is None:
            raise InputError("the printer does not tell where it lies.", where, "Teach that line.")
        heights = _turned(operation, np.array(rows, dtype=float))
        return held_surface(name, (box.x0, box.y0, box.x1, box.y1), heights, where)

    def write_surface(self, surface: HeldSurface) -> None:
        """Store one."""
        said, b = self.dialect.operations, surface.box
        rows, columns = surface.heights.shape
        if "surface_begin" in said:
            self._move(
                "surface_begin", SURFACE_S, name=surface.name, x0=b.x0, y0=b.y0, x1=b.x1, y1=b.y1,
                columns=float(columns), rows=float(rows),
            )  # fmt: skip
        way = "surface_row" if "surface_row" in said else "surface_cell"
        table = _turned(said[way], surface.heights)
        first = said[way].counted_from
        for j, row in enumerate(table.tolist()):
            if way == "surface_row":
                self._move(
                    way, SURFACE_S, name=surface.name, row=float(j + first), heights=tuple(row)
                )
                continue
            for i, height in enumerate(row):
                self._move(
                    way, SURFACE_S, name=surface.name, column=float(i + first),
                    row=float(j + first), height=height,
                )  # fmt: skip
        if "surface_end" in said:
            self._move("surface_end", SURFACE_S, name=surface.name)

    def use_surface(self, name: str, fades: tuple[float, float] | None = None) -> PrinterState:
        """Follow one."""
        if not name:
            self._move("surface_none", SURFACE_S)
            return replace(self.state(), surface="")
        if fades is not None and "surface_fade" not in self.dialect.operations:
            raise PrinterRefused(
                "it can't be told where a surface fades.", "printer", reason="absent"
            )
        self._move("surface_use", SURFACE_S, name=name)
        if fades is not None:
            self._move("surface_fade", SURFACE_S, full=fades[0], gone=fades[1])
        return replace(self.state(), surface=name)

    def keep_surfaces(self) -> None:
        """Keep them; a printer that has no line for it keeps them at once."""
        if "surfaces_keep" in self.dialect.operations:
            self._move("surfaces_keep", SURFACE_S)

    def forget_surface(self, name: str) -> None:
        """Without one."""
        self._move("surface_forget", SURFACE_S, name=name)


def _turned(operation: "Operation", table: np.ndarray) -> np.ndarray:
    """Rows and columns in this dialect's order, or back."""
    if operation.rows_from == "rear":
        table = table[::-1]
    return table[:, ::-1] if operation.columns_from == "right" else table


def _figure(line: Mapping[str, Value], name: str) -> float:
    value = line.get(name)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise LinkError(f"it tells {name} of its surfaces as no figure.", "console")
    return float(value)


def _box(line: Mapping[str, Value]) -> Rectangle | None:
    if not all(k in line for k in ("x0", "y0", "x1", "y1")):
        return None
    xs = sorted((_figure(line, "x0"), _figure(line, "x1")))
    ys = sorted((_figure(line, "y0"), _figure(line, "y1")))
    return Rectangle(xs[0], ys[0], xs[1], ys[1])


def _head(line: Mapping[str, Value]) -> HeldHead:
    kept = line.get("kept")
    return HeldHead(
        str(line["name"]),
        int(_figure(line, "columns")),
        int(_figure(line, "rows")),
        _box(line),
        kept if isinstance(kept, bool) else None,
    )
