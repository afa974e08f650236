"""The frame as a tree: passes, groups in them, steps. Sorting and searching without Qt."""

from __future__ import annotations

import functools
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.frame import Frame
from wendascope.measure.records import Survey

LEAST_GROUPED = 12
"""Passes with fewer steps show them without groups."""


@dataclass(eq=False)
class Node:
    """A pass, a group or a step, over steps [first, end)."""

    kind: str  # "root", "pass", "group", "step"
    label: str
    first: int
    end: int
    parent: Node | None
    pass_index: int = -1
    children: list[Node] | None = None
    shown: list[Node] | None = None
    row: int = 0

    @property
    def steps(self) -> int:
        return self.end - self.first


def _contains(text: str, word: str) -> bool:
    """Whether a word is part of the text; a number must be a whole one."""
    return word in text.split() if word.isdigit() else word in text


class FrameTree:
    """Nodes with their numbers. Steps are made when their parent is first opened."""

    def __init__(self, frame: Frame, survey: Survey | None) -> None:
        self.frame = frame
        self.survey = survey
        self._sort: tuple[str, bool] | None = None
        self._words: list[str] = []
        self.root = Node("root", "", 0, len(frame.steps), None)
        self.root.children = [
            Node("pass", name, int(frame.passes.first[i]), int(frame.passes.end[i]), self.root, i)
            for i, name in enumerate(frame.passes.names)
        ]
        self._show(self.root)

    # ---- numbers -------------------------------------------------------------------------------------

    @functools.cached_property
    def names(self) -> list[str]:
        """The name of every step."""
        return self.frame.step_names

    @functools.cached_property
    def _totals(self) -> dict[str, npt.NDArray[np.float64]]:
        """Running totals of each column over steps, so that any range is one subtraction."""
        steps, n = self.frame.steps, len(self.frame.steps)
        survey = self.survey
        columns = {
            "vertices": steps.vertices,
            "triangles": steps.triangles,
            "alone": np.array(survey.steps.ms) if survey else np.zeros(n),
            "fragments": np.array(survey.fragments) if survey and survey.fragments else np.zeros(n),
        }
        return {name: np.concatenate([[0.0], np.cumsum(values)]) for name, values in columns.items()}

    def total(self, column: str, node: Node) -> float:
        totals = self._totals[column]
        return float(totals[node.end] - totals[node.first])

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

    def share(self, node: Node) -> float | None:
        """Of all pass times for a pass; of its pass's steps alone for groups and steps."""
        if self.survey is None:
            return None
        if node.kind == "pass":
            total = sum(p.ms for p in self.survey.passes)
            return self.survey.passes[node.pass_index].ms / total if total else 0.0
        own = self.root.children
        assert own is not None
        total = self.total("alone", own[node.pass_index])
        return self.total("alone", node) / total if total else 0.0

    def value(self, node: Node, column: str) -> float:
        """What a column sorts by."""
        match column:
            case "name":
                return float(node.first)
            case "steps":
                return float(node.steps)
            case "ms" | "interval":
                return self.ms(node) or 0.0
            case "share":
                return self.share(node) or 0.0
        return self.total(column, node)

    # ---- structure -------------------------------------------------------------------------------------

    def children(self, node: Node) -> list[Node]:
        """The nodes under one, as sorted and searched."""
        if node.children is None:
            node.children = self._make(node)
        if node.shown is None:
            self._show(node)
        assert node.shown is not None
        return node.shown

    def _make(self, node: Node) -> list[Node]:
        if node.kind == "step":
            return []
        if node.kind == "pass":
            groups = self._groups(node)
            if len(groups) > 1 and node.steps >= LEAST_GROUPED:
                return groups
        return [self._step(i, node) for i in range(node.first, node.end)]

    def _step(self, step: int, parent: Node) -> Node:
        return Node("step", self.names[step], step, step + 1, parent, parent.pass_index, children=[])

    def _groups(self, node: Node) -> list[Node]:
        """Debug groups inside a pass where the program has them, else runs of one program."""
        steps, depth = self.frame.steps, self.frame.passes.group_depth
        keys: list[object] = [
            steps.group[i][depth]
            if len(steps.group[i]) > depth
            else ("program", int(steps.program[i]), int(steps.kind[i]))
            for i in range(node.first, node.end)
        ]
        groups, start = [], 0
        for i in range(1, len(keys) + 1):
            if i == len(keys) or keys[i] != keys[start]:
                key = keys[start]
                if isinstance(key, str):
                    label = key
                elif steps.kind_name(node.first + start) == "draw":
                    label = f"draws with {self.frame.program_name(int(steps.program[node.first + start]))}"
                else:
                    label = self.names[node.first + start]
                one = i - start == 1 and not isinstance(key, str)
                group = Node(
                    "step" if one else "group",
                    self.names[node.first + start] if one else label,
                    node.first + start,
                    node.first + i,
                    node,
                    node.pass_index,
                )
                group.children = [] if one else None
                groups.append(group)
                start = i
        return groups

    # ---- sorting and searching ---------------------------------------------------------------------------

    def sort(self, column: str, descending: bool) -> None:
        self._sort = None if column == "name" and not descending else (column, descending)
        self._forget(self.root)
        self._show(self.root)

    def search(self, text: str) -> int:
        """Show only what contains every word; returns how many steps match."""
        self._words = text.lower().split()
        self._forget(self.root)
        self._show(self.root)
        return int(self._matches.sum())

    @property
    def searching(self) -> bool:
        return bool(self._words)

    @property
    def _matches(self) -> npt.NDArray[np.bool_]:
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
        if node is self.root:
            self._matched = np.concatenate([[0], np.cumsum(self._matches)])

    def _show(self, node: Node) -> None:
        shown = list(node.children or [])
        if self._words:
            shown = [c for c in shown if self._matched[c.end] > self._matched[c.first]]
        if self._sort:
            column, descending = self._sort
            shown.sort(key=lambda c: self.value(c, column), reverse=descending)
        for row, child in enumerate(shown):
            child.row = row
        node.shown = shown

    def find(self, step: int) -> Node | None:
        """The node of a step as it is shown, or None when the search hides it."""
        node: Node | None = self.root
        while node is not None and node.kind != "step":
            node = next((c for c in self.children(node) if c.first <= step < c.end), None)
        return node
