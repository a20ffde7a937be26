"""Handover's page of surfaces: what the printer holds and follows, and the one next act."""

from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QGridLayout, QHeaderView, QTableWidgetItem, QVBoxLayout, QWidget

from tallgrain.core.held.standing import SurfaceStanding
from tallgrain.procedures.surfaces import MATTERS_MM, SurfaceTried, mended
from tallgrain.ui.app import theme
from tallgrain.ui.painting.held import HeldPicture, held_picture, paint_held
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.surfaces_work import SurfacesWork
from tallgrain.ui.widgets.bench import plain_table
from tallgrain.ui.widgets.parts import button, label, tell
from tallgrain.ui.widgets.picture import StationPicture
from tallgrain.ui.widgets.words import day, mm

HEADS = ("surface", "survey", "nodes", "how it stands", "off the plate", "proof by touches")


class HeldPage(QWidget):
    """Two plates, a line a surface, and what can be done with the chosen one."""

    def __init__(self, session: Session, work: SurfacesWork) -> None:
        super().__init__()
        self._session, self.work = session, work
        self.wanted = False  # whether the first layer's advice led here, to write
        self._key: object = None
        self._seen: HeldPicture | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.picture = StationPicture(self._paint)
        self.picture.setMinimumHeight(110)
        self.picture.setAccessibleName("What the printer holds, and what that leaves of the bed")
        column.addWidget(self.picture, 1)
        self.said = label(wrap=True)
        column.addWidget(self.said)
        self.table = plain_table(HEADS, "The surfaces that the printer holds")
        self.table.setFixedHeight(104)
        self.table.setWordWrap(False)
        header = self.table.horizontalHeader()
        assert header is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        for wide in (3, 5):
            header.setSectionResizeMode(wide, QHeaderView.ResizeMode.Stretch)
        column.addWidget(self.table)
        grid = QGridLayout()
        self.write = button("&Write survey", tip="Written, read back, kept")
        self.prove = button("Prove", tip="Touches places without and with it (two minutes)")
        self.follow = button("Fo&llow")
        self.none = button("Follow n&one")
        self.back = button("Take &back", tip="The surface that was written under this name before")
        self.survey = button("&As a survey", tip="What it holds, kept as a survey: compare it")
        self.give = button("&Give back", tip="What a reflash took is written again")
        self.drop = button("For&get")
        for made, act in (
            (self.write, work.write),
            (self.prove, lambda: work.prove(self.chosen)),
            (self.follow, lambda: work.use(self.chosen)),
            (self.none, lambda: work.use("")),
            (self.back, lambda: work.take_back(self.chosen)),
            (self.give, work.give_back),
            (self.survey, lambda: work.take_over(self.chosen)),
            (self.drop, lambda: work.forget(self.chosen)),
        ):
            made.clicked.connect(lambda _=False, a=act: a())
        every = (
            self.write,
            self.prove,
            self.follow,
            self.none,
            self.back,
            self.survey,
            self.drop,
            self.give,
        )
        for i, made in enumerate(every):
            grid.addWidget(made, i // 4, i % 4)
        column.addLayout(grid)
        self.table.itemSelectionChanged.connect(self.refresh)

    @property
    def one(self) -> SurfaceStanding | None:
        """The chosen line's; without one this sheet's."""
        rows = self.work.standings
        at = self.table.currentRow()
        return rows[at] if 0 <= at < len(rows) else self.work.mine

    @property
    def chosen(self) -> str:
        """Its name."""
        return self.one.name if self.one is not None else self.work.name

    # What is due

    @property
    def act_words(self) -> str:
        """What F5 does on this page."""
        work, one = self.work, self.work.mine
        if not work.able:
            return ""
        if work.lost:
            return "Give the surfaces back  F5"
        if work.unkept:
            return "Keep the surfaces: survive power-off  F5"
        if one is not None and self._turns(one):
            return "Correct and write it again  F5"
        if self._due():
            survey = work.survey
            return f"Write survey {survey.ident if survey else ''} and keep it  F5"
        if one is not None and self._unproven(one):
            return f"Prove {one.name}: is it the one?  F5"
        return ""

    def act(self) -> None:
        """The one next step."""
        work, one = self.work, self.work.mine
        if work.lost:
            work.give_back()
        elif work.unkept:
            work.keep()
        elif one is not None and self._turns(one):
            work.write(self._turns(one))
        elif self._due():
            work.write()
        elif one is not None and self._unproven(one):
            work.prove(one.name)

    def _turns(self, one: SurfaceStanding) -> str:
        """The mishap that writing it otherwise would mend; "" for none."""
        wrong = self.work.wrong(one)
        held = one.written.surface if one.written is not None else one.held
        return wrong if wrong and held is not None and mended(held, wrong) is not None else ""

    def _due(self) -> bool:
        """Whether the bed is no longer what is held."""
        one, survey = self.work.mine, self.work.survey
        if self.work.proposed() is None or survey is None:
            return False
        last = one.written.survey if one is not None and one.written is not None else ""
        if self.wanted and last != survey.ident:
            return True
        if one is None or one.held is None or one.state == "changed at the printer":
            return True
        off = self.work.off_the_bed(one)
        return off is not None and off.worst > MATTERS_MM

    def _unproven(self, one: SurfaceStanding) -> bool:
        sheet = self._session.sheet
        proof = self.work.newest_proof(one.name)
        if one.held is None or sheet is None or not sheet.probe.there:
            return False
        return proof is None or (one.written is not None and proof.at < one.written.at)

    # Showing

    def refresh(self) -> None:
        """Follow the work."""
        work, s = self.work, self._session
        idle = s.ready
        rows, one = work.standings, self.one
        self._fill(rows)
        tell(self.said, self._sentence())
        there = one is not None and one.held is not None
        self.write.setEnabled(idle and work.able and work.proposed() is not None)
        for made in (self.prove, self.follow, self.drop, self.survey):
            made.setEnabled(idle and there)
        self.prove.setVisible(s.sheet is not None and s.sheet.probe.there)
        self.back.setEnabled(idle and one is not None and one.written is not None)
        using = work.read.told is not None and bool(work.read.told.using)
        self.none.setEnabled(idle and using)
        self.give.setVisible(bool(work.lost))
        self.give.setEnabled(idle)
        self._draw(one)

    def _draw(self, one: SurfaceStanding | None) -> None:
        sheet, survey = self._session.sheet, self.work.survey
        surface = one.followed if one is not None else None
        key = (sheet, surface.sum if surface is not None else "", survey.ident if survey else "")
        if sheet is not None and key != self._key:
            off = self.work.off_the_bed(one) if one is not None else None
            self._key, self._seen = key, held_picture(sheet, surface, survey, off)
            self.picture.update()

    def _paint(self, painter: QPainter, rect: QRectF) -> None:
        sheet = self._session.sheet
        if sheet is not None and self._seen is not None:
            paint_held(painter, rect, sheet, self._seen)

    def _fill(self, rows: tuple[SurfaceStanding, ...]) -> None:
        told = []
        for one in rows:
            off, proof = self.work.off_the_bed(one), self.work.newest_proof(one.name)
            nodes = f"{len(one.held.xs)} × {len(one.held.ys)}" if one.held is not None else "–"
            told.append(
                (
                    f"{one.name}{', in use' if one.in_use else ''}",
                    one.written.survey if one.written is not None else "not ours",
                    one.trouble or nodes,
                    one.state,
                    "–" if off is None else f"{mm(off.worst, 3)} mm",
                    "not tried" if proof is None else f"{proof.outcome}, {day(proof.at)}",
                )
            )

        def dress(item: QTableWidgetItem, i: int, j: int) -> None:
            item.setForeground(theme.RUST if j == 3 and not rows[i].fine else theme.INK)

        self.table.show_rows(told, dress)

    def _sentence(self) -> str:
        work = self.work
        if not work.able:
            return (
                "No surface can be told over this link: what is surveyed here changes no print. A "
                "print's start may let the printer survey by itself."
            )
        if work.read.trouble:
            return f"Its surfaces could not be read: {work.read.trouble}"
        if work.tried is not None and work.tried.explained.verdict != "as written":
            return _tried_words(work.tried)
        made = work.proposed()
        if made is None:
            return "Survey the bed: then its surface can be written here."
        nodes = f"{len(made.surface.xs)} × {len(made.surface.ys)}"
        cost = f"{mm(made.costs.worst, 3)} mm of first layer at the worst place"
        survey = work.survey
        ident = survey.ident if survey is not None else ""
        tried, held = work.tried, work.mine.held if work.mine is not None else None
        same = tried is not None and held is not None and held.same(tried.surface, 0.001)
        proven = f"{_proven_words(tried)} " if tried is not None and same else ""
        return f"{proven}Survey {ident} on {nodes} nodes, as {work.name}: that costs {cost}."


def _proven_words(tried: SurfaceTried) -> str:
    found, name = tried.explained, tried.surface.name
    return f"Proven: {name} is followed as it was written, {mm(found.left_mm, 2)} mm left."


def _tried_words(tried: SurfaceTried) -> str:
    found, name = tried.explained, tried.surface.name
    mishap = found.named
    if mishap is None:
        left = f"{mm(found.left_mm, 2)} mm is left with {name} in use"
        return f"{left}, and nothing known explains it. Nothing follows it now."
    if mishap.name == "stale":
        return f"{name} is followed as it was written, but {mishap.sentence}. {mishap.remedy}"
    return (
        f"{name}: {mishap.sentence}. {mishap.remedy} It explains the touches better than the next "
        f"by {found.better_by:.0f}; nothing follows it now."
    )
