"""The steps of a frame as a tree of groups: by pass, or by what each step is, uses or draws. Sorting and searching
without Qt.
"""

from __future__ import annotations

import functools
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from wendascope.frame.frame import Frame
from wendascope.frame.numbers import Ints, Mask
from wendascope.measure.records import Survey

LEAST_GROUPED = 12
"""Groups with fewer steps show them as they come."""
_LONGEST_LIST, _RUN = 500, 250
"""Steps beyond the first are shown in runs of the second: nobody reads through more, and each row takes its time."""
DRAW_ORDER = "draw order"
"""Passes with their steps one after the other, without groups in them."""
TREES = {
    "pass": ("pass", "debug group", "viewport", "purpose", "program", "mesh", "textures"),
    DRAW_ORDER: ("pass",),
    "role": ("role", "pass", "purpose", "program", "mesh", "textures"),
    "purpose": ("purpose", "pass", "program", "mesh", "textures"),
    "program": ("program", "pass", "mesh", "textures"),
    "mesh": ("mesh", "pass", "program", "textures"),
    "textures": ("textures", "pass", "program", "mesh"),
    "material": ("material", "pass", "mesh"),
    "debug group": ("debug group", "pass", "purpose", "program", "mesh", "textures"),
}
"""What the tree can be grouped by: what each level divides steps by. A level that divides nothing is passed over."""


class Node:
    """A pass, a group or a step. `steps` are in the order of the frame."""

    __slots__ = ("children", "kind", "label", "level", "number", "parent", "pass_index", "row", "shown", "steps")

    def __init__(
        self, kind: str, label: str, steps: Ints, parent: Node | None, pass_index: int = -1, level: int = 0
    ) -> None:
        self.kind = kind
        """`root`, `pass`, `group` or `step`."""
        self.label, self.steps, self.parent = label, steps, parent
        self.pass_index = pass_index
        """The pass that all steps are in; -1 where they are in several."""
        self.level = level
        self.children: list[Node] | None = [] if kind == "step" else None
        self.shown: list[Node] | None = None
        self.row = 0
        self.number = 0
        """Its place among its parent's children as they come: rows of the first level have their colour by it."""

    @property
    def first(self) -> int:
        return int(self.steps[0])

    @property
    def last(self) -> int:
        """The step after which the picture is what all of them came to."""
        return int(self.steps[-1])

    @property
    def top(self) -> Node:
        """The row of the first level that it is in."""
        node = self
        while node.parent is not None and node.parent.parent is not None:
            node = node.parent
        return node


def _contains(text: str, word: str) -> bool:
    """Whether a word is part of the text; a number must be a whole one."""
    return word in text.split() if word.isdigit() else word in text


