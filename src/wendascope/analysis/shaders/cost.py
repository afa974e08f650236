"""What one invocation of a shader costs, line by line: a model over its SPIR-V, by an editable table of operations.

Loops count as often as they run, where that follows from constants or from uniform values of the frame; where it does
not, they count as often as the table says and are marked. Both sides of a branch count, unless a uniform decides it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

from wendascope.analysis.guidelines import OperationCosts
from wendascope.glsl import spirv
from wendascope.glsl.spirv import Block, Function, Instruction, Module, dominators, within

Number = int | float | bool
_DEEPEST = 24
_MOST_TRIPS = 100_000


@dataclass
class Loop:
    """One loop. `trips` is None where it does not follow from constants and uniform values."""

    line: int
    last_line: int
    trips: int | None
    by_uniform: str
    """The uniform that its length depends on; empty for a constant one."""
    cost: float = 0.0
    """Of all its rounds."""


@dataclass
class Branch:
    """A branch that uniform values of the frame decide."""

    line: int
    last_line: int
    """Of the side that is not taken."""
    taken: bool
    uniform: str
    cost: float
    """Of the side that is not taken."""


@dataclass
class ShaderCost:
    """Of one invocation."""

    total: float
    lines: dict[int, float]
    """Line -> cost, times the rounds of the loops round it."""
    classes: dict[str, float]
    fetches: float
    """Texture samples."""
    uniform_only: dict[int, float] = field(default_factory=dict)
    """Line -> the part of its cost that depends on uniforms and constants alone."""
    powers: list[tuple[int, float]] = field(default_factory=list)
    """(line, exponent) of powers with a constant exponent."""
    repeated_fetches: list[int] = field(default_factory=list)
    """Lines that look up what was looked up before, at the same place."""
    loops: list[Loop] = field(default_factory=list)
    branches: list[Branch] = field(default_factory=list)
    runs: dict[int, float] = field(default_factory=dict)
    """Line -> how often one invocation runs it, by loops and calls."""
    results: dict[int, float] = field(default_factory=dict)
    """Result of the module -> what making it costs, times its rounds."""

    @property
    def certain(self) -> bool:
        return all(loop.trips is not None for loop in self.loops)


def shader_cost(
    module: Module,
    costs: OperationCosts,
    uniforms: Mapping[str, Number],
    filters: Mapping[str, float] | None = None,
    live: Collection[int] | None = None,
) -> ShaderCost:
    """`uniforms` are scalar values by name, `name.member` for blocks and structures; `filters` is, for each
    sampler, what a texture sample costs with the filter of its texture, as a part of the most expensive. `live` are the
    instructions that have an effect, by identity: others cost nothing. None for all of them.
    """
    return _Costing(module, costs, uniforms, filters or {}, live).run()


# opcode -> (class, what it takes for each scalar of its result)
_PLAIN: dict[int, tuple[str, float]] = (
    dict.fromkeys(
        (*range(126, 134), *range(139, 142), 142, *range(148, 156), *range(164, 192), *range(194, 206), 143, 144),
        ("arithmetic", 1.0),
    )
    | dict.fromkeys(range(109, 125), ("conversion", 1.0))
    | dict.fromkeys((134, 135, 136, 137, 138), ("division", 1.0))
    | dict.fromkeys(range(207, 216), ("derivative", 1.0))
)
_FETCHES = {87, 88, 89, 90, 91, 92, 93, 94, 96, 97, 305, 306}
_TEXEL_FETCHES = {95, 98}
_EXTENDED: dict[int, tuple[str, float]] = (
    dict.fromkeys(
        (1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 37, 38, 39, 40, 41, 42, 48, 53, 54, 79, 80), ("arithmetic", 1.0)
    )
    | {
        43: ("arithmetic", 2.0),
        44: ("arithmetic", 2.0),
        45: ("arithmetic", 2.0),
        46: ("arithmetic", 2.0),
        49: ("arithmetic", 9.0),
        50: ("arithmetic", 2.0),
    }
    | dict.fromkeys((*range(13, 26), 27, 28, 29, 30), ("transcendental", 1.0))
    | {26: ("power", 1.0), 31: ("square_root", 1.0), 32: ("square_root", 1.0)}
)


_Path = tuple[tuple[int, int], ...]
"""(function, block) of each call that leads to a place, the outermost first."""


class _Costing:
    def __init__(
        self,
        module: Module,
        costs: OperationCosts,
        uniforms: Mapping[str, Number],
        filters: Mapping[str, float],
        live: Collection[int] | None,
    ) -> None:
        self._m, self._costs, self._uniforms, self._filters = module, costs, uniforms, filters
        self._live = live
        self._lines: dict[int, float] = defaultdict(float)
        self._classes: dict[str, float] = defaultdict(float)
        self._total = 0.0
        self._class = "arithmetic"
        self._fetches = 0.0
        self._uniform_lines: dict[int, float] = defaultdict(float)
        self._powers: list[tuple[int, float]] = []
        self._repeated: list[int] = []
        self._places: dict[tuple[object, ...], list[_Path]] = defaultdict(list)
        """What a sample reads -> the blocks that made such a one, each behind the blocks that called its function."""
        self._path: _Path = ()
        self._dominators: dict[int, dict[int, set[int]]] = {}
        self._known_uniform: dict[int, bool] = {}
        self._loops: list[Loop] = []
        self._branches: list[Branch] = []
        self._results: dict[int, float] = defaultdict(float)
        self._times: dict[int, float] = defaultdict(float)
        """Identity of an instruction -> how often it is run."""
        self._line_of: dict[int, int] = {}
        self._used = ""
        """The uniform that the last evaluation read."""
        self._stores: dict[int, list[Instruction]] = defaultdict(list)
        self._fetched: set[int] = set()
        self._before: dict[int, list[Block]] = defaultdict(list)
        """Label -> blocks that may go on with it."""
        for function in module.functions.values():
            for block in function.blocks.values():
                for label in block.targets:
                    self._before[label].append(block)
        self._parameters = {p for f in module.functions.values() for p in f.parameters}
        for function in module.functions.values():
            for block in function.blocks.values():
                for i in block.instructions:
                    if i.opcode == spirv.OP_STORE:
                        self._stores[i.operands[0]].append(i)

    def run(self) -> ShaderCost:
        function = self._m.functions.get(self._m.entry)
        if function is not None and function.blocks:
            self._function(function, 1.0, 0)
        return ShaderCost(
            self._total,
            dict(self._lines),
            dict(self._classes),
            self._fetches,
            dict(self._uniform_lines),
            self._powers,
            self._repeated,
            self._loops,
            self._branches,
            self._runs(),
            dict(self._results),
        )

    def _runs(self) -> dict[int, float]:
        found: dict[int, float] = defaultdict(float)
        for identity, times in self._times.items():
            line = self._line_of[identity]
            found[line] = max(found[line], times)
        return dict(found)

    def _function(self, function: Function, times: float, depth: int) -> None:
        if depth > _DEEPEST:
            return
        rounds = dict.fromkeys(function.blocks, times)
        loops: list[tuple[Loop, set[int]]] = []
        for block in function.blocks.values():
            if block.following:
                body = within(function, [block.label], block.merge)
                loop = self._loop(function, block, body)
                count = loop.trips if loop.trips is not None else self._costs.unknown_loop
                for label in body:
                    rounds[label] *= count
                loops.append((loop, body))
        self._loops += [loop for loop, _ in loops]
        for label in self._dead(function, rounds):
            rounds[label] = 0.0
        outer = self._path
        self._dominators.setdefault(function.name, dominators(function))
        for label, block in function.blocks.items():
            before = self._total
            self._path = (*outer, (function.name, label))
            if rounds[label]:
                for instruction in block.instructions:
                    self._instruction(instruction, rounds[label], depth)
            for loop, body in loops:
                if label in body:
                    loop.cost += self._total - before
        self._path = outer

    def _dead(self, function: Function, rounds: dict[int, float]) -> set[int]:
        """Blocks that uniform values keep from running."""
        dead: set[int] = set()
        for block in function.blocks.values():
            last = block.instructions[-1] if block.instructions else None
            if last is None or last.opcode != spirv.OP_BRANCH_CONDITIONAL or not block.merge or block.following:
                continue
            self._used = ""
            value = self._value(last.operands[0], 0)
            if value is None:
                continue
            gone = last.operands[2] if value else last.operands[1]
            if gone == block.merge:
                continue
            blocks = within(function, [gone], block.merge)
            if self._used:
                cost = sum(
                    self._cost(i) * rounds[label]
                    for label in blocks
                    for i in function.blocks[label].instructions
                    if self._has_effect(i)
                )
                lines = [i.line for label in blocks for i in function.blocks[label].instructions]
                self._branches.append(Branch(last.line, max([last.line, *lines]), bool(value), self._used, cost))
            dead |= blocks
        return dead

    def _instruction(self, i: Instruction, times: float, depth: int) -> None:
        if not self._has_effect(i):
            return
        if i.opcode == spirv.OP_FUNCTION_CALL:
            called = self._m.functions.get(i.operands[2])
            if called is not None and called.blocks:
                self._function(called, times, depth + 1)
            return
        cost = self._cost(i)
        if cost:
            self._total += cost * times
            self._lines[i.line] += cost * times
            self._times[id(i)] += times
            self._line_of[id(i)] = i.line
            self._classes[self._class] += cost * times
            if len(i.operands) > 1 and i.operands[1] in self._m.producer:
                self._results[i.operands[1]] += cost * times
            if i.opcode in _FETCHES or i.opcode in _TEXEL_FETCHES:
                self._fetches += times
                self._note_fetch(i)
            elif (
                len(i.operands) > 1
                and i.opcode not in (spirv.OP_BRANCH_CONDITIONAL, spirv.OP_SWITCH)
                and self._uniform_only(i.operands[1], 0)
            ):
                self._uniform_lines[i.line] += cost * times
        if i.opcode == spirv.OP_EXT_INST and i.operands[2] in self._m.extended and i.operands[3] == 26:
            exponent = self._m.constants.get(i.operands[5], self._m.splats.get(i.operands[5]))
            if exponent is not None:
                self._powers.append((i.line, float(exponent)))

    def _has_effect(self, i: Instruction) -> bool:
        return self._live is None or id(i) in self._live

    def _note_fetch(self, i: Instruction) -> None:
        place = tuple(self._shape(operand, 0) for operand in i.operands[2:])
        if None in place:
            return
        earlier = self._places[i.opcode, place]
        # a sample in the other arm of a branch is none that was made before
        if any(self._always_before(path) for path in earlier):
            self._repeated.append(i.line)
        earlier.append(self._path)

    def _always_before(self, path: _Path) -> bool:
        """Whether blocks that lead somewhere have run whenever the present ones do."""
        name, label = self._path[-1]
        same = path[:-1] == self._path[:-1] and path[-1][0] == name
        return same and path[-1][1] in self._dominators[name].get(label, {label})

    def _shape(self, number: int, depth: int) -> object:
        """Equal for expressions that are computed alike from the same inputs; None where that cannot be told."""
        if depth > _DEEPEST:
            return None
        made = self._m.producer.get(number)
        if made is None:
            return None if number in self._parameters else number  # another call may hand over another value
        if made.opcode == spirv.OP_LOAD:
            variable = self._m.variables.get(made.operands[2])
            if variable is not None and variable.operands[2] in (0, 1, 2):
                return ("load", made.operands[2])
            stores = self._stores.get(made.operands[2], [])
            return self._shape(stores[0].operands[1], depth + 1) if len(stores) == 1 else None
        taken = spirv.inputs_of(made)
        literals = made.operands[2:4] if made.opcode == spirv.OP_EXT_INST else made.operands[2 + len(taken) :]
        parts = (*literals, *(self._shape(operand, depth + 1) for operand in taken))
        return None if None in parts else (made.opcode, parts)

    def _uniform_only(self, number: int, depth: int) -> bool:
        """Whether a result is the same for every invocation of a draw, and not a constant."""
        if number not in self._known_uniform:
            self._known_uniform[number] = False  # what depends on itself does not count
            self._known_uniform[number] = self._same_everywhere(number, depth) and self._reads_uniform(number, 0)
        return self._known_uniform[number]

    def _same_everywhere(self, number: int, depth: int) -> bool:
        if depth > _DEEPEST:
            return False
        made = self._m.producer.get(number)
        if made is None:
            return number not in self._parameters
        if made.opcode == spirv.OP_LOAD:
            return self._pointer_same(made.operands[2], depth)
        if (
            made.opcode in _FETCHES
            or made.opcode in _TEXEL_FETCHES
            or made.opcode in (spirv.OP_FUNCTION_CALL, spirv.OP_VARIABLE)
        ):
            return False
        return all(
            self._same_everywhere(operand, depth + 1)
            for operand in spirv.inputs_of(made)
            if operand in self._m.result_type
        )

    def _pointer_same(self, pointer: int, depth: int) -> bool:
        variable = self._m.variables.get(pointer)
        if variable is not None:
            if self._m.is_uniform(variable):
                return True
            stores = self._stores.get(pointer, [])
            return (
                variable.operands[2] == 7
                and len(stores) == 1
                and self._same_everywhere(stores[0].operands[1], depth + 1)
            )
        made = self._m.producer.get(pointer)
        if made is None or made.opcode != spirv.OP_ACCESS_CHAIN:
            return False
        return self._pointer_same(made.operands[2], depth + 1) and all(
            self._same_everywhere(index, depth + 1) for index in made.operands[3:]
        )

    def _reads_uniform(self, number: int, depth: int) -> bool:
        made = self._m.producer.get(number)
        if made is None or depth > _DEEPEST:
            return False
        if made.opcode == spirv.OP_LOAD:
            pointer = made.operands[2]
            chain = self._m.producer.get(pointer)
            base = self._m.variables.get(
                chain.operands[2] if chain is not None and chain.opcode == spirv.OP_ACCESS_CHAIN else pointer
            )
            if base is not None and self._m.is_uniform(base):
                return True
            return any(self._reads_uniform(s.operands[1], depth + 1) for s in self._stores.get(pointer, [])[:2])
        return any(
            self._reads_uniform(operand, depth + 1)
            for operand in spirv.inputs_of(made)
            if operand in self._m.result_type
        )

    def _cost(self, i: Instruction) -> float:
        """Of one instruction, run once; sets what class it is of."""
        c, m = self._costs, self._m
        width = m.width(i.operands[0]) if i.operands else 1
        self._class = "arithmetic"
        if i.opcode in _FETCHES:
            self._class = "fetch"
            dependent = self._depends_on_fetch(i.operands[3], 0)
            self._fetched.add(i.operands[1])
            return (c.dependent_fetch if dependent else c.fetch) * self._filters.get(self._sampler(i.operands[2]), 1.0)
        if i.opcode in _TEXEL_FETCHES:
            self._class = "fetch"
            self._fetched.add(i.operands[1])
            return c.texel_fetch
        if i.opcode in (145, 146, 147):  # matrix times vector or matrix
            a = m.width(m.result_type.get(i.operands[2], 0))
            b = m.width(m.result_type.get(i.operands[3], 0))
            side = max(int(max(a, b) ** 0.5), 1) if i.opcode == 147 else max(min(a, b), 1)
            return c.arithmetic * 2 * (max(a, b) if i.opcode != 147 else width * side)
        if i.opcode == 148:  # dot
            return c.arithmetic * (2 * m.width(m.result_type.get(i.operands[2], 0)) - 1)
        if i.opcode == spirv.OP_EXT_INST and i.operands[2] in m.extended:
            return self._extended(i, width)
        if i.opcode in _PLAIN:
            self._class, each = _PLAIN[i.opcode]
            return float(getattr(c, self._class)) * each * width
        if i.opcode in (spirv.OP_BRANCH_CONDITIONAL, spirv.OP_SWITCH):
            self._class = "branch"
            return c.branch
        if i.opcode == spirv.OP_KILL:
            self._class = "discard"
            return c.discard
        return 0.0

    def _extended(self, i: Instruction, width: int) -> float:
        c, m, number = self._costs, self._m, i.operands[3]
        wide = m.width(m.result_type.get(i.operands[4], 0)) if len(i.operands) > 4 else 1
        match number:
            case 66:  # length
                self._class = "square_root"
                return c.square_root + c.arithmetic * (2 * wide - 1)
            case 67:  # distance
                self._class = "square_root"
                return c.square_root + c.arithmetic * (3 * wide - 1)
            case 68:  # cross
                return c.arithmetic * 9
            case 69:  # normalize
                self._class = "square_root"
                return c.square_root + c.arithmetic * (3 * wide - 1)
            case 70 | 71:  # faceforward, reflect
                return c.arithmetic * (4 * wide)
            case 72:  # refract
                self._class = "square_root"
                return c.square_root + c.arithmetic * (6 * wide + 4)
        self._class, each = _EXTENDED.get(number, ("arithmetic", 1.0))
        return float(getattr(c, self._class)) * each * width

    def _sampler(self, number: int) -> str:
        """The sampler that a sampled image was loaded from; empty where it is no plain one."""
        made = self._m.producer.get(number)
        return self._m.names.get(made.operands[2], "") if made is not None and made.opcode == spirv.OP_LOAD else ""

    def _depends_on_fetch(self, value: int, depth: int) -> bool:
        if depth > _DEEPEST:
            return False
        if value in self._fetched:
            return True
        made = self._m.producer.get(value)
        if made is None:
            return False
        if made.opcode == spirv.OP_LOAD:
            return any(
                self._depends_on_fetch(s.operands[1], depth + 1) for s in self._stores.get(made.operands[2], [])[:4]
            )
        return any(
            self._depends_on_fetch(operand, depth + 1)
            for operand in spirv.inputs_of(made)
            if operand in self._m.result_type
        )

    # ---- loops -----------------------------------------------------------------------------------------

    def _loop(self, function: Function, header: Block, body: set[int]) -> Loop:
        lines = [i.line for label in body for i in function.blocks[label].instructions if i.line]
        line = next((i.line for i in header.instructions if i.line), min(lines, default=0))
        self._used = ""
        trips = self._trips(function, header, body)
        return Loop(line, max(lines, default=line), trips, self._used)

    def _trips(self, function: Function, header: Block, body: set[int]) -> int | None:
        for label in body:
            last = function.blocks[label].instructions[-1]
            if last.opcode == spirv.OP_BRANCH_CONDITIONAL and header.merge in last.operands[1:3]:
                compared = self._m.producer.get(last.operands[0])
                if compared is not None and last.operands[1] != header.merge:
                    return self._counted(function, header, body, compared)
        return None

    def _counted(self, function: Function, header: Block, body: set[int], compared: Instruction) -> int | None:
        if compared.opcode not in _COMPARES or len(compared.operands) < 4:
            return None
        loaded = self._m.producer.get(compared.operands[2])
        limit = self._value(compared.operands[3], 0)
        if loaded is None or loaded.opcode != spirv.OP_LOAD or limit is None:
            return None
        variable = loaded.operands[2]
        inside = [
            i
            for label in body
            for i in function.blocks[label].instructions
            if i.opcode == spirv.OP_STORE and i.operands[0] == variable
        ]
        step = self._step(variable, inside)
        start = None
        for label, block in function.blocks.items():
            if label == header.label:
                break
            if label not in body:
                for i in block.instructions:
                    if i.opcode == spirv.OP_STORE and i.operands[0] == variable:
                        start = self._value(i.operands[1], 0)
        if start is None or not step:
            return None
        return _rounds(_COMPARES[compared.opcode], float(start), float(limit), step)

    def _step(self, variable: int, stores: list[Instruction]) -> float | None:
        if len(stores) != 1:
            return None
        made = self._m.producer.get(stores[0].operands[1])
        if made is None or made.opcode not in (128, 129, 130, 131):
            return None
        a, b = made.operands[2:4]
        source = self._m.producer.get(a)
        if source is None or source.opcode != spirv.OP_LOAD or source.operands[2] != variable:
            return None
        by = self._value(b, 0)
        return None if by is None else float(by) * (-1 if made.opcode in (130, 131) else 1)

    # ---- values ------------------------------------------------------------------------------------------

    def _value(self, number: int, depth: int) -> Number | None:
        """What a result is in this frame; None where it follows from neither constants nor uniforms."""
        if depth > _DEEPEST:
            return None
        if number in self._m.constants:
            return self._m.constants[number]
        made = self._m.producer.get(number)
        if made is None:
            return None
        if made.opcode == spirv.OP_LOAD:
            return self._loaded(made.operands[2], depth)
        if made.opcode == spirv.OP_PHI:
            return self._chosen(made, depth)
        values = [self._value(operand, depth + 1) for operand in spirv.inputs_of(made)]
        # one side can decide by itself, whatever the other is
        if made.opcode == spirv.OP_LOGICAL_AND and any(v is not None and not v for v in values):
            return False
        if made.opcode == spirv.OP_LOGICAL_OR and any(values):
            return True
        if not values or any(v is None for v in values):
            return None
        return _computed(made.opcode, [v for v in values if v is not None])

    def _chosen(self, phi: Instruction, depth: int) -> Number | None:
        """The value of a result that depends on which way was taken, as a && b and a || b are compiled: of ways
        that can be taken.
        """
        found: set[Number | None] = set()
        for value, parent in zip(phi.operands[2::2], phi.operands[3::2], strict=False):
            if self._can_be_reached(parent, depth + 1):
                found.add(self._value(value, depth + 1))
        return found.pop() if len(found) == 1 else None

    def _can_be_reached(self, label: int, depth: int) -> bool:
        """Whether some block before it may go on with it; the first block always can be."""
        before = self._before.get(label, [])
        return not before or any(self._may_go(block, label, depth) for block in before)

    def _may_go(self, block: Block, label: int, depth: int) -> bool:
        last = block.instructions[-1]
        if last.opcode != spirv.OP_BRANCH_CONDITIONAL or last.operands[1] == last.operands[2]:
            return True
        value = self._value(last.operands[0], depth)
        return value is None or last.operands[1 if value else 2] == label

    def _loaded(self, pointer: int, depth: int) -> Number | None:
        name = self._name(pointer)
        if name is not None and name in self._uniforms:
            self._used = name
            return self._uniforms[name]
        stores = self._stores.get(pointer, [])
        # a variable of a function that is set once holds that
        return self._value(stores[0].operands[1], depth + 1) if len(stores) == 1 else None

    def _name(self, pointer: int) -> str | None:
        """The uniform that a pointer leads to, as the program calls it."""
        variable = self._m.variables.get(pointer)
        if variable is not None:
            return self._m.names.get(pointer) if self._m.is_uniform(variable) else None
        made = self._m.producer.get(pointer)
        if made is None or made.opcode != spirv.OP_ACCESS_CHAIN:
            return None
        base = self._m.variables.get(made.operands[2])
        if base is None or not self._m.is_uniform(base):
            return None
        type_ = self._m.types[base.operands[0]].operands[2]
        name = self._m.names.get(made.operands[2], "") or self._m.names.get(type_, "")
        for index in made.operands[3:]:
            at = self._m.constants.get(index)
            found = self._m.types.get(type_)
            if at is None or found is None:
                return None
            if found.opcode == spirv.OP_TYPE_STRUCT:
                name += "." + self._m.members.get((type_, int(at)), str(at))
                type_ = found.operands[1 + int(at)]
            elif found.opcode == spirv.OP_TYPE_ARRAY:
                name += f"[{int(at)}]"
                type_ = found.operands[1]
            else:
                name += f".{'xyzw'[int(at)]}" if int(at) < 4 else ""
        return name


"""Storage classes UniformConstant and Uniform."""
_COMPARES = {
    170: "==",
    171: "!=",
    172: ">",
    173: ">",
    174: ">=",
    175: ">=",
    176: "<",
    177: "<",
    178: "<=",
    179: "<=",
    184: "<",
    185: "<",
    186: ">",
    187: ">",
    188: "<=",
    189: "<=",
    190: ">=",
    191: ">=",
}


def _rounds(compare: str, start: float, limit: float, step: float) -> int | None:
    if compare in ("<", "<=") and step > 0:
        span = limit - start
    elif compare in (">", ">=") and step < 0:
        span = start - limit
    elif compare == "!=":
        span = limit - start
        return min(max(round(span / step), 0), _MOST_TRIPS) if span / step >= 0 else None
    else:
        return None
    each = abs(step)
    count = int(span // each) + 1 if compare in ("<=", ">=") else int(-(-span // each))
    return min(max(count, 0), _MOST_TRIPS)


def _computed(opcode: int, values: list[Number]) -> Number | None:
    a = values[0]
    b = values[1] if len(values) > 1 else 0
    match opcode:
        case 109 | 110:
            return int(a)
        case 111 | 112:
            return float(a)
        case 124:
            return a
        case 126 | 127:
            return -a
        case 128 | 129:
            return a + b
        case 130 | 131:
            return a - b
        case 132 | 133:
            return a * b
        case 134 | 135:
            return int(a) // int(b) if b else None
        case 136:
            return a / b if b else None
        case 166:
            return bool(a or b)
        case 167:
            return bool(a and b)
        case 168:
            return not a
    compare = _COMPARES.get(opcode)
    if compare is None:
        return None
    return {"==": a == b, "!=": a != b, "<": a < b, "<=": a <= b, ">": a > b, ">=": a >= b}[compare]
