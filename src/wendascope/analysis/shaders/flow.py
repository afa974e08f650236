"""Where values of a shader come from and go to: what could be worked out for each vertex, where medium precision
would do, branches that arithmetic would replace, and work that a branch would spare.

All of it over SPIR-V, with the costs that `shader_cost` gives to results. What cannot be followed counts as used
for anything.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass

from wendascope.glsl import spirv
from wendascope.glsl.spirv import Instruction, Module, within

_STEADY, _LINEAR, _OTHER = range(3)
_DEEPEST = 64
_FLOAT_ARITHMETIC = {127, 129, 131, 133, 136, 142, 143, 144, 145, 146, 147, 148}
"""Negation, sum, difference, product, quotient, and products of vectors and matrices."""
_MOVES = {79, 80, 81, 82, 83}
"""Vectors and matrices put together and taken apart."""
_FETCHES = {87, 88, 89, 90, 91, 92, 93, 94, 95, 96, 97, 98}
_NEEDS_PRECISION = {10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30}
"""Extended instructions whose results are far off when their arguments are a little: fractions, angles, powers,
logarithms.
"""
_STEP, _SMOOTH_STEP, _MIX = 48, 49, 46
_SELECT, _PHI, _COPY = 169, 245, 83
_SMALL_SIDES = 12.0
_DEAR_SIDE = 60.0


@dataclass(frozen=True)
class SmallBranch:
    """A branch with little in it."""

    line: int
    cost: float
    """Of both its sides."""


@dataclass(frozen=True)
class SparedSide:
    """Work that is thrown away where a weight or a condition says so."""

    line: int
    cost: float
    lines: tuple[int, ...]


@dataclass(frozen=True)
class Flow:
    per_vertex: dict[int, float]
    """Line -> cost of what is linear in the inputs."""
    medium: dict[int, float]
    """Line -> cost of arithmetic whose results only end in colours."""
    small_branches: list[SmallBranch]
    spared: list[SparedSide]


def shader_flow(module: Module, costs: Mapping[int, float]) -> Flow:
    """`costs` are those of results, as `ShaderCost.results`."""
    return _Following(module, costs).flow()


_MOST_USES = 1_000_000


class _Following:
    def __init__(self, module: Module, costs: Mapping[int, float]) -> None:
        self._m, self._costs = module, costs
        self._stores: dict[int, list[Instruction]] = defaultdict(list)
        self._partly: set[int] = set()
        """Variables that are stored to in parts, or handed on."""
        self._users: dict[int, set[int]] = defaultdict(set)
        """Result -> results made of it; 0 stands for what is no result."""
        self._kinds: dict[int, int] = {}
        self._instructions = [i for f in module.functions.values() for b in f.blocks.values() for i in b.instructions]
        for i in self._instructions:
            if i.opcode == spirv.OP_STORE:
                self._stores[i.operands[0]].append(i)
                chain = module.producer.get(i.operands[0])
                if chain is not None and chain.opcode == spirv.OP_ACCESS_CHAIN:
                    self._partly.add(chain.operands[2])
                    self._stores[chain.operands[2]].append(i)
            elif i.opcode == spirv.OP_FUNCTION_CALL:
                self._partly |= set(i.operands[3:])
        self._note_users()

    def flow(self) -> Flow:
        per_vertex: dict[int, float] = defaultdict(float)
        for number, cost in self._costs.items():
            made = self._m.producer[number]
            if made.opcode in _FLOAT_ARITHMETIC and self._kind(number, 0) == _LINEAR:
                per_vertex[made.line] += cost
        needed = self._needed()
        medium: dict[int, float] = defaultdict(float)
        for number, cost in self._costs.items():
            made = self._m.producer[number]
            if (
                number not in needed
                and (made.opcode in _FLOAT_ARITHMETIC or made.opcode == spirv.OP_EXT_INST)
                and self._is_float(number)
            ):
                medium[made.line] += cost
        return Flow(dict(per_vertex), dict(medium), self._small_branches(), self._spared())

    # ---- linear in the inputs ------------------------------------------------------------------------------

    def _kind(self, number: int, depth: int) -> int:
        """Whether a result is the same everywhere, linear in what the vertices hand on, or anything else."""
        if number not in self._kinds:
            self._kinds[number] = _OTHER  # what depends on itself
            self._kinds[number] = self._kind_of(number, depth) if depth < _DEEPEST else _OTHER
        return self._kinds[number]

    def _kind_of(self, number: int, depth: int) -> int:
        made = self._m.producer.get(number)
        if made is None:
            return _OTHER if self._is_parameter(number) else _STEADY
        if made.opcode == spirv.OP_LOAD:
            return self._loaded(made.operands[2], depth)
        kinds = [self._kind(operand, depth + 1) for operand in self._taken(made)]
        if _OTHER in kinds or made.opcode in _FETCHES or made.opcode in (spirv.OP_FUNCTION_CALL, _PHI):
            return _OTHER
        if _LINEAR not in kinds:
            return _STEADY
        match made.opcode:
            case 127 | 129 | 131 | 79 | 80 | 81 | 83:
                return _LINEAR
            case 133 | 142 | 143 | 144 | 145 | 146 | 147 | 148:  # products, one side of which is the same everywhere
                return _LINEAR if kinds.count(_LINEAR) == 1 else _OTHER
            case 136:
                return _LINEAR if kinds[1] == _STEADY else _OTHER
            case spirv.OP_EXT_INST if made.operands[3] == _MIX:
                return _LINEAR if kinds[2] == _STEADY else _OTHER
        return _OTHER

    def _loaded(self, pointer: int, depth: int) -> int:
        made = self._m.producer.get(pointer)
        base = pointer
        if made is not None and made.opcode == spirv.OP_ACCESS_CHAIN:
            if any(self._kind(index, depth + 1) != _STEADY for index in made.operands[3:]):
                return _OTHER
            base = made.operands[2]
        variable = self._m.variables.get(base)
        if variable is None:
            return _OTHER
        storage = variable.operands[2]
        if storage == spirv.INPUT:
            type_ = self._m.types[variable.operands[0]].operands[2]
            return _OTHER if base in self._m.built_in or type_ in self._m.built_in else _LINEAR
        if self._m.is_uniform(variable):
            return _STEADY
        stores = self._stores.get(base, [])
        if base in self._partly or len(stores) != 1:
            return _OTHER
        return self._kind(stores[0].operands[1], depth + 1)

    def _is_parameter(self, number: int) -> bool:
        return any(number in f.parameters for f in self._m.functions.values())

    def _is_float(self, number: int) -> bool:
        type_ = self._m.types.get(self._m.result_type.get(number, 0))
        while type_ is not None and type_.opcode in (spirv.OP_TYPE_VECTOR, spirv.OP_TYPE_MATRIX):
            type_ = self._m.types.get(type_.operands[1])
        return type_ is not None and type_.opcode == spirv.OP_TYPE_FLOAT

    # ---- who uses what ------------------------------------------------------------------------------------

    def _taken(self, made: Instruction) -> tuple[int, ...]:
        return tuple(operand for operand in spirv.inputs_of(made) if operand in self._m.result_type)

    def _note_users(self) -> None:
        loads: dict[int, list[int]] = defaultdict(list)
        for i in self._instructions:
            if i.opcode == spirv.OP_LOAD:
                chain = self._m.producer.get(i.operands[2])
                loads[
                    chain.operands[2] if chain is not None and chain.opcode == spirv.OP_ACCESS_CHAIN else i.operands[2]
                ].append(i.operands[1])
        for i in self._instructions:
            result = i.operands[1] if len(i.operands) > 1 and self._m.producer.get(i.operands[1]) is i else 0
            if i.opcode == spirv.OP_STORE:
                chain = self._m.producer.get(i.operands[0])
                base = (
                    chain.operands[2] if chain is not None and chain.opcode == spirv.OP_ACCESS_CHAIN else i.operands[0]
                )
                variable = self._m.variables.get(base)
                local = variable is not None and variable.operands[2] == 7 and base not in self._partly
                # of one that is filled and read thousands of times, nothing is said
                local = local and len(loads[base]) * len(self._stores[base]) <= _MOST_USES
                self._users[i.operands[1]] |= set(loads[base]) if local else {0}
                continue
            taken = self._taken(i) if result else i.operands
            for operand in taken:
                self._users[operand].add(result)

    def _needed(self) -> set[int]:
        """Results that end in more than a colour: places of texture samples, conditions, angles, fractions, depth,
        positions of other things.
        """
        waiting: list[int] = []
        for i in self._instructions:
            if i.opcode in _FETCHES:
                waiting += i.operands[3:]
            elif (
                i.opcode == spirv.OP_EXT_INST
                and i.operands[2] in self._m.extended
                and i.operands[3] in _NEEDS_PRECISION
            ):
                waiting += i.operands[4:]
            elif i.opcode in (spirv.OP_BRANCH_CONDITIONAL, spirv.OP_SWITCH, *range(207, 216), *range(180, 192)):
                waiting += i.operands[2:] if 180 <= i.opcode < 216 else i.operands[:1]
            elif i.opcode == spirv.OP_STORE and i.operands[0] in self._m.built_in:
                waiting.append(i.operands[1])
            elif i.opcode == spirv.OP_FUNCTION_CALL:
                waiting += i.operands[3:]
        needed, filled = set[int](), set[int]()
        while waiting:
            number = waiting.pop()
            if number in needed:
                continue
            needed.add(number)
            made = self._m.producer.get(number)
            if made is None:
                continue
            if made.opcode == spirv.OP_LOAD:
                chain = self._m.producer.get(made.operands[2])
                base = (
                    chain.operands[2]
                    if chain is not None and chain.opcode == spirv.OP_ACCESS_CHAIN
                    else made.operands[2]
                )
                waiting += [s.operands[1] for s in self._stores.get(base, []) if base not in filled]
                filled.add(base)
            else:
                waiting += self._taken(made)
        return needed

    # ---- branches -----------------------------------------------------------------------------------------

    def _small_branches(self) -> list[SmallBranch]:
        found = []
        for function in self._m.functions.values():
            for block in function.blocks.values():
                last = block.instructions[-1] if block.instructions else None
                if last is None or last.opcode != spirv.OP_BRANCH_CONDITIONAL or not block.merge or block.following:
                    continue
                if self._kind(last.operands[0], 0) == _STEADY:
                    continue  # one way for the whole draw
                sides = within(function, [t for t in last.operands[1:3] if t != block.merge], block.merge)
                instructions = [i for label in sides for i in function.blocks[label].instructions]
                if any(_is_dear(i) for i in instructions) or all(i.opcode != spirv.OP_STORE for i in instructions):
                    continue
                cost = sum(
                    self._costs.get(i.operands[1], 0.0)
                    for i in instructions
                    if len(i.operands) > 1 and self._m.producer.get(i.operands[1]) is i
                )
                if 0 < cost <= _SMALL_SIDES:
                    found.append(SmallBranch(last.line, cost))
        return found

    def _spared(self) -> list[SparedSide]:
        """Sides of selections and mixes by a step that cost much and are used for nothing else."""
        found = []
        for i in self._instructions:
            if i.opcode == _SELECT:
                sides = i.operands[3:5]
                steady = self._kind(i.operands[2], 0) == _STEADY
            elif (
                i.opcode == spirv.OP_EXT_INST
                and i.operands[2] in self._m.extended
                and i.operands[3] == _MIX
                and self._is_step(i.operands[6])
            ):
                sides = i.operands[4:6]
                steady = self._kind(i.operands[6], 0) == _STEADY
            else:
                continue
            if steady or i.operands[1] not in self._m.producer:
                continue
            for side in sides:
                alone = self._only_for(side, i.operands[1])
                cost = sum(self._costs.get(number, 0.0) for number in alone)
                if cost >= _DEAR_SIDE:
                    lines = sorted({self._m.producer[n].line for n in alone if self._costs.get(n)})
                    found.append(SparedSide(i.line, cost, tuple(lines)))
        return found

    def _is_step(self, number: int) -> bool:
        """Whether a weight is 0 or 1."""
        made = self._m.producer.get(number)
        for _ in range(_DEEPEST):
            if made is None:
                return False
            if made.opcode == spirv.OP_EXT_INST and made.operands[3] == _STEP:
                return True
            if made.opcode in (_SELECT, 112) or made.opcode not in (80, 79, spirv.OP_LOAD):
                return made.opcode == _SELECT
            if made.opcode == spirv.OP_LOAD:
                stores = self._stores.get(made.operands[2], [])
                made = self._m.producer.get(stores[0].operands[1]) if len(stores) == 1 else None
            else:
                made = self._m.producer.get(made.operands[2])
        return False

    def _only_for(self, number: int, user: int) -> set[int]:
        """Results that are made for one use of one result only."""
        found: set[int] = set()
        allowed = {user}
        waiting = [number]
        while waiting:
            at = waiting.pop()
            made = self._m.producer.get(at)
            if at in found or made is None or not self._users[at] or not self._users[at] <= allowed | found:
                continue
            found.add(at)
            if made.opcode == spirv.OP_LOAD:
                waiting += [
                    s.operands[1]
                    for s in self._stores.get(made.operands[2], [])
                    if made.operands[2] not in self._partly
                ]
            waiting += self._taken(made)
        return found


def _is_dear(i: Instruction) -> bool:
    return i.opcode in _FETCHES or i.opcode in (
        spirv.OP_KILL,
        spirv.OP_RETURN,
        spirv.OP_RETURN_VALUE,
        spirv.OP_FUNCTION_CALL,
        spirv.OP_LOOP_MERGE,
        spirv.OP_UNREACHABLE,
        99,
    )
