"""The table of programs: who spends vertices and fragments. Programs of one family stand below a line of their own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from wendascope.analysis.shaders.study import ProgramStudy
from wendascope.desktop.models.document import Document
from wendascope.desktop.widgets.rows_table import Column, RowsModel, RowsTable
from wendascope.texts import share


@dataclass(frozen=True, eq=False)
class ProgramRow:
    """A program, or a family of several; `within` is set for a member of such a family."""

    members: tuple[ProgramStudy, ...]
    whole_ms: float
    """Measured time of all programs."""
    within: bool = False

    @property
    def program(self) -> ProgramStudy:
        """The one, or the first of the family."""
        return self.members[0]

    @property
    def name(self) -> str:
        if len(self.members) > 1:
            return f"{len(self.members)} variants: {self.program.title}"
        where = self.program.passes[0] if self.program.passes else ""
        more = f" +{len(self.program.passes) - 1}" if len(self.program.passes) > 1 else ""
        return ("    " if self.within else "") + f"{self.program.label.removeprefix('program ')} {where}{more}"

    @property
    def share(self) -> float:
        """Of the measured time of all programs."""
        mine = self.total(lambda p: p.ms)
        return mine / self.whole_ms if mine is not None and self.whole_ms else 0.0

    def total(self, value: Callable[[ProgramStudy], float | None]) -> float | None:
        found = [value(p) for p in self.members]
        return None if None in found else sum(v for v in found if v is not None)

    def most(self, value: Callable[[ProgramStudy], float | None]) -> float | None:
        found = [v for p in self.members if (v := value(p)) is not None]
        return max(found, default=None)


def _vertices(program: ProgramStudy) -> float:
    return float(program.vertices if program.vertices_run is None else program.vertices_run)


def _fetches(program: ProgramStudy) -> float | None:
    found = next((s for s in program.stages if s.name == "fragment"), None)
    return found.cost.fetches if found and found.cost else None


def _column(
    title: str, width: int, tip: str, value: Callable[[ProgramRow], float | None], form: str = "{:,.0f}", **more: Any
) -> Column[ProgramRow]:
    return Column(title, width, lambda row: "" if (v := value(row)) is None else form.format(v), value, tip, **more)


_COLUMNS: list[Column[ProgramRow]] = [
    Column(
        "name",
        0,
        lambda row: row.name,
        lambda row: row.program.title,
        "Programs that differ only in constants and defines are variants of one shader",
        right=False,
    ),
    _column(
        "ms",
        60,
        "Measured: its steps, each with its part of its pass; the bar is its share of all programs",
        lambda r: r.total(lambda p: p.ms),
        "{:.1f}",
        bar=lambda r: r.share,
    ),
    _column("steps", 52, "Steps that draw with it", lambda r: r.total(lambda p: float(len(p.steps)))),
    _column(
        "fragments",
        88,
        "Counted: fragments that passed all tests",
        lambda r: r.total(lambda p: None if p.fragments is None else float(p.fragments)),
    ),
    _column(
        "vertices",
        64,
        "Counted by the driver: vertex shaders run; submitted vertices where it does not count",
        lambda r: r.total(_vertices),
        gives_way=True,
    ),
    _column(
        "~ fragment",
        82,
        "Modelled: cost of one fragment; 1 is an addition",
        lambda r: r.most(lambda p: p.fragment_cost),
    ),
    _column("~ vertex", 66, "Modelled: cost of one vertex", lambda r: r.most(lambda p: p.vertex_cost), gives_way=True),
    _column("samples", 68, "Modelled: texture samples per fragment", lambda r: r.most(_fetches), gives_way=True),
    _column(
        "registers",
        70,
        "Varying slots (vec4)",
        lambda r: r.most(lambda p: float(p.registers)),
        gives_way=True,
    ),
]


class _ProgramsModel(RowsModel[ProgramRow]):
    def __init__(self) -> None:
        super().__init__(_COLUMNS, (1, True))

    def arranged(self, rows: list[ProgramRow], key: Callable[[ProgramRow], Any], descending: bool) -> list[ProgramRow]:
        """Families keep together: they are sorted by what they are as a whole, and within."""
        found = []
        for family in super().arranged([row for row in rows if not row.within], key, descending):
            found.append(family)
            if len(family.members) > 1:
                found += super().arranged(
                    [row for row in rows if row.within and row.program in family.members], key, descending
                )
        return found


class ProgramsTable(RowsTable[ProgramRow]):
    """Points at programs for other views, and shows which one is pointed at there."""

    def __init__(self) -> None:
        super().__init__(_ProgramsModel(), "Programs")
        self._document: Document | None = None
        self.rows.tinted = self._is_pointed
        self.rows.tip = lambda row: (
            f"{row.program.title}: {', '.join(row.program.passes)}"
            + (f"; {share(row.share)} of the time of all programs" if row.share else "")
        )
        self.hovered.connect(self._point)

    def show_programs(self, document: Document | None, programs: list[ProgramStudy]) -> None:
        if document is not self._document and document is not None:
            document.pointed.listen(self.rows.repaint_rows)
        kept = self.chosen.program.program if self.chosen and document is self._document else None
        self._document = document
        families: dict[int, list[ProgramStudy]] = {}
        for program in programs:
            families.setdefault(program.family, []).append(program)
        rows, whole = [], sum(program.ms or 0.0 for program in programs)
        for members in families.values():
            rows.append(ProgramRow(tuple(members), whole))
            if len(members) > 1:
                rows += [ProgramRow((program,), whole, True) for program in members]
        self.rows.show_rows(rows)
        if rows:
            self.selectRow(0)
        if kept is not None:
            self.choose_program(kept)

    def choose_program(self, program: int) -> None:
        for number, row in enumerate(self.rows.rows):
            if len(row.members) == 1 and row.program.program == program:
                self.selectRow(number)

    def _is_pointed(self, row: ProgramRow) -> bool:
        return self._document is not None and self._document.pointed.program in [p.program for p in row.members]

    def _point(self, row: ProgramRow | None) -> None:
        if self._document is not None:
            self._document.pointed.point(row.program.program if row else None)