class FrameTree:
    """Nodes with their numbers. Children are made when their parent is first opened."""

    def __init__(self, frame: Frame, survey: Survey | None, by: str = "pass") -> None:
        self.frame = frame
        self.survey = survey
        self.by = by
        self._levels = [(what, 0) for what in TREES[by] if what != "debug group"]
        if "debug group" in TREES[by]:  # one level for each depth; outer ones are told by the names of passes
            outer = frame.passes.group_depth if by == "pass" else 0
            deepest = max(map(len, set(frame.steps.group)), default=0)
            at = TREES[by].index("debug group")
            self._levels[at:at] = [("debug group", depth) for depth in range(outer, deepest)]
        self._sort: tuple[Callable[[Node], float], bool] | None = None
        self._words: list[str] = []
        self._matching: Mask = np.ones(len(frame.steps), bool)
        self.root = Node("root", "", np.arange(len(frame.steps)), None)

    # ---- numbers -------------------------------------------------------------------------------------

    @functools.cached_property
    def names(self) -> list[str]:
        """The name of every step."""
        return self.frame.step_names

    @functools.cached_property
    def _columns(self) -> dict[str, npt.NDArray[np.float64]]:
        steps, n = self.frame.steps, len(self.frame.steps)
        survey = self.survey
        return {
            "triangles": np.asarray(steps.triangles, np.float64),
            "alone": np.array(survey.steps.ms) if survey else np.zeros(n),
            "fragments": np.array(survey.fragments, float) if survey and survey.fragments else np.zeros(n),
        }

    def total(self, column: str, node: Node) -> float:
        """The sum of `triangles`, `fragments` or milliseconds `alone` over a node's steps."""
        values = self._columns[column]
        return float(values[node.first]) if node.kind == "step" else float(values[node.steps].sum())

    def ms(self, node: Node) -> float | None:
        """Measured milliseconds: of a pass timed whole, of a step alone, of a group the sum of its steps."""
        if self.survey is None:
            return None
        return self.survey.passes[node.pass_index].ms if node.kind == "pass" else self.total("alone", node)

    def interval(self, node: Node) -> tuple[float, float] | None:
        if self.survey is None or node.kind in ("group", "root"):
            return None
        if node.kind == "pass":
            p = self.survey.passes[node.pass_index]
            return p.ms_low, p.ms_high
        return self.survey.steps.ms_low[node.first], self.survey.steps.ms_high[node.first]

    @functools.cached_property
    def _all_passes_ms(self) -> float:
        return sum(p.ms for p in self.survey.passes) if self.survey else 0.0

    def share(self, node: Node) -> float | None:
        """Of all pass times for a pass; else of the row of the first level that it is in, and for such a row of all
        steps, each alone.
        """
        if self.survey is None:
            return None
        if node.kind == "pass":
            total, mine = self._all_passes_ms, self.survey.passes[node.pass_index].ms
        else:
            total, mine = self._top_total(self.root if node.top is node else node.top), self.total("alone", node)
        return mine / total if total else 0.0

    @functools.lru_cache(maxsize=4096)  # noqa: B019  a tree lives as long as its rows
    def _top_total(self, node: Node) -> float:
        return self.total("alone", node)

    # ---- structure -------------------------------------------------------------------------------------

    def children(self, node: Node) -> list[Node]:
        """The nodes under one, as sorted and searched."""
        self._open(node)
        if node.shown is None:
            self._show(node)
        assert node.shown is not None
        return node.shown

    def _open(self, node: Node) -> list[Node]:
        if node.children is None:
            node.children = self._make(node)
            for number, child in enumerate(node.children):
                child.number = number
        return node.children

    @property
    def outermost(self) -> list[Node]:
        """The rows of the first level as they come, whatever is searched for."""
        return self._open(self.root)

    def _make(self, node: Node) -> list[Node]:
        root = node is self.root
        if root or len(node.steps) >= LEAST_GROUPED:
            for number in range(node.level, len(self._levels)):
                parts = self._parts(number, node.steps)
                divides = 1 < len(parts) < len(node.steps) or (root and len(parts) == 1)
                if divides or (root and number == 0):
                    return [self._group(number, label, group, steps, node) for label, group, steps in parts]
        if len(node.steps) <= _LONGEST_LIST:
            return [self._step(step, node) for step in node.steps.tolist()]
        runs = [node.steps[at : at + _RUN] for at in range(0, len(node.steps), _RUN)]
        name = "steps {:,} to {:,}".format
        return [
            Node("group", name(int(run[0]), int(run[-1])), run, node, node.pass_index, len(self._levels))
            for run in runs
        ]

    def _parts(self, level: int, steps: Ints) -> list[tuple[str | None, int, Ints]]:
        """(label, or None where it is the group's name; group; steps) of each part that a level divides steps into."""
        what, depth = self._levels[level]
        if what != "debug group":
            return [(None, group, mine) for group, mine in self.frame.grouping.by(what).parts(steps)]
        found: dict[str, list[int]] = {}
        for step in steps.tolist():
            group = self.frame.steps.group[step]
            found.setdefault(group[depth] if len(group) > depth else "", []).append(step)
        return [(label or "outside of debug groups", -1, np.array(mine)) for label, mine in found.items()]

    def _group(self, level: int, label: str | None, group: int, steps: Ints, parent: Node) -> Node:
        what = self._levels[level][0]
        whole = what == "pass" and parent is self.root
        if len(steps) == 1 and not whole:
            return self._step(int(steps[0]), parent)
        name = self.frame.grouping.by(what).name(group) if label is None else label
        index = group if what == "pass" else parent.pass_index
        return Node("pass" if whole else "group", name, steps, parent, index, level + 1)

    def _step(self, step: int, parent: Node) -> Node:
        index = int(self.frame.passes.of_step[step])
        return Node("step", self.names[step], np.arange(step, step + 1), parent, index)

    # ---- sorting and searching ---------------------------------------------------------------------------

    def sort(self, key: Callable[[Node], float] | None, descending: bool) -> None:
        """Sort the children of every node by a number; None: as they come."""
        self._sort = (key or (lambda node: float(node.first)), descending)
        self._forget(self.root)

    def search(self, text: str) -> int:
        """Show only what contains every word; returns how many steps match."""
        self._words = text.lower().split()
        self._matching = self._matches()
        self._forget(self.root)
        return int(self._matching.sum())

    @property
    def searching(self) -> bool:
        return bool(self._words)

    def _matches(self) -> Mask:
        """Which steps match the search, by their own words and those of their pass, program, number and call."""
        if not self._words:
            return np.ones(len(self.frame.steps), bool)
        frame = self.frame
        texts = (
            f"{name} {frame.passes.names[p]} program {program} {' '.join(group)} step {i}".lower()
            for i, (name, p, program, group) in enumerate(
                zip(
                    self.names,
                    frame.passes.of_step.tolist(),
                    frame.steps.program.tolist(),
                    frame.steps.group,
                    strict=True,
                )
            )
        )
        return np.array([all(_contains(text, word) for word in self._words) for text in texts], bool)

    def _forget(self, node: Node) -> None:
        node.shown = None
        for child in node.children or []:
            self._forget(child)

    def _show(self, node: Node) -> None:
        shown = list(node.children or [])
        if self._words:
            shown = [c for c in shown if self._matching[c.steps].any()]
        if self._sort:
            key, descending = self._sort
            shown.sort(key=key, reverse=descending)
        for row, child in enumerate(shown):
            child.row = row
        node.shown = shown

    def find(self, step: int) -> Node | None:
        """The node of a step as it is shown, or None when the search hides it."""
        node: Node | None = self.root
        while node is not None and node.kind != "step":
            node = next((c for c in self.children(node) if _has(c.steps, step)), None)
        return node


def _has(steps: Ints, step: int) -> bool:
    if not steps[0] <= step <= steps[-1]:
        return False
    return len(steps) == 1 or bool(steps[np.searchsorted(steps, step)] == step)
